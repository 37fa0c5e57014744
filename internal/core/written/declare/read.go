package declare

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/release"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/kernel/network"
	"app.example/trammel/internal/core/written/ref"
)

// Find looks for the nearest declaration at or above dir, which is absolute, and returns
// its path.
func Find(r *reading.Reader, dir string) (string, error) {
	for d := dir; ; d = filepath.Dir(d) {
		path := filepath.Join(d, FileName)
		if info, err := r.Stat(path); err == nil && !info.IsDir() {
			// One project has one path, however a person came there.
			if real, err := r.EvalSymlinks(d); err == nil {
				path = filepath.Join(real, FileName)
			}
			return path, nil
		}
		if d == filepath.Dir(d) {
			return "", fault.New(fault.ErrUsage, "no %s in %s or any folder above it", FileName, dir).
				Advise("Write one from what this folder shows: trammel draft\nOr change to a project that has one, name its folder with --dir, or see one at work: trammel demo")
		}
	}
}

// Files says how the files of a declaration are had.
type Files struct {
	Get  Get                                    // finds what a locator names; nil: none can be included
	Read func(dir, name string) ([]byte, error) // nil: as they lie there
}

func (f Files) read(dir, name string) ([]byte, error) {
	if f.Read != nil {
		return f.Read(dir, name)
	}
	return disk.ReadWithin(dir, name, disk.MostText)
}

// Read reads the declaration at path, which is absolute. An error of type fault.Findings
// holds all that is wrong with it.
func Read(path string, files Files) (*Declaration, error) {
	source, err := files.read(filepath.Dir(path), filepath.Base(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.ErrUsage, "%s is not there", path)
	}
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "%s %s", path, disk.InWords(err)).Advise("A declaration is a regular file of text in the project's own folder.")
	}
	return parseWith(path, source, files)
}

// Parse reads a declaration from memory; path names it in messages and gives the
// project's folder.
func Parse(path string, source []byte) (*Declaration, error) { return parseWith(path, source, Files{}) }

func parseWith(path string, source []byte, files Files) (*Declaration, error) {
	var unreached error // what could not be fetched says nothing about the declaration
	if get := files.Get; get != nil {
		files.Get = func(locator string) (dir, path, pin string, err error) {
			dir, path, pin, err = get(locator)
			if errors.Is(err, fault.ErrSource) {
				unreached = err
			}
			return dir, path, pin, err
		}
	}
	r := reader{Page: page.Parse(filepath.Base(path), source), had: files}
	d := &Declaration{File: path, Dir: filepath.Dir(path)}
	if len(r.Findings) == 0 {
		r.declaration(d)
		d.defaults()
		if _, ok := d.Base(); d.Isolation == Sealed && !ok {
			span := page.Span{}
			if v := r.Root.Get("isolation"); v != nil {
				span = v.Span
			}
			r.Fault(span, "Add, for example:\n  [source.trixie]\n  kind  = \"debian\"\n  suite = \"trixie\"", "sealed isolation needs a source of kind debian, which its root comes from")
		}
		r.twice(d)
		for _, x := range d.Services {
			if len(x.Segments) > 0 && d.Network == "" {
				r.Findings = append(r.Findings, fault.Finding{Place: x.Place, What: "service " + x.Name + " is in a segment, and there is no private network to have segments", Do: "Write at the top: network = \"private\""})
			}
		}
		r.Findings = append(r.Findings, d.segments()...)
		for _, part := range append([]*reader{&r}, r.parts...) {
			part.references(d)
		}
		r.cycles(d)
		for _, part := range r.parts {
			r.Findings = append(r.Findings, part.Findings...)
		}
	}
	if r.older != nil {
		return nil, fault.Findings{*r.older}
	}
	if unreached != nil {
		return nil, unreached
	}
	if err := r.Err(); err != nil {
		return nil, err
	}
	d.digest = d.meaning()
	return d, nil
}

// reader gives the tables of one page their meaning.
type reader struct {
	*page.Page
	parts []*reader // of the files that are included, at any depth
	had   Files

	tools []*page.Value // names of toolchains that services run
	whens []*page.Value // names of params that values depend on

	older *fault.Finding // this program is not one that the declaration is for, so nothing else that it says counts

	uses     []use           // texts that may hold references, checked when all names are known
	scripts  []writtenScript // in which values must not become a part of the program
	commands []*page.Value   // arrays of words, likewise
}

// writtenScript is a script and what interprets it.
type writtenScript struct {
	value    *page.Value
	language ref.Language
}

// use is a text with references and where it stands.
type use struct {
	value   *page.Value
	service string // the service it stands in, or ""
	secret  bool   // secrets may stand here
	item    bool   // @{item} of an add-on may stand here
}

var (
	projectName  = `[a-z][a-z0-9-]{0,39}`
	thingName    = `[a-z][a-z0-9_-]*`
	variableName = `[A-Za-z_][A-Za-z0-9_]*`
)

