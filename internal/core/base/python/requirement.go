package python

import (
	"fmt"
	"slices"
	"strings"
)

// Requirement is one ask for a project (PEP 508).
type Requirement struct {
	Name       string   // normalized
	Extras     []string // normalized, sorted
	Specifiers Specifiers
	Marker     *Marker
	URL        string // a direct reference, which a lock refuses
}

// ParseRequirement reads "name[extra] >=1, <2; marker".
func ParseRequirement(text string) (Requirement, error) {
	var r Requirement
	fail := func(format string, args ...any) (Requirement, error) {
		return r, fmt.Errorf("%q is no requirement (PEP 508): "+format, append([]any{strings.TrimSpace(text)}, args...)...)
	}
	rest := strings.TrimSpace(text)
	end := strings.IndexFunc(rest, func(c rune) bool {
		return !(c == '-' || c == '_' || c == '.' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9')
	})
	if end < 0 {
		end = len(rest)
	}
	name := rest[:end]
	if !ValidName(name) {
		return fail("it starts with no name")
	}
	r.Name, rest = Normal(name), strings.TrimSpace(rest[end:])
	if after, ok := strings.CutPrefix(rest, "["); ok {
		list, more, ok := strings.Cut(after, "]")
		if !ok {
			return fail("a ] is missing")
		}
		for one := range strings.SplitSeq(list, ",") {
			if one = strings.TrimSpace(one); one == "" {
				continue
			}
			if !ValidName(one) {
				return fail("%q is no extra", one)
			}
			if one = Normal(one); !slices.Contains(r.Extras, one) {
				r.Extras = append(r.Extras, one)
			}
		}
		slices.Sort(r.Extras)
		rest = strings.TrimSpace(more)
	}
	if after, ok := strings.CutPrefix(rest, "@"); ok {
		url, marker, has := strings.Cut(strings.TrimSpace(after), " ;")
		r.URL = strings.TrimSpace(url)
		if rest = ""; has {
			rest = ";" + marker
		}
	}
	conditions, marker, has := strings.Cut(rest, ";")
	if has {
		m, err := ParseMarker(marker)
		if err != nil {
			return r, err
		}
		r.Marker = m
	}
	conditions = strings.TrimSpace(conditions)
	if inner, ok := strings.CutPrefix(conditions, "("); ok {
		conditions = strings.TrimSuffix(inner, ")")
	}
	var err error
	if r.Specifiers, err = ParseSpecifiers(conditions); err != nil {
		return fail("%v", err)
	}
	return r, nil
}

// String writes the requirement in its one form.
func (r Requirement) String() string {
	s := r.Name
	if len(r.Extras) > 0 {
		s += "[" + strings.Join(r.Extras, ",") + "]"
	}
	if r.URL != "" {
		s += " @ " + r.URL
	}
	if len(r.Specifiers) > 0 {
		s += " " + r.Specifiers.String()
	}
	if r.Marker != nil {
		s += "; " + r.Marker.String()
	}
	return s
}
