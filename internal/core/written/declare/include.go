package declare

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/platform"
)

// Included is a declaration that another one includes.
type Included struct {
	File   string // absolute
	Name   string // as messages and the lock have it: relative to the project, or a locator
	Digest string // of its content
	Pin    string // of a locator: what it named when the lock was made

	below string // its path from the folder of its origin
}

// Get finds what a locator names: the folder of its files, the path of the named one
// below it, and the pin.
type Get func(locator string) (dir, path, pin string, err error)

// origin is the folder that included files are looked up in: the project's own, or
// that of a locator.
type origin struct {
	dir  string // absolute
	name string // what comes before a path in messages: "" or "git+URL#REV:"
	pin  string
}

// include reads what a declaration includes before what it says itself. All of it
// goes into one Declaration: single values of the including file stand before those
// of included ones, lists are united, and a name may be declared in one file only.
// path are the names of the files that led here.
func (r *reader) include(d *Declaration, at origin, from string, path []string) {
	v := r.Root.Get("include")
	if v == nil {
		return
	}
	for i, name := range r.Texts(r.Root, "include") {
		span := v.Items[i].Span
		x, in, err := r.find(at, from, name)
		if err != nil {
			var known *fault.Error
			if errors.As(err, &known) {
				r.Fault(span, known.Do, "%q cannot be included: %s", name, known.What)
			} else {
				r.Fault(span, "", "%q cannot be included: %v", name, err)
			}
			continue
		}
		if slices.Contains(path, x.Name) {
			r.Fault(span, "", "the files include each other: %s", strings.Join(append(slices.Clone(path), x.Name), " → "))
			continue
		}
		if slices.ContainsFunc(d.Includes, func(y Included) bool { return y.Name == x.Name }) {
			continue // two files may share a third
		}
		source, err := r.had.read(in.dir, x.below)
		if err != nil {
			r.Fault(span, "", "%q cannot be included: it %s", name, disk.InWords(err))
			continue
		}
		sum := sha256.Sum256(source)
		x.Digest = "sha256:" + hex.EncodeToString(sum[:])
		d.Includes = append(d.Includes, x)
		sub := &reader{Page: page.Parse(x.Name, source), had: r.had}
		if len(sub.Findings) == 0 {
			sub.included(d, in, x.File, append(slices.Clone(path), x.Name))
		}
		r.parts = append(append(r.parts, sub), sub.parts...)
	}
}

// find finds a file to include: a path relative to the file that includes it, which
// stays in what a locator names, or a locator.
func (r *reader) find(at origin, from, name string) (Included, origin, error) {
	if locatorLike(name) {
		if r.had.Get == nil {
			return Included{}, at, errors.New("locators are not read here")
		}
		dir, path, pin, err := r.had.Get(name)
		if err != nil {
			return Included{}, at, err
		}
		before, _, _ := strings.Cut(name, "#")
		if _, fragment, ok := strings.Cut(name, "#"); ok {
			rev, _, _ := strings.Cut(fragment, ":")
			before += "#" + rev
		} else {
			before += "#"
		}
		if path == "" {
			return Included{}, at, fault.New(fault.ErrUsage, "it names no file").Advise("Write the path of a file behind it: git+URL#REV:ops/base.toml")
		}
		in := origin{dir: dir, name: before + ":", pin: pin}
		return Included{File: filepath.Join(dir, filepath.FromSlash(path)), Name: in.name + path, Pin: pin, below: path}, in, nil
	}
	file := filepath.Join(filepath.Dir(from), filepath.FromSlash(name))
	shown, err := filepath.Rel(at.dir, file)
	if err != nil || filepath.IsAbs(name) || !filepath.IsLocal(shown) {
		return Included{}, at, fault.New(fault.ErrUsage, "it is no path below the project's folder").
			Advise("Write a path relative to this file that stays in the folder of the project. What several projects share can be named by a locator: git+URL#REV:FILE")
	}
	return Included{File: file, Name: at.name + filepath.ToSlash(shown), Pin: at.pin, below: shown}, at, nil
}

// locatorLike tells a locator from a path (package locator has all of it).
func locatorLike(name string) bool {
	at, _, fragment := strings.Cut(name, "#")
	return strings.HasPrefix(name, "git+") || strings.Contains(name, "://") || fragment && strings.Contains(at, ".")
}

// included reads a file that another one includes: no project of its own, and the
// rest as in any declaration.
func (r *reader) included(d *Declaration, at origin, file string, path []string) {
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
	r.include(d, at, file, path)
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
	check("set of libraries", len(d.Libraries), func(i int) (string, fault.Place) { return d.Libraries[i].Name, d.Libraries[i].Place })
	for _, l := range d.Libraries {
		if t, ok := byName(d.Toolchains, l.Name); ok {
			r.Findings = append(r.Findings, fault.Finding{Place: l.Place, What: fmt.Sprintf("libraries and a toolchain are both named %s", l.Name), Do: fmt.Sprintf("Give one of them another name; the toolchain is declared at %s.", t.Place)})
		}
	}
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
