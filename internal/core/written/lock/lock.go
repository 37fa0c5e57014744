// Package lock is the lock: the exact outcome of resolving a declaration, its
// file, its ids and its differences.
//
// Equal locks have equal bytes: the file is written whole, sorted, one fact a
// line. A file whose digest does not fit its content is refused.
package lock

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/written/declare"
)

// FileName is the name of a lock.
const FileName = "trammel.lock"

// Format is the version of the file format that this program reads and writes.
const Format = 1

const heading = "# The lock of this project, written by: trammel lock\n# Review it and commit it. An edit by hand is refused; change trammel.toml and lock again.\n"

// Lock is everything that is fixed. The maps are keyed by name.
type Lock struct {
	Format      int               `toml:"format"`
	Digest      string            `toml:"digest"` // of everything else in the file
	Declaration Declaration       `toml:"declaration"`
	Sources     map[string]Source `toml:"source"`
	Items       map[string]Item   `toml:"item"`

	Roots map[string]map[string]Root `toml:"root"` // source → platform → root

	Libraries map[string]Library `toml:"library"` // sets of a language's own packages

	Evidence map[string][]string `toml:"evidence"` // step → what it left behind, in lines
	Pictures map[string][]string `toml:"pictures"` // add-on → what its list says, in lines

	Variables map[string]string `toml:"variables"` // digests of meaning
	Steps     map[string]string `toml:"steps"`     // digests of meaning
	Addons    map[string]string `toml:"addons"`    // digests of meaning
	Services  map[string]string `toml:"services"`  // digests of meaning
	Routines  map[string]string `toml:"routines"`  // digests of meaning
}

// Declaration is what was resolved.
type Declaration struct {
	Digest    string   `toml:"digest"`
	Project   string   `toml:"project"`
	Isolation string   `toml:"isolation"`
	Platforms []string `toml:"platforms"`
	Host      []string `toml:"host"`
	AsOf      string   `toml:"as-of"`    // RFC 3339: what was published later was not looked at; "" where nobody asked for that
	Includes  []string `toml:"includes"` // "NAME DIGEST" of each file that is included, and the pin of a locator
}

// Source is where items came from: its kind and where its address was written,
// never the address, since mirrors differ and digests decide.
type Source struct {
	Kind    string `toml:"kind"`
	Address string `toml:"address"` // "declaration", "user" or "machine"
	AsOf    string `toml:"as-of"`   // RFC 3339: when it was last read for this lock

	Suites []string `toml:"suites"` // debian: what was read
	Index  []string `toml:"index"`  // debian: digests of the signed releases, a suite each

	Of    string `toml:"of"`    // debian: the source that this is another state of; "" for one that is declared
	State string `toml:"state"` // debian: RFC 3339, the moment whose state of the archive this is; "" for that of then

	Released []string `toml:"released"` // debian: RFC 3339, when each of the releases was signed
}

// AtState is the name of a source that is the state of another one at a moment.
func AtState(source string, at time.Time) string {
	return source + "-at-" + strings.ToLower(at.UTC().Format("20060102T150405Z"))
}

// Item is one locked toolchain.
type Item struct {
	Version   string                     `toml:"version"`
	Source    string                     `toml:"source"`
	Card      string                     `toml:"card"`      // digest
	Published string                     `toml:"published"` // RFC 3339, "" where the source has no date
	Answer    string                     `toml:"answer"`    // how to ask the tool for its version
	Match     string                     `toml:"match"`     // regular expression for the answer
	Service   map[string]string          `toml:"service"`   // how it runs as a service, as its card says
	Variables map[string]string          `toml:"variables"`
	Prefix    string                     `toml:"prefix"` // stands before the names of its commands
	Shown     map[string]string          `toml:"shown"`  // its commands that show → under what name; none: all of them
	For       string                     `toml:"for"`    // the item that it is there to build; nothing of it shows
	Platforms map[string]map[string]Part `toml:"on"`     // platform → part name → part
}

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

