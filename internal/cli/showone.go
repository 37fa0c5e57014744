package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// fact is one line about a thing.
type fact struct{ name, value string }

// sheet is where the facts about things go: printed, or collected for --json.
type sheet struct {
	*ui.Screen
	json   bool
	things []thingOut
}

// thingOut is one thing as `show NAME --json` prints it.
type thingOut struct {
	Name  string    `json:"name"`
	Kind  string    `json:"kind"` // "toolchain", "step", "service" or "routine"
	Facts []factOut `json:"facts"`
}

type factOut struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

func (s *sheet) print(title, kind string, facts []fact) {
	if s.json {
		thing := thingOut{Name: title, Kind: kind, Facts: []factOut{}}
		for _, f := range facts {
			if f.value != "" {
				thing.Facts = append(thing.Facts, factOut{f.name, f.value})
			}
		}
		s.things = append(s.things, thing)
		return
	}
	s.Print("%s   %s", s.Paint(ui.Accent, title), s.Paint(ui.Dim, kind))
	var rows [][]ui.Cell
	for _, f := range facts {
		if f.value == "" {
			continue
		}
		for i, line := range strings.Split(strings.TrimRight(f.value, "\n"), "\n") {
			name := f.name
			if i > 0 {
				name = ""
			}
			rows = append(rows, []ui.Cell{{Text: fmt.Sprintf("  %-12s", name), Style: ui.Dim}, {Text: line}})
		}
	}
	s.Table(rows)
}

// showOne shows one toolchain, step, service or routine in full.
func showOne(ctx context.Context, s *sheet, p *checkout.State, name string) error {
	found := false
	for _, t := range p.Declaration.Toolchains {
		if t.Name == name {
			found = true
			showTool(s, p, t, p.Lock, p.LockErr)
		}
	}
	if p.Overlay != nil {
		for _, t := range p.Overlay.Toolchains {
			if t.Name == name {
				found = true
				showTool(s, p, t, p.OverlayLock, p.OverlayLockErr)
			}
		}
	}
	if x, ok := p.Declaration.Step(name); ok {
		found = true
		showStep(ctx, s, p, x)
	}
	if x, ok := p.Declaration.Service(name); ok {
		found = true
		showService(ctx, s, p, x)
	}
	if x, ok := p.Declaration.Routine(name); ok {
		found = true
		s.print(x.Name, "routine", []fact{{"about", x.About}, {"runs", x.Run.String()}, {"by", "trammel do " + shell.Typed(x.Name)}})
	}
	if showOther(s, p, name) {
		found = true
	}
	if p.Lock != nil && showRoot(s, p, name) {
		found = true
	}
	if showLibraries(s, p, name) {
		found = true
	}
	if !found {
		d := p.Declaration
		all := slices.Concat(declare.Names(d.Toolchains), declare.Names(d.Steps), declare.Names(d.Services), declare.Names(d.Routines),
			declare.Names(d.Params), declare.Names(d.Files), declare.Names(d.Secrets), declare.Names(d.Addons), declare.Names(d.Libraries))
		return fault.New(fault.ErrUsage, "nothing is named %q in %s", name, declare.FileName).Advise("%s", fault.DidYouMean(name, all))
	}
	if s.json {
		return tell(s.Screen, thingsOut{1, s.things})
	}
	return nil
}

// showOther shows a param, a rendered file, a secret (never its value) or an add-on.
func showOther(s *sheet, p *checkout.State, name string) (found bool) {
	at := func(place fault.Place) fact {
		return fact{"declared", fmt.Sprintf("%s:%d", p.FileOf(place.File), place.Line)}
	}
	d := p.Declaration
	for _, x := range d.Params {
		if x.Name == name {
			found = true
			s.print(name, "param", []fact{{"about", x.About}, at(x.Place), {"is", d.Values[name]}, {"may be", x.Allowed()}, {"choose", "trammel fit --param " + shell.Typed(name) + "=VALUE"}})
		}
	}
	for _, x := range d.Files {
		if x.Path == name {
			found = true
			s.print(name, "file", []fact{at(x.Place), {"template", x.Template}, {"rendered at", filepath.Join(p.Bay.Dir, "files", x.Path)}})
		}
	}
	for _, x := range d.Secrets {
		if x.Name == name {
			found = true
			s.print(name, "secret", []fact{at(x.Place), {"from", x.From}})
		}
	}
	for _, x := range d.Addons {
		if x.Name == name {
			found = true
			picture := "none yet: trammel fit"
			if p.Lock != nil && p.Lock.Pictures[name] != nil {
				picture = strings.Join(p.Lock.Pictures[name], "\n")
			}
			s.print(name, "add-on", []fact{at(x.Place), {"wants", strings.Join(x.Want, "\n")}, {"lists by", x.List.String()}, {"adds by", x.Add.String()}, {"removes by", x.Remove.String()}, {"picture", picture}})
		}
	}
	return found
}

