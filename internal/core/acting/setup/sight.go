package setup

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/ref"
)

// Sight is a fitted checkout that is only looked at: it tells what is due and what should
// run. It writes nothing, starts nothing and reveals no secret, so it needs no consent.
type Sight struct {
	State    *checkout.State
	Plan     *environ.Plan
	Services *service.Client

	Looks *reading.Reader // notes what is looked at; nil: nothing is noted
}

// Look looks at a checkout whose parts are here.
func Look(s *checkout.State) (*Sight, error) {
	p, err := environ.Decide(s)
	if err != nil {
		return nil, err
	}
	return &Sight{State: s, Plan: p, Services: service.Connect(s.Bay, s.Host)}, nil
}

// Marks are the folders of marks of the steps here.
func (s *Sight) Marks() step.Marks {
	return step.MarksIn(s.State.Done(), s.State.Bay.Records)
}

// Files says how the rendered files are.
func (s *Sight) Files() ([]render.Status, error) { return render.Look(s.Looks, render.Of(s.Plan)) }

// Steps says which steps are due, and why.
func (s *Sight) Steps() ([]step.Status, error) {
	files, err := s.Files()
	if err != nil {
		return nil, err
	}
	digests := map[string]string{}
	for _, f := range files {
		digests[f.File.Path] = f.Digest()
	}
	s.Looks.File(cluster.RecordFile(s.State.Bay))
	list, err := step.Plan(s.Looks, s.State.Declaration, s.State.Lock, s.State.Parts, s.Plan.Environment, s.Marks(), digests)
	at, notTold := s.Afar()
	if at == nil || err != nil {
		return list, errors.Join(err, notTold)
	}
	for i, st := range list { // those of the bay are done in its cluster
		if st.Step.Per == "bay" {
			list[i].Due, list[i].Why = false, ""
		}
	}
	return list, nil
}

// Wanted is how a copy of a service should run: its spec, but for what only consent shows.
type Wanted struct {
	service.Spec
	Run, Probe declare.Run // with no references left
	Variables  []environ.Variable
}

// Wanted computes it. Spec.Build and Spec.Config tell whether what runs is that.
func (s *Sight) Wanted(x declare.Service, copy int) (w Wanted, err error) {
	look := s.Plan.LookupInside(x.Name, copy)
	d, b := s.State.Declaration, s.State.Bay
	if w.Variables, err = s.variables(x, copy); err != nil {
		return w, err
	}
	if w.Run, err = environ.Expand(x.Run, look); err != nil {
		return w, err
	}
	if w.Probe, err = environ.Expand(x.Ready.Command, look); err != nil {
		return w, err
	}
	w.Spec = service.Spec{
		Name: x.CopyName(copy), Service: x.Name, Dir: s.State.Dir(),
		Ports: map[string]int{}, Restart: x.Restart, Signal: x.Stop.Signal, Within: x.Stop.Within,
		Build: s.Plan.Build(), Web: webPort(x),
		Ready: service.Probe{
			Status: x.Ready.Status, Log: x.Ready.Log, Every: x.Ready.Every, Within: x.Ready.Within, Notify: x.Ready.Notify,
		},
	}
	s.network(x, copy, &w.Spec)
	if x.Ready.File != "" {
		if w.Ready.File, err = ref.Expand(x.Ready.File, look); err != nil {
			return w, err
		}
		if !filepath.IsAbs(w.Ready.File) {
			w.Ready.File = filepath.Join(s.State.Dir(), w.Ready.File)
		}
	}
	for name := range strings.FieldsSeq(x.Card["stale"]) {
		below, err := filepath.Rel(b.Dir, filepath.Join(environ.DataFolder(b, x, copy), name))
		if err != nil {
			return w, err
		}
		w.Stale = append(w.Stale, below)
	}
	w.Ready.TCP = w.Ports[x.Ready.TCP]
	if x.Ready.HTTP != "" {
		w.Ready.HTTP = fmt.Sprintf("http://127.0.0.1:%d%s", w.Ports[x.Ready.Port], x.Ready.HTTP)
	}
	for _, n := range x.Needs {
		if name, ok := strings.CutPrefix(n, "service."); ok {
			needed, _ := d.Service(name)
			for i := 1; i <= needed.Copies; i++ {
				w.Needs = append(w.Needs, needed.CopyName(i))
			}
		}
	}
	if w.Inputs, err = s.inputs(x); err != nil {
		return w, err
	}
	w.WhenChanged, w.Reads = x.WhenChanged, x.Reads
	decisive, err := s.decisive(x, w)
	if err != nil {
		return w, err
	}
	w.Config = w.Spec.Digest(w.Run.Meaning(), w.Probe.Meaning(), decisive)
	return w, nil
}

