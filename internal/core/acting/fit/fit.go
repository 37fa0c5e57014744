// Package fit makes this machine hold what a lock names: it fetches, unpacks and
// shows the parts of one platform. It changes nothing that is right already.
package fit

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Options of one fit.
type Options struct {
	Machine *source.Machine
	Client  *fetch.Client
	Check   []string // items to check to the byte and mend
	Bundled bool     // all archives are in the cache, so that no source is opened
	Depot   *Shelf   // asked before the sources; nil: there is none
}

// Result is what was done and what was left alone.
type Result struct {
	Added   []string // "go 1.24.6"
	Mended  []string
	Kept    int      // parts that were there
	Missing []string // host commands that this host does not have
	Lock    bool     // tree digests were written into the lock
	Lacks   bool     // the lock lacks some, and nothing was written since this is a build machine
}

// work is a part to add.
type work struct {
	part lock.PartOn
	mend bool
}

// Tools brings the parts of a checkout onto this machine, and makes what follows from them
// (Apply). It returns the plan, and consent for the State that knows all of it.
func Tools(ctx context.Context, g approval.Given, o Options) (approval.Given, *environ.Plan, *Result, error) {
	s := g.State()
	if err := s.Usable(); err != nil {
		return g, nil, nil, err
	}
	s, err := s.MakeLocal()
	if err != nil {
		return g, nil, nil, err
	}
	s.SayAside(ctx)
	if err := s.Remember(); err != nil {
		return g, nil, nil, err
	}
	// From the look at the store to the frame nobody may sweep what is found there.
	unlock, err := s.Store.ReadLock(ctx)
	if err != nil {
		return g, nil, nil, err
	}
	defer unlock()
	result := &Result{}
	todo, err := bring(ctx, s, o, result)
	if err != nil {
		return g, nil, nil, err
	}
	for _, w := range todo {
		label := w.part.Label() + " " + w.part.Part.Version
		if w.mend {
			result.Mended = append(result.Mended, label)
		} else {
			result.Added = append(result.Added, label)
		}
	}
	s = s.Refreshed(nil)
	// What a build machine learns belongs into no commit of its own.
	if s.Host.Getenv("CI") != "" {
		result.Lacks = knowsMore(s, s.Lock)
	} else if g, result.Lock, err = recordTrees(ctx, g.For(s)); err != nil {
		return g, nil, nil, err
	} else {
		s = g.State()
	}
	g, p, err := Apply(ctx, g.For(s))
	if err == nil && s.Declaration.Isolation == declare.Clean {
		result.Missing = p.Links.Missing
	}
	return g, p, result, err
}

// bring puts what a lock names into the store and returns what it had to do.
func bring(ctx context.Context, s *checkout.State, o Options, result *Result) ([]work, error) {
	todo, err := plan(s, o.Check, result)
	if err != nil {
		return nil, err
	}
	if !o.Bundled && len(todo) > 0 {
		expect(ctx, s, o, todo).tell(ctx, o.Depot.answers())
	}
	// Sets come last: the toolchains that they are for are there by then. What is built comes second: the toolchain that builds it must be there. Roots
	// come one by one, since each unpacks on all cores.
	var unpacked, built, sets []work
	for _, w := range todo {
		switch {
		case w.part.Format == lock.RootFormat:
			if err := addAll(ctx, s, o, []work{w}); err != nil {
				return nil, err
			}
		case w.part.Format == lock.SetFormat:
			sets = append(sets, w)
		case w.part.Build == "":
			unpacked = append(unpacked, w)
		default:
			built = append(built, w)
		}
	}
	if err := addAll(ctx, s, o, unpacked); err != nil {
		return nil, err
	}
	// Which knows the trees of the builders.
	if err := addAll(ctx, s.Refreshed(nil), o, built); err != nil {
		return nil, err
	}
	return todo, addAll(ctx, s.Refreshed(nil), o, sets)
}

// Trial brings the parts of a State whose lock is on no disk into the store and makes the
// frame that they give. Nothing of the checkout is changed, and nothing is recorded.
func Trial(ctx context.Context, g approval.Given, o Options) (*environ.Compiled, error) {
	s := g.State()
	unlock, err := s.Store.ReadLock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if _, err := bring(ctx, s, o, &Result{}); err != nil {
		return nil, err
	}
	s = s.Refreshed(nil)
	p, err := environ.Decide(s)
	if err != nil {
		return nil, err
	}
	if err := makeFrame(p); err != nil {
		return nil, err
	}
	return p.Compile(g.For(s))
}

