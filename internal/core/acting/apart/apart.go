// Package apart decides how an environment is where every service has a machine of its own: in
// an image. It writes nothing.
package apart

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/inside"
	"app.example/trammel/internal/core/written/declare"
)

// Environment is one as it is in an image: what its launcher goes by, the links of its
// frame, and what every path of this machine becomes there.
type Environment struct {
	Sight *setup.Sight // whose plan has every service on a machine of its own
	Plan  inside.Plan
	Links map[string]string // of the frame: path below inside.Frame → target
	Keeps map[string]bool   // services that keep something in the bay's folder

	moves moves
	raw   map[string]map[string]string // service, or "" for all → variable that may be given → value
}

// Moved is a text with every path of this machine in it as it is in the image.
func (a *Environment) Moved(text string) string { return a.moves.of(text) }

// moves are paths of this machine with what they are in an image, the longest first.
type moves [][2]string

// of is a text with every path in it moved. A path counts where it ends at something that no
// longer name could go on with.
func (m moves) of(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); {
		moved := false
		for _, x := range m {
			rest, ok := strings.CutPrefix(text[i:], x[0])
			if !ok || rest != "" && wordly(rest[0]) || i > 0 && (wordly(text[i-1]) || text[i-1] == '/') {
				continue
			}
			to := x[1]
			if to == "/" && strings.HasPrefix(rest, "/") {
				to = ""
			}
			out.WriteString(to)
			i, moved = i+len(x[0]), true
			break
		}
		if !moved {
			out.WriteByte(text[i])
			i++
		}
	}
	return out.String()
}

func wordly(c byte) bool {
	return c == '.' || c == '-' || c == '_' || c == '+' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c >= 0x80
}

// Of makes it of a checkout that is looked at. hosts are the names of the services' copies
// where they run; nil is for an image alone, where all are reached on loopback.
func Of(s *setup.Sight, hosts environ.Hosts) (*Environment, error) {
	d := s.State.Declaration
	base, _ := d.Base()
	for name := range s.Plan.Frame.Roots {
		if name != base.Name {
			return nil, fault.New(fault.ErrUsage, "an image holds one root, and this project has %s beside %s", name, base.Name).
				Advise("Have all tools from one archive, or leave %s out of what the image is made of.", name)
		}
	}
	if d.Isolation == declare.Sealed || len(s.Plan.Frame.Roots) > 0 {
		// In an image there is no other isolation than the container's own: the root is all that shows.
		sealed := *d
		sealed.Isolation = declare.Sealed
		state := *s.State
		state.Declaration = &sealed
		d = &sealed
		plan := *s.Plan
		plan.State = &state
		s = &setup.Sight{State: &state, Plan: &plan, Services: s.Services}
	}
	plan, err := s.Plan.Apart(hosts, portsApart(d))
	if err != nil {
		return nil, err
	}
	s = &setup.Sight{State: s.State, Plan: plan, Services: s.Services}
	a := &Environment{Sight: s, Links: map[string]string{}, Keeps: map[string]bool{}}
	m := movesOf(s)
	a.moves = m
	for path, target := range plan.Frame.Links() {
		if !strings.HasPrefix(path, "roots/") && !strings.HasPrefix(path, "inside") {
			a.Links[path] = m.of(target)
		}
	}
	p, err := a.plan(s)
	if err != nil {
		return nil, err
	}
	// Paths stand in scripts, arguments and variables alike: they are moved in the whole text.
	raw, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	return a, json.Unmarshal([]byte(m.of(string(raw))), &a.Plan)
}

// movesOf are the folders of this machine that have another place in an image.
func movesOf(s *setup.Sight) moves {
	st := s.State
	m := moves{
		{s.Plan.Frame.Dir, inside.Frame}, {st.Places.Store(), inside.Store}, {st.Bay.Dir, inside.Bay},
		{filepath.Join(s.Plan.Homes, string(declare.Sealed)), inside.Home}, {s.Plan.Homes, inside.Home}, {st.Dir(), inside.Project(st.Declaration.Project)},
		{st.Places.Cache, inside.Cache}, {s.Plan.Frame.Program, inside.Program},
	}
	for _, tree := range s.Plan.Frame.Roots {
		m = append(m, [2]string{tree, "/"})
	}
	m = slices.DeleteFunc(m, func(x [2]string) bool { return x[0] == "" })
	slices.SortStableFunc(m, func(a, b [2]string) int { return len(b[0]) - len(a[0]) })
	return m
}

