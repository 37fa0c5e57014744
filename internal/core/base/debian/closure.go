package debian

import (
	"fmt"
	"slices"
	"strings"
)

// Wish is a package that is wanted by name, and perhaps at one version.
type Wish struct {
	Name    string
	Version string // "" for the newest
}

// Indexes are the indexes of one archive's suites and components, the weightier
// first; the newest version of all counts.
type Indexes []*Index

// Closure is what a set of wishes needs.
type Closure struct {
	Packages []*Package        // sorted by name
	Why      map[string]string // package → the one that needed it first, "" for a wish
	Pruned   map[string]string // package that was left out → why
}

// Unsatisfied is a dependency that nothing in the archive satisfies.
type Unsatisfied struct {
	Of   string // the package that has it, or "" for a wish
	What string
}

func (e *Unsatisfied) Error() string {
	if e.Of == "" {
		return fmt.Sprintf("there is no package %s", e.What)
	}
	return fmt.Sprintf("%s needs %s, which nothing there satisfies", e.Of, e.What)
}

// Clash is two packages of a closure that exclude each other.
type Clash struct{ A, Relation, B string }

func (e *Clash) Error() string {
	return fmt.Sprintf("%s %s %s", e.A, e.Relation, e.B)
}

// resolver is the state of one closure. The rule is greedy, in apt's order: the
// first alternative that is chosen already, else the first that can be had; a real
// package before one that provides the name; of those the higher priority, then
// the name. Pre-Depends and Depends count, Recommends do not.
type resolver struct {
	indexes Indexes
	arch    string
	kept    map[string]*Package // what is locked already and goes before the newest
	chosen  map[string]*Package
	offers  map[string][]Provider // provided names of what is chosen
	queue   []*Package
	out     Closure
}

// Resolve finds the closure of wishes for an architecture. kept are packages that
// are locked: where one of them satisfies a relation it is taken as it is, so that
// a new wish moves nothing that it need not move.
func (list Indexes) Resolve(wishes []Wish, arch string, kept []*Package) (*Closure, error) {
	r := &resolver{
		indexes: list, arch: arch, kept: map[string]*Package{}, chosen: map[string]*Package{}, offers: map[string][]Provider{},
		out: Closure{Why: map[string]string{}, Pruned: map[string]string{}},
	}
	for _, p := range kept {
		r.kept[p.Name] = p
	}
	for _, w := range wishes {
		relation := Relation{Name: w.Name}
		if w.Version != "" {
			relation.Op, relation.Version = "=", w.Version
		}
		p, err := r.find(relation)
		if err != nil {
			return nil, err
		}
		if p == nil {
			return nil, &Unsatisfied{What: relation.String()}
		}
		if err := r.choose(p, ""); err != nil {
			return nil, err
		}
	}
	for len(r.queue) > 0 {
		p := r.queue[0]
		r.queue = r.queue[1:]
		if err := r.needs(p); err != nil {
			return nil, err
		}
	}
	if err := r.clashes(); err != nil {
		return nil, err
	}
	for _, p := range r.chosen {
		r.out.Packages = append(r.out.Packages, p)
	}
	slices.SortFunc(r.out.Packages, func(a, b *Package) int { return strings.Compare(a.Name, b.Name) })
	return &r.out, nil
}

func (r *resolver) choose(p *Package, why string) error {
	if r.chosen[p.Name] != nil {
		return nil
	}
	r.chosen[p.Name], r.out.Why[p.Name] = p, why
	r.queue = append(r.queue, p)
	groups, err := ParseRelations(p.Provides, r.arch)
	for _, g := range groups {
		r.offers[g[0].Name] = append(r.offers[g[0].Name], Provider{p, g[0].Version})
	}
	return err
}