// Sorted lists the keys of a map in order.
func Sorted[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// facts is the lock as canonical values. Empty values are left out, so that a
// field that a later format adds does not move the digests of older locks.
func (l *Lock) facts() canon.Map {
	sources, items := canon.Map{}, canon.Map{}
	for name, s := range l.Sources {
		sources[name] = trim(canon.Map{"kind": s.Kind, "address": s.Address, "as-of": s.AsOf, "suites": s.Suites, "index": s.Index, "released": s.Released, "of": s.Of, "state": s.State})
	}
	for name, i := range l.Items {
		on := canon.Map{}
		for platform, parts := range i.Platforms {
			group := canon.Map{}
			for name, p := range parts {
				group[name] = trim(canon.Map{
					"path": p.Path, "version": p.Version, "format": p.Format, "size": p.Size, "digest": string(p.Digest),
					"tree": string(p.Tree), "prefix": p.Prefix, "strip": p.Strip, "bin": p.Bin, "executable": p.Executable,
					"build": p.Build, "builder": p.Builder, "sums": p.Sums,
					"packages": p.Packages, "scripts": p.Scripts,
					"wants": p.Wants, "commands": p.Commands, "files": p.Files,
				})
			}
			on[platform] = group
		}
		items[name] = trim(canon.Map{
			"version": i.Version, "source": i.Source, "card": i.Card, "published": i.Published,
			"answer": i.Answer, "match": i.Match, "variables": i.Variables, "service": i.Service, "prefix": i.Prefix, "shown": i.Shown, "for": i.For, "on": on,
		})
	}
	d := l.Declaration
	return trim(canon.Map{
		"format": l.Format,
		"declaration": trim(canon.Map{
			"digest": d.Digest, "project": d.Project, "isolation": d.Isolation,
			"platforms": d.Platforms, "host": d.Host, "includes": d.Includes, "as-of": d.AsOf,
		}),
		"source": sources, "item": items, "root": l.rootFacts(), "library": l.libraryFacts(), "variables": l.Variables,
		"evidence": lists(l.Evidence), "pictures": lists(l.Pictures),
		"steps": l.Steps, "addons": l.Addons, "services": l.Services, "routines": l.Routines,
	})
}

func lists(in map[string][]string) canon.Map {
	out := canon.Map{}
	for name, lines := range in {
		out[name] = lines
	}
	return out
}

func trim(m canon.Map) canon.Map {
	for k, v := range m {
		empty := false
		switch v := v.(type) {
		case string:
			empty = v == ""
		case int:
			empty = v == 0
		case int64:
			empty = v == 0
		case bool:
			empty = !v
		case []string:
			empty = len(v) == 0
		case map[string]string:
			empty = len(v) == 0
		case canon.Map:
			empty = len(v) == 0
		}
		if empty {
			delete(m, k)
		}
	}
	return m
}

// ID is the identity of a whole lock, and EnvironmentID that of what it fixes for one
// platform: "sha256:" and 64 hex digits. One is never taken for the other, and neither for
// consent, which covers more (approval.ID).
type (
	ID            string
	EnvironmentID string
)

// ID identifies the whole lock: all platforms. Tree digests, which follow from
// the archives' own digests, and the moments of reading do not count, so that a
// first fit or a second look at a source gives no new identity.
func (l *Lock) ID() ID {
	facts := l.facts()
	dropTrees(facts)
	return ID(canon.Digest(facts))
}

// EnvironmentID identifies everything that the lock fixes for one platform.
func (l *Lock) EnvironmentID(p platform.Platform) EnvironmentID {
	facts := l.facts()
	dropTrees(facts)
	declaration, _ := facts["declaration"].(canon.Map)
	delete(declaration, "platforms")
	delete(declaration, "digest") // it changes with the list of platforms
	items, _ := facts["item"].(canon.Map)
	for _, v := range items {
		item := v.(canon.Map)
		if on, ok := item["on"].(canon.Map); ok {
			item["on"] = canon.Map{p.String(): on[p.String()]}
		}
	}
	roots, _ := facts["root"].(canon.Map)
	for name, v := range roots {
		roots[name] = canon.Map{p.String(): v.(canon.Map)[p.String()]}
	}
	libraries, _ := facts["library"].(canon.Map)
	for _, v := range libraries {
		library := v.(canon.Map)
		if on, ok := library["on"].(canon.Map); ok {
			library["on"] = canon.Map{p.String(): on[p.String()]}
		}
	}
	return EnvironmentID(canon.Digest(facts))
}

// dropTrees takes out what only a machine that fitted knows, and when sources were
// read.
func dropTrees(facts canon.Map) {
	for _, learnt := range []string{"source", "evidence", "pictures"} {
		delete(facts, learnt)
	}
	if d, ok := facts["declaration"].(canon.Map); ok {
		delete(d, "includes") // their meaning is the declaration's own
		delete(d, "as-of")    // and what it led to stands in the items
	}
	roots, _ := facts["root"].(canon.Map)
	for _, on := range roots {
		for _, r := range on.(canon.Map) {
			delete(r.(canon.Map), "tree")
		}
	}
	libraries, _ := facts["library"].(canon.Map)
	for _, v := range libraries {
		on, _ := v.(canon.Map)["on"].(canon.Map)
		for _, s := range on {
			delete(s.(canon.Map), "tree")
			delete(s.(canon.Map), "sums")
		}
	}
	items, _ := facts["item"].(canon.Map)
	for _, v := range items {
		on, _ := v.(canon.Map)["on"].(canon.Map)
		for _, group := range on {
			for _, part := range group.(canon.Map) {
				delete(part.(canon.Map), "tree")
				delete(part.(canon.Map), "sums")
			}
		}
	}
}

// Bytes is the content of the lock's file.
func (l *Lock) Bytes() []byte {
	facts := l.facts()
	digest := canon.Digest(facts)
	format := facts["format"]
	delete(facts, "format")
	b := []byte(heading)
	b = append(b, fmt.Sprintf("format = %d\ndigest = %q\n", format, digest)...)
	return appendTables(b, "", facts)
}

// bare are the characters of keys that need no quotes (TOML 1.0, Keys).
const bare = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-"

func key(name string) string {
	if name != "" && strings.Trim(name, bare) == "" {
		return name
	}
	return quote(name)
}

// quote writes a TOML basic string.
func quote(s string) string { return string(canon.JSON(s)) }

// appendTables writes facts as TOML: a table's own values first, then its
// sub-tables, each sorted by name.
func appendTables(b []byte, path string, table canon.Map) []byte {
	for _, name := range Sorted(table) {
		switch v := table[name].(type) {
		case string:
			b = append(b, key(name)+" = "+quote(v)+"\n"...)
		case int:
			b = append(b, key(name)+" = "+strconv.Itoa(v)+"\n"...)
		case int64:
			b = append(b, key(name)+" = "+strconv.FormatInt(v, 10)+"\n"...)
		case bool:
			b = append(b, key(name)+" = "+strconv.FormatBool(v)+"\n"...)
		case []string:
			quoted := make([]string, len(v))
			for i, s := range v {
				quoted[i] = quote(s)
			}
			line := "[" + strings.Join(quoted, ", ") + "]"
			if len(line) > 100 { // one fact a line
				line = "[\n  " + strings.Join(quoted, ",\n  ") + ",\n]"
			}
			b = append(b, key(name)+" = "+line+"\n"...)
		}
	}
	for _, name := range Sorted(table) {
		below := key(name)
		if path != "" {
			below = path + "." + below
		}
		switch v := table[name].(type) {
		case map[string]string:
			b = append(b, "\n["+below+"]\n"...)
			for _, k := range Sorted(v) {
				b = append(b, key(k)+" = "+quote(v[k])+"\n"...)
			}
		case canon.Map:
			if hasValues(v) {
				b = append(b, "\n["+below+"]\n"...)
			}
			b = appendTables(b, below, v)
		}
	}
	return b
}

// hasValues tells whether a table needs a header of its own.
func hasValues(table canon.Map) bool {
	for _, v := range table {
		switch v.(type) {
		case canon.Map, map[string]string:
		default:
			return true
		}
	}
	return len(table) == 0
}

// Path is where the lock of a project is.
func Path(dir string) string { return filepath.Join(dir, FileName) }

// OverlayName is the name of the lock of a person's own additions.
const OverlayName = "trammel.local.lock"

// OverlayPath is where that lock is.
func OverlayPath(dir string) string { return filepath.Join(dir, OverlayName) }

// ErrNone is what Read wraps when there is no lock yet.
var ErrNone = errors.New("there is no lock")

// Read reads and checks the lock of a project's folder.
func Read(dir string) (*Lock, error) { return ReadFile(Path(dir)) }

// ReadFile reads and checks a lock.
func ReadFile(path string) (*Lock, error) {
	source, err := ReadBytes(filepath.Dir(path), filepath.Base(path))
	if err != nil {
		return nil, err
	}
	return Parse(source)
}

// ReadBytes reads the file of a lock below a folder without looking at what it says.
func ReadBytes(dir, name string) ([]byte, error) {
	source, err := disk.ReadWithin(dir, name, disk.MostLock)
	return source, unread(name, err)
}

func unread(name string, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		e := fault.New(fault.ErrUsage, "there is no %s yet", name)
		e.Cause = ErrNone
		return e.Advise("Make it: trammel lock")
	}
	return fault.New(fault.ErrUsage, "%s %s", name, disk.InWords(err)).Advise("A lock is a regular file in the project's own folder. Bring back the committed one, or write it anew: trammel lock")
}

