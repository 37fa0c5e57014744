package apart

import (
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/step"
)

// Rendered are the files of the project as they are where the services of a run.
func (a *Environment) Rendered(s *setup.Setup) ([]cluster.File, error) {
	var out []cluster.File
	files, err := render.Texts(render.Of(a.Sight.Plan), func(text string) string { return s.Ready.Reveal(text) })
	for _, f := range files {
		out = append(out, cluster.File{Path: f.Path, Text: a.Moved(f.Text), Secret: f.Secret})
	}
	return out, err
}

// Digests say of each of the bay's own steps what it is made of.
func (a *Environment) Digests() (map[string]string, error) {
	s := a.Sight
	statuses, err := step.Plan(nil, s.State.Declaration, s.State.Lock, s.State.Parts, s.Plan.Environment, step.Marks{}, nil)
	out := map[string]string{}
	for _, st := range statuses {
		out[st.Step.Name] = st.Digest()
	}
	return out, err
}

// Values are the variables of a service, or "" those of all, that depend on where it runs: with
// and without a secret in them.
func (a *Environment) Values(service string, reveal func(string) string) (plain, hidden map[string]string) {
	plain, hidden = map[string]string{}, map[string]string{}
	add := func(name string) {
		for key, value := range a.raw[name] {
			if environ.Marked(value) {
				hidden[key] = a.Moved(reveal(value))
				delete(plain, key)
			} else {
				plain[key] = a.Moved(value)
				delete(hidden, key)
			}
		}
	}
	add("")
	if service != "" {
		add(service)
	}
	return plain, hidden
}

// Lacks is the first secret that a service, or "" everything, uses and that cannot be had here.
func (a *Environment) Lacks(s *setup.Setup, service string) error {
	var list []environ.Variable
	for name, value := range a.raw[service] {
		list = append(list, environ.Variable{Name: name, Value: value})
	}
	return s.Ready.With(list).Missing()
}

// keepRaw keeps the values of those variables that may be given where something runs.
func (a *Environment) keepRaw(service string, list []environ.Variable, given func(name string) bool) {
	if a.raw == nil {
		a.raw = map[string]map[string]string{}
	}
	if a.raw[service] == nil {
		a.raw[service] = map[string]string{}
	}
	for _, v := range list {
		if given(v.Name) || environ.Marked(v.Value) {
			a.raw[service][v.Name] = v.Value
		}
	}
}
