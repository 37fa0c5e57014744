package lock

import (
	"fmt"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
)

// RootFormat is the format of a part that is not an archive but commands of a root.
const RootFormat = "root"

// Making counts the ways in which this program and earlier ones made roots of packages: the
// same packages give other bytes when it moves. 1, without a number in the lock, knew neither
// computed alternatives nor what is derived but the loader's cache.
const Making = 2

// Root is a whole system of packages of one Debian archive, for one platform: what
// all items of that source need together, with what every root holds.
type Root struct {
	Version  string            `toml:"version"`  // day of the release it was resolved from: 2026-09-12
	Packages []string          `toml:"packages"` // Packages as lines, sorted by name
	Docs     bool              `toml:"docs"`     // with manuals, documentation and translations
	Files    map[string]string `toml:"files"`    // file to make → file of the root to copy
	Making   int               `toml:"making"`   // how it is made of them, see Making; 0 for 1
	Tree     canon.TreeDigest  `toml:"tree"`     // of the merged tree; "" until a machine has fitted it
}

// Package is one package of a root.
type Package struct {
	Name    string
	Version string
	Path    string // within the archive
	Size    int64  // bytes of the archive
	SHA256  string // hex
}

// String is the package as a line of the lock: NAME VERSION PATH SIZE SHA256.
func (p Package) String() string {
	return fmt.Sprintf("%s %s %s %d %s", p.Name, p.Version, p.Path, p.Size, p.SHA256)
}

// Part is the package as something to fetch and unpack.
func (p Package) Part(docs bool) PartOn {
	return PartOn{p.Name, p.Name, Part{Path: p.Path, Version: p.Version, Format: "deb", Size: p.Size, Digest: fetch.Digest("sha256:" + p.SHA256), Docs: docs}}
}

// ParsePackage reads a line of a root.
func ParsePackage(line string) (Package, error) {
	f := strings.Fields(line)
	if len(f) != 5 {
		return Package{}, fmt.Errorf("%.60q is no package of a root", line)
	}
	size, err := strconv.ParseInt(f[3], 10, 64)
	if err != nil || size < 0 || len(f[4]) != 64 || strings.Trim(f[4], "0123456789abcdef") != "" || leaves(f[2]) || strings.ContainsAny(f[0]+f[1], "/\\\x00") {
		return Package{}, fmt.Errorf("%.60q is no package of a root", line)
	}
	return Package{f[0], f[1], f[2], size, f[4]}, nil
}

// List is the packages of a root. The lock's own check has made sure that each
// line is one.
func (r Root) List() []Package {
	out := make([]Package, 0, len(r.Packages))
	for _, line := range r.Packages {
		if p, err := ParsePackage(line); err == nil {
			out = append(out, p)
		}
	}
	return out
}

// rootOn is the root of a source as a part of an item: the part's own commands on
// the tree that all items of the source share.
func (l *Lock) rootOn(p platform.Platform, source, item string, part Part) PartOn {
	r := l.Roots[source][p.String()]
	part.Format, part.Version, part.Packages, part.Docs, part.Files, part.Tree = RootFormat, r.Version, r.Packages, r.Docs, r.Files, r.Tree
	facts := canon.Map{"packages": r.Packages, "docs": r.Docs, "files": r.Files}
	if part.Making = r.Making; r.Making > 0 {
		facts["making"] = r.Making
	}
	part.Digest = fetch.Digest(canon.Digest(facts))
	return PartOn{item, source, part}
}

func (l *Lock) hasRoot(source string) bool { return len(l.Roots[source]) > 0 }

func (l *Lock) rootFacts() canon.Map {
	out := canon.Map{}
	for source, roots := range l.Roots {
		on := canon.Map{}
		for platform, r := range roots {
			on[platform] = trim(canon.Map{"version": r.Version, "packages": r.Packages, "docs": r.Docs, "files": r.Files, "making": r.Making, "tree": string(r.Tree)})
		}
		out[source] = on
	}
	return out
}

func (l *Lock) checkRoots() error {
	for _, source := range Sorted(l.Roots) {
		for _, r := range l.Roots[source] {
			bad := ""
			for _, line := range r.Packages {
				if _, err := ParsePackage(line); err != nil {
					bad = err.Error()
				}
			}
			for to, from := range r.Files {
				if leaves(to) || leaves(from) {
					bad = fmt.Sprintf("the file %q = %q leaves the root", to, from)
				}
			}
			if tree := strings.TrimPrefix(string(r.Tree), "blake3:"); r.Tree != "" && (len(tree) != 64 || strings.Trim(tree, "0123456789abcdef") != "") {
				bad = fmt.Sprintf("%q is not a tree digest", r.Tree)
			}
			if r.Making > Making {
				return fault.New(fault.ErrUsage, "%s: the root %s is made as a newer Trammel makes it", FileName, source).Advise("Bring Trammel up to date.")
			}
			if strings.ContainsAny(source+r.Version, "/\\\x00") {
				bad = "a name that no lock has"
			}
			if bad != "" {
				return fault.New(fault.ErrUsage, "%s: root %s: %s", FileName, source, bad).Advise("Write the lock anew: trammel lock")
			}
		}
	}
	return nil
}

// rootChanges says in words how the roots of two locks differ: what moved a line
// each, what came and went as counts.
func rootChanges(old, new *Lock) []string {
	var out []string
	for _, source := range union(old.Roots, new.Roots) {
		before, after := versionsOf(old.Roots[source]), versionsOf(new.Roots[source])
		came, went := 0, 0
		for _, name := range union(before, after) {
			a, had := before[name]
			b, has := after[name]
			switch {
			case !had:
				came++
			case !has:
				went++
			case a != b:
				out = append(out, fmt.Sprintf("%s: %s %s → %s", source, name, a, b))
			}
		}
		for _, on := range union(old.Roots[source], new.Roots[source]) {
			a, had := old.Roots[source][on]
			if b, has := new.Roots[source][on]; had && has && a.Making != b.Making {
				out = append(out, fmt.Sprintf("%s: the root is made in another way", source))
				break
			}
		}
		for _, count := range []struct {
			sign string
			n    int
		}{{"+", came}, {"-", went}} {
			if count.n > 0 {
				word := "packages"
				if count.n == 1 {
					word = "package"
				}
				out = append(out, fmt.Sprintf("%s root %s: %d %s", count.sign, source, count.n, word))
			}
		}
	}
	return out
}

// versionsOf are the versions of a root's packages on all platforms together.
func versionsOf(on map[string]Root) map[string]string {
	out := map[string]string{}
	for _, platform := range Sorted(on) {
		for _, p := range on[platform].List() {
			if was := out[p.Name]; was == "" {
				out[p.Name] = p.Version
			} else if was != p.Version {
				out[p.Name] = was + " and " + p.Version
			}
		}
	}
	return out
}
