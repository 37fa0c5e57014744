// Package page reads a TOML 1.0 document and keeps the position of every key and
// value, so that whoever gives the document a meaning can point at what is wrong
// with it.
//
// Reading collects faults instead of stopping at the first: a Table remembers
// which keys were asked for, and Close reports the rest as unknown.
package page

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"app.example/trammel/internal/core/base/fault"
)

// Kind is the type of a value.
type Kind string

// The kinds, in the words of the TOML specification.
const (
	String  Kind = "string"
	Integer Kind = "integer"
	Float   Kind = "float"
	Bool    Kind = "boolean"
	Date    Kind = "date"
	Array   Kind = "array"
	Tab     Kind = "table"
)

// Page is one document while it is read.
type Page struct {
	File     string // the name to show in messages
	About    string // what it is, in messages: "a policy"; "" for a declaration
	Root     *Table
	Findings fault.Findings
	source   []byte
}

// Span is a stretch of the document in bytes.
type Span struct{ At, Len int }

// Value is a value and where it stands.
type Value struct {
	Kind  Kind
	Text  string // strings and dates; the literal otherwise
	Whole int64  // Integer
	True  bool   // Bool
	Items []*Value
	Table *Table
	Span  Span
	// plain is true for one-line strings without escapes, where a byte of Text
	// stands at the same place in the document.
	plain bool
}

// Entry is one key of a table.
type Entry struct {
	Name  string
	Key   Span
	Value *Value
	asked bool
}

// Table is a table; Entries are in the order of the document.
type Table struct {
	Name    string // dotted path from the root, "" for the root
	Entries []*Entry
	Span    Span // its header, or its opening brace
	asked   []string
	index   map[string]*Entry // of the first so many entries, where there are many
	indexed int
}

// few is how many entries are looked through one by one.
const few = 16

// entry is the first of a name; nil when there is none.
func (t *Table) entry(name string) *Entry {
	if len(t.Entries) <= few {
		for _, e := range t.Entries {
			if e.Name == name {
				return e
			}
		}
		return nil
	}
	if t.index == nil {
		t.index = make(map[string]*Entry, len(t.Entries))
	}
	for ; t.indexed < len(t.Entries); t.indexed++ {
		if e := t.Entries[t.indexed]; t.index[e.Name] == nil {
			t.index[e.Name] = e
		}
	}
	return t.index[name]
}

// Parse reads a document. A page with a syntax fault comes back with that fault
// alone and an empty root.
func Parse(file string, source []byte) *Page {
	p := &Page{File: file, source: source, Root: &Table{}}
	if i := bytes.IndexByte(source, 0); i >= 0 {
		p.Fault(Span{i, 1}, "", "a NUL byte: this is not a text file")
		return p
	}
	parts := newParts(source, large, 64)
	root, err := read(source, parts)
	if err := valid(source, parts, err); err != nil {
		var de *toml.DecodeError
		if errors.As(err, &de) {
			line, column := de.Position()
			p.Fault(Span{p.offset(line, column), 1}, "", "%s", strings.TrimPrefix(de.Error(), "toml: "))
		} else {
			p.Fault(Span{}, "", "%s", strings.TrimPrefix(err.Error(), "toml: "))
		}
		return p
	}
	p.Root = root
	return p
}

// read reads a document by a parser that keeps positions and knows only the grammar.
func read(source []byte, parts *parts) (root *Table, err error) {
	root = &Table{}
	var parser unstable.Parser
	parser.Reset(source)
	current := root
	for parser.NextExpression() {
		e := parser.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			keys, spans := keysOf(e.Key())
			parts.header(keys, spans[0], e.Kind == unstable.ArrayTable)
			current = root
			for i, k := range keys {
				last := i == len(keys)-1
				current = current.descend(k, spans[i], last && e.Kind == unstable.ArrayTable)
			}
			current.Span = Span{spans[0].At, spans[len(spans)-1].At + spans[len(spans)-1].Len - spans[0].At}
		case unstable.KeyValue:
			keys, spans := keysOf(e.Key())
			parts.key(keys[0], spans[0])
			current.add(keys, spans, e, source)
		}
	}
	return root, parser.Error()
}

func keysOf(it unstable.Iterator) (keys []string, spans []Span) {
	for it.Next() {
		n := it.Node()
		keys = append(keys, string(n.Data))
		spans = append(spans, Span{int(n.Raw.Offset), int(n.Raw.Length)})
	}
	return keys, spans
}

// add adds a key, by its words, with its value.
func (t *Table) add(keys []string, spans []Span, e *unstable.Node, source []byte) {
	for i, k := range keys[:len(keys)-1] {
		t = t.descend(k, spans[i], false)
	}
	last := len(keys) - 1
	v := valueOf(e.Value(), source, join(t.Name, keys[last]))
	t.Entries = append(t.Entries, &Entry{Name: keys[last], Key: spans[last], Value: v})
}

