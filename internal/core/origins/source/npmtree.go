package source

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/lock"
)

// Tools that are published on npm, with their whole tree of dependencies.
//
// The tree is laid out as Node.js looks packages up (Node.js documentation,
// "Loading from node_modules folders"): a package lies in the topmost node_modules
// where no other version of it lies already.

// maxPackages is how large a tree may be before it is taken for a mistake.
const maxPackages = 5000

// placed is one package of a tree.
type placed struct {
	place   string // "node_modules/a/node_modules/b"
	name    string
	version string
	one     npmVersion
}

// npmTree places packages.
type npmTree struct {
	n    *npm
	on   platform.Platform
	asOf time.Time
	at   map[string]placed
}

// need is a dependency of a placed package.
type need struct {
	from     string // place of who needs it
	name     string
	ranges   string
	optional bool
}

// treePart locks a tool with its tree for one platform.
func (n *npm) treePart(ctx context.Context, from card.From, v string, on platform.Platform, asOf time.Time) (lock.Part, error) {
	doc, err := n.document(ctx, from.Package)
	if err != nil {
		return lock.Part{}, err
	}
	one, ok := doc.Versions[v]
	if !ok {
		return lock.Part{}, noPart(from.Package, v, on)
	}
	t := &npmTree{n: n, on: on, asOf: asOf, at: map[string]placed{}}
	root := placed{place: "node_modules/" + from.Package, name: from.Package, version: v, one: one}
	t.at[root.place] = root
	for wave := t.needs(root); len(wave) > 0; {
		if wave, err = t.wave(ctx, wave); err != nil {
			return lock.Part{}, err
		}
	}
	part, err := n.part(from.Package, v, one)
	if err != nil {
		return lock.Part{}, err
	}
	part.Build, part.Format = "npm:"+from.Package, "tree"
	if part.Bin, err = commands(from.Package, one); err != nil {
		return lock.Part{}, err
	}
	for _, p := range t.at {
		own, err := n.part(p.name, p.version, p.one)
		if err != nil {
			return lock.Part{}, err
		}
		part.Packages = append(part.Packages, strings.Join([]string{p.place, own.Path, string(own.Digest)}, " "))
		if p.one.InstallScript {
			part.Scripts = append(part.Scripts, p.name)
		}
	}
	slices.Sort(part.Packages)
	slices.Sort(part.Scripts)
	part.Scripts = slices.Compact(part.Scripts)
	return part, nil
}

// NodeNeed is what a version of a package needs of Node.js, as its engines say; "" for
// nothing.
func (n *npm) NodeNeed(ctx context.Context, name, v string) (string, error) {
	doc, err := n.document(ctx, name)
	if err != nil {
		return "", err
	}
	engines, _ := doc.Versions[v].Engines.(map[string]any)
	need, _ := engines["node"].(string)
	return need, nil
}

// commands are those of a package's bin: a table, or one path for the package's
// own name (npm documentation, "package.json", bin).
func commands(name string, one npmVersion) (map[string]string, error) {
	out := map[string]string{}
	add := func(command, file string) {
		out[command] = path.Join("node_modules", name, file)
	}
	switch bin := one.Bin.(type) {
	case string:
		add(path.Base(name), bin)
	case map[string]any:
		for command, file := range bin {
			if text, ok := file.(string); ok && !strings.ContainsAny(command, "/\\") {
				add(command, text)
			}
		}
	}
	for command, file := range out {
		if !strings.HasPrefix(file, "node_modules/"+name+"/") {
			return nil, fault.New(fault.ErrSource, "npm package %s: its command %s lies outside of it", name, command)
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.ErrUsage, "npm package %s brings no command", name).Advise("A library belongs into the project's own package.json.")
	}
	return out, nil
}

// needs are the dependencies of a package: its own, the peers that it must have,
// and the optional ones.
func (t *npmTree) needs(p placed) []need {
	var out []need
	add := func(table map[string]string, optional bool) {
		for name, ranges := range table {
			if _, alsoOptional := p.one.Optional[name]; alsoOptional && !optional {
				continue
			}
			out = append(out, need{p.place, name, ranges, optional})
		}
	}
	add(p.one.Dependencies, false)
	add(p.one.Optional, true)
	for name, ranges := range p.one.Peers {
		if !p.one.PeersMeta[name].Optional {
			out = append(out, need{p.place, name, ranges, false})
		}
	}
	// Sorted, so that the same registry gives the same tree.
	sort.Slice(out, func(i, j int) bool { return out[i].name < out[j].name })
	return out
}

// wave places what a wave of packages needs and returns the needs of what it
// placed. Documents are read several at once; placing is in order.
func (t *npmTree) wave(ctx context.Context, needs []need) ([]need, error) {
	var wait sync.WaitGroup
	for _, d := range needs {
		wait.Go(func() { _, _ = t.n.document(ctx, d.name) }) // kept; errors come again below
	}
	wait.Wait()
	var next []need
	for _, d := range needs {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if t.satisfied(d) {
			continue
		}
		p, err := t.pick(ctx, d)
		if d.optional && (err != nil || !p.one.runsOn(t.on)) {
			if err == nil || fetch.NotFound(err) || errors.Is(err, fault.ErrUsage) {
				continue
			}
		}
		if err != nil {
			return nil, err
		}
		if !p.one.runsOn(t.on) {
			return nil, fault.New(fault.ErrUsage, "npm package %s %s, which %s needs, is not for %s", p.name, p.version, d.from, t.on)
		}
		p.place = "node_modules/" + d.name
		if _, taken := t.at[p.place]; taken {
			p.place = d.from + "/node_modules/" + d.name
		}
		if len(t.at) >= maxPackages {
			return nil, fault.New(fault.ErrUsage, "the tree of dependencies has more than %d packages", maxPackages)
		}
		t.at[p.place] = p
		next = append(next, t.needs(p)...)
	}
	return next, nil
}