// compiled are expressions that were needed so far.
var compiled sync.Map

// whole tells whether all of s matches the expression, which is compiled when it is first
// needed.
func whole(expression, s string) bool {
	known, ok := compiled.Load(expression)
	if !ok {
		known, _ = compiled.LoadOrStore(expression, regexp.MustCompile("^(?:"+expression+")$"))
	}
	return known.(*regexp.Regexp).MatchString(s)
}

// needsTrammel reads which releases of this program a declaration is for.
func (r *reader) needsTrammel(d *Declaration) {
	v := r.Root.Get("needs-trammel")
	if v == nil {
		return
	}
	text := r.Text(r.Root, "needs-trammel")
	ask, err := version.ParseAsk(text)
	if err == nil && ask.Valid(version.Semver) != "" {
		err = errors.New(ask.Valid(version.Semver))
	}
	if err != nil {
		r.Fault(v.Span, `Write, for example: needs-trammel = ">=0.3"`, "%q says no version of Trammel: %v", text, err)
		return
	}
	d.Needs = ask
	// A build from between releases is what comes before the one that it is named by, and has
	// what that has.
	own, _, _ := strings.Cut(release.Version, "-")
	if !ask.Allows(version.Semver, own) {
		r.older = &fault.Finding{Place: r.Place(v.Span), What: fmt.Sprintf("this project needs Trammel %s, and this is %s", text, release.Version), Do: "Install one that fits; trammel version tells which one runs."}
	}
}

func (r *reader) declaration(d *Declaration) {
	root := r.Root
	if v := root.Get("format"); v == nil {
		r.Fault(page.Span{}, "Write as the first line: format = 1", "the file format is not stated")
	} else if v.Kind != page.Integer || v.Whole != Format {
		r.Fault(v.Span, "This program reads format 1; a newer file needs a newer Trammel.", "the file format %s is not known", v.Text)
	}
	r.needsTrammel(d)
	d.Project = r.Text(root, "project")
	if v := root.Get("project"); v == nil {
		r.Fault(page.Span{}, `Write, for example: project = "heronweir"`, "the project has no name")
	} else if v.Kind == page.String && !whole(projectName, d.Project) {
		r.Fault(v.Span, "Use a-z, 0-9 and -, starting with a letter, at most 40 characters.", "%q cannot name a project", d.Project)
	}
	d.About = r.Text(root, "about")
	d.Isolation = Isolation(r.Choice(root, "isolation", string(Clean), string(Open), string(Sealed)))
	d.statedIsolation = root.Get("isolation") != nil
	r.network(d)
	if t := r.Table(root, "depot"); t != nil {
		d.Depot = r.Text(t, "url")
		if v := t.Get("url"); v == nil || v.Text == "" {
			r.Fault(t.Span, "Write, for example: url = \"oci://registry.example/depot\"", "[depot] has no url")
		}
		r.Close(t)
	}
	r.include(d, origin{dir: d.Dir}, d.File, []string{filepath.Base(d.File)})
	r.sections(d)
	r.Close(root)
}

// network reads what network services and sealed programs have: "private", or a list of hosts.
func (r *reader) network(d *Declaration) {
	switch v := r.Root.Get("network"); {
	case v == nil:
	case v.Kind == page.Array:
		d.Network, d.Reach = NetworkPrivate, r.Texts(r.Root, "network")
		if d.Reach == nil {
			d.Reach = []string{}
		}
		for i, item := range v.Items {
			if item.Kind != page.String {
				continue
			}
			if err := network.CheckHost(item.Text); err != nil {
				r.Fault(item.Span, "Write, for example: network = [\"registry.example:443\", \"*.weir.example\"]", "%v", err)
				continue
			}
			d.Reach[i] = strings.ToLower(item.Text)
		}
		slices.Sort(d.Reach)
		d.Reach = slices.Compact(d.Reach)
	default:
		d.Network = r.Choice(r.Root, "network", NetworkPrivate)
	}
	if r.Root.Get("names") != nil {
		d.Named = r.Flag(r.Root, "names")
	}
}

