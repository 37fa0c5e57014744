package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
)

// StartOrder says what to start, and how.
type StartOrder struct {
	Names    []string // empty: all that start by themselves, and those that ran when nobody had stopped them
	Again    []string // those that are started anew though they run
	Declared bool     // ports go back to the numbers that the declaration wants
}

// Started is what a start did.
type Started struct {
	Statuses []service.Status
	Setup    *Setup   // that knows the numbers of ports that had to move
	Ran      []string // steps
	Added    []string // to add-ons
	Rendered []string // files
	Learnt   bool     // what steps and add-ons left behind is in the lock now
}

// Start brings up services and all they need, in order, and returns when each is
// ready. With no names it does all that is due: files, add-ons, steps, and services that start by themselves
// or that ran when nobody had stopped them. Those in again are started anew though they run. On
// Ctrl-C what this call started is stopped again.
func (s *Setup) Start(ctx context.Context, o StartOrder) (out Started, err error) {
	out.Setup = s
	var wanted []string
	before, err := s.Services.Status(ctx)
	if err != nil {
		return out, err
	}
	ran := service.Wanted(s.State.Bay)
	names := append(slices.Clone(o.Names), o.Again...)
	all := len(names) == 0
	for _, x := range s.State.Declaration.Services {
		if slices.Contains(names, x.Name) || all && (x.Auto || slices.Contains(ran, x.Name)) {
			wanted = append(wanted, "service."+x.Name)
		}
	}
	for _, name := range names {
		if _, ok := s.State.Declaration.Service(name); !ok {
			return out, fault.New(fault.ErrUsage, "no service is named %q", name).
				Advise("%s", fault.DidYouMean(name, declare.Names(s.State.Declaration.Services)))
		}
	}
	if o.Declared { // what runs and needs one whose number changes is started anew with it
		for _, x := range s.State.Declaration.Services {
			node := "service." + x.Name
			g := s.closure([]string{node})
			if !slices.Contains(wanted, node) && running(before, x.Name) && slices.ContainsFunc(wanted, func(w string) bool { _, ok := g[w]; return ok }) {
				wanted = append(wanted, node)
			}
		}
	}
	done, err := s.bring(ctx, order{nodes: wanted, services: o.Again, declared: o.Declared, all: all})
	if ctx.Err() != nil {
		err = errors.Join(err, s.stopExtra(ctx, wanted, before))
	}
	if err == nil {
		err = s.failedMeanwhile(done.after, wanted)
	}
	out.Statuses, out.Setup, out.Ran, out.Rendered = done.after, done.setup, done.ran, done.rendered
	pictures := map[string][]string{}
	for _, a := range done.addons {
		pictures[a.Name] = a.Picture
		for _, item := range a.Added {
			out.Added = append(out.Added, a.Name+" "+item)
		}
	}
	if err == nil && all && ctx.Err() == nil {
		// What only a step needed is not kept running.
		if err = s.stopExtra(ctx, s.stepsOnly(done.ran), append(before, s.of(done.after, wanted)...)); err == nil {
			out.Learnt, err = out.Setup.Learn(ctx, pictures)
		}
		if after, statusErr := s.Services.Status(ctx); statusErr == nil {
			out.Statuses = after
		}
	}
	return out, err
}

// stepsOnly are the nodes of steps.
func (s *Setup) stepsOnly(names []string) (nodes []string) {
	for _, name := range names {
		nodes = append(nodes, "step."+name)
	}
	return nodes
}

// of are the states of the services that nodes are, and of those that they need.
func (s *Setup) of(list []service.Status, nodes []string) (out []service.Status) {
	g := s.closure(nodes)
	for _, st := range list {
		if _, ours := g["service."+st.Service]; ours {
			out = append(out, st)
		}
	}
	return out
}

// failedMeanwhile is an error when a service that was brought up does not run any more: each
// was ready when its turn was, and others took their time after it.
func (s *Setup) failedMeanwhile(after []service.Status, nodes []string) error {
	g := s.closure(nodes)
	var failed []service.Status
	for _, st := range after {
		if _, ours := g["service."+st.Service]; ours && st.State == service.Failed {
			failed = append(failed, st)
		}
	}
	if len(failed) == 0 {
		return nil
	}
	err := s.notReady(failed[0])
	for _, st := range failed[1:] {
		err = errors.Join(err, s.notReady(st))
	}
	return err
}

// startService starts all copies of a service at once. lost are the keys of ports that
// strangers took.
func (s *Setup) startService(ctx context.Context, x declare.Service, before []service.Status, again bool) (lost []string, err error) {
	if err := s.first(ctx, x); err != nil {
		return nil, err
	}
	specs, err := s.Specs(x)
	if err != nil {
		return nil, err
	}
	if err := s.stopOthers(ctx, x, before, specs); err != nil {
		return nil, err
	}
	var mu sync.Mutex
	g := Graph{}
	byName := map[string]service.Spec{}
	for _, spec := range specs {
		g[spec.Name], byName[spec.Name] = nil, spec
	}
	err = g.Walk(ctx, func(ctx context.Context, name string) error {
		spec := byName[name]
		spec.Again = again
		done := func(string, error) {}
		if !runsSo(before, spec) { // else there is nothing to tell
			done = event.Task(ctx, "service "+name)
		}
		status, err := s.Services.Start(ctx, s.Given, spec)
		if status.Taken != "" {
			mu.Lock()
			lost = append(lost, bay.PortKey(x.Name, slices.IndexFunc(specs, func(y service.Spec) bool { return y.Name == name })+1, status.Taken))
			mu.Unlock()
		}
		if err == nil && status.State != service.Ready && status.State != service.Done {
			err = s.notReady(status)
		}
		done(describe(status), err)
		if err == nil {
			err = s.settle(ctx, x, slices.IndexFunc(specs, func(y service.Spec) bool { return y.Name == name })+1)
		}
		return err
	})
	return lost, err
}

