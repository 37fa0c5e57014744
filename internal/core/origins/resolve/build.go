package resolve

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// build is the way to have a tool that no card describes: a command of a Go
// module, which the declaration's own go toolchain builds, or a package of npm with
// its whole tree.
func (r *resolver) build(t declare.Toolchain) (choice, error) {
	if r.kind(t.From) == "npm" {
		c := &card.Card{Name: t.Name, From: []card.From{{Kind: "npm", Package: t.Package, Build: true, Parts: []card.Part{{Name: t.Name}}}}}
		return choice{c, c.From[0], t.From}, nil
	}
	if r.kind(t.From) == "debian" {
		return choice{packageCard(t.Name, t.Package), packageCard(t.Name, t.Package).From[0], t.From}, nil
	}
	if r.kind(t.From) != "gomod" {
		return choice{}, fault.Findings{{Place: t.Place, What: fmt.Sprintf("package is for tools from a source of kind debian, gomod or npm, and %q is of kind %s", t.From, r.kind(t.From))}}
	}
	command := path.Base(t.Package)
	if regexp.MustCompile(`^v[0-9]+$`).MatchString(command) { // …/weirstamp/v2
		command = path.Base(path.Dir(t.Package))
	}
	c := &card.Card{Name: t.Name, Scheme: version.Semver, From: []card.From{{
		Kind: "gomod", Package: t.Package, Build: true,
		Parts: []card.Part{{Name: t.Name, Bin: map[string]string{command: "bin/" + command}}},
	}}}
	return choice{c, c.From[0], t.From}, nil
}

// builder is what besides the archives decides a built part: the locked toolchain
// that builds it, or the install scripts that may run. "" for what is unpacked as
// it is.
func (r *resolver) builder(t declare.Toolchain, way choice) (string, error) {
	if len(t.Scripts) > 0 {
		return "scripts " + strings.Join(slices.Sorted(slices.Values(t.Scripts)), " "), nil
	}
	if !way.from.Build || way.from.Kind != "gomod" {
		return "", nil
	}
	golang, _, ok := r.goFor(t)
	if !ok {
		return "", fault.New(fault.ErrUsage, "%s is built from its source, and no go toolchain is declared to build it", way.card.Name).
			Advise("Declare one: trammel set go=latest\nOr give it one of its own, which nothing else sees: go = \"latest\" in the table of %s.", t.Name)
	}
	return "go " + golang.Version, nil
}

// goFor is the locked toolchain that builds a tool, and whether it is the tool's own.
func (r *resolver) goFor(t declare.Toolchain) (golang lock.Item, own, ok bool) {
	if golang, own = r.locked[declare.BuilderOf(t.Name)]; own {
		return golang, true, true
	}
	golang, ok = r.locked["go"]
	return golang, false, ok
}

// onGo makes sure that a tool of a Go module has a toolchain that builds it: the module's go
// line says the oldest that does (Go Modules Reference, "go directive": a requirement since
// Go 1.21), and installing a package at a version is known since Go 1.16.
func (r *resolver) onGo(ctx context.Context, t declare.Toolchain, way choice, s source.Source, v string) error {
	proxy, ok := s.(interface {
		GoNeed(ctx context.Context, pkg, v string) (string, error)
	})
	golang, own, locked := r.goFor(t)
	if !ok || !way.from.Build || !locked {
		return nil
	}
	place, whose, do := t.Place, "the project's go", fmt.Sprintf("Give it one of its own, which nothing else sees: go = \"%s\" in the table of %s.\nOr ask for an older %s: trammel find %s", "%s", t.Name, t.Name, shell.Typed(t.Name))
	if own {
		whose, do = "its own go", "Ask for go = \"%s\" there."
	}
	if version.Go.Compare(golang.Version, "1.16") < 0 {
		return fault.Findings{{Place: place, What: fmt.Sprintf("%s cannot be built by %s %s: tools are built by Go 1.16 and newer", t.Name, whose, golang.Version), Do: strings.ReplaceAll(do, "%s", "latest")}}
	}
	need, err := proxy.GoNeed(ctx, t.Package, v)
	if err != nil {
		return err
	}
	if lister, ok := s.(interface {
		GoPackages(ctx context.Context, pkg, v string) []string
	}); ok {
		if list := lister.GoPackages(ctx, t.Package, v); len(list) > 0 && !slices.Contains(list, t.Package) {
			near := fault.DidYouMean(path.Base(t.Package), bases(list))
			return fault.Findings{{Place: t.Place, What: fmt.Sprintf("the module at %s has no package %s", v, t.Package), Do: strings.TrimSpace(near + " Look at what the module has, and write the import path of a command.")}}
		}
	}
	if need == "" || version.Go.Compare(need, "1.21") < 0 || version.Go.Compare(golang.Version, need) >= 0 {
		return nil
	}
	return fault.Findings{{Place: place, What: fmt.Sprintf("%s %s needs Go %s, as its module says, and %s is %s", t.Name, v, need, whose, golang.Version), Do: strings.ReplaceAll(do, "%s", version.Minor(need))}}
}

// rests tells whether a toolchain rests on another one that is declared.
func rests(t declare.Toolchain) bool {
	if t.Package != "" {
		return true
	}
	c, ok := card.Builtin(t.CardName())
	return ok && slices.ContainsFunc(c.From, ownCommands)
}

// ownCommands tells whether a way takes the commands that a package of npm states, which are
// scripts for Node.js.
func ownCommands(from card.From) bool {
	return from.Kind == "npm" && !from.Build && len(from.Parts) == 1 && len(from.Parts[0].Bin) == 0
}

// onNode makes sure that a tool of npm has the Node.js that it says it needs.
func (r *resolver) onNode(ctx context.Context, t declare.Toolchain, way choice, s source.Source, v string) error {
	npm, ok := s.(interface {
		NodeNeed(ctx context.Context, name, v string) (string, error)
	})
	pkg := t.Package
	if pkg == "" && ownCommands(way.from) {
		pkg = way.from.Package
	}
	if !ok || pkg == "" {
		return nil
	}
	need, err := npm.NodeNeed(ctx, pkg, v)
	if err != nil || need == "" {
		return err
	}
	node, ok := r.locked["node"]
	if !ok {
		return fault.Findings{{Place: t.Place, What: fmt.Sprintf("%s %s runs on Node.js (%s), and no node toolchain is declared", t.Name, v, need), Do: "Declare one: trammel set node=latest"}}
	}
	if !version.InRange(node.Version, need) {
		return fault.Findings{{Place: t.AskAt, What: fmt.Sprintf("%s %s needs Node.js %s, and node %s is locked", t.Name, v, need, node.Version), Do: fmt.Sprintf("Ask for an older %s, or for another node. See: trammel find node", t.Name)}}
	}
	return nil
}

// bases are the last words of import paths.
func bases(list []string) []string {
	out := make([]string, len(list))
	for i, p := range list {
		out[i] = path.Base(p)
	}
	return out
}

// builtBy tells whether all parts of an item have this builder.
func builtBy(i lock.Item, builder string) bool {
	for _, parts := range i.Platforms {
		for _, p := range parts {
			if p.Builder != builder {
				return false
			}
		}
	}
	return true
}
