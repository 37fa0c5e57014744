package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/origins/resolve"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
)

// openOrNone is open, or outside of any project a bare one: what is only looked up
// needs no declaration.
func openOrNone(ctx context.Context, c *cli.Command) (*checkout.State, error) {
	p, err := open(ctx, c)
	if err == nil {
		return p, nil
	}
	if _, findErr := declare.Find(nil, hostNow().Abs(c.String("dir"))); findErr == nil {
		return nil, err // there is one, and it is faulty
	}
	return checkout.None(asked(c))
}

func findCommand() *cli.Command {
	return &cli.Command{
		Name:        "find",
		Usage:       "look up toolchains and packages, or the versions of one",
		ArgsUsage:   "[WORD | TOOL [ASK] | SET/PACKAGE]",
		Description: example("trammel find", "trammel find go", "trammel find metafor", "trammel find survey/numpy", "trammel find node \">=22, <23\""),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "source", Usage: "look in the source `NAME` only"},
			&cli.StringFlag{Name: "as-of", Usage: "leave out what was published after `DATE`"},
			&cli.BoolFlag{Name: "all", Usage: "every version, pre-releases too"},
			offlineFlag(), jsonFlag(),
		},
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Toolchains) }),
		Action:        findAction,
	}
}

// shownVersions is how many versions are listed without --all.
const shownVersions = 20

func findAction(ctx context.Context, c *cli.Command) error {
	p, err := openOrNone(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	web := client(p, c.Bool("offline"))
	word := c.Args().First()
	if set, library, ok := declare.LibraryName(word); ok && !strings.HasPrefix(word, "@") {
		return findLibrary(ctx, c, s, p, set, library)
	}
	exact, err := resolve.Has(ctx, p.Declaration, machine(p), web, word)
	if err != nil {
		return err
	}
	if !exact {
		tools, err := resolve.Tools(ctx, p.Declaration, machine(p), web)
		if err != nil {
			return err
		}
		return findTools(ctx, c, s, p, tools, word)
	}
	lists, err := versionsOf(ctx, c, p, web, word)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		var out []offerOut
		for _, x := range lists {
			out = append(out, offerOf(x.Offer, x.Releases, x.marks))
		}
		return tell(s, findOut{1, out[0], out[1:]})
	}
	found := 0
	for i, x := range lists {
		if i > 0 {
			s.Print("")
		}
		x.print(s, word)
		found += len(x.Releases)
	}
	if found == 0 {
		return fault.New(fault.ErrFailed, "no version of %s fits", word).Advise("All that there are: trammel find --all %s", shell.Typed(word))
	}
	return nil
}

// versionList is what one source has of a toolchain, as much of it as is shown.
type versionList struct {
	*resolve.Offer
	total int                 // with what is not shown
	marks map[string][]string // version → what of this project it is
	asOf  time.Time           // zero for no bound
}

// versionsOf are the versions of a toolchain that were asked for, each source's in a list.
func versionsOf(ctx context.Context, c *cli.Command, p *checkout.State, web *fetch.Client, name string) (out []versionList, err error) {
	t := declare.Toolchain{Name: name, From: c.String("source")}
	ask := strings.Join(c.Args().Slice()[1:], " ")
	if t.Ask, err = version.ParseAsk(cmp.Or(ask, "latest")); err != nil {
		return nil, fault.New(fault.ErrUsage, "%v", err)
	}
	asOf := time.Time{}
	if text := c.String("as-of"); text != "" {
		if asOf, err = declare.ParseDate(text); err != nil {
			return nil, fault.New(fault.ErrUsage, "%q is not a date such as 2026-03-01", text)
		}
	}
	offers, err := resolve.Look(ctx, p.Declaration, machine(p), web, t)
	if err != nil {
		return nil, plainFindings(err)
	}
	t.Ask = resolve.AskNow(t, time.Now())
	late := func(x source.Release) bool { return !asOf.IsZero() && x.Published.After(asOf) }
	for _, offer := range offers {
		// A plain number shows what begins so, with --all too.
		list := slices.DeleteFunc(offer.Releases, func(x source.Release) bool {
			return (!c.Bool("all") || ask != "") && !allows(t.Ask, offer.Scheme, x.Version, c.Bool("all")) || late(x)
		})
		x := versionList{Offer: offer, total: len(list), asOf: asOf}
		if !c.Bool("all") && len(list) > shownVersions {
			list = list[:shownVersions]
		}
		t.From = offer.Source
		resolve.Date(ctx, p.Declaration, machine(p), web, t, list)
		x.Releases = slices.DeleteFunc(list, late)
		x.marks = marksOf(p, name, offer)
		out = append(out, x)
	}
	return out, nil
}

