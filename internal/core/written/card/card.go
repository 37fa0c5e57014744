// Package card reads cards: small TOML pages that say how one tool is had from
// the sources, what it puts on the PATH and how its version is asked for.
//
// A card is data. It names no address, and the package reaches no network.
package card

import (
	"embed"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/ref"
)

// Card is everything Trammel knows about one tool.
type Card struct {
	Name      string
	About     string
	Scheme    version.Scheme // "" leaves it to the source's kind
	Answer    Answer
	Place     Answer            // how it is asked for the folder that it takes its own libraries from; its Match gives the folder
	Variables map[string]string // language homes; may refer to @{home}, @{cache}, @{part}, @{root} and Debian's @{arch}
	Where     []Where           // what holds for some versions alone
	From      []From
	Service   Service // how it runs as a service; nil when the card does not say
}

// Answer is how a tool is asked for its version, and the regular expression
// whose first group is the version in what it prints.
type Answer struct {
	Run   string
	Match string
}

// Where is what a card says of some versions alone.
type Where struct {
	Versions  string            // a range, as in a package.json: "<1.9"
	Variables map[string]string // set besides the card's own
}

// VariablesOf are the variables that a version sets.
func (c *Card) VariablesOf(v string) map[string]string {
	out := maps.Clone(c.Variables)
	for _, w := range c.Where {
		for name, value := range w.Variables {
			if version.InRange(whole(v), w.Versions) {
				if out == nil {
					out = map[string]string{}
				}
				out[name] = value
			}
		}
	}
	return out
}

// whole writes a version with three numbers, as ranges want it.
func whole(v string) string {
	for strings.Count(v, ".") < 2 {
		v += ".0"
	}
	return v
}

// From is one way to have the tool.
type From struct {
	Kind    string            // kind of source
	Package string            // the package whose versions are the tool's
	Release string            // gomod: the module version of a tool version
	Only    string            // npm: a range of versions that are of this way; "" for all
	Build   bool              // gomod: Package is a command, to be built from its module; no card says so
	OS      map[string]string // the source's own words for systems
	Arch    map[string]string // and for architectures
	Libc    map[string]string // and what it appends for a C library, by system
	Parts   []Part

	// debian only. Texts may refer to @{version}, @{major} and @{minor}.
	Packages  []string          // what to put into the root
	Versioned string            // the package whose upstream version is the tool's
	Bin       map[string]string // command → file in the root
	Commands  []string          // globs of files in the root that are commands by their own names
	Files     map[string]string // file to make in the root → file of the root to copy
	Offers    []string          // commands that a glob gives, for messages alone
}

// Part is one archive of the tool.
type Part struct {
	Name       string            // distinguishes the parts of an item; default: the package's last word
	Package    string            // "" means the From's own
	Lines      map[string]string // npm: for a major version of the tool, the start of the versions to take
	Unless     string            // left out where a toolchain of this name is declared
	Engines    string            // npm: take the newest whose engines of this name allow the tool's version
	Strip      int               // leading folders to drop from names in the archive
	Bin        map[string]string // command → file in the part
	Executable []string          // globs of files that must be executable
}

//go:embed builtin/*.toml
var builtin embed.FS

// Builtin is the card of that name which ships with the program.
func Builtin(name string) (*Card, bool) {
	source, err := builtin.ReadFile("builtin/" + name + ".toml")
	if err != nil {
		return nil, false
	}
	c, err := Parse("card of "+name, name, source)
	if err != nil {
		panic(err) // a test reads every built-in card
	}
	return c, true
}

// Ships tells whether a card of that name ships with the program.
func Ships(name string) bool {
	_, err := fs.Stat(builtin, "builtin/"+name+".toml")
	return err == nil
}

// BuiltinNames lists the tools with a card in the program.
func BuiltinNames() []string {
	entries, _ := builtin.ReadDir("builtin")
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = strings.TrimSuffix(e.Name(), ".toml")
	}
	return names
}

