package lock

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/platform"
)

// SetFormat is the format of a part that is not an archive but a set of libraries.
const SetFormat = "set"

// The kinds of library sets.
const (
	Python = "python"
	Node   = "node"
	R      = "r"
)

// Library is one set of libraries of a language.
type Library struct {
	Kind   string         `toml:"kind"`
	Source string         `toml:"source"`
	Asks   string         `toml:"asks"`   // digest of what is asked for
	Folder string         `toml:"folder"` // node: where its node_modules is shown, from the project's folder
	On     map[string]Set `toml:"on"`     // platform → set
}

// Set is what a library is on one platform.
type Set struct {
	For      string           `toml:"for"`      // the toolchain it is made for: "python 3.13.5"
	Packages []string         `toml:"packages"` // Libraries as lines, sorted
	Scripts  []string         `toml:"scripts"`  // node: packages that would run a script on installing
	Builder  string           `toml:"builder"`  // what besides the archives decides it
	Sums     []string         `toml:"sums"`     // "NAME TREE" of what is built from source, known once a machine has built it
	Tree     canon.TreeDigest `toml:"tree"`     // of the merged tree; "" until a machine has fitted it
}

// LibraryOf is one package of a set.
type LibraryOf struct {
	Name    string
	Version string
	Path    string // python, r: the file's name in the source; node: the path within it
	Size    int64  // bytes of the archive; 0 where the source does not say
	Digest  fetch.Digest
	Place   string // node: where it lies, "node_modules/a"
}

// String is the package as a line of the lock: NAME VERSION PATH SIZE DIGEST [PLACE].
func (l LibraryOf) String() string {
	s := fmt.Sprintf("%s %s %s %d %s", l.Name, l.Version, l.Path, l.Size, l.Digest)
	if l.Place != "" {
		s += " " + l.Place
	}
	return s
}

// Wheel tells whether a package of a Python set is installed as it is, not built.
func (l LibraryOf) Wheel() bool { return strings.HasSuffix(l.Path, ".whl") }

// Part is the package as something to fetch and unpack.
func (l LibraryOf) Part() PartOn {
	p := Part{Path: l.Path, Version: l.Version, Format: "zip", Size: l.Size, Digest: l.Digest}
	if !l.Wheel() && !strings.HasSuffix(l.Path, ".zip") {
		p.Format, p.Strip = "tar.gz", 1
	}
	name := strings.ReplaceAll(strings.TrimPrefix(l.Name, "@"), "/", "-")
	return PartOn{name, name, p}
}

// ParseLibrary reads a line of a set.
func ParseLibrary(line string) (LibraryOf, error) {
	bad := fmt.Errorf("%.80q is no package of a set", line)
	f := strings.Fields(line)
	if len(f) != 5 && len(f) != 6 {
		return LibraryOf{}, bad
	}
	size, err := strconv.ParseInt(f[3], 10, 64)
	l := LibraryOf{Name: f[0], Version: f[1], Path: f[2], Size: size, Digest: fetch.Digest(f[4])}
	if len(f) == 6 {
		l.Place = f[5]
		if leaves(l.Place) || !strings.Contains("/"+l.Place, "/node_modules/") || path.Clean(l.Place) != l.Place {
			return l, bad
		}
	}
	if err != nil || size < 0 || l.Digest.Check() != nil || leaves(l.Path) || strings.ContainsAny(l.Version, "/\\\x00") || strings.ContainsAny(l.Name, "\\\x00") || strings.Contains(l.Name, "..") {
		return l, bad
	}
	return l, nil
}

// List is the packages of a set. The lock's own check has made sure that each line is one.
func (s Set) List() []LibraryOf {
	out := make([]LibraryOf, 0, len(s.Packages))
	for _, line := range s.Packages {
		if l, err := ParseLibrary(line); err == nil {
			out = append(out, l)
		}
	}
	return out
}

// setOn is a set as a part: its packages merged into one tree.
func (l *Lock) setOn(p platform.Platform, name string) (PartOn, bool) {
	library := l.Libraries[name]
	set, ok := library.On[p.String()]
	if !ok {
		return PartOn{}, false
	}
	part := Part{Format: SetFormat, Version: library.Kind, Packages: set.Packages, Scripts: set.Scripts, Builder: set.Builder, Sums: set.Sums, Tree: set.Tree}
	part.Digest = fetch.Digest(canon.Digest(canon.Map{"kind": library.Kind, "packages": set.Packages, "for": set.For, "builder": set.Builder}))
	return PartOn{name, name, part}, true
}

// SetsOn lists the sets of a platform as parts, sorted by name.
func (l *Lock) SetsOn(p platform.Platform) []PartOn {
	var out []PartOn
	for _, name := range Sorted(l.Libraries) {
		if part, ok := l.setOn(p, name); ok {
			out = append(out, part)
		}
	}
	return out
}

