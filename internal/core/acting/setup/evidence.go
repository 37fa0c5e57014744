package setup

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Evidence is what a step's evidence says now, beside what is locked.
type Evidence struct {
	Step   declare.Step
	Locked []string
	Now    []string
	Not    string // why it could not be had, or ""
}

// Same tells whether the evidence is as it was locked.
func (e Evidence) Same() bool { return e.Not == "" && slices.Equal(e.Locked, e.Now) }

// Evidence asks all steps that have evidence in the lock. It starts nothing: where a
// service that the step needs does not run, it says so.
func (s *Setup) Evidence(ctx context.Context) ([]Evidence, error) {
	running_, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	var out []Evidence
	for _, x := range s.State.Declaration.Steps {
		locked, ok := s.State.Lock.Evidence[x.Name]
		if x.Evidence.Empty() || !ok {
			continue
		}
		e := Evidence{Step: x, Locked: locked}
		for _, n := range x.Needs {
			if name, ok := strings.CutPrefix(n, "service."); ok && !slices.ContainsFunc(running_, func(st service.Status) bool { return st.Service == name && st.State == service.Ready }) {
				e.Not = name + " does not run: trammel start " + shell.Typed(name)
			}
		}
		if e.Not == "" {
			if e.Now, err = s.Runner().Evidence(ctx, x); err != nil {
				e.Not, _, _ = strings.Cut(err.Error(), "\n")
			}
		}
		out = append(out, e)
	}
	return out, ctx.Err()
}

// Learn writes into the lock what it does not have yet: the evidence of steps that
// are done, and the pictures of add-ons. It tells whether anything was new.
func (s *Setup) Learn(ctx context.Context, pictures map[string][]string) (bool, error) {
	var statuses []step.Status
	if slices.ContainsFunc(s.State.Declaration.Steps, func(x declare.Step) bool { return !x.Evidence.Empty() }) {
		var err error
		if statuses, err = s.Steps(); err != nil {
			return false, err
		}
	}
	evidence := map[string][]string{}
	for _, st := range statuses {
		if !st.Due && !st.Step.Evidence.Empty() && !st.Mark.At.IsZero() {
			evidence[st.Step.Name] = st.Mark.Evidence
		}
	}
	if within(evidence, s.State.Lock.Evidence) && within(pictures, s.State.Lock.Pictures) {
		return false, nil
	}
	dir := s.State.Dir()
	// Another process may have written it since it was read: under the lock it is read again.
	unlock, err := disk.Lock(ctx, filepath.Join(checkout.Local(dir), "lock.lock"))
	if err != nil {
		return false, err
	}
	defer unlock()
	_, changed, err := lock.Change(lock.Path(dir), func(l *lock.Lock) (changed bool) {
		put := func(table *map[string][]string, name string, lines []string) {
			if _, had := (*table)[name]; had {
				return
			}
			if *table == nil {
				*table = map[string][]string{}
			}
			(*table)[name], changed = lines, true
		}
		for name, lines := range evidence {
			put(&l.Evidence, name, lines)
		}
		for name, lines := range pictures {
			put(&l.Pictures, name, lines)
		}
		return changed
	})
	if err != nil || !changed {
		return changed, err
	}
	s.carry()
	return true, nil
}

// within tells whether all names of one table are in another.
func within(few, all map[string][]string) bool {
	for name := range few {
		if _, had := all[name]; !had {
			return false
		}
	}
	return true
}

// Difference lists two sets of lines as "- gone" and "+ new", in their order.
func Difference(locked, now []string) []string {
	var out []string
	for _, line := range locked {
		if !slices.Contains(now, line) {
			out = append(out, "- "+line)
		}
	}
	for _, line := range now {
		if !slices.Contains(locked, line) {
			out = append(out, "+ "+line)
		}
	}
	return out
}
