package version

import (
	"fmt"
	"slices"
	"strings"
)

// Ask is what a person writes to say which versions will do:
//
//	"1.24"           the newest that starts with 1.24
//	"=1.24.3"        exactly that one
//	">=1.22, <1.25"  all bounds hold
//	"latest"         the newest release
//	"1.22 || >=1.24" either will do
//	"lts"            the newest line that is supported for long, of tools that have such
//
// Pre-releases are allowed only by an ask that itself names one.
type Ask struct {
	text   string
	any    bool
	lts    bool // which lines these are is filled in by OnLines
	bounds []bound
	or     []Ask // others that will do as well
}

type bound struct {
	op      string // "", "=", "!=", ">", ">=", "<", "<="; "" is a prefix
	version string
}

// operators, longest first so that ">=" is not read as ">".
var operators = []string{">=", "<=", "!=", "=", ">", "<"}

// ParseAsk reads an ask. The error says which piece is wrong.
func ParseAsk(text string) (Ask, error) {
	a := Ask{text: strings.TrimSpace(text)}
	if a.text == "latest" {
		a.any = true
		return a, nil
	}
	if a.text == "lts" {
		a.lts = true
		return a, nil
	}
	if first, rest, ok := strings.Cut(a.text, "||"); ok {
		one, err := ParseAsk(first)
		if err != nil {
			return a, err
		}
		others, err := ParseAsk(rest)
		if err != nil {
			return a, err
		}
		one.text = a.text
		one.or = append(append(one.or, others), others.or...)
		return one, nil
	}
	if a.text == "" {
		return a, fmt.Errorf(`an empty ask; write a version such as "1.24", a range such as ">=1.22, <1.25", or "latest"`)
	}
	for piece := range strings.SplitSeq(a.text, ",") {
		b := bound{version: strings.TrimSpace(piece)}
		for _, op := range operators {
			if rest, ok := strings.CutPrefix(b.version, op); ok {
				b.op, b.version = op, strings.TrimSpace(rest)
				break
			}
		}
		if b.version == "" || !isDigit(b.version[0]) || strings.ContainsAny(b.version, " \t*^~|") {
			return a, fmt.Errorf(`%q is not a version; write "1.24" (newest that starts so), "=1.24.3", ">=1.22, <1.25" or "latest"`, strings.TrimSpace(piece))
		}
		a.bounds = append(a.bounds, b)
	}
	return a, nil
}

func (a Ask) String() string { return a.text }

// Exact gives the one version that the ask can mean, if it is of the form "=V".
func (a Ask) Exact() (string, bool) {
	if len(a.bounds) == 1 && a.bounds[0].op == "=" && len(a.or) == 0 {
		return a.bounds[0].version, true
	}
	return "", false
}

// Named gives the version that a plain ask names whole: "1.21.5". A source whose list lacks
// it may still have it.
func (a Ask) Named() (string, bool) {
	if len(a.bounds) == 1 && a.bounds[0].op == "" && len(a.or) == 0 && strings.Count(a.bounds[0].version, ".") >= 2 {
		return a.bounds[0].version, true
	}
	return a.Exact()
}

// Prefix is what versions begin with that a plain ask allows.
func (a Ask) Prefix() (string, bool) {
	if len(a.bounds) == 1 && a.bounds[0].op == "" && len(a.or) == 0 {
		return a.bounds[0].version, true
	}
	return "", false
}

// LTS tells whether the ask is for a line that is supported for long.
func (a Ask) LTS() bool { return a.lts || slices.ContainsFunc(a.or, Ask.LTS) }

// OnLines is the ask with the lines that are supported for long now, by their beginnings, the
// newest first.
func (a Ask) OnLines(lines []string) Ask {
	out := a
	out.or = nil
	if a.lts {
		out.lts = false
		for i, line := range lines {
			one := Ask{text: a.text, bounds: []bound{{"", line}}}
			if i == 0 {
				out.bounds = one.bounds
			} else {
				out.or = append(out.or, one)
			}
		}
	}
	for _, other := range a.or {
		out.or = append(out.or, other.OnLines(lines))
	}
	return out
}

