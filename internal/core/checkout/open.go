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
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// DefaultFile is a person's own declaration, in force where no other is found.
func DefaultFile(p place.Places) string { return filepath.Join(p.Config, "default.toml") }

// Find looks for the declaration that is in force in a folder.
func Find(r *reading.Reader, places place.Places, dir string) (string, error) {
	file, err := declare.Find(r, dir)
	if err != nil {
		if own := DefaultFile(places); fileIsThere(r, own) {
			return own, nil
		}
	}
	return file, err
}

func fileIsThere(r *reading.Reader, path string) bool {
	info, err := r.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Asked says which checkout to open.
type Asked struct {
	Host host.Host
	Dir  string // the declaration is looked for here and above; as it was typed
	Bay  string
}

// files reads the files of a checkout.
type files struct {
	*reading.Reader
	instead map[string][]byte // what files are about to say
}

func (r *files) text(dir, name string) ([]byte, error) {
	path := filepath.Join(dir, filepath.FromSlash(name))
	r.File(path)
	if text := r.instead[path]; text != nil {
		return text, nil
	}
	return disk.ReadWithin(dir, name, disk.MostText)
}

func (r *files) lock(dir, name string) ([]byte, error) {
	path := filepath.Join(dir, name)
	r.File(path)
	if text := r.instead[path]; text != nil {
		return text, nil
	}
	return lock.ReadBytes(dir, name)
}

// Open reads the nearest declaration at or above a folder, or the person's default, and
// all that belongs to it.
func Open(a Asked, o Locate) (*State, error) {
	r := &files{Reader: reading.New(a.Host)}
	r.Program()
	places, err := place.Find(r.Getenv)
	if err != nil {
		return nil, err
	}
	file, err := Find(r.Reader, places, a.Host.Abs(a.Dir))
	if err != nil {
		return nil, err
	}
	s := &State{Host: a.Host, Places: places, Platform: platform.Here(), Store: store.Open(places.Store()), Began: time.Now()}
	dir := filepath.Dir(file)
	if s.pending, err = readPending(r.Reader, places, dir); err != nil {
		return nil, err
	}
	if s.pending != nil {
		r.instead = map[string][]byte{file: s.pending.Declaration, lock.Path(dir): s.pending.Lock}
	}
	r.File(ConsentFile(places, dir))
	s.LockText, s.LockErr = r.lock(dir, lock.FileName)
	if s.LockErr == nil {
		s.Lock, s.LockErr = lock.Parse(s.LockText)
	}
	if s.Policies, err = policy.Read(r.Reader, policy.Files(r.Reader, places.System, dir)); err != nil {
		return nil, err
	}
	if s.Settings, err = policy.ReadSettings(r.Reader, places.Config, places.System); err != nil {
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
	r.File(s.Bay.ParamsFile())
	chosen, err := s.Bay.ReadParams()
	if err = s.noteBroken(err); err != nil {
		return nil, err
	}
	r.File(s.Bay.PortsFile())
	s.Ports, err = s.Bay.ReadPorts()
	if err = s.noteBroken(err); err != nil {
		return nil, err
	}
	if s.LocalErr = s.localFolder(r.Reader); s.LocalErr == nil {
		s.LocalID = localID(r.Reader, dir)
	}
	s.Store.Look(r.Reader)
	s.judgeLock()
	s.Parts, s.OwnParts = s.partsOf(s.Lock, false), s.partsOf(s.OverlayLock, true)
	s.Rests = r.On()
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

func overlayLock(s *State, r *files) (*lock.Lock, error) {
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
	s := &State{Places: places, Written: d, Declaration: d}
	if s.LocalErr = s.localFolder(nil); s.LocalErr == nil {
		s.LocalID = localID(nil, dir)
	}
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
	if s.Policies, err = policy.Read(nil, policy.Files(nil, places.System, "")); err != nil {
		return nil, err
	}
	s.Bay, err = bay.Open(places, s.Written, a.Bay)
	return s, err
}