// sections reads what every file may declare.
func (r *reader) sections(d *Declaration) {
	root := r.Root
	for _, command := range r.Texts(root, "host") {
		if !slices.Contains(d.Host, command) {
			d.Host = append(d.Host, command)
		}
	}
	if v := root.Get("host"); v != nil {
		for _, item := range v.Items {
			if item.Kind == page.String && (item.Text == "" || strings.Contains(item.Text, "/")) {
				r.Fault(item.Span, "", "%q is not the name of a command", item.Text)
			}
		}
	}
	for _, glob := range r.Texts(root, "data") {
		if !slices.Contains(d.Data, glob) {
			d.Data = append(d.Data, glob)
		}
	}
	if v := root.Get("data"); v != nil {
		for _, item := range v.Items {
			if item.Kind == page.String && (!doublestar.ValidatePattern(item.Text) || !filepath.IsLocal(item.Text)) {
				r.Fault(item.Span, "Write, for example: data = [\"data/**\"]", "%q is not a pattern for files of the project", item.Text)
			}
		}
	}
	r.platforms(d)
	r.sources(d)
	r.toolchains(d)
	d.Variables = append(d.Variables, r.variables(root, "")...)
	r.each("step", func(name string, t *page.Table) { d.Steps = append(d.Steps, r.step(name, t)) })
	r.each("service", func(name string, t *page.Table) { d.Services = append(d.Services, r.service(name, t)) })
	r.each("routine", func(name string, t *page.Table) {
		d.Routines = append(d.Routines, Routine{Name: name, About: r.Text(t, "about"), Run: r.run(t, "run", "", true), Needs: r.Texts(t, "needs"), Place: r.Place(t.Span)})
	})
	r.files(d)
	r.secrets(d)
	r.each("addon", func(name string, t *page.Table) { d.Addons = append(d.Addons, r.addon(name, t)) })
	r.each("libraries", func(name string, t *page.Table) { d.Libraries = append(d.Libraries, r.library(d, name, t)) })
	r.each("param", func(name string, t *page.Table) { d.Params = append(d.Params, r.param(name, t)) })
}

func (r *reader) platforms(d *Declaration) {
	for _, s := range r.Texts(r.Root, "platforms") {
		if p, ok := platform.Parse(s); ok && !slices.Contains(d.Platforms, p) {
			d.Platforms = append(d.Platforms, p)
		}
	}
	if v := r.Root.Get("platforms"); v != nil {
		for _, item := range v.Items {
			if _, ok := platform.Parse(item.Text); !ok && item.Kind == page.String {
				r.Fault(item.Span, fault.DidYouMean(item.Text, platform.Known), "%q is not a platform", item.Text)
			}
		}
	}
}

// each calls read for every named table below a key, as in [step.NAME].
func (r *reader) each(key string, read func(name string, t *page.Table)) {
	group := r.Table(r.Root, key)
	if group == nil {
		return
	}
	for _, e := range group.Entries {
		if !whole(thingName, e.Name) {
			r.Fault(e.Key, "Use a-z, 0-9, - and _, starting with a letter.", "%q cannot name a %s", e.Name, key)
		}
		if t := r.Table(group, e.Name); t != nil {
			read(e.Name, t)
			r.Close(t)
		}
	}
}

func (r *reader) sources(d *Declaration) {
	r.each("source", func(name string, t *page.Table) {
		s := Source{Name: name, Kind: r.Text(t, "kind"), URL: r.Text(t, "url"), SumDB: r.Text(t, "sumdb"), Place: r.Place(t.Span)}
		kinds := SourceKinds
		if s.Kind == "catalog" {
			s.Keys = r.Texts(t, "keys")
		}
		if s.Kind == "listing" {
			s.Listing = r.listing(name, t)
			s.Keys = r.Texts(t, "keys")
			switch v := t.Get("signature"); {
			case v != nil && len(s.Keys) == 0 && s.Listing.Keyring == "":
				r.Fault(v.Span, `Write keys = ["RW…"] of minisign or SSH, or keyring = "keys/makers.asc" of OpenPGP.`, "nobody is named who may sign")
			case v == nil && (len(s.Keys) > 0 || s.Listing.Keyring != ""):
				r.Fault(t.Span, `Write, for example: signature = "https://dl.example/@{version}/SHA256SUMS.minisig"`, "listing %q has keys and no signature", name)
			}
		}
		if s.Kind == "wheel" {
			s.Mix = r.Flag(t, "mix")
		}
		if s.Kind == "debian" {
			s.Debian = r.debian(name, t)
		}
		switch v := t.Get("kind"); {
		case v == nil:
			r.Fault(t.Span, `Write, for example: kind = "npm"`, "source %q has no kind", name)
		case v.Kind == page.String && !slices.Contains(kinds, s.Kind):
			r.Fault(v.Span, fault.DidYouMean(s.Kind, kinds), "%q is not a kind of source", s.Kind)
		case s.Kind == "catalog" && s.URL == "":
			r.Fault(t.Span, `Write url = "tools" for a folder of the project, or an http address.`, "catalog %q has no url", name)
		}
		if v := t.Get("url"); v != nil {
			s.URLRef = r.Place(v.Span)
		}
		d.Sources = append(d.Sources, s)
	})
}

