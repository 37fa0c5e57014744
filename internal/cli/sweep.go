package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/sweep"
	"app.example/trammel/internal/core/base/fault"
)

func sweepCommand() *cli.Command {
	return &cli.Command{
		Name:        "sweep",
		Usage:       "free what no project uses any more",
		Description: example("trammel sweep --print", "trammel sweep --older-than 720h", "trammel sweep --depot --older-than 2160h --lock ../heronweir-archive/trammel.lock"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "print", Usage: "say what would be freed, and free nothing"},
			&cli.DurationFlag{Name: "older-than", Usage: "keep what came within `DURATION`, such as 720h"},
			&cli.BoolFlag{Name: "depot", Usage: "of the team's depot: what this lock does not name, nor those that --lock names"},
			&cli.StringSliceFlag{Name: "lock", Usage: "with --depot: keep what this `FILE` names, too"},
			jsonFlag(),
		},
		Action: sweepAction,
	}
}

func sweepAction(ctx context.Context, c *cli.Command) error {
	if c.Bool("depot") {
		return sweepDepot(ctx, c)
	}
	places, err := placesNow()
	if err != nil {
		return err
	}
	r, err := sweep.Run(ctx, places, sweep.Options{Print: c.Bool("print"), OlderThan: c.Duration("older-than")})
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("json") {
		out := []freedOut{}
		for _, f := range r.Freed {
			out = append(out, freedOut(f))
		}
		if err := tell(s, sweepOut{1, out, r.Bytes(), r.Kept}); err != nil {
			return err
		}
		return unread(r)
	}
	rows := [][]ui.Cell{}
	small := 0
	for _, f := range r.Freed {
		if f.Kind == "frame" || f.Bytes == 0 {
			small++
			continue
		}
		name := f.Name
		if _, short, ok := strings.Cut(name, "-"); ok && f.Kind == "part" {
			name = short
		} else if len(name) > 24 {
			name = name[:24] + "…"
		}
		rows = append(rows, []ui.Cell{{Text: f.Kind}, {Text: name}, {Text: ui.Bytes(f.Bytes), Style: ui.Dim}})
	}
	s.Table(rows)
	verb := "freed"
	if c.Bool("print") {
		verb = "would be freed"
	}
	projects := "projects"
	if len(r.Projects) == 1 {
		projects = "project"
	}
	s.Print("%s %s; %d parts are in use by %d %s", ui.Bytes(r.Bytes()), verb, r.Kept, len(r.Projects), projects)
	for _, dir := range r.Gone {
		s.Say("forgotten, since it is gone: %s", dir)
	}
	return unread(r)
}

// unread is the error of a sweep that freed nothing but leftovers, since it could not read
// what says which parts are needed.
func unread(r *sweep.Result) error {
	if len(r.Unread) == 0 {
		return nil
	}
	var lines []string
	for _, x := range r.Unread {
		lines = append(lines, x.Path+": "+x.Why)
	}
	return fault.New(fault.ErrFailed, "nothing that a project may need was freed, since not all locks can be read").
		Advise("%s\nMend or remove it, then sweep again.", strings.Join(lines, "\n"))
}
