// Package solve chooses one version of each package that is needed, so that all that they
// need of each other holds, or explains why no choice does.
//
// It learns from conflicts: what a dead end shows to be impossible is kept as a rule, and
// the search goes back to the choice that matters (conflict-driven, after "PubGrub:
// Next-Generation Version Solving", N. Weizenbaum, 2018, with sets of versions in the place
// of ranges). It prefers the version that a package lists first. The same problem gives the
// same choice.
package solve

import (
	"context"
	"slices"
)

// Need is what one version of a package, or who asks for the whole, needs of another.
type Need struct {
	Package string
	Text    string // the condition, for people: ">=2, <3"; "" for any version
	From    string // where an ask was written; "" for a need of a package
	Allows  func(version string) bool

	Pre     bool // it names a pre-release, which allows them
	Pinned  bool // it names one version
	Bounded bool // it has an upper bound
}

// Candidate is a version of a package, and why it cannot be taken, if so.
type Candidate struct {
	Version string
	Barred  string // "needs Python >=3.12"; "" for none
	Pre     bool   // it comes before a release
}

// Problem says what there is.
type Problem interface {
	// Candidates are the versions of a package, the most wanted first. Of a package that
	// nobody knows there are none.
	Candidates(ctx context.Context, name string) ([]Candidate, error)
	// Needs is what a version needs. A version that turns out not to be usable has a reason.
	Needs(ctx context.Context, name, version string) (needs []Need, barred string, err error)
	// Soon tells which packages will be asked for, so that they can be read together.
	Soon(ctx context.Context, names []string)
}

// Chosen is a choice: package → version.
type Chosen map[string]string

// set is a set of states of a package: bit 0 that it is not chosen, bit i that its version
// i-1 is.
type set []uint64

func newSet(n int) set            { return make(set, (n+64)/64) }
func (s set) has(i int) bool      { return s[i/64]&(1<<(i%64)) != 0 }
func (s set) add(i int)           { s[i/64] |= 1 << (i % 64) }
func (s set) clone() set          { return slices.Clone(s) }
func (s set) equal(o set) bool    { return slices.Equal(s, o) }
func (s set) within(o set) bool   { return s.minus(o).empty() }
func (s set) disjoint(o set) bool { return s.and(o).empty() }

func (s set) and(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] & o[i]
	}
	return out
}

func (s set) or(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] | o[i]
	}
	return out
}

func (s set) minus(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] &^ o[i]
	}
	return out
}

func (s set) empty() bool {
	for _, w := range s {
		if w != 0 {
			return false
		}
	}
	return true
}

// one is the only state in a set, or -1.
func (s set) one() int {
	found := -1
	for i := range len(s) * 64 {
		if s.has(i) {
			if found >= 0 {
				return -1
			}
			found = i
		}
	}
	return found
}

// pkg is a package that plays a part.
type pkg struct {
	name     string
	versions []Candidate
	all      set
	domain   set // the states that are still possible
	rules    []*rule
	asked    int // its place among the asks, or -1
	expanded map[int]bool
	decided  bool
	listed   bool // among those that are open
}

// term says that a package is in one of some states.
type term struct {
	pkg *pkg
	in  set
}

// rule is a combination of states that cannot be. It is a fact, or follows from two others.
type rule struct {
	terms []term
	fact  *fact
	a, b  *rule
}

// fact is why a rule holds that follows from no other.
type fact struct {
	of      *pkg // nil: who asks
	version int  // state of it
	need    *Need
	of2     *pkg
	barred  string
}

func (r *rule) of(p *pkg) (set, bool) {
	for _, t := range r.terms {
		if t.pkg == p {
			return t.in, true
		}
	}
	return nil, false
}

// step is one narrowing of what is possible.
type step struct {
	pkg    *pkg
	before set // the domain before
	after  set
	level  int
	cause  *rule // nil for a decision
}

type solver struct {
	ctx     context.Context
	problem Problem
	byName  map[string]*pkg
	order   []*pkg
	open    []*pkg // those that are not decided, and some that are
	steps   []step
	head    int // steps before it are drawn from
	moves   int // counts narrowing and going back
	level   int
	asks    []Need
	active  map[*pkg][]activeNeed
}