// stopOthers stops copies of a service that are not declared any more: with another
// count of copies they have other names.
func (s *Setup) stopOthers(ctx context.Context, x declare.Service, before []service.Status, specs []service.Spec) error {
	var others []string
	for _, st := range before {
		if st.Service == x.Name && st.Running() && !slices.ContainsFunc(specs, func(spec service.Spec) bool { return spec.Name == st.Name }) {
			others = append(others, st.Name)
		}
	}
	if len(others) == 0 {
		return nil
	}
	o := service.Surplus{Names: others}
	for copy := 1; copy <= x.Copies; copy++ {
		for _, p := range x.Ports {
			o.Keep = append(o.Keep, bay.PortKey(x.Name, copy, p.Name))
		}
	}
	return s.Services.Drop(ctx, o)
}

// runsSo tells whether a service runs and is ready just as it should.
func runsSo(list []service.Status, spec service.Spec) bool {
	return !spec.Again && slices.ContainsFunc(list, func(st service.Status) bool {
		return st.Name == spec.Name && st.State == service.Ready && st.Config == spec.Config && st.Build == spec.Build && st.Inputs == spec.Fingerprint()
	})
}

func running(list []service.Status, name string) bool {
	return slices.ContainsFunc(list, func(st service.Status) bool { return st.Service == name && st.Running() })
}

// describe is a state with where the service is reached.
func describe(st service.Status) string {
	if !st.Running() {
		return ""
	}
	var ports []string
	for _, name := range slices.Sorted(maps.Keys(st.Ports)) {
		ports = append(ports, fmt.Sprintf("127.0.0.1:%d", st.Ports[name]))
	}
	text := strings.TrimSpace(st.State + " " + strings.Join(ports, " "))
	if st.Why != "" {
		text += ", " + st.Why
	}
	return text
}

func (s *Setup) notReady(st service.Status) error {
	what := "did not get ready: "
	if st.State == service.Failed && st.Taken == "" && st.Reason != "" && !strings.HasPrefix(st.Reason, "not ready within") {
		what = "failed: "
	}
	e := fault.New(fault.ErrNotReady, "service %s %s%s", st.Name, what, cmp.Or(listen.Named(st.Reason), "it is "+cmp.Or(st.State, "not known to the supervisor")))
	var do strings.Builder
	lines := logbook.Read(s.State.Bay.Logs(), st.Name, 0, st.Since.Add(-s.longest(st.Service)))
	own := slices.DeleteFunc(lines, func(l logbook.Line) bool { return l.Stream == "sup" })
	var said step.Said
	for _, l := range own {
		said.Hear(l.Text)
	}
	do.WriteString(said.Text())
	fmt.Fprintf(&do, "Log: %s (trammel logs %s)", logbook.Path(s.State.Bay.Logs(), st.Name), shell.Typed(st.Service))
	return e.Advise("%s", do.String())
}

// Specs makes the complete specs of a service's copies, with all that their processes get.
func (s *Setup) Specs(x declare.Service) ([]service.Spec, error) {
	var out []service.Spec
	for copy := 1; copy <= x.Copies; copy++ {
		spec, err := s.spec(x, copy)
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "service %s: %v", x.Name, err)
		}
		out = append(out, spec)
	}
	return out, nil
}

func (s *Setup) spec(x declare.Service, copy int) (service.Spec, error) {
	w, err := s.Wanted(x, copy)
	if err != nil {
		return service.Spec{}, err
	}
	e := s.inside.With(w.Variables)
	e = e.Using(s.Plan.CommandsOf(x.Tool, e.Isolation))
	if err := e.Missing(); err != nil {
		return service.Spec{}, err
	}
	command, env, err := script.Of(e, w.Run, s.State.Dir())
	if err != nil {
		return service.Spec{}, err
	}
	spec := w.Spec
	spec.Path, spec.Argv, spec.Env, spec.Mask = command.Path, command.Argv, env, e.Masks()
	if !w.Probe.Empty() {
		run, err := s.Given.Pinned(w.Probe)
		if err != nil {
			return service.Spec{}, err
		}
		probe, _, err := script.Of(e, run, s.State.Dir())
		if err != nil {
			return service.Spec{}, err
		}
		spec.Ready.Path, spec.Ready.Command = probe.Path, probe.Argv
	}
	return spec, nil
}

// longest is how far back the log of a failed start may reach.
func (s *Setup) longest(name string) time.Duration {
	x, _ := s.State.Declaration.Service(name)
	return x.Ready.Within + x.Stop.Within + time.Minute
}