func (x versionList) print(s *ui.Screen, name string) {
	rows := [][]ui.Cell{}
	undated := 0
	for _, r := range x.Releases {
		rows = append(rows, []ui.Cell{{Text: r.Version}, {Text: day(r.Published), Style: ui.Dim}, {Text: strings.Join(x.marks[r.Version], ", "), Style: ui.Accent}})
		if r.Published.IsZero() {
			undated++
		}
	}
	s.Print("%s   %s", s.Paint(ui.Accent, name), s.Paint(ui.Dim, "from "+x.Source))
	s.Table(rows)
	if len(x.Releases) == 0 {
		s.Print("  none that fits")
	}
	if !x.asOf.IsZero() && undated > 0 {
		s.Say("%s has no date for %d of them: whether they were there on %s is not known.", x.Source, undated, x.asOf.Format(time.DateOnly))
	}
	if x.total > len(x.Releases) && len(x.Releases) == shownVersions {
		s.Say("%d more: trammel find --all %s", x.total-len(x.Releases), shell.Typed(name))
	}
}

// allows tells whether an ask allows a version, pre-releases too when all are wanted.
func allows(ask version.Ask, scheme version.Scheme, v string, all bool) bool {
	if ask.Allows(scheme, v) {
		return true
	}
	if !all || !scheme.Prerelease(v) {
		return false
	}
	prefix, ok := ask.Prefix()
	return ok && strings.HasPrefix(v, prefix)
}

// plainFindings drops the place of findings that point at no file.
func plainFindings(err error) error {
	var findings fault.Findings
	if errors.As(err, &findings) && findings[0].Line == 0 {
		return fault.New(fault.ErrUsage, "%s", findings[0].What).Advise("%s", findings[0].Do)
	}
	return err
}

func day(t time.Time) string {
	if t.IsZero() {
		return "no date"
	}
	return t.Format(time.DateOnly)
}

// marksOf says of versions which one is locked, on this machine, and the newest
// that the declaration allows.
func marksOf(p *checkout.State, tool string, o *resolve.Offer) map[string][]string {
	marks := map[string][]string{}
	if p.Lock != nil && p.Lock.Items[tool].Version != "" && cmp.Or(p.Lock.Sources[p.Lock.Items[tool].Source].Of, p.Lock.Items[tool].Source) == o.Source {
		v := p.Lock.Items[tool].Version
		marks[v] = append(marks[v], "locked")
		if p.Has(tool) {
			marks[v] = append(marks[v], "fitted")
		}
	}
	for _, t := range p.Declaration.Toolchains {
		if t.Name != tool {
			continue
		}
		for _, x := range o.Releases {
			if resolve.AskNow(t, time.Now()).Allows(o.Scheme, x.Version) {
				marks[x.Version] = append(marks[x.Version], "newest allowed")
				break
			}
		}
	}
	return marks
}

func findJSON(s *ui.Screen, o *resolve.Offer, list []source.Release, marks map[string][]string) error {
	return tell(s, findOut{Format: 1, offerOut: offerOf(o, list, marks)})
}

// offerOut is what one source has, as `find --json` prints it.
type offerOut struct {
	Tool     string       `json:"tool"`
	Source   string       `json:"source"`
	Versions []releaseOut `json:"versions"`
}

type releaseOut struct {
	Version   string   `json:"version"`
	Published string   `json:"published,omitempty"`
	Marks     []string `json:"marks,omitempty"` // "locked", "newest allowed"
}

func offerOf(o *resolve.Offer, list []source.Release, marks map[string][]string) offerOut {
	out := []releaseOut{}
	for _, x := range list {
		r := releaseOut{Version: x.Version, Marks: marks[x.Version]}
		if !x.Published.IsZero() {
			r.Published = x.Published.Format(time.RFC3339)
		}
		out = append(out, r)
	}
	return offerOut{o.Tool, o.Source, out}
}