// portsApart are the numbers of ports where every service has a machine of its own: the wanted
// ones, for each copy, and one that is the same everywhere where none is wanted.
func portsApart(d *declare.Declaration) bay.Ports {
	out := bay.Ports{}
	for i, s := range d.Services {
		for k, p := range s.Ports {
			n := p.Wanted
			if n == 0 {
				n = 18000 + 10*i + k
			}
			for copy := 1; copy <= s.Copies; copy++ {
				out[bay.PortKey(s.Name, copy, p.Name)] = n
			}
		}
	}
	return out
}

func (a *Environment) plan(s *setup.Sight) (*inside.Plan, error) {
	d, lk := s.State.Declaration, s.State.Lock
	p := &inside.Plan{
		Format: inside.Format, Project: d.Project, Environment: string(s.Plan.ID()), Lock: string(lk.ID()), Dir: d.Dir,
		Path:     append(inImage(s.Plan).Path(d.Isolation), s.Plan.Folders.Behind(d.Isolation)...),
		Services: map[string]inside.Service{}, Steps: map[string]inside.Step{}, Routines: map[string]declare.Run{},
	}
	texts := map[string]string{}
	for _, v := range d.Variables {
		texts[v.Name] = v.Value
	}
	p.Variables = given(s.Plan.Environment.Variables, texts)
	a.keepRaw("", s.Plan.Environment.Variables, givenAmong(p.Variables))
	look := s.Plan.Lookup("", 0)
	for _, x := range d.Steps {
		run, err := environ.Expand(x.Run, look)
		if err == nil {
			err = noSecret("step "+x.Name, run)
		}
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "step %s: %v", x.Name, err)
		}
		p.Steps[x.Name] = inside.Step{Run: run, Steps: stepsOf(s, append(slices.Clone(x.Needs), x.After...)), Waits: waitsOf(s, x.Needs)}
	}
	for _, x := range d.Routines {
		if x.Of != "" {
			continue // a service's own client is for people
		}
		run, err := environ.Expand(x.Run, look)
		if err == nil {
			err = noSecret("routine "+x.Name, run)
		}
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "routine %s: %v", x.Name, err)
		}
		p.Routines[x.Name] = run
	}
	for _, x := range d.Services {
		one, err := a.service(s, x)
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "service %s: %v", x.Name, err)
		}
		raw, err := json.Marshal(one)
		if err != nil {
			return nil, err
		}
		a.Keeps[x.Name] = strings.Contains(string(raw), s.State.Bay.Dir)
		if !strings.Contains(string(raw), one.Data) || x.Card == nil {
			one.Data = ""
		}
		p.Services[x.Name] = one
	}
	return p, nil
}

