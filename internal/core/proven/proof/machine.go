package proof

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// machine is what verify asks. There are two: this one (here), and those that tests make up.
type machine interface {
	// consented tells whether tools and the like may be started.
	consented() bool

	// Of the store.
	part(p lock.PartOn, deep bool) (store.Checked, error)
	changed(p lock.PartOn, file string) time.Time // zero where that cannot be told
	place(p lock.PartOn) string
	damaged(p lock.PartOn)

	// Of what shows the commands.
	commands() (shown int, wrong []frame.Difference)
	asked(ctx context.Context, l *lock.Lock, item lock.Item) (version string, err error)

	// stands asks a tool where it takes its own libraries from, and tells whether that is of its parts.
	stands(ctx context.Context, l *lock.Lock, item lock.Item, name string) (folder string, own bool, err error)

	// Of libraries: what the checkout shows, and the folders in which languages look besides.
	modules() []libraries.Modules
	home() string

	// Of variables, and of the shell that this runs in.
	variables() []environ.Variable
	wantedValue(v environ.Variable) (string, bool)
	living() map[string]string
	found(command, path string) (string, error)
	bin() (folder string, commands []string)

	// Of files, steps and add-ons.
	files() ([]render.Status, error)
	steps() ([]step.Status, error)
	evidence(ctx context.Context) ([]setup.Evidence, error)
	left(s declare.Step) (lines []string, ok bool) // what it left when it was last done
	picture(ctx context.Context, a declare.Addon) ([]string, error)

	// Of services.
	statuses(ctx context.Context) ([]service.Status, error)
	wanted() (map[string]service.Spec, error)
	behind(st service.Status, spec service.Spec) ([]string, error)
	cluster(ctx context.Context) (where string, found []Detail, err error) // where is "" for a bay of this machine
}

// here is this machine.
type here struct {
	p  *checkout.State
	s  *setup.Sight // nil where nothing is fitted
	up *setup.Setup // nil without consent
}

func (h *here) consented() bool { return h.up != nil }

func (h *here) part(p lock.PartOn, deep bool) (store.Checked, error) { return h.p.Store.Check(p, deep) }
func (h *here) place(p lock.PartOn) string                           { return h.p.Store.Path(p) }
func (h *here) damaged(p lock.PartOn)                                { h.p.Store.MarkDamaged(p) }

func (h *here) changed(p lock.PartOn, file string) time.Time {
	info, err := os.Lstat(filepath.Join(h.p.Store.Path(p), file))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// commands looks at the frame, at what leads to it, and at the host's commands that show.
func (h *here) commands() (int, []frame.Difference) {
	plan := h.s.Plan
	f := plan.Frame
	out := f.Check()
	if len(f.Roots) > 0 {
		switch same, err := h.p.Places.SameProgram(h.p.Host.Program, f.Interpreters()...); {
		case err != nil:
			out = append(out, frame.Difference{Command: "launch", What: "the program that starts commands of roots cannot be read"})
		case !same:
			out = append(out, frame.Difference{Command: "launch", What: "the program that starts commands of roots is another one"})
		}
	}
	out = append(out, f.Pointers(checkout.Local(h.p.Dir()), environ.PathScript(h.p))...)
	if h.p.Declaration.Isolation == declare.Clean {
		out = append(out, plan.Links.Differs()...)
	}
	return len(f.Commands), out
}

// errNotOurs is a version command that asks another program than the tool's.
var errNotOurs = errors.New("which is not of this environment: the card's answer must begin with a command of the tool")

// asked runs a tool's version command. The tool must come from the frame.
func (h *here) asked(ctx context.Context, l *lock.Lock, item lock.Item) (string, error) {
	out, err := h.ask(ctx, item.Answer)
	if err != nil {
		return "", err
	}
	return stated(item, out)
}

// ask runs a command line whose first word is a command of a tool.
func (h *here) ask(ctx context.Context, line string) ([]byte, error) {
	dir := h.p.Dir()
	command, env, err := script.Of(h.up.Ready, declare.Run{Script: line}, dir)
	if err != nil {
		return nil, err
	}
	first, _, _ := strings.Cut(line, " ")
	if h.up.Ready.Isolation == declare.Sealed { // its folder comes first on the PATH inside
		if !slices.ContainsFunc(h.s.Plan.Frame.Commands, func(c frame.Command) bool { return c.Name == first }) {
			return nil, fmt.Errorf("%s is asked, %w", first, errNotOurs)
		}
	} else if path, err := process.LookPath(first, env, dir); err != nil {
		return nil, err
	} else if filepath.Dir(path) != h.s.Plan.Frame.Bin() {
		return nil, fmt.Errorf("%s is %s, %w", first, path, errNotOurs)
	}
	return h.said(ctx, process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: dir}, line)
}

// stands asks a tool where it stands, by the line of its card: go env GOROOT, sys.prefix. A tool of a root
// names a folder of the root; any other one of its own parts in the store.
func (h *here) stands(ctx context.Context, l *lock.Lock, item lock.Item, name string) (string, bool, error) {
	out, err := h.ask(ctx, item.Place)
	if err != nil {
		return "", false, err
	}
	re, err := regexp.Compile(item.PlaceIs)
	if err != nil {
		return "", false, err
	}
	found := re.FindSubmatch(out)
	if len(found) < 2 || !filepath.IsAbs(string(found[1])) {
		line, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		return "", false, fmt.Errorf("%q says %q, which is no folder", item.Place, line)
	}
	folder := filepath.Clean(string(found[1]))
	real := folder
	if to, err := filepath.EvalSymlinks(folder); err == nil {
		real = to
	}
	for _, part := range h.p.PartsOfItem(name) {
		path := h.p.Store.Path(part)
		if part.Format == lock.RootFormat {
			if _, err := os.Lstat(filepath.Join(path, folder)); err == nil {
				return folder, true, nil
			}
		}
		if strings.HasPrefix(real+"/", path+"/") {
			return folder, true, nil
		}
	}
	return folder, false, nil
}