// listing reads what only a source of kind listing has.
func (r *reader) listing(name string, t *page.Table) *Listing {
	l := &Listing{
		Index: r.Text(t, "index"), Versions: r.Text(t, "versions"), Archive: r.Text(t, "archive"), Sums: r.Text(t, "sums"),
		OS: map[string]string{}, Arch: map[string]string{}, Bin: r.Texts(t, "bin"), Format: r.Text(t, "format"),
		Signature: r.Text(t, "signature"), Keyring: r.Text(t, "keyring"),
	}
	for key, into := range map[string]map[string]string{"os": l.OS, "arch": l.Arch} {
		if table := r.Table(t, key); table != nil {
			for _, e := range table.Entries {
				into[e.Name] = r.Text(table, e.Name)
			}
			r.Close(table)
		}
	}
	if t.Get("strip") != nil {
		l.Strip = int(r.Whole(t, "strip", 0, 0, 20))
	}
	for _, x := range []struct{ key, value, example string }{
		{"index", l.Index, `index = "https://dl.example/index.json"`}, {"versions", l.Versions, `versions = '$.*~'`}, {"archive", l.Archive, `archive = "https://dl.example/@{version}/tool-@{os}-@{arch}.tar.gz"`},
	} {
		if x.value == "" {
			r.Fault(t.Span, "Write, for example: "+x.example, "listing %q has no %s", name, x.key)
		}
	}
	for key, text := range map[string]string{"index": l.Index, "archive": l.Archive, "sums": l.Sums, "signature": l.Signature} {
		if text != "" && !strings.HasPrefix(text, "https://") && !strings.HasPrefix(text, "http://") && !(key == "sums" && strings.HasPrefix(text, "$")) {
			r.Fault(t.Get(key).Span, "", "%s is no http address", key)
		}
		for _, m := range regexp.MustCompile(`@\{([^}]*)\}`).FindAllStringSubmatch(text, -1) {
			if !slices.Contains([]string{"version", "major", "minor", "os", "arch"}, m[1]) || key == "index" {
				r.Fault(t.Get(key).Span, "There are @{version}, @{major}, @{minor}, @{os} and @{arch}.", "nothing is named @{%s} in %s", m[1], key)
			}
		}
	}
	if l.Archive != "" && !strings.Contains(l.Archive, "@{version}") {
		r.Fault(t.Get("archive").Span, "Write @{version} where the version stands.", "the address of the archives does not depend on the version")
	}
	if l.Versions != "" && !strings.HasPrefix(l.Versions, "$") {
		if _, err := regexp.Compile(l.Versions); err != nil {
			r.Fault(t.Get("versions").Span, "", "versions is neither a JSONPath nor a regular expression: %v", err)
		}
	}
	formats := []string{"tar.gz", "tar.xz", "tar.zst", "tar.bz2", "zip", "gz", "binary"}
	if l.Format != "" && !slices.Contains(formats, l.Format) {
		r.Fault(t.Get("format").Span, "Known: "+strings.Join(formats, ", "), "%q is no format of archives", l.Format)
	}
	if len(l.Bin) == 0 {
		l.Bin = []string{"bin/*"}
	}
	return l
}

// debian reads what only a source of kind debian has. The suite is one name, or
// several of one archive of which the newest version counts.
func (r *reader) debian(name string, t *page.Table) Debian {
	d := Debian{
		Components: r.Texts(t, "components"), Keyring: r.Text(t, "keyring"),
		Docs: r.Flag(t, "docs"), Expired: r.Flag(t, "expired"), Snapshots: r.Text(t, "snapshots"),
	}
	stamped := func(t *page.Table, address string) {
		if v := t.Get("snapshots"); v != nil && (!strings.Contains(address, "@{stamp}") || !strings.HasPrefix(address, "http")) {
			r.Fault(v.Span, `Write, for example: snapshots = "https://snapshots.example/archive/debian/@{stamp}/"`, "the address of the snapshots has no @{stamp}")
		}
	}
	stamped(t, d.Snapshots)
	if len(d.Components) == 0 {
		d.Components = []string{"main"}
	}
	switch v := t.Get("suite"); {
	case v == nil:
		r.Fault(t.Span, `Write, for example: suite = "trixie"`, "source %q has no suite", name)
	case v.Kind == page.String:
		d.Suites = []string{v.Text}
	default:
		d.Suites = r.Texts(t, "suite")
	}
	for _, also := range r.Tables(t, "also") {
		x := Elsewhere{Suite: r.Text(also, "suite"), URL: r.Text(also, "url"), Snapshots: r.Text(also, "snapshots")}
		if x.Suite == "" {
			r.Fault(also.Span, `Write, for example: also = [{ suite = "trixie-security", url = "https://security.example/debian" }]`, "a suite of another address has no name")
			continue
		}
		if slices.Contains(d.All(), x.Suite) {
			r.Fault(also.Span, "Name each suite once.", "the suite %q is there twice", x.Suite)
		}
		if v := also.Get("url"); v != nil && !strings.HasPrefix(x.URL, "http://") && !strings.HasPrefix(x.URL, "https://") {
			r.Fault(v.Span, "", "url is no http address")
		}
		stamped(also, x.Snapshots)
		d.Also = append(d.Also, x)
		r.Close(also)
	}
	for _, s := range append(d.All(), d.Components...) {
		if s == "" || strings.Contains(s, "..") || strings.ContainsAny(s, " \t\n?#%") || strings.HasPrefix(s, "/") {
			r.Fault(t.Span, "", "%q names no suite or component", s)
		}
	}
	return d
}