func showTool(s *sheet, p *checkout.State, t declare.Toolchain, l *lock.Lock, err error) {
	facts := []fact{{"asked for", fmt.Sprintf("%s   (%s:%d)", t.Ask, p.FileOf(t.Place.File), t.Place.Line)}}
	if l == nil {
		s.print(t.Name, "toolchain", append(facts, fact{"locked", "no: " + fault.FirstLine(err)}))
		return
	}
	item := l.Items[t.Name]
	facts = append(facts, fact{"locked", item.Version}, fact{"published", strings.TrimSuffix(item.Published, "T00:00:00Z")}, fact{"source", item.Source})
	for _, part := range p.PartsOfItem(t.Name) {
		where, size := "not on this machine yet", ""
		if p.Store.Has(part) {
			where = p.Store.Path(part)
			if n := p.Store.Size(part); n > 0 {
				size = "   " + ui.Bytes(n)
			}
		}
		commands := lock.Sorted(part.Named(part.Bin))
		if part.Format == lock.RootFormat {
			facts = append(facts, fact{"packages", strings.Join(part.Wants, " ")}, fact{"root", part.Name + " " + part.Part.Version + size + "   (trammel show " + shell.Typed(part.Name) + ")"})
			commands = commandsOf(p, t.Name)
		} else {
			facts = append(facts, fact{"part", part.Name + " " + part.Part.Version + size}, fact{"", where}, fact{"", string(part.Digest)})
		}
		if len(commands) > 0 {
			facts = append(facts, fact{"commands", strings.Join(commands, " ")})
		}
	}
	for _, name := range lock.Sorted(item.Variables) {
		facts = append(facts, fact{"sets", name + "=" + item.Variables[name]})
	}
	facts = append(facts, fact{"without it", withoutTool(p, t.Name)})
	s.print(t.Name, "toolchain", facts)
}

// commandsOf are the commands that a tool has in the frame.
func commandsOf(p *checkout.State, tool string) []string {
	plan, err := environ.Decide(p)
	if err != nil {
		return nil
	}
	var out []string
	for _, c := range plan.Frame.Commands {
		if c.Item == tool {
			out = append(out, c.Name)
		}
	}
	return out
}

// showLibraries shows a set of libraries, or one package of it: SET/PACKAGE.
func showLibraries(s *sheet, p *checkout.State, name string) bool {
	set, library, one := declare.LibraryName(name)
	if !one {
		set = name
	}
	x, ok := p.Declaration.Library(set)
	if !ok {
		return false
	}
	facts := []fact{{"declared", fmt.Sprintf("%s:%d", p.FileOf(x.Place.File), x.Place.Line)}}
	if p.Lock == nil {
		s.print(name, "libraries", append(facts, fact{"locked", "no: " + fault.FirstLine(p.LockErr)}))
		return true
	}
	locked := p.Lock.Libraries[set]
	on := locked.On[p.Platform.String()]
	if one {
		for _, l := range on.List() {
			if l.Name == library {
				facts = append(facts, fact{"locked", l.Version}, fact{"file", l.Path}, fact{"", string(l.Digest)}, fact{"lies at", l.Place}, fact{"source", locked.Source}, fact{"move it", "trammel set " + shell.Typed(name) + "=ASK, or: trammel lock --renew " + shell.Typed(name)})
				s.print(name, "library for "+on.For, facts)
				return true
			}
		}
		return false
	}
	facts = append(facts, fact{"files", strings.Join(x.Files, " ")}, fact{"wants", strings.Join(x.Want, "\n")}, fact{"groups", strings.Join(x.Groups, " ")}, fact{"for", on.For}, fact{"source", locked.Source})
	for _, part := range p.PartsOfItem(set) {
		where := "not on this machine yet"
		if p.Store.Has(part) {
			where = p.Store.Path(part) + "   " + ui.Bytes(p.Store.Size(part))
		}
		facts = append(facts, fact{"set", where})
		if commands := commandsOf(p, set); len(commands) > 0 {
			facts = append(facts, fact{"commands", strings.Join(commands, " ")})
		}
	}
	if locked.Folder != "" {
		facts = append(facts, fact{"shown in", filepath.Join(locked.Folder, "node_modules")})
	}
	var packages []string
	for _, l := range on.List() {
		packages = append(packages, l.Name+" "+l.Version)
	}
	facts = append(facts, fact{"packages", strings.Join(packages, "\n")})
	s.print(name, "libraries", facts)
	return true
}

// showRoot shows a root: where it is, what it takes, and its packages.
func showRoot(s *sheet, p *checkout.State, name string) bool {
	l := p.Lock
	for _, part := range p.Parts {
		if part.Format != lock.RootFormat || part.Name != name {
			continue
		}
		read := l.Sources[name]
		facts := []fact{{"suites", strings.Join(read.Suites, " ")}, {"release", part.Part.Version}, {"index", strings.Join(read.Index, "\n")}}
		if p.Store.Has(part) {
			whole, shared := p.Store.Room(part)
			size := ui.Bytes(whole)
			if shared > 0 {
				size += ", of which other roots share " + ui.Bytes(shared)
			}
			facts = append(facts, fact{"takes", size}, fact{"at", p.Store.Path(part)}, fact{"tree", string(part.Tree)})
		} else {
			facts = append(facts, fact{"at", "not on this machine yet: trammel fit"})
		}
		var packages []string
		for _, q := range (lock.Root{Packages: part.Packages}).List() {
			packages = append(packages, q.Name+" "+q.Version)
		}
		s.print(name, "root", append(facts, fact{"packages", strings.Join(packages, "\n")}))
		return true
	}
	return false
}