// Valid names the first bound that is no version in the scheme, or returns "".
func (a Ask) Valid(s Scheme) string {
	for _, b := range a.bounds {
		if !s.Valid(b.version) {
			return b.version
		}
	}
	for _, other := range a.or {
		if bad := other.Valid(s); bad != "" {
			return bad
		}
	}
	return ""
}

// Allows tells whether the version v will do.
func (a Ask) Allows(s Scheme, v string) bool {
	if slices.ContainsFunc(a.or, func(other Ask) bool { return other.Allows(s, v) }) {
		return true
	}
	if a.lts || s.Prerelease(v) && !a.namesPrerelease(s) {
		return false
	}
	return a.inRange(s, v)
}

func (a Ask) inRange(s Scheme, v string) bool {
	for _, b := range a.bounds {
		if !b.holds(s, v) {
			return false
		}
	}
	return true
}

func (a Ask) namesPrerelease(s Scheme) bool {
	return slices.ContainsFunc(a.bounds, func(b bound) bool { return s.Prerelease(b.version) })
}

func (b bound) holds(s Scheme, v string) bool {
	c := s.Compare(v, b.version)
	switch b.op {
	case "":
		return c == 0 || hasPrefix(v, b.version) || s == Debian && hasPrefix(withoutEpoch(v), b.version)
	case "=":
		return c == 0
	case "!=":
		return c != 0
	case ">":
		return c > 0
	case ">=":
		return c >= 0
	case "<":
		return c < 0
	default:
		return c <= 0
	}
}

// withoutEpoch is a Debian version as people name it: 7.0.15-1 of 5:7.0.15-1.
func withoutEpoch(v string) string {
	if _, rest, ok := strings.Cut(v, ":"); ok {
		return rest
	}
	return v
}

// hasPrefix tells whether v is prefix with more components behind it: "1.2"
// covers "1.2.9" and "1.2rc1", never "1.20".
func hasPrefix(v, prefix string) bool {
	rest, ok := strings.CutPrefix(v, prefix)
	return ok && (rest == "" || !isDigit(rest[0]))
}

// Contradiction names two bounds of the ask that no version can meet together, or
// returns "".
func (a Ask) Contradiction(s Scheme) (low, high string) {
	if len(a.or) > 0 {
		return "", ""
	}
	for _, x := range a.bounds {
		for _, y := range a.bounds {
			if !strings.HasPrefix(x.op, ">") && x.op != "=" || !strings.HasPrefix(y.op, "<") && y.op != "=" {
				continue
			}
			c := s.Compare(x.version, y.version)
			if c > 0 || c == 0 && (x.op == ">" || y.op == "<") {
				return x.op + x.version, y.op + y.version
			}
		}
	}
	return "", ""
}

// Best picks the newest version that the ask allows.
func (a Ask) Best(s Scheme, versions []string) (best string, found bool) {
	for _, v := range versions {
		if s.Valid(v) && a.Allows(s, v) && (!found || s.Compare(v, best) > 0) {
			best, found = v, true
		}
	}
	return best, found
}

// Around gives the nearest versions below and above an ask that nothing
// satisfies, each "" when there is none: what to tell a person who asked for
// something that does not exist.
func (a Ask) Around(s Scheme, versions []string) (below, above string) {
	if len(a.bounds) == 0 {
		return "", ""
	}
	pivot := a.bounds[0].version
	for _, v := range versions {
		if !s.Valid(v) || s.Prerelease(v) {
			continue
		}
		switch c := s.Compare(v, pivot); {
		case c < 0 && (below == "" || s.Compare(v, below) > 0):
			below = v
		case c > 0 && (above == "" || s.Compare(v, above) < 0):
			above = v
		}
	}
	return below, above
}

// Newest sorts versions newest first, in place.
func Newest(s Scheme, versions []string) {
	slices.SortFunc(versions, func(a, b string) int { return s.Compare(b, a) })
}