// findLibrary lists the versions of one package of a set, those that are locked marked.
func findLibrary(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State, set, library string) error {
	x, ok := p.Declaration.Library(set)
	if !ok {
		return fault.New(fault.ErrUsage, "no libraries are named %q", set).Advise("%s", fault.DidYouMean(set, declare.Names(p.Declaration.Libraries)))
	}
	offer, err := resolve.LookLibrary(ctx, p.Declaration, machine(p), client(p, c.Bool("offline")), x, library)
	if err != nil {
		return plainFindings(err)
	}
	list := offer.Releases
	if !c.Bool("all") {
		list = slices.DeleteFunc(list, func(r source.Release) bool { return offer.Scheme.Prerelease(r.Version) })
	}
	total := len(list)
	if !c.Bool("all") && len(list) > shownVersions {
		list = list[:shownVersions]
	}
	marks := map[string][]string{}
	if p.Lock != nil {
		for _, one := range p.Lock.Libraries[set].On[p.Platform.String()].List() {
			if one.Name == library {
				marks[one.Version] = []string{"locked"}
			}
		}
	}
	if c.Bool("json") {
		return findJSON(s, offer, list, marks)
	}
	rows := [][]ui.Cell{}
	for _, r := range list {
		rows = append(rows, []ui.Cell{{Text: r.Version}, {Text: day(r.Published), Style: ui.Dim}, {Text: strings.Join(marks[r.Version], ", "), Style: ui.Accent}})
	}
	s.Print("%s   %s", s.Paint(ui.Accent, set+"/"+library), s.Paint(ui.Dim, "from "+offer.Source))
	s.Table(rows)
	if total > len(list) {
		s.Say("%d more: trammel find --all %s/%s", total-len(list), shell.Typed(set), shell.Typed(library))
	}
	return nil
}

// findTools lists the tools whose name or description has a word, then the packages of the
// sources that have it.
func findTools(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State, tools []resolve.Known, word string) error {
	asJSON := c.Bool("json")
	called, isCalled := resolve.Called(word)
	var names []string
	for _, k := range tools {
		names = append(names, k.Name)
	}
	tools = slices.DeleteFunc(tools, func(k resolve.Known) bool {
		return !strings.Contains(strings.ToLower(k.Name+" "+k.About), strings.ToLower(word)) && !(isCalled && k.Name == called)
	})
	var packages []resolve.Package
	if word != "" {
		var errs []error
		packages, errs = resolve.Packages(ctx, p.Declaration, machine(p), client(p, c.Bool("offline")), word)
		for _, err := range errs {
			s.Say("Not looked up: %s", fault.FirstLine(err))
		}
		if from := c.String("source"); from != "" {
			packages = slices.DeleteFunc(packages, func(k resolve.Package) bool { return k.Source != from })
			tools = nil
		}
	}
	if len(tools)+len(packages) == 0 {
		do := fault.DidYouMean(word, names)
		if len(p.Declaration.Sources) == 0 {
			do = strings.TrimSpace(do + " A declared source of packages (kind debian, wheel, r) is looked in as well.")
		}
		return fault.New(fault.ErrUsage, "no tool and no package is known for %q", word).Advise("%s", do)
	}
	if asJSON {
		out, more := []knownOut{}, []packageOut{}
		for _, k := range tools {
			out = append(out, knownOut(k))
		}
		for _, k := range packages {
			more = append(more, packageOut{k.Name, k.Version, k.About, k.Source, k.Do})
		}
		return tell(s, knownToolsOut{1, out, more})
	}
	rows := [][]ui.Cell{}
	for _, k := range tools {
		rows = append(rows, []ui.Cell{{Text: k.Name, Style: ui.Accent}, {Text: k.About}, {Text: k.Source, Style: ui.Dim}})
	}
	s.Table(rows)
	if len(packages) == 0 {
		return nil
	}
	if len(rows) > 0 {
		s.Print("")
	}
	rows = nil
	for _, k := range packages {
		about := k.About
		if runes := []rune(about); len(runes) > 44 {
			about = string(runes[:43]) + "…"
		}
		rows = append(rows, []ui.Cell{{Text: k.Name, Style: ui.Accent}, {Text: k.Version}, {Text: about}, {Text: k.Source, Style: ui.Dim}, {Text: k.Do, Style: ui.Dim}})
	}
	s.Table(rows)
	return nil
}

func localFlag() cli.Flag {
	return &cli.BoolFlag{Name: "local", Usage: "in " + declare.OverlayName + ", your own additions"}
}

func defaultFlag() cli.Flag {
	return &cli.BoolFlag{Name: "default", Usage: "in your default, in force where nothing is declared"}
}

