package declare

import (
	"bytes"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/rlang"
)

// LibraryName parts "SET/PACKAGE".
func LibraryName(name string) (set, library string, ok bool) {
	set, library, ok = strings.Cut(name, "/")
	return set, library, ok && set != "" && library != ""
}

// WantText writes an ask for a package as its kind of set has it. ask is as for a toolchain:
// "1.2" for the newest that begins so, "=1.2.3" for exactly that, ranges, "latest".
func WantText(kind, library, ask string) (string, error) {
	ask = strings.TrimSpace(ask)
	exact, isExact := strings.CutPrefix(ask, "=")
	isExact = isExact && !strings.HasPrefix(exact, "=")
	ranged := strings.IndexAny(ask, "<>~!^") == 0 || strings.HasPrefix(ask, "==")
	var text string
	switch {
	case ask == "latest" || ask == "":
		text = map[string]string{"node": library + "@latest"}[kind]
		if text == "" {
			text = library
		}
	case kind == "python" && isExact:
		text = library + " ==" + exact
	case kind == "python" && ranged:
		text = library + " " + ask
	case kind == "python":
		text = library + " ==" + ask + ".*"
	case kind == "r" && isExact:
		text = library + " == " + exact
	case kind == "r" && ranged:
		text = library + " " + ask
	case kind == "r":
		return "", fault.New(fault.ErrUsage, "R has no way to say %q of a version", ask).Advise("Write =%s for exactly that, or a comparison: \">= %s\".", ask, ask)
	case isExact:
		text = library + "@" + exact
	default:
		text = library + "@" + strings.Join(strings.FieldsFunc(ask, func(r rune) bool { return r == ',' || r == ' ' }), " ")
	}
	l := Library{Kind: kind}
	return text, l.want(text, fault.Place{})
}

// wanted is the package that an entry of want is about.
func wanted(kind, text string) string {
	switch kind {
	case "python":
		if q, err := python.ParseRequirement(text); err == nil {
			return q.Name
		}
	case "r":
		if n, err := rlang.ParseNeed(text); err == nil {
			return n.Name
		}
	case "node":
		if i := strings.LastIndexByte(text, '@'); i > 0 {
			return text[:i]
		}
	}
	return text
}

// librarySet finds the table of a set.
func librarySet(p *page.Page, file, set string) (*page.Entry, string, error) {
	group := find(p.Root, "libraries")
	var names []string
	if group != nil && group.Value.Kind == page.Tab {
		for _, e := range group.Value.Table.Entries {
			names = append(names, e.Name)
		}
		if e := find(group.Value.Table, set); e != nil && e.Value.Kind == page.Tab {
			kind := ""
			if k := find(e.Value.Table, "kind"); k != nil {
				kind = k.Value.Text
			}
			return e, kind, nil
		}
	}
	do := fault.DidYouMean(set, names)
	if len(names) == 0 {
		do = "Declare one:\n  [libraries." + set + "]\n  kind = \"python\"\n  want = []"
	}
	return nil, "", fault.New(fault.ErrUsage, "%s has no libraries named %q", filepath.Base(file), set).Advise("%s", do)
}

// SetLibrary gives a package of a set a new ask in want, in place, or adds it there.
func SetLibrary(file string, source []byte, set, library, ask string) ([]byte, error) {
	p := page.Parse(filepath.Base(file), source)
	if err := p.Err(); err != nil {
		return nil, err
	}
	e, kind, err := librarySet(p, file, set)
	if err != nil {
		return nil, err
	}
	text, err := WantText(kind, library, ask)
	if err != nil {
		return nil, err
	}
	want := find(e.Value.Table, "want")
	if want == nil {
		if !own(source, e) {
			header := lineOf(source, e.Value.Table.Span.At)
			return splice(source, page.Span{At: end(header)}, "want = ["+quote(text)+"]\n"), nil
		}
		return nil, cannotEdit(p, e.Key, set+" has no want")
	}
	items := want.Value.Items
	for _, item := range items {
		if wanted(kind, item.Text) == wanted(kind, text) {
			return splice(source, item.Span, quote(text)), nil
		}
	}
	if len(items) == 0 {
		return splice(source, want.Value.Span, "["+quote(text)+"]"), nil
	}
	last := items[len(items)-1].Span
	line := lineOf(source, last.At)
	before := source[line.At:last.At]
	if len(bytes.TrimSpace(before)) == 0 { // one a line
		return splice(source, page.Span{At: end(last)}, ",\n"+string(before)+quote(text)), nil
	}
	return splice(source, page.Span{At: end(last)}, ", "+quote(text)), nil
}

// UnsetLibrary takes a package out of the want of a set.
func UnsetLibrary(file string, source []byte, set, library string) ([]byte, error) {
	p := page.Parse(filepath.Base(file), source)
	if err := p.Err(); err != nil {
		return nil, err
	}
	e, kind, err := librarySet(p, file, set)
	if err != nil {
		return nil, err
	}
	var names []string
	if want := find(e.Value.Table, "want"); want != nil {
		items := want.Value.Items
		for i, item := range items {
			names = append(names, wanted(kind, item.Text))
			if wanted(kind, item.Text) != wanted(kind, library) {
				continue
			}
			// With the comma behind it, or for the last one that before it.
			at := item.Span
			switch {
			case i+1 < len(items):
				at.Len = items[i+1].Span.At - at.At
			case i > 0:
				from := end(items[i-1].Span)
				at = page.Span{At: from, Len: end(at) - from}
			}
			return splice(source, at, ""), nil
		}
	}
	do := fault.DidYouMean(library, names)
	if len(names) == 0 || do == "" {
		do = "What a file of the project asks for is taken out there."
	}
	return nil, fault.New(fault.ErrUsage, "want of libraries %s does not name %s", set, library).Advise("%s", do)
}
