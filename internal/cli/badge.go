package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/proven/export"
	"app.example/trammel/internal/core/proven/report"
)

func badgeCommand() *cli.Command {
	return &cli.Command{
		Name:        "badge",
		Usage:       "an SVG for a read-me: the environment, the lock, and how many machines verified it; prints the line of Markdown that shows it",
		ArgsUsage:   "[REPORT|FOLDER…]",
		Description: example("trammel export badge --output docs/environment.svg", "trammel export badge reports/ --signers allowed_signers --output docs/environment.svg"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: "environment.svg", Usage: "write the picture into `FILE`"},
			&cli.StringFlag{Name: "signers", Usage: "count only reports that keys in `FILE` signed (OpenSSH's allowed_signers)"},
		},
		Action: exportBadge,
	}
}

func exportBadge(_ context.Context, c *cli.Command) error {
	p, l, err := lookLocked(c)
	if err != nil {
		return err
	}
	b := export.Badge{Project: p.Declaration.Project, Environment: l.EnvironmentID(p.Platform), Lock: l.ID()}
	if paths := c.Args().Slice(); len(paths) > 0 {
		var signers *report.Signers
		if file := c.String("signers"); file != "" {
			if signers, err = report.ReadSigners(file); err != nil {
				return err
			}
		}
		list, err := report.Load(paths, signers, time.Now())
		if err != nil {
			return err
		}
		if of := list[0].Report.Predicate.Project; of != b.Project {
			return fault.New(fault.ErrUsage, "the reports are of project %s, and this is %s", of, b.Project)
		}
		result, err := report.Compare(list, l.ID(), signers != nil)
		if err != nil {
			return err
		}
		odd := map[string]bool{}
		for _, d := range result.Differences {
			odd[d.Machine] = true
		}
		for _, m := range result.Machines {
			switch {
			case m.Stale:
				b.Stale++
				continue
			case odd[m.Name]:
				b.Odd++
			default:
				b.Machines++
			}
			if m.Made.After(b.Newest) {
				b.Newest = m.Made
			}
		}
	}
	file := c.String("output")
	if err := disk.Write(file, b.SVG(), 0o644); err != nil {
		return fault.New(fault.ErrFailed, "the picture cannot be written: %v", err)
	}
	shownAs := file
	if below, err := filepath.Rel(p.Dir(), filepath.Join(p.Host.Dir, file)); err == nil && !filepath.IsAbs(file) && filepath.IsLocal(below) {
		shownAs = below
	}
	fmt.Fprintln(screen(c).Out, b.Markdown(filepath.ToSlash(shownAs)))
	if b.Stale > 0 {
		screen(c).Say("%d reports are of another lock and count for nothing.", b.Stale)
	}
	return nil
}