// Parse reads a card; file names it in messages.
func Parse(file, name string, source []byte) (*Card, error) {
	p := page.Parse(file, source)
	if err := p.Err(); err != nil {
		return nil, err
	}
	c := &Card{Name: name, About: p.Text(p.Root, "about"), Variables: p.StringMap(p.Root, "variables")}
	for _, e := range p.Strings(p.Root, "variables") {
		if why := declare.NoVariable(e.Name); why != "" {
			p.Fault(e.Key, "", "%s", why)
		}
	}
	if s := p.Text(p.Root, "scheme"); s != "" {
		if !slices.Contains(version.Schemes, s) {
			p.Fault(p.Root.Get("scheme").Span, fault.DidYouMean(s, version.Schemes), "%q is not a version scheme", s)
		}
		c.Scheme = version.Scheme(s)
	}
	c.Answer = readAnswer(p, "answer", `(\d+\.\d+\.\d+)`)
	c.Place = readAnswer(p, "place", `(\S+)`)
	if list := p.Root.Get("where"); list != nil {
		for _, item := range list.Items {
			if item.Table == nil {
				continue
			}
			w := Where{Versions: p.Text(item.Table, "versions"), Variables: p.StringMap(item.Table, "variables")}
			if w.Versions == "" {
				p.Fault(item.Table.Span, `Write, for example: versions = "<1.9"`, "a where table says no versions")
			}
			for _, e := range p.Strings(item.Table, "variables") {
				if why := declare.NoVariable(e.Name); why != "" {
					p.Fault(e.Key, "", "%s", why)
				}
			}
			p.Close(item.Table)
			c.Where = append(c.Where, w)
		}
	}
	if t := p.Table(p.Root, "service"); t != nil {
		c.Service = readService(p, t)
	}
	if v := p.Root.Get("from"); v == nil {
		p.Fault(page.Span{}, "Add a [[from]] table.", "the card says no source to have %s from", name)
	} else if v.Kind != page.Array {
		p.Fault(v.Span, "Write [[from]].", "from must be an array of tables")
	} else {
		for _, item := range v.Items {
			if item.Table != nil {
				c.From = append(c.From, readFrom(p, item.Table, name))
			}
		}
	}
	p.Close(p.Root)
	if err := p.Err(); err != nil {
		return nil, err
	}
	return c, nil
}

// readAnswer reads how a tool is asked for something.
func readAnswer(p *page.Page, key, example string) (a Answer) {
	t := p.Table(p.Root, key)
	if t == nil {
		return a
	}
	a = Answer{Run: p.Text(t, "run"), Match: p.Text(t, "match")}
	if re, err := regexp.Compile(a.Match); err != nil || re.NumSubexp() < 1 {
		p.Fault(t.Span, "Write, for example: match = '"+example+"'", "%s.match must be a regular expression with one group", key)
	}
	p.Close(t)
	return a
}

func readFrom(p *page.Page, t *page.Table, tool string) From {
	f := From{
		Kind: p.Text(t, "kind"), Package: p.Text(t, "package"), Release: p.Text(t, "release"), Only: p.Text(t, "only"),
		OS: p.StringMap(t, "os"), Arch: p.StringMap(t, "arch"), Libc: p.StringMap(t, "libc"),
	}
	if f.Package == "" {
		f.Package = tool
	}
	if f.Kind == "" {
		p.Fault(t.Span, `Write, for example: kind = "npm"`, "a from table has no kind")
	}
	if f.Kind == "debian" {
		readDebian(p, t, &f)
		p.Close(t)
		return f
	}
	v := t.Get("part")
	if v == nil || v.Kind != page.Array {
		p.Fault(t.Span, "Add a [[from.part]] table with bin.", "a from table has no parts")
		return f
	}
	for _, item := range v.Items {
		if item.Table == nil {
			continue
		}
		part := Part{
			Name: p.Text(item.Table, "name"), Package: p.Text(item.Table, "package"), Engines: p.Text(item.Table, "engines"),
			Lines: p.StringMap(item.Table, "lines"), Unless: p.Text(item.Table, "unless"),
			Strip: int(p.Whole(item.Table, "strip", 0, 0, 9)),
			Bin:   p.StringMap(item.Table, "bin"), Executable: p.Texts(item.Table, "executable"),
		}
		if part.Name == "" {
			part.Name = tool
			if part.Package != "" && !strings.Contains(part.Package, "@{") {
				part.Name = path.Base(part.Package)
			}
		}
		for command, file := range part.Bin {
			if command == "" || strings.ContainsAny(command, "/\\") || !inside(file) {
				p.Fault(item.Table.Span, "", "bin: %q = %q must name a command and a file inside the part", command, file)
			}
		}
		p.Close(item.Table)
		f.Parts = append(f.Parts, part)
	}
	p.Close(t)
	return f
}