func (l *Lock) libraryFacts() canon.Map {
	out := canon.Map{}
	for name, x := range l.Libraries {
		on := canon.Map{}
		for platform, s := range x.On {
			on[platform] = trim(canon.Map{"for": s.For, "packages": s.Packages, "scripts": s.Scripts, "builder": s.Builder, "sums": s.Sums, "tree": string(s.Tree)})
		}
		out[name] = trim(canon.Map{"kind": x.Kind, "source": x.Source, "asks": x.Asks, "folder": x.Folder, "on": on})
	}
	return out
}

// setName is what names a set: its name stands in commands and in what they print.
var setName = lazy.Regexp(`^[a-z][a-z0-9_-]*$`)

func (l *Lock) checkLibraries() error {
	for _, name := range Sorted(l.Libraries) {
		x := l.Libraries[name]
		bad := ""
		if x.Kind != Python && x.Kind != Node && x.Kind != R {
			bad = fmt.Sprintf("%q is no kind of libraries", x.Kind)
		}
		if !setName().MatchString(name) || strings.ContainsAny(x.Source, "/\\\x00") || x.Folder != "" && leaves(x.Folder) {
			bad = "a name that no lock has"
		}
		for _, s := range x.On {
			for _, line := range s.Packages {
				if _, err := ParseLibrary(line); err != nil {
					bad = err.Error()
				}
			}
			if tree := strings.TrimPrefix(string(s.Tree), "blake3:"); s.Tree != "" && (len(tree) != 64 || strings.Trim(tree, "0123456789abcdef") != "") {
				bad = fmt.Sprintf("%q is not a tree digest", s.Tree)
			}
			if strings.ContainsAny(s.For, "/\\\x00") {
				bad = "it is made for something that no lock has"
			}
		}
		if bad != "" {
			return fault.New(fault.ErrUsage, "%s: libraries %s: %s", FileName, name, bad).Advise("Write the lock anew: trammel lock")
		}
	}
	return nil
}

// mostNamed is how many packages that came or went are named one by one.
const mostNamed = 6

// libraryChanges says in words how the sets of two locks differ: what moved a line each.
func libraryChanges(old, new *Lock) []string {
	var out []string
	for _, name := range union(old.Libraries, new.Libraries) {
		before, after := versionsIn(old.Libraries[name].On), versionsIn(new.Libraries[name].On)
		var came, went []string
		for _, p := range union(before, after) {
			a, had := before[p]
			b, has := after[p]
			switch {
			case !had:
				came = append(came, p+" "+b)
			case !has:
				went = append(went, p+" "+a)
			case a != b:
				out = append(out, fmt.Sprintf("%s: %s %s → %s", name, p, a, b))
			}
		}
		for _, group := range []struct {
			sign string
			list []string
		}{{"+", came}, {"-", went}} {
			if len(group.list) > mostNamed {
				out = append(out, fmt.Sprintf("%s libraries %s: %d packages", group.sign, name, len(group.list)))
				continue
			}
			for _, p := range group.list {
				out = append(out, group.sign+" "+name+": "+p)
			}
		}
		if b, a := old.Libraries[name], new.Libraries[name]; b.Kind != "" && a.Kind != "" && b.Source != a.Source {
			out = append(out, fmt.Sprintf("libraries %s now from %s instead of %s", name, a.Source, b.Source))
		}
	}
	return out
}

// versionsIn are the versions of a set's packages on all platforms together.
func versionsIn(on map[string]Set) map[string]string {
	found := map[string][]string{}
	for _, platform := range Sorted(on) {
		for _, p := range on[platform].List() {
			if !slices.Contains(found[p.Name], p.Version) {
				found[p.Name] = append(found[p.Name], p.Version)
			}
		}
	}
	out := map[string]string{}
	for name, versions := range found {
		out[name] = strings.Join(versions, " and ")
	}
	return out
}

// otherLibraryBytes says which files of a set are not those that the older lock had under
// the same version and name.
func otherLibraryBytes(old, new *Lock, say func(what, version, was, is string)) {
	for _, name := range union(old.Libraries, new.Libraries) {
		for _, on := range union(old.Libraries[name].On, new.Libraries[name].On) {
			before := map[string]LibraryOf{}
			for _, p := range old.Libraries[name].On[on].List() {
				before[p.Name+" "+p.Version+" "+p.Path] = p
			}
			for _, p := range new.Libraries[name].On[on].List() {
				if a, had := before[p.Name+" "+p.Version+" "+p.Path]; had && a.Digest != p.Digest {
					say(name+": "+p.Name, p.Version, string(a.Digest), string(p.Digest))
				}
			}
		}
	}
}
