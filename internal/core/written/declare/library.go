package declare

import (
	"path"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/nodejs"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/rlang"
)

// Library is a set of a language's own packages, with all that is asked for, from the
// declaration and from the project's files.
type Library struct {
	Name    string
	Kind    string   // "python", "node" or "r"
	Files   []string // of the project, from which asks are read
	Want    []string
	Groups  []string // extras and dependency groups
	From    string   // name of a source; empty: the first of the kind that has them
	Tool    string   // name of the toolchain that they are for
	Scripts []string // node: packages whose install scripts may run
	Build   []string // python: packages that may be built from their source
	Varies  []string // packages whose build comes out differently each time, which is accepted
	Folder  string   // node: where node_modules is shown, from the project's folder
	Place   fault.Place
	WantAt  []fault.Place // of each want

	Python python.Asks
	Node   nodejs.Asks
	R      []rlang.Need
}

func (l Library) name() string { return l.Name }

// LibraryKinds are the kinds of library sets, with the kind of source that each comes from
// and the toolchain that it is for.
var LibraryKinds = map[string]struct{ Source, Tool string }{
	"python": {"wheel", "python"}, "node": {"npm", "node"}, "r": {"r", "r"},
}

// Meaning is all of a set that decides what is in it.
func (l Library) Meaning() canon.Map {
	m := canon.Map{"kind": l.Kind, "from": l.From, "asks": l.asks()}
	for key, list := range map[string][]string{"groups": l.Groups, "scripts": l.Scripts, "build": l.Build, "varies": l.Varies} {
		if len(list) > 0 {
			m[key] = list
		}
	}
	if l.Folder != "" {
		m["folder"] = l.Folder
	}
	if l.Tool != LibraryKinds[l.Kind].Tool {
		m["tool"] = l.Tool
	}
	return m
}