func (a *Environment) service(s *setup.Sight, x declare.Service) (one inside.Service, err error) {
	w, err := s.Wanted(x, 1)
	if err != nil {
		return one, err
	}
	if err := noSecret("its command", w.Run); err != nil {
		return one, err
	}
	texts := map[string]string{}
	for _, v := range x.Variables {
		texts[v.Name] = v.Value
	}
	for name, value := range x.Settings {
		texts["SETTING_"+strings.ToUpper(name)] = value
	}
	one = inside.Service{
		Run: w.Run, Variables: given(w.Variables, texts), Steps: stepsOf(s, x.Needs), Waits: waitsOf(s, x.Needs), Ports: w.Ports, Stale: w.Stale,
		Signal: x.Stop.Signal, Within: x.Stop.Within,
		Ready: inside.Probe{
			TCP: w.Ready.TCP, HTTP: x.Ready.HTTP, Port: w.Ports[x.Ready.Port], Status: x.Ready.Status, Command: w.Probe, Log: x.Ready.Log,
			File: w.Ready.File, Notify: x.Ready.Notify, Within: x.Ready.Within,
		},
	}
	a.keepRaw(x.Name, w.Variables, givenAmong(one.Variables))
	one.Commands = s.Plan.CommandsOf(x.Tool, s.State.Declaration.Isolation)
	if x.Card == nil {
		return one, nil
	}
	one.Data = environ.DataFolder(s.State.Bay, x, 1)
	made, stated := environ.MadeUp(s.State.Declaration, s.State.Bay)
	for _, secret := range made {
		if strings.HasPrefix(secret.Name, x.Name+".") {
			one.MadeUp = append(one.MadeUp, strings.TrimPrefix(secret.From, "file:"))
		}
	}
	for file := range stated {
		if strings.HasPrefix(filepath.Base(file), x.Name+"-") {
			one.MadeUp = append(one.MadeUp, file)
		}
	}
	slices.Sort(one.MadeUp)
	for key, to := range map[string]*string{"once": &one.Once, "settle": &one.Settle} {
		run, err := environ.Expand(declare.Run{Script: x.Card[key]}, s.Plan.Lookup(x.Name, 1))
		if err == nil {
			err = noSecret("its card", run)
		}
		if err != nil {
			return one, err
		}
		*to = run.Script
	}
	// The scripts of a card have its settings as variables, whether what it runs is one or not.
	settings, err := s.Plan.SettingVariables(x, 1)
	for _, v := range given(settings, texts) {
		if !slices.ContainsFunc(one.Variables, func(y inside.Variable) bool { return y.Name == v.Name }) {
			one.Variables = append(one.Variables, v)
		}
	}
	a.keepRaw(x.Name, settings, givenAmong(one.Variables))
	return one, err
}

// given are variables as an image has them. texts are their values as they are declared: what
// refers to something that depends on where the image runs may be given another value there.
func given(list []environ.Variable, texts map[string]string) []inside.Variable {
	var out []inside.Variable
	for _, v := range list {
		if v.Unset {
			continue
		}
		x := inside.Variable{Name: v.Name, Value: v.Value}
		for _, what := range []string{"@{service.", "@{secret.", "@{param."} {
			x.Given = x.Given || strings.Contains(texts[v.Name], what)
		}
		if environ.Marked(v.Value) {
			x.Value, x.Given, x.Needs = "", true, true
		}
		out = append(out, x)
	}
	return out
}

func givenAmong(list []inside.Variable) func(string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(list, func(v inside.Variable) bool { return v.Name == name && v.Given })
	}
}

func noSecret(what string, run declare.Run) error {
	for _, text := range append(slices.Clone(run.Argv), run.Script) {
		if environ.Marked(text) {
			return fmt.Errorf("%s has a secret in it, and what an image holds is for all to read; have it in a variable", what)
		}
	}
	return nil
}

// stepsOf are the steps of the checkout's folder among what something needs, in the order in which
// they are done: each container has a folder of its own. Those of a bay are done once for all.
func stepsOf(s *setup.Sight, needs []string) []string {
	var out []string
	var add func(needs []string)
	add = func(needs []string) {
		for _, n := range needs {
			name, ok := strings.CutPrefix(n, "step.")
			x, known := s.State.Declaration.Step(name)
			if !ok || !known || x.Per == "bay" || slices.Contains(out, name) {
				continue
			}
			add(append(slices.Clone(x.Needs), x.After...))
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	add(needs)
	return out
}

// waitsOf are the addresses of the services among what something needs.
func waitsOf(s *setup.Sight, needs []string) []string {
	var out []string
	for _, n := range needs {
		name, _ := strings.CutPrefix(n, "service.")
		x, ok := s.State.Declaration.Service(name)
		if ok && len(x.Ports) > 0 {
			if address, err := s.Plan.Lookup("", 0)("service." + name + ".address"); err == nil && strings.Contains(address, ":") && !environ.Marked(address) {
				out = append(out, address)
			}
		}
	}
	return out
}

// inImage are the folders of a plan as an image has them, which shows no frame in a place of its own.
func inImage(p *environ.Plan) environ.Folders {
	f := p.Folders
	if base, ok := p.State.Declaration.Base(); ok {
		f.Inside = p.Frame.In(base.Name)
	}
	return f
}
