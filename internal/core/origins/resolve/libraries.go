package resolve

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/solve"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// libraries locks the sets of libraries. The toolchains that they are for are locked by
// then. A set whose asks, toolchain and source are as they were stays as it is.
func (r *resolver) libraries(ctx context.Context, l *lock.Lock) error {
	if len(r.d.Libraries) == 0 {
		return nil
	}
	l.Libraries = map[string]lock.Library{}
	var wait sync.WaitGroup
	var mu sync.Mutex
	var found fault.Findings
	var other error
	for _, x := range r.d.Libraries {
		wait.Go(func() {
			done := event.Task(ctx, "resolve libraries "+x.Name)
			set, err := r.set(ctx, l, x)
			done("", err)
			mu.Lock()
			defer mu.Unlock()
			var f fault.Findings
			if errors.As(err, &f) {
				found = append(found, f...)
			} else if err != nil && other == nil {
				other = err
			}
			l.Libraries[x.Name] = set
		})
	}
	wait.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if len(found) > 0 {
		slices.SortFunc(found, func(a, b fault.Finding) int { return a.Line - b.Line })
		return found
	}
	return other
}

// sourceOf is the source of a set: the one that it names, the first declared one of its
// kind, or the one that the machine's settings give.
func (r *resolver) sourceOf(x declare.Library) (string, error) {
	kind := declare.LibraryKinds[x.Kind].Source
	if x.From != "" {
		if r.kind(x.From) != kind {
			return "", fault.Findings{{Place: x.Place, What: fmt.Sprintf("%s libraries come from a source of kind %s, and %q is of kind %s", x.Kind, kind, x.From, r.kind(x.From))}}
		}
		return x.From, nil
	}
	if name, ok := r.declared(kind); ok {
		return name, nil
	}
	return kind, nil
}

func (r *resolver) set(ctx context.Context, l *lock.Lock, x declare.Library) (lock.Library, error) {
	from, err := r.sourceOf(x)
	if err != nil {
		return lock.Library{}, err
	}
	tool := x.Tool
	item, ok := l.Items[tool]
	if !ok {
		return lock.Library{}, fault.Findings{{
			Place: x.Place, What: fmt.Sprintf("libraries %s are for %s, and no %s toolchain is declared", x.Name, tool, tool),
			Do: fmt.Sprintf("Declare one: trammel set %s=latest", shell.Typed(tool)),
		}}
	}
	if i := slices.IndexFunc(r.d.Toolchains, func(t declare.Toolchain) bool { return t.Name == tool }); i >= 0 && r.d.Toolchains[i].CardName() != declare.LibraryKinds[x.Kind].Tool {
		return lock.Library{}, fault.Findings{{
			Place: x.Place, What: fmt.Sprintf("libraries %s are of kind %s, and the toolchain %s is none", x.Name, x.Kind, tool),
			Do: fmt.Sprintf("Name one that is: %s, or one with tool = %q.", declare.LibraryKinds[x.Kind].Tool, declare.LibraryKinds[x.Kind].Tool),
		}}
	}
	for _, other := range r.d.Libraries {
		if other.Kind == x.Kind && other.Name < x.Name && (x.Kind != "node" || other.Folder == x.Folder) {
			return lock.Library{}, fault.Findings{{
				Place: x.Place, What: fmt.Sprintf("libraries %s and %s are both for %s, which sees one set", other.Name, x.Name, tool),
				Do: "Put both lists into one set, or one of them into a project of its own.",
			}}
		}
	}
	if err := r.noInstaller(x); err != nil {
		return lock.Library{}, err
	}
	out := lock.Library{Kind: x.Kind, Source: from, Asks: canon.Digest(x.Meaning()), Folder: x.Folder, On: map[string]lock.Set{}}
	old, had := r.o.Old.Libraries[x.Name]
	for _, p := range r.d.Platforms {
		before, known := old.On[p.String()]
		target := tool + " " + item.Version
		if x.Kind == "python" { // whose scripts name what starts them
			if command := interpreterOf(item); command != "python"+version.Minor(item.Version) {
				target += " " + command
			}
		}
		if had && known && old.Asks == out.Asks && old.Source == from && before.For == target && !r.renewsSet(x.Name) {
			out.On[p.String()] = before
			continue
		}
		set, err := r.setOn(ctx, l, x, from, p, r.preferred(x.Name, before, out.On))
		if err != nil {
			return lock.Library{}, err
		}
		set.For = target
		slices.Sort(set.Packages)
		if slices.Equal(set.Packages, before.Packages) && before.For == target && before.Builder == set.Builder {
			set.Tree, set.Sums = before.Tree, before.Sums
		}
		out.On[p.String()] = set
	}
	return out, nil
}

