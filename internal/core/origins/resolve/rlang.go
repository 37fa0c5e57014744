package resolve

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/rlang"
	"app.example/trammel/internal/core/base/solve"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// rProblem is what a repository has for one R.
type rProblem struct {
	from    *source.RLibraries
	version string // of R
	asOf    time.Time
	prefer  map[string]string

	mu    sync.Mutex
	known map[string]rlang.Package // "NAME VERSION" → what the index says of it
}

// rSet is what the asks of a set resolve to. Packages are built from their source, which is
// the same for every platform.
func (r *resolver) rSet(ctx context.Context, l *lock.Lock, x declare.Library, from *opened, prefer map[string]string) (lock.Set, error) {
	problem := &rProblem{from: from.source.(*source.RLibraries), version: l.Items[x.Tool].Version, asOf: r.bound(), prefer: prefer, known: map[string]rlang.Package{}}
	var asks []solve.Need
	for _, n := range x.R {
		if !slices.Contains(rlang.Base, n.Name) {
			asks = append(asks, rNeed(n))
		}
	}
	chosen, err := solve.Solve(ctx, problem, asks)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		return lock.Set{}, unfit(x, "R "+problem.version, conflict)
	}
	if err != nil {
		return lock.Set{}, err
	}
	names := lock.Sorted(chosen)
	found := make([]lock.LibraryOf, len(names))
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	slots := make(chan struct{}, 8)
	var wait sync.WaitGroup
	for i, name := range names {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if ctx.Err() != nil {
				return
			}
			var err error
			if _, found[i], err = problem.from.Archive(ctx, name, chosen[name]); err != nil {
				cancel(err)
			}
		})
	}
	wait.Wait()
	if err := context.Cause(ctx); err != nil {
		return lock.Set{}, err
	}
	set := lock.Set{Builder: "source"}
	for _, one := range found {
		set.Packages = append(set.Packages, one.String())
	}
	return set, nil
}

func rNeed(n rlang.Need) solve.Need {
	out := solve.Need{Package: n.Name, Text: n.Text(), From: n.From, Allows: n.Allows}
	for _, c := range n.Conditions {
		out.Pinned = out.Pinned || c.Operator == "=="
		out.Bounded = out.Bounded || c.Operator == "<" || c.Operator == "<="
	}
	return out
}

// Soon reads what there is ahead, several at once.
func (p *rProblem) Soon(ctx context.Context, names []string) {
	var wait sync.WaitGroup
	for _, name := range names {
		wait.Go(func() { _, _ = p.from.Older(ctx, name) }) // kept; an error comes again where it matters
	}
	wait.Wait()
}

// Candidates are the versions of a package, newest first and the preferred one before them.
func (p *rProblem) Candidates(ctx context.Context, name string) ([]solve.Candidate, error) {
	list, err := p.from.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	older, err := p.from.Older(ctx, name)
	if err != nil {
		return nil, err
	}
	dates := map[string]time.Time{}
	var versions []string
	for _, one := range list {
		if !slices.Contains(versions, one.Version) {
			versions = append(versions, one.Version)
			p.mu.Lock()
			p.known[name+" "+one.Version] = one
			p.mu.Unlock()
		}
	}
	for v, at := range older {
		if !slices.Contains(versions, v) {
			versions = append(versions, v)
			dates[v] = at
		}
	}
	slices.SortStableFunc(versions, func(a, b string) int { return rlang.Compare(b, a) })
	var out []solve.Candidate
	for _, v := range versions {
		c := solve.Candidate{Version: v}
		switch at := dates[v]; {
		case p.asOf.IsZero():
		case at.IsZero():
			c.Barred = "has no date in the repository"
		case at.After(p.asOf):
			c.Barred = "was published later"
		}
		if p.prefer[name] == v {
			out = slices.Insert(out, 0, c)
		} else {
			out = append(out, c)
		}
	}
	return out, nil
}

// Needs are what a version needs: as the index says, or for an older one its DESCRIPTION.
func (p *rProblem) Needs(ctx context.Context, name, v string) ([]solve.Need, string, error) {
	p.mu.Lock()
	known, ok := p.known[name+" "+v]
	p.mu.Unlock()
	if !ok {
		var err error
		known, err = p.from.Description(ctx, name, v)
		if odd, is := source.Odd(err); is {
			return nil, odd, nil
		}
		if err != nil {
			return nil, "", err
		}
	}
	if needs := (rlang.Need{Name: "R", Conditions: known.R}); !needs.Allows(p.version) {
		return nil, fmt.Sprintf("needs R %s", needs.Text()), nil
	}
	var out []solve.Need
	for _, n := range known.Needs {
		out = append(out, rNeed(n))
	}
	return out, "", nil
}
