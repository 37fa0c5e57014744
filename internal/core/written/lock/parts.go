package lock

import (
	"slices"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
)

// Part is one archive of an item for one platform.
type Part struct {
	Path       string            `toml:"path"`    // within the source
	Version    string            `toml:"version"` // of the package
	Format     string            `toml:"format"`  // "tar.gz" or "zip"
	Size       int64             `toml:"size"`    // bytes of the archive; 0 where the source does not say
	Digest     fetch.Digest      `toml:"digest"`  // of the archive, as the source gives it
	Tree       canon.TreeDigest  `toml:"tree"`    // of the unpacked tree; "" until a machine has fitted it
	Prefix     string            `toml:"prefix"`  // leading text to drop from names in the archive
	Strip      int               `toml:"strip"`   // leading folders to drop
	Bin        map[string]string `toml:"bin"`
	Executable []string          `toml:"executable"`
	Build      string            `toml:"build"`    // package to build from a Go module; "" for what is unpacked as it is
	Builder    string            `toml:"builder"`  // toolchain and version that builds it: "go 1.24.6"
	Packages   []string          `toml:"packages"` // an npm tool's tree: "PLACE PATH DIGEST", sorted
	Scripts    []string          `toml:"scripts"`  // its packages that would run a script on installing
	Sums       []string          `toml:"sums"`     // modules that went into the build, with their h1; known with the tree

	// Of what comes from a root: its packages, and globs of its commands.
	Wants    []string          `toml:"wants"`
	Commands []string          `toml:"commands"`
	Files    map[string]string `toml:"files"`
	Docs     bool              `toml:"-"` // as its root says
	Making   int               `toml:"-"` // as its root says

	Before string            `toml:"-"` // as its item's prefix says
	Shown  map[string]string `toml:"-"`
	Hidden bool              `toml:"-"` // none of its commands shows

	Own bool `toml:"-"` // it is of a person's own additions, and not of the project
}

// Named are commands of a part (name → file) under the names that they show with.
func (p Part) Named(commands map[string]string) map[string]string {
	if p.Hidden {
		return nil
	}
	if p.Before == "" && len(p.Shown) == 0 {
		return commands
	}
	out := map[string]string{}
	for command, file := range commands {
		switch as, ok := p.Shown[command]; {
		case ok:
			out[as] = file
		case len(p.Shown) == 0:
			out[p.Before+command] = file
		}
	}
	return out
}

// PartOn is a part with the names it goes by.
type PartOn struct {
	Item string
	Name string
	Part
}

// Label names a part for people and in the store.
func (p PartOn) Label() string {
	switch p.Format {
	case RootFormat:
		return "root " + p.Name
	case SetFormat:
		return "libraries " + p.Name
	}
	if p.Name == p.Item {
		return p.Item
	}
	return p.Item + "-" + p.Name
}

// PartsOn lists the parts for a platform, sorted by item and name.
func (l *Lock) PartsOn(p platform.Platform) []PartOn {
	var out []PartOn
	shown := map[string]bool{}
	for _, item := range Sorted(l.Items) {
		for _, part := range l.PartsOf(item, p) {
			out = append(out, part)
			shown[part.Name] = shown[part.Name] || part.Format == RootFormat
		}
	}
	for _, source := range Sorted(l.Roots) { // a root that shows the system alone
		if _, here := l.Roots[source][p.String()]; here && !shown[source] {
			out = append(out, l.rootOn(p, source, "", Part{}))
		}
	}
	return append(out, l.SetsOn(p)...)
}

// PartsOf lists the parts of one item on a platform, sorted by name.
func (l *Lock) PartsOf(item string, p platform.Platform) []PartOn {
	var out []PartOn
	i := l.Items[item]
	parts := i.Platforms[p.String()]
	for _, name := range Sorted(parts) {
		part := parts[name]
		part.Before, part.Shown, part.Hidden = i.Prefix, i.Shown, i.For != ""
		if part.Format == RootFormat {
			out = append(out, l.rootOn(p, l.Items[item].Source, item, part))
		} else {
			out = append(out, PartOn{item, name, part})
		}
	}
	return out
}

// SetTree records what is known of a part once a machine has it: its tree digest,
// and for a built one the modules that went into it.
func (l *Lock) SetTree(p platform.Platform, part PartOn, tree canon.TreeDigest, sums []string) {
	if part.Format == RootFormat {
		r := l.Roots[part.Name][p.String()]
		r.Tree = tree
		l.Roots[part.Name][p.String()] = r
		return
	}
	if part.Format == SetFormat {
		x := l.Libraries[part.Item].On[p.String()]
		x.Tree, x.Sums = tree, sums
		l.Libraries[part.Item].On[p.String()] = x
		return
	}
	x := l.Items[part.Item].Platforms[p.String()][part.Name]
	x.Tree, x.Sums = tree, sums
	l.Items[part.Item].Platforms[p.String()][part.Name] = x
}

// Learn takes over from an older lock what machines have found out about steps and
// add-ons that are as they were.
func (l *Lock) Learn(old *Lock) {
	take := func(to *map[string][]string, from map[string][]string, now, before map[string]string) {
		for name, lines := range from {
			if now[name] != "" && now[name] == before[name] {
				if *to == nil {
					*to = map[string][]string{}
				}
				(*to)[name] = lines
			}
		}
	}
	take(&l.Evidence, old.Evidence, l.Steps, old.Steps)
	take(&l.Pictures, old.Pictures, l.Addons, old.Addons)
}

// Distinct drops the parts that several items share but for the first, so that each
// archive is looked at one time.
func Distinct(parts []PartOn) []PartOn {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(parts), func(p PartOn) bool {
		id := p.Name + " " + p.Part.Version + " " + string(p.Digest)
		was := seen[id]
		seen[id] = true
		return was
	})
}

// Covers tells whether the lock was made for a platform.
func (l *Lock) Covers(p platform.Platform) bool {
	return slices.Contains(l.Declaration.Platforms, p.String())
}
