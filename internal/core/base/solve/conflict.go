package solve

import (
	"cmp"
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

// clause is one sentence of a conflict: facts of several versions with one need.
type clause struct {
	of       *pkg // nil: the declaration
	versions []int
	need     *Need
	of2      *pkg // that is needed
	barred   string
}

// explain makes the chain of a rule that says that nothing is possible: the facts that it
// follows from, versions with one need put together.
func (s *solver) explain(r *rule) error {
	c := &Conflict{}
	for _, l := range ordered(clausesOf(r)) {
		c.say(l)
	}
	return c
}

// clausesOf are the facts that a rule follows from.
func clausesOf(r *rule) (out []*clause) {
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
		for _, l := range out {
			same := l.of == f.of && l.barred == f.barred && (l.need == nil) == (f.need == nil)
			if same && f.of != nil && (f.need == nil || l.need.Package == f.need.Package && l.need.Text == f.need.Text) {
				l.versions = append(l.versions, f.version)
				return
			}
		}
		out = append(out, &clause{f.of, []int{f.version}, f.need, f.of2, f.barred})
	}
	walk(r)
	return out
}

// ordered puts the asks first, then what each package that was named so far needs.
func ordered(clauses []*clause) (out []*clause) {
	named := map[*pkg]bool{nil: true}
	for len(out) < len(clauses) {
		took := false
		for _, l := range clauses {
			if !slices.Contains(out, l) && named[l.of] {
				out = append(out, l)
				if l.of2 != nil {
					named[l.of2] = true
				}
				took = true
			}
		}
		if !took {
			for _, l := range clauses {
				if !slices.Contains(out, l) {
					out = append(out, l)
				}
			}
		}
	}
	return out
}

// say adds a sentence to the chain.
func (c *Conflict) say(l *clause) {
	if l.need == nil {
		c.Chain = append(c.Chain, fmt.Sprintf("%s %s %s", l.of.name, l.of.spans(l.versions, l.barred), l.barred))
		return
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
		c.Chain = append(c.Chain, fmt.Sprintf("%s asks for %s", cmp.Or(l.need.From, "the declaration"), want))
		return
	}
	verb := "need"
	if len(l.versions) == 1 {
		verb = "needs"
	}
	c.Chain = append(c.Chain, fmt.Sprintf("%s %s %s %s", l.of.name, l.of.spans(l.versions, ""), verb, want))
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