// asks are the asks in one form and order.
func (l Library) asks() []string {
	var out []string
	switch l.Kind {
	case "python":
		for _, w := range l.Python.Wants {
			out = append(out, "want "+w.Requirement.String())
		}
		for _, w := range l.Python.Constraints {
			out = append(out, "hold "+w.Requirement.String())
		}
		for key, hashes := range l.Python.Hashes {
			out = append(out, "hash "+key+" "+strings.Join(slices.Sorted(slices.Values(hashes)), " "))
		}
		if text := l.Python.RequiresPython.String(); text != "" {
			out = append(out, "python "+text)
		}
	case "node":
		return l.Node.Lines()
	case "r":
		for _, n := range l.R {
			out = append(out, "want "+n.String())
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Empty tells whether nothing is asked for.
func (l Library) Empty() bool { return len(l.asks()) == 0 }

func (r *reader) library(d *Declaration, name string, t *page.Table) Library {
	l := Library{
		Name: name, Kind: r.Choice(t, "kind", "python", "node", "r"), Files: r.Texts(t, "files"), Want: r.Texts(t, "want"),
		Groups: r.Texts(t, "groups"), Varies: r.Texts(t, "varies"), From: r.Text(t, "from"), Place: r.Place(t.Span),
	}
	if t.Get("kind") == nil {
		r.Fault(t.Span, `Write, for example: kind = "python"`, "libraries %s have no kind", name)
		return l
	}
	if v := t.Get("from"); v != nil {
		r.source(d, v)
	}
	l.Tool = LibraryKinds[l.Kind].Tool
	if v := t.Get("tool"); v != nil {
		l.Tool = r.Text(t, "tool")
		r.tools = append(r.tools, v)
	}
	if l.Kind == "node" {
		l.Scripts, l.Folder = r.Texts(t, "scripts"), r.Text(t, "folder")
		if l.Folder == "" && len(l.Files) > 0 {
			l.Folder = path.Dir(l.Files[0])
		}
		if l.Folder = path.Clean("./" + l.Folder); path.IsAbs(l.Folder) || l.Folder == ".." || strings.HasPrefix(l.Folder, "../") {
			r.Fault(t.Span, "", "the folder %q is not in the project", l.Folder)
		}
	}
	if l.Kind == "python" {
		l.Build = r.Texts(t, "build")
		for i, name := range l.Build {
			l.Build[i] = python.Normal(name)
		}
	}
	if l.Kind == "python" {
		for i, name := range l.Varies {
			l.Varies[i] = python.Normal(name)
		}
	}
	for i, text := range l.Want {
		span := t.Get("want").Items[i].Span
		l.WantAt = append(l.WantAt, r.Place(span))
		if err := l.want(text, r.Place(span)); err != nil {
			r.Fault(span, "", "%v", err)
		}
	}
	for i, file := range l.Files {
		span := t.Get("files").Items[i].Span
		if path.IsAbs(file) || strings.HasPrefix(path.Clean(file), "..") {
			r.Fault(span, "Write a path from the project's folder.", "%q is not in the project", file)
			continue
		}
		if err := l.read(path.Clean(file), func(name string) ([]byte, error) {
			raw, err := r.had.read(d.Dir, name)
			if err != nil {
				return nil, fault.New(fault.ErrUsage, "%s %s", name, disk.InWords(err))
			}
			return raw, nil
		}); err != nil {
			r.Fault(span, "", "%v", err)
		}
	}
	if len(l.Want)+len(l.Files) == 0 {
		r.Fault(t.Span, `Write, for example: want = ["numpy >=2, <3"], or files = ["requirements.txt"]`, "libraries %s ask for nothing", name)
	}
	if l.Node.Workspaces && l.Node.Own == nil {
		r.Fault(t.Get("files").Span, "", "package.json has workspaces: name its package-lock.json in files too, which says where they are")
	}
	if len(l.Node.Locked) > 0 && len(l.Want) > 0 {
		r.Fault(t.Get("want").Span, "Add the package there: npm install --package-lock-only NAME", "what package-lock.json decides cannot have more beside it")
	}
	return l
}

// want adds an ask of the declaration.
func (l *Library) want(text string, at fault.Place) error {
	from := at.String()
	switch l.Kind {
	case "python":
		q, err := python.ParseRequirement(text)
		if err != nil {
			return err
		}
		if q.URL != "" {
			return fault.New(fault.ErrUsage, "%s is at an address of its own, and a lock takes packages of a declared source only", q.Name)
		}
		l.Python.Wants = append(l.Python.Wants, python.Want{Requirement: q, From: from})
	case "r":
		n, err := rlang.ParseNeed(text)
		if err != nil {
			return err
		}
		n.From = from
		l.R = append(l.R, n)
	case "node":
		name, ranges := text, "latest"
		if i := strings.LastIndexByte(text, '@'); i > 0 {
			name, ranges = text[:i], text[i+1:]
		}
		if strings.ContainsAny(name, " \t<>=~^") || ranges == "" {
			return fault.New(fault.ErrUsage, "%q is no package of npm with a range, as in vite@^5", text)
		}
		if l.Node.Wants == nil {
			l.Node.Wants = map[string]string{}
		}
		l.Node.Wants[name] = ranges
	}
	return nil
}

// read reads the asks of one of the project's files.
func (l *Library) read(file string, read python.Read) error {
	base := path.Base(file)
	unknown := func(known string) error {
		return fault.New(fault.ErrUsage, "asks for %s libraries are read from %s, and %s is none of these", l.Kind, known, file)
	}
	get := func(then func(name string, raw []byte) error) error {
		raw, err := read(file)
		if err != nil {
			return err
		}
		return then(file, raw)
	}
	switch l.Kind {
	case "python":
		switch {
		case strings.HasPrefix(base, "pylock.") && strings.HasSuffix(base, ".toml"):
			return get(l.Python.AddLocked)
		case strings.HasSuffix(base, ".toml"):
			return get(func(name string, raw []byte) error { return l.Python.AddProject(name, raw, l.Groups) })
		case strings.HasSuffix(base, ".txt"), strings.HasSuffix(base, ".in"):
			return l.Python.AddRequirements(file, read)
		}
		return unknown("requirements files, pyproject.toml and pylock.toml")
	case "node":
		switch base {
		case "package.json":
			return get(l.Node.AddPackage)
		case "package-lock.json", "npm-shrinkwrap.json":
			return get(l.Node.AddLock)
		}
		return unknown("package.json and package-lock.json")
	}
	if base != "DESCRIPTION" {
		return unknown("DESCRIPTION")
	}
	return get(func(name string, raw []byte) (err error) {
		l.R, err = rlang.AddDescription(l.R, name, raw, l.Groups)
		return err
	})
}

// Library finds a set by name.
func (d *Declaration) Library(name string) (Library, bool) { return byName(d.Libraries, name) }