// descend goes to the sub-table of a name, making it when it is not there; for
// arrays of tables it goes to the last, or appends one when fresh.
func (t *Table) descend(name string, key Span, fresh bool) *Table {
	sub := func() *Value {
		return &Value{Kind: Tab, Span: key, Table: &Table{Name: join(t.Name, name), Span: key}}
	}
	if e := t.entry(name); e != nil {
		if e.Value.Kind == Array {
			if fresh || len(e.Value.Items) == 0 {
				e.Value.Items = append(e.Value.Items, sub())
			}
			if table := e.Value.Items[len(e.Value.Items)-1].Table; table != nil {
				return table
			}
		} else if e.Value.Table != nil {
			return e.Value.Table
		}
	} // anything else the decoder refuses
	v := sub()
	table := v.Table
	if fresh {
		v = &Value{Kind: Array, Items: []*Value{v}, Span: key}
	}
	t.Entries = append(t.Entries, &Entry{Name: name, Key: key, Value: v})
	return table
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

func valueOf(n *unstable.Node, source []byte, path string) *Value {
	v := &Value{Text: string(n.Data), Span: Span{int(n.Raw.Offset), int(n.Raw.Length)}}
	switch n.Kind {
	case unstable.String:
		v.Kind = String
		raw := source[v.Span.At : v.Span.At+v.Span.Len]
		v.plain = len(raw) == len(v.Text)+2 && string(raw[1:len(raw)-1]) == v.Text
	case unstable.Integer:
		v.Kind = Integer
		v.Whole, _ = strconv.ParseInt(strings.ReplaceAll(v.Text, "_", ""), 0, 64)
	case unstable.Float:
		v.Kind = Float
	case unstable.Bool:
		v.Kind, v.True = Bool, v.Text == "true"
	case unstable.Array:
		v.Kind = Array
		for it := n.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				v.Items = append(v.Items, valueOf(it.Node(), source, path))
			}
		}
		if v.Span.Len == 0 && len(v.Items) > 0 {
			v.Span = v.Items[0].Span
		}
	case unstable.InlineTable:
		v.Kind = Tab
		v.Table = &Table{Name: path, Span: v.Span}
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				keys, spans := keysOf(it.Node().Key())
				v.Table.add(keys, spans, it.Node(), source)
			}
		}
	default:
		v.Kind = Date
	}
	return v
}

// offset is the byte offset of a line and column that count from 1.
func (p *Page) offset(line, column int) int {
	at := 0
	for range line - 1 {
		next := bytes.IndexByte(p.source[at:], '\n')
		if next < 0 {
			break
		}
		at += next + 1
	}
	return min(at+column-1, len(p.source))
}

// Place turns a span into a line, a column and the text of the line.
func (p *Page) Place(s Span) fault.Place {
	at := min(max(s.At, 0), len(p.source))
	start := bytes.LastIndexByte(p.source[:at], '\n') + 1
	end := len(p.source)
	if i := bytes.IndexByte(p.source[at:], '\n'); i >= 0 {
		end = at + i
	}
	return fault.Place{
		File:   p.File,
		Line:   bytes.Count(p.source[:at], []byte("\n")) + 1,
		Column: at - start + 1,
		Width:  min(max(s.Len, 1), max(end-at, 1)),
		Text:   strings.TrimRight(string(p.source[start:end]), "\r"),
	}
}

// Fault records something wrong at a span. do says how to mend it.
func (p *Page) Fault(s Span, do, format string, args ...any) {
	f := fault.Finding{Place: p.Place(s), What: fmt.Sprintf(format, args...), Do: do}
	if !slices.Contains(p.Findings, f) {
		p.Findings = append(p.Findings, f)
	}
}

