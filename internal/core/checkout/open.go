package checkout

import (
	"errors"
	"path/filepath"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/seen"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// DefaultFile is a person's own declaration, in force where no other is found.
func DefaultFile(p place.Places) string { return filepath.Join(p.Config, "default.toml") }

// Find looks for the declaration that is in force in a folder.
func Find(places place.Places, dir string) (string, error) {
	file, err := declare.Find(dir)
	if err != nil {
		if own := DefaultFile(places); fileIsThere(own) {
			return own, nil
		}
	}
	return file, err
}

func fileIsThere(path string) bool {
	info, err := seen.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Asked says which checkout to open.
type Asked struct {
	Host host.Host
	Dir  string // the declaration is looked for here and above; as it was typed
	Bay  string
}

// reading reads files and takes their stamps before.
type reading struct {
	stamps  []Stamped
	instead map[string][]byte // what files are about to say
}

func (r *reading) note(path string) {
	for _, s := range r.stamps {
		if s.File == path {
			return
		}
	}
	r.stamps = append(r.stamps, Stamp(path))
}

func (r *reading) text(dir, name string) ([]byte, error) {
	path := filepath.Join(dir, filepath.FromSlash(name))
	r.note(path)
	if text := r.instead[path]; text != nil {
		return text, nil
	}
	return disk.ReadWithin(dir, name, disk.MostText)
}

func (r *reading) lock(dir, name string) ([]byte, error) {
	path := filepath.Join(dir, name)
	r.note(path)
	if text := r.instead[path]; text != nil {
		return text, nil
	}
	return lock.ReadBytes(dir, name)
}

// Open reads the nearest declaration at or above a folder, or the person's default, and
// all that belongs to it.
func Open(a Asked, o Locate) (*State, error) {
	places, err := place.Find(a.Host.Getenv)
	if err != nil {
		return nil, err
	}
	file, err := Find(places, a.Host.Abs(a.Dir))
	if err != nil {
		return nil, err
	}
	s := &State{Host: a.Host, Places: places, Platform: platform.Here(), Store: store.Open(places.Store()), Began: time.Now()}
	dir := filepath.Dir(file)
	r := &reading{}
	if s.pending, err = readPending(places, dir); err != nil {
		return nil, err
	}
	if s.pending != nil {
		r.instead = map[string][]byte{file: s.pending.Declaration, lock.Path(dir): s.pending.Lock}
	}
	r.note(ConsentFile(places, dir))
	s.LockText, s.LockErr = r.lock(dir, lock.FileName)
	if s.LockErr == nil {
		s.Lock, s.LockErr = lock.Parse(s.LockText)
	}
	files := policy.Files(places.System, dir)
	for _, file := range files {
		r.note(file)
	}
	if s.Policies, err = policy.Read(files); err != nil {
		return nil, err
	}
	o.allow = s.Policies.Host
	s.Written, err = declare.Read(file, declare.Files{Get: o.getter(places, file, s.Lock), Read: r.text})
	if err != nil {
		return nil, err
	}
	if s.Overlay, err = declare.ReadOverlay(s.Written, declare.Files{Read: r.text}); err != nil {
		return nil, err
	}
	if s.Overlay != nil {
		s.OverlayLock, s.OverlayLockErr = overlayLock(s, r)
	}
	if s.Bay, err = bay.Open(places, s.Written, a.Bay); err != nil {
		return nil, err
	}
	r.note(s.Bay.ParamsFile())
	chosen, err := s.Bay.ReadParams()
	if err = s.noteBroken(err); err != nil {
		return nil, err
	}
	r.note(s.Bay.PortsFile())
	s.Ports, err = s.Bay.ReadPorts()
	if err = s.noteBroken(err); err != nil {
		return nil, err
	}
	s.LocalErr, s.LocalID = localFolder(dir), localID(dir)
	s.Stamps = r.stamps
	s.judgeLock()
	s.Parts, s.OwnParts = s.partsOf(s.Lock), s.partsOf(s.OverlayLock)
	return s, s.fill(chosen)
}

func (s *State) noteBroken(err error) error {
	var broken *bay.Broken
	if errors.As(err, &broken) {
		s.Broken = append(s.Broken, broken)
		return nil
	}
	return err
}

// judgeLock says whether the lock that was read is the one to go by.
func (s *State) judgeLock() {
	switch {
	case s.LockErr != nil:
	case s.Lock.Declaration.Digest != s.Written.Digest():
		s.LockErr = ErrStale
	case !s.Lock.Covers(s.Platform):
		s.LockErr = fault.New(fault.ErrUsage, "this project is locked for other platforms than %s", s.Platform).
			Advise("Add %q to platforms in %s, then: trammel lock", s.Platform, declare.FileName)
	}
}

func overlayLock(s *State, r *reading) (*lock.Lock, error) {
	raw, err := r.lock(s.Written.Dir, lock.OverlayName)
	if err != nil {
		return nil, err
	}
	l, err := lock.Parse(raw)
	if err != nil {
		return nil, err
	}
	if l.Declaration.Digest != s.Overlay.Digest() {
		return l, fault.New(fault.ErrUsage, "%s changed after %s was made", declare.OverlayName, lock.OverlayName).Advise("Bring the lock up to date: trammel lock")
	}
	return l, nil
}

// Bare is a checkout whose declaration is not read, since it may be faulty: enough to keep
// files in its own folder, which is made.
func Bare(places place.Places, dir string) (*State, error) {
	d := &declare.Declaration{Dir: dir, File: filepath.Join(dir, declare.FileName)}
	s := &State{Places: places, Written: d, Declaration: d, LocalErr: localFolder(dir), LocalID: localID(dir)}
	return s.MakeLocal()
}

// None is what a command works with outside of any project: a checkout that declares
// nothing, of which nothing was read.
func None(a Asked) (*State, error) {
	places, err := place.Find(a.Host.Getenv)
	if err != nil {
		return nil, err
	}
	s := &State{Host: a.Host, Places: places, Platform: platform.Here(), Store: store.Open(places.Store()), Began: time.Now(), LockErr: lock.ErrNone}
	s.Written = &declare.Declaration{Dir: a.Host.Abs(a.Dir), Project: "none", Isolation: declare.Open, Platforms: []platform.Platform{s.Platform}}
	s.Declaration = s.Written
	if s.Policies, err = policy.Read(policy.Files(places.System, "")); err != nil {
		return nil, err
	}
	s.Bay, err = bay.Open(places, s.Written, a.Bay)
	return s, err
}
