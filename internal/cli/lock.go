package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/locking"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func lockCommand() *cli.Command {
	return &cli.Command{
		Name:        "lock",
		Usage:       "resolve the declaration into trammel.lock and say what changed",
		ArgsUsage:   "[TOOL… | SET/PACKAGE…]",
		Description: example("trammel lock", "trammel lock --renew go", "trammel lock --renew survey/numpy"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "renew", Usage: "move the named toolchains and libraries (all when none is named) to the newest that the declaration allows"},
			&cli.BoolFlag{Name: "complete", Usage: "also fetch what all platforms need, so that the lock states every tree and nobody's first fit changes it"},
			approveFlag(),
			&cli.BoolFlag{Name: "check", Usage: "write nothing; exit 3 when the lock is not what the declaration asks for"},
			&cli.StringFlag{Name: "as-of", Usage: "resolve everything anew as if it were `DATE`: what was published later does not count"},
			&cli.BoolFlag{Name: "older-release", Usage: "take the release of an archive, or the state of a catalog, although it is older than the one that the lock was made from"},
			offlineFlag(), jsonFlag(),
		},
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Toolchains) }),
		Action:        lockAction,
	}
}

// openToLock reads the checkout; only what writes may fetch and pin.
func openToLock(ctx context.Context, c *cli.Command, renewAll bool) (*checkout.State, error) {
	if c.Bool("check") {
		return look(c)
	}
	return openWith(ctx, c, checkout.Locate{Pin: true, New: renewAll})
}

// lockResult is what `lock --json` prints.
type lockResult struct {
	Format  int      `json:"format"`
	Lock    lock.ID  `json:"lock"`
	Changed bool     `json:"changed"`
	Changes []string `json:"changes"` // one a line: "go 1.24.5 → 1.24.6"
}

func lockAction(ctx context.Context, c *cli.Command) error {
	renewAll := c.Bool("renew") && c.Args().Len() == 0
	p, err := openToLock(ctx, c, renewAll)
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("check") {
		return lockCheck(s, p)
	}
	tools := c.Args().Slice()
	known := slices.Concat(declare.Names(p.Declaration.Toolchains), declare.Names(p.Declaration.Libraries))
	for _, t := range tools {
		if set, library, ok := declare.LibraryName(t); ok {
			if err := inSet(p, set, library); err != nil {
				return err
			}
			continue
		}
		if !slices.Contains(known, t) {
			return fault.New(fault.ErrUsage, "no toolchain is named %q", t).Advise("%s", fault.DidYouMean(t, known))
		}
	}
	if len(tools) > 0 && !c.Bool("renew") {
		return fault.New(fault.ErrUsage, "toolchains are named only to renew them").Advise("Write: trammel lock --renew %s", shell.Typed(tools[0]))
	}
	order := lockOrder(c, p)
	if text := c.String("as-of"); text != "" {
		if order.AsOf, err = declare.ParseDate(text); err != nil {
			return fault.New(fault.ErrUsage, "%q is not a date", text).Advise("Write a day such as 2026-03-01, or a moment such as 2026-03-01T12:00:00Z.")
		}
	}
	order.Renew = func(tool string) bool {
		return !order.AsOf.IsZero() || c.Bool("renew") && (len(tools) == 0 || slices.Contains(tools, tool))
	}
	for _, t := range tools {
		if _, _, ok := declare.LibraryName(t); ok {
			order.Libraries = append(order.Libraries, t)
		}
	}
	if err := lockInto(ctx, c, s, p, order); err != nil || !c.Bool("complete") {
		return err
	}
	if p, err = openToLock(ctx, c, false); err != nil {
		return err
	}
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	changed := false
	var left []string
	err = withProgress(ctx, s, func(ctx context.Context) error {
		changed, left, err = completeLock(ctx, c, given, p)
		return err
	})
	for _, on := range left {
		s.Say("Of %s some is made on a machine of that platform alone: its first fit, or trammel stock there, adds what is left.", on)
	}
	if changed {
		whole := slices.DeleteFunc(slices.Clone(p.Lock.Declaration.Platforms), func(on string) bool { return slices.Contains(left, on) })
		s.Say("The tree digests of %s are in %s now; commit it.", strings.Join(whole, ", "), lock.FileName)
	}
	return err
}

// inSet makes sure that a package is in a locked set, so that it can be renewed.
func inSet(p *checkout.State, set, library string) error {
	if _, ok := p.Declaration.Library(set); !ok {
		return fault.New(fault.ErrUsage, "no libraries are named %q", set).Advise("%s", fault.DidYouMean(set, declare.Names(p.Declaration.Libraries)))
	}
	if p.Lock == nil {
		return nil // everything is new
	}
	var names []string
	for _, on := range p.Lock.Libraries[set].On {
		for _, x := range on.List() {
			if x.Name == library {
				return nil
			}
			names = append(names, x.Name)
		}
	}
	return fault.New(fault.ErrUsage, "libraries %s have no package %q", set, library).Advise("%s", fault.DidYouMean(library, names))
}

// lockOrder is how this command line says to lock.
func lockOrder(c *cli.Command, p *checkout.State) locking.Order {
	return locking.Order{Machine: machine(p), Client: client(p, c.Bool("offline")), Older: c.Bool("older-release")}
}

// lockInto makes the lock of what p declares, and says what changed.
func lockInto(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State, order locking.Order) error {
	var made *locking.Made
	err := withProgress(ctx, s, func(ctx context.Context) (err error) {
		made, err = locking.Lock(ctx, p, order)
		return err
	})
	switch {
	case err != nil:
		return err
	case order.NoLock:
		s.Print("%s is changed; the lock is not. Lock: trammel lock", declare.FileName)
		return nil
	case c.Bool("json"):
		return tell(s, lockResult{1, made.Lock.ID(), len(made.Changes) > 0, made.Changes})
	}
	s.Print("%s   lock %s", s.Paint(ui.Accent, p.Declaration.Project), canon.Short(made.Lock.ID()))
	for _, x := range made.Changes {
		if strings.Contains(x, "HAS OTHER BYTES") {
			x = s.Paint(ui.Red, x)
		}
		s.Print("  %s", x)
	}
	list := approval.Effects(p)
	sayRemarks(s, list)
	if err := list.Refused(); err != nil {
		s.Say("%s", err)
	}
	if len(made.Changes) == 0 {
		s.Print("  nothing changed")
		return nil
	}
	s.Say("Next: trammel fit")
	return nil
}

func lockCheck(s *ui.Screen, p *checkout.State) error {
	l := p.Lock
	if l == nil {
		return errors.Join(fault.New(fault.ErrDrift, "%s", p.LockErr.Error()))
	}
	if l.Declaration.Digest != p.Written.Digest() {
		return fault.New(fault.ErrDrift, "%s is not what %s asks for", lock.FileName, declare.FileName).Advise("Bring it up to date and commit it: trammel lock")
	}
	s.Print("%s   lock %s   ok", s.Paint(ui.Accent, p.Declaration.Project), canon.Short(l.ID()))
	return nil
}
