package environ

import (
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/written/declare"
)

// Ready is an environment that processes may be started in: a person consented to it. It
// is made of a Plan by consent, or read back as a Compiled that was made so.
type Ready struct {
	Environment
	Host  host.Host
	vault *vault
}

// Ready makes what processes are started with, of a plan whose State was consented to.
func (p *Plan) Ready(g approval.Given) (*Ready, error) { return p.ready(g, p.Environment) }

// ReadyInside is Ready for services.
func (p *Plan) ReadyInside(g approval.Given) (*Ready, error) { return p.ready(g, p.Inside) }

func (p *Plan) ready(g approval.Given, e Environment) (_ *Ready, err error) {
	if !g.For(p.State).Holds() {
		return nil, errOther
	}
	if e.Secrets, err = pinned(g.For(p.State), e.Secrets); err != nil {
		return nil, err
	}
	e.View = fixing(e.View, g.For(p.State))
	return &Ready{e, p.State.Host, &vault{host: p.State.Host}}, nil
}

// fixing is a view in which what decides on the host cannot be written.
func fixing(v *sandbox.View, g approval.Given) *sandbox.View {
	if v == nil {
		return nil
	}
	out := *v
	fixed, within := g.Fixed()
	out.Read, out.Write = slices.Concat(v.Read, fixed), slices.Concat(v.Write, within)
	return &out
}

// errOther is consent that is not to the State at hand.
var errOther error = fault.New(fault.ErrNotApproved, "this approval is for a different list").Advise("Read it and decide: trammel approve")

// pinned are secrets whose commands start from copies of the files that were consented to: nobody
// asks for them by name, and they are run at every turn.
func pinned(g approval.Given, secrets []Secret) ([]Secret, error) {
	out := slices.Clone(secrets)
	for i, s := range out {
		script, command := strings.CutPrefix(s.From, "command:")
		if !command {
			continue
		}
		run, err := g.Pinned(declare.Run{Script: script})
		if err != nil {
			return nil, err
		}
		out[i].From = "command:" + run.Script
	}
	return out, nil
}

// With is a copy with more variables, for a service.
func (r *Ready) With(more []Variable) *Ready {
	out := *r
	out.Environment = r.Environment.With(more)
	return &out
}

// Using is a copy whose PATH begins with a folder; "" changes nothing.
func (r *Ready) Using(folder string) *Ready {
	if folder == "" {
		return r
	}
	out := *r
	out.Path = append([]string{folder}, r.Path...)
	return &out
}

// CommandsOf is the folder of the commands of a toolchain by their own names, for a service
// that runs on it; "" where they show by those.
func (p *Plan) CommandsOf(tool string, level declare.Isolation) string {
	base, ok := p.State.Declaration.Base()
	return p.Frame.Of(tool, ok && level == declare.Sealed && p.State.Lock.Items[tool].Source == base.Name)
}

// With is a copy with more variables.
func (e Environment) With(more []Variable) Environment {
	e.Variables = slices.Clone(e.Variables)
	for _, v := range more {
		if v.Unset {
			e.unset(v.Name)
			continue
		}
		e.set(v.Name, v.Value, v.From)
	}
	return e
}

// Reveal puts secrets into a value that is about to be given to a process.
func (r *Ready) Reveal(value string) string { return r.vault.reveal(r.Secrets, value) }

// Masks are the values to mask in what processes of this environment print.
func (r *Ready) Masks() []string { return r.vault.masks(r.Secrets) }

// Missing is the first secret that is used and cannot be had.
func (r *Ready) Missing() error {
	for _, s := range r.Secrets {
		for _, v := range r.Variables {
			if strings.Contains(v.Value, mark(s.Name)) {
				if _, err := r.vault.read(s); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Sees is what a command sees in sealed isolation: the view, and the files of certificates
// that the host's variables name.
func (r *Ready) Sees() sandbox.View {
	v := *r.View
	for _, line := range r.Host.Environ {
		if name, value, _ := strings.Cut(line, "="); slices.Contains(certificateNames, name) && showable(value) {
			v.Read = append(slices.Clone(v.Read), value)
		}
	}
	return v
}

// Environ is the whole environment of a process in folder dir: what may stay of the
// host's, sorted, then what is set, in its order, then PWD and PATH.
func (r *Ready) Environ(dir string) []string {
	var set []string
	for _, v := range r.Variables {
		set = append(set, v.Name+"="+r.Reveal(v.Value))
	}
	return r.surroundings(set).Environ(r.Host.Environ, dir, showable)
}
