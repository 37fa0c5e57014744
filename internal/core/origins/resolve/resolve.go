// Package resolve turns a declaration into a lock.
//
// It keeps what is locked unless the declaration no longer allows it or the
// caller renews it: adding a tool never moves another. It downloads index
// documents. Archives it fetches only where nothing else says what must be said: those of listings
// and R repositories that state no digest, and a package that is asked for by its name, to say
// whether it brings commands.
package resolve

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

	"golang.org/x/sync/errgroup"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Options of one resolution.
type Options struct {
	Old            *lock.Lock             // what to keep; may be nil
	Renew          func(tool string) bool // tools to move to the newest allowed; may be nil
	AsOf           time.Time              // what was published later does not count; zero: everything does
	Now            time.Time
	RenewLibraries []string // "SET/PACKAGE" to move alone

	Older bool // take an archive's release although the lock was made from a later one
}

// Resolve makes the lock of a declaration.
func Resolve(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, o Options) (*lock.Lock, error) {
	if o.Old == nil {
		o.Old = &lock.Lock{}
	}
	if o.Renew == nil {
		o.Renew = func(string) bool { return false }
	}
	return (&resolver{d: d, m: m, client: client, o: o, opened: map[string]*opened{}}).lock(ctx)
}

// lock locks everything that is declared.
func (r *resolver) lock(ctx context.Context) (*lock.Lock, error) {
	d, o := r.d, r.o
	l := Skeleton(d)

	var (
		mu    sync.Mutex
		found fault.Findings
		other error
	)
	lockOne := func(t declare.Toolchain) func() error {
		return func() error {
			done := event.Task(ctx, "resolve "+t.Name)
			item, err := r.item(ctx, t)
			done(item.Version, err)
			mu.Lock()
			defer mu.Unlock()
			if f, ok := err.(fault.Findings); ok {
				found = append(found, f...)
			} else if err != nil && other == nil {
				other = err
			}
			l.Items[t.Name] = item
			return nil
		}
	}
	// What is built, or runs on another toolchain, comes second: that must be locked by then.
	for _, second := range []bool{false, true} {
		asking := several()
		for _, t := range d.Toolchains {
			if rests(t) == second {
				asking.Go(lockOne(t))
			}
		}
		asking.Wait()
		r.locked = maps.Clone(l.Items)
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if len(found) > 0 {
		slices.SortFunc(found, func(a, b fault.Finding) int { return a.Line - b.Line })
		return nil, found
	}
	if other != nil {
		return nil, other
	}
	if err := r.agree(ctx, l); err != nil {
		return nil, err
	}
	if err := r.clashes(l); err != nil {
		return nil, err
	}
	l.Learn(o.Old)
	if err := r.roots(ctx, l); err != nil {
		return nil, err
	}
	r.compilers(ctx, l)
	if err := r.libraries(ctx, l); err != nil {
		return nil, err
	}
	l.Declaration.AsOf = bound(o, o.Old, l)
	return l, r.sources(ctx, l)
}

// several is a group that asks sources side by side: enough to keep them answering, and no more
// than a machine has room for, however much a declaration names.
func several() *errgroup.Group {
	var g errgroup.Group
	g.SetLimit(32)
	return &g
}

// bound is the date that a lock is of: the one that was asked for, or that of the old lock
// where no version has moved since.
func bound(o Options, old, l *lock.Lock) string {
	if !o.AsOf.IsZero() {
		return o.AsOf.UTC().Format(time.RFC3339)
	}
	for name, item := range l.Items {
		if old.Items[name].Version != item.Version {
			return ""
		}
	}
	return old.Declaration.AsOf
}

// renamed is a command line whose command has the name that it shows with.
func renamed(t declare.Toolchain, line string) string {
	if line == "" || t.For != "" { // nothing of it shows, so there is nothing to ask
		return ""
	}
	command, rest, _ := strings.Cut(line, " ")
	as := t.Prefix + command
	for _, x := range t.Shown {
		if x.Command == command {
			as = x.As
		}
	}
	return strings.TrimSpace(as + " " + rest)
}

// clashes finds commands that two toolchains bring, as far as their cards name them.
func (r *resolver) clashes(l *lock.Lock) error {
	for _, p := range r.d.Platforms {
		owner := map[string]lock.PartOn{}
		for _, part := range l.PartsOn(p) {
			for _, command := range lock.Sorted(part.Named(part.Bin)) {
				file := part.Named(part.Bin)[command]
				first, taken := owner[command]
				if !taken {
					owner[command] = part
					continue
				}
				if first.Item == part.Item || first.Digest == part.Digest && first.Named(first.Bin)[command] == file {
					continue
				}
				var one, two fault.Place
				for _, t := range r.d.Toolchains {
					if t.Name == first.Item {
						one = t.Place
					}
					if t.Name == part.Item {
						two = t.Place
					}
				}
				return fault.Findings{{
					Place: two, What: fmt.Sprintf("the command %s comes from both %s (%s) and %s", command, first.Item, one, part.Item),
					Do: fmt.Sprintf("Give one of them names of its own: prefix = \"%s-\", or commands = { %s = \"…\" }", part.Item, command),
				}}
			}
		}
	}
	return nil
}

// Skeleton is everything in a lock that needs no source.
func Skeleton(d *declare.Declaration) *lock.Lock {
	l := &lock.Lock{
		Format: lock.Format,
		Declaration: lock.Declaration{
			Digest: d.Digest(), Project: d.Project, Isolation: string(d.Isolation), Host: slices.Sorted(slices.Values(d.Host)),
		},
		Sources: map[string]lock.Source{}, Items: map[string]lock.Item{}, Roots: map[string]map[string]lock.Root{}, Addons: map[string]string{},
		Variables: map[string]string{}, Steps: map[string]string{}, Services: map[string]string{}, Routines: map[string]string{},
	}
	for _, x := range d.Includes {
		l.Declaration.Includes = append(l.Declaration.Includes, strings.TrimSpace(x.Name+" "+x.Digest+" "+x.Pin))
	}
	for _, p := range d.Platforms {
		l.Declaration.Platforms = append(l.Declaration.Platforms, p.String())
	}
	for _, v := range d.Variables {
		l.Variables[v.Name] = canon.Digest(v.Text())
	}
	for _, s := range d.Steps {
		l.Steps[s.Name] = canon.Digest(s.Meaning())
	}
	for _, a := range d.Addons {
		l.Addons[a.Name] = canon.Digest(a.Meaning())
	}
	for _, s := range d.Services {
		l.Services[s.Name] = canon.Digest(s.Meaning())
	}
	for _, x := range d.Routines {
		l.Routines[x.Name] = canon.Digest(x.Meaning())
	}
	return l
}

type opened struct {
	once    sync.Once
	source  source.Source
	address source.Address
	err     error
}

type resolver struct {
	d      *declare.Declaration
	m      *source.Machine
	client *fetch.Client
	o      Options

	locked map[string]lock.Item // what is locked so far

	mu     sync.Mutex
	opened map[string]*opened
	states map[string]declare.Source // other states of declared sources that this resolution found
}

// open opens the source of a name: a declared one, or one implied by its kind.
func (r *resolver) open(name string) *opened {
	r.mu.Lock()
	x := r.opened[name]
	if x == nil {
		x = &opened{}
		r.opened[name] = x
	}
	r.mu.Unlock()
	x.once.Do(func() {
		declared, ok := r.source(name)
		if !ok {
			declared = source.Implied(name)
		}
		declared.Debian.State = r.state(declared)
		x.source, x.address, x.err = source.Open(declared, r.m, r.client)
	})
	return x
}

// state is the moment whose state of an archive is looked at: the date that was asked for, or
// that of what is locked where nothing of it is renewed. Zero is now.
func (r *resolver) state(d declare.Source) time.Time {
	if d.Debian.Snapshots == "" || !d.Debian.State.IsZero() {
		return d.Debian.State
	}
	if !r.o.AsOf.IsZero() {
		return r.o.AsOf
	}
	if r.o.Old == nil || r.o.Renew == nil {
		return time.Time{}
	}
	at, err := time.Parse(time.RFC3339, r.o.Old.Sources[d.Name].State)
	if err != nil || r.renews(d.Name) {
		return time.Time{}
	}
	return at
}

// choice is a card's way of having a tool, and the source to have it from.
type choice struct {
	card   *card.Card
	from   card.From
	source string
}

// ways finds the cards of a tool and the sources to have it from, in the order to try: the
// catalogs of the declaration come before the cards of the program, and sources in the order
// in which they are declared.
func (r *resolver) ways(ctx context.Context, t declare.Toolchain) ([]choice, error) {
	if t.Package != "" {
		one, err := r.build(t)
		return []choice{one}, err
	}
	var catalogs []*source.Catalog
	var out []choice
	var refused error
	add := func(c *card.Card, catalog string) {
		list, err := r.pick(t, c, catalog)
		out = append(out, list...)
		if err != nil && refused == nil {
			refused = err
		}
	}
	for _, s := range r.d.Sources {
		if s.Kind != "catalog" || t.From != "" && t.From != s.Name && r.kind(t.From) == "catalog" {
			continue
		}
		x := r.open(s.Name)
		if x.err != nil {
			return nil, x.err
		}
		catalog := x.source.(*source.Catalog)
		c, err := catalog.Card(ctx, t.CardName())
		if err != nil {
			return nil, err
		}
		if c != nil {
			add(c, s.Name)
		}
		catalogs = append(catalogs, catalog)
	}
	for _, s := range r.d.Sources {
		// A listing has one tool, which is called as the source, or as whoever names that.
		if s.Kind == "listing" && (t.From == s.Name || t.From == "" && t.Name == s.Name) {
			c := &card.Card{Name: t.Name, From: []card.From{{Kind: "listing", Package: s.Name, Parts: []card.Part{{Name: t.Name}}}}}
			out = append(out, choice{c, c.From[0], s.Name})
		}
	}
	if len(out) > 0 && t.From != "" {
		return out, nil
	}
	if c, ok := card.Builtin(t.CardName()); ok {
		add(c, "")
	} else if c, ok := r.library(t); ok {
		add(c, "")
	}
	if len(out) > 0 {
		return out, nil
	}
	if refused != nil {
		return nil, refused
	}
	names := card.BuiltinNames()
	for _, catalog := range catalogs {
		tools, _ := catalog.Tools(ctx)
		names = append(names, tools...)
	}
	return nil, r.unknown(ctx, t, names)
}

func (r *resolver) kind(name string) string {
	if s, ok := r.source(name); ok {
		return s.Kind
	}
	return name
}

// pick are the ways of a card that fit what the declaration says.
func (r *resolver) pick(t declare.Toolchain, c *card.Card, catalog string) ([]choice, error) {
	var out []choice
	var ways []string
	for _, f := range c.From {
		var names []string
		switch {
		case f.Kind == "catalog":
			names = []string{catalog}
		case t.From != "" && r.kind(t.From) == f.Kind:
			names = []string{t.From}
		default:
			for _, s := range r.d.Sources {
				if s.Kind == f.Kind {
					names = append(names, s.Name)
				}
			}
			if len(names) == 0 {
				names = []string{f.Kind}
			}
		}
		for _, name := range names {
			if _, ok := r.d.Source(name); f.Kind == "debian" && !ok {
				name = "a source of kind debian"
			} else if t.From == "" || t.From == name {
				out = append(out, choice{c, f, name})
			}
			ways = append(ways, name)
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	if t.From == "" {
		return nil, fault.Findings{{
			Place: t.Place, What: fmt.Sprintf("%s comes from a Debian archive, and no source of that kind is declared", t.Name),
			Do: "Add, for example:\n  [source.trixie]\n  kind  = \"debian\"\n  suite = \"trixie\"",
		}}
	}
	return nil, fault.Findings{{Place: t.Place, What: fmt.Sprintf("%s is not to be had from %q", t.Name, t.From), Do: "It comes from " + strings.Join(ways, " or ") + "."}}
}

// declared is the first source of a kind that the declaration has.
func (r *resolver) declared(kind string) (string, bool) {
	for _, s := range r.d.Sources {
		if s.Kind == kind {
			return s.Name, true
		}
	}
	return "", false
}

// item locks one toolchain: from the source that it is locked from where that will do, else
// from the first that has what is asked for.
func (r *resolver) item(ctx context.Context, t declare.Toolchain) (lock.Item, error) {
	ways, err := r.ways(ctx, t)
	if err != nil {
		return lock.Item{}, err
	}
	if old, had := r.o.Old.Items[t.Name]; had && !r.o.Renew(t.Name) {
		slices.SortStableFunc(ways, func(a, b choice) int {
			from := r.base(old.Source)
			if (a.source == from) == (b.source == from) {
				return 0
			} else if a.source == from {
				return -1
			}
			return 1
		})
	}
	var found fault.Findings
	for _, way := range ways {
		item, err := r.itemBy(ctx, t, way)
		var missing fault.Findings
		if err == nil || !errors.As(err, &missing) {
			return item, err
		}
		var h hindered
		if errors.As(err, &h) { // there is one, which something else forbids
			return item, h.Findings
		}
		found = append(found, missing...)
	}
	if len(found) <= 1 {
		return lock.Item{}, found
	}
	// Each source has been looked at, and what it has is said.
	all := fault.Finding{Place: found[0].Place, What: fmt.Sprintf("no version of %s satisfies %q, in any of %d sources", t.Name, t.Ask, len(ways))}
	for i, f := range found {
		name := ways[min(i, len(ways)-1)].source
		all.Do += fmt.Sprintf("%s: %s\n", name, cmp.Or(f.Do, f.What))
	}
	all.Do = strings.TrimSpace(all.Do)
	return lock.Item{}, fault.Findings{all}
}

// hindered says that the version to take needs what the project does not have.
type hindered struct{ fault.Findings }

func (h hindered) Unwrap() error { return h.Findings }

// itemBy locks one toolchain from one source.
func (r *resolver) itemBy(ctx context.Context, t declare.Toolchain, way choice) (_ lock.Item, err error) {
	scheme := schemeOf(way)
	if t.Ask, err = r.lines(t); err != nil {
		return lock.Item{}, err
	}
	if bad := t.Ask.Valid(scheme); bad != "" {
		return lock.Item{}, fault.Findings{{Place: t.AskAt, What: fmt.Sprintf("%q is not a version of %s (%s versions)", bad, t.Name, scheme)}}
	}
	old, had := r.o.Old.Items[t.Name]
	builder, err := r.builder(t, way)
	if err != nil {
		return lock.Item{}, err
	}
	way.from.Parts = slices.DeleteFunc(slices.Clone(way.from.Parts), func(x card.Part) bool {
		return x.Unless != "" && slices.ContainsFunc(r.d.Toolchains, func(o declare.Toolchain) bool { return o.Name == x.Unless })
	})
	stated := r.ownState(t, way)
	keep := had && r.stands(old, t, way, stated, builder) && t.Ask.Allows(scheme, old.Version)
	if more := r.asked(t.Name, way.card); len(more) > 0 {
		way.from.Packages = append(slices.Clone(way.from.Packages), more...)
	}
	if keep && r.coversAll(old) && wantsAsMany(old, way.from) && hasParts(old, way.from) {
		old.Platforms = r.onlyWanted(old)
		old.Prefix, old.Shown = t.Prefix, shownAs(t)
		return old, nil
	}
	from := cmp.Or(stated, way.source)
	if keep {
		from = old.Source
	}
	x := r.open(from)
	if x.err != nil {
		return lock.Item{}, x.err
	}
	v := old.Version
	if !keep {
		var state string
		if v, state, err = r.version(ctx, t, way, x.source, scheme); err != nil {
			return lock.Item{}, err
		}
		if state != "" {
			from = state
			if x = r.open(from); x.err != nil {
				return lock.Item{}, x.err
			}
		}
	}
	for _, check := range []func(context.Context, declare.Toolchain, choice, source.Source, string) error{r.onNode, r.onGo} {
		if err := check(ctx, t, way, x.source, v); err != nil {
			var needs fault.Findings
			if errors.As(err, &needs) {
				return lock.Item{}, hindered{needs}
			}
			return lock.Item{}, err
		}
	}
	r.withoutCommands(ctx, t, way, x.source, v)
	item := lock.Item{
		Version: v, Source: from, Card: way.card.Digest(),
		Answer: renamed(t, way.card.Answer.Run), Match: way.card.Answer.Match, Place: renamed(t, way.card.Place.Run), PlaceIs: way.card.Place.Match, Variables: r.cardVariables(t, way.card, v),
		Service: way.card.Service.At(v),
		Prefix:  t.Prefix, Shown: shownAs(t), For: t.For,
	}
	if item.Platforms, item.Published, err = r.parts(ctx, x.source, t, way.from, v); err != nil {
		return lock.Item{}, err
	}
	// A tree digest that a machine has learnt stays with its archive.
	for on, parts := range item.Platforms {
		for name, part := range parts {
			part.Builder = builder
			if known, ok := old.Platforms[on][name]; ok && known.Digest == part.Digest && known.Builder == builder {
				part.Tree, part.Sums = known.Tree, known.Sums
			}
			parts[name] = part
		}
	}
	return item, nil
}

// cardVariables are the variables that a tool's card sets. Of several of one tool, the one by the tool's own
// name sets them, and one for another tool sets none.
func (r *resolver) cardVariables(t declare.Toolchain, c *card.Card, v string) map[string]string {
	out := map[string]string{}
	if t.For != "" || t.Tool != "" && slices.ContainsFunc(r.d.Toolchains, func(o declare.Toolchain) bool { return o.Name == t.Tool }) {
		return out
	}
	in := strings.NewReplacer("@{version}", v, "@{major}", version.Major(v), "@{minor}", version.Minor(v))
	for name, value := range c.VariablesOf(v) {
		out[name] = in.Replace(value)
	}
	return out
}

// parts are those of a version on every platform of the project, and when it was published.
func (r *resolver) parts(ctx context.Context, s source.Source, t declare.Toolchain, from card.From, v string) (on map[string]map[string]lock.Part, published string, err error) {
	on = map[string]map[string]lock.Part{}
	for _, p := range r.d.Platforms {
		parts, at, err := s.Parts(ctx, from, v, p, r.asOf(t))
		if fetch.NotFound(err) {
			return nil, "", fault.Findings{{Place: t.AskAt, What: fmt.Sprintf("%s %s is not there for %s", t.Name, v, p)}}
		}
		if err != nil {
			return nil, "", err
		}
		if !at.IsZero() {
			published = at.Format(time.RFC3339)
		}
		on[p.String()] = parts
	}
	return on, published, nil
}

// stands tells whether nothing that decides on a toolchain is another than when it was locked,
// its ask aside.
func (r *resolver) stands(old lock.Item, t declare.Toolchain, way choice, stated, builder string) bool {
	return r.sameSuites(old.Source) && builtBy(old, builder) && !r.o.Renew(t.Name) &&
		r.base(old.Source) == way.source && (stated == "" || stated == old.Source) &&
		old.Card == way.card.Digest() && old.Answer == renamed(t, way.card.Answer.Run) && old.For == t.For
}

// shownAs are the names that commands of a toolchain are shown by: command → name.
func shownAs(t declare.Toolchain) map[string]string {
	out := map[string]string{}
	for _, x := range t.Shown {
		out[x.Command] = x.As
	}
	return out
}

// lines fills in what "lts" means for a tool: of Node.js the lines with even numbers, from the
// October of the year in which they came out (Node.js release schedule).
func (r *resolver) lines(t declare.Toolchain) (version.Ask, error) {
	if !t.Ask.LTS() {
		return t.Ask, nil
	}
	if t.Name != "node" {
		return t.Ask, fault.Findings{{Place: t.AskAt, What: fmt.Sprintf("%s has no lines that are called lts", t.Name), Do: "Name a version: trammel find " + shell.Typed(t.Name)}}
	}
	now := r.o.Now
	if at := r.asOf(t); !at.IsZero() {
		now = at
	}
	var lines []string
	for major := 4; ; major += 2 {
		if time.Date(2013+major/2, time.October, 28, 0, 0, 0, 0, time.UTC).After(now) {
			break
		}
		lines = append([]string{fmt.Sprint(major)}, lines...)
	}
	return t.Ask.OnLines(lines), nil
}

// asked are the packages that settings of services ask for besides a card's own.
func (r *resolver) asked(tool string, c *card.Card) (out []string) {
	for _, s := range r.d.Services {
		if s.Tool != tool {
			continue
		}
		values := slices.Collect(maps.Values(s.Settings))
		for _, when := range s.Conditions {
			values = append(values, when.Then, when.Else)
		}
		for _, value := range values {
			for _, name := range c.Service.PackagesFor(value) {
				if !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// wantsAsMany tells whether what is locked of a Debian archive wants the packages that are
// wanted now. Their names are decided by the card and the version, which are the same.
func wantsAsMany(old lock.Item, from card.From) bool {
	for _, parts := range old.Platforms {
		for _, p := range parts {
			if p.Format != lock.RootFormat {
				continue
			}
			if len(p.Wants) != len(from.Packages) {
				return false
			}
			for _, name := range from.Packages {
				prefix, _, _ := strings.Cut(name, "@{")
				if !slices.ContainsFunc(p.Wants, func(w string) bool { return strings.HasPrefix(w, prefix) }) {
					return false
				}
			}
		}
	}
	return true
}

// hasParts tells whether what is locked is of the parts that are wanted now.
func hasParts(old lock.Item, from card.From) bool {
	for _, parts := range old.Platforms {
		if len(from.Parts) > 0 && len(parts) != len(from.Parts) {
			return false
		}
	}
	return true
}

func (r *resolver) coversAll(i lock.Item) bool {
	return !slices.ContainsFunc(r.d.Platforms, func(p platform.Platform) bool { return i.Platforms[p.String()] == nil })
}

func (r *resolver) onlyWanted(i lock.Item) map[string]map[string]lock.Part {
	out := map[string]map[string]lock.Part{}
	for _, p := range r.d.Platforms {
		out[p.String()] = i.Platforms[p.String()]
	}
	return out
}

// version finds the newest version that the ask allows, and the name of the state of the source
// that has it, where that is not the one that is looked at.
func (r *resolver) version(ctx context.Context, t declare.Toolchain, way choice, s source.Source, scheme version.Scheme) (v, state string, err error) {
	releases, err := s.Releases(ctx, way.from, r.d.Platforms)
	if err != nil && !fetch.NotFound(err) {
		return "", "", err
	}
	seen := releasesSeen{asOf: r.asOf(t)}
	for _, x := range releases {
		seen.versions = append(seen.versions, x.Version)
	}
	seen.allowed = slices.DeleteFunc(slices.Clone(releases), func(x source.Release) bool {
		return !scheme.Valid(x.Version) || !t.Ask.Allows(scheme, x.Version)
	})
	slices.SortStableFunc(seen.allowed, func(a, b source.Release) int { return scheme.Compare(b.Version, a.Version) })
	for _, x := range seen.allowed {
		if seen.asOf.IsZero() {
			return x.Version, "", nil
		}
		at, err := Dated(ctx, s, way.from, x, r.d.Platforms)
		switch {
		case err != nil:
			return "", "", err
		case at.IsZero():
			seen.undated = append(seen.undated, x.Version)
		case !at.After(seen.asOf):
			return x.Version, "", nil
		}
	}
	if len(seen.undated) > 0 && len(seen.undated) == len(seen.allowed) { // nothing of it has a date: that stops nobody else
		event.Say(ctx, fmt.Sprintf("The source %s has no date for %s, so it is taken as it is now: %s.", way.source, t.Name, seen.undated[0]))
		return seen.undated[0], "", nil
	}
	// Lists may be incomplete: an exact version is asked for before it is refused.
	if exact, ok := t.Ask.Named(); ok && seen.asOf.IsZero() {
		if _, _, partsErr := s.Parts(ctx, way.from, exact, r.d.Platforms[0], time.Time{}); partsErr == nil {
			return exact, "", nil
		} else if !fetch.NotFound(partsErr) {
			return "", "", partsErr
		}
	}
	if err != nil && t.Package == "" { // a card names it, so that the source is not what it should be
		return "", "", err
	}
	// What a source does not have now, an earlier state of it may have had.
	earlier, v, state, err2 := r.earlier(ctx, t, way, s, scheme)
	if err2 != nil || state != "" {
		return v, state, err2
	}
	seen.versions = append(seen.versions, earlier...)
	if err != nil || len(seen.versions) == 0 && way.from.Kind == "debian" && way.from.Package != "" { // it does not know the package at all
		return "", "", r.noPackage(ctx, t, way, s)
	}
	return "", "", seen.none(t, way, scheme, r.d.Platforms)
}

// releasesSeen is what a source showed of a toolchain while no version of it would do.
type releasesSeen struct {
	asOf     time.Time
	versions []string         // all
	allowed  []source.Release // by the ask, the newest first
	undated  []string         // of the allowed ones
}

// asOf is the earlier of the whole lock's bound and the toolchain's own.
func (r *resolver) asOf(t declare.Toolchain) time.Time {
	if t.AsOf.IsZero() || !r.o.AsOf.IsZero() && r.o.AsOf.Before(t.AsOf) {
		return r.o.AsOf
	}
	return t.AsOf
}

// none explains that no version will do.
func (seen releasesSeen) none(t declare.Toolchain, way choice, scheme version.Scheme, on []platform.Platform) error {
	what := fmt.Sprintf("no version of %s satisfies %q (source %s)", t.Name, t.Ask, way.source)
	do := "The source has no version of it for " + platforms(on) + "."
	if below, above := t.Ask.Around(scheme, seen.versions); below != "" || above != "" {
		near := slices.DeleteFunc([]string{below, above}, func(v string) bool { return v == "" })
		do = "The nearest there are: " + strings.Join(near, " and ") + "."
	}
	if low, high := t.Ask.Contradiction(scheme); low != "" {
		what = fmt.Sprintf("the ask for %s contradicts itself: no version is both %s and %s", t.Name, low, high)
		do = ""
	}
	if len(seen.allowed) > 0 {
		what += " and was there on " + seen.asOf.UTC().Format(time.DateOnly)
		do = "The oldest that satisfies it: " + seen.allowed[len(seen.allowed)-1].Version + "."
		if len(seen.undated) > 0 {
			do = "The source has no date for: " + strings.Join(seen.undated, ", ") + ". To take one of them, ask for it exactly and without as-of."
		}
	}
	return fault.Findings{{Place: t.AskAt, What: what, Do: do}}
}

// Dated is when a release was published, asking the source when its list does not
// say; zero when it does not know.
func Dated(ctx context.Context, s source.Source, from card.From, x source.Release, on []platform.Platform) (time.Time, error) {
	dater, ok := s.(source.Dater)
	if !x.Published.IsZero() || !ok {
		return x.Published, nil
	}
	at, err := dater.Published(ctx, from, x.Version, on[0])
	if fetch.NotFound(err) {
		return time.Time{}, nil
	}
	return at, err
}

func platforms(list []platform.Platform) string {
	out := make([]string, len(list))
	for i, p := range list {
		out[i] = p.String()
	}
	return strings.Join(out, ", ")
}

// sources writes down where items came from. A source that was not read anew
// keeps what the old lock says of it, so that locking twice gives equal bytes.
func (r *resolver) sources(ctx context.Context, l *lock.Lock) error {
	used := map[string]bool{}
	for _, item := range l.Items {
		used[item.Source] = true
	}
	for name := range l.Roots {
		used[name] = true
	}
	maps.Copy(used, sourcesOfLibraries(l))
	for _, name := range lock.Sorted(used) {
		kind := r.kind(name)
		old, known := r.o.Old.Sources[name]
		if known && old.Kind == kind && r.sameSuites(name) && !r.moved(name, l) {
			if r.renews(name) { // "nothing newer" is believed of no older state
				if _, err := r.stateOf(ctx, name, old, true); err != nil {
					return err
				}
			}
			l.Sources[name] = old
			continue
		}
		x := r.open(name)
		s := lock.Source{Kind: kind, Address: x.address.Origin, AsOf: r.o.Now.UTC().Format(time.RFC3339)}
		declared, _ := r.source(name)
		if at := r.state(declared); !at.IsZero() {
			s.State = at.UTC().Format(time.RFC3339)
		}
		if of := r.base(name); of != name {
			s.Of = of
		}
		state, err := r.stateOf(ctx, name, old, known)
		if err != nil {
			return err
		}
		s.Suites, s.Index, s.Released, s.Serial = state.Suites, state.Index, state.Released, state.Serial
		l.Sources[name] = s
	}
	return nil
}

// stateOf reads which state a source gives, and refuses one that is older than the state that the old lock was made from
// where there is such a lock.
func (r *resolver) stateOf(ctx context.Context, name string, old lock.Source, known bool) (s lock.Source, err error) {
	x := r.open(name)
	if x.err != nil {
		return s, x.err
	}
	if archive, ok := x.source.(source.Rooter); ok {
		var dates []time.Time
		if s.Suites, s.Index, dates, err = archive.Read(ctx); err != nil {
			return s, err
		}
		if known && !r.o.Older && r.o.AsOf.IsZero() {
			if err := older(name, old, s.Suites, dates, r.o.Old.Roots[name]); err != nil {
				return s, err
			}
		}
		for _, d := range dates {
			s.Released = append(s.Released, d.UTC().Format(time.RFC3339))
		}
	}
	if numbered, ok := x.source.(interface {
		Serial(context.Context) (int64, error)
	}); ok {
		if s.Serial, err = numbered.Serial(ctx); err != nil {
			return s, err
		}
		if known && s.Serial < old.Serial && !r.o.Older {
			return s, fault.New(fault.ErrSource, "the catalog %q gives its state number %d, and the lock was made from number %d", name, s.Serial, old.Serial).
				Advise("An older state may bring back releases with known holes, so nothing of it was used.\nAsk whoever publishes it. If it was set back on purpose: trammel lock --renew --older-release")
		}
	}
	return s, nil
}

// older refuses the releases of an archive that were signed before those that the lock was
// made from: whoever stands between may so hand out packages whose holes are known. Locks of
// earlier programs say only the day, with their roots.
func older(name string, old lock.Source, suites []string, dates []time.Time, roots map[string]lock.Root) error {
	for i, d := range dates {
		if i >= len(suites) {
			break
		}
		var before time.Time
		if j := slices.Index(old.Suites, suites[i]); j >= 0 && j < len(old.Released) {
			before, _ = time.Parse(time.RFC3339, old.Released[j])
		} else if j == 0 {
			for _, root := range roots {
				if day, err := time.Parse(time.DateOnly, root.Version); err == nil && day.After(before) {
					before = day
				}
			}
		}
		if d.Before(before) {
			suite, _, _ := strings.Cut(suites[i], " ")
			return fault.New(fault.ErrSource, "the source %q gives a release of %q that was signed on %s, and the lock was made from one of %s", name, suite, d.Format("2 Jan 2006 15:04"), before.Format("2 Jan 2006 15:04")).
				Advise("An older release may bring back packages with known holes, so nothing of it was used.\nTry later, or another mirror. If the archive was set back on purpose: trammel lock --renew --older-release")
		}
	}
	return nil
}

// moved tells whether an item of a source is not what the old lock had.
func (r *resolver) moved(source string, l *lock.Lock) bool {
	if !maps.EqualFunc(r.o.Old.Roots[source], l.Roots[source], func(a, b lock.Root) bool { return slices.Equal(a.Packages, b.Packages) }) {
		return true
	}
	if !r.sameLibraries(source, l) {
		return true
	}
	for tool, item := range l.Items {
		before, had := r.o.Old.Items[tool]
		if item.Source == source && (!had || before.Version != item.Version || len(before.Platforms) != len(item.Platforms)) {
			return true
		}
	}
	return false
}