// interpreterOf is the name that starts a Python in the environment.
func interpreterOf(item lock.Item) string {
	part := lock.Part{Before: item.Prefix, Shown: item.Shown}
	for _, command := range []string{"python" + version.Minor(item.Version), "python3", "python"} {
		for shown := range part.Named(map[string]string{command: ""}) {
			return shown
		}
	}
	return "python" + version.Minor(item.Version)
}

// noInstaller refuses an add-on of the language's own installer beside a set: what it puts
// into the set's place would not be in it.
func (r *resolver) noInstaller(x declare.Library) error {
	installer := map[string]string{"python": "pip", "r": "r", "node": "npm"}[x.Kind]
	for _, a := range r.d.Addons {
		if a.Kind == installer && x.Kind == "python" {
			return fault.Findings{{
				Place: a.Place, What: fmt.Sprintf("the add-on %s installs Python libraries beside the set %s, whose folder is complete", a.Name, x.Name),
				Do: fmt.Sprintf("Put what it wants into [libraries.%s], where it is locked to the byte.", x.Name),
			}}
		}
	}
	return nil
}

// renews tells whether a set, or one of its packages, is to be renewed.
func (r *resolver) renewsSet(set string) bool {
	return r.o.Renew(set) || slices.ContainsFunc(r.o.RenewLibraries, func(name string) bool { return strings.HasPrefix(name, set+"/") })
}

func (r *resolver) setOn(ctx context.Context, l *lock.Lock, x declare.Library, from string, p platform.Platform, preferred map[string]string) (lock.Set, error) {
	opened := r.open(from)
	if opened.err != nil {
		return lock.Set{}, opened.err
	}
	switch x.Kind {
	case "python":
		return r.pythonSet(ctx, l, x, opened, p, preferred)
	case "node":
		return r.nodeSet(ctx, x, opened, p)
	}
	return r.rSet(ctx, l, x, opened, preferred)
}

// preferred are the versions to have where they do: those of the lock, but for what is
// renewed, and those that were chosen for another platform.
func (r *resolver) preferred(set string, before lock.Set, others map[string]lock.Set) map[string]string {
	out := map[string]string{}
	for _, on := range lock.Sorted(others) {
		for _, p := range others[on].List() {
			out[p.Name] = p.Version
		}
	}
	if r.o.Renew(set) {
		return out
	}
	for _, p := range before.List() {
		if !slices.Contains(r.o.RenewLibraries, set+"/"+p.Name) {
			out[p.Name] = p.Version
		}
	}
	return out
}

// unfit says why no choice of libraries fits.
func unfit(x declare.Library, what string, conflict *solve.Conflict) error {
	do := strings.Join(conflict.Chain, "\n")
	const most = 24
	if len(conflict.Chain) > most {
		do = strings.Join(conflict.Chain[:most], "\n") + fmt.Sprintf("\nand %d more", len(conflict.Chain)-most)
	}
	return fault.Findings{{Place: x.Place, What: fmt.Sprintf("no choice of libraries %s fits together (%s)", x.Name, what), Do: do}}
}

// bound is the moment after which nothing counts for libraries; zero: everything does.
func (r *resolver) bound() time.Time { return r.o.AsOf }

// sourcesOfLibraries are the names of the sources that sets come from.
func sourcesOfLibraries(l *lock.Lock) map[string]bool {
	out := map[string]bool{}
	for _, x := range l.Libraries {
		out[x.Source] = true
	}
	return out
}

// sameLibraries tells whether the sets of a source are as the old lock has them.
func (r *resolver) sameLibraries(source string, l *lock.Lock) bool {
	pick := func(l *lock.Lock) map[string]map[string]lock.Set {
		out := map[string]map[string]lock.Set{}
		for name, x := range l.Libraries {
			if x.Source == source {
				out[name] = x.On
			}
		}
		return out
	}
	return maps.EqualFunc(pick(r.o.Old), pick(l), func(a, b map[string]lock.Set) bool {
		return maps.EqualFunc(a, b, func(a, b lock.Set) bool { return slices.Equal(a.Packages, b.Packages) })
	})
}

// Where gives the addresses of the files of a set, as its source has them now.
func Where(d *declare.Declaration, l *lock.Lock, set string, m *source.Machine, client *fetch.Client) func(context.Context, lock.LibraryOf) (string, error) {
	r := looker(d, m, client)
	return func(ctx context.Context, one lock.LibraryOf) (string, error) {
		x := r.open(l.Libraries[set].Source)
		if x.err != nil {
			return "", x.err
		}
		found, err := x.source.(*source.Wheels).Find(ctx, one)
		if err != nil {
			return "", err
		}
		return fetch.Redact(found[0].URL), nil
	}
}