// satisfied tells whether the package that is found from a place will do.
func (t *npmTree) satisfied(d need) bool {
	for dir := d.from; ; {
		if p, ok := t.at[dir+"/node_modules/"+d.name]; ok {
			return t.fits(p, d.ranges)
		}
		i := strings.LastIndex(dir, "/node_modules/")
		if i < 0 {
			break
		}
		dir = dir[:i]
	}
	p, ok := t.at["node_modules/"+d.name]
	return ok && t.fits(p, d.ranges)
}

func (t *npmTree) fits(p placed, ranges string) bool {
	name, ranges := alias(p.name, ranges)
	return name == p.name && (ranges == "latest" || version.InRange(p.version, ranges))
}

// alias parts "npm:other@^1" into the package it means and the range.
func alias(name, ranges string) (string, string) {
	rest, ok := strings.CutPrefix(ranges, "npm:")
	if !ok {
		return name, ranges
	}
	if i := strings.LastIndexByte(rest, '@'); i > 0 {
		return rest[:i], rest[i+1:]
	}
	return rest, "latest"
}

// pick chooses the newest version that a range allows.
func (t *npmTree) pick(ctx context.Context, d need) (placed, error) {
	name, ranges := alias(d.name, d.ranges)
	if strings.ContainsAny(ranges, ":/") {
		return placed{}, fault.New(fault.ErrUsage, "%s needs %s from %q, which is no version of a registry", d.from, name, ranges).
			Advise("Only packages of the registry can be locked by their integrity.")
	}
	doc, err := t.n.document(ctx, name)
	if err != nil {
		return placed{}, err
	}
	if tagged, ok := doc.Tags[ranges]; ok { // "latest", "next"
		ranges = tagged
	}
	best := ""
	for v := range doc.Versions {
		at := doc.published(v)
		if !version.InRange(v, ranges) || !t.asOf.IsZero() && (at.IsZero() || at.After(t.asOf)) {
			continue
		}
		if best == "" || version.Semver.Compare(v, best) > 0 {
			best = v
		}
	}
	if best == "" {
		return placed{}, fault.New(fault.ErrUsage, "no version of %s satisfies %q, which %s needs", name, d.ranges, d.from)
	}
	return placed{name: name, version: best, one: doc.Versions[best]}, nil
}

// runsOn tells whether a version is for a platform, by its os and cpu ("!" takes
// one out). Its libc is that of most machines: glibc.
func (v npmVersion) runsOn(p platform.Platform) bool {
	cpu := map[string]string{"amd64": "x64"}[p.Arch]
	if cpu == "" {
		cpu = p.Arch
	}
	return listed(v.OS, p.OS) && listed(v.CPU, cpu) && (p.OS != "linux" || listed(v.Libc, "glibc"))
}

func listed(list any, word string) bool {
	var words []string
	switch l := list.(type) {
	case string:
		words = []string{l}
	case []any:
		for _, w := range l {
			words = append(words, fmt.Sprint(w))
		}
	}
	if len(words) == 0 {
		return true
	}
	allowed := false
	for _, w := range words {
		if w == "!"+word {
			return false
		}
		allowed = allowed || w == word || w == "any" || strings.HasPrefix(w, "!")
	}
	return allowed
}

// NodeLibraries is a registry whose packages make up a set for Node.js.
type NodeLibraries interface {
	// NodeTree places what is wanted (package → range) with all that it needs, for one
	// platform, and names the packages that would run a script on installing.
	NodeTree(ctx context.Context, wants map[string]string, on platform.Platform, asOf time.Time) (set []lock.LibraryOf, scripts []string, err error)
}

// NodeTree implements NodeLibraries.
func (n *npm) NodeTree(ctx context.Context, wants map[string]string, on platform.Platform, asOf time.Time) (set []lock.LibraryOf, scripts []string, err error) {
	t := &npmTree{n: n, on: on, asOf: asOf, at: map[string]placed{}}
	top := placed{one: npmVersion{Dependencies: wants}}
	for wave := t.needs(top); len(wave) > 0; {
		if wave, err = t.wave(ctx, wave); err != nil {
			return nil, nil, err
		}
	}
	for _, p := range t.at {
		own, err := n.part(p.name, p.version, p.one)
		if err != nil {
			return nil, nil, err
		}
		set = append(set, lock.LibraryOf{Name: p.name, Version: p.version, Path: own.Path, Digest: own.Digest, Place: p.place})
		if p.one.InstallScript {
			scripts = append(scripts, p.name)
		}
	}
	slices.Sort(scripts)
	return set, slices.Compact(scripts), nil
}

// NodeRuns tells whether a package with these lists is for a platform (npm documentation,
// "package.json", os, cpu, libc).
func NodeRuns(os, cpu, libc []string, p platform.Platform) bool {
	list := func(words []string) any {
		var out []any
		for _, w := range words {
			out = append(out, w)
		}
		return out
	}
	return npmVersion{OS: list(os), CPU: list(cpu), Libc: list(libc)}.runsOn(p)
}
