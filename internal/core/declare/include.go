package declare

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trammel.example/trammel/internal/core/fault"
	"trammel.example/trammel/internal/core/page"
	"trammel.example/trammel/internal/core/platform"
)

// Included is a declaration that another one includes.
type Included struct {
	File   string // absolute
	Name   string // as messages and the lock have it: relative to the project
	Digest string // of its content
}

// include reads what a declaration includes before what it says itself. All of it
// goes into one Declaration: single values of the including file stand before those
// of included ones, lists are united, and a name may be declared in one file only.
func (r *reader) include(d *Declaration, from string, path []string) {
	v := r.Root.Get("include")
	if v == nil {
		return
	}
	for i, name := range r.Texts(r.Root, "include") {
		span := v.Items[i].Span
		file := filepath.Join(filepath.Dir(from), filepath.FromSlash(name))
		shown, err := filepath.Rel(d.Dir, file)
		if err != nil || filepath.IsAbs(name) {
			r.Fault(span, "Write a path relative to this file.", "%q cannot be included", name)
			continue
		}
		shown = filepath.ToSlash(shown)
		if slices.Contains(path, file) {
			r.Fault(span, "", "the files include each other: %s", strings.Join(append(relatives(d.Dir, path), shown), " → "))
			continue
		}
		if slices.ContainsFunc(d.Includes, func(x Included) bool { return x.File == file }) {
			continue // two files may share a third
		}
		source, err := os.ReadFile(file)
		if err != nil {
			r.Fault(span, "", "%q cannot be included: %v", name, err)
			continue
		}
		sum := sha256.Sum256(source)
		d.Includes = append(d.Includes, Included{file, shown, "sha256:" + hex.EncodeToString(sum[:])})
		sub := &reader{Page: page.Parse(shown, source)}
		if len(sub.Findings) == 0 {
			sub.included(d, file, append(path, file))
		}
		r.parts = append(append(r.parts, sub), sub.parts...)
	}
}

func relatives(dir string, files []string) []string {
	var out []string
	for _, f := range files {
		rel, err := filepath.Rel(dir, f)
		if err != nil {
			rel = f
		}
		out = append(out, filepath.ToSlash(rel))
	}
	return out
}

// included reads a file that another one includes: no project of its own, and the
// rest as in any declaration.
func (r *reader) included(d *Declaration, file string, path []string) {
	root := r.Root
	if v := root.Get("format"); v == nil || v.Kind != page.Integer || v.Whole != Format {
		r.Fault(page.Span{}, "Write as the first line: format = 1", "the file format is not stated")
	}
	if v := root.Get("project"); v != nil {
		r.Fault(v.Span, "Leave project to the file that includes this one.", "a file that is included names no project")
	}
	r.Text(root, "about")
	if root.Get("isolation") != nil {
		level := Isolation(r.Choice(root, "isolation", string(Clean), string(Open), string(Sealed)))
		if !d.statedIsolation {
			d.Isolation, d.statedIsolation = level, true
		}
	}
	r.include(d, file, path)
	r.sections(d)
	r.Close(root)
}

// twice reports each name that is declared in two places, with both.
func (r *reader) twice(d *Declaration) {
	check := func(kind string, n int, at func(i int) (string, fault.Place)) {
		seen := map[string]fault.Place{}
		for i := range n {
			name, place := at(i)
			if first, ok := seen[name]; ok {
				r.Findings = append(r.Findings, fault.Finding{
					Place: place, What: fmt.Sprintf("the %s %s is declared at %s already", kind, name, first), Do: "Keep one of the two.",
				})
				continue
			}
			seen[name] = place
		}
	}
	check("source", len(d.Sources), func(i int) (string, fault.Place) { return d.Sources[i].Name, d.Sources[i].Place })
	check("toolchain", len(d.Toolchains), func(i int) (string, fault.Place) { return d.Toolchains[i].Name, d.Toolchains[i].Place })
	check("variable", len(d.Variables), func(i int) (string, fault.Place) { return d.Variables[i].Name, d.Variables[i].Place })
	check("step", len(d.Steps), func(i int) (string, fault.Place) { return d.Steps[i].Name, d.Steps[i].Place })
	check("service", len(d.Services), func(i int) (string, fault.Place) { return d.Services[i].Name, d.Services[i].Place })
	check("routine", len(d.Routines), func(i int) (string, fault.Place) { return d.Routines[i].Name, d.Routines[i].Place })
	check("param", len(d.Params), func(i int) (string, fault.Place) { return d.Params[i].Name, d.Params[i].Place })
	check("add-on", len(d.Addons), func(i int) (string, fault.Place) { return d.Addons[i].Name, d.Addons[i].Place })
	check("file", len(d.Files), func(i int) (string, fault.Place) { return d.Files[i].Path, d.Files[i].Place })
	check("secret", len(d.Secrets), func(i int) (string, fault.Place) { return d.Secrets[i].Name, d.Secrets[i].Place })
}

// defaults fills in what no file said.
func (d *Declaration) defaults() {
	if len(d.Platforms) == 0 {
		d.Platforms = []platform.Platform{platform.Here()}
	}
	slices.SortFunc(d.Platforms, func(a, b platform.Platform) int { return strings.Compare(a.String(), b.String()) })
}