// Err gives all faults in the order of the document, or nil.
func (p *Page) Err() error {
	if len(p.Findings) == 0 {
		return nil
	}
	slices.SortStableFunc(p.Findings, func(a, b fault.Finding) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return p.Findings
}

// Get is the value of a key, nil when it is not there. The key counts as known.
func (t *Table) Get(name string) *Value {
	e := t.entry(name)
	if e == nil {
		if !slices.Contains(t.asked, name) {
			t.asked = append(t.asked, name)
		}
		return nil
	}
	if !e.asked {
		e.asked = true
		t.asked = append(t.asked, name)
	}
	return e.Value
}

// Close reports every key that nobody asked for.
func (p *Page) Close(t *Table) {
	for _, e := range t.Entries {
		if e.asked {
			continue
		}
		where := "in " + cmp.Or(p.About, "a declaration")
		if t.Name != "" {
			where = "in [" + t.Name + "]"
		}
		p.Fault(e.Key, fault.DidYouMean(e.Name, t.asked), "no key %q is known %s", e.Name, where)
	}
}

func (p *Page) wrongKind(v *Value, name, want string) {
	p.Fault(v.Span, "", "%s must be %s, not %s %s", name, want, article(v.Kind), v.Kind)
}

func article(k Kind) string {
	if k == Integer || k == Array {
		return "an"
	}
	return "a"
}

// Text reads a string key; "" when it is missing.
func (p *Page) Text(t *Table, name string) string {
	v := t.Get(name)
	if v == nil {
		return ""
	}
	if v.Kind != String {
		p.wrongKind(v, name, "a string")
		return ""
	}
	return v.Text
}

// Choice reads a string key that has a closed list of values; the first is the
// default.
func (p *Page) Choice(t *Table, name string, allowed ...string) string {
	v := t.Get(name)
	if v == nil {
		return allowed[0]
	}
	if v.Kind != String {
		p.wrongKind(v, name, "a string")
	} else if !slices.Contains(allowed, v.Text) {
		p.Fault(v.Span, fault.DidYouMean(v.Text, allowed), "%q is not a value of %s", v.Text, name)
	} else {
		return v.Text
	}
	return allowed[0]
}

// Texts reads an array of strings.
func (p *Page) Texts(t *Table, name string) []string {
	v := t.Get(name)
	if v == nil {
		return nil
	}
	if v.Kind != Array {
		p.wrongKind(v, name, `an array of strings such as ["a", "b"]`)
		return nil
	}
	var out []string
	for _, item := range v.Items {
		if item.Kind != String {
			p.wrongKind(item, "each entry of "+name, "a string")
			continue
		}
		out = append(out, item.Text)
	}
	return out
}

// Whole reads an integer within [low, high]; missing gives the default.
func (p *Page) Whole(t *Table, name string, missing, low, high int64) int64 {
	v := t.Get(name)
	if v == nil {
		return missing
	}
	if v.Kind != Integer {
		p.wrongKind(v, name, "an integer")
		return missing
	}
	if v.Whole < low || v.Whole > high {
		p.Fault(v.Span, "", "%s is %d; it must be from %d to %d", name, v.Whole, low, high)
		return missing
	}
	return v.Whole
}

// Flag reads a boolean.
func (p *Page) Flag(t *Table, name string) bool {
	v := t.Get(name)
	if v == nil {
		return false
	}
	if v.Kind != Bool {
		p.wrongKind(v, name, "true or false")
	}
	return v.True
}

// Duration reads a text such as "250ms", "30s" or "5m".
func (p *Page) Duration(t *Table, name string, missing time.Duration) time.Duration {
	v := t.Get(name)
	if v == nil {
		return missing
	}
	if v.Kind != String {
		p.wrongKind(v, name, `a duration such as "30s"`)
		return missing
	}
	d, err := time.ParseDuration(v.Text)
	if err != nil || d <= 0 {
		p.Fault(v.Span, `Write "250ms", "30s" or "5m".`, "%q is not a duration", v.Text)
		return missing
	}
	return d
}

// Table reads a sub-table; nil when it is missing.
func (p *Page) Table(t *Table, name string) *Table {
	v := t.Get(name)
	if v == nil {
		return nil
	}
	if v.Kind != Tab {
		p.wrongKind(v, name, "a table")
		return nil
	}
	return v.Table
}

// Tables returns the tables of an array of tables; nil when it is missing.
func (p *Page) Tables(t *Table, name string) (out []*Table) {
	v := t.Get(name)
	if v == nil {
		return nil
	}
	if v.Kind != Array {
		p.wrongKind(v, name, "an array of tables")
		return nil
	}
	for _, item := range v.Items {
		if item.Table == nil {
			p.wrongKind(item, name, "an array of tables")
			continue
		}
		out = append(out, item.Table)
	}
	return out
}

// Strings reads a table whose values are all strings, in the document's order.
func (p *Page) Strings(t *Table, name string) []*Entry {
	sub := p.Table(t, name)
	if sub == nil {
		return nil
	}
	var out []*Entry
	for _, e := range sub.Entries {
		sub.Get(e.Name)
		if e.Value.Kind != String {
			p.wrongKind(e.Value, name+"."+e.Name, "a string")
			continue
		}
		out = append(out, e)
	}
	return out
}

// StringMap is Strings without the order and the places.
func (p *Page) StringMap(t *Table, name string) map[string]string {
	entries := p.Strings(t, name)
	if len(entries) == 0 {
		return nil
	}
	out := make(map[string]string, len(entries))
	for _, e := range entries {
		out[e.Name] = e.Value.Text
	}
	return out
}

// Within is the span of a stretch of a string value's text, or of the whole
// value where escapes make the two differ.
func (v *Value) Within(at, length int) Span {
	if v.plain {
		return Span{v.Span.At + 1 + at, length}
	}
	return v.Span
}