// activeNeed is a need of a version; it counts while that version is decided.
type activeNeed struct {
	of    *pkg // nil for an ask
	state int
	need  *Need
}

// Solve chooses versions for the asks. An error of type *Conflict says that none fit.
func Solve(ctx context.Context, problem Problem, asks []Need) (Chosen, error) {
	s := &solver{ctx: ctx, problem: problem, byName: map[string]*pkg{}, asks: asks, active: map[*pkg][]activeNeed{}}
	var names []string
	for _, n := range asks {
		names = append(names, n.Package)
	}
	problem.Soon(ctx, names)
	for i := range asks {
		q, err := s.pkg(asks[i].Package)
		if err != nil {
			return nil, err
		}
		if q.asked < 0 {
			q.asked = i
		}
		s.active[q] = append(s.active[q], activeNeed{need: &asks[i]})
		r := &rule{terms: []term{{q, q.all.minus(q.allowed(&asks[i]))}}, fact: &fact{need: &asks[i], of2: q}}
		if err := s.learn(r); err != nil {
			return nil, err
		}
	}
	for {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if err := s.propagate(); err != nil {
			return nil, err
		}
		p := s.next()
		if p == nil {
			if moved, err := s.again(); err != nil {
				return nil, err
			} else if moved {
				continue
			}
			out := Chosen{}
			for _, q := range s.order {
				if i := q.domain.one(); i > 0 {
					out[q.name] = q.versions[i-1].Version
				}
			}
			return out, nil
		}
		if err := s.decide(p); err != nil {
			return nil, err
		}
	}
}

