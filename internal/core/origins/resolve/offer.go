package resolve

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Offer is what a source has of one tool.
type Offer struct {
	Tool     string
	Source   string
	Scheme   version.Scheme
	Releases []source.Release // newest first
}

// Look asks the sources of a declaration what they have of a toolchain, for all
// of its platforms. It downloads index documents only.
func Look(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, t declare.Toolchain) ([]*Offer, error) {
	return looker(d, m, client).look(ctx, t)
}

// looker is a resolver that asks sources and locks nothing.
func looker(d *declare.Declaration, m *source.Machine, client *fetch.Client) *resolver {
	return &resolver{d: d, m: m, client: client, opened: map[string]*opened{}}
}

func (r *resolver) look(ctx context.Context, t declare.Toolchain) ([]*Offer, error) {
	ways, err := r.ways(ctx, t)
	if err != nil {
		return nil, err
	}
	offers := make([]*Offer, len(ways))
	errs := make([]error, len(ways))
	var wait sync.WaitGroup
	for i, way := range ways {
		wait.Go(func() {
			x := r.open(way.source)
			if x.err != nil {
				errs[i] = x.err
				return
			}
			releases, err := x.source.Releases(ctx, way.from, r.d.Platforms)
			if err != nil {
				errs[i] = err
				return
			}
			o := &Offer{Tool: t.Name, Source: way.source, Scheme: schemeOf(way)}
			for _, x := range releases {
				if o.Scheme.Valid(x.Version) {
					o.Releases = append(o.Releases, x)
				}
			}
			if archive, ok := x.source.(source.Historian); ok {
				earlier, err := archive.Earlier(ctx, way.from, r.d.Platforms)
				if err != nil {
					errs[i] = err
					return
				}
				o.Releases = append(o.Releases, earlier...)
			}
			slices.SortStableFunc(o.Releases, func(a, b source.Release) int { return o.Scheme.Compare(b.Version, a.Version) })
			offers[i] = o
		})
	}
	wait.Wait()
	out := slices.DeleteFunc(offers, func(o *Offer) bool { return o == nil })
	if len(out) == 0 {
		return nil, errs[0]
	}
	return out, nil
}

// Date fills in the dates of releases where the source's list has none, several
// at once. A date that cannot be had stays zero: it is only for people here.
func Date(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, t declare.Toolchain, list []source.Release) {
	looker(d, m, client).date(ctx, t, list)
}

func (r *resolver) date(ctx context.Context, t declare.Toolchain, list []source.Release) {
	way, s, err := r.way(ctx, t)
	if err != nil {
		return
	}
	asking := several()
	for i := range list {
		asking.Go(func() error {
			if at, err := Dated(ctx, s, way.from, list[i], r.d.Platforms); err == nil {
				list[i].Published = at
			}
			return nil
		})
	}
	asking.Wait()
}

// way is the card and the opened source of a toolchain: the one that From names, or the first.
func (r *resolver) way(ctx context.Context, t declare.Toolchain) (choice, source.Source, error) {
	ways, err := r.ways(ctx, t)
	if err != nil {
		return choice{}, nil, err
	}
	way := ways[0]
	if i := slices.IndexFunc(ways, func(w choice) bool { return w.source == t.From }); i >= 0 {
		way = ways[i]
	}
	x := r.open(way.source)
	return way, x.source, x.err
}

// AskNow is an ask with what "lts" means now filled in.
func AskNow(t declare.Toolchain, now time.Time) version.Ask {
	ask, err := (&resolver{o: Options{Now: now}}).lines(t)
	if err != nil {
		return t.Ask
	}
	return ask
}

func schemeOf(way choice) version.Scheme {
	if way.card.Scheme != "" {
		return way.card.Scheme
	}
	return source.Scheme(way.from.Kind)
}

// Known is one tool that can be declared.
type Known struct {
	Name   string
	About  string
	Source string // name of the catalog, or the kind of source of the built-in card
}

// Tools lists every tool that a declaration could name: those of its catalogs and
// those with a card in the program, sorted by name.
func Tools(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client) ([]Known, error) {
	all := map[string]Known{}
	for _, name := range card.BuiltinNames() {
		c, _ := card.Builtin(name)
		all[name] = Known{name, c.About, c.From[0].Kind}
	}
	r := looker(d, m, client)
	for _, s := range slices.Backward(d.Sources) { // the first catalog that has a tool wins
		if s.Kind != "catalog" {
			continue
		}
		x := r.open(s.Name)
		if x.err != nil {
			return nil, x.err
		}
		catalog := x.source.(*source.Catalog)
		names, err := catalog.Tools(ctx)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			c, err := catalog.Card(ctx, name)
			if err != nil {
				return nil, err
			}
			all[name] = Known{name, c.About, s.Name}
		}
	}
	out := make([]Known, 0, len(all))
	for _, name := range lock.Sorted(all) {
		out = append(out, all[name])
	}
	return out, nil
}

