package resolve

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// packageCard is the card of a tool that is just a package of a Debian archive: all
// of the package's own commands.
func packageCard(tool, name string) *card.Card {
	return &card.Card{Name: tool, From: []card.From{{Kind: "debian", Package: name, Packages: []string{name}, Versioned: name}}}
}

// libraries are the names of add-on libraries that Debian packages for a language:
// written as toolchains, they need no card.
var libraries = []string{"r-cran-", "r-bioc-", "r-other-", "python3-"}

// library is the card of such a library.
func (r *resolver) library(t declare.Toolchain) (*card.Card, bool) {
	if !slices.ContainsFunc(libraries, func(p string) bool { return strings.HasPrefix(t.Name, p) }) {
		return nil, false
	}
	return packageCard(t.Name, t.Name), true
}

// withoutCommands says of a package that was asked for by its name that it brings no command:
// whoever declares one as a tool mostly wants commands.
func (r *resolver) withoutCommands(ctx context.Context, t declare.Toolchain, way choice, s source.Source, v string) {
	archive, ok := s.(interface {
		NoCommands(ctx context.Context, name, v string, p platform.Platform) (none bool, rests []string)
	})
	if !ok || t.Package == "" {
		return
	}
	if none, rests := archive.NoCommands(ctx, t.Package, v, r.platform()); none {
		text := fmt.Sprintf("The package %s brings no command: what it has is for other packages of its root.", t.Package)
		if len(rests) > 0 && len(rests) < 8 {
			text += " It rests on " + strings.Join(rests, ", ") + "."
		}
		event.Say(ctx, text)
	}
}

// compilers are packages of Debian whose programs make programs for the system that they run on: by the beginnings
// of their names, which go on with a version.
var compilers = []string{"gcc", "g++", "clang", "gfortran", "rustc", "ghc", "ocaml"}

// compilers says of a compiler of a root that came or moved, outside of sealed isolation, where its programs run:
// on this machine's own system, which may have older libraries than the root.
func (r *resolver) compilers(ctx context.Context, l *lock.Lock) {
	if r.d.Isolation == declare.Sealed {
		return
	}
	for _, name := range lock.Sorted(l.Items) {
		item := l.Items[name]
		if r.kind(item.Source) != "debian" || r.o.Old.Items[name].Version == item.Version {
			continue
		}
		for _, part := range item.Platforms[r.platform().String()] {
			is := func(want string) bool {
				return slices.ContainsFunc(compilers, func(c string) bool { return want == c || strings.HasPrefix(want, c+"-") || want == c+"c" })
			}
			if slices.ContainsFunc(part.Wants, is) {
				event.Say(ctx, fmt.Sprintf("%s builds programs for the system of the root %s. In %s isolation they run on this machine's own system, which may have older libraries. Where that matters: isolation = \"sealed\"", name, item.Source, r.d.Isolation))
				return
			}
		}
	}
}

// roots resolves the root of each source that has any: what all its items want
// together, and what every root holds. A root whose wishes are as they were stays
// as it is, whatever the archive has by now.
func (r *resolver) roots(ctx context.Context, l *lock.Lock) error {
	names := map[string]bool{}
	for _, item := range l.Items {
		if r.kind(item.Source) == "debian" {
			names[item.Source] = true
		}
	}
	if base, ok := r.d.Base(); ok && r.d.Isolation == declare.Sealed {
		names[base.Name] = true
	}
	for _, name := range lock.Sorted(names) {
		for _, p := range r.d.Platforms {
			on := p.String()
			wants := r.wants(l, name, on)
			old, had := r.o.Old.Roots[name][on]
			declared, _ := r.source(name)
			if had && r.sameSuites(name) && old.Docs == declared.Debian.Docs && slices.Equal(wants, r.wants(r.o.Old, name, on)) && maps.Equal(files(l, name, on), old.Files) && !r.renews(name) {
				if old.Making != lock.Making { // the packages stay, and what is made of them is another tree
					old.Making, old.Tree = lock.Making, ""
				}
				set(l, name, on, old)
				continue
			}
			x := r.open(name)
			if x.err != nil {
				return x.err
			}
			archive, ok := x.source.(source.Rooter)
			if !ok {
				return fault.New(fault.ErrUsage, "the source %q has no roots", name)
			}
			kept, err := r.stays(ctx, archive, l, old, name, p)
			if err != nil {
				return err
			}
			root, err := archive.Root(ctx, wants, p, kept)
			if err != nil {
				return err
			}
			root.Files, root.Making = files(l, name, on), lock.Making
			if old.Making == root.Making && slices.Equal(root.Packages, old.Packages) && root.Docs == old.Docs && maps.Equal(root.Files, old.Files) {
				root = old
			}
			set(l, name, on, root)
		}
	}
	return nil
}

