// Package debian reads the formats of a Debian archive and decides which packages
// a set of wanted ones needs.
//
// It promises: an index that its release does not vouch for is refused; a look-up
// reads a few kilobytes of a compact index, whatever the archive's size; the same
// index and the same wishes give the same closure, which is apt's own but for the
// packages that base.toml leaves out, with a reason for each. It fetches nothing.
//
// Formats: Debian Policy Manual, chapters 5 (control files) and 7 (relationships);
// "DebianRepository/Format" of the Debian wiki for InRelease and Packages.
package debian

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/version"
)

// maxParagraph bounds one paragraph of a control file, in bytes.
const maxParagraph = 4 << 20

// Paragraphs reads a control file (Policy 5.1) and calls each with the fields of a
// paragraph that wanted names; nil wants all. Names of fields are told apart without case,
// and come as wanted spells them, or as they stand. A field that a paragraph has twice is an
// error. The first line of a field is kept, and of folded or multi-line fields the lines
// below it too, joined by "\n".
func Paragraphs(r io.Reader, wanted map[string]bool, each func(fields map[string]string) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxParagraph)
	spelled := map[string]string{}
	for name := range wanted {
		spelled[strings.ToLower(name)] = name
	}
	var seen []string // in lower case, of the paragraph
	fields := map[string]string{}
	last := ""
	var value []byte // of the field last
	end := func() {
		if last != "" {
			fields[last] = string(value)
		}
		last = ""
	}
	flush := func() error {
		if end(); len(fields) == 0 {
			return nil
		}
		err := each(fields)
		fields, seen = map[string]string{}, seen[:0]
		return err
	}
	for lines.Scan() {
		line := lines.Bytes()
		switch {
		case len(bytes.TrimSpace(line)) == 0:
			if err := flush(); err != nil {
				return err
			}
		case line[0] == '#':
		case line[0] == ' ' || line[0] == '\t':
			if last != "" {
				value = append(append(value, '\n'), bytes.TrimSpace(line)...)
			}
		default:
			name, first, ok := bytes.Cut(line, []byte(":"))
			if !ok {
				return fmt.Errorf("%.40q is no field of a control file", line)
			}
			end()
			as, known := string(name), true
			if wanted != nil && !wanted[as] {
				as = spelled[strings.ToLower(as)]
				known = as != ""
			}
			if known {
				if slices.ContainsFunc(seen, func(s string) bool { return strings.EqualFold(s, as) }) {
					return fmt.Errorf("a paragraph has the field %s twice", as)
				}
				seen = append(seen, as)
				last = as
				value = append(value[:0], bytes.TrimSpace(first)...)
			}
		}
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("a line of a control file has more than %d MiB", maxParagraph>>20)
	} else if err != nil {
		return err
	}
	return flush()
}

// Relation is one alternative of a relationship field: a package and, with an
// operator, a bound on its version (Policy 7.1).
type Relation struct {
	Name    string
	Any     bool   // ":any": a package of another architecture would do too
	Op      string // "", "<<", "<=", "=", ">=" or ">>"
	Version string
}

func (r Relation) String() string {
	if r.Op == "" {
		return r.Name
	}
	return fmt.Sprintf("%s (%s %s)", r.Name, r.Op, r.Version)
}

// Holds tells whether a version is within the bound.
func (r Relation) Holds(v string) bool {
	if r.Op == "" {
		return true
	}
	if v == "" { // what provides a name without a version satisfies no bound
		return false
	}
	c := version.Debian.Compare(v, r.Version)
	switch r.Op {
	case "<<":
		return c < 0
	case "<=":
		return c <= 0
	case "=":
		return c == 0
	case ">=":
		return c >= 0
	case ">>":
		return c > 0
	}
	return false
}

// ParseRelations reads a relationship field: groups of which all must hold, each a
// list of alternatives. Alternatives restricted to other architectures are dropped.
func ParseRelations(field, arch string) ([][]Relation, error) {
	var out [][]Relation
	for group := range strings.SplitSeq(field, ",") {
		if strings.TrimSpace(group) == "" {
			continue
		}
		var alternatives []Relation
		for one := range strings.SplitSeq(group, "|") {
			r, here, err := parseRelation(one, arch)
			if err != nil {
				return nil, err
			}
			if here {
				alternatives = append(alternatives, r)
			}
		}
		if len(alternatives) > 0 {
			out = append(out, alternatives)
		}
	}
	return out, nil
}

func parseRelation(text, arch string) (r Relation, here bool, err error) {
	rest := strings.TrimSpace(text)
	here = true
	if i := strings.IndexByte(rest, '['); i >= 0 {
		inside, _, _ := strings.Cut(rest[i+1:], "]")
		here = onArch(strings.Fields(inside), arch)
		rest = strings.TrimSpace(rest[:i])
	}
	if i := strings.IndexByte(rest, '<'); i >= 0 && !strings.Contains(rest[:i], "(") {
		rest = strings.TrimSpace(rest[:i]) // a build profile, which binary packages do not have
	}
	if i := strings.IndexByte(rest, '('); i >= 0 {
		bound, _, closed := strings.Cut(rest[i+1:], ")")
		bound = strings.TrimSpace(bound)
		n := len(bound) - len(strings.TrimLeft(bound, "<=>"))
		r.Op, r.Version = bound[:n], strings.TrimSpace(bound[n:])
		switch r.Op { // the two old forms mean "or equal" (Policy 7.1)
		case "<":
			r.Op = "<="
		case ">":
			r.Op = ">="
		}
		if !closed || r.Version == "" || !strings.Contains(" << <= = >= >> ", " "+r.Op+" ") {
			return r, false, fmt.Errorf("%q is no relation between packages", text)
		}
		rest = strings.TrimSpace(rest[:i])
	}
	name, qualifier, _ := strings.Cut(rest, ":")
	r.Name, r.Any = name, qualifier == "any"
	if name == "" || strings.ContainsAny(name, " \t/") {
		return r, false, fmt.Errorf("%q is no relation between packages", text)
	}
	if qualifier != "" && qualifier != "any" && qualifier != "native" && qualifier != arch {
		here = false
	}
	return r, here, nil
}

// onArch reads an architecture restriction: "amd64 arm64" or "!i386".
func onArch(words []string, arch string) bool {
	matches := func(word string) bool { return word == arch || word == "any" || word == "linux-any" }
	for _, w := range words {
		if no, negated := strings.CutPrefix(w, "!"); negated {
			if matches(no) {
				return false
			}
		} else if matches(w) {
			return true
		}
	}
	return len(words) == 0 || strings.HasPrefix(words[0], "!")
}

// Arch is Debian's word for an architecture of Go, or "" where it has none.
func Arch(goarch string) string {
	return map[string]string{"amd64": "amd64", "arm64": "arm64", "386": "i386", "arm": "armhf", "riscv64": "riscv64", "ppc64le": "ppc64el", "s390x": "s390x"}[goarch]
}

// Upstream is the version that a program itself states: a package's version
// without its epoch, its revision and marks of repacking such as +dfsg.
func Upstream(v string) string {
	if _, rest, ok := strings.Cut(v, ":"); ok {
		v = rest
	}
	if i := strings.LastIndexByte(v, '-'); i > 0 {
		v = v[:i]
	}
	if i := strings.IndexByte(v, '+'); i > 0 {
		v = v[:i]
	}
	if i := strings.IndexByte(v, '~'); i > 0 && !version.Dotted.Prerelease(v[i:]) {
		v = v[:i]
	}
	return v
}
