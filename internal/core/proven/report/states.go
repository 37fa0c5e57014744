package report

import (
	"fmt"
	"slices"
	"strings"
)

// State is what one machine has, or several that are alike in everything: of the same platform,
// with the same value in each row.
type State struct {
	Machines []int // indices of Comparison.Machines, in their order
}

// States are the states that machines are in, those of most machines first.
func (c *Comparison) States() []State {
	var out []State
	known := map[string]int{}
	for i, m := range c.Machines {
		var key strings.Builder
		fmt.Fprint(&key, m.Platform, m.Stale, m.Unsigned)
		for _, row := range c.Rows {
			key.WriteString("|" + row.Cells[i].Value)
		}
		at, ok := known[key.String()]
		if !ok {
			at = len(out)
			known[key.String()] = at
			out = append(out, State{})
		}
		out[at].Machines = append(out[at].Machines, i)
	}
	slices.SortStableFunc(out, func(a, b State) int { return len(b.Machines) - len(a.Machines) })
	return out
}

// Apart are the rows in which some machine differs from the others of its kind, and Alike the
// names of those in which none does.
func (c *Comparison) Apart() (apart []Line, alike []string) {
	for _, row := range c.Rows {
		if slices.ContainsFunc(row.Cells, func(x Cell) bool { return !x.Same }) {
			apart = append(apart, row)
		} else {
			alike = append(alike, row.Name)
		}
	}
	return apart, alike
}

// Shared is a difference that one or more machines have.
type Shared struct {
	Difference          // of the first of them
	Machines   []string // all of them
}

// Shared are the differences, each told once for all machines that have it.
func (c *Comparison) Shared() []Shared {
	var out []Shared
	known := map[Difference]int{}
	for _, d := range c.Differences {
		key := d
		key.Machine = ""
		at, ok := known[key]
		if !ok {
			at = len(out)
			known[key] = at
			out = append(out, Shared{Difference: d})
		}
		out[at].Machines = append(out[at].Machines, d.Machine)
	}
	return out
}
