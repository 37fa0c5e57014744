package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
)

func sourcesCommand() *cli.Command {
	return &cli.Command{
		Name:        "sources",
		Usage:       "show the sources in force, where each address comes from, and whether each answers",
		Description: example("trammel sources"),
		Flags:       []cli.Flag{offlineFlag(), jsonFlag()},
		Action:      sourcesAction,
	}
}

// sourceOut is one source as `sources --json` prints it.
type sourceOut struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Address string `json:"address"` // without credentials
	Origin  string `json:"origin"`
	State   string `json:"state"` // "ok", "missing", "failed" or "" when not asked
	Reason  string `json:"reason,omitempty"`
}

func sourcesAction(ctx context.Context, c *cli.Command) error {
	p, err := openOrNone(ctx, c)
	if err != nil {
		return err
	}
	if _, err := machine(p).Depot(""); err != nil { // a faulty sources.toml
		return err
	}
	s := screen(c)
	list := append([]declare.Source{}, p.Declaration.Sources...)
	for _, kind := range declare.ImpliedSources {
		list = append(list, source.Implied(kind))
	}
	var out []sourceOut
	failed := false
	for _, d := range list {
		x := sourceOut{Name: d.Name, Kind: d.Kind}
		opened, address, err := source.Open(d, machine(p), client(p, false))
		x.Origin = address.Detail
		if address.URL != "" {
			x.Address = fetch.Redact(address.URL)
		}
		switch {
		case err != nil:
			x.State, x.Reason = "missing", fault.FirstLine(err)
		case !c.Bool("offline"):
			x.State = "ok"
			if err := opened.Probe(ctx); err != nil && !fetch.NotFound(err) {
				x.State, x.Reason = "failed", fault.FirstLine(err)
				failed = true
			}
		}
		out = append(out, x)
	}
	if c.Bool("json") {
		if err := tell(s, sourcesOut{1, out}); err != nil {
			return err
		}
	} else {
		var rows [][]ui.Cell
		for _, x := range out {
			where := x.Address
			if x.Reason != "" {
				where = x.Reason
			}
			rows = append(rows, []ui.Cell{{Text: x.Name, Style: ui.Accent}, {Text: x.Kind}, {Text: x.State, Style: ui.StateStyle(x.State)}, {Text: where}, {Text: x.Origin, Style: ui.Dim}})
		}
		s.Table(rows)
	}
	if failed {
		return said(fault.ErrSource)
	}
	return nil
}