// Parse reads a lock from memory and checks its digest.
func Parse(source []byte) (*Lock, error) { return parse(source, true) }

func parse(source []byte, whole bool) (*Lock, error) {
	l, err := decode(source)
	if err != nil {
		return nil, unreadable(source, err)
	}
	if l.Format != Format {
		return nil, fault.New(fault.ErrUsage, "%s has format %d, and this program reads format %d", FileName, l.Format, Format).
			Advise("Use the Trammel that your team uses, or lock again.")
	}
	if digest := canon.Digest(l.facts()); whole && digest != l.Digest {
		return nil, fault.New(fault.ErrUsage, "%s was changed by hand or by a merge: its digest is %s and its content has %s", FileName, canon.Short(l.Digest), canon.Short(digest)).
			Advise("Bring back the committed one (git checkout %s), or write it anew: trammel lock", FileName)
	}
	if err := l.check(); err != nil {
		return nil, err
	}
	return l, nil
}

// itemsAtOnce is how many tables of items are decoded together: the decoder compares each
// table with those before it, which takes seconds for thousands.
const itemsAtOnce = 32

// decode reads the tables of a lock, a chunk after the other. A table that stands in
// two chunks makes the digest wrong.
func decode(source []byte) (*Lock, error) {
	into := func(l *Lock, text string) error {
		return toml.NewDecoder(strings.NewReader(text)).DisallowUnknownFields().Decode(l)
	}
	var l Lock
	var chunk strings.Builder
	items := 0
	for line := range strings.Lines(string(source)) {
		name, isItem := strings.CutPrefix(line, "[item.")
		if isItem && strings.IndexByte(name, ']') == len(name)-2 && !strings.ContainsAny(name, ".\"") {
			if items++; items%itemsAtOnce == 0 {
				if into(&l, chunk.String()) != nil {
					break
				}
				chunk.Reset()
			}
		}
		chunk.WriteString(line)
	}
	if items < itemsAtOnce || into(&l, chunk.String()) != nil {
		l = Lock{} // few, or something wrong: the whole says where
		return &l, into(&l, string(source))
	}
	return &l, nil
}