// Store brings the parts of a State into the store, and changes nothing of the checkout. It
// returns the State that knows their trees.
func Store(ctx context.Context, g approval.Given, o Options) (*checkout.State, error) {
	s := g.State()
	unlock, err := s.Store.ReadLock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if _, err := bring(ctx, s, o, &Result{}); err != nil {
		return nil, err
	}
	return s.Refreshed(nil), nil
}

// plan decides which parts to add and which to mend. A part whose commands are not all
// there is mended without anybody having looked into it.
func plan(s *checkout.State, check []string, result *Result) ([]work, error) {
	var todo []work
	for _, part := range shared(s.AllParts(), check) {
		switch {
		case !s.Store.Has(part):
			todo = append(todo, work{part, false})
		case s.Store.Damaged(part) || !s.Store.Commands(part):
			todo = append(todo, work{part, true})
		case slices.Contains(check, part.Item):
			found, err := s.Store.Check(part, true)
			if err != nil {
				return nil, err
			}
			if !found.OK() {
				todo = append(todo, work{part, true})
			} else {
				result.Kept++
			}
		default:
			result.Kept++
		}
	}
	if len(todo) > 0 {
		return todo, nil
	}
	// Commands that a root has without a card's naming them are known by its packages.
	f, err := frame.Of(nil, s.Places.Frames(), s.Store, s.AllParts())
	if err != nil {
		return nil, nil // said where the frame is made
	}
	for _, c := range f.Commands {
		if _, err := os.Lstat(c.File); err == nil {
			continue
		}
		for _, part := range shared(s.AllParts(), []string{c.Item}) {
			if part.Item == c.Item && !slices.ContainsFunc(todo, func(w work) bool { return w.part.Digest == part.Digest && w.part.Name == part.Name }) {
				todo = append(todo, work{part, true})
				result.Kept--
			}
		}
	}
	return todo, nil
}

// shared leaves one of the parts that several items have in common, by preference
// that of an item to check.
func shared(parts []lock.PartOn, check []string) []lock.PartOn {
	slices.SortStableFunc(parts, func(a, b lock.PartOn) int {
		first, second := slices.Contains(check, a.Item), slices.Contains(check, b.Item)
		switch {
		case first && !second:
			return -1
		case second && !first:
			return 1
		}
		return 0
	})
	return lock.Distinct(parts)
}

// addAll adds parts, several at once; the first error ends the others.
func addAll(ctx context.Context, s *checkout.State, o Options, todo []work) error {
	const atOnce = 4 // downloads wait for the network more than for a core
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	slots := make(chan struct{}, atOnce)
	var wait sync.WaitGroup
	var mu sync.Mutex
	sources := map[string]source.Source{}
	for _, w := range todo {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if ctx.Err() != nil {
				return
			}
			here, err := copied(ctx, s, o, w)
			var from source.Source
			if err == nil && !here {
				mu.Lock()
				from, err = open(s, o, sources, w.part)
				mu.Unlock()
			}
			if err == nil && !here {
				err = bringing{s, o.Client, from}.bring(ctx, w, o.Bundled)
			}
			if err != nil {
				cancel(&event.Halted{Cause: event.Cause(err)}) // the others end, and have not failed
			}
		})
	}
	wait.Wait()
	return event.Cause(context.Cause(ctx))
}

// bringing brings parts of a checkout from one source into the store.
type bringing struct {
	state  *checkout.State
	client *fetch.Client
	from   source.Source
}

// bring brings one part, in the way of its kind; bundled ones lie in the cache as they are.
func (b bringing) bring(ctx context.Context, w work, bundled bool) error {
	switch {
	case w.part.Format == lock.RootFormat:
		return b.makeRoot(ctx, w)
	case w.part.Format == lock.SetFormat:
		return b.makeSet(ctx, w)
	case len(w.part.Packages) > 0:
		return b.buildTree(ctx, w)
	case w.part.Build != "" && bundled:
		return unbundle(ctx, b.state, w)
	case w.part.Build != "":
		return build(ctx, b.state, b.from, w)
	}
	return b.add(ctx, w)
}

