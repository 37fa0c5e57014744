package cli

import (
	"context"
	"os"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/origins/locator"
)

// hostNow is what this process was started with: the one place below which nobody asks.
// Where there is no folder to be in, paths are meant from the top.
func hostNow() host.Host {
	h, err := host.Now()
	if err != nil && h.Program == "" {
		h.Program, _ = os.Executable()
	}
	if h.Dir == "" {
		h.Dir, h.Environ = "/", os.Environ()
	}
	return h
}

func placesNow() (place.Places, error) { return place.Find(hostNow().Getenv) }

func asked(c *cli.Command) checkout.Asked {
	return checkout.Asked{Host: hostNow(), Dir: c.String("dir"), Bay: c.String("bay")}
}

// look reads the checkout that the flags name. Nothing is fetched for it: what it includes
// by locators must be here.
func look(c *cli.Command) (*checkout.State, error) {
	return checkout.Open(asked(c), checkout.Locate{})
}

// open reads the checkout that the flags name, for a command that acts. What it includes by
// locators is fetched where it is not here yet.
func open(ctx context.Context, c *cli.Command) (*checkout.State, error) {
	return openWith(ctx, c, checkout.Locate{})
}

func openWith(ctx context.Context, c *cli.Command, o checkout.Locate) (*checkout.State, error) {
	o.Get = func(l locator.Locator, pin string) (dir, is string, err error) {
		places, err := placesNow()
		if err != nil {
			return "", "", err
		}
		return fetchLocator(ctx, c, places, l, pin)
	}
	return checkout.Open(asked(c), o)
}