func unreadable(source []byte, err error) error {
	e := fault.New(fault.ErrUsage, "%s cannot be read: %v", FileName, err)
	for i, line := range strings.Split(string(source), "\n") {
		if strings.HasPrefix(line, "<<<<<<< ") {
			e.What = fmt.Sprintf("%s:%d: the lock holds the marks of a merge that was not finished", FileName, i+1)
			break
		}
	}
	return e.Advise("Take one side (git checkout --ours %s), then: trammel lock", FileName)
}

// check refuses what a lock with a right digest could still say to reach outside
// the store: a forger can compute digests too.
func (l *Lock) check() error {
	for _, item := range Sorted(l.Items) {
		for _, name := range Sorted(l.Items[item].Variables) {
			if why := declare.NoVariable(name); why != "" {
				return fault.New(fault.ErrUsage, "%s: the card of %s: %s", FileName, item, why).Advise("Have the tool from another source, or tell who wrote its card.")
			}
		}
		for _, as := range append(slices.Collect(maps.Values(l.Items[item].Shown)), l.Items[item].Prefix) {
			if strings.ContainsAny(as, "/\\\x00") {
				return fault.New(fault.ErrUsage, "%s: %s shows a command as %q, which is no name", FileName, item, as).Advise("Write the lock anew: trammel lock")
			}
		}
		for _, parts := range l.Items[item].Platforms {
			for name, p := range parts {
				bad := ""
				if err := p.Digest.Check(); err != nil && p.Format != RootFormat {
					bad = err.Error()
				}
				if p.Format == RootFormat && !l.hasRoot(l.Items[item].Source) {
					bad = "it comes from a root that the lock does not have"
				}
				for to, from := range p.Files {
					if leaves(to) || leaves(from) {
						bad = fmt.Sprintf("the file %q = %q leaves the root", to, from)
					}
				}
				if tree := strings.TrimPrefix(string(p.Tree), "blake3:"); p.Tree != "" && (len(tree) != 64 || strings.Trim(tree, "0123456789abcdef") != "") {
					bad = fmt.Sprintf("%q is not a tree digest", p.Tree)
				}
				if strings.ContainsAny(item+name+l.Items[item].Version, "/\\\x00") || p.Size < 0 {
					bad = "a name or size that no lock has"
				}
				for command, file := range p.Bin {
					if strings.ContainsAny(command, "/\\\x00") || leaves(file) {
						bad = fmt.Sprintf("the command %q = %q leaves the part", command, file)
					}
				}
				if bad != "" {
					return fault.New(fault.ErrUsage, "%s: part %s of %s: %s", FileName, name, item, bad).Advise("Write the lock anew: trammel lock")
				}
			}
		}
	}
	if err := l.checkRoots(); err != nil {
		return err
	}
	return l.checkLibraries()
}

// leaves tells whether a path of a part points out of it.
func leaves(file string) bool {
	return path.IsAbs(file) || strings.HasPrefix(path.Clean(file), "..")
}

// Write replaces the lock of a project's folder. A file that already has these
// bytes is left alone.
func (l *Lock) Write(dir string) error { return l.WriteFile(Path(dir)) }

// WriteFile is Write to any path.
func (l *Lock) WriteFile(path string) error {
	content := l.Bytes()
	if old, err := disk.ReadWithin(filepath.Dir(path), filepath.Base(path), disk.MostLock); err == nil && string(old) == string(content) {
		return nil
	}
	return disk.Write(path, content, 0o644)
}
