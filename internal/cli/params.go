package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/written/declare"
)

func paramFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "param", Usage: "choose a param, `NAME=VALUE`; it is remembered for the bay"},
		&cli.StringFlag{Name: "params", Usage: "choose the params in `FILE` (YAML or JSON)"},
	}
}

// openChosen reads the checkout, for a command that acts, with the params that the command
// line chooses.
func openChosen(ctx context.Context, c *cli.Command) (*checkout.State, error) {
	p, err := open(ctx, c)
	if err != nil {
		return nil, err
	}
	return chooseParams(c, p)
}

// chooseParams gives the checkout with the params that a command line chooses, a single one
// before a file's. They are recorded when the command acts.
func chooseParams(c *cli.Command, p *checkout.State) (*checkout.State, error) {
	chosen := map[string]string{}
	if file := c.String("params"); file != "" {
		var err error
		if chosen, err = bay.ParamsIn(file); err != nil {
			return nil, err
		}
	}
	for _, one := range c.StringSlice("param") {
		name, value, ok := strings.Cut(one, "=")
		if !ok {
			return nil, fault.New(fault.ErrUsage, "the param %q is not NAME=VALUE", one).Advise("Write, for example: --param lanes=4")
		}
		chosen[name] = value
	}
	if len(chosen) == 0 {
		return p, nil
	}
	values, err := bay.Choose(p.Written, p.Chosen, chosen)
	if err != nil {
		return nil, err
	}
	return p.WithParams(values)
}

// paramOut is one param as `show params --json` prints it.
type paramOut struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Value   string   `json:"value"`
	Origin  string   `json:"origin"` // "default", or "bay " and its name
	Allowed string   `json:"allowed"`
	Of      []string `json:"of,omitempty"` // the values of a choice
	About   string   `json:"about,omitempty"`
}

func showParams(s *ui.Screen, p *checkout.State, json bool) error {
	out := []paramOut{}
	for _, x := range p.Declaration.Params {
		one := paramOut{x.Name, x.Kind, p.Declaration.Values[x.Name], "default", x.Allowed(), x.Of, x.About}
		if _, ok := p.Chosen[x.Name]; ok {
			one.Origin = "bay " + p.Bay.Name
		}
		out = append(out, one)
	}
	if json {
		return tell(s, paramsOut{1, out})
	}
	if len(out) == 0 {
		s.Say("%s declares no params. One is a table such as [param.lanes] with kind = \"integer\".", p.Declaration.Project)
	}
	var rows [][]ui.Cell
	for _, x := range out {
		rows = append(rows, []ui.Cell{{Text: x.Name, Style: ui.Accent}, {Text: x.Value}, {Text: x.Origin, Style: ui.Dim}, {Text: x.Allowed, Style: ui.Dim}, {Text: x.About}})
	}
	s.Table(rows)
	return nil
}

// paramChoices are NAME=VALUE for each value that can be listed, and NAME= for the
// rest: what completes --param.
func paramChoices(d *declare.Declaration) []string {
	var out []string
	for _, p := range d.Params {
		values := p.Of
		if p.Kind == declare.FlagParam {
			values = []string{"true", "false"}
		}
		if len(values) == 0 {
			values = []string{""}
		}
		for _, v := range values {
			out = append(out, p.Name+"="+v)
		}
	}
	return out
}