// said runs a command that answers in words.
func (h *here) said(ctx context.Context, spec process.Spec, name string) ([]byte, error) {
	asking, cancel := context.WithTimeout(ctx, answering)
	defer cancel()
	var said bytes.Buffer
	e, err := process.Read(asking, spec, process.Reading{Out: process.Text(&said, 64<<10)})
	switch {
	case ctx.Err() == nil && asking.Err() != nil:
		return nil, fmt.Errorf("%q did not end within %s", name, answering)
	case err != nil:
		return nil, err
	case !e.OK():
		return nil, fmt.Errorf("%q ended with %s", name, e)
	}
	return said.Bytes(), nil
}

// stated is the version that an answer states: the first group of the card's expression and, where there are
// more, these put together as one more number, as for a version that ends in a date.
func stated(item lock.Item, answer []byte) (string, error) {
	re, err := regexp.Compile(item.Match)
	if err != nil {
		return "", err
	}
	found := re.FindSubmatch(answer)
	if len(found) < 2 {
		line, _, _ := strings.Cut(strings.TrimSpace(string(answer)), "\n")
		return "", fmt.Errorf("%q says %q, which states no version", item.Answer, line)
	}
	version := string(found[1])
	if more := bytes.Join(found[2:], nil); len(more) > 0 {
		version += "." + string(more)
	}
	return version, nil
}

// answering is how long a tool may take to say its version.
const answering = 30 * time.Second

func (h *here) modules() []libraries.Modules { return h.s.Plan.Modules }
func (h *here) home() string                 { return h.s.Plan.Home(h.p.Declaration.Isolation) }

func (h *here) variables() []environ.Variable { return h.s.Plan.Environment.Variables }

// wantedValue is what a variable should have; false where only consent would show it.
func (h *here) wantedValue(v environ.Variable) (string, bool) {
	if !environ.Marked(v.Value) {
		return v.Value, true
	}
	if h.up == nil {
		return "", false
	}
	return h.up.Ready.Reveal(v.Value), true
}

func (h *here) living() map[string]string {
	out := map[string]string{}
	for _, line := range h.p.Host.Environ {
		name, value, _ := strings.Cut(line, "=")
		out[name] = value
	}
	return out
}

func (h *here) found(command, path string) (string, error) {
	return process.LookPath(command, []string{"PATH=" + path}, "/")
}

func (h *here) bin() (string, []string) {
	f := h.s.Plan.Frame
	var names []string
	for _, c := range f.Commands {
		names = append(names, c.Name)
	}
	return f.Bin(), names
}

// files says how the rendered files are. With consent each is rendered anew and compared, so that no record
// has to be believed.
func (h *here) files() ([]render.Status, error) {
	list, err := h.s.Files()
	if err != nil || h.up == nil {
		return list, err
	}
	in := render.Of(h.s.Plan)
	texts, err := render.Texts(in, h.up.Ready.Reveal)
	if err != nil {
		return nil, err
	}
	for i, f := range list {
		if f.State != render.OK {
			continue
		}
		raw, err := disk.ReadWithin(in.BayDir, filepath.Join("files", f.File.Path), disk.MostText)
		at := slices.IndexFunc(texts, func(t render.Text) bool { return t.Path == f.File.Path })
		if err != nil || at < 0 || string(raw) != texts[at].Text {
			list[i].State, list[i].Why = render.Drifted, "is not what its template gives"
		}
	}
	return list, nil
}

func (h *here) steps() ([]step.Status, error) { return h.s.Steps() }

func (h *here) evidence(ctx context.Context) ([]setup.Evidence, error) { return h.up.Evidence(ctx) }

func (h *here) left(s declare.Step) ([]string, bool) {
	m, ok := h.s.Marks().Read(s)
	return m.Evidence, ok
}

func (h *here) picture(ctx context.Context, a declare.Addon) ([]string, error) {
	return h.up.PictureAddon(ctx, a)
}

func (h *here) statuses(ctx context.Context) ([]service.Status, error) {
	return h.s.Services.Status(ctx)
}

func (h *here) wanted() (map[string]service.Spec, error) {
	out := map[string]service.Spec{}
	for _, x := range h.p.Declaration.Services {
		for copy := 1; copy <= x.Copies; copy++ {
			w, err := h.s.Wanted(x, copy)
			if err != nil {
				return nil, err
			}
			if !w.Probe.Empty() { // which a spec has with consent alone
				w.Spec.Ready.Command = []string{"probe"}
			}
			out[w.Name] = w.Spec
		}
	}
	return out, nil
}

func (h *here) cluster(ctx context.Context) (string, []Detail, error) {
	at, err := h.s.Afar()
	if at == nil || err != nil {
		return "", nil, err
	}
	where := at.Target.Context + "/" + at.Target.Namespace
	f, err := ship.Reach(h.s, *at)
	if err != nil {
		return where, nil, err
	}
	found, err := f.Holds(ctx, h.s)
	var out []Detail
	for _, d := range found {
		out = append(out, Detail{d.Thing, d.What})
	}
	return where, out, err
}

// top are the names in a folder, without what an interpreter keeps for itself.
func top(folder string) []string {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range entries {
		if e.Name() != "__pycache__" && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, e.Name())
		}
	}
	slices.Sort(out)
	return out
}