func (r *reader) toolchains(d *Declaration) {
	group := r.Table(r.Root, "toolchain")
	if group == nil {
		return
	}
	for _, e := range group.Entries {
		group.Get(e.Name)
		t := Toolchain{Name: e.Name, Place: r.Place(e.Key)}
		if !whole(thingName, e.Name) {
			r.Fault(e.Key, "Use a-z, 0-9, - and _, starting with a letter.", "%q cannot name a toolchain", e.Name)
		}
		ask := e.Value
		if e.Value.Kind == page.Tab {
			sub := e.Value.Table
			ask = sub.Get("version")
			t.From = r.Text(sub, "from")
			if v := sub.Get("from"); v != nil && v.Kind == page.String {
				r.source(d, v)
			}
			t.Package = r.Text(sub, "package")
			t.Scripts, t.Varies = r.Texts(sub, "scripts"), r.Flag(sub, "varies")
			t.Tool, t.Prefix = r.Text(sub, "tool"), r.Text(sub, "prefix")
			if v := sub.Get("prefix"); v != nil && !whole(`[A-Za-z0-9][A-Za-z0-9._-]*`, t.Prefix) {
				r.Fault(v.Span, "", "%q cannot stand before the name of a command", t.Prefix)
			}
			if shown := r.Table(sub, "commands"); shown != nil {
				for _, x := range shown.Entries {
					as := r.Text(shown, x.Name)
					if !whole(`[A-Za-z0-9_][A-Za-z0-9._+-]*`, as) || strings.ContainsAny(x.Name, "/\\") {
						r.Fault(x.Key, `Write, for example: commands = { python3 = "python3.9" }`, "%q cannot name a command", as)
					}
					t.Shown = append(t.Shown, Renamed{x.Name, as})
				}
				r.Close(shown)
			}
			if t.Tool != "" && t.Package != "" {
				r.Fault(sub.Get("tool").Span, "Keep one of the two.", "a tool with a card has no package of its own")
			}
			if v := sub.Get("package"); v != nil && sub.Get("from") == nil {
				r.Fault(v.Span, `Write, for example: { version = "0.30", from = "gomod", package = "…" }`, "a package needs from, the source that has it")
			}
			if v := sub.Get("go"); v != nil {
				own := Toolchain{Name: BuilderOf(e.Name), Tool: "go", For: e.Name, Place: r.Place(v.Span), AskAt: r.Place(v.Span)}
				parsed, err := version.ParseAsk(r.Text(sub, "go"))
				if err != nil {
					r.Fault(v.Span, "", "%v", err)
				}
				if t.Package == "" {
					r.Fault(v.Span, "Without it the tool is unpacked as it is.", "a Go of its own is for a tool that is built from a package")
				}
				own.Ask = parsed
				d.Toolchains = append(d.Toolchains, own)
			}
			if v := sub.Get("as-of"); v != nil {
				at, err := ParseDate(v.Text)
				if err != nil || v.Kind != page.Date && v.Kind != page.String {
					r.Fault(v.Span, "", "as-of must be a date such as 2026-03-01")
				}
				t.AsOf = at
			}
			r.Close(sub)
		}
		switch {
		case ask == nil:
			r.Fault(e.Value.Span, `Write, for example: { version = "1.24" }`, "toolchain %q has no version", e.Name)
			continue
		case ask.Kind != page.String:
			r.Fault(ask.Span, `Put it in quotes: "1.24". A bare 1.10 would be the number 1.1.`, "the version of %q must be a string", e.Name)
			continue
		}
		parsed, err := version.ParseAsk(ask.Text)
		if err != nil {
			r.Fault(ask.Span, "", "%v", err)
		}
		t.Ask, t.AskAt = parsed, r.Place(ask.Span)
		d.Toolchains = append(d.Toolchains, t)
	}
}

// ParseDate reads a day (which means its end, in UTC) or a moment.
func ParseDate(text string) (time.Time, error) {
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.Add(24*time.Hour - time.Second), nil
	}
	return time.Parse(time.RFC3339, text)
}

// SourceKinds are the kinds of source that a declaration may name.
var SourceKinds = []string{"catalog", "debian", "gomod", "listing", "npm", "r", "wheel"}

// ImpliedSources are the sources that need no [source.…] table, because the
// machine's own settings say where they are.
var ImpliedSources = []string{"gomod", "npm", "r", "wheel"}