// Has tells whether a tool is among Tools: no card is read for that.
func Has(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, name string) (bool, error) {
	if card.Ships(name) {
		return true, nil
	}
	r := looker(d, m, client)
	for _, s := range d.Sources {
		if s.Kind != "catalog" {
			continue
		}
		x := r.open(s.Name)
		if x.err != nil {
			return false, x.err
		}
		names, err := x.source.(*source.Catalog).Tools(ctx)
		if err != nil || slices.Contains(names, name) {
			return err == nil, err
		}
	}
	return false, nil
}

// Renewal is what could be renewed of one locked toolchain.
type Renewal struct {
	Tool    string
	Locked  source.Release
	Allowed source.Release // the newest that the declaration allows
	Newest  source.Release // the newest of all, releases only
	Source  string
}

// Newer compares a lock with what the sources have, all toolchains at once.
func Newer(ctx context.Context, d *declare.Declaration, l *lock.Lock, m *source.Machine, client *fetch.Client) ([]Renewal, error) {
	out := make([]Renewal, len(d.Toolchains))
	errs := make([]error, len(d.Toolchains))
	asking, r := several(), looker(d, m, client)
	for i, t := range d.Toolchains {
		asking.Go(func() error {
			offers, err := r.look(ctx, t)
			if err != nil {
				errs[i] = err
				return nil
			}
			item := l.Items[t.Name]
			o := offers[0]
			if i := slices.IndexFunc(offers, func(o *Offer) bool { return o.Source == cmp.Or(l.Sources[item.Source].Of, item.Source) }); i >= 0 {
				o = offers[i]
			}
			t.From = o.Source
			ask := AskNow(t, time.Now())
			published, _ := time.Parse(time.RFC3339, item.Published)
			one := Renewal{Tool: t.Name, Source: o.Source, Locked: source.Release{Version: item.Version, Published: published}}
			for _, x := range o.Releases {
				if one.Newest.Version == "" && !o.Scheme.Prerelease(x.Version) {
					one.Newest = x
				}
				if one.Allowed.Version == "" && ask.Allows(o.Scheme, x.Version) {
					one.Allowed = x
				}
			}
			dated := []source.Release{one.Allowed, one.Newest}
			r.date(ctx, t, dated)
			one.Allowed, one.Newest = dated[0], dated[1]
			out[i] = one
			return nil
		})
	}
	asking.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// LookLibrary asks the source of a set what versions it has of one package.
func LookLibrary(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, x declare.Library, name string) (*Offer, error) {
	r := looker(d, m, client)
	from, opened, scheme, err := r.openFor(x)
	if err != nil {
		return nil, err
	}
	list, err := opened.source.Releases(ctx, card.From{Package: name}, d.Platforms)
	if fetch.NotFound(err) {
		return nil, fault.New(fault.ErrUsage, "the source %q has no package %s", from, name).Advise("Look it up: trammel find %s", shell.Typed(name))
	}
	return &Offer{Tool: x.Name + "/" + name, Source: from, Scheme: scheme, Releases: list}, err
}

// NewerLibraries compares the packages of a set with what its source has.
func NewerLibraries(ctx context.Context, d *declare.Declaration, l *lock.Lock, m *source.Machine, client *fetch.Client, x declare.Library) ([]Renewal, error) {
	r := looker(d, m, client)
	from, opened, scheme, err := r.openFor(x)
	if err != nil {
		return nil, err
	}
	list := l.Libraries[x.Name].On[r.platform().String()].List()
	// What the asks allow together is known by resolving them anew.
	o := Options{Old: l, Renew: func(name string) bool { return name == x.Name }}
	fresh := &resolver{d: d, m: m, client: client, o: o, opened: r.opened}
	allowed, err := fresh.set(ctx, l, x)
	if err != nil {
		return nil, err
	}
	newest := map[string]string{}
	for _, one := range allowed.On[r.platform().String()].List() {
		newest[one.Name+" "+one.Place] = one.Version
	}
	out := make([]Renewal, len(list))
	errs := make([]error, len(list))
	slots := make(chan struct{}, 8)
	var wait sync.WaitGroup
	for i, one := range list {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			w := Renewal{Tool: x.Name + "/" + one.Name, Source: from, Locked: source.Release{Version: one.Version}, Allowed: source.Release{Version: newest[one.Name+" "+one.Place]}}
			releases, err := opened.source.Releases(ctx, card.From{Package: one.Name}, d.Platforms)
			if err != nil && !fetch.NotFound(err) {
				errs[i] = err
				return
			}
			for _, have := range releases {
				if w.Newest.Version == "" && !scheme.Prerelease(have.Version) {
					w.Newest = have
				}
				for _, slot := range []*source.Release{&w.Locked, &w.Allowed} {
					if slot.Version == have.Version {
						slot.Published = have.Published
					}
				}
			}
			out[i] = w
		})
	}
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// openFor opens the source of a set.
func (r *resolver) openFor(x declare.Library) (from string, source_ *opened, scheme version.Scheme, err error) {
	if from, err = r.sourceOf(x); err != nil {
		return "", nil, "", err
	}
	source_ = r.open(from)
	return from, source_, source.Scheme(declare.LibraryKinds[x.Kind].Source), source_.err
}
