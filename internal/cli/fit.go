package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func fitCommand() *cli.Command {
	return &cli.Command{
		Name:        "fit",
		Usage:       "make this machine match the lock: fetch, unpack, run the steps that are due",
		ArgsUsage:   "[TOOL|STEP…]",
		Description: example("trammel fit", "trammel fit node        # check node to the byte and mend it"),
		Flags: append(paramFlags(),
			offlineFlag(),
			&cli.StringFlag{Name: "bundle", Usage: "take all archives from `FILE` (trammel export bundle), without the network"},
			&cli.StringSliceFlag{Name: "again", Usage: "run the `STEP` though it is not due"},
			approveFlag(),
			&cli.BoolFlag{Name: "exact", Usage: "also remove what add-ons have and nobody wants"},
			&cli.BoolFlag{Name: "print", Usage: "say what would be done, and do nothing"},
		),
		ShellComplete: complete(func(d *declare.Declaration) []string {
			return append(declare.Names(d.Toolchains), declare.Names(d.Steps)...)
		}),
		Action: fitAction,
	}
}

func fitAction(ctx context.Context, c *cli.Command) error {
	p, err := openChosen(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	again := c.StringSlice("again")
	for _, name := range again {
		if _, ok := p.Declaration.Step(name); !ok {
			return fault.New(fault.ErrUsage, "no step is named %q", name).Advise("%s", fault.DidYouMean(name, declare.Names(p.Declaration.Steps)))
		}
	}
	// A name is a toolchain or a set of libraries, to be checked and mended, or a step, to be run if due.
	if err := p.Usable(); err != nil {
		return err
	}
	known := append(lock.Sorted(p.Lock.Items), lock.Sorted(p.Lock.Libraries)...)
	if p.OverlayLock != nil {
		known = append(known, lock.Sorted(p.OverlayLock.Items)...)
	}
	var tools, steps []string
	for _, name := range c.Args().Slice() {
		isTool := slices.Contains(known, name)
		_, isStep := p.Declaration.Step(name)
		if isTool {
			tools = append(tools, name)
		}
		if isStep {
			steps = append(steps, name)
		}
		if !isTool && !isStep {
			return fault.New(fault.ErrUsage, "nothing is named %q", name).
				Advise("%s", fault.DidYouMean(name, append(known, declare.Names(p.Declaration.Steps)...)))
		}
	}
	if c.Bool("print") {
		return fitPrint(s, p)
	}
	if p, err = settled(ctx, c, s, p); err != nil {
		return err
	}
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	done, err := fitAll(ctx, c, given, setup.FitOrder{Tools: tools, Steps: steps, Again: again, Exact: c.Bool("exact")})
	if err != nil {
		return err
	}
	fitReport(s, p, done)
	if done.Learnt {
		s.Say("What steps and add-ons left behind is in %s now; commit it.", lock.FileName)
	}
	return nil
}

// fitAll makes this machine match a lock, and shows the work.
func fitAll(ctx context.Context, c *cli.Command, g approval.Given, o setup.FitOrder) (done setup.Fitted, err error) {
	o.Bundle = c.String("bundle")
	if o.Options, err = fitOptions(g.State(), c.Bool("offline") || o.Bundle != ""); err != nil {
		return done, err
	}
	err = withProgress(ctx, screen(c), func(ctx context.Context) error {
		done, err = setup.Fit(ctx, g, o)
		return err
	})
	return done, err
}

// applied is what a command that needs the environment asks for: everything that it is made
// of, here. What is missing is brought first, since the person consented to all of it.
func applied(ctx context.Context, c *cli.Command, g approval.Given) (approval.Given, *environ.Plan, error) {
	now, plan, err := fit.Apply(ctx, g)
	if !errors.Is(err, checkout.ErrNotFitted) || c.Bool("no-fit") {
		return now, plan, err
	}
	err = withProgress(ctx, screen(c), func(ctx context.Context) error {
		options, err := fitOptions(g.State(), false)
		if err != nil {
			return err
		}
		var done *fit.Result
		g, plan, done, err = fit.Tools(ctx, g, options)
		if err == nil && done.Lock {
			event.Say(ctx, fmt.Sprintf("The tree digests of %s are in %s now; commit it.", g.State().Platform, lock.FileName))
		}
		return err
	})
	return g, plan, err
}

// prepared is a checkout that is ready to run its steps and services.
func prepared(ctx context.Context, c *cli.Command, g approval.Given) (*setup.Setup, error) {
	g, plan, err := applied(ctx, c, g)
	if err != nil {
		return nil, err
	}
	return setup.Of(g, plan)
}

// fitReport says what was done and what was left alone, and what to do next.
func fitReport(s *ui.Screen, p *checkout.State, done setup.Fitted) {
	r := done.Result
	s.Print("%s   environment %s", s.Paint(ui.Accent, p.Declaration.Project), canon.Short(p.Lock.EnvironmentID(p.Platform)))
	idle := len(r.Added)+len(r.Mended)+len(done.Ran)+len(done.Rendered)+len(done.Removed) == 0
	row := func(word string, list []string) {
		const most = 12
		if len(list) > most {
			list = append(slices.Clone(list[:most]), fmt.Sprintf("and %d more", len(list)-most))
		}
		if len(list) > 0 {
			s.Print("  %-7s  %s", word, strings.Join(list, ", "))
		}
	}
	row("added", r.Added)
	row("mended", r.Mended)
	row("removed", done.Removed)
	row("made", done.Rendered)
	row("ran", done.Ran)
	if idle {
		s.Print("  nothing to do")
	} else if r.Kept > 0 {
		what := fmt.Sprintf("%d archives that were there", r.Kept)
		if r.Kept == 1 {
			what = "1 archive that was there"
		}
		s.Print("  %-7s  %s", "kept", what)
	}
	if len(r.Missing) > 0 {
		s.Say("This host does not have: %s (named in host)", strings.Join(r.Missing, ", "))
	}
	if r.Lacks {
		s.Say("%s lacks the tree digests of %s, and on a build machine nothing is written into it. Whoever keeps the lock: trammel lock --complete, and commit it.", lock.FileName, p.Platform)
	}
	if r.Lock {
		s.Say("The tree digests of %s are in %s now; commit it.", p.Platform, lock.FileName)
	}
	if idle {
		return
	}
	next := []string{"trammel shell"}
	if slices.ContainsFunc(p.Declaration.Services, func(x declare.Service) bool { return x.Auto }) {
		next = append([]string{"trammel start"}, next...)
	}
	if len(p.Declaration.Routines) > 0 {
		next = append(next, "trammel do")
	}
	s.Say("Next: %s", strings.Join(next, " · "))
}

// fitPrint lists what a fit would do.
func fitPrint(s *ui.Screen, p *checkout.State) error {
	rows := [][]ui.Cell{}
	for _, part := range lock.Distinct(p.AllParts()) {
		label := part.Label() + " " + part.Part.Version
		if !p.Store.Has(part) {
			rows = append(rows, []ui.Cell{{Text: "fetch"}, {Text: label}, {Text: p.Lock.Items[part.Item].Source, Style: ui.Dim}})
		} else if p.Store.Damaged(part) || !p.Store.Commands(part) {
			rows = append(rows, []ui.Cell{{Text: "mend"}, {Text: label}, {Text: "found damaged", Style: ui.Dim}})
		}
	}
	up, err := setup.Look(p)
	if err != nil { // without its tools a step cannot tell whether it is due
		for _, x := range p.Declaration.Steps {
			rows = append(rows, []ui.Cell{{Text: "step"}, {Text: x.Name}, {Text: "if it is due then", Style: ui.Dim}})
		}
	} else {
		statuses, err := up.Steps()
		if err != nil {
			return err
		}
		for _, st := range statuses {
			if st.Due {
				rows = append(rows, []ui.Cell{{Text: "step"}, {Text: st.Step.Name}, {Text: st.Why, Style: ui.Dim}})
			}
		}
	}
	if len(rows) == 0 {
		fmt.Fprintln(s.Out, "nothing to do")
		return nil
	}
	s.Table(rows)
	return nil
}
