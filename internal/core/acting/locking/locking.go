// Package locking makes a lock of what a declaration asks for: it takes over what a lock that is
// there says (of one in conflict, what both sides have), resolves the rest, and writes both
// the team's lock and that of a person's own additions.
package locking

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/origins/resolve"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/history"
	"app.example/trammel/internal/core/written/lock"
)

// Order says how to lock.
type Order struct {
	Machine *source.Machine
	Client  *fetch.Client

	Renew     func(tool string) bool // tools that move to the newest that is allowed
	Libraries []string               // "SET/PACKAGE" to renew alone
	AsOf      time.Time              // what was published later does not count; zero: all counts
	Older     bool                   // an archive's release that is older than the locked one is taken

	First  func() error // to do when everything resolved, before the lock is written; nil: nothing
	NoLock bool         // resolve and do First, and write no lock
}

// Made is a lock that was made.
type Made struct {
	Lock    *lock.Lock
	Changes []string // one a line: "go 1.24.5 → 1.24.6", the team's first
}

// Lock resolves what a checkout declares and writes it down. Events of ctx tell of the work. Where
// two lock at once, one waits.
func Lock(ctx context.Context, p *checkout.State, o Order) (*Made, error) {
	p, err := p.MakeLocal()
	if err != nil {
		return nil, err
	}
	if err := render.Mixed(p.Declaration); err != nil {
		return nil, err
	}
	p.SayAside(ctx)
	p.Tidy()
	unlock, err := disk.Lock(ctx, filepath.Join(checkout.Local(p.Dir()), "lock.lock"))
	if err != nil {
		return nil, err
	}
	defer unlock()
	for range mostTurns {
		made, err := lockOnce(ctx, p, o)
		if !errors.Is(err, errOther) {
			return made, err
		}
		event.Say(ctx, "The lock was changed meanwhile, by a pull or another branch. Starting over with what it says now.")
		o.First = nil // which is done
	}
	return nil, fault.New(fault.ErrFailed, "the lock is being changed all the time, and nothing was written to it").Advise("Wait until that is over, then run the same command once more.")
}

// mostTurns is how often a lock is begun anew because somebody else changed it meanwhile.
const mostTurns = 8

// errOther is a lock that is not the one that was read.
var errOther = errors.New("the lock was changed meanwhile")

func lockOnce(ctx context.Context, p *checkout.State, o Order) (*Made, error) {
	was, unread := lock.ReadBytes(p.Dir(), lock.FileName)
	old := earlier(ctx, p)
	fresh, err := resolved(ctx, p, p.Written, old, o)
	if err != nil {
		return nil, err
	}
	if o.First != nil {
		if err := o.First(); err != nil {
			return nil, err
		}
	}
	if o.NoLock {
		return &Made{Lock: fresh}, nil
	}
	// What a card has no place for is found before anything is written.
	if _, err := p.WithLock(p.Written, fresh); err != nil {
		return nil, err
	}
	takeEvidence(p, fresh)
	changes := lock.Changes(old, fresh)
	if old != nil && len(changes) > 0 {
		if err := old.WriteFile(checkout.EarlierLock(p.Dir())); err != nil {
			return nil, err
		}
	}
	if len(changes) > 0 || old == nil {
		if err := PutAside(p, old); err != nil {
			return nil, err
		}
	}
	switch now := fresh.Bytes(); {
	case unread != nil && !errors.Is(unread, lock.ErrNone): // no lock, but something else of that name
		if err := fresh.Write(p.Dir()); err != nil {
			return nil, err
		}
	case unread != nil || string(was) != string(now):
		switch err := disk.Edit(lock.Path(p.Dir()), was, now, 0o644); {
		case errors.Is(err, disk.ErrChanged):
			return nil, errOther
		case err != nil:
			return nil, err
		}
	}
	own, err := additions(ctx, p, o)
	if err != nil {
		return nil, err
	}
	return &Made{fresh, append(changes, own...)}, nil
}

