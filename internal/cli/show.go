package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/survey"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
)

func showCommand() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "show what is in force here, and where each thing comes from",
		ArgsUsage:   "[NAME]",
		Description: example("trammel show", "trammel show node", "trammel show lane"),
		Flags:       []cli.Flag{jsonFlag()},
		ShellComplete: complete(func(d *declare.Declaration) []string {
			all := append(declare.Names(d.Toolchains), declare.Names(d.Steps)...)
			return append(append(all, declare.Names(d.Services)...), declare.Names(d.Routines)...)
		}),
		Action: showAction,
	}
}

// showOut is what `show --json` prints.
type showOut struct{ survey.Survey }

func showAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	if name := c.Args().First(); name == "params" {
		return showParams(s, p, c.Bool("json"))
	} else if name != "" {
		return showOne(ctx, &sheet{Screen: s, json: c.Bool("json")}, p, name)
	}
	out, err := survey.Of(ctx, p)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, showOut{*out})
	}
	ids := ""
	if out.Lock != "" {
		ids = fmt.Sprintf("   environment %s · lock %s", canon.Short(out.Environment), canon.Short(out.Lock))
	}
	in := ""
	if out.Cluster != "" {
		in = " in " + out.Cluster
	}
	s.Print("%s   bay %s%s   %s%s", s.Paint(ui.Accent, out.Project), out.Bay, in, out.Isolation, ids)
	if p.Declaration.About != "" {
		s.Print("%s", s.Paint(ui.Dim, p.Declaration.About))
	}
	if len(out.Policies) > 0 {
		s.Print("%s", s.Paint(ui.Dim, "policy of "+strings.Join(out.Policies, " and ")))
	}
	for _, line := range decided(out.Files) {
		s.Print("%s", s.Paint(ui.Dim, line))
	}
	s.Print("")
	s.Table(indent(showRows(p, out)))
	showRemarks(s, out)
	return nil
}

// showRows is a row for each thing, those of a kind one below the other.
func showRows(p *checkout.State, out *survey.Survey) [][]ui.Cell {
	var rows [][]ui.Cell
	group := func(word string) string { // only the first row of a group has its name
		for _, r := range rows {
			if r[0].Text == word {
				return ""
			}
		}
		return word
	}
	for _, t := range out.Tools {
		version, style := t.Version, ui.Plain
		if version == "" {
			version = "not locked"
			style = ui.Amber
		} else if t.State != "ok" {
			version += "  " + t.State
			style = ui.Red
		}
		size := ""
		if t.Bytes > 0 {
			size = "  " + ui.Bytes(t.Bytes)
		}
		rows = append(rows, []ui.Cell{{Text: group("toolchain")}, {Text: t.Name, Style: ui.Accent}, {Text: version, Style: style}, {Text: strings.TrimSpace(t.Origin + "  " + t.Source + size), Style: ui.Dim}})
	}
	for _, r := range out.Roots {
		state := r.State
		if state == "ok" {
			state = r.Version
		}
		rows = append(rows, []ui.Cell{{Text: group("roots")}, {Text: r.Name, Style: ui.Accent}, {Text: state, Style: ui.StateStyle(r.State)}, {Text: fmt.Sprintf("%d packages  %s", r.Packages, ui.Bytes(r.Bytes)), Style: ui.Dim}})
	}
	for _, x := range out.Libraries {
		text, style := fmt.Sprintf("%d packages", x.Packages), ui.Plain
		if x.State != "ok" {
			text, style = text+"  "+x.State, ui.Red
		}
		if x.Packages == 0 {
			text, style = "not locked", ui.Amber
		}
		size := ""
		if x.Bytes > 0 {
			size = "  " + ui.Bytes(x.Bytes)
		}
		rows = append(rows, []ui.Cell{{Text: group("libraries")}, {Text: x.Name, Style: ui.Accent}, {Text: text, Style: style}, {Text: strings.TrimSpace("for " + x.For + "  " + x.Source + size), Style: ui.Dim}})
	}
	for _, x := range p.Declaration.Params {
		rows = append(rows, []ui.Cell{{Text: group("params")}, {Text: x.Name, Style: ui.Accent}, {Text: p.Declaration.Values[x.Name]}, {Text: x.About, Style: ui.Dim}})
	}
	for _, f := range out.Rendered {
		rows = append(rows, []ui.Cell{{Text: group("files")}, {Text: f.Name, Style: ui.Accent}, {Text: f.State, Style: ui.StateStyle(f.State)}, {Text: f.Why, Style: ui.Dim}})
	}
	for _, st := range out.Steps {
		text := st.Why
		if st.State == "ok" && st.Last != nil {
			text = since(*st.Last) + " ago"
		}
		rows = append(rows, []ui.Cell{{Text: group("steps")}, {Text: st.Name, Style: ui.Accent}, {Text: st.State, Style: ui.StateStyle(st.State)}, {Text: text, Style: ui.Dim}})
	}
	rest := service.Stopped
	if out.Unanswered {
		rest = "unknown"
	}
	for _, r := range serviceRows(p, out.Services, rest) {
		rows = append(rows, append([]ui.Cell{{Text: group("services")}}, r...))
	}
	for _, r := range p.Declaration.Routines {
		rows = append(rows, []ui.Cell{{Text: group("routines")}, {Text: r.Name, Style: ui.Accent}, {Text: r.About}})
	}
	return rows
}

// showRemarks says what wants attention.
func showRemarks(s *ui.Screen, out *survey.Survey) {
	if out.Weak {
		s.Say("Services run without namespaces here: what a supervisor that is killed leaves may outlive it.")
	}
	if len(out.Crashed) > 0 {
		s.Print("\nThe supervisor ended without stopping them (a crash, a kill, a restart of the machine): %s. Again: trammel start", strings.Join(out.Crashed, ", "))
	}
	if len(out.Earlier) > 0 {
		s.Print("\nThey run an earlier environment: %s. Take the locked one on: trammel start", strings.Join(out.Earlier, ", "))
	}
	if len(out.Changed) > 0 {
		s.Print("\nWhat they go by changed since they started: %s. Take it on: trammel start", strings.Join(out.Changed, ", "))
	}
	if open := openRemarks(out.Services); len(open) > 0 {
		s.Print("\n%s", strings.Join(open, "\n"))
	}
	if out.Remark != "" {
		s.Print("\n%s", out.Remark)
	}
	if out.Approval != "" {
		s.Print("\n%s", out.Approval)
	}
}

// decided says which file decides, and which ones it comes before.
func decided(files []checkout.Decider) []string {
	by := map[string][]string{}
	for _, f := range files {
		by[f.Use] = append(by[f.Use], f.File)
	}
	out := []string{"declared by " + by[checkout.Decides][0]}
	if with := by[checkout.Adds]; len(with) > 0 {
		out[0] += ", with " + strings.Join(with, ", ")
	}
	if less := by[checkout.Yields]; len(less) > 0 {
		out = append(out, "not in force (a nearer one is): "+strings.Join(less, ", "))
	}
	return out
}

// since writes for how long something has been so.
func since(t time.Time) string { return ui.Since(t, time.Now()) }

// indent gives the first column its width even where a group has no name.
func indent(rows [][]ui.Cell) [][]ui.Cell {
	for _, r := range rows {
		r[0].Text = fmt.Sprintf("%-10s", r[0].Text)
	}
	return rows
}