// sameSuites tells whether a source is declared to be what the old lock was
// resolved from.
func (r *resolver) sameSuites(name string) bool {
	declared, ok := r.source(name)
	return !ok || declared.Kind != "debian" || slices.Equal(declared.Debian.Lines(), r.o.Old.Sources[name].Suites)
}

func set(l *lock.Lock, source, on string, root lock.Root) {
	if l.Roots[source] == nil {
		l.Roots[source] = map[string]lock.Root{}
	}
	l.Roots[source][on] = root
}

// wants are the wishes of all items of a source, the tools' own packages at the
// versions that are locked, and what every root holds; sorted.
func (r *resolver) wants(l *lock.Lock, source, on string) []debian.Wish {
	all := map[string]string{}
	for _, name := range debian.Base() {
		all[name] = ""
	}
	for _, item := range l.Items {
		if item.Source != source {
			continue
		}
		for _, part := range item.Platforms[on] {
			for _, name := range part.Wants {
				all[name] = max(all[name], "")
			}
			all[part.Path] = part.Version
		}
	}
	var out []debian.Wish
	for _, name := range lock.Sorted(all) {
		out = append(out, debian.Wish{Name: name, Version: all[name]})
	}
	return out
}

// files are what the cards of a source's items have made in the root.
func files(l *lock.Lock, source, on string) map[string]string {
	var out map[string]string
	for _, item := range l.Items {
		if item.Source != source {
			continue
		}
		for _, part := range item.Platforms[on] {
			for to, from := range part.Files {
				if out == nil {
					out = map[string]string{}
				}
				out[to] = from
			}
		}
	}
	return out
}

// renews tells whether an item of a source is to be renewed.
func (r *resolver) renews(source string) bool {
	for tool, item := range r.o.Old.Items {
		if item.Source == source && r.o.Renew(tool) {
			return true
		}
	}
	return false
}

// stays are the locked packages of a root that must not move: all but those that
// a renewed tool needs.
func (r *resolver) stays(ctx context.Context, archive source.Rooter, l *lock.Lock, old lock.Root, name string, p platform.Platform) ([]lock.Package, error) {
	var renewed []debian.Wish
	for tool, item := range l.Items {
		if item.Source != name || !r.o.Renew(tool) {
			continue
		}
		for _, part := range item.Platforms[p.String()] {
			renewed = append(renewed, debian.Wish{Name: part.Path, Version: part.Version})
			for _, w := range part.Wants {
				if w != part.Path {
					renewed = append(renewed, debian.Wish{Name: w})
				}
			}
		}
	}
	kept := old.List()
	if !r.sameSuites(name) {
		return nil, nil
	}
	if len(renewed) == 0 {
		return kept, nil
	}
	moving := map[string]bool{}
	fresh, err := archive.Root(ctx, renewed, p, nil)
	if err != nil {
		return nil, err
	}
	for _, q := range fresh.List() {
		moving[q.Name] = true
	}
	return slices.DeleteFunc(kept, func(p lock.Package) bool { return moving[p.Name] }), nil
}
