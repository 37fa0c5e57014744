package declare

import (
	"bytes"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
)

// SetToolchain gives a toolchain of a declaration a new ask, and a source when
// from is not empty, and returns the new text. Only the bytes of those values
// change, or one line is added: every comment, blank line and order stays.
func SetToolchain(file string, source []byte, name, ask, from, pkg string) ([]byte, error) {
	p := page.Parse(filepath.Base(file), source)
	if err := p.Err(); err != nil {
		return nil, err
	}
	group := find(p.Root, "toolchain")
	if group != nil && group.Value.Kind != page.Tab {
		return nil, cannotEdit(p, group.Key, "toolchain is not a table")
	}
	if group != nil {
		if e := find(group.Value.Table, name); e != nil {
			if pkg != "" {
				return nil, cannotEdit(p, e.Key, name+" is declared already, with a package or without")
			}
			return setEntry(p, source, e, ask, from)
		}
	}
	if group == nil {
		gap := "\n"
		if len(source) == 0 || bytes.HasSuffix(source, []byte("\n\n")) {
			gap = ""
		} else if !bytes.HasSuffix(source, []byte("\n")) {
			gap = "\n\n"
		}
		return append(bytes.Clone(source), gap+"[toolchain]\n"+key(name)+" = "+entryText(ask, from, pkg)+"\n"...), nil
	}
	return insertLine(p, source, group, name, entryText(ask, from, pkg))
}

func find(t *page.Table, name string) *page.Entry {
	for _, e := range t.Entries {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// key writes a key, quoted where it must be.
func key(name string) string {
	if whole(`[A-Za-z0-9_-]+`, name) {
		return name
	}
	return quote(name)
}

func quote(s string) string { return string(canon.JSON(s)) }

func entryText(ask, from, pkg string) string {
	if from == "" && pkg == "" {
		return quote(ask)
	}
	text := "{ version = " + quote(ask)
	for _, x := range [][2]string{{"from", from}, {"package", pkg}} {
		if x[1] != "" {
			text += ", " + x[0] + " = " + quote(x[1])
		}
	}
	return text + " }"
}

func cannotEdit(p *page.Page, at page.Span, why string) error {
	p.Fault(at, "Change this line by hand.", "%s, which cannot be edited in place", why)
	return p.Err()
}

// splice replaces a stretch of the text.
func splice(source []byte, at page.Span, text string) []byte {
	return slices.Concat(source[:at.At], []byte(text), source[at.At+at.Len:])
}

// setEntry changes the values of a toolchain that is there.
func setEntry(p *page.Page, source []byte, e *page.Entry, ask, from string) ([]byte, error) {
	if e.Value.Kind == page.String {
		if from == "" {
			return splice(source, e.Value.Span, quote(ask)), nil
		}
		return splice(source, e.Value.Span, entryText(ask, from, "")), nil
	}
	if e.Value.Kind != page.Tab {
		return nil, cannotEdit(p, e.Key, e.Name+" is neither a string nor a table")
	}
	v, f := find(e.Value.Table, "version"), find(e.Value.Table, "from")
	if v == nil || v.Value.Kind != page.String || from != "" && f != nil && f.Value.Kind != page.String {
		return nil, cannotEdit(p, e.Key, e.Name+" has no version in quotes")
	}
	// The later value first, so that the place of the other stays.
	edits := []struct {
		at   page.Span
		text string
	}{{v.Value.Span, quote(ask)}}
	if from != "" && f != nil {
		edits = append(edits, edits[0])
		edits[1].at, edits[1].text = f.Value.Span, quote(from)
	} else if from != "" {
		inline := source[e.Value.Span.At] == '{'
		edits[0].text += ", from = " + quote(from)
		if !inline {
			edits[0].text = quote(ask) + "\nfrom = " + quote(from)
		}
	}
	if len(edits) == 2 && edits[0].at.At < edits[1].at.At {
		edits[0], edits[1] = edits[1], edits[0]
	}
	for _, x := range edits {
		source = splice(source, x.at, x.text)
	}
	return source, nil
}

// insertLine adds a line behind the last of the table's own, with its "=" below
// theirs.
func insertLine(p *page.Page, source []byte, group *page.Entry, name, value string) ([]byte, error) {
	table := group.Value.Table
	header := lineOf(source, table.Span.At)
	if !bytes.HasPrefix(bytes.TrimLeft(source[header.At:end(header)], " \t"), []byte("[")) {
		return nil, cannotEdit(p, group.Key, "toolchain is not a table with a header of its own")
	}
	after, left := header, key(name)
	for _, e := range table.Entries {
		last := lineOf(source, max(end(e.Value.Span), e.Key.At+1)-1)
		if own(source, e) && last.At >= after.At {
			after = last
			line := lineOf(source, e.Key.At)
			indent := string(source[line.At:e.Key.At])
			left = indent + key(name)
			if column := bytes.IndexByte(source[line.At:end(line)], '='); column-1 > len(left) {
				left += strings.Repeat(" ", column-1-len(left))
			}
		}
	}
	text := left + " = " + value + "\n"
	if end(after) == len(source) && !bytes.HasSuffix(source, []byte("\n")) {
		text = "\n" + left + " = " + value
	}
	return splice(source, page.Span{At: end(after)}, text), nil
}

// own tells whether an entry is a line of its table, and no table with a header.
func own(source []byte, e *page.Entry) bool {
	return e.Value.Kind != page.Tab || source[e.Value.Span.At] == '{'
}

func end(s page.Span) int { return s.At + s.Len }

// lineOf is the whole line that a byte stands in, with its line feed.
func lineOf(source []byte, at int) page.Span {
	start := bytes.LastIndexByte(source[:at], '\n') + 1
	if i := bytes.IndexByte(source[at:], '\n'); i >= 0 {
		return page.Span{At: start, Len: at + i + 1 - start}
	}
	return page.Span{At: start, Len: len(source) - start}
}

// UnsetToolchain takes a toolchain out of a declaration: its line, with a comment
// behind it, and nothing else.
func UnsetToolchain(file string, source []byte, name string) ([]byte, error) {
	p := page.Parse(filepath.Base(file), source)
	if err := p.Err(); err != nil {
		return nil, err
	}
	group := find(p.Root, "toolchain")
	var e *page.Entry
	var names []string
	if group != nil && group.Value.Kind == page.Tab {
		e = find(group.Value.Table, name)
		for _, x := range group.Value.Table.Entries {
			names = append(names, x.Name)
		}
	}
	if e == nil {
		return nil, fault.New(fault.ErrUsage, "%s has no toolchain named %q", filepath.Base(file), name).Advise("%s", fault.DidYouMean(name, names))
	}
	if !own(source, e) { // [toolchain.NAME]: the header and its own lines, last first
		spans := []page.Span{lineOf(source, e.Value.Table.Span.At)}
		for _, x := range e.Value.Table.Entries {
			spans = append(spans, lineOf(source, x.Key.At))
		}
		slices.SortFunc(spans, func(a, b page.Span) int { return b.At - a.At })
		for _, s := range spans {
			source = splice(source, s, "")
		}
		return source, nil
	}
	line := lineOf(source, e.Key.At)
	if strings.TrimSpace(string(source[line.At:e.Key.At])) != "" {
		return nil, cannotEdit(p, e.Key, name+" does not begin its line")
	}
	return splice(source, line, ""), nil
}
