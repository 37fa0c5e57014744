package solve

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// made is a problem that a test made up: package → version → needed package → versions
// that do.
type made struct {
	names    []string
	versions map[string][]string
	needs    map[string]map[string][]string // "a 1" → b → allowed versions
	barred   map[string]string
}

func (m *made) Candidates(_ context.Context, name string) ([]Candidate, error) {
	var out []Candidate
	for _, v := range m.versions[name] {
		out = append(out, Candidate{Version: v, Barred: m.barred[name+" "+v], Pre: strings.Contains(v, "rc")})
	}
	return out, nil
}

func (m *made) Needs(_ context.Context, name, v string) ([]Need, string, error) {
	var out []Need
	table := m.needs[name+" "+v]
	for _, other := range m.names {
		if allowed, ok := table[other]; ok {
			out = append(out, of(other, allowed...))
		}
	}
	return out, "", nil
}

func (m *made) Soon(context.Context, []string) {}

func of(name string, allowed ...string) Need {
	return Need{Package: name, Text: strings.Join(allowed, "|"), Allows: func(v string) bool { return slices.Contains(allowed, v) }}
}

// valid tells whether a choice meets all that is asked for, with nothing in it that nobody
// needs.
func (m *made) valid(asks []Need, chosen Chosen) error {
	reached := map[string]bool{}
	var visit func(n Need) error
	visit = func(n Need) error {
		v, ok := chosen[n.Package]
		if !ok || !n.Allows(v) {
			return fmt.Errorf("%s has %q, and %s is needed", n.Package, v, n.Text)
		}
		if m.barred[n.Package+" "+v] != "" {
			return fmt.Errorf("%s %s is barred", n.Package, v)
		}
		if reached[n.Package] {
			return nil
		}
		reached[n.Package] = true
		needs, _, _ := m.Needs(context.Background(), n.Package, v)
		for _, below := range needs {
			if err := visit(below); err != nil {
				return err
			}
		}
		return nil
	}
	for _, n := range asks {
		if err := visit(n); err != nil {
			return err
		}
	}
	for name := range chosen {
		if !reached[name] {
			return fmt.Errorf("nobody needs %s", name)
		}
	}
	return nil
}

// possible tries every choice there is.
func (m *made) possible(asks []Need) bool {
	chosen := Chosen{}
	var try func(i int) bool
	try = func(i int) bool {
		if i == len(m.names) {
			pruned := Chosen{}
			for name, v := range chosen {
				pruned[name] = v
			}
			for len(pruned) > 0 {
				err := m.valid(asks, pruned)
				if err == nil {
					return true
				}
				if name, ok := strings.CutPrefix(err.Error(), "nobody needs "); ok {
					delete(pruned, name)
					continue
				}
				return false
			}
			return len(asks) == 0
		}
		for _, v := range m.versions[m.names[i]] {
			chosen[m.names[i]] = v
			if try(i + 1) {
				return true
			}
		}
		delete(chosen, m.names[i])
		return len(m.versions[m.names[i]]) == 0 && try(i+1)
	}
	return try(0)
}

// random makes a small problem with a good chance of contradictions.
func random(rnd *rand.Rand) (*made, []Need) {
	m := &made{versions: map[string][]string{}, needs: map[string]map[string][]string{}, barred: map[string]string{}}
	for i := range 2 + rnd.IntN(5) {
		name := string(rune('a' + i))
		m.names = append(m.names, name)
		for v := 3; v > rnd.IntN(3); v-- {
			m.versions[name] = append(m.versions[name], fmt.Sprint(v))
		}
	}
	some := func(name string) []string {
		var out []string
		for _, v := range m.versions[name] {
			if rnd.IntN(5) < 3 {
				out = append(out, v)
			}
		}
		return out
	}
	for _, name := range m.names {
		for _, v := range m.versions[name] {
			table := map[string][]string{}
			for _, other := range m.names {
				if rnd.IntN(3) == 0 {
					table[other] = some(other)
				}
			}
			m.needs[name+" "+v] = table
			if rnd.IntN(12) == 0 {
				m.barred[name+" "+v] = "is barred"
			}
		}
	}
	var asks []Need
	for _, name := range m.names[:1+rnd.IntN(2)] {
		asks = append(asks, of(name, some(name)...))
	}
	return m, asks
}

func TestEveryChoiceFitsAndEveryRefusalIsRight(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	solved, refused := 0, 0
	for range 4000 {
		m, asks := random(rnd)
		chosen, err := Solve(t.Context(), m, asks)
		var conflict *Conflict
		switch {
		case err == nil:
			solved++
			if bad := m.valid(asks, chosen); bad != nil {
				t.Fatalf("%v\n%v\nwas chosen for %+v", bad, chosen, m)
			}
		case errors.As(err, &conflict):
			refused++
			if m.possible(asks) {
				t.Fatalf("refused although there is a choice: %v\n%+v", err, m)
			}
			if len(conflict.Chain) == 0 {
				t.Fatal("a refusal without a reason")
			}
		default:
			t.Fatal(err)
		}
	}
	if solved < 200 || refused < 200 {
		t.Errorf("%d solved and %d refused: the problems are too much alike", solved, refused)
	}
}

