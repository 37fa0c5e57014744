package python

import (
	"fmt"
	"strings"
)

// Marker is a condition on the environment (PEP 508, "Environment Markers"). The zero
// Marker always holds.
type Marker struct {
	op          string // "and", "or", or the operator of a comparison
	left, right *Marker
	a, b        value
}

// value is a side of a comparison: a variable or a text.
type value struct {
	name string // of a variable, or ""
	text string
}

// variables are the names that markers may use. What a machine decides anew with each
// kernel, platform_release and platform_version, is empty: a lock cannot hold it.
var variables = map[string]bool{
	"python_version": true, "python_full_version": true, "os_name": true, "sys_platform": true,
	"platform_release": true, "platform_system": true, "platform_version": true, "platform_machine": true,
	"platform_python_implementation": true, "implementation_name": true, "implementation_version": true,
	"extra": true, "extras": true, "dependency_groups": true,
}

// older are spellings from before PEP 508 that are still seen.
var older = map[string]string{
	"os.name": "os_name", "sys.platform": "sys_platform", "platform.version": "platform_version",
	"platform.machine": "platform_machine", "platform.python_implementation": "platform_python_implementation",
	"python_implementation": "platform_python_implementation",
}

// ParseMarker reads a condition.
func ParseMarker(text string) (*Marker, error) {
	p := &markerParser{rest: text}
	m, err := p.or()
	if err == nil && p.peek() != "" {
		err = fmt.Errorf("%q is too much", p.rest)
	}
	if err != nil {
		return nil, fmt.Errorf("%q is no marker (PEP 508): %w", strings.TrimSpace(text), err)
	}
	return m, nil
}

type markerParser struct{ rest string }

// peek is the next token without taking it.
func (p *markerParser) peek() string {
	p.rest = strings.TrimLeft(p.rest, " \t")
	s := p.rest
	if s == "" {
		return ""
	}
	for _, op := range []string{"===", "==", "~=", "!=", "<=", ">=", "<", ">", "(", ")"} {
		if strings.HasPrefix(s, op) {
			return op
		}
	}
	if s[0] == '"' || s[0] == '\'' {
		if end := strings.IndexByte(s[1:], s[0]); end >= 0 {
			return s[:end+2]
		}
		return s
	}
	end := strings.IndexFunc(s, func(r rune) bool {
		return !(r == '_' || r == '.' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9')
	})
	switch {
	case end < 0:
		return s
	case end == 0:
		return s[:1]
	}
	return s[:end]
}

func (p *markerParser) take() string {
	t := p.peek()
	p.rest = p.rest[len(t):]
	return t
}

func (p *markerParser) or() (*Marker, error) {
	return p.chain("or", func() (*Marker, error) { return p.chain("and", p.one) })
}

func (p *markerParser) chain(word string, next func() (*Marker, error)) (*Marker, error) {
	m, err := next()
	for err == nil && p.peek() == word {
		p.take()
		var right *Marker
		if right, err = next(); err == nil {
			m = &Marker{op: word, left: m, right: right}
		}
	}
	return m, err
}

func (p *markerParser) one() (*Marker, error) {
	if p.peek() == "(" {
		p.take()
		m, err := p.or()
		if err == nil && p.take() != ")" {
			err = fmt.Errorf("a ) is missing")
		}
		return m, err
	}
	a, err := p.value()
	if err != nil {
		return nil, err
	}
	op := p.take()
	if op == "not" {
		if p.take() != "in" {
			return nil, fmt.Errorf("not needs in behind it")
		}
		op = "not in"
	}
	switch op {
	case "===", "==", "~=", "!=", "<=", ">=", "<", ">", "in", "not in":
	default:
		return nil, fmt.Errorf("%q is no comparison", op)
	}
	b, err := p.value()
	if err != nil {
		return nil, err
	}
	if a.name == "" && b.name == "" {
		return nil, fmt.Errorf("%q and %q are both texts", a.text, b.text)
	}
	return &Marker{op: op, a: a, b: b}, nil
}

func (p *markerParser) value() (value, error) {
	t := p.take()
	if len(t) >= 2 && (t[0] == '"' || t[0] == '\'') && t[len(t)-1] == t[0] {
		return value{text: t[1 : len(t)-1]}, nil
	}
	if now := older[t]; now != "" {
		t = now
	}
	if !variables[t] {
		return value{}, fmt.Errorf("%q is no variable", t)
	}
	return value{name: t}, nil
}

// Holds evaluates the condition. env gives the variables; extras are those that were asked
// for, of which one at a time is tried, as "" too.
func (m *Marker) Holds(env map[string]string, extra string) bool {
	if m == nil {
		return true
	}
	switch m.op {
	case "and":
		return m.left.Holds(env, extra) && m.right.Holds(env, extra)
	case "or":
		return m.left.Holds(env, extra) || m.right.Holds(env, extra)
	}
	read := func(v value) string {
		switch v.name {
		case "":
			return v.text
		case "extra":
			return extra
		}
		return env[v.name]
	}
	a, b := read(m.a), read(m.b)
	if m.a.name == "extra" || m.b.name == "extra" {
		a, b = Normal(a), Normal(b)
		switch m.op {
		case "==":
			return a == b
		case "!=":
			return a != b
		}
	}
	if m.op == "in" {
		return strings.Contains(b, a)
	}
	if m.op == "not in" {
		return !strings.Contains(b, a)
	}
	// Versions where the right side is one with the operator, texts otherwise.
	if s, err := ParseSpecifiers(m.op + b); err == nil && m.b.name == "" && versionLike[m.a.name] {
		return s.Allow(a)
	}
	if m.a.name == "" && versionLike[m.b.name] { // "3.8" <= python_version
		if s, err := ParseSpecifiers(turned[m.op] + a); err == nil {
			return s.Allow(b)
		}
	}
	switch m.op {
	case "==", "===":
		return a == b
	case "!=":
		return a != b
	case "<":
		return a < b
	case "<=":
		return a <= b
	case ">":
		return a > b
	case ">=":
		return a >= b
	}
	return false // ~= has no meaning for texts
}

// versionLike are the variables whose values are versions.
var versionLike = map[string]bool{"python_version": true, "python_full_version": true, "implementation_version": true, "platform_release": true}

// turned is an operator with its sides exchanged.
var turned = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<=", "==": "==", "!=": "!=", "===": "===", "~=": "~="}

// Extra tells whether the condition looks at extras at all.
func (m *Marker) Extra() bool {
	if m == nil {
		return false
	}
	return m.a.name == "extra" || m.b.name == "extra" || m.left.Extra() || m.right.Extra()
}

// String writes the condition in the form of PEP 508.
func (m *Marker) String() string {
	if m == nil {
		return ""
	}
	side := func(x *Marker) string {
		if m.op == "and" && x.op == "or" {
			return "(" + x.String() + ")"
		}
		return x.String()
	}
	if m.left != nil {
		return side(m.left) + " " + m.op + " " + side(m.right)
	}
	show := func(v value) string {
		if v.name != "" {
			return v.name
		}
		if strings.Contains(v.text, `"`) {
			return "'" + v.text + "'"
		}
		return `"` + v.text + `"`
	}
	return show(m.a) + " " + m.op + " " + show(m.b)
}