func (r *reader) source(d *Declaration, v *page.Value) {
	known := append(Names(d.Sources), ImpliedSources...)
	if !slices.Contains(known, v.Text) {
		r.Fault(v.Span, fault.DidYouMean(v.Text, known), "no source is named %q", v.Text)
	}
}

func (r *reader) variables(t *page.Table, service string) []Variable {
	var out []Variable
	sub := r.Table(t, "variables")
	if sub == nil {
		return nil
	}
	for _, e := range sub.Entries {
		sub.Get(e.Name)
		unset := e.Value.Kind == page.Bool && !e.Value.True
		var value string
		var when *Condition
		if !unset {
			value, when = r.value(e.Value, "variables."+e.Name, service)
		}
		switch why := NoVariable(e.Name); {
		case why != "" && shellsOwn(e.Name) != "":
			r.Fault(e.Key, "Give it another name.", "%s", why)
		case why != "":
			r.Fault(e.Key, "", "%s", why)
		case strings.ContainsRune(e.Value.Text, 0):
			r.Fault(e.Value.Span, "", "the value of %s holds a NUL byte", e.Name)
		}
		out = append(out, Variable{Name: e.Name, Value: value, When: when, Unset: unset, Place: r.Place(e.Key)})
	}
	return out
}

// run reads a script (string) or a command (array); key "run" may have "shell"
// beside it.
func (r *reader) run(t *page.Table, key, service string, required bool) Run {
	var run Run
	v := t.Get(key)
	own := t.Get("shell")
	if v == nil {
		if required {
			r.Fault(t.Span, `Write, for example: run = "go test ./..."`, "[%s] has nothing to run", t.Name)
		}
		return run
	}
	switch v.Kind {
	case page.String:
		run.Script = v.Text
		if strings.TrimSpace(v.Text) == "" {
			r.Fault(v.Span, "", "%s is empty", key)
		}
		r.uses = append(r.uses, use{value: v, service: service})
		if own != nil {
			run.Shell = r.Texts(t, "shell")
			r.scripts = append(r.scripts, writtenScript{v, run.Shell})
			break
		}
		r.scripts = append(r.scripts, writtenScript{v, nil})
		file, err := shell.Parse(v.Text, syntax.LangPOSIX)
		if err == nil {
			r.traps(v, file)
		}
		var bad syntax.ParseError
		if errors.As(err, &bad) {
			r.Fault(v.Within(int(bad.Pos.Offset()), 1), "Scripts are POSIX shell; for another, write for example: shell = [\"bash\", \"-c\"]", "the script does not parse: %s", bad.Text)
		} else if err != nil {
			r.Fault(v.Span, "", "the script does not parse: %v", err)
		}
	case page.Array:
		run.Argv = r.Texts(t, key)
		r.commands = append(r.commands, v)
		for _, item := range v.Items {
			r.uses = append(r.uses, use{value: item, service: service})
		}
		if len(v.Items) == 0 || v.Items[0].Text == "" {
			r.Fault(v.Span, "", "%s names no command", key)
		}
	default:
		r.Fault(v.Span, "", "%s must be a script (a string) or a command (an array of strings)", key)
	}
	return run
}

// traps refuses traps of signals, which the built-in interpreter does not have: the script
// would run on without them.
func (r *reader) traps(v *page.Value, file *syntax.File) {
	syntax.Walk(file, func(n syntax.Node) bool {
		call, ok := n.(*syntax.CallExpr)
		if !ok || len(call.Args) < 2 || call.Args[0].Lit() != "trap" {
			return true
		}
		for _, arg := range call.Args[2:] {
			if name := arg.Lit(); name != "EXIT" && name != "ERR" {
				r.Fault(v.Within(int(call.Pos().Offset()), 4), "Use trap … EXIT, which is run whenever the script ends, or a shell of the project: shell = [\"bash\", \"-c\"]", "the built-in interpreter has no trap for the signal %s", cmp.Or(arg.Lit(), "of that name"))
			}
		}
		return true
	})
}

func (r *reader) step(name string, t *page.Table) Step {
	s := Step{Name: name, About: r.Text(t, "about"), Run: r.run(t, "run", "", true), Reads: r.reads(t), Needs: r.Texts(t, "needs"), After: r.Texts(t, "after"), Place: r.Place(t.Span)}
	s.Ignore, s.Makes = r.Texts(t, "ignore"), r.Texts(t, "makes")
	for _, glob := range s.Makes {
		if !doublestar.ValidatePattern(glob) {
			r.Fault(t.Get("makes").Span, "", "%q is not a pattern for files", glob)
		}
	}
	s.When = r.Choice(t, "when", "due", "always", "shell", "first")
	s.Per = r.Choice(t, "per", "checkout", "bay")
	if s.When == "first" { // of a bay's life
		if v := t.Get("per"); v != nil && s.Per != "bay" {
			r.Fault(v.Span, "Leave per out, or write per = \"bay\".", "a step with when = \"first\" is done once in each bay")
		}
		s.Per = "bay"
	}
	s.Within = r.Duration(t, "within", 0)
	s.Retries = int(r.Whole(t, "retries", 0, 0, 100))
	s.Evidence = r.run(t, "evidence", "", false)
	return s
}

