package cli

import (
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/located"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/origins/locator"
)

// isLocator tells a locator from the name of a service or a command: it is a path, an
// archive or an address.
func isLocator(text string) bool { return locator.Is(text) || strings.Contains(text, "/") }

// locate turns a command to the environment that a locator names: it gets the files,
// asks for consent, and makes this machine fit them. From then on --dir and --bay say
// what the locator said.
func locate(ctx context.Context, c *cli.Command, text string) error {
	if c.Root().IsSet("dir") && !namedByBay(c) {
		return fault.New(fault.ErrUsage, "a locator says itself where to look, so that --dir does not go with it")
	}
	wish := located.Wish{New: c.Bool("new")}
	if c.Root().IsSet("bay") {
		wish.Name = c.Root().String("bay")
		if err := bay.CheckName(wish.Name); err != nil {
			return err
		}
		if wish.Name == bay.Main {
			return fault.New(fault.ErrUsage, "%s is the bay of a checkout of your own", bay.Main).Advise("Give the bay of an address another name, or none: then one is made up.")
		}
	}
	places, err := placesNow()
	if err != nil {
		return err
	}
	known, err := located.Open(places, text, hostNow().Dir, wish, func(l locator.Locator) (dir, pin string, err error) {
		return fetchLocator(ctx, c, places, l, "")
	})
	if err != nil {
		return err
	}
	if err := useCheckout(c, known); err != nil {
		return err
	}
	s := screen(c)
	at := ""
	if known.Pin != "" {
		at = " at " + strings.TrimPrefix(known.Pin, "sha256:")[:12]
	}
	s.Say("%s%s is bay %s. With it elsewhere: trammel --bay %s …", text, at, known.Name, shell.Typed(known.Name))
	p, err := openChosen(ctx, c)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(p.Chosen)) {
		s.Say("It has %s = %s, as chosen for this bay. Another: --param %s=VALUE", name, p.Chosen[name], shell.Typed(name))
	}
	given, err := consent(ctx, c, s, p)
	if err != nil {
		var refused *fault.Error
		if errors.As(err, &refused) && errors.Is(err, fault.ErrNotApproved) {
			refused.Do = strings.ReplaceAll(refused.Do, "trammel approve", "trammel --bay "+shell.Typed(known.Name)+" approve")
		}
		return err
	}
	_, err = fitAll(ctx, c, given, setup.FitOrder{})
	return err
}

// namedByBay tells whether --dir was not given, and only found by the name of a bay.
func namedByBay(c *cli.Command) bool {
	return c.Root().IsSet("bay") && !slices.ContainsFunc(os.Args, func(w string) bool { return w == "-C" || w == "--dir" || strings.HasPrefix(w, "--dir=") })
}

func useCheckout(c *cli.Command, known located.Checkout) error {
	if err := c.Root().Set("dir", known.Dir); err != nil {
		return err
	}
	return c.Root().Set("bay", known.Name)
}

// fetchLocator gets the files of a locator, showing how it goes.
func fetchLocator(ctx context.Context, c *cli.Command, places place.Places, l locator.Locator, pin string) (dir, is string, err error) {
	policies, err := policy.Read(nil, policy.Files(nil, places.System, ""))
	if host := policy.HostOf(l.At); err == nil && host != "" {
		err = policies.Host(host)
	}
	if err != nil {
		return "", "", err
	}
	keeper := locator.Keeper{Dir: places.Locators(), Client: clientIn(places, c.Bool("offline"))}
	err = withProgress(ctx, screen(c), func(ctx context.Context) error {
		dir, is, err = keeper.Get(ctx, l, pin)
		return err
	})
	return dir, is, err
}

// namedBay lets --bay NAME alone find what was opened by a locator under that name.
func namedBay(ctx context.Context, c *cli.Command) (context.Context, error) {
	if !c.IsSet("bay") || c.IsSet("dir") {
		return ctx, nil
	}
	places, err := placesNow()
	if err != nil {
		return ctx, nil // whatever comes next says so
	}
	if known, ok := located.As(places, c.String("bay")); ok {
		return ctx, c.Set("dir", known.Dir)
	}
	return ctx, nil
}
