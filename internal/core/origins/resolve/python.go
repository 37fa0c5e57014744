package resolve

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/solve"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// pythonProblem is what an index has for one interpreter on one platform.
type pythonProblem struct {
	index  *source.Wheels
	asks   *python.Asks
	build  []string
	target python.Target
	env    map[string]string
	tags   map[string]int
	asOf   time.Time
	prefer map[string]string

	mu     sync.Mutex
	chosen map[string]source.ProjectFile // "NAME VERSION" → the file to have
}

// pythonTarget is the interpreter of a lock on a platform.
func pythonTarget(l *lock.Lock, tool string, p platform.Platform) python.Target {
	item := l.Items[tool]
	t := python.Target{Version: item.Version, Platform: p}
	for _, q := range l.Roots[item.Source][p.String()].List() {
		if q.Name == "libc6" { // "2.41-12+deb13u1"
			t.Glibc = version.Minor(q.Version)
		}
	}
	return t
}

func (r *resolver) pythonSet(ctx context.Context, l *lock.Lock, x declare.Library, from *opened, p platform.Platform, prefer map[string]string) (lock.Set, error) {
	target := pythonTarget(l, x.Tool, p)
	what := fmt.Sprintf("Python %s on %s", target.Version, p)
	if !x.Python.RequiresPython.Allow(target.Version) {
		return lock.Set{}, fault.Findings{{Place: x.Place, What: fmt.Sprintf("the project says that it requires Python %s, and Python %s is locked", x.Python.RequiresPython, target.Version), Do: "Choose another python toolchain, or change requires-python."}}
	}
	problem := &pythonProblem{
		index: from.source.(*source.Wheels), asks: &x.Python, build: x.Build, target: target,
		env: target.Environment(), tags: python.Places(target.Tags()), asOf: r.bound(), prefer: prefer, chosen: map[string]source.ProjectFile{},
	}
	var asks []solve.Need
	for _, w := range x.Python.Wants {
		if w.Marker.Holds(problem.env, "") {
			asks = append(asks, needs(w.Requirement, w.From)...)
		}
	}
	chosen, err := solve.Solve(ctx, problem, asks)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		return lock.Set{}, unfit(x, what, conflict)
	}
	if err != nil {
		return lock.Set{}, err
	}
	var set lock.Set
	for name, v := range chosen {
		if strings.Contains(name, "[") {
			continue
		}
		f := problem.chosen[name+" "+v]
		if f.Digest == "" {
			return lock.Set{}, fault.New(fault.ErrSource, "the index states no digest of %s, so that nothing fixes its bytes", f.Name).
				Advise("An index gives one behind each address (#sha256=…, PEP 503) or as hashes (PEP 691).")
		}
		set.Packages = append(set.Packages, lock.LibraryOf{Name: name, Version: v, Path: f.Name, Size: f.Size, Digest: f.Digest}.String())
	}
	for _, name := range x.Build {
		if v, ok := chosen[name]; ok && !strings.HasSuffix(problem.chosen[name+" "+v].Name, ".whl") {
			set.Builder = "source"
		}
	}
	return set, nil
}

// needs are what a requirement means to the solver: its project, and each extra of it.
func needs(q python.Requirement, from string) []solve.Need {
	n := solve.Need{
		Package: q.Name, Text: q.Specifiers.String(), From: from, Allows: q.Specifiers.Allow, Pre: q.Specifiers.Prereleases(),
	}
	for _, s := range q.Specifiers {
		exact := (s.Operator == "==" || s.Operator == "===") && !strings.HasSuffix(s.Version, ".*")
		n.Pinned = n.Pinned || exact
		n.Bounded = n.Bounded || s.Operator == "<" || s.Operator == "<=" || s.Operator == "~=" || s.Operator == "==" && !exact
	}
	if len(q.Extras) == 0 {
		return []solve.Need{n}
	}
	var out []solve.Need
	for _, extra := range q.Extras {
		n.Package = q.Name + "[" + extra + "]"
		out = append(out, n)
	}
	return out
}

func base(name string) (project, extra string) {
	project, extra, _ = strings.Cut(name, "[")
	return project, strings.TrimSuffix(extra, "]")
}

// Soon reads pages ahead, several at once.
func (p *pythonProblem) Soon(ctx context.Context, names []string) {
	var wait sync.WaitGroup
	for _, name := range names {
		wait.Go(func() {
			project, _ := base(name)
			_, _ = p.index.Project(ctx, project) // kept; an error comes again where it matters
		})
	}
	wait.Wait()
}

