package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/seen"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
)

// Setup is a checkout whose tools are fitted and that a person consented to, ready to run
// steps and services. It does not change; what moves a port gives another one.
type Setup struct {
	*Sight
	Given  approval.Given
	Ready  *environ.Ready // of steps, routines and the like
	inside *environ.Ready // of services: in a private network ports have their own numbers
}

// Of is the Setup of a plan that fit.Apply made.
func Of(g approval.Given, p *environ.Plan) (*Setup, error) {
	s := &Setup{Sight: &Sight{p.State, p, service.Connect(p.State.Bay, p.State.Host)}, Given: g}
	var err error
	if s.Ready, err = p.Ready(g); err != nil {
		return nil, err
	}
	s.inside, err = p.ReadyInside(g)
	return s, err
}

// With is a Setup that only asks: of a checkout that is looked at, for what consent lets be
// asked of its tools. It makes nothing.
func With(g approval.Given, s *Sight) (*Setup, error) { return Of(g, s.Plan) }

// Runner runs the steps of this checkout.
func (s *Setup) Runner() *step.Runner {
	return &step.Runner{Environment: s.Ready, Look: s.Plan.Lookup("", 0), Dir: s.State.Dir(), Logs: s.State.Bay.Logs()}
}

// Render renders the files that are due, and says what it kept of a person's
// changes. It returns the paths.
func (s *Setup) Render(ctx context.Context) ([]string, error) {
	written, kept, err := render.Write(render.Of(s.Plan), s.Ready)
	for _, text := range kept {
		event.Say(ctx, text)
	}
	return written, err
}

// Choice says which steps to run: those that are due, or of those only some, and
// some though they are not due.
type Choice struct {
	Only  []string // empty: all
	None  bool
	Again []string
	Shell bool // those that run at each shell's start
}

func (c Choice) takes(st step.Status) bool {
	due := (st.Due || st.Step.When == step.AtEachFit) && !c.None && (len(c.Only) == 0 || slices.Contains(c.Only, st.Step.Name))
	return due || c.Shell && st.Step.When == step.AtEachShell || slices.Contains(c.Again, st.Step.Name)
}

