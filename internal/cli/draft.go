package cli

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/core/origins/resolve"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/draft"
)

func draftCommand() *cli.Command {
	return &cli.Command{
		Name:        "draft",
		Usage:       "write a first trammel.toml from what the folder shows, or from a starter",
		Description: example("trammel draft", "trammel draft --from go-service", "trammel draft --from git+https://git.heronweir.example/starters#main:lane"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "write the whole project of the starter `NAME`, or of a folder, archive or repository of your team's"},
			&cli.BoolFlag{Name: "starters", Aliases: []string{"list"}, Usage: "list the starters"},
			&cli.BoolFlag{Name: "print", Usage: "print it and write nothing"},
		},
		Action: draftAction,
	}
}

func draftAction(ctx context.Context, c *cli.Command) error {
	s := screen(c)
	names, abouts := draft.Starters()
	if c.Bool("starters") {
		var rows [][]ui.Cell
		for i, name := range names {
			rows = append(rows, []ui.Cell{{Text: name, Style: ui.Accent}, {Text: abouts[i]}})
		}
		s.Table(rows)
		return nil
	}
	dir, err := filepath.Abs(c.String("dir"))
	if err != nil {
		return err
	}
	if from := c.String("from"); from != "" {
		return begin(ctx, c, s, dir, from)
	}
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		return fault.New(fault.ErrUsage, "there is no folder %s", shown(dir))
	}
	found := draft.Look(os.DirFS(dir))
	means, err := meansOf(ctx, c)
	if err != nil {
		return err
	}
	text := found.Text(draft.ProjectName(dir), means)
	file := filepath.Join(dir, declare.FileName)
	if _, err := declare.Parse(file, []byte(text)); err != nil {
		return err
	}
	if c.Bool("print") {
		s.Print("%s", text)
		return nil
	}
	if _, err := os.Lstat(file); err == nil {
		return fault.New(fault.ErrUsage, "%s is there already, and is left as it is", shown(file)).Advise("See what would be written: trammel draft --print")
	}
	if err := disk.Write(file, []byte(text), 0o644); err != nil {
		return err
	}
	s.Print("%s is written", shown(file))
	for _, w := range found.Wants {
		s.Print("  %-8s  %s", w.Tool, w.Why)
	}
	for _, l := range found.Libraries {
		s.Print("  %-8s  libraries, from %s", l.Kind, l.File)
	}
	if len(found.Wants) == 0 {
		s.Say("Nothing here states a version of anything. Add what you need: trammel find, trammel set go=1.24")
		return nil
	}
	s.Say("Read it, then: trammel lock")
	return nil
}

// begin writes a starter's files into a folder that has none of them.
func begin(ctx context.Context, c *cli.Command, s *ui.Screen, dir, from string) error {
	p, err := checkout.None(asked(c))
	if err != nil {
		return err
	}
	project, suite := draft.ProjectName(dir), cmp.Or(source.AptSuite(machine(p)), "trixie")
	names, _ := draft.Starters()
	files, ok := draft.Starter(from, project, suite)
	if !ok {
		if !isLocator(from) {
			return fault.New(fault.ErrUsage, "no starter is named %q", from).Advise("%s", strings.TrimSpace(fault.DidYouMean(from, names)+" A starter of your team's is named by its folder, archive or repository: --from ./lane"))
		}
		if files, err = teamStarter(ctx, c, p, from, project, suite); err != nil {
			return err
		}
	}
	if _, err := draft.Declared(files, dir); err != nil {
		return err
	}
	if c.Bool("print") {
		i := slices.IndexFunc(files, func(f draft.File) bool { return f.Path == declare.FileName })
		s.Print("%s", files[i].Content)
		return nil
	}
	var there []string
	for _, f := range files {
		if _, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(f.Path))); err == nil {
			there = append(there, f.Path)
		}
	}
	if len(there) > 0 {
		return fault.New(fault.ErrUsage, "%s is there already, and nothing is written", strings.Join(there, ", ")).Advise("Begin in an empty folder: mkdir lane && cd lane && trammel draft --from %s", shell.Typed(from))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	// The declaration last: without it, there is no project yet.
	slices.SortStableFunc(files, func(a, b draft.File) int {
		return cmp.Compare(b2i(a.Path == declare.FileName), b2i(b.Path == declare.FileName))
	})
	for _, f := range files {
		if err := disk.MkdirWithin(dir, filepath.Dir(filepath.FromSlash(f.Path)), 0o755); err != nil {
			return err
		}
		if err := disk.WriteWithin(dir, filepath.FromSlash(f.Path), f.Content, f.Mode); err != nil {
			return err
		}
	}
	s.Print("%d files of a project named %s are written, trammel.toml among them", len(files), s.Paint(ui.Accent, project))
	s.Say("Read it, then: trammel lock, trammel start, trammel do test")
	return nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// teamStarter gets the files of a starter that a locator names. Nothing of it runs.
func teamStarter(ctx context.Context, c *cli.Command, p *checkout.State, from, project, suite string) ([]draft.File, error) {
	l, err := locator.Parse(from, p.Host.Dir)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(l.At, filepath.FromSlash(l.Sub))
	if l.Kind != locator.Folder {
		if dir, _, err = fetchLocator(ctx, c, p.Places, l, ""); err != nil {
			return nil, err
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	files, err := draft.Filled(root.FS(), project, suite)
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "%s is no starter: %v", from, err)
	}
	return files, nil
}

// meansOf is what there is to write a declaration with on this machine.
func meansOf(ctx context.Context, c *cli.Command) (draft.Means, error) {
	p, err := checkout.None(asked(c))
	if err != nil {
		return draft.Means{}, err
	}
	m := machine(p)
	suite := source.AptSuite(m)
	if suite == "" {
		suite = "trixie"
	}
	debian := declare.Source{Name: suite, Kind: "debian", Debian: declare.Debian{Suites: []string{suite}, Components: []string{"main"}}}
	d := *p.Declaration
	d.Sources = []declare.Source{debian}
	located := func(s declare.Source) bool {
		_, err := source.Locate(s, m)
		return err == nil
	}
	reached := located(debian)
	return draft.Means{
		Can: func(tool string) bool { return slices.Contains(card.BuiltinNames(), tool) },
		From: func(tool string) bool {
			known, ok := card.Builtin(tool)
			return ok && !slices.ContainsFunc(known.From, func(f card.From) bool { return f.Kind != "debian" })
		},
		Suite: suite,
		Has: func(tool, ask string) string {
			parsed, err := version.ParseAsk(ask)
			if err != nil || ask == "latest" || !reached {
				return "" // locking says so
			}
			ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
			defer cancel()
			offers, err := resolve.Look(ctx, &d, m, client(p, false), declare.Toolchain{Name: tool, Ask: parsed})
			if err != nil || len(offers) == 0 || len(offers[0].Releases) == 0 {
				return ""
			}
			o := offers[0]
			if slices.ContainsFunc(o.Releases, func(r source.Release) bool { return parsed.Allows(o.Scheme, r.Version) }) {
				return ""
			}
			return suite + " has " + o.Releases[0].Version
		},
		Index: func(kind string) bool {
			return located(source.Implied(declare.LibraryKinds[kind].Source))
		},
	}, nil
}