// Candidates are the versions of a project that have files, newest first and the preferred
// one before them.
func (p *pythonProblem) Candidates(ctx context.Context, name string) ([]solve.Candidate, error) {
	project, _ := base(name)
	page, err := p.index.Project(ctx, project)
	if fetch.NotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	files := map[string][]source.ProjectFile{}
	for _, f := range page.Files {
		if v, ok := f.Version(project); ok && version.PEP440.Valid(v) {
			files[v] = append(files[v], f)
		}
	}
	versions := lock.Sorted(files)
	slices.SortStableFunc(versions, func(a, b string) int { return version.PEP440.Compare(b, a) })
	var out []solve.Candidate
	for _, v := range versions {
		f, why := p.best(project, v, files[v])
		c := solve.Candidate{Version: v, Barred: why, Pre: version.PEP440.Prerelease(v) && p.prefer[project] != v}
		if why == "" {
			p.mu.Lock()
			p.chosen[project+" "+v] = f
			p.mu.Unlock()
		}
		if version.PEP440.Compare(p.prefer[project], v) == 0 && p.prefer[project] != "" {
			out = slices.Insert(out, 0, c)
		} else {
			out = append(out, c)
		}
	}
	return out, nil
}

// best is the file of a version to have, or why there is none.
func (p *pythonProblem) best(project, v string, files []source.ProjectFile) (best source.ProjectFile, why string) {
	for _, c := range p.asks.Constraints {
		if c.Name == project && c.Marker.Holds(p.env, "") && !c.Specifiers.Allow(v) {
			return best, fmt.Sprintf("is ruled out by %s (%s)", c.Requirement, c.From)
		}
	}
	var named []string // hashes that the asks name for this version
	for key, list := range p.asks.Hashes {
		name, of, _ := strings.Cut(key, " ")
		if name == project && version.PEP440.Compare(of, v) == 0 {
			named = append(named, list...)
		}
	}
	reasons := map[string]bool{}
	rank, build, found := 0, "", false
	for _, f := range files {
		switch {
		case len(named) > 0 && !slices.Contains(named, string(f.Digest)):
			reasons["has no file with a hash that the asks name"] = true
			continue
		case f.Yanked && !p.pinned(project, v):
			reasons["was yanked"+because(f.Why)] = true
			continue
		case !p.asOf.IsZero() && f.Uploaded.IsZero():
			reasons["has no date in the index"] = true
			continue
		case !p.asOf.IsZero() && f.Uploaded.After(p.asOf):
			reasons["was published later"] = true
			continue
		}
		if s, err := python.ParseSpecifiers(f.Python); err == nil && !s.Allow(p.target.Version) {
			reasons["needs Python "+s.String()] = true
			continue
		}
		w, isWheel := python.ParseWheel(f.Name)
		if !isWheel {
			if _, ok := python.Endings(f.Name); ok && slices.Contains(p.build, project) && !found && best.Name == "" {
				best = f
			} else {
				reasons[fmt.Sprintf("has no wheel for Python %s on %s", version.Minor(p.target.Version), p.target.Platform)] = true
			}
			continue
		}
		at, ok := w.Rank(p.tags)
		if !ok {
			reasons[fmt.Sprintf("has no wheel for Python %s on %s", version.Minor(p.target.Version), p.target.Platform)] = true
			continue
		}
		if !found || at < rank || at == rank && version.Dotted.Compare(w.Build, build) > 0 {
			best, rank, build, found = f, at, w.Build, true
		}
	}
	if best.Name != "" {
		return best, ""
	}
	return best, strings.Join(lock.Sorted(reasons), " and ")
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return fmt.Sprintf(" (%.80q)", why)
}

// pinned tells whether an ask names this very version, or the lock has it: only then does a
// yanked file count (PEP 592).
func (p *pythonProblem) pinned(project, v string) bool {
	if p.prefer[project] == v {
		return true
	}
	return slices.ContainsFunc(p.asks.Wants, func(w python.Want) bool {
		return w.Name == project && len(w.Specifiers) == 1 && (w.Specifiers[0].Operator == "==" || w.Specifiers[0].Operator == "===") && w.Specifiers.Allow(v) && !strings.HasSuffix(w.Specifiers[0].Version, ".*")
	})
}

// Needs are what a version needs of others, under this interpreter. An extra is a package
// of its own, which needs its project in the same version.
func (p *pythonProblem) Needs(ctx context.Context, name, v string) (out []solve.Need, barred string, err error) {
	project, extra := base(name)
	p.mu.Lock()
	f := p.chosen[project+" "+v]
	p.mu.Unlock()
	m, err := p.index.Metadata(ctx, f)
	if odd, ok := source.Odd(err); ok {
		return nil, odd, nil
	}
	if err != nil {
		return nil, "", err
	}
	if !m.RequiresPython.Allow(p.target.Version) {
		return nil, "needs Python " + m.RequiresPython.String(), nil
	}
	var extras []string
	if extra != "" {
		extras = []string{extra}
		out = append(out, solve.Need{Package: project, Text: "==" + v, Allows: func(o string) bool { return o == v }, Pinned: true, Pre: true})
	}
	for _, q := range m.Under(p.env, extras) {
		if q.URL != "" {
			return nil, fmt.Sprintf("needs %s from an address of its own", q.Name), nil
		}
		out = append(out, needs(q, "")...)
	}
	return out, "", nil
}
