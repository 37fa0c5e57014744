package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"trammel.example/trammel/internal/cli/ui"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/checkout/bay"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

func paramFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "param", Usage: "choose a param, `NAME=VALUE`; it is remembered for the bay"},
		&cli.StringFlag{Name: "params", Usage: "choose the params in `FILE` (YAML or JSON)"},
	}
}

// openChosen reads the declaration with the params that the command line chooses, and its
// lock.
func openChosen(ctx context.Context, c *cli.Command) (*checkout.Project, *lock.Lock, error) {
	p, err := open(ctx, c)
	if err == nil {
		p, err = chooseParams(c, p)
	}
	if err != nil {
		return nil, nil, err
	}
	l, err := p.Lock()
	return p, l, err
}

// chooseParams keeps the params that a command line chooses, a single one before a
// file's, and gives the project with them.
func chooseParams(c *cli.Command, p *checkout.Project) (*checkout.Project, error) {
	chosen := map[string]string{}
	if file := c.String("params"); file != "" {
		var err error
		if chosen, err = bay.ReadParams(file); err != nil {
			return nil, err
		}
	}
	for _, one := range c.StringSlice("param") {
		name, value, ok := strings.Cut(one, "=")
		if !ok {
			return nil, fault.New(fault.Use, "the param %q is not NAME=VALUE", one).Advise("Write, for example: --param lanes=4")
		}
		chosen[name] = value
	}
	if len(chosen) == 0 {
		return p, nil
	}
	if err := p.Bay.SetParams(p.Declaration, chosen); err != nil {
		return nil, err
	}
	return checkout.Open(p.Declaration.Dir, p.Bay.Name)
}

// paramOut is one param as `show params --json` prints it.
type paramOut struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Value   string `json:"value"`
	Origin  string `json:"origin"` // "default" or "bay"
	Allowed string `json:"allowed"`
	About   string `json:"about,omitempty"`
}

func showParams(s *ui.Screen, p *checkout.Project, json bool) error {
	chosen, err := p.Bay.Params(p.Declaration)
	if err != nil {
		return err
	}
	out := []paramOut{}
	for _, x := range p.Declaration.Params {
		one := paramOut{x.Name, x.Kind, p.Declaration.Values[x.Name], "default", x.Allowed(), x.About}
		if _, ok := chosen[x.Name]; ok {
			one.Origin = "bay " + p.Bay.Name
		}
		out = append(out, one)
	}
	if json {
		return s.JSON(struct {
			Format int        `json:"format"`
			Params []paramOut `json:"params"`
		}{1, out})
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
