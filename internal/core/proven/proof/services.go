package proof

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/service"
)

// services compares what runs with what the lock would start: what the supervisor says of each, and what
// its processes and sockets say themselves.
func (v *verifier) services(ctx context.Context) {
	statuses, err := v.m.statuses(ctx)
	if err != nil {
		v.row("services", NotChecked, fault.OneLine(err))
		v.mend("trammel start")
		return
	}
	if where, found, err := v.m.cluster(ctx); where != "" || err != nil {
		v.afar(where, found, err)
		return
	}
	wanted, err := v.m.wanted()
	if err != nil {
		v.row("services", NotChecked, fault.OneLine(err))
		v.fit("")
		return
	}
	row := Row{Check: "services", State: OK}
	say := func(state, thing, what string) {
		row.State = worse(row.State, state)
		row.Details = append(row.Details, Detail{thing, what})
	}
	var anew, again []string // services that one start mends, and those that run the right thing wrongly
	note := func(list *[]string, name string) {
		if !slices.Contains(*list, name) {
			*list = append(*list, name)
		}
	}
	run := 0
	for _, st := range statuses {
		if !st.Running() {
			continue
		}
		run++
		spec, known := wanted[st.Name]
		if st.State == service.Failing {
			say(Drift, st.Name, "runs and is failing: "+st.Reason)
			v.mend("trammel logs " + shell.Typed(st.Service))
		}
		switch {
		case !known:
			say(Drift, st.Name, "runs and is not declared any more")
			v.mend("trammel stop " + shell.Typed(st.Service))
		case st.Build != spec.Build:
			say(Drift, st.Name, "runs another environment: "+canon.Short(st.Build))
			note(&anew, st.Service)
		case st.Config != spec.Config:
			say(Drift, st.Name, "runs with another configuration")
			note(&anew, st.Service)
		case st.State == service.Ready:
			found, err := v.m.behind(st, spec)
			if err != nil {
				say(NotChecked, st.Name, "not checked: "+fault.OneLine(err))
				note(&again, st.Service)
			}
			for _, what := range found {
				say(Drift, st.Name, what)
				note(&again, st.Service)
			}
		}
	}
	if len(anew) > 0 {
		v.mend("trammel start " + shell.Words(anew...))
	}
	for _, name := range again {
		v.mend("trammel start --again " + shell.Typed(name))
	}
	switch {
	case row.State == Drift:
		row.Text = "a running service is not the locked one"
	case row.State != OK:
		row.Text = "a running service could not be asked"
	case run == 0:
		row.Text = "none runs"
	case run == 1:
		row.Text = "1 runs the locked build"
	default:
		row.Text = fmt.Sprintf("%d run the locked builds", run)
	}
	v.add(row)
}

// afar tells of what runs in a cluster.
func (v *verifier) afar(where string, found []Detail, err error) {
	again := "trammel --bay " + shell.Typed(v.p.Bay.Name) + " start"
	switch {
	case err != nil:
		v.row("services", NotChecked, firstLine(err))
		v.mend(again)
	case len(found) > 0:
		v.row("services", Drift, "what runs in "+where+" is not what is locked", found...)
		v.mend(again)
	default:
		v.row("services", OK, "run the locked environment, in "+where)
	}
}

// behind asks the processes and sockets of a service that is ready: that its program lives, that nothing it
// runs was replaced in the store since it started, and that the tree of its own listens on its ports.
// Errors: they cannot be looked at.
func (h *here) behind(st service.Status, spec service.Spec) (out []string, err error) {
	if spec.Keeper || st.Pid == 0 {
		return nil, nil
	}
	if !process.ProcessOf(st.Pid).Alive() {
		return []string{fmt.Sprintf("is called ready, and its process %d is not there", st.Pid)}, nil
	}
	top, ok := process.Top(st.Pid)
	if !ok {
		return nil, nil // a tree without a namespace of its own: docs/proof.md says that it is not seen
	}
	tree := listen.Below(top)
	mine := []string{h.p.Places.Data + "/"}
	others := []string{h.p.Dir() + "/", h.p.Places.State + "/", h.p.Places.Cache + "/", "/memfd:", "/dev/", "/SYSV", "/tmp/", "/["}
	begins := func(path string, list []string) bool {
		return slices.ContainsFunc(list, func(prefix string) bool { return strings.HasPrefix(path, prefix) })
	}
	for _, pid := range tree {
		files, err := process.Replaced(pid, func(path string, elsewhere bool) bool {
			return begins(path, mine) || elsewhere && !begins(path, others)
		})
		if err != nil && pid == st.Pid {
			return nil, fmt.Errorf("process %d cannot be looked at: %w", pid, err)
		}
		for _, file := range files {
			out = append(out, foreign.Line(file)+" was replaced since it started")
		}
	}
	sort.Strings(out)
	out = slices.Compact(out)
	listeners, err := h.listeners(st, spec, tree)
	return append(out, listeners...), err
}

// listeners says which ports of a service nobody listens on, or somebody else.
func (h *here) listeners(st service.Status, spec service.Spec, tree []int) (out []string, err error) {
	if len(spec.Ports) == 0 {
		return nil, nil
	}
	table, err := listen.SocketsOf(st.Pid)
	if errors.Is(err, listen.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("who listens on its ports cannot be asked: %w", err)
	}
	held := listen.Held(tree)
	var names []string
	for name := range spec.Ports {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		at := listen.At(table, spec.Ports[name])
		if slices.Contains(spec.UDP, name) {
			at = listen.AtUDP(table, spec.Ports[name])
		}
		for _, s := range at {
			if _, own := held[s.Inode]; !own {
				out = append(out, fmt.Sprintf("port %s (%d) is answered by %s", name, spec.Ports[name], listen.HolderOf(s)))
			}
		}
		if len(at) == 0 && probed(spec, name) {
			out = append(out, fmt.Sprintf("nothing listens on port %s (%d)", name, spec.Ports[name]))
		}
	}
	return out, nil
}

// probed tells whether a service is ready only when it listens on a port.
func probed(spec service.Spec, name string) bool {
	r := spec.Ready
	number := spec.Ports[name]
	if r.TCP != 0 || r.HTTP != "" {
		return r.TCP == number || strings.Contains(r.HTTP, fmt.Sprintf(":%d/", number))
	}
	return len(r.Command) == 0 && r.Log == "" && r.File == "" && !r.Notify
}
