package resolve

import (
	"context"
	"fmt"
	"slices"
	"time"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// An archive that keeps every state gives tools that it does not have any more. Each state that
// something is from is a source of its own in the lock, with a root of its own: SOURCE-at-STAMP.

// source is a source of that name: a declared one, or another state of one.
func (r *resolver) source(name string) (declare.Source, bool) {
	if s, ok := r.d.Source(name); ok {
		return s, true
	}
	r.mu.Lock()
	s, ok := r.states[name]
	r.mu.Unlock()
	if ok || r.o.Old == nil {
		return s, ok
	}
	old := r.o.Old.Sources[name]
	at, err := time.Parse(time.RFC3339, old.State)
	if s, ok = r.d.Source(old.Of); !ok || err != nil || s.Debian.Snapshots == "" {
		return declare.Source{}, false
	}
	s.Debian.State = at
	return s, true
}

// base is the declared source that a source is a state of, or that itself is.
func (r *resolver) base(name string) string {
	if s, ok := r.source(name); ok {
		return s.Name
	}
	return name
}

// atState names the state of a declared source at a moment.
func (r *resolver) atState(of string, at time.Time) string {
	s, _ := r.d.Source(of)
	s.Debian.State = at
	name := lock.AtState(of, at)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.states == nil {
		r.states = map[string]declare.Source{}
	}
	r.states[name] = s
	return name
}

// ownState is the state that a toolchain's own as-of asks for; "" where it asks for none.
func (r *resolver) ownState(t declare.Toolchain, way choice) string {
	s, ok := r.d.Source(way.source)
	if !ok || s.Debian.Snapshots == "" || t.AsOf.IsZero() || !r.o.AsOf.IsZero() && !t.AsOf.Before(r.o.AsOf) {
		return ""
	}
	return r.atState(way.source, t.AsOf)
}

// mostEarlier bounds how many versions are looked for in states before it is said that none
// of them was in the suite.
const mostEarlier = 6

// earlier finds the newest version that the ask allows in the states of an archive. versions are
// all that any state had.
func (r *resolver) earlier(ctx context.Context, t declare.Toolchain, way choice, s source.Source, scheme version.Scheme) (versions []string, v, state string, err error) {
	archive, ok := s.(source.Historian)
	declared, known := r.d.Source(way.source)
	if !ok || !known || declared.Debian.Snapshots == "" {
		return nil, "", "", nil
	}
	releases, err := archive.Earlier(ctx, way.from, r.d.Platforms)
	if err != nil {
		return nil, "", "", err
	}
	looks := 0
	for _, x := range releases {
		versions = append(versions, x.Version)
		if !scheme.Valid(x.Version) || !t.Ask.Allows(scheme, x.Version) || looks == mostEarlier {
			continue
		}
		looks++
		task := fmt.Sprintf("look for a state of %s with %s %s", way.source, t.Name, x.Version)
		done := event.Task(ctx, task)
		at, err := archive.StateWith(ctx, way.from, x.Version, r.d.Platforms, r.asOf(t))
		if fetch.NotFound(err) {
			done("none", nil)
			continue
		}
		done(at.UTC().Format(time.DateOnly), err)
		if err != nil {
			return nil, "", "", err
		}
		return versions, x.Version, r.atState(way.source, at), nil
	}
	return versions, "", "", nil
}

// agree has tools of several states of one source share a state where one has all their
// versions: the later it is, the fewer roots there are and the newer what they rest on.
func (r *resolver) agree(ctx context.Context, l *lock.Lock) error {
	var states []string
	for _, item := range l.Items {
		if r.base(item.Source) != item.Source && !slices.Contains(states, item.Source) {
			states = append(states, item.Source)
		}
	}
	if len(states) < 2 {
		return nil
	}
	moment := func(name string) time.Time {
		s, _ := r.source(name)
		return s.Debian.State
	}
	slices.SortFunc(states, func(a, b string) int { return moment(b).Compare(moment(a)) })
	for _, t := range r.d.Toolchains {
		item := l.Items[t.Name]
		base := r.base(item.Source)
		if base == item.Source || !t.AsOf.IsZero() {
			continue
		}
		if old := r.o.Old.Items[t.Name]; old.Source == item.Source && old.Version == item.Version {
			continue // what is locked stays where it is
		}
		ways, err := r.ways(ctx, t)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(ways, func(w choice) bool { return w.source == base })
		if i >= 0 {
			ways[i].from.Packages = append(slices.Clone(ways[i].from.Packages), r.asked(t.Name, ways[i].card)...)
		}
		for _, state := range states {
			if state == item.Source || i < 0 {
				break
			}
			archive, ok := r.open(base).source.(source.Historian)
			if r.base(state) != base || !ok {
				continue
			}
			has, err := archive.HasAt(ctx, ways[i].from, item.Version, r.d.Platforms, moment(state))
			if err != nil {
				return err
			}
			if !has {
				continue
			}
			item.Source = state
			for _, p := range r.d.Platforms {
				if item.Platforms[p.String()], _, err = r.open(state).source.Parts(ctx, ways[i].from, item.Version, p, time.Time{}); err != nil {
					return err
				}
			}
			l.Items[t.Name] = item
			break
		}
	}
	return nil
}
