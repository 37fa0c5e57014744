package page

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// The full decoder knows every rule of the specification: duplicate keys, tables that are defined
// twice, dates that are none. It looks through all that it has seen for each name, so that a
// document of thousands of tables takes it long, and is given to it in parts where each name plainly
// is another one.

// parts are where a document may be cut.
type parts struct {
	source []byte
	cuts   []int // at the beginnings of lines
	since  int   // names since the last
	most   int   // names in a part
	table  string
	names  map[string]sort // of tables and their keys, by their whole path; nil: it is not to be cut
}

// sort is what a name is of.
type sort byte

const (
	header sort = iota + 1 // a table of its own
	inner                  // a table in whose name others stand
	key
)

// large is from how many bytes on a document may be cut.
const large = 16 << 10

// newParts begins to cut a document of a size, into parts of so many names.
func newParts(source []byte, large, most int) *parts {
	p := &parts{source: source, most: most}
	if len(source) > large {
		p.names = map[string]sort{}
	}
	return p
}

// header notes the name of a table.
func (p *parts) header(name []string, at Span, array bool) {
	if p.names == nil {
		return
	}
	for i := 1; i < len(name); i++ {
		if p.is(strings.Join(name[:i], "\x00"), inner, header, inner); p.names == nil {
			return
		}
	}
	p.table = strings.Join(name, "\x00")
	p.is(p.table, header)
	if array {
		p.names = nil
	}
	p.cut(at)
}

// key notes the first word of a key.
func (p *parts) key(name string, at Span) {
	if p.names == nil {
		return
	}
	if p.table != "" {
		name = p.table + "\x00" + name
	}
	p.is(name, key)
	p.cut(at)
}

// is notes what a name is of. Where it is of something already that it may not be, the document is
// not cut.
func (p *parts) is(name string, what sort, may ...sort) {
	was, known := p.names[name]
	switch {
	case !known:
		p.names[name] = what
	case !slices.Contains(may, was):
		p.names = nil
	}
}

// cut cuts before the line of a name, now and then: each begins a line.
func (p *parts) cut(at Span) {
	if p.since++; p.since > p.most {
		p.since = 1
		p.cuts = append(p.cuts, bytes.LastIndexByte(p.source[:at.At], '\n')+1)
	}
}

// valid tells what is wrong with a document, which the parser had something against or not.
func valid(source []byte, p *parts, parser error) error {
	if p.names != nil && parser == nil {
		good, from := true, 0
		for _, to := range append(p.cuts, len(source)) {
			var part map[string]any
			good = good && toml.Unmarshal(source[from:to], &part) == nil
			from = to
		}
		if good {
			return nil
		}
	} // the whole, which says where
	var whole map[string]any
	return cmp.Or(toml.Unmarshal(source, &whole), parser)
}