func setCommand() *cli.Command {
	return &cli.Command{
		Name:        "set",
		Usage:       "add or change toolchains and libraries in the declaration, in place, and lock",
		ArgsUsage:   "TOOL=ASK… | SET/PACKAGE=ASK…",
		Description: example("trammel set go=1.24 node=\">=22.5, <23\"", "trammel set survey/numpy=2.1"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "have them from the source `NAME`"},
			&cli.StringFlag{Name: "package", Usage: "what no card describes: the `PACKAGE` of that source"},
			localFlag(), defaultFlag(),
			&cli.BoolFlag{Name: "no-lock", Usage: "leave the lock as it is"},
			offlineFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return fault.New(fault.ErrUsage, "set needs a toolchain and an ask").Advise("Write, for example: trammel set go=1.24")
			}
			return edit(ctx, c, func(file string, source []byte) ([]byte, error) {
				for _, arg := range c.Args().Slice() {
					name, ask, ok := strings.Cut(arg, "=")
					if !ok || name == "" {
						return nil, fault.New(fault.ErrUsage, "%q is not TOOL=ASK", arg).Advise("Write, for example: trammel set go=1.24 (or go==1.24.3 for exactly that)")
					}
					var err error
					if set, library, ok := declare.LibraryName(name); ok {
						if source, err = declare.SetLibrary(file, source, set, library, ask); err != nil {
							return nil, err
						}
						continue
					}
					if _, err := version.ParseAsk(ask); err != nil {
						return nil, fault.New(fault.ErrUsage, "%s: %v", name, err)
					}
					if source, err = declare.SetToolchain(file, source, name, ask, c.String("from"), c.String("package")); err != nil {
						return nil, err
					}
				}
				return source, nil
			})
		},
	}
}

func unsetCommand() *cli.Command {
	return &cli.Command{
		Name:          "unset",
		Usage:         "drop toolchains and libraries from the declaration, in place, and lock",
		ArgsUsage:     "TOOL… | SET/PACKAGE…",
		Description:   example("trammel unset node", "trammel unset survey/numpy"),
		Flags:         []cli.Flag{localFlag(), defaultFlag(), &cli.BoolFlag{Name: "no-lock", Usage: "leave the lock as it is"}, offlineFlag()},
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Toolchains) }),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return fault.New(fault.ErrUsage, "unset needs a toolchain").Advise("Write, for example: trammel unset node")
			}
			return edit(ctx, c, func(file string, source []byte) (_ []byte, err error) {
				for _, name := range c.Args().Slice() {
					if set, library, ok := declare.LibraryName(name); ok {
						if source, err = declare.UnsetLibrary(file, source, set, library); err != nil {
							return nil, err
						}
						continue
					}
					if source, err = declare.UnsetToolchain(file, source, name); err != nil {
						return nil, err
					}
				}
				return source, nil
			})
		},
	}
}

// edited is the file that set and unset are about: the declaration, the person's
// additions to it, or their default. The last two are made when they are not there.
func edited(ctx context.Context, c *cli.Command) (p *checkout.State, file string, err error) {
	switch {
	case c.Bool("local") && c.Bool("default"):
		return nil, "", fault.New(fault.ErrUsage, "--local and --default are two places; name one")
	case c.Bool("default"):
		places, err := placesNow()
		if err != nil {
			return nil, "", err
		}
		file = checkout.DefaultFile(places)
		if _, err := os.Stat(file); os.IsNotExist(err) {
			text := "# What is in force where no project declares anything.\nformat  = 1\nproject = \"default\"\nisolation = \"open\"\n"
			if err := disk.Write(file, []byte(text), 0o644); err != nil {
				return nil, "", err
			}
		}
		p, err = checkout.Open(checkout.Asked{Host: hostNow(), Dir: filepath.Dir(file), Bay: c.String("bay")}, checkout.Locate{})
		return p, file, err
	}
	p, err = openWith(ctx, c, checkout.Locate{Pin: true})
	if err != nil {
		return nil, "", err
	}
	if c.Bool("local") {
		return p, declare.OverlayFile(p.Dir()), nil
	}
	return p, p.Written.File, nil
}

// mostEdits is how often a change is begun anew because somebody else saved the file meanwhile.
const mostEdits = 8

// edit changes the text of a declaration and resolves the outcome before it writes
// anything: what does not exist is never written. Where somebody else saves the file meanwhile, it begins
// anew with what they wrote.
func edit(ctx context.Context, c *cli.Command, change func(file string, source []byte) ([]byte, error)) error {
	for range mostEdits {
		err := editOnce(ctx, c, change)
		if !errors.Is(err, disk.ErrChanged) {
			return err
		}
		screen(c).Say("The file was changed meanwhile. Starting over with what it says now.")
	}
	return fault.New(fault.ErrFailed, "the file is being changed all the time, and nothing was written to it").Advise("Close what saves it, then run the same command once more.")
}