func TestAConflictIsExplainedByWhoAsksForWhat(t *testing.T) {
	m := &made{
		names:    []string{"board", "tally", "grid"},
		versions: map[string][]string{"board": {"2", "1"}, "tally": {"3", "2"}, "grid": {"2", "1"}},
		needs:    map[string]map[string][]string{"board 2": {"grid": {"1"}}, "board 1": {"grid": {"1"}}, "tally 3": {"grid": {"2"}}, "tally 2": {"grid": {"2"}}},
	}
	asks := []Need{of("board", "1", "2"), of("tally", "2", "3")}
	asks[0].From, asks[1].From = "requirements.txt:1", "requirements.txt:2"
	_, err := Solve(t.Context(), m, asks)
	var conflict *Conflict
	if !errors.As(err, &conflict) {
		t.Fatal(err)
	}
	for _, words := range []string{"requirements.txt:1 asks for board", "requirements.txt:2 asks for tally", "board 2, 1 need grid 1", "tally 3, 2 need grid 2"} {
		if !strings.Contains(err.Error(), words) {
			t.Errorf("it does not say %q:\n%v", words, err)
		}
	}
}

func TestPreReleasesCountWhenNamedOrAlone(t *testing.T) {
	m := &made{names: []string{"a", "b"}, versions: map[string][]string{"a": {"2rc1", "1"}, "b": {"1rc1"}}}
	any := func(string) bool { return true }
	for _, c := range []struct {
		pre  bool
		want string
	}{{false, "1"}, {true, "2rc1"}} {
		got, err := Solve(t.Context(), m, []Need{{Package: "a", Allows: any, Pre: c.pre}, {Package: "b", Allows: any}})
		if err != nil || got["a"] != c.want || got["b"] != "1rc1" {
			t.Errorf("%v %v", got, err)
		}
	}
}

func BenchmarkOneHundredPackagesWithConflicts(b *testing.B) {
	rnd := rand.New(rand.NewPCG(7, 7))
	m := &made{versions: map[string][]string{}, needs: map[string]map[string][]string{}}
	for i := range 100 {
		m.names = append(m.names, fmt.Sprintf("p%02d", i))
		for v := 20; v > 0; v-- {
			m.versions[m.names[i]] = append(m.versions[m.names[i]], fmt.Sprint(v))
		}
	}
	for i, name := range m.names {
		for _, v := range m.versions[name] {
			table := map[string][]string{}
			for j := i + 1; j < len(m.names) && j < i+8; j++ {
				if rnd.IntN(2) == 0 {
					from := rnd.IntN(12)
					table[m.names[j]] = m.versions[m.names[j]][from : from+8]
				}
			}
			m.needs[name+" "+v] = table
		}
	}
	for b.Loop() {
		if _, err := Solve(b.Context(), m, []Need{of("p00", m.versions["p00"]...)}); err != nil {
			var c *Conflict
			if !errors.As(err, &c) {
				b.Fatal(err)
			}
		}
	}
}

// chain is a problem of n packages, each of which needs the next ones, without conflicts.
func chain(n int) (*made, []Need) {
	m := &made{versions: map[string][]string{}, needs: map[string]map[string][]string{}}
	name := func(i int) string { return fmt.Sprintf("p%05d", i) }
	for i := range n {
		m.names = append(m.names, name(i))
		m.versions[name(i)] = []string{"3", "2", "1"}
	}
	for i := range n {
		for _, v := range m.versions[name(i)] {
			table := map[string][]string{}
			for j := i + 1; j < min(n, i+4); j++ {
				table[name(j)] = []string{"3", "2"}
			}
			m.needs[name(i)+" "+v] = table
		}
	}
	return m, []Need{of(name(0), "3", "2", "1")}
}

func (m *made) direct() *fast { return &fast{m} }

// fast looks needs up without walking all names.
type fast struct{ *made }

func (f *fast) Needs(_ context.Context, name, v string) (out []Need, _ string, _ error) {
	for other, allowed := range f.needs[name+" "+v] {
		out = append(out, of(other, allowed...))
	}
	slices.SortFunc(out, func(a, b Need) int { return strings.Compare(a.Package, b.Package) })
	return out, "", nil
}

func BenchmarkGrowth(b *testing.B) {
	for _, n := range []int{100, 1000, 5000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			m, asks := chain(n)
			for b.Loop() {
				if chosen, err := Solve(b.Context(), m.direct(), asks); err != nil || len(chosen) != n {
					b.Fatal(err, len(chosen))
				}
			}
		})
	}
}
