package fit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/stored/depot"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// Shelf is a depot that is asked before the sources. What it does not have, or has wrong, comes
// from those.
type Shelf struct {
	*depot.Depot

	mu   sync.Mutex
	away bool // it did not answer, and is not asked again
}

// failed tells of a depot that was no help, and whether to ask it on.
func (d *Shelf) failed(ctx context.Context, what string, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.away || ctx.Err() != nil {
		return
	}
	if errors.Is(err, store.ErrWrongBytes) || errors.Is(err, depot.ErrWrong) {
		event.Say(ctx, fmt.Sprintf("The depot %s has something else as %s; it comes from its source.", d.Address, what))
		return
	}
	d.away = true
	event.Say(ctx, fmt.Sprintf("The depot %s is no help (%s); what is missing comes from its sources.", d.Address, oneLine(err)))
}

func oneLine(err error) string {
	text, _, _ := strings.Cut(err.Error(), "\n")
	return text
}

func (d *Shelf) answers() bool {
	if d == nil || d.Depot == nil {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return !d.away
}

// Holds tells whether the depot has a tree.
func (d *Shelf) Holds(ctx context.Context, digest tree.Digest) bool {
	if !d.answers() {
		return false
	}
	has, err := d.Has(ctx, digest)
	return err == nil && has
}

// copied brings a part from the depot. It tells whether the part is here now; if not, and there
// is no error, it comes from its source.
func copied(ctx context.Context, s *checkout.State, o Options, w work) (bool, error) {
	if !o.Depot.answers() || w.part.Tree == "" || w.part.Format == lock.RootFormat && w.part.Making != lock.Making {
		return false, nil
	}
	if near(s, w) {
		return false, nil
	}
	label := w.part.Label() + " " + w.part.Part.Version
	system := w.part.Format == lock.RootFormat
	var work errgroup.Group
	work.Go(func() error {
		_, err := s.Store.Copy(ctx, w.part, w.mend, func(ctx context.Context, fresh string) (tree.Manifest, error) {
			return o.Depot.Get(ctx, w.part.Tree, system, fresh)
		})
		return err
	})
	if system {
		work.Go(func() error { return copyNamed(ctx, s, o, w.part) })
	}
	err := work.Wait()
	switch {
	case err == nil:
		return true, nil
	case ctx.Err() != nil:
		return false, context.Cause(ctx)
	case !errors.Is(err, depot.ErrNone):
		o.Depot.failed(ctx, label, err)
	}
	return false, nil
}

// near tells whether a root can be made of packages that are here, which takes links alone.
func near(s *checkout.State, w work) bool {
	if w.part.Format != lock.RootFormat || w.mend || s.Platform != platform.Here() || sandbox.Available() != nil {
		return false
	}
	return !slices.ContainsFunc(s.Store.Complete(piecesOf(w.part)), func(d lock.PartOn) bool { return !s.Store.Has(d) || s.Store.Damaged(d) })
}

// named are the packages of a root whose lists of files say which commands an item has.
func named(p lock.PartOn) []lock.PartOn {
	if len(p.Bin) > 0 || len(p.Commands) > 0 {
		return nil
	}
	var out []lock.PartOn
	for _, line := range p.Packages {
		q, err := lock.ParsePackage(line)
		if err != nil {
			continue
		}
		for _, want := range p.Wants {
			if want == q.Name {
				out = append(out, q.Part(p.Docs))
			}
		}
	}
	return out
}

// copyNamed brings those packages, whose archives a depot has by the digests that are locked.
func copyNamed(ctx context.Context, s *checkout.State, o Options, root lock.PartOn) error {
	for _, item := range s.AllParts() {
		if item.Format != lock.RootFormat || item.Name != root.Name {
			continue
		}
		for _, d := range s.Store.Complete(named(item)) {
			if d.Tree != "" && s.Store.Has(d) {
				continue
			}
			sum, ok := strings.CutPrefix(string(d.Digest), "sha256:")
			if !ok {
				return depot.ErrNone
			}
			archive, err := o.Depot.Archive(ctx, sum)
			if err != nil {
				return err
			}
			_, err = s.Store.Add(ctx, d, false, func() (string, error) { return archive, nil })
			os.Remove(archive)
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Stocked is what came of stocking a depot.
type Stocked struct {
	Added []string // "go 1.24.6"
	Kept  int      // that were there
	Lock  bool     // tree digests were written into the lock
}

// Stock brings everything that a lock names into a depot, for the given State's platform. What
// is not in the store yet is fetched first; the lock learns the trees.
func Stock(ctx context.Context, g approval.Given, o Options, to *depot.Depot, again bool) (*Stocked, error) {
	s, err := Store(ctx, g, o)
	if err != nil {
		return nil, err
	}
	out := &Stocked{}
	if _, out.Lock, err = recordTrees(ctx, g.For(s)); err != nil {
		return nil, err
	}
	unlock, err := s.Store.ReadLock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	parts := append(lock.Distinct(s.Store.Complete(s.Lock.PartsOn(s.Platform))), s.Store.Complete(s.Lock.SetsOn(s.Platform))...)
	seen := map[tree.Digest]bool{}
	for _, p := range parts {
		if p.Tree == "" || seen[p.Tree] {
			continue
		}
		seen[p.Tree] = true
		label := p.Label() + " " + p.Part.Version
		had, err := to.Has(ctx, p.Tree)
		if err != nil {
			return nil, err
		}
		if had && !again {
			out.Kept++
			continue
		}
		done := event.Task(ctx, "stock "+label)
		err = put(ctx, s, o, to, p, label)
		done("", err)
		if err != nil {
			return nil, err
		}
		out.Added = append(out.Added, label)
	}
	return out, nil
}

func put(ctx context.Context, s *checkout.State, o Options, to *depot.Depot, p lock.PartOn, label string) error {
	found, err := s.Store.Check(p, true) // nobody is given what is not what is locked
	if err != nil {
		return err
	}
	if !found.OK() {
		return fmt.Errorf("%s is damaged in the store here: trammel fit mends it", label)
	}
	m, err := s.Store.Manifest(p)
	if err != nil {
		return err
	}
	var archives []string
	if p.Format == lock.RootFormat {
		sources := sourcesOf{}
		for _, item := range s.Lock.PartsOn(s.Platform) {
			if item.Format != lock.RootFormat || item.Name != p.Name {
				continue
			}
			for _, d := range named(item) {
				archive, err := sources.archive(ctx, s, o, item, d)
				if err != nil {
					return err
				}
				archives = append(archives, archive)
			}
		}
	}
	return to.Put(ctx, p.Tree, depot.Content{Title: label, Dir: s.Store.Path(p), Manifest: m, Archives: archives}, time.Now())
}

// Complete brings the parts of a State's platform into the store, and writes the trees that
// the lock lacks into it, so that nobody's first fit has anything to add. It tells whether it
// did.
func Complete(ctx context.Context, g approval.Given, o Options) (changed bool, err error) {
	s, err := Store(ctx, g, o)
	if err != nil {
		return false, err
	}
	_, changed, err = recordTrees(ctx, g.For(s))
	return changed, err
}

// sourcesOf opens each source once.
type sourcesOf map[string]source.Source

// archive is a package's archive as its source has it, in the cache.
func (opened sourcesOf) archive(ctx context.Context, s *checkout.State, o Options, root, d lock.PartOn) (string, error) {
	from, err := open(s, o, opened, root)
	if err != nil {
		return "", err
	}
	addresses, err := from.Where(d.Part)
	if err != nil {
		return "", err
	}
	for _, address := range addresses {
		var archive string
		archive, err = o.Client.Archive(ctx, s.Places.Archives(), fetch.Download{Name: d.Label() + " " + d.Part.Version, From: address, Size: d.Size, Digest: d.Digest})
		if err == nil || ctx.Err() != nil {
			return archive, err
		}
	}
	return "", err
}