func editOnce(ctx context.Context, c *cli.Command, change func(file string, source []byte) ([]byte, error)) error {
	p, file, err := edited(ctx, c)
	if err != nil {
		return err
	}
	before, err := disk.ReadWithin(filepath.Dir(file), filepath.Base(file), disk.MostText)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	fresh := err != nil
	after, err := change(file, before)
	if err != nil {
		return err
	}
	d, overlay := p.Written, p.Overlay
	if c.Bool("local") {
		overlay, err = declare.ParseOverlay(d, file, after)
	} else {
		d, err = declare.Parse(file, after)
	}
	if err != nil {
		return err
	}
	s := screen(c)
	if fresh {
		s.Say("%s is new. It is yours alone: keep it out of version control.", filepath.Base(file))
	}
	given, _ := approval.Check(p)
	order := lockOrder(c, p)
	order.NoLock = c.Bool("no-lock")
	order.First = func() error {
		if fresh {
			before = nil
		}
		return disk.Edit(file, before, after, 0o644)
	}
	err = lockInto(ctx, c, s, p.WithWritten(d, overlay), order)
	if err != nil || !given.Holds() || c.Bool("no-lock") || c.Bool("local") {
		return err
	}
	// Who was asked for everything else need not be asked for what they typed just now.
	now, err := look(c)
	if err != nil {
		return err
	}
	var tools []string
	for _, arg := range c.Args().Slice() {
		name, _, _ := strings.Cut(arg, "=")
		tools = append(tools, name)
	}
	if all, err := given.Typed(now, tools); err != nil {
		return err
	} else if all {
		s.Say("Nothing else changed, so your approval goes on.")
	}
	return nil
}

func newerCommand() *cli.Command {
	return &cli.Command{
		Name:        "newer",
		Usage:       "list what could be renewed, and by how much",
		Description: example("trammel newer"),
		Flags:       []cli.Flag{offlineFlag(), jsonFlag()},
		Action:      newerAction,
	}
}

// renewalOut is one row of `newer --json`.
type renewalOut struct {
	Tool    string `json:"tool"`
	Locked  string `json:"locked"`
	Allowed string `json:"allowed"` // the newest that the ask allows
	Newest  string `json:"newest"`  // of all
	State   string `json:"state"`   // "ok" or "newer"
}

func newerAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	l := p.Lock
	if l == nil {
		return p.LockErr
	}
	list, err := resolve.Newer(ctx, p.Written, l, machine(p), client(p, c.Bool("offline")))
	if err != nil {
		return err
	}
	// Of libraries, of which there are many, only what could move is listed.
	for _, x := range p.Written.Libraries {
		more, err := resolve.NewerLibraries(ctx, p.Written, l, machine(p), client(p, c.Bool("offline")), x)
		if err != nil {
			return err
		}
		for _, r := range more {
			if c.Bool("json") || r.Allowed.Version != r.Locked.Version || r.Newest.Version != "" && r.Newest.Version != r.Locked.Version {
				list = append(list, r)
			}
		}
	}
	s := screen(c)
	out := []renewalOut{}
	rows := [][]ui.Cell{{{Text: ""}, {Text: "locked", Style: ui.Dim}, {Text: "", Style: ui.Dim}, {Text: "newest allowed", Style: ui.Dim}, {Text: "newest of all", Style: ui.Dim}}}
	renew := 0
	for _, r := range list {
		x := renewalOut{r.Tool, r.Locked.Version, r.Allowed.Version, r.Newest.Version, "ok"}
		allowed, newest := "", ""
		if r.Allowed.Version != r.Locked.Version && r.Allowed.Version != "" {
			x.State, allowed = "newer", stamped(r.Allowed)
			renew++
		}
		if r.Newest.Version != r.Allowed.Version {
			newest = stamped(r.Newest)
		}
		out = append(out, x)
		age := ""
		if !r.Locked.Published.IsZero() {
			age = ", " + ui.Ago(time.Since(r.Locked.Published)) + " old"
		}
		rows = append(rows, []ui.Cell{{Text: r.Tool, Style: ui.Accent}, {Text: r.Locked.Version + age}, {Text: x.State, Style: ui.StateStyle(x.State)}, {Text: allowed}, {Text: newest, Style: ui.Dim}})
	}
	if c.Bool("json") {
		return tell(s, newerOut{1, out})
	}
	s.Table(rows)
	if renew > 0 {
		s.Say("Renew: trammel lock --renew [TOOL… | SET/PACKAGE…]")
	}
	return nil
}

func stamped(r source.Release) string {
	if r.Published.IsZero() {
		return r.Version
	}
	return fmt.Sprintf("%s (%s)", r.Version, r.Published.Format(time.DateOnly))
}
