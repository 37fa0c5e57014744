package fit

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/system"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// makeRoot brings the packages of a root into the store and makes the root of them.
// A root that is to be mended first has every package checked to the byte.
func (b bringing) makeRoot(ctx context.Context, w work) error {
	if b.state.Platform != platform.Here() {
		return elsewhere("the root "+w.part.Name, b.state.Platform)
	}
	if err := sandbox.Available(); err != nil {
		return err
	}
	if w.part.Making != lock.Making {
		return fault.New(fault.ErrUsage, "the root %s is locked as another version of Trammel makes it", w.part.Name).
			Advise("Lock again, and commit: trammel lock\nThe packages stay as they are; what is made of them differs.")
	}
	debs := piecesOf(w.part)
	if len(debs) == 0 {
		return fault.New(fault.ErrUsage, "the lock has no packages for the root %s", w.part.Name).Advise("Lock again: trammel lock")
	}
	if err := b.addPackages(ctx, w, debs); err != nil {
		return err
	}
	_, err := b.state.Store.Merge(ctx, w.part, w.mend, func(_ context.Context, fresh string) (tree.Manifest, error) {
		pieces := make([]system.Piece, len(debs))
		var reading errgroup.Group
		reading.SetLimit(runtime.GOMAXPROCS(0))
		for i, d := range b.state.Store.Complete(slices.Clone(debs)) {
			reading.Go(func() error {
				m, err := b.state.Store.Manifest(d)
				if err != nil {
					return fmt.Errorf("the list of files of %s: %w", d.Label(), err)
				}
				pieces[i] = system.Piece{Piece: merge.Piece{Name: d.Name, Version: d.Part.Version, Dir: b.state.Store.Path(d), Manifest: m}}
				return nil
			})
		}
		if err := reading.Wait(); err != nil {
			return nil, err
		}
		return system.Make(ctx, fresh, pieces, w.part.Files)
	})
	var t *system.Tampered
	if errors.As(err, &t) { // the files are the store's, too: those packages are had anew
		for _, d := range b.state.Store.Complete(slices.Clone(debs)) {
			if slices.Contains(t.Packages, d.Name) {
				b.state.Store.MarkDamaged(d)
			}
		}
		return fault.New(fault.ErrSource, "the root %s is not to be trusted: %v", w.part.Name, t).
			Advise("Nothing of it was kept, and what was changed (%s) is fetched anew where it is wanted.\nA package of the source %q does that. Find out which, and take it out.", strings.Join(t.Packages, ", "), w.part.Name)
	}
	return err
}

// piecesOf are the packages that a root is made of.
func piecesOf(root lock.PartOn) (debs []lock.PartOn) {
	for _, q := range (lock.Root{Packages: root.Packages}).List() {
		debs = append(debs, q.Part(root.Docs))
	}
	return debs
}

// ErrElsewhere is a part that only a machine of its own platform can make.
var ErrElsewhere = errors.New("made on a machine of its platform")

// elsewhere explains it.
func elsewhere(what string, on platform.Platform) error {
	e := fault.New(fault.ErrFailed, "%s is made with programs of %s, which do not run here", what, on)
	e.Cause = ErrElsewhere
	return e.Advise("On such a machine: trammel stock, which puts it into the team's depot for all.\nFrom there it comes here, too.")
}

// damaged looks at a piece that a tree is to be made of: whether it is there and is not as it should be. It is
// looked at to the byte where that tree is to be mended, or it was found damaged before.
func (b bringing) damaged(w work, piece lock.PartOn) (bool, error) {
	if !b.state.Store.Has(piece) {
		return false, nil
	}
	found, err := b.state.Store.Check(piece, w.mend || b.state.Store.Damaged(piece))
	return err == nil && !found.OK(), err
}

// addPackages fetches and unpacks packages, the largest first, so that the last
// core to finish has little left. They count as one task.
func (b bringing) addPackages(ctx context.Context, w work, debs []lock.PartOn) (err error) {
	var todo []work
	var bytes, have int64
	// What a root is made of is looked at before it becomes a part of it.
	pieces := b.state.Store.Complete(slices.Clone(debs))
	wants := make([]*work, len(pieces))
	var looking errgroup.Group
	looking.SetLimit(runtime.GOMAXPROCS(0))
	for i, d := range pieces {
		looking.Go(func() error {
			mend, err := b.damaged(w, d)
			if err == nil && (mend || !b.state.Store.Has(d)) {
				wants[i] = &work{d, mend}
			}
			return err
		})
	}
	if err := looking.Wait(); err != nil {
		return err
	}
	for _, x := range wants {
		if x != nil {
			todo = append(todo, *x)
			bytes += x.part.Size
		}
	}
	if len(todo) == 0 {
		return nil
	}
	slices.SortStableFunc(todo, func(a, b work) int { return int(b.part.Size - a.part.Size) })
	task := fmt.Sprintf("fetch and unpack %d packages of %s", len(todo), w.part.Name)
	done := event.Task(ctx, task)
	defer func() { done("", err) }()
	quiet, cancel := context.WithCancelCause(event.With(ctx, func(event.Event) {}))
	defer cancel(nil)
	var wait sync.WaitGroup
	// Unpacking keeps a core busy, and the network is waited for meanwhile.
	slots := make(chan struct{}, runtime.GOMAXPROCS(0)+2)
	for _, x := range todo {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if quiet.Err() != nil {
				return
			}
			if err := b.add(quiet, x); err != nil {
				if fetch.NotFound(err) {
					err = gone(w.part.Name, x.part, err)
				}
				cancel(err)
				return
			}
			event.Send(ctx, event.Event{Phase: event.Progress, Task: task, Unit: event.Bytes, Current: atomic.AddInt64(&have, x.part.Size), Total: bytes})
		})
	}
	wait.Wait()
	return context.Cause(quiet)
}

// gone explains a locked package that its archive does not have any more.
func gone(name string, p lock.PartOn, cause error) error {
	e := fault.New(fault.ErrSource, "the source %q does not have %s %s any more: archives drop a package when they get a newer one", name, p.Name, p.Part.Version)
	e.Cause = cause
	return e.Advise("Take what it has now: trammel lock --renew (and test, and commit the lock),\nor name as snapshots under [source.%s] an archive that keeps every state.", name)
}
