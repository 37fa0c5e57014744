// Package fit makes this machine hold what a lock names: it fetches, unpacks and
// shows the parts of one platform. It changes nothing that is right already.
package fit

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/fetch"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/origins/source"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/stored/store"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

// Options of one fit.
type Options struct {
	Machine *source.Machine
	Client  *fetch.Client
	Check   []string // items to check to the byte and mend
	Bundled bool     // all archives are in the cache, so that no source is opened
}

// Result is what was done and what was left alone.
type Result struct {
	Added   []string // "go 1.24.6"
	Mended  []string
	Kept    int      // parts that were there
	Missing []string // host commands that this host does not have
	Lock    bool     // tree digests were written into the lock
}

// work is a part to add.
type work struct {
	part lock.PartOn
	mend bool
}

// Tools brings the parts, the frame and the links of a checkout in order.
func Tools(ctx context.Context, p *checkout.Project, l *lock.Lock, o Options) (*Result, error) {
	if err := p.Remember(); err != nil {
		return nil, err
	}
	// From the look at the store to the frame nobody may sweep what is found there.
	unlock, err := p.Store.Use(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	result := &Result{}
	todo, err := bring(ctx, p, l, o, result)
	if err != nil {
		return nil, err
	}
	for _, w := range todo {
		label := w.part.Label() + " " + w.part.Part.Version
		if w.mend {
			result.Mended = append(result.Mended, label)
		} else {
			result.Added = append(result.Added, label)
		}
	}
	if result.Lock, err = recordTrees(ctx, p, l); err != nil {
		return nil, err
	}
	f, err := p.Frame(l)
	if err == nil && len(f.Roots) > 0 {
		_, err = p.Places.KeepProgram()
	}
	if err != nil {
		return nil, err
	}
	if err := f.Make(); err != nil {
		return nil, err
	}
	if err := p.MakeLocal(); err != nil {
		return nil, err
	}
	local := checkout.Local(p.Declaration.Dir)
	if err := f.Point(local); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(local, "home", "bin"), 0o755); err != nil {
		return nil, err
	}
	if p.Declaration.Isolation == declare.Clean {
		result.Missing, err = environ.LinkHost(filepath.Join(local, "host"), p.HostCommands(), os.Getenv("PATH"))
	}
	return result, err
}

// bring puts what a lock names into the store and returns what it had to do.
func bring(ctx context.Context, p *checkout.Project, l *lock.Lock, o Options, result *Result) ([]work, error) {
	todo, err := plan(p, l, o.Check, result)
	if err != nil {
		return nil, err
	}
	// What is built comes second: the toolchain that builds it must be there. Roots
	// come one by one, since each unpacks on all cores.
	var unpacked, built []work
	for _, w := range todo {
		switch {
		case w.part.Format == lock.RootFormat:
			if err := addAll(ctx, p, l, o, []work{w}); err != nil {
				return nil, err
			}
		case w.part.Build == "":
			unpacked = append(unpacked, w)
		default:
			built = append(built, w)
		}
	}
	if err := addAll(ctx, p, l, o, unpacked); err != nil {
		return nil, err
	}
	return todo, addAll(ctx, p, l, o, built)
}

// Trial brings the parts of a lock that is on no disk into the store and compiles
// the environment that it gives. Nothing of the checkout is changed.
func Trial(ctx context.Context, p *checkout.Project, l *lock.Lock, o Options) (*checkout.Plan, error) {
	unlock, err := p.Store.Use(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if _, err := bring(ctx, p, l, o, &Result{}); err != nil {
		return nil, err
	}
	f, err := p.Frame(l)
	if err == nil && len(f.Roots) > 0 {
		_, err = p.Places.KeepProgram()
	}
	if err != nil {
		return nil, err
	}
	if err := f.Make(); err != nil {
		return nil, err
	}
	return p.Compile(ctx, l)
}

// plan decides which parts to add and which to mend.
func plan(p *checkout.Project, l *lock.Lock, check []string, result *Result) ([]work, error) {
	parts, err := p.PartsOn(l)
	if err != nil {
		return nil, err
	}
	var todo []work
	for _, part := range shared(parts, check) {
		part.Tree = p.Store.Tree(part)
		switch {
		case !p.Store.Has(part):
			todo = append(todo, work{part, false})
		case p.Store.Damaged(part):
			todo = append(todo, work{part, true})
		case slices.Contains(check, part.Item):
			found, err := p.Store.Check(part, true)
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
	return lock.Once(parts)
}

// addAll adds parts, several at once; the first error ends the others.
func addAll(ctx context.Context, p *checkout.Project, l *lock.Lock, o Options, todo []work) error {
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
			mu.Lock()
			s, err := open(p, l, o, sources, w.part)
			mu.Unlock()
			if err == nil && w.part.Format == lock.RootFormat {
				err = makeRoot(ctx, p, o, s, w)
			} else if err == nil && len(w.part.Packages) > 0 {
				err = buildTree(ctx, p, l, o, s, w)
			} else if err == nil && w.part.Build != "" && o.Bundled {
				err = unbundle(ctx, p, w)
			} else if err == nil && w.part.Build != "" {
				err = build(ctx, p, l, s, w)
			} else if err == nil {
				err = add(ctx, p, o, s, w)
			}
			if err != nil {
				cancel(err)
			}
		})
	}
	wait.Wait()
	return context.Cause(ctx)
}

