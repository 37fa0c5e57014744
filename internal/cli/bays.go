package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/located"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func baysCommand() *cli.Command {
	return &cli.Command{
		Name:        "bays",
		Usage:       "list the bays of this project, and what runs in them",
		Description: example("trammel bays", "trammel bays --all"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "those of every project on this machine, also of checkouts that are gone"},
			&cli.BoolFlag{Name: "adopt", Usage: "of a checkout that was moved: give it the bays of its former place"},
			&cli.BoolFlag{Name: "leave", Usage: "of a checkout that was moved: leave those where they are, and begin anew"},
			jsonFlag(),
		},
		Action: baysAction,
	}
}

// bayOut is one bay as `bays --json` prints it.
type bayOut struct {
	Name    string            `json:"name"`
	Project string            `json:"project"`
	Dir     string            `json:"dir"`               // of the declaration
	Locator string            `json:"locator,omitempty"` // that it was started from
	Params  map[string]string `json:"params,omitempty"`  // that were chosen
	Running []string          `json:"running"`           // copies of services
	Bytes   int64             `json:"bytes"`             // that it takes on the disk
	Gone    bool              `json:"gone,omitempty"`    // its checkout is not there any more
}

func baysAction(ctx context.Context, c *cli.Command) error {
	if c.Bool("adopt") || c.Bool("leave") {
		return movedAction(ctx, c)
	}
	places, err := placesNow()
	if err != nil {
		return err
	}
	var projects []*checkout.State
	if c.Bool("all") {
		for _, dir := range checkout.Known(places) {
			if p, err := checkout.Open(checkout.Asked{Host: hostNow(), Dir: dir, Bay: bay.Main}, checkout.Locate{}); err == nil {
				projects = append(projects, p) // one whose declaration is faulty now is listed by itself
			}
		}
	} else {
		p, err := look(c)
		if err != nil {
			return err
		}
		projects = append(projects, p)
	}
	list := []bayOut{}
	for _, p := range projects {
		own, err := p.Bays()
		if err != nil {
			return err
		}
		for _, b := range own {
			out, err := describeBay(ctx, p, b)
			if err != nil {
				return err
			}
			list = append(list, out)
		}
	}
	if c.Bool("all") {
		for _, g := range goneBays(places) {
			out := bayOut{Name: g.Name, Project: g.Project, Dir: g.Checkout, Gone: true, Running: []string{}, Bytes: setup.SizeOf(g.Dir) + setup.SizeOf(g.Records)}
			running, err := service.Connect(g, hostNow()).Running(ctx)
			if err != nil {
				return err
			}
			out.Running = append(out.Running, running...)
			list = append(list, out)
		}
	}
	s := screen(c)
	if c.Bool("json") {
		return tell(s, baysOut{1, list})
	}
	rows := [][]ui.Cell{}
	for _, b := range list {
		state, style := "stopped", ui.Dim
		if len(b.Running) > 0 {
			state, style = strings.Join(b.Running, " "), ui.Plain
		}
		var more []string
		for _, name := range lock.Sorted(b.Params) {
			more = append(more, name+"="+b.Params[name])
		}
		if b.Locator != "" {
			more = append(more, "from "+b.Locator)
		} else if b.Gone {
			more = append(more, "the checkout is gone: "+cmp.Or(b.Dir, "its folder is not known"))
		} else if c.Bool("all") {
			more = append(more, b.Dir)
		}
		row := []ui.Cell{{Text: b.Name, Style: ui.Accent}, {Text: ui.Bytes(b.Bytes), Style: ui.Dim}, {Text: state, Style: style}, {Text: strings.Join(more, " "), Style: ui.Dim}}
		if c.Bool("all") {
			row = append([]ui.Cell{{Text: b.Project}}, row...)
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		s.Say("There are no bays yet; the first start or fit makes %s.", bay.Main)
	}
	s.Table(rows)
	return nil
}

func describeBay(ctx context.Context, p *checkout.State, b bay.Bay) (bayOut, error) {
	out := bayOut{Name: b.Name, Project: p.Declaration.Project, Dir: p.Dir(), Running: []string{}, Bytes: setup.SizeOf(b.Dir) + setup.SizeOf(b.Records)}
	if chosen, err := b.ReadParams(); err == nil {
		out.Params = bay.Allowed(p.Written, chosen)
	}
	if known, ok := located.As(p.Places, b.Name); ok && known.Dir == p.Dir() {
		out.Locator = known.Locator
	}
	running, err := service.Connect(b, p.Host).Running(ctx)
	out.Running = append(out.Running, running...)
	return out, err
}

func clearCommand() *cli.Command {
	return &cli.Command{
		Name:        "clear",
		Usage:       "stop a bay and remove all that it holds: data, logs, ports, params",
		ArgsUsage:   "BAY",
		Description: example("trammel clear trial", "trammel clear --all"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "every bay of this project"},
			&cli.BoolFlag{Name: "yes", Usage: "remove data of services without asking"},
			jsonFlag(),
		},
		ShellComplete: complete(func(d *declare.Declaration) []string {
			p, err := checkout.Open(checkout.Asked{Host: hostNow(), Dir: d.Dir, Bay: bay.Main}, checkout.Locate{})
			if err != nil {
				return nil
			}
			list, _ := p.Bays()
			return bayNames(list)
		}),
		Action: clearAction,
	}
}

