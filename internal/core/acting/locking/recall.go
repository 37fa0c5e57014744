package locking

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/history"
	"app.example/trammel/internal/core/written/lock"
)

// Recall says which earlier lock to bring back into a checkout.
type Recall struct {
	File        string // of the declaration that is there
	Revision    history.Revision
	Declaration bool // brought back too
}

// Recalled is what a recall did.
type Recalled struct {
	Changes []string // one a line, as in Made
	Kept    string   // the id of what was in force, where it was not committed; "" where it was
}

// Back puts an earlier lock into the work tree. What was in force is put aside, also when the
// declaration alone is about to change.
func Back(ctx context.Context, places place.Places, h *history.History, o Recall) (out Recalled, err error) {
	r, dir := o.Revision, filepath.Dir(o.File)
	if o.Declaration && r.Declaration == nil {
		return out, fault.New(fault.ErrUsage, "the declaration of %s was not kept", r.Short()).Advise("Bring back the lock alone: trammel recall %s", shell.Typed(r.Short()))
	}
	bare, err := checkout.Bare(places, dir)
	if err != nil {
		return out, err
	}
	bare.Tidy()
	unlock, err := disk.Lock(ctx, filepath.Join(checkout.Local(dir), "lock.lock"))
	if err != nil {
		return out, err
	}
	defer unlock()
	now, err := lock.Read(dir)
	if err != nil {
		now = nil
	}
	own, _ := disk.ReadWithin(dir, filepath.Base(o.File), disk.MostText)
	text, _ := lock.ReadBytes(dir, lock.FileName)
	if now == nil && text != nil && !h.Same(lock.FileName, text) && o.Declaration {
		return out, fault.New(fault.ErrUsage, "%s cannot be read and is not committed; it would be lost", lock.FileName).Advise("Move it away, or: git checkout %s", shell.Typed(lock.FileName))
	}
	out.Changes = lock.Changes(now, r.Lock)
	aside := now != nil && (now.ID() != r.Lock.ID() || o.Declaration && string(own) != string(r.Declaration))
	if aside {
		if err := history.PutAside(Kept(dir), now, own, time.Now()); err != nil {
			return out, err
		}
		if err := now.WriteFile(checkout.EarlierLock(dir)); err != nil {
			return out, err
		}
	}
	if o.Declaration {
		if err := disk.WriteCache(Declared(dir), r.Declaration); err != nil {
			return out, err
		}
		err = checkout.Replace(places, checkout.Pending{File: o.File, Declaration: r.Declaration, Lock: r.Lock.Bytes(), Was: own})
	} else {
		err = r.Lock.Write(dir)
	}
	if errors.Is(err, disk.ErrChanged) {
		return out, fault.New(fault.ErrFailed, "%s was saved by somebody else meanwhile, and was left as it is", filepath.Base(o.File)).Advise("See what is in it, then recall once more: trammel recall %s --declaration", shell.Typed(r.Short()))
	}
	committed := h.Same(lock.FileName, text) && (!o.Declaration || h.Same(filepath.Base(o.File), own))
	if aside && !committed {
		if list, err := h.Uncommitted(nil); err == nil && len(list) > 0 {
			out.Kept = list[0].ID
		}
	}
	return out, err
}