// variables are those that a service has besides the project's.
func (s *Sight) variables(x declare.Service, copy int) (out []environ.Variable, err error) {
	if x.Card != nil && (x.Run.Script != "" || x.Ready.Command.Script != "") {
		if out, err = s.Plan.SettingVariables(x, copy); err != nil {
			return nil, err
		}
	}
	look := s.Plan.LookupInside(x.Name, copy)
	for _, v := range x.Variables { // what it says itself comes last, and holds
		expanded, err := ref.Expand(v.Value, look)
		if err != nil {
			return nil, err
		}
		out = append(out, environ.Variable{Name: v.Name, Value: expanded, From: "service " + x.Name, Unset: v.Unset})
	}
	return out, nil
}

// network fills in where a copy of a service listens, and of a private network what it sees.
func (s *Sight) network(x declare.Service, copy int, w *service.Spec) {
	d := s.State.Declaration
	private := d.Network == declare.NetworkPrivate
	if private && len(x.Ports) > 0 {
		w.Outer = map[string]int{}
	}
	for _, p := range x.Ports {
		key := bay.PortKey(x.Name, copy, p.Name)
		w.Ports[p.Name] = s.Plan.PortsInside[key]
		if p.UDP {
			w.UDP = append(w.UDP, p.Name)
		}
		if private {
			w.Outer[p.Name] = s.Plan.Ports[key]
		}
	}
	if !private {
		return
	}
	w.Network, w.Reach, w.Named = x.Ground(), d.Reach, d.Named
	for _, y := range d.Services {
		if g := y.Ground(); g != w.Network && x.Sees(y) && !slices.Contains(w.Beside, g) {
			w.Beside = append(w.Beside, g)
		}
	}
}

// mostInputs is how many files a service may read until they are told by their folders.
const mostInputs = 2000

// inputs are what a service goes by while it runs: the files that it reads, and the steps
// that it needs as they were done last.
func (s *Sight) inputs(x declare.Service) (map[string]string, error) {
	out := map[string]string{}
	if len(x.Reads) > 0 {
		files, err := step.Reads(s.Looks, s.State.Dir(), x.Reads, x.Ignore, s.Marks())
		if err != nil {
			return nil, err
		}
		if len(files) <= mostInputs {
			maps.Copy(out, files)
		} else {
			folders := map[string]canon.Map{}
			for name, digest := range files {
				folder, _, _ := strings.Cut(name, "/")
				if folders[folder] == nil {
					folders[folder] = canon.Map{}
				}
				folders[folder][name] = digest
			}
			for folder, all := range folders {
				out[folder] = canon.Digest(all)
			}
		}
	}
	for _, name := range s.behind(x.Needs) {
		y, _ := s.State.Declaration.Step(name)
		mark, _ := s.Marks().Read(y)
		done := canon.Map{"inputs": map[string]string(mark.Inputs)}
		if y.When != step.AtEachFit { // which would be another one each time
			done["at"] = mark.At.Format(time.RFC3339Nano)
		}
		out["step "+name] = canon.Digest(done)
	}
	return out, nil
}

// behind are the steps among needs, and those behind a step that is done once in a bay's life: when they are done again,
// it is not.
func (s *Sight) behind(needs []string) (out []string) {
	for _, n := range needs {
		name, ok := strings.CutPrefix(n, "step.")
		if !ok || slices.Contains(out, name) {
			continue
		}
		out = append(out, name)
		if y, _ := s.State.Declaration.Step(name); y.When == step.AtFirst {
			for _, z := range s.behind(y.Needs) {
				if !slices.Contains(out, z) {
					out = append(out, z)
				}
			}
		}
	}
	return out
}

// decisive is what besides its spec decides how a service behaves.
func (s *Sight) decisive(x declare.Service, w Wanted) ([]string, error) {
	var out []string
	e := s.Plan.Inside.With(w.Variables)
	for _, v := range e.Variables {
		if v.Name != "TRAMMEL_ENVIRONMENT" { // which another service's change changes
			out = append(out, v.Name+"="+v.Value)
		}
	}
	if slices.ContainsFunc(x.Needs, func(n string) bool { return strings.HasPrefix(n, "file.") }) {
		files, err := s.Files()
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			if slices.Contains(x.Needs, "file."+f.File.Path) {
				out = append(out, "file "+f.Digest())
			}
		}
	}
	return append(out, string(e.Isolation), strings.Join(e.Path, string(filepath.ListSeparator))), nil
}

// webPort is the port of a service that a browser can be sent to: the one that an HTTP
// probe asks, or one of that name.
func webPort(x declare.Service) string {
	if x.Ready.HTTP != "" {
		return x.Ready.Port
	}
	for _, p := range x.Ports {
		if p.Name == "http" || p.Name == "web" {
			return p.Name
		}
	}
	return ""
}