// pkg is the package of a name; its versions are read the first time.
func (s *solver) pkg(name string) (*pkg, error) {
	if p := s.byName[name]; p != nil {
		return p, nil
	}
	candidates, err := s.problem.Candidates(s.ctx, name)
	if err != nil {
		return nil, err
	}
	p := &pkg{name: name, versions: candidates, all: newSet(len(candidates) + 1), asked: -1, expanded: map[int]bool{}}
	for i := range len(candidates) + 1 {
		p.all.add(i)
	}
	p.domain = p.all.clone()
	s.byName[name] = p
	s.order = append(s.order, p)
	s.opens(p)
	reasons := map[string]set{}
	var ordered []string
	for i, c := range candidates {
		if c.Barred == "" {
			continue
		}
		if reasons[c.Barred] == nil {
			reasons[c.Barred] = newSet(len(candidates) + 1)
			ordered = append(ordered, c.Barred)
		}
		reasons[c.Barred].add(i + 1)
	}
	for _, why := range ordered {
		if err := s.learn(&rule{terms: []term{{p, reasons[why]}}, fact: &fact{of: p, barred: why}}); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// allowed are the states that a need allows.
func (p *pkg) allowed(n *Need) set {
	out := newSet(len(p.versions) + 1)
	for i, c := range p.versions {
		if n.Allows(c.Version) {
			out.add(i + 1)
		}
	}
	return out
}

// learn adds a rule and draws what follows from it alone.
func (s *solver) learn(r *rule) error {
	r.terms = slices.DeleteFunc(r.terms, func(t term) bool { return t.in.equal(t.pkg.all) }) // always so
	for _, t := range r.terms {
		t.pkg.rules = append(t.pkg.rules, r)
	}
	return s.apply(r)
}

// apply looks at a rule: when all terms but one hold, the last one must not; when all do,
// it is a conflict.
func (s *solver) apply(r *rule) error {
	var open *term
	for i, t := range r.terms {
		switch {
		case t.pkg.domain.within(t.in):
		case t.pkg.domain.disjoint(t.in):
			return nil
		case open != nil:
			return nil
		default:
			open = &r.terms[i]
		}
	}
	if open == nil {
		learnt, err := s.conflict(r)
		if err != nil {
			return err
		}
		return s.apply(learnt)
	}
	s.narrow(open.pkg, open.pkg.domain.minus(open.in), r)
	return nil
}

func (s *solver) narrow(p *pkg, to set, cause *rule) {
	s.moves++
	s.steps = append(s.steps, step{p, p.domain, to, s.level, cause})
	p.domain = to
}

// propagate draws all that follows, rule by rule, until nothing does.
func (s *solver) propagate() error {
	for s.head < len(s.steps) {
		at := s.steps[s.head].pkg
		s.head++
		for _, r := range slices.Backward(at.rules) {
			if err := s.apply(r); err != nil {
				return err
			}
		}
	}
	return nil
}

// again applies every rule once more, since going back may have undone what followed from
// one, and tells whether anything moved.
func (s *solver) again() (bool, error) {
	before := s.moves
	for _, p := range s.order {
		for _, r := range p.rules {
			if err := s.apply(r); err != nil || s.moves != before {
				return true, err
			}
		}
	}
	return false, nil
}

// next is the package to decide: one that is needed and not decided. The order is that of
// installers: what is pinned, what has an upper bound, what was asked for first.
func (s *solver) next() *pkg {
	var best *pkg
	var bestKey [5]int
	left := s.open[:0]
	for _, p := range s.open {
		if p.listed = !p.decided; !p.listed {
			continue
		}
		left = append(left, p)
		if p.domain.has(0) {
			continue
		}
		key := [5]int{1, 1, len(s.asks), 1, 0}
		for _, a := range s.needsOf(p) {
			if a.need.Pinned {
				key[0] = 0
			}
			if a.need.Bounded {
				key[1] = 0
			}
			if a.need.Text != "" {
				key[3] = 0
			}
		}
		if p.asked >= 0 {
			key[2] = p.asked
		}
		if best == nil || slices.Compare(key[:], bestKey[:]) < 0 || slices.Compare(key[:], bestKey[:]) == 0 && p.name < best.name {
			best, bestKey = p, key
		}
	}
	s.open = left
	return best
}

// opens puts a package among those that are open.
func (s *solver) opens(p *pkg) {
	if !p.listed {
		p.listed = true
		s.open = append(s.open, p)
	}
}

// needsOf are the needs of a package that count now.
func (s *solver) needsOf(p *pkg) []activeNeed {
	var out []activeNeed
	for _, a := range s.active[p] {
		if a.of == nil || a.of.domain.one() == a.state {
			out = append(out, a)
		}
	}
	return out
}

// decide takes a version of a package, after what it needs was made into rules. When these
// already forbid it, nothing is taken yet.
func (s *solver) decide(p *pkg) error {
	state := s.choose(p)
	if r := s.early(p, state); r != nil {
		return s.learn(r)
	}
	if !p.expanded[state] {
		p.expanded[state] = true
		v := p.versions[state-1].Version
		needs, barred, err := s.problem.Needs(s.ctx, p.name, v)
		if err != nil {
			return err
		}
		only := newSet(len(p.versions) + 1)
		only.add(state)
		before := s.moves
		if barred != "" {
			return s.learn(&rule{terms: []term{{p, only}}, fact: &fact{of: p, version: state, barred: barred}})
		}
		var names []string
		for _, n := range needs {
			names = append(names, n.Package)
		}
		s.problem.Soon(s.ctx, names)
		for i := range needs {
			q, err := s.pkg(needs[i].Package)
			if err != nil {
				return err
			}
			s.active[q] = append(s.active[q], activeNeed{p, state, &needs[i]})
			f := &fact{of: p, version: state, need: &needs[i], of2: q}
			bad := q.all.minus(q.allowed(&needs[i]))
			r := &rule{terms: []term{{p, only}, {q, bad}}, fact: f}
			if q == p { // of itself: it holds or it does not
				r.terms = []term{{p, only.and(bad)}}
				if r.terms[0].in.empty() {
					continue
				}
			}
			if err := s.learn(r); err != nil {
				return err
			}
		}
		if s.moves != before {
			return nil // draw what follows first
		}
	}
	only := newSet(len(p.versions) + 1)
	only.add(state)
	s.level++
	p.decided = true
	s.narrow(p, only, nil)
	return nil
}

// early is the rule that a pre-release is not to be had by what needs the package now: none
// of it names one, and there is a release that meets all of it (PEP 440, "Handling of
// pre-releases"), even where that one is out of the question for other reasons.
func (s *solver) early(p *pkg, state int) *rule {
	if !p.versions[state-1].Pre {
		return nil
	}
	needs := s.needsOf(p)
	if slices.ContainsFunc(needs, func(a activeNeed) bool { return a.need.Pre }) {
		return nil
	}
	if !slices.ContainsFunc(p.versions, func(c Candidate) bool {
		return !c.Pre && c.Barred == "" && !slices.ContainsFunc(needs, func(a activeNeed) bool { return !a.need.Allows(c.Version) })
	}) {
		return nil
	}
	pre := newSet(len(p.versions) + 1)
	for i, c := range p.versions {
		if c.Pre {
			pre.add(i + 1)
		}
	}
	r := &rule{terms: []term{{p, pre}}, fact: &fact{of: p, version: state, barred: "is a pre-release, which nothing asks for"}}
	for _, a := range needs {
		if a.of == nil || slices.ContainsFunc(r.terms, func(t term) bool { return t.pkg == a.of }) {
			continue
		}
		only := newSet(len(a.of.versions) + 1)
		only.add(a.state)
		r.terms = append(r.terms, term{a.of, only})
	}
	return r
}

// choose is the first version that is possible, releases before pre-releases unless something
// that needs the package names one.
func (s *solver) choose(p *pkg) int {
	pre := slices.ContainsFunc(s.needsOf(p), func(a activeNeed) bool { return a.need.Pre })
	fallback := 0
	for i, c := range p.versions {
		if !p.domain.has(i + 1) {
			continue
		}
		if pre || !c.Pre {
			return i + 1
		}
		if fallback == 0 {
			fallback = i + 1
		}
	}
	return fallback
}

// conflict finds out why a rule is broken, goes back to where that was decided, and gives
// the rule that was learnt. When nothing was decided there is no solution.
func (s *solver) conflict(broken *rule) (*rule, error) {
	r := broken
	for {
		if len(r.terms) == 0 {
			return nil, s.explain(r)
		}
		// The last step without which the rule would not be broken yet.
		last, lastTerm := -1, term{}
		level := 0 // of the last of the others
		for _, t := range r.terms {
			at := s.since(t)
			if at > last {
				if last >= 0 {
					level = max(level, s.steps[last].level)
				}
				last, lastTerm = at, t
			} else if at >= 0 {
				level = max(level, s.steps[at].level)
			}
		}
		if last < 0 {
			return nil, s.explain(r)
		}
		satisfier := s.steps[last]
		if satisfier.cause != nil {
			// What the step itself says may need earlier ones to break the rule.
			says := satisfier.pkg.all
			if in, ok := satisfier.cause.of(satisfier.pkg); ok {
				says = satisfier.pkg.all.minus(in)
			}
			for i := range last {
				if st := s.steps[i]; st.pkg == satisfier.pkg && !says.within(lastTerm.in) && st.after.and(says).within(lastTerm.in) {
					level = max(level, st.level)
					break
				}
			}
		}
		if satisfier.cause == nil || level < satisfier.level {
			s.back(level)
			if r != broken {
				for _, t := range r.terms {
					t.pkg.rules = append(t.pkg.rules, r)
				}
			}
			return r, nil
		}
		r = resolved(r, satisfier.cause, satisfier.pkg)
	}
}

// since is the first step after which a term held; -1 when it always did.
func (s *solver) since(t term) int {
	if t.pkg.all.within(t.in) {
		return -1
	}
	for i, st := range s.steps {
		if st.pkg == t.pkg && st.after.within(t.in) {
			return i
		}
	}
	return -1
}

// resolved is the rule that follows from two, by what they say of one package.
func resolved(a, b *rule, at *pkg) *rule {
	out := &rule{a: a, b: b}
	for _, t := range a.terms {
		other, both := b.of(t.pkg)
		switch {
		case t.pkg == at:
			t.in = t.in.or(other)
		case both:
			t.in = t.in.and(other)
		}
		if !t.in.equal(t.pkg.all) {
			out.terms = append(out.terms, t)
		}
	}
	for _, t := range b.terms {
		if _, both := a.of(t.pkg); !both {
			out.terms = append(out.terms, t)
		}
	}
	return out
}

// back undoes all steps above a level.
func (s *solver) back(level int) {
	s.moves++
	for len(s.steps) > 0 && s.steps[len(s.steps)-1].level > level {
		st := s.steps[len(s.steps)-1]
		st.pkg.domain = st.before
		if st.cause == nil {
			st.pkg.decided = false
			s.opens(st.pkg)
		}
		s.steps = s.steps[:len(s.steps)-1]
	}
	s.level = level
	s.head = min(s.head, len(s.steps))
}