// reads are patterns for files of the project, and with ! those to leave out.
func (r *reader) reads(t *page.Table) []string {
	if v := t.Get("reads"); v != nil {
		for _, item := range v.Items {
			text := strings.TrimPrefix(item.Text, "!")
			if item.Kind == page.String && (!doublestar.ValidatePattern(text) || filepath.IsAbs(text) || slices.Contains(strings.Split(text, "/"), "..")) {
				r.Fault(item.Span, "Write paths below the project's folder, with *, ** and ? as wildcards.", "%q is not a pattern for files of the project", item.Text)
			}
		}
	}
	return r.Texts(t, "reads")
}

// Signals that a service may be asked to stop with.
var Signals = []string{"TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "KILL"}

func (r *reader) service(name string, t *page.Table) Service {
	s := Service{
		Name: name, About: r.Text(t, "about"), Run: r.run(t, "run", name, t.Get("tool") == nil), Needs: r.Texts(t, "needs"),
		Restart: Restart(r.Choice(t, "restart", string(RestartNever), string(RestartOnFailure), string(RestartAlways))),
		Copies:  1, Auto: true, Place: r.Place(t.Span),
		Stop: Stop{Signal: "TERM", Within: 10 * time.Second},
	}
	if v := t.Get("copies"); v != nil && v.Kind == page.String {
		name, ok := strings.CutPrefix(v.Text, "@{param.")
		if s.CopiesOf = strings.TrimSuffix(name, "}"); !ok || s.CopiesOf == name {
			r.Fault(v.Span, `Write a number, or a param: copies = "@{param.lanes}"`, "%q is not a count of copies", v.Text)
		}
		r.uses = append(r.uses, use{value: v, service: name})
	} else {
		s.Copies = int(r.Whole(t, "copies", 1, 1, 1000))
	}
	if v := t.Get("auto"); v != nil {
		s.Auto = r.Flag(t, "auto")
	}
	if ports := r.Table(t, "ports"); ports != nil {
		for _, e := range ports.Entries {
			if !whole(thingName, e.Name) {
				r.Fault(e.Key, "", "%q cannot name a port", e.Name)
			}
			s.Ports = append(s.Ports, r.port(ports, e))
		}
	}
	for _, p := range s.Ports {
		if last := p.Wanted + s.Copies - 1; p.Wanted > 0 && last > 65535 {
			r.Fault(t.Get("ports").Span, "Begin at a smaller number.", "port %q of copy %d would be %d, and the last port is 65535", p.Name, s.Copies, last)
		}
	}
	if stop := r.Table(t, "stop"); stop != nil {
		s.Stop.Signal = r.Choice(stop, "signal", Signals...)
		s.Stop.Within = r.Duration(stop, "within", s.Stop.Within)
		r.Close(stop)
	}
	if v := t.Get("segment"); v != nil && v.Kind == page.Array {
		s.Segments = r.Texts(t, "segment")
	} else if v != nil {
		s.Segments = []string{r.Text(t, "segment")}
	}
	for _, name := range s.Segments {
		if !whole(thingName, name) {
			r.Fault(t.Get("segment").Span, "", "%q cannot name a segment", name)
		}
	}
	slices.Sort(s.Segments)
	s.Segments = slices.Compact(s.Segments)
	s.Reads, s.Ignore = r.reads(t), r.Texts(t, "ignore")
	s.WhenChanged = r.Choice(t, "when-changed", append([]string{Restarted, Unmoved}, Signals...)...)
	s.Variables = r.variables(t, name)
	s.StatedReady, s.StatedStop = t.Get("ready") != nil, t.Get("stop") != nil
	r.tool(&s, t)
	s.Ready = r.ready(t, s)
	return s
}

// port reads a port: its number, or a table that says more of it.
func (r *reader) port(ports *page.Table, e *page.Entry) Port {
	p := Port{Name: e.Name}
	if e.Value.Kind != page.Tab {
		p.Wanted = int(r.Whole(ports, e.Name, 0, 1, 65535))
		return p
	}
	t := r.Table(ports, e.Name)
	if p.Wanted = int(r.Whole(t, "number", 0, 1, 65535)); p.Wanted == 0 && t.Get("number") == nil {
		r.Fault(e.Key, "Add number = 5353, say.", "port %q has no number", e.Name)
	}
	p.UDP = r.Flag(t, "udp")
	r.Close(t)
	return p
}

// tool reads what a service that runs as a card says has of its own.
func (r *reader) tool(s *Service, t *page.Table) {
	s.Tool = r.Text(t, "tool")
	if v := t.Get("tool"); v != nil {
		r.tools = append(r.tools, v)
	}
	if v := t.Get("options"); v != nil {
		s.Options = r.Texts(t, "options")
		for _, item := range v.Items {
			r.uses = append(r.uses, use{value: item, service: s.Name})
		}
		if s.Tool == "" {
			r.Fault(v.Span, `Add, for example: tool = "postgresql"`, "options are for what a tool's card runs, and service %q names no tool", s.Name)
		}
	}
	settings := r.Table(t, "settings")
	if settings == nil {
		return
	}
	if s.Tool == "" {
		r.Fault(settings.Span, `Add, for example: tool = "postgresql"`, "settings are of a tool's card, and service %q names no tool", s.Name)
	}
	s.Settings = map[string]string{}
	for _, e := range settings.Entries {
		settings.Get(e.Name)
		value, when := e.Value.Text, (*Condition)(nil)
		switch e.Value.Kind {
		case page.Integer, page.Float, page.Bool: // as the servers write them
		default:
			value, when = r.value(e.Value, "settings."+e.Name, s.Name)
		}
		s.Settings[e.Name] = value
		if when != nil {
			if s.Conditions == nil {
				s.Conditions = map[string]Condition{}
			}
			s.Conditions[e.Name] = *when
		}
	}
}

// leastEvery is the shortest time between two probes of a service that is ready.
const leastEvery = 100 * time.Millisecond

func (r *reader) ready(t *page.Table, s Service) Ready {
	ready := Ready{Within: 60 * time.Second}
	sub := r.Table(t, "ready")
	if sub == nil {
		return ready
	}
	portNames := make([]string, len(s.Ports))
	for i, p := range s.Ports {
		portNames[i] = p.Name
	}
	port := func(key string) string {
		v := sub.Get(key)
		if v != nil && v.Kind == page.String && !slices.Contains(portNames, v.Text) {
			r.Fault(v.Span, fault.DidYouMean(v.Text, portNames), "service %q has no port named %q", s.Name, v.Text)
		}
		return r.Text(sub, key)
	}
	ready.TCP = port("tcp")
	ready.HTTP = r.Text(sub, "http")
	ready.Port = port("port")
	ready.Status = int(r.Whole(sub, "status", 0, 100, 599))
	ready.Command = r.run(sub, "command", s.Name, false)
	ready.Log = r.Text(sub, "log")
	ready.Every = r.Duration(sub, "every", 0)
	if v := sub.Get("every"); v != nil && ready.Every > 0 && ready.Every < leastEvery {
		r.Fault(v.Span, fmt.Sprintf("Write %s or more.", leastEvery), "a probe is repeated every %s at the most often", leastEvery)
	}
	ready.Within = r.Duration(sub, "within", ready.Within)
	udp := func(name string) bool {
		return slices.ContainsFunc(s.Ports, func(p Port) bool { return p.Name == name && p.UDP })
	}
	for key, name := range map[string]string{"tcp": ready.TCP, "port": ready.Port} {
		if name != "" && udp(name) {
			r.Fault(sub.Get(key).Span, "Use command, log or notify.", "port %q takes datagrams, which no %s probe asks", name, map[string]string{"tcp": "tcp", "port": "http"}[key])
		}
	}
	if v := sub.Get("http"); v != nil {
		if !strings.HasPrefix(ready.HTTP, "/") {
			r.Fault(v.Span, "", "the path of an http probe starts with /")
		}
		if ready.Port == "" {
			for _, name := range []string{"http", "web"} { // what counts as HTTP elsewhere
				if ready.Port == "" && slices.Contains(portNames, name) {
					ready.Port = name
				}
			}
		}
		if ready.Port == "" && len(portNames) == 1 {
			ready.Port = portNames[0]
		} else if ready.Port == "" {
			r.Fault(v.Span, `Add port = "NAME", one of the service's ports.`, "the http probe does not say which port to ask")
		}
	}
	if v := sub.Get("log"); v != nil {
		if _, err := regexp.Compile(ready.Log); err != nil {
			r.Fault(v.Span, "", "the log probe is not a regular expression: %v", err)
		}
	}
	probes := 0
	ready.File = r.Text(sub, "file")
	if v := sub.Get("file"); v != nil {
		r.uses = append(r.uses, use{value: v, service: s.Name})
	}
	ready.Notify = r.Flag(sub, "notify")
	for _, key := range []string{"tcp", "http", "command", "log", "file", "notify"} {
		if sub.Get(key) != nil {
			probes++
		}
	}
	alone := sub.Get("within") != nil || sub.Get("every") != nil // without a probe each port is listened on
	if probes > 1 || probes == 0 && !alone {
		r.Fault(sub.Span, "Use one of tcp, http, command, log, file and notify.", "ready has %d probes, not one", probes)
	}
	r.Close(sub)
	return ready
}