// open opens the source of an item, once for all of its parts.
func open(p *checkout.Project, l *lock.Lock, o Options, opened map[string]source.Source, part lock.PartOn) (source.Source, error) {
	if o.Bundled {
		return fromBundle{}, nil
	}
	item := part.Item
	if _, ok := l.Items[item]; !ok && item != "" { // one of the person's own additions
		own, err := p.OverlayLock()
		if err != nil {
			return nil, err
		}
		l = own
	}
	name := l.Items[item].Source
	if part.Format == lock.RootFormat {
		name = part.Name
	}
	if s, ok := opened[name]; ok {
		return s, nil
	}
	declared, ok := p.Declaration.Source(name)
	if !ok {
		declared = source.Implied(l.Sources[name].Kind)
	}
	s, _, err := source.Open(declared, o.Machine, o.Client)
	if err == nil {
		opened[name] = s
	}
	return s, err
}

func add(ctx context.Context, p *checkout.Project, o Options, s source.Source, w work) error {
	addresses, err := s.Where(w.part.Part)
	if err != nil {
		return err
	}
	archive := ""
	get := func() (string, error) {
		err := error(fault.New(fault.Source, "%s is nowhere to be had", w.part.Label()))
		for _, from := range addresses {
			archive, err = o.Client.Archive(ctx, p.Places.Archives(), fetch.Download{
				Name: w.part.Label() + " " + w.part.Part.Version, From: from, Size: w.part.Size, Digest: w.part.Digest,
			})
			if err == nil || ctx.Err() != nil {
				break
			}
		}
		return archive, err
	}
	_, err = p.Store.Add(ctx, w.part, w.mend, get)
	if errors.Is(err, store.WrongBytes) && archive != "" {
		fetch.Forget(archive)
	}
	return err
}

// recordTrees writes tree digests that the locks did not have yet into them.
// Another process may do the same at this moment, so the files are read again
// under a lock. It tells whether the shared lock changed.
func recordTrees(ctx context.Context, p *checkout.Project, l *lock.Lock) (changed bool, err error) {
	unlock, err := disk.Lock(ctx, filepath.Join(checkout.Local(p.Declaration.Dir), "lock.lock"))
	if err != nil {
		return false, err
	}
	defer unlock()
	news := learn(p, l)
	if own, err := p.OverlayLock(); err == nil && own != nil && learn(p, own) {
		if err := own.WriteFile(lock.OverlayPath(p.Declaration.Dir)); err != nil {
			return false, err
		}
	}
	if !news { // the lock that was read knew all
		return false, nil
	}
	onDisk, err := lock.Read(p.Declaration.Dir)
	if err != nil || !learn(p, onDisk) {
		return false, err
	}
	return true, onDisk.Write(p.Declaration.Dir)
}

// learn fills in the tree digests that this machine knows and a lock does not.
func learn(p *checkout.Project, l *lock.Lock) (changed bool) {
	for _, x := range l.PartsOn(p.Platform) {
		if tree := p.Store.Tree(x); x.Tree == "" && tree != "" {
			x.Tree = tree
			l.SetTree(p.Platform, x, tree, moduleSums(p, x))
			changed = true
		}
	}
	return changed
}