// open opens the source of an item, once for all of its parts.
func open(s *checkout.State, o Options, opened map[string]source.Source, part lock.PartOn) (source.Source, error) {
	if o.Bundled {
		return fromBundle{}, nil
	}
	item, l := part.Item, s.Lock
	if _, ok := l.Items[item]; !ok && item != "" && part.Format != lock.SetFormat && s.OverlayLock != nil { // one of the person's own additions
		l = s.OverlayLock
	}
	name := l.Items[item].Source
	if part.Format == lock.RootFormat {
		name = part.Name
	} else if part.Format == lock.SetFormat {
		name = l.Libraries[item].Source
	}
	if from, ok := opened[name]; ok {
		return from, nil
	}
	locked := l.Sources[name]
	declared, ok := s.Declaration.Source(cmp.Or(locked.Of, name))
	if !ok {
		declared = source.Implied(locked.Kind)
	}
	declared.Debian.State, _ = time.Parse(time.RFC3339, locked.State)
	if declared.Debian.State.IsZero() && declared.Debian.Snapshots != "" {
		declared.Debian.Since, _ = time.Parse(time.RFC3339, locked.AsOf)
	}
	from, _, err := source.Open(declared, o.Machine, o.Client)
	if err == nil {
		opened[name] = from
	}
	return from, err
}

func (b bringing) add(ctx context.Context, w work) error {
	addresses, err := b.from.Where(w.part.Part)
	if err != nil {
		return err
	}
	archive := ""
	get := func() (string, error) {
		err := error(fault.New(fault.ErrSource, "%s is nowhere to be had", w.part.Label()))
		for _, address := range addresses {
			archive, err = b.client.Archive(ctx, b.state.Places.Archives(), fetch.Download{
				Name: w.part.Label() + " " + w.part.Part.Version, From: address, Size: w.part.Size, Digest: w.part.Digest,
			})
			if err == nil || ctx.Err() != nil {
				break
			}
		}
		return archive, err
	}
	_, err = b.state.Store.Add(ctx, w.part, w.mend, get)
	if errors.Is(err, store.ErrWrongBytes) && archive != "" {
		fetch.Forget(archive)
	}
	return err
}

// recordTrees writes tree digests that the locks did not have yet into them. It tells
// whether the shared lock changed.
func recordTrees(ctx context.Context, g approval.Given) (_ approval.Given, changed bool, err error) {
	s := g.State()
	unlock, err := disk.Lock(ctx, filepath.Join(checkout.Local(s.Dir()), "lock.lock"))
	if err != nil {
		return g, false, err
	}
	defer unlock()
	own, shared := s.OverlayLock, s.Lock
	// Another process may have done the same since: the files are read again under the lock.
	if own != nil && knowsMore(s, own) {
		if own, _, err = lock.Change(lock.OverlayPath(s.Dir()), func(l *lock.Lock) bool { return learn(s, l) }); err != nil {
			return g, false, err
		}
	}
	if knowsMore(s, shared) {
		if shared, changed, err = lock.Change(lock.Path(s.Dir()), func(l *lock.Lock) bool { return learn(s, l) }); err != nil {
			return g, false, err
		}
	}
	if own == s.OverlayLock && shared == s.Lock { // the locks that were read knew all
		return g, false, nil
	}
	g, err = g.Learnt(s.WithTrees(shared, own))
	return g, changed, err
}

// knowsMore tells whether this machine knows tree digests that a lock does not have.
func knowsMore(s *checkout.State, l *lock.Lock) bool {
	return slices.ContainsFunc(l.PartsOn(s.Platform), func(x lock.PartOn) bool { return x.Tree == "" && s.Store.Tree(x) != "" })
}

// learn fills in the tree digests that this machine knows and a lock does not.
func learn(s *checkout.State, l *lock.Lock) (changed bool) {
	for _, x := range l.PartsOn(s.Platform) {
		if tree := s.Store.Tree(x); x.Tree == "" && tree != "" {
			x.Tree = tree
			sums := moduleSums(s, x)
			if x.Format == lock.SetFormat {
				sums = sumsOf(s, x)
			}
			l.SetTree(s.Platform, x, tree, sums)
			changed = true
		}
	}
	return changed
}