// needs satisfies the dependencies of one package.
func (r *resolver) needs(p *Package) error {
	groups, err := ParseRelations(p.PreDepends+","+p.Depends, r.arch)
	if err != nil {
		return fmt.Errorf("%s: %w", p.Name, err)
	}
	for _, alternatives := range groups {
		if slices.ContainsFunc(alternatives, r.has) {
			continue
		}
		// One alternative that need not be there is enough to need none.
		pruned := false
		for _, a := range alternatives {
			if why, ok := Pruned(a.Name); ok {
				r.out.Pruned[a.Name], pruned = why, true
			}
		}
		if pruned {
			continue
		}
		var found *Package
		for _, a := range alternatives {
			if found, err = r.find(a); err != nil {
				return err
			}
			if found != nil {
				break
			}
		}
		if found == nil {
			var texts []string
			for _, a := range alternatives {
				texts = append(texts, a.String())
			}
			return &Unsatisfied{p.Name, strings.Join(texts, " | ")}
		}
		if why, ok := Pruned(found.Name); ok { // by way of a provided name
			r.out.Pruned[found.Name] = why
			continue
		}
		if err := r.choose(found, p.Name); err != nil {
			return err
		}
	}
	return nil
}

// has tells whether what is chosen satisfies a relation.
func (r *resolver) has(a Relation) bool {
	if p := r.chosen[a.Name]; p != nil && a.Holds(p.Version) {
		return true
	}
	return slices.ContainsFunc(r.offers[a.Name], func(o Provider) bool { return a.Holds(o.As) })
}

// find is the package to take for a relation, or nil.
func (r *resolver) find(a Relation) (*Package, error) {
	if p := r.kept[a.Name]; p != nil && a.Holds(p.Version) {
		return p, nil
	}
	var best *Package
	for _, x := range r.indexes {
		named, err := x.Named(a.Name)
		if err != nil {
			return nil, err
		}
		for _, p := range named {
			if a.Holds(p.Version) && (best == nil || newer(p, best)) {
				best = p
			}
		}
	}
	if best != nil {
		return best, nil
	}
	for _, x := range r.indexes {
		providers, err := x.Providers(a.Name)
		if err != nil {
			return nil, err
		}
		for _, p := range providers {
			if a.Holds(p.As) && (best == nil || before(p.Package, best)) {
				best = p.Package
			}
		}
	}
	if best != nil { // the newest of that package, or the locked one
		if p := r.kept[best.Name]; p != nil {
			return p, nil
		}
	}
	return best, nil
}

func newer(a, b *Package) bool {
	return Relation{Op: ">>", Version: b.Version}.Holds(a.Version)
}

// before is the order among those that provide a name: priority (Policy 2.5), then
// name, then the newer.
func before(a, b *Package) bool {
	rank := func(p *Package) int {
		return slices.Index([]string{"required", "important", "standard", "optional", "extra"}, p.Priority)
	}
	if x, y := rank(a), rank(b); x != y {
		return x >= 0 && (x < y || y < 0)
	}
	if a.Name != b.Name {
		return a.Name < b.Name
	}
	return newer(a, b)
}

// clashes finds two chosen packages of which one conflicts with or breaks the other
// (Policy 7.3, 7.4). A package never clashes with itself, nor with a name that it
// provides.
func (r *resolver) clashes() error {
	names := make([]string, 0, len(r.chosen))
	for name := range r.chosen {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		p := r.chosen[name]
		for _, field := range [][2]string{{"conflicts with", p.Conflicts}, {"breaks", p.Breaks}} {
			word := field[0]
			groups, err := ParseRelations(field[1], r.arch)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			for _, g := range groups {
				a := g[0]
				if q := r.chosen[a.Name]; q != nil && q != p && a.Holds(q.Version) {
					return &Clash{name, word, q.Name + " " + q.Version}
				}
				for _, o := range r.offers[a.Name] {
					if o.Package != p && a.Holds(o.As) {
						return &Clash{name, word, o.Name + ", which provides " + a.Name}
					}
				}
			}
		}
	}
	return nil
}
