package environ

import (
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Plan is what follows from a State whose parts are all on this machine. It is complete
// and never changes.
type Plan struct {
	State       *checkout.State
	Environment Environment // of shells, steps and routines
	Inside      Environment // of services
	Ports       bay.Ports   // as this machine reaches them
	PortsInside bay.Ports   // as services reach each other
	Recorded    bool        // the numbers of ports are all recorded, and not only wanted
	Frame       frame.Frame
	Links       HostLinks // the host commands that show in clean isolation

	Modules []libraries.Modules // the node_modules that the checkout shows

	Rests rests.On // what it was decided from, the reading of the checkout too

	Folders
	shown *sandbox.View
	hosts Hosts

	id   lock.EnvironmentID
	idOf *lock.Lock // the lock whose id it is
}

// Decide makes the plan of a checkout. An error for which checkout.ErrNotFitted holds
// means that parts are not here yet. It writes nothing, starts nothing and asks nobody.
func Decide(s *checkout.State) (*Plan, error) {
	if s.LocalErr != nil {
		return nil, s.LocalErr
	}
	if err := s.Missing(); err != nil {
		return nil, err
	}
	r := reading.New(s.Host)
	f, err := frame.Of(r, s.Places.Frames(), s.Store, s.AllParts())
	if err != nil {
		return nil, err
	}
	if len(f.Roots) > 0 {
		f.Program = s.Places.Program(s.Host.Program)
	}
	own := bay.CheckoutID(s.Dir())
	p := &Plan{State: s, Frame: f, Folders: Folders{Frame: f.Bin(), Homes: filepath.Join(s.Places.Homes(), own), Caches: filepath.Join(s.Places.Tools(), own), Languages: languages(s)}}
	p.Modules = modules(s)
	p.shown, p.Folders.Inside = p.view()
	var looks *reading.Reader // what the host has decides in clean isolation alone
	if s.Declaration.Isolation == declare.Clean {
		looks = r
	}
	p.Links = LinksOf(looks, s.Places.HostLinks(), s.HostCommands(), r.Getenv("PATH"), s.Host.Program)
	p.Folders.HostLinks = p.Links.Dir
	p.Rests = s.Rests.Join(r.On())
	return p.withPorts(s.Ports)
}

// languages names the homes of languages: what their installers put aside is of the very
// toolchains and add-ons that it was put there for, and no other environment sees it.
func languages(s *checkout.State) string {
	facts := canon.Map{}
	for _, l := range []*lock.Lock{s.Lock, s.OverlayLock} {
		if l == nil {
			continue
		}
		for name, item := range l.Items {
			for _, value := range item.Variables {
				if strings.Contains(value, "@{home}") {
					facts["toolchain "+name] = item.Version + " " + item.Source
				}
			}
		}
		for name, digest := range l.Addons {
			facts["add-on "+name] = digest
		}
	}
	return "of-" + strings.TrimPrefix(canon.Digest(facts), "sha256:")[:8]
}

// modules are the node_modules folders of the lock's sets.
func modules(s *checkout.State) []libraries.Modules {
	var out []libraries.Modules
	for _, part := range s.Store.Complete(s.Lock.SetsOn(s.Platform)) {
		x := s.Lock.Libraries[part.Item]
		if x.Kind != lock.Node {
			continue
		}
		var places []string
		for _, l := range (lock.Set{Packages: part.Packages}).List() {
			places = append(places, l.Place)
		}
		declared, _ := s.Declaration.Library(part.Item)
		out = append(out, libraries.ModulesOf(s.Dir(), x.Folder, s.Store.Path(part), places, declared.Node.Own)...)
	}
	return out
}

// Hosts are the names at which the copies of a service are reached where each runs by itself,
// and not on one machine: that of all of them for copy 0.
type Hosts func(service string, copy int) string

// Apart is the plan of the same checkout where every service has a machine of its own, so that
// all have the numbers of ports that they want.
func (p *Plan) Apart(hosts Hosts, ports bay.Ports) (*Plan, error) {
	out := *p
	out.hosts, out.Ports, out.PortsInside = hosts, ports, ports
	var err error
	if out.Environment, err = out.compute(ports); err != nil {
		return nil, fault.New(fault.ErrUsage, "%v", err)
	}
	out.Inside = out.Environment
	return &out, nil
}

// WithState is the plan of a State that differs in nothing but the numbers of ports and
// what is recorded.
func (p *Plan) WithState(s *checkout.State) (*Plan, error) {
	out := *p
	out.State = s
	return out.withPorts(s.Ports)
}

func (p *Plan) withPorts(ports bay.Ports) (_ *Plan, err error) {
	d := p.State.Declaration
	if p.idOf != p.State.Lock { // a State does not change, and its lock is the same in those derived from it
		p.id, p.idOf = p.State.Lock.EnvironmentID(p.State.Platform), p.State.Lock
	}
	p.Ports, p.Recorded = ports.Expected(d)
	p.PortsInside = p.Ports
	if d.Network == declare.NetworkPrivate {
		p.PortsInside, _ = bay.Ports{}.Expected(d)
	}
	if p.Environment, err = p.compute(p.Ports); err != nil {
		return nil, fault.New(fault.ErrUsage, "%v", err)
	}
	p.Inside = p.Environment
	if d.Network == declare.NetworkPrivate {
		if p.Inside, err = p.compute(p.PortsInside); err != nil {
			return nil, fault.New(fault.ErrUsage, "%v", err)
		}
	}
	return p, nil
}

// view is what sealed isolation shows: the base root, the checkout, what the bay's
// programs may see, the approved copies of its files, the tools' caches, and of Trammel's own folders that of the tools.
// What the next command goes by is read-only or not there: .trammel but for the homes of
// tools, the bay's made-up secrets, and where they lie in the checkout, Trammel's own
// folders. It is nil where the lock has no base root.
func (p *Plan) view() (v *sandbox.View, inside string) {
	s := p.State
	base, ok := s.Declaration.Base()
	if !ok || p.Frame.Roots[base.Name] == "" {
		return nil, ""
	}
	v = &sandbox.View{
		Root: p.Frame.Roots[base.Name], Closed: true, Work: s.Dir(), Self: p.Frame.Program,
		Read:  []string{s.Places.Data, checkout.Local(s.Dir()), filepath.Join(s.Bay.Dir, "secrets"), approval.CopiesOf(s.Places, s.Dir())},
		Write: []string{s.Dir(), s.Bay.Dir, p.Cache(declare.Sealed), filepath.Join(p.Homes, string(declare.Sealed))},
	}
	if s.Declaration.Named {
		v.Read = append(v.Read, s.Bay.Door())
	}
	for _, own := range []string{s.Places.State, s.Places.Config, s.Places.Cache} {
		if strings.HasPrefix(own, s.Dir()+string(filepath.Separator)) {
			v.Hide = append(v.Hide, own)
		}
	}
	v.Frame = p.Frame.Dir
	return v, filepath.Join(sandbox.FrameAt, frame.Beside(base.Name))
}

// ID is the environment id on this platform.
func (p *Plan) ID() lock.EnvironmentID { return p.id }

// Build is what services run: the tools of the frame, the root that is seen and the sets of
// libraries. The
// environment id says more than that, and would start all anew when one changed.
func (p *Plan) Build() string {
	root := ""
	if p.Environment.View != nil {
		root = p.Environment.View.Root
	}
	facts := canon.List{p.Folders.Frame, root}
	for _, set := range p.State.Store.Complete(p.State.Lock.SetsOn(p.State.Platform)) {
		facts = append(facts, string(set.Tree))
	}
	return canon.Digest(facts)
}

// compute makes an environment with the numbers that ports have for who is in it.
func (p *Plan) compute(ports bay.Ports) (Environment, error) {
	s := p.State
	d := s.Declaration
	e := Environment{Isolation: d.Isolation, Path: p.Folders.Path(d.Isolation), Behind: p.Folders.Behind(d.Isolation), View: p.shown, Home: filepath.Join(p.Homes, string(declare.Sealed))}
	for _, x := range d.Secrets {
		e.Secrets = append(e.Secrets, Secret{x.Name, x.From, s.Dir()})
	}
	made, _ := MadeUp(d, s.Bay)
	e.Secrets = append(e.Secrets, made...)
	if err := e.add(p, ports, s.Lock, d, "declaration"); err != nil {
		return e, err
	}
	if s.Overlay != nil {
		if err := e.add(p, ports, s.OverlayLock, s.Overlay, "local"); err != nil {
			return e, err
		}
	}
	e.set("TRAMMEL_PROJECT", d.Project, "trammel")
	e.set("TRAMMEL_DIR", s.Dir(), "trammel")
	e.set("TRAMMEL_BAY", s.Bay.Name, "trammel")
	e.set("TRAMMEL_ENVIRONMENT", string(p.ID()), "trammel")
	return e, nil
}