func bayNames(list []bay.Bay) []string {
	var out []string
	for _, b := range list {
		out = append(out, b.Name)
	}
	return out
}

func clearAction(ctx context.Context, c *cli.Command) error {
	wanted := c.Args().Slice()
	if (len(wanted) == 0) != c.Bool("all") {
		return fault.New(fault.ErrUsage, "say which bay to clear").Advise("List them with trammel bays; then: trammel clear NAME, or --all")
	}
	if err := findLocated(c, wanted); err != nil {
		return err
	}
	p, err := look(c)
	if err != nil {
		return err
	}
	bays, err := p.Bays()
	if err != nil {
		return err
	}
	names := bayNames(bays)
	if known, ok := located.As(p.Places, c.Args().First()); ok && !slices.Contains(names, known.Name) {
		names = append(names, known.Name) // nothing ran in it yet
	}
	if c.Bool("all") {
		wanted = names
	}
	s := screen(c)
	for _, name := range wanted {
		if !slices.Contains(names, name) {
			return fault.New(fault.ErrUsage, "%s has no bay %q", p.Declaration.Project, name).Advise("%s", fault.DidYouMean(name, names))
		}
	}
	if err := consentToClear(ctx, c, s, p, bays, wanted); err != nil {
		return err
	}
	cleared := []clearedOut{}
	for _, name := range wanted {
		gone, err := clearBay(ctx, s, p.Dir(), name)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			cleared = append(cleared, clearedOut{name, gone})
			continue
		}
		s.Print("cleared bay %s of %s", s.Paint(ui.Accent, name), p.Declaration.Project)
		rows := [][]ui.Cell{}
		for _, x := range gone {
			size := ""
			if x.Bytes > 0 {
				size = ui.Bytes(x.Bytes)
			}
			rows = append(rows, []ui.Cell{{Text: "  " + x.What}, {Text: size, Style: ui.Dim}, {Text: shown(x.Path), Style: ui.Dim}})
		}
		s.Table(rows)
	}
	if c.Bool("json") {
		return tell(s, clearOut{1, p.Declaration.Project, cleared})
	}
	if len(wanted) == 0 {
		s.Say("%s", fmt.Sprintf("%s has no bays.", p.Declaration.Project))
	}
	return nil
}

// findLocated goes to the checkout of a bay that a locator made, which is found from anywhere.
func findLocated(c *cli.Command, wanted []string) error {
	if len(wanted) != 1 || c.Root().IsSet("dir") {
		return nil
	}
	if places, err := placesNow(); err == nil {
		if known, ok := located.As(places, wanted[0]); ok {
			return c.Root().Set("dir", known.Dir)
		}
	}
	return nil
}

// clearBay removes a bay, first what of it is in a cluster.
func clearBay(ctx context.Context, s *ui.Screen, dir, name string) ([]setup.Cleared, error) {
	own, err := checkout.Open(checkout.Asked{Host: hostNow(), Dir: dir, Bay: name}, checkout.Locate{})
	if err != nil {
		return nil, err
	}
	afar, err := reachAfar(own)
	if err == nil && afar != nil {
		err = withProgress(ctx, s, func(ctx context.Context) error { return afar.Clear(ctx, &setup.Sight{State: own}) })
	}
	if err != nil {
		return nil, err
	}
	gone, err := setup.Clear(ctx, own)
	if err == nil && afar != nil {
		gone = append(gone, setup.Cleared{What: "all of it in the cluster", Path: afar.Where()})
	}
	return gone, err
}

// clearedOut is a bay that was cleared, as JSON.
type clearedOut struct {
	Bay  string          `json:"bay"`
	Gone []setup.Cleared `json:"gone"` // what was removed
}

// consentToClear asks before data of services goes, which nothing brings back.
func consentToClear(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State, bays []bay.Bay, wanted []string) error {
	if c.Bool("yes") {
		return nil
	}
	var what []string
	for _, b := range bays {
		data := filepath.Join(b.Dir, "data")
		entries, _ := os.ReadDir(data)
		if !slices.Contains(wanted, b.Name) {
			continue
		}
		if at, err := cluster.RecordOf(b); err == nil && at != nil {
			what = append(what, fmt.Sprintf("what services of bay %s keep in %s/%s", b.Name, at.Target.Context, at.Target.Namespace))
		}
		for _, e := range entries {
			if bytes := setup.SizeOf(filepath.Join(data, e.Name())); bytes > 0 {
				what = append(what, fmt.Sprintf("%s in bay %s, %s", e.Name(), b.Name, ui.Bytes(bytes)))
			}
		}
	}
	if len(what) == 0 {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.ErrUsage, "this would remove data: %s", strings.Join(what, "; ")).
			Advise("Nothing was removed. Keep a dump where it is wanted: trammel data save SERVICE FILE\nThen: trammel clear --yes %s", shell.Words(wanted...))
	}
	s.Print("Data that will be gone: %s", strings.Join(what, "; "))
	yes, err := answeredYes(ctx, s, "Remove it?")
	if err == nil && !yes {
		err = fault.New(fault.ErrUsage, "nothing was removed")
	}
	return err
}