// RunSteps runs steps, and starts and stops the services that they need and that
// did not run already. It returns what it ran.
func (s *Setup) RunSteps(ctx context.Context, c Choice) (ran []string, err error) {
	statuses, err := s.Steps()
	if err != nil {
		return nil, err
	}
	if err := step.Keep(statuses); err != nil {
		return nil, err
	}
	if !c.None {
		if err := s.askEvidence(ctx, statuses); err != nil {
			return nil, err
		}
	}
	var wanted []string
	for _, st := range statuses {
		if c.takes(st) {
			wanted = append(wanted, "step."+st.Step.Name)
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	again := slices.Clone(c.Again)
	for _, st := range statuses {
		if c.takes(st) && !st.Due {
			again = append(again, st.Step.Name)
		}
	}
	done, err := s.bring(ctx, order{nodes: wanted, steps: again})
	// What ran only for the steps goes again, also after a failure or Ctrl-C.
	if stopErr := s.stopExtra(ctx, wanted, before); err == nil {
		err = stopErr
	}
	for _, st := range statuses { // in the order of the declaration
		if slices.Contains(done.ran, st.Step.Name) {
			ran = append(ran, st.Step.Name)
		}
	}
	return ran, err
}

// askEvidence makes steps due whose evidence is not what is locked, and not what they
// themselves left when they were last done.
func (s *Setup) askEvidence(ctx context.Context, statuses []step.Status) error {
	if len(s.State.Lock.Evidence) == 0 {
		return nil
	}
	list, err := s.Evidence(ctx)
	if err != nil {
		return err
	}
	for i, st := range statuses {
		j := slices.IndexFunc(list, func(e Evidence) bool { return e.Step.Name == st.Step.Name })
		if st.Due || st.Step.When == step.AtFirst || j < 0 || list[j].Not != "" || list[j].Same() || slices.Equal(st.Mark.Evidence, list[j].Now) {
			continue
		}
		if err := s.Marks().Forget(st.Step); err != nil {
			return err
		}
		statuses[i].Due, statuses[i].Why = true, "its evidence is not what is locked"
	}
	return nil
}

// stopExtra stops the services of a graph that did not run before.
func (s *Setup) stopExtra(ctx context.Context, nodes []string, before []service.Status) error {
	var extra []string
	for node := range s.closure(nodes) {
		if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
			extra = append(extra, name)
		}
	}
	if len(extra) == 0 {
		return nil
	}
	_, err := s.Services.Stop(context.WithoutCancel(ctx), extra)
	return err
}

// alone waits until no other process sets this checkout up in this bay.
func (s *Setup) alone(ctx context.Context) (unlock func(), err error) {
	return disk.Lock(ctx, setupLock(s.State.Bay))
}

// setupLock keeps two processes from setting one bay up at once.
func setupLock(b bay.Bay) string { return filepath.Join(b.Records, "setup.lock") }

func running(list []service.Status, name string) bool {
	return slices.ContainsFunc(list, func(st service.Status) bool { return st.Service == name && st.Running() })
}

// Start brings up services and all they need, in order, and returns when each is
// ready. With no names it brings up all that start by themselves, and those that ran
// when nobody had stopped them. Those in again are started anew though they run. On
// Ctrl-C what this call started is stopped again. The Setup that it returns knows the
// numbers of ports that had to move.
func (s *Setup) Start(ctx context.Context, o StartOrder) ([]service.Status, *Setup, error) {
	var wanted []string
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, s, err
	}
	ran := service.Wanted(s.State.Bay)
	names := append(slices.Clone(o.Names), o.Again...)
	for _, x := range s.State.Declaration.Services {
		if slices.Contains(names, x.Name) || len(names) == 0 && (x.Auto || slices.Contains(ran, x.Name)) {
			wanted = append(wanted, "service."+x.Name)
		}
	}
	for _, name := range names {
		if _, ok := s.State.Declaration.Service(name); !ok {
			return nil, s, fault.New(fault.ErrUsage, "no service is named %q", name).
				Advise("%s", fault.DidYouMean(name, declare.Names(s.State.Declaration.Services)))
		}
	}
	if len(wanted) == 0 {
		return nil, s, nil
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
	done, err := s.bring(ctx, order{nodes: wanted, services: o.Again, declared: o.Declared})
	if ctx.Err() != nil {
		err = errors.Join(err, s.stopExtra(ctx, wanted, before))
	}
	if err == nil {
		err = s.failedMeanwhile(done.after, wanted)
	}
	return done.after, done.setup, err
}

// StartOrder says what to start, and how.
type StartOrder struct {
	Names    []string // empty: all that start by themselves, and those that ran when nobody had stopped them
	Again    []string // those that are started anew though they run
	Declared bool     // ports go back to the numbers that the declaration wants
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

// Bring does nodes, "step.NAME" and "service.NAME", and all they need: what a
// routine wants before it runs.
func (s *Setup) Bring(ctx context.Context, nodes []string) error {
	_, err := s.bring(ctx, order{nodes: nodes})
	return err
}

// closure is the graph of nodes and all they need.
func (s *Setup) closure(nodes []string) graph {
	g := graph{}
	var add func(node string)
	add = func(node string) {
		if _, ok := g[node]; ok {
			return
		}
		kind, name, _ := strings.Cut(node, ".")
		if kind == "step" {
			x, _ := s.State.Declaration.Step(name)
			g[node] = slices.Concat(x.Needs, x.After)
		} else {
			x, _ := s.State.Declaration.Service(name)
			g[node] = x.Needs
		}
		for _, n := range g[node] {
			add(n)
		}
	}
	for _, n := range nodes {
		add(n)
	}
	return g
}

// order says what to bring.
type order struct {
	nodes    []string // "step.NAME" and "service.NAME"
	steps    []string // to run though they are not due
	services []string // to start anew though they run
	declared bool     // ports go back to the numbers that the declaration wants
}

// brought is what came of it.
type brought struct {
	ran   []string // steps
	after []service.Status
	setup *Setup // that knows the ports as they are now
}

// bring does nodes and all they need: services that do not run, steps that are
// due. A service that only a finished step needs is left alone.
func (s *Setup) bring(ctx context.Context, o order) (done brought, err error) {
	done.setup = s
	unlock, err := s.alone(ctx)
	if err != nil {
		return done, err
	}
	defer unlock()
	statuses, err := s.Steps() // another process may have done some meanwhile
	if err != nil {
		return done, err
	}
	if err := step.Keep(statuses); err != nil {
		return done, err
	}
	due := map[string]step.Status{}
	for _, st := range statuses {
		if st.Due || slices.Contains(o.steps, st.Step.Name) {
			due["step."+st.Step.Name] = st
		}
	}
	g := s.closure(o.nodes)
	s.prune(g, o.nodes, due)
	if err := s.here(ctx, g); err != nil {
		return done, err
	}
	var lost []string
	for try := 0; ; try++ {
		if s, err = s.claim(ctx, g, service.Order{Declared: o.declared && try == 0, Lost: lost}); err != nil {
			return done, err
		}
		done.setup = s
		if _, err := s.Render(ctx); err != nil { // with the ports as they are now
			return done, err
		}
		lost, err = s.walk(ctx, g, o, due, &done)
		// A stranger that was faster has the number; with another the same is tried once.
		if len(lost) == 0 || try > 0 || ctx.Err() != nil {
			break
		}
	}
	if len(done.ran) > 0 {
		s.carry()
	}
	after, statusErr := s.Services.Status(context.WithoutCancel(ctx))
	done.after = after
	if err == nil {
		err = statusErr
	}
	return done, err
}

// walk does a graph once. lost are the keys of ports that strangers took meanwhile.
func (s *Setup) walk(ctx context.Context, g graph, o order, due map[string]step.Status, done *brought) (lost []string, err error) {
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	runner := s.Runner()
	var mu sync.Mutex
	err = g.walk(ctx, func(ctx context.Context, node string) error {
		mu.Lock()
		st, ok := due[node]
		mu.Unlock()
		if ok {
			if err := runner.Run(ctx, st); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done.ran = append(done.ran, st.Step.Name)
			delete(due, node)
			return nil
		}
		if name, ok := strings.CutPrefix(node, "service."); ok {
			x, _ := s.State.Declaration.Service(name)
			keys, err := s.startService(ctx, x, before, slices.Contains(o.services, name))
			mu.Lock()
			defer mu.Unlock()
			lost = append(lost, keys...)
			return err
		}
		return nil
	})
	return lost, err
}

// carry keeps consent over what this command itself has made in the checkout, which is
// read again for it.
func (s *Setup) carry() {
	now, err := checkout.Open(checkout.Asked{Host: s.State.Host, Dir: s.State.Dir(), Bay: s.State.Bay.Name}, checkout.Locate{})
	if err == nil {
		_ = s.Given.Carry(now) // else the next command asks, which is safe
	}
}

// prune takes out of a graph what only steps that are not due need.
func (s *Setup) prune(g graph, wanted []string, due map[string]step.Status) {
	keep := map[string]bool{}
	var mark func(node string)
	mark = func(node string) {
		if keep[node] {
			return
		}
		keep[node] = true
		if _, isDue := due[node]; strings.HasPrefix(node, "step.") && !isDue {
			return
		}
		for _, n := range g[node] {
			mark(n)
		}
	}
	for _, n := range wanted {
		mark(n)
	}
	maps.DeleteFunc(g, func(node string, _ []string) bool { return !keep[node] })
}

// claim takes the ports of all services of a graph before anything is expanded,
// since addresses go into variables. A port that had to move is told.
func (s *Setup) claim(ctx context.Context, g graph, o service.Order) (*Setup, error) {
	wanted := bay.Ports{}
	any := false
	for node := range g {
		name, ok := strings.CutPrefix(node, "service.")
		if !ok {
			continue
		}
		any = true
		x, _ := s.State.Declaration.Service(name)
		for copy := 1; copy <= x.Copies; copy++ {
			for _, p := range x.Ports {
				wanted[bay.PortKey(name, copy, p.Name)] = p.Wanted + copy - 1
			}
		}
	}
	if !any {
		return s, nil
	}
	o.Wanted = wanted
	claimed, err := s.Services.Claim(ctx, o)
	if err != nil {
		return s, err
	}
	for _, text := range claimed.Told {
		event.Say(ctx, text)
	}
	moved := false
	for key, n := range claimed.Ports {
		moved = moved || s.Plan.Ports[key] != n
	}
	if !moved {
		return s, nil
	}
	ports := maps.Clone(s.Plan.Ports)
	maps.Copy(ports, claimed.Ports)
	state := s.State.Refreshed(ports)
	p, err := s.Plan.WithState(state)
	if err != nil {
		return s, err
	}
	return Of(s.Given.For(state), p)
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
	g := graph{}
	byName := map[string]service.Spec{}
	for _, spec := range specs {
		g[spec.Name], byName[spec.Name] = nil, spec
	}
	err = g.walk(ctx, func(ctx context.Context, name string) error {
		done := event.Task(ctx, "service "+name)
		spec := byName[name]
		spec.Again = again
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
	e := fault.New(fault.ErrNotReady, "service %s %s%s", st.Name, what, cmp.Or(st.Reason, "it is "+cmp.Or(st.State, "not known to the supervisor")))
	var do strings.Builder
	lines := logbook.Read(s.State.Bay.Logs(), st.Name, 0, st.Since.Add(-s.longest(st.Service)))
	own := slices.DeleteFunc(lines, func(l logbook.Line) bool { return l.Stream == "sup" })
	for _, l := range own[max(0, len(own)-8):] {
		do.WriteString("| " + l.Text + "\n")
	}
	fmt.Fprintf(&do, "Log: %s (trammel logs %s)", logbook.Path(s.State.Bay.Logs(), st.Name), st.Service)
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
		probe, _, err := script.Of(e, w.Probe, s.State.Dir())
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

// SecretRemarks say which files of secrets others could read: by their mode, or
// because version control would take them along.
func (s *Setup) SecretRemarks() []string {
	var out []string
	dir := s.State.Declaration.Dir
	for _, x := range s.State.Declaration.Secrets {
		path, ok := strings.CutPrefix(x.From, "file:")
		if !ok {
			continue
		}
		full := path
		if !filepath.IsAbs(full) {
			full = filepath.Join(dir, full)
		}
		info, err := seen.Stat(full)
		if err != nil {
			continue
		}
		if info.Mode().Perm()&0o077 != 0 {
			out = append(out, fmt.Sprintf("The secret %s can be read by others: chmod 600 %s", x.Name, path))
		}
		below, err := filepath.Rel(dir, full)
		if err != nil || !filepath.IsLocal(below) {
			continue
		}
		if ignored, known := approval.Ignored(dir, filepath.ToSlash(below)); known && !ignored {
			out = append(out, fmt.Sprintf("The secret %s is not ignored by version control: add %s to .gitignore", x.Name, path))
		}
	}
	return out
}
