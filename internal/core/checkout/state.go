// Package checkout reads one checkout into one value.
//
// Promise: a State is everything that was read, once and in one order: declaration, lock,
// a person's own additions and their lock, the parts that both name with their trees, the
// records of the bay, and the stamp of every file, taken before the file was read. It is
// complete and never changes; who needs another one derives it. Opening writes nothing,
// runs nothing, and reads no secret.
//
// A checkout is somebody else's: its files are opened within its folder (os.Root), only
// regular ones, and only up to a stated size.
package checkout

import (
	"errors"
	"path/filepath"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// State is one checkout in one bay, as it was read.
type State struct {
	Host     host.Host
	Places   place.Places
	Platform platform.Platform
	Store    *store.Store
	Bay      bay.Bay

	// Written is the declaration as it was read, which locks are made of. Declaration is
	// what is in force: params are filled in, and services know what their cards say.
	Written     *declare.Declaration
	Declaration *declare.Declaration
	Chosen      map[string]string // params that were chosen for this bay

	// Lock is what trammel.lock says, as far as it can be read at all; LockErr says why it
	// is not the one to go by: not there, broken, of another state of the declaration, not
	// for this platform. LockText is the file, for who can make something of a broken one.
	Lock     *lock.Lock
	LockErr  error
	LockText []byte

	Overlay        *declare.Declaration // a person's own additions, or nil
	OverlayLock    *lock.Lock           // nil when there are none, or OverlayLockErr says why
	OverlayLockErr error

	// Parts are those of the lock on this platform with the trees that the store knows, and
	// OwnParts those of the additions.
	Parts    []lock.PartOn
	OwnParts []lock.PartOn

	Policies policy.List     // what organisations allow here
	Settings policy.Settings // what a person and the machine's keeper have decided

	Ports    bay.Ports // recorded ones
	Broken   []*bay.Broken
	LocalErr error  // why .trammel is not to be used, or nil
	LocalID  string // what Trammel named that folder when it made it, or ""
	Aside    string // where a .trammel was moved that Trammel had not made, or ""
	Chose    bool   // Chosen is not recorded yet

	pending *Pending // a replacement of declaration and lock that was cut, or nil

	Rests rests.On  // what all of it was learnt from
	Began time.Time // which reading it is of
}

// fill puts the values of params and what cards say into the declaration.
func (s *State) fill(chosen map[string]string) (err error) {
	s.Chosen = bay.Allowed(s.Written, chosen)
	if s.Declaration, err = s.Written.With(s.Chosen); err != nil {
		return err
	}
	if s.LockErr == nil {
		s.Declaration, err = completed(s.Declaration, s.Lock)
	}
	return err
}

// WithParams is the same checkout with other chosen values. Nothing is recorded.
func (s *State) WithParams(chosen map[string]string) (*State, error) {
	out := *s
	out.Chose = true
	return &out, out.fill(chosen)
}

// WithLock is the same checkout with another lock, for a passing trial: what is decided about it is
// never the checkout's own.
func (s *State) WithLock(d *declare.Declaration, l *lock.Lock) (*State, error) {
	out := *s
	out.Written, out.Lock, out.LockErr = d, l, nil
	out.Rests = rests.Never("it is a trial")
	out.judgeLock()
	out.Parts = out.partsOf(l, false)
	return &out, out.fill(s.Chosen)
}

// WithTrees is the same checkout with locks that state more trees.
func (s *State) WithTrees(shared, own *lock.Lock) *State {
	out := *s
	out.Lock, out.OverlayLock = shared, own
	out.Parts, out.OwnParts = out.partsOf(shared, false), out.partsOf(own, true)
	return &out
}

// WithWritten is the same checkout with another text of its declaration or of a person's
// additions, which is on no disk yet.
func (s *State) WithWritten(d, overlay *declare.Declaration) *State {
	out := *s
	out.Written, out.Declaration, out.Overlay = d, d, overlay
	return &out
}

// Refreshed is the same checkout after the store, or the record of ports, has learnt
// something. No file of the checkout is read again.
func (s *State) Refreshed(ports bay.Ports) *State {
	out := *s
	out.Parts, out.OwnParts = s.partsOf(s.Lock, false), s.partsOf(s.OverlayLock, true)
	if ports != nil {
		out.Ports = ports
	}
	return &out
}

// partsOf lists the parts of a lock for this platform with the trees that are known.
func (s *State) partsOf(l *lock.Lock, own bool) []lock.PartOn {
	if l == nil {
		return nil
	}
	parts := s.Store.Complete(l.PartsOn(s.Platform))
	for i := range parts {
		parts[i].Own = own
	}
	return parts
}

// PartsOfItem lists the parts of one toolchain, shared or a person's own.
func (s *State) PartsOfItem(name string) []lock.PartOn {
	var out []lock.PartOn
	for _, p := range s.AllParts() {
		if p.Item == name {
			out = append(out, p)
		}
	}
	return out
}

// PartsByItem are the parts of every toolchain and library, for who asks for many.
func (s *State) PartsByItem() map[string][]lock.PartOn {
	out := map[string][]lock.PartOn{}
	for _, p := range s.AllParts() {
		out[p.Item] = append(out[p.Item], p)
	}
	return out
}

// AllParts are those of the lock, then those of a person's own additions.
func (s *State) AllParts() []lock.PartOn {
	return append(s.Parts[:len(s.Parts):len(s.Parts)], s.OwnParts...)
}

// Has tells whether this machine holds all parts of a toolchain, none of them known to
// be damaged.
func (s *State) Has(item string) bool { return s.HasAll(s.PartsOfItem(item)) }

// HasAll tells whether this machine holds parts, none of them known to be damaged; false of none.
func (s *State) HasAll(parts []lock.PartOn) bool {
	for _, p := range parts {
		if !s.Store.Has(p) || s.Store.Damaged(p) {
			return false
		}
	}
	return len(parts) > 0
}

// Locked is the lock to go by, or why there is none.
func (s *State) Locked() (*lock.Lock, error) {
	if s.LockErr != nil {
		return nil, s.LockErr
	}
	return s.Lock, nil
}

// Usable says why nothing can be done with the checkout yet: a lock is missing or is not
// of its declaration. It is nil when both locks hold.
func (s *State) Usable() error {
	if s.LockErr != nil {
		return s.LockErr
	}
	return s.OverlayLockErr
}

// ErrStale is a lock that was made from another state of the declaration.
var ErrStale error = fault.New(fault.ErrUsage, "%s changed after %s was made", declare.FileName, lock.FileName).Advise("Bring the lock up to date: trammel lock")

// ErrNotFitted is a machine that lacks something the lock names.
var ErrNotFitted = errors.New("not fitted")

// NotFitted is the error of a thing that this machine lacks.
func NotFitted(what string) error {
	e := fault.New(fault.ErrFailed, "%s is not on this machine yet", what)
	e.Cause = ErrNotFitted
	return e.Advise("Fetch what is missing: trammel fit")
}

// Missing is the first part that this machine lacks, as an error, or nil.
func (s *State) Missing() error {
	if err := s.Usable(); err != nil {
		return err
	}
	for _, p := range s.AllParts() {
		if !s.Store.Has(p) {
			return NotFitted(p.Label() + " " + p.Part.Version)
		}
	}
	return nil
}

// HostCommands are the host commands that stay visible, the person's own too.
func (s *State) HostCommands() []string {
	out := append([]string(nil), s.Declaration.Host...)
	if s.Overlay != nil {
		out = append(out, s.Overlay.Host...)
	}
	return out
}

// Dir is the folder of the declaration.
func (s *State) Dir() string { return s.Written.Dir }

// key names a checkout among the files of a person's state.
func key(dir string) string { return strings.TrimPrefix(canon.Digest(dir), "sha256:")[:32] }

// ConsentFile is where the consent to a checkout is kept.
func ConsentFile(p place.Places, dir string) string {
	return filepath.Join(p.State, "approvals", key(dir)+".json")
}

// Allowed says whether the policies in force allow what the checkout declares and locks, a
// person's own additions too.
func (s *State) Allowed() error {
	breaches := s.Policies.Declared(s.Declaration)
	if s.Overlay != nil {
		breaches = append(breaches, s.Policies.Declared(s.Overlay)...)
	}
	for _, l := range []*lock.Lock{s.Lock, s.OverlayLock} {
		breaches = append(breaches, s.Policies.Locked(l)...)
	}
	return policy.Err(breaches)
}

// Shared is the same checkout without what is a person's own: what every teammate has.
func (s *State) Shared() *State {
	out := *s
	out.Overlay, out.OverlayLock, out.OverlayLockErr, out.OwnParts = nil, nil, nil, nil
	return &out
}

// On is the same checkout as it is on another platform.
func (s *State) On(p platform.Platform) *State {
	out := *s
	out.Platform = p
	out.judgeLock()
	out.Parts, out.OwnParts = out.partsOf(s.Lock, false), out.partsOf(s.OverlayLock, true)
	return &out
}
