package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/stored/depot"
	"app.example/trammel/internal/core/written/lock"
)

// fitOptions are how parts of a checkout are had: from its depot, where it has one, and else
// from its sources.
func fitOptions(p *checkout.State, offline bool) (fit.Options, error) {
	o := fit.Options{Machine: machine(p), Client: client(p, offline)}
	d, err := depotOf(p)
	if d != nil && !(offline && strings.HasPrefix(d.Address, depot.Scheme)) {
		o.Depot = &fit.Shelf{Depot: d}
	}
	return o, err
}

// depotOf is the depot in force; nil where there is none.
func depotOf(p *checkout.State) (*depot.Depot, error) {
	address, err := machine(p).Depot(p.Declaration.Depot)
	if address == "" || err != nil {
		return nil, err
	}
	if host := policy.HostOf(address); host != "" {
		if err := p.Policies.Host(host); err != nil {
			return nil, err
		}
	}
	return depot.Open(address, p.Dir(), p.Places.Archives())
}

func stockCommand() *cli.Command {
	return &cli.Command{
		Name:        "stock",
		Usage:       "put what the lock needs into the team's depot",
		Description: example("trammel stock", "trammel stock --platform linux/amd64"),
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "platform", Usage: "for the `OS/ARCH`; default: all that are locked"},
			&cli.BoolFlag{Name: "again", Usage: "put it there though it is there, so that its date is today's"},
			approveFlag(), offlineFlag(), jsonFlag(),
		},
		Action: stockAction,
	}
}

func stockAction(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	l, err := p.Locked()
	if err != nil {
		return err
	}
	to, err := depotOf(p)
	if err != nil {
		return err
	}
	if to == nil {
		return fault.New(fault.ErrUsage, "no depot is named").
			Advise("In %s, for everybody:\n  [depot]\n  url = \"oci://registry.example/depot\"\nOr the same in %s, for you alone. A folder does as well.", "trammel.toml", p.Places.Config+"/sources.toml")
	}
	s := screen(c)
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	platforms, err := platformsOf(l, c.StringSlice("platform"))
	if err != nil {
		return err
	}
	options, err := fitOptions(p, c.Bool("offline"))
	if err != nil {
		return err
	}
	all := &fit.Stocked{}
	var left []string
	err = withProgress(ctx, s, func(ctx context.Context) error {
		for _, on := range platforms {
			done, err := fit.Stock(ctx, given.For(p.Shared().On(on)), options, to, c.Bool("again"))
			if errors.Is(err, fit.ErrElsewhere) && len(platforms) > 1 {
				left = append(left, fmt.Sprintf("%s: %s", on, fault.FirstLine(err)))
				continue
			}
			if err != nil {
				return err
			}
			all.Added, all.Kept, all.Lock = append(all.Added, done.Added...), all.Kept+done.Kept, all.Lock || done.Lock
		}
		return nil
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, stockOut{1, to.Address, append([]string{}, all.Added...), all.Kept, all.Lock, append([]string{}, left...)})
	}
	s.Print("%s   %d added, %d were there", s.Paint(ui.Accent, to.Address), len(all.Added), all.Kept)
	for _, text := range all.Added {
		s.Print("  %s", text)
	}
	for _, text := range left {
		s.Say("Not for %s. There: trammel stock --platform %s", text, shell.Typed(strings.Split(text, ":")[0]))
	}
	if all.Lock {
		s.Say("The tree digests of all platforms are in %s now; commit it.", lock.FileName)
	}
	return nil
}

// platformsOf are the platforms that are named, or all that a lock is for.
func platformsOf(l *lock.Lock, named []string) ([]platform.Platform, error) {
	if len(named) == 0 {
		named = l.Declaration.Platforms
	}
	var out []platform.Platform
	for _, text := range named {
		on, ok := platform.Parse(text)
		if !ok || !l.Covers(on) {
			return nil, fault.New(fault.ErrUsage, "this project is not locked for %q", text).Advise("Locked for: %s", strings.Join(l.Declaration.Platforms, ", "))
		}
		out = append(out, on)
	}
	return out, nil
}

// completeLock has the lock learn the trees of all platforms.
//
// Those of a platform whose parts only a machine of it can make stay out, and are named.
func completeLock(ctx context.Context, c *cli.Command, given approval.Given, p *checkout.State) (changed bool, left []string, err error) {
	options, err := fitOptions(p, c.Bool("offline"))
	if err != nil {
		return false, nil, err
	}
	for _, text := range p.Lock.Declaration.Platforms {
		on, ok := platform.Parse(text)
		if !ok {
			continue
		}
		more, err := fit.Complete(ctx, given.For(p.Shared().On(on)), options)
		if errors.Is(err, fit.ErrElsewhere) {
			left = append(left, text)
			continue
		}
		if err != nil {
			return changed, left, err
		}
		changed = changed || more
	}
	return changed, left, nil
}

// sweepDepot removes from the depot what is old and what no lock names.
func sweepDepot(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	d, err := depotOf(p)
	if err != nil {
		return err
	}
	if d == nil {
		return fault.New(fault.ErrUsage, "no depot is named, of which anything could be swept").Advise("Where one is named, and how: trammel stock")
	}
	// Who names the depot may be a stranger, and what is removed there is others'.
	if _, err := approval.Check(p); err != nil {
		return err
	}
	kept := map[string]bool{}
	locks := []*lock.Lock{}
	if p.Lock != nil {
		locks = append(locks, p.Lock)
	}
	for _, file := range c.StringSlice("lock") {
		l, err := lock.ReadFile(file)
		if err != nil {
			return fault.New(fault.ErrUsage, "%s cannot be read: %v", file, err).Advise("Nothing was removed.")
		}
		locks = append(locks, l)
	}
	for _, l := range locks {
		for _, text := range l.Declaration.Platforms {
			if on, ok := platform.Parse(text); ok {
				for _, part := range append(p.Store.Complete(l.PartsOn(on)), p.Store.Complete(l.SetsOn(on))...) {
					if part.Tree != "" {
						kept[depot.Tag(part.Tree)] = true
					}
				}
			}
		}
	}
	s := screen(c)
	list, err := d.List(ctx)
	if err != nil {
		return fault.New(fault.ErrSource, "the depot %s: %v", d.Address, err)
	}
	before := time.Now().Add(-c.Duration("older-than"))
	rows := [][]ui.Cell{}
	out := []freedOut{}
	var bytes int64
	for _, x := range list {
		if kept[x.Tag] || c.Duration("older-than") > 0 && x.At.After(before) {
			continue
		}
		if !c.Bool("print") {
			if err := d.Remove(ctx, x.Tag); err != nil {
				return fault.New(fault.ErrSource, "the depot %s does not let %s be removed: %v", d.Address, x.Title, err)
			}
		}
		bytes += x.Size
		rows = append(rows, []ui.Cell{{Text: x.Title, Style: ui.Accent}, {Text: ui.Bytes(x.Size)}, {Text: "stocked " + x.At.Local().Format("2 Jan 2006"), Style: ui.Dim}})
		out = append(out, freedOut{"depot", x.Title, x.Size})
	}
	if c.Bool("json") {
		return tell(s, sweepOut{1, out, bytes, len(list) - len(out)})
	}
	s.Table(rows)
	word := "freed"
	if c.Bool("print") {
		word = "would be freed"
	}
	s.Print("%s %s in %s; %d stay", ui.Bytes(bytes), word, d.Address, len(list)-len(out))
	return nil
}