// earlier is the lock that is there, read under the lock of the folder, since another process may
// have written it; nil where there is none to go by.
func earlier(ctx context.Context, p *checkout.State) *lock.Lock {
	old, err := lock.Read(p.Dir())
	if err == nil || errors.Is(err, lock.ErrNone) {
		return old
	}
	if raw, unread := lock.ReadBytes(p.Dir(), lock.FileName); unread == nil {
		if ours, theirs, ok := lock.Sides(raw); ok {
			agreed, apart := lock.Agreed(ours, theirs)
			text := "The lock is in conflict; what both sides have is taken over"
			if len(apart) > 0 {
				text += ", and resolved anew: " + strings.Join(apart, ", ")
			} else {
				text += "."
			}
			event.Say(ctx, text)
			return agreed
		}
	}
	// What cannot be read cannot be kept: everything is resolved anew.
	event.Say(ctx, "The lock that is there is not used: "+fault.FirstLine(err))
	return nil
}

// resolved is the lock of a declaration, within what the policies allow.
func resolved(ctx context.Context, p *checkout.State, d *declare.Declaration, old *lock.Lock, o Order) (*lock.Lock, error) {
	if err := policy.Err(p.Policies.Declared(d)); err != nil {
		return nil, err
	}
	fresh, err := resolve.Resolve(ctx, d, o.Machine, o.Client, resolve.Options{
		Old: old, Now: time.Now(), Renew: o.Renew, RenewLibraries: o.Libraries, AsOf: o.AsOf, Older: o.Older,
	})
	if err != nil {
		return nil, err
	}
	return fresh, policy.Err(p.Policies.Locked(fresh))
}

// additions locks a person's own additions, in a lock of their own.
func additions(ctx context.Context, p *checkout.State, o Order) ([]string, error) {
	if p.Overlay == nil {
		return nil, nil
	}
	path := lock.OverlayPath(p.Dir())
	old, err := lock.ReadFile(path)
	if err != nil {
		old = nil
	}
	o.Libraries = nil
	fresh, err := resolved(ctx, p, p.Overlay, old, o)
	if err != nil {
		return nil, err
	}
	changes := lock.Changes(old, fresh)
	if old == nil {
		changes = slices.DeleteFunc(changes, func(x string) bool { return strings.HasPrefix(x, "+ platform") })
	}
	for i, x := range changes {
		changes[i] = x + "   (yours)"
	}
	return changes, fresh.WriteFile(path)
}

// takeEvidence takes what steps said when they were last done here over into a lock.
func takeEvidence(p *checkout.State, l *lock.Lock) {
	marks := step.MarksIn(p.Done(), p.Bay.Records)
	for _, x := range p.Declaration.Steps {
		if _, had := l.Evidence[x.Name]; !had {
			continue // the first fit brings it
		}
		if m, ok := marks.Read(x); ok && !x.Evidence.Empty() {
			l.Evidence[x.Name] = m.Evidence
		}
	}
}

// Kept is where locks are put aside in a checkout without version control.
func Kept(dir string) string { return filepath.Join(checkout.Local(dir), "locks") }

// Declared is a copy of the declaration that the present lock was made of.
func Declared(dir string) string { return filepath.Join(checkout.Local(dir), "locked.toml") }

// PutAside keeps the lock that is about to be replaced, and the new lock's declaration.
func PutAside(p *checkout.State, old *lock.Lock) error {
	dir := p.Dir()
	if old != nil {
		before, _ := disk.ReadWithin(dir, filepath.Join(checkout.LocalName, "locked.toml"), disk.MostText)
		if err := history.PutAside(Kept(dir), old, before, time.Now()); err != nil {
			return err
		}
	}
	text, err := disk.ReadWithin(p.Dir(), filepath.Base(p.Written.File), disk.MostText)
	if err != nil {
		return err
	}
	return disk.WriteCache(Declared(dir), text)
}