// readDebian reads what only a way from a Debian archive has. Without bin the
// commands are all that the packages have in their folders of commands.
func readDebian(p *page.Page, t *page.Table, f *From) {
	f.Packages, f.Versioned, f.Files = p.Texts(t, "packages"), p.Text(t, "version"), p.StringMap(t, "files")
	if len(f.Packages) == 0 {
		f.Packages = []string{f.Package}
	}
	f.Offers = p.Texts(t, "offers")
	if f.Versioned == "" {
		f.Versioned = f.Packages[0]
	}
	if v := t.Get("bin"); v != nil && v.Kind == page.Array {
		f.Commands = p.Texts(t, "bin")
	} else if v != nil {
		f.Bin = p.StringMap(t, "bin")
	}
	for _, file := range slices.Concat(f.Commands, slices.Collect(maps.Values(f.Bin)), slices.Collect(maps.Keys(f.Files)), slices.Collect(maps.Values(f.Files))) {
		if !inside(file) {
			p.Fault(t.Span, "", "%q must name a file inside the root", file)
		}
	}
}

func inside(file string) bool {
	clean := path.Clean(file)
	return file != "" && !path.IsAbs(clean) && clean != ".." && !strings.HasPrefix(clean, "../")
}

// Expand fills @{version}, @{major}, @{os}, @{arch} and @{libc} into a text of
// this From, in the source's own words.
func (f From) Expand(text, version_ string, p platform.Platform) (string, error) {
	word := func(table map[string]string, key string) string {
		if w, ok := table[key]; ok {
			return w
		}
		return key
	}
	return ref.Expand(text, ref.From(map[string]string{
		"version": version_, "major": version.Major(version_), "minor": version.Minor(version_),
		"os": word(f.OS, p.OS), "arch": word(f.Arch, p.Arch), "libc": f.Libc[p.OS],
	}))
}

// Digest is the digest of the card's meaning; what it says about the tool in
// words does not count.
func (c *Card) Digest() string {
	var from canon.List
	for _, f := range c.From {
		var parts canon.List
		for _, x := range f.Parts {
			facts := canon.Map{
				"name": x.Name, "package": x.Package, "engines": x.Engines, "strip": x.Strip,
				"bin": x.Bin, "executable": x.Executable,
			}
			if len(x.Lines) > 0 {
				facts["lines"] = x.Lines
			}
			if x.Unless != "" {
				facts["unless"] = x.Unless
			}
			parts = append(parts, facts)
		}
		if f.Kind == "debian" {
			from = append(from, canon.Map{
				"kind": f.Kind, "packages": f.Packages, "version": f.Versioned, "bin": f.Bin, "commands": f.Commands, "files": f.Files,
			})
			continue
		}
		facts := canon.Map{
			"kind": f.Kind, "package": f.Package, "release": f.Release, "build": f.Build,
			"os": f.OS, "arch": f.Arch, "libc": f.Libc, "parts": parts,
		}
		if f.Only != "" {
			facts["only"] = f.Only
		}
		from = append(from, facts)
	}
	all := canon.Map{
		"name": c.Name, "scheme": string(c.Scheme), "variables": c.Variables, "from": from,
		"answer": canon.Map{"run": c.Answer.Run, "match": c.Answer.Match},
	}
	if c.Place.Run != "" {
		all["place"] = canon.Map{"run": c.Place.Run, "match": c.Place.Match}
	}
	if len(c.Where) > 0 {
		var where canon.List
		for _, w := range c.Where {
			where = append(where, canon.Map{"versions": w.Versions, "variables": w.Variables})
		}
		all["where"] = where
	}
	if len(c.Service) > 0 {
		all["service"] = c.Service.meaning()
	}
	return canon.Digest(all)
}
