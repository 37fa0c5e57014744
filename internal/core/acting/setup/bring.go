package setup

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
)

// Bring does nodes, "step.NAME" and "service.NAME", and all they need: what a
// routine wants before it runs.
func (s *Setup) Bring(ctx context.Context, nodes []string) error {
	_, err := s.bring(ctx, order{nodes: nodes})
	return err
}

// order says what to bring.
type order struct {
	nodes    []string // "step.NAME" and "service.NAME"
	steps    []string // to run though they are not due
	services []string // to start anew though they run
	declared bool     // ports go back to the numbers that the declaration wants
	all      bool     // besides all steps that are due, and add-ons
}

// brought is what came of it.
type brought struct {
	ran      []string // steps
	rendered []string // files
	addons   []AddonResult
	after    []service.Status
	setup    *Setup // that knows the ports as they are now
}

// bring does nodes and all they need: services that do not run, steps that are
// due. A service that only a finished step needs is left alone.
func (s *Setup) bring(ctx context.Context, o order) (done brought, err error) {
	done.setup = s
	unlock, err := s.Alone(ctx)
	if err != nil {
		return done, err
	}
	defer unlock()
	var lost []string
	for try := 0; ; try++ {
		var g Graph
		var due map[string]step.Status
		claim := service.Order{Declared: o.declared && try == 0, Lost: lost}
		if s, g, due, err = s.plan(ctx, o, claim, done.ran); err != nil {
			return done, err
		}
		done.setup = s
		if done.rendered, err = s.Render(ctx); err != nil {
			return done, err
		}
		if o.all && try == 0 {
			if done.addons, err = s.addons(ctx, false); err != nil {
				return done, err
			}
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

// plan decides what is to be done, and takes the ports that it needs. Numbers come first: the content of files, what
// makes a step due and the specs of services are made of them, so that after a move all is decided anew. ran are
// steps that this call has run already.
func (s *Setup) plan(ctx context.Context, o order, claim service.Order, ran []string) (*Setup, Graph, map[string]step.Status, error) {
	for {
		statuses, err := s.Steps() // another process may have done some meanwhile
		if err != nil {
			return s, nil, nil, err
		}
		if err := step.Keep(statuses); err != nil {
			return s, nil, nil, err
		}
		due := map[string]step.Status{}
		nodes := slices.Clone(o.nodes)
		for _, st := range statuses {
			if st.Due || slices.Contains(o.steps, st.Step.Name) && !slices.Contains(ran, st.Step.Name) {
				due["step."+st.Step.Name] = st
				if o.all {
					nodes = append(nodes, "step."+st.Step.Name)
				}
			}
		}
		g := s.closure(nodes)
		s.prune(g, nodes, due)
		if err := s.here(ctx, g); err != nil {
			return s, nil, nil, err
		}
		now, err := s.Claim(ctx, g, claim)
		if err != nil || now == s {
			return s, g, due, err
		}
		s, claim = now, service.Order{} // what was taken stays, so that this ends
	}
}

// closure is the graph of nodes and all they need.
func (s *Setup) closure(nodes []string) Graph {
	g := Graph{}
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

// prune takes out of a graph what only steps that are not due need, but for steps that are due behind those: one that
// runs once in a bay's life is done, and a migration before it may be new.
func (s *Setup) prune(g Graph, wanted []string, due map[string]step.Status) {
	keep, passed := map[string]bool{}, map[string]bool{}
	var mark, pass func(node string)
	mark = func(node string) {
		if keep[node] {
			return
		}
		keep[node] = true
		if _, isDue := due[node]; strings.HasPrefix(node, "step.") && !isDue {
			pass(node)
			return
		}
		for _, n := range g[node] {
			mark(n)
		}
	}
	pass = func(node string) {
		if passed[node] {
			return
		}
		passed[node] = true
		x, _ := s.State.Declaration.Step(strings.TrimPrefix(node, "step."))
		for _, n := range x.Needs { // what only goes before it is nobody's need
			if _, isDue := due[n]; isDue {
				mark(n)
			} else if strings.HasPrefix(n, "step.") {
				keep[n] = true
				pass(n)
			}
		}
	}
	for _, n := range wanted {
		mark(n)
	}
	maps.DeleteFunc(g, func(node string, _ []string) bool { return !keep[node] })
}

// walk does a graph once. lost are the keys of ports that strangers took meanwhile.
func (s *Setup) walk(ctx context.Context, g Graph, o order, due map[string]step.Status, done *brought) (lost []string, err error) {
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	runner := s.Runner()
	var mu sync.Mutex
	err = g.Walk(ctx, func(ctx context.Context, node string) error {
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

// Claim takes the ports of all services of a graph before anything is expanded,
// since addresses go into variables. A port that had to move is told.
func (s *Setup) Claim(ctx context.Context, g Graph, o service.Order) (*Setup, error) {
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
				key := bay.PortKey(name, copy, p.Name)
				wanted[key] = p.Wanted + copy - 1
				if p.UDP {
					o.UDP = append(o.UDP, key)
				}
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
		event.Say(ctx, listen.Named(text))
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