// withoutTool says what a tool's commands would be if it were not declared.
func withoutTool(p *checkout.State, tool string) string {
	var out []string
	for _, part := range p.PartsOfItem(tool) {
		for _, command := range lock.Sorted(part.Bin) {
			host := environ.FindHost(command, os.Getenv("PATH"))
			switch {
			case host == "":
				out = append(out, command+" would not be there")
			case p.Declaration.Isolation == declare.Clean && !slices.Contains(p.HostCommands(), command):
				out = append(out, fmt.Sprintf("%s would not be there; the host's %s is hidden", command, host))
			default:
				out = append(out, command+" would be the host's "+host)
			}
		}
	}
	return strings.Join(out, "\n")
}

func showStep(ctx context.Context, s *sheet, p *checkout.State, x declare.Step) {
	facts := []fact{
		{"about", x.About}, {"declared", fmt.Sprintf("%s:%d", p.FileOf(x.Place.File), x.Place.Line)}, {"runs", x.Run.String()},
		{"reads", strings.Join(x.Reads, " ")}, {"needs", strings.Join(x.Needs, " ")},
		{"log", logbook.Path(p.Bay.Logs(), logbook.StepName(x.Name))},
	}
	if p.Usable() == nil {
		if up, err := setup.Look(p); err == nil {
			statuses, err := up.Steps()
			for _, st := range statuses {
				if err == nil && st.Step.Name == x.Name {
					state := "ok"
					if st.Due {
						state = "due: " + st.Why
					}
					facts = append(facts, fact{"state", state})
					if !st.Mark.At.IsZero() {
						facts = append(facts, fact{"last done", fmt.Sprintf("%s, took %s", st.Mark.At.Local().Format("2 Jan 2006 15:04"), ui.Elapsed(st.Mark.Took))})
					}
				}
			}
		}
	}
	s.print(x.Name, "step", facts)
}

// connection says how a client gets to a service: where it is, as whom, where its password is kept, and lines to paste.
func connection(p *checkout.State, x declare.Service) (facts []fact) {
	up, err := setup.Look(p)
	if err != nil || len(x.Ports) == 0 {
		return nil
	}
	c := up.Connection(x)
	facts = []fact{{"host", c.Host}, {"port", c.Port}, {"database", c.Database}, {"user", c.User}}
	if c.Password != "" {
		facts = append(facts, fact{"password", "cat " + shell.Typed(c.Password)})
	}
	var lines []string
	if c.Console != "" {
		lines = append(lines, "trammel open "+shell.Typed(x.Name))
	}
	return append(facts, fact{"url", c.URL}, fact{"connect by", strings.Join(append(lines, c.Lines...), "\n")})
}

func showService(ctx context.Context, s *sheet, p *checkout.State, x declare.Service) {
	facts := []fact{
		{"about", x.About}, {"declared", fmt.Sprintf("%s:%d", p.FileOf(x.Place.File), x.Place.Line)}, {"runs", x.Run.String()},
		{"needs", strings.Join(x.Needs, " ")}, {"restart", string(x.Restart)},
	}
	statuses, err := service.Connect(p.Bay, p.Host).StatusInFull(ctx)
	if err != nil {
		facts = append(facts, fact{"state", fault.OneLine(err)})
	}
	if statuses == nil && err == nil && slices.Contains(service.Wanted(p.Bay), x.Name) {
		facts = append(facts, fact{"state", "it ran when the supervisor ended without stopping it; again: trammel start"})
	}
	for _, st := range statuses {
		if st.Service != x.Name {
			continue
		}
		text := st.State
		if st.Reason != "" {
			text += ": " + st.Reason
		}
		if a := addresses(st); len(a) > 0 {
			text += "  " + strings.Join(a, " ")
		}
		if st.Secure != "" {
			text += "  " + strings.TrimSuffix(st.Secure, "/")
		}
		if st.Pid > 0 {
			text += fmt.Sprintf("  process %d", st.Pid)
		}
		if at := st.Exposed(); len(at) > 0 {
			text += "  open to other machines at " + strings.Join(at, " ")
		}
		facts = append(facts, fact{st.Name, text + "  since " + st.Since.Local().Format(time.TimeOnly)})
	}
	facts = append(facts, connection(p, x)...)
	facts = append(facts, fact{"log", logbook.Path(p.Bay.Logs(), x.CopyName(1))})
	s.print(x.Name, "service", facts)
}
