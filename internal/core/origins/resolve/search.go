package resolve

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

// Package is a package of a source that no card describes, and how it is declared.
type Package struct {
	source.Found
	Source string
	Do     string // the command, or the lines to write
}

// mostFound is how many packages of one source are listed.
const mostFound = 12

// Packages looks a word up in all sources that can be reached: those that are declared, and
// those that the machine's settings name. What cannot be asked is left out; why is in errs.
func Packages(ctx context.Context, d *declare.Declaration, m *source.Machine, client *fetch.Client, word string) (out []Package, errs []error) {
	r := looker(d, m, client)
	names := r.searched()
	found := make([][]Package, len(names))
	failed := make([]error, len(names))
	var wait sync.WaitGroup
	for i, name := range names {
		wait.Go(func() {
			x := r.open(name)
			s, ok := x.source.(source.Searcher)
			if x.err != nil || !ok {
				if _, declared := d.Source(name); declared {
					failed[i] = x.err
				}
				return
			}
			list, err := s.Search(ctx, word, r.platform(), mostFound)
			if !client.Offline() { // who asks for that knows
				failed[i] = err
			}
			for _, f := range list {
				if !source.CanName(r.kind(name), f.Name) || toolName(f.Name) == "" {
					continue // whatever a registry calls its packages
				}
				found[i] = append(found[i], Package{f, name, r.how(name, f.Name)})
			}
		})
	}
	wait.Wait()
	for i := range names {
		out = append(out, found[i]...)
		if failed[i] != nil {
			errs = append(errs, failed[i])
		}
	}
	return out, errs
}

func (r *resolver) platform() platform.Platform {
	if len(r.d.Platforms) > 0 && !slices.Contains(r.d.Platforms, platform.Here()) {
		return r.d.Platforms[0]
	}
	return platform.Here()
}

// searched are the sources to look in: the declared ones, then those that need no table.
func (r *resolver) searched() []string {
	var out []string
	kinds := map[string]bool{}
	for _, s := range r.d.Sources {
		kinds[s.Kind] = true
		if s.Kind != "catalog" && s.Kind != "gomod" {
			out = append(out, s.Name)
		}
	}
	for _, kind := range declare.ImpliedSources {
		if !kinds[kind] && kind != "gomod" {
			out = append(out, kind)
		}
	}
	return out
}

// how is how a package of a source is declared.
func (r *resolver) how(from, name string) string {
	kind := r.kind(from)
	for setKind, k := range declare.LibraryKinds {
		if k.Source != kind {
			continue
		}
		for _, l := range r.d.Libraries {
			if l.Kind == setKind {
				return fmt.Sprintf("trammel set %s/%s=latest", shell.Typed(l.Name), shell.Typed(name))
			}
		}
		if kind != "npm" {
			return fmt.Sprintf("[libraries.NAME] kind = %q, want = [%q]", setKind, name)
		}
	}
	if kind == "debian" && slices.ContainsFunc(libraries, func(p string) bool { return strings.HasPrefix(name, p) }) {
		return "trammel set " + shell.Typed(name) + "=latest"
	}
	return fmt.Sprintf("trammel set %s=latest --from %s --package %s", shell.Typed(toolName(name)), shell.Typed(from), shell.Typed(name))
}

// toolName is a name that a toolchain can have, of that of a package.
func toolName(name string) string {
	name = strings.ToLower(name[strings.LastIndexByte(name, '/')+1:])
	return strings.Trim(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' {
			return c
		}
		return '-'
	}, name), "-0123456789")
}

// otherNames are what people call tools that have a card under another name.
var otherNames = map[string]string{
	"golang": "go", "nodejs": "node", "postgres": "postgresql", "psql": "postgresql", "python3": "python", "cargo": "rust", "rustc": "rust",
	"java": "openjdk", "jdk": "openjdk", "javac": "openjdk", "g++": "gcc", "cc": "gcc", "rscript": "r", "redis-server": "redis", "mysql": "mariadb",
	"npm": "node", "npx": "node", "gofmt": "go", "pip": "python",
}

// Called is the tool that people mean by a name.
func Called(name string) (tool string, ok bool) {
	if tool, ok = otherNames[strings.ToLower(name)]; ok {
		_, ok = card.Builtin(tool)
	}
	return tool, ok
}

// unknown says that a tool has no card, and how to have what it may be: another tool's name, a
// package of a source.
func (r *resolver) unknown(ctx context.Context, t declare.Toolchain, names []string) error {
	f := fault.Finding{Place: t.Place, What: fmt.Sprintf("no card is known for a tool named %q", t.Name), Do: fault.DidYouMean(t.Name, names)}
	if tool, ok := Called(t.Name); ok {
		f.Do = fmt.Sprintf("It is called %q: trammel set %s=%s", tool, shell.Typed(tool), shell.Typed(t.Ask.String()))
		return fault.Findings{f}
	}
	if r.client.Offline() {
		return fault.Findings{f}
	}
	found, _ := Packages(ctx, r.d, r.m, r.client, t.Name)
	for _, p := range found {
		if p.Name == t.Name {
			f.Do = fmt.Sprintf("The source %q has a package of that name: %s", p.Source, strings.Replace(p.Do, "=latest", "="+shell.Typed(t.Ask.String()), 1))
			break
		}
	}
	return fault.Findings{f}
}

// noPackage says that a source has no package of a name, and which are near.
func (r *resolver) noPackage(ctx context.Context, t declare.Toolchain, way choice, s source.Source) error {
	name := way.from.Package
	if way.from.Versioned != "" {
		name = way.from.Versioned
	}
	f := fault.Finding{Place: t.Place, What: fmt.Sprintf("the source %q has no package %s", way.source, name)}
	if searcher, ok := s.(source.Searcher); ok {
		if names, err := searcher.Names(ctx, r.platform()); err == nil && len(names) > 0 {
			if near := fault.Nearest(name, names); near != "" {
				f.Do = fmt.Sprintf("Did you mean %q? ", near)
			}
		}
	}
	f.Do += fmt.Sprintf("Look it up: trammel find %s", shell.Typed(strings.TrimPrefix(strings.TrimPrefix(name, "r-cran-"), "python3-")))
	return fault.Findings{f}
}
