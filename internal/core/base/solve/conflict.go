package solve

import (
	"fmt"
	"slices"
	"strings"
)

// Conflict is that no choice fits. It says who asks for what, down to the contradiction.
type Conflict struct {
	Chain   []string // sentences, from the asks down
	Unknown []string // packages of which there is no version at all
}

func (c *Conflict) Error() string { return strings.Join(c.Chain, "\n") }

// explain makes the chain of a rule that says that nothing is possible: the facts that it
// follows from, versions with one need put together.
func (s *solver) explain(r *rule) error {
	type line struct {
		of       *pkg
		versions []int
		need     *Need
		of2      *pkg
		barred   string
	}
	var lines []*line
	seen := map[*rule]bool{}
	facts := map[*fact]bool{}
	var walk func(r *rule)
	walk = func(r *rule) {
		if r == nil || seen[r] {
			return
		}
		seen[r] = true
		walk(r.a)
		walk(r.b)
		f := r.fact
		if f == nil || facts[f] {
			return
		}
		facts[f] = true
		for _, l := range lines {
			same := l.of == f.of && l.barred == f.barred && (l.need == nil) == (f.need == nil)
			if same && f.of != nil && (f.need == nil || l.need.Package == f.need.Package && l.need.Text == f.need.Text) {
				l.versions = append(l.versions, f.version)
				return
			}
		}
		lines = append(lines, &line{f.of, []int{f.version}, f.need, f.of2, f.barred})
	}
	walk(r)
	c := &Conflict{}
	// The asks come first, then what each package that was named so far needs.
	named := map[*pkg]bool{nil: true}
	var ordered []*line
	for len(ordered) < len(lines) {
		took := false
		for _, l := range lines {
			if !slices.Contains(ordered, l) && named[l.of] {
				ordered = append(ordered, l)
				if l.of2 != nil {
					named[l.of2] = true
				}
				took = true
			}
		}
		if !took {
			for _, l := range lines {
				if !slices.Contains(ordered, l) {
					ordered = append(ordered, l)
				}
			}
		}
	}
	for _, l := range ordered {
		if l.need == nil {
			c.Chain = append(c.Chain, fmt.Sprintf("%s %s %s", l.of.name, l.of.spans(l.versions, l.barred), l.barred))
			continue
		}
		want := l.need.Package
		if l.need.Text != "" {
			want += " " + l.need.Text
		}
		if len(l.of2.versions) == 0 {
			want += ", which no source has"
			if !slices.Contains(c.Unknown, l.of2.name) {
				c.Unknown = append(c.Unknown, l.of2.name)
			}
		} else if l.of2.allowed(l.need).empty() {
			want += fmt.Sprintf(", and there is only %s", l.of2.spans(nil, ""))
		}
		if l.of == nil {
			from := "the declaration"
			if l.need.From != "" {
				from = l.need.From
			}
			c.Chain = append(c.Chain, fmt.Sprintf("%s asks for %s", from, want))
			continue
		}
		verb := "need"
		if len(l.versions) == 1 {
			verb = "needs"
		}
		c.Chain = append(c.Chain, fmt.Sprintf("%s %s %s %s", l.of.name, l.of.spans(l.versions, ""), verb, want))
	}
	return c
}

// spans names versions for people: all of them, or the first and the last of a row.
func (p *pkg) spans(states []int, barred string) string {
	var list []string
	for i, c := range p.versions {
		if states == nil || slices.Contains(states, i+1) || barred != "" && c.Barred == barred && slices.Contains(states, 0) {
			list = append(list, c.Version)
		}
	}
	if len(list) <= 3 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s … %s (%d versions)", list[len(list)-1], list[0], len(list))
}
