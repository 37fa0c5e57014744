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
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/seen"
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

	Policies policy.List // what organisations allow here

	Ports    bay.Ports // recorded ones
	Broken   []*bay.Broken
	LocalErr error  // why .trammel is not to be used, or nil
	LocalID  string // what Trammel named that folder when it made it, or ""
	Chose    bool   // Chosen is not recorded yet

	pending *Pending // a replacement of declaration and lock that was cut, or nil

	Stamps []Stamped // of every file above, taken before it was read
	Began  time.Time // before the first stamp was taken
}

// Stamped is a file and what told cheaply whether it changed.
type Stamped struct {
	File  string     `json:"file"`
	Stamp disk.Stamp `json:"stamp"`
}

// Moved tells whether the file is another one than it was.
func (s Stamped) Moved() bool { return disk.StampOf(s.File) != s.Stamp }

// Stamp takes the stamp of a file.
func Stamp(file string) Stamped { return Stamped{file, disk.StampOf(file)} }

// Settled tells whether a later change of the file would show in its stamp: it is when
// its times are older than the clock's grain. A file that is not there is settled, since
// whatever appears has an inode.
func (s Stamped) Settled(at time.Time) bool {
	return kept.File{Size: s.Stamp.Size, Mod: s.Stamp.Mod, Change: s.Stamp.Change, Inode: s.Stamp.Inode}.Settled(at.UnixNano())
}

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

// What a file has to do with what is in force.
const (
	Decides = "in force"     // the declaration
	Adds    = "adds"         // what the declaration includes, and the person's own additions
	Yields  = "not in force" // a nearer one is
)

// Decider is a file that decides, or would have if another were not there.
type Decider struct {
	File string `json:"file"` // absolute, or a locator
	Use  string `json:"use"`  // "in force", "adds" or "not in force"
}

// Deciders are the files that could have decided, the one that did first, then from near to far.
func (s *State) Deciders() []Decider {
	out := []Decider{{s.Written.File, Decides}}
	for _, x := range s.Written.Includes {
		out = append(out, Decider{s.FileOf(x.Name), Adds})
	}
	if s.Overlay != nil {
		out = append(out, Decider{declare.OverlayFile(s.Dir()), Adds})
	}
	own := DefaultFile(s.Places)
	if s.Written.File != own {
		for dir := s.Dir(); filepath.Dir(dir) != dir; {
			dir = filepath.Dir(dir)
			if file := filepath.Join(dir, declare.FileName); fileIsThere(file) {
				out = append(out, Decider{file, Yields})
			}
		}
		if fileIsThere(own) {
			out = append(out, Decider{own, Yields})
		}
	}
	return out
}

// FileOf is a file of the declaration, as its places name it, with its folder; what is no file
// of the project (a locator) is as it is.
func (s *State) FileOf(name string) string {
	if full := filepath.Join(s.Dir(), filepath.FromSlash(name)); !filepath.IsAbs(name) && fileIsThere(full) {
		return full
	}
	return name
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

// WithLock is the same checkout with another lock, for a passing trial.
func (s *State) WithLock(d *declare.Declaration, l *lock.Lock) (*State, error) {
	out := *s
	out.Written, out.Lock, out.LockErr = d, l, nil
	out.judgeLock()
	out.Parts = out.partsOf(l)
	return &out, out.fill(s.Chosen)
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
	out.Parts, out.OwnParts = s.partsOf(s.Lock), s.partsOf(s.OverlayLock)
	if ports != nil {
		out.Ports = ports
	}
	return &out
}

// partsOf lists the parts of a lock for this platform with the trees that are known.
func (s *State) partsOf(l *lock.Lock) []lock.PartOn {
	if l == nil {
		return nil
	}
	return s.Store.Complete(l.PartsOn(s.Platform))
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

// AllParts are those of the lock, then those of a person's own additions.
func (s *State) AllParts() []lock.PartOn {
	return append(s.Parts[:len(s.Parts):len(s.Parts)], s.OwnParts...)
}

// Has tells whether this machine holds all parts of a toolchain, none of them known to
// be damaged.
func (s *State) Has(item string) bool {
	parts := s.PartsOfItem(item)
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

// Local is the checkout's own folder for what can be made again.
func Local(dir string) string { return filepath.Join(dir, LocalName) }

// LocalName is the name of that folder.
const LocalName = ".trammel"

// localFolder says why the folder of what can be made again is not to be used. It must be
// a folder and not a link to one, the same user's, since what is in it is run; and what
// lies in it must be what Trammel puts there, since a repository can bring such a folder
// along: only the two links to the frame are links, and what another command is making of
// them this moment (or was, when it was killed: Tidy removes it).
func localFolder(dir string) error {
	path := Local(dir)
	info, err := seen.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.New(fault.ErrFailed, "%v", err)
	}
	if !info.IsDir() {
		return fault.New(fault.ErrUsage, "%s is no folder, but something that leads elsewhere or is nothing to keep files in", path).
			Advise("Trammel makes that folder itself; a repository has no business with that name. Remove it: rm %s", path)
	}
	if err := sameUser(path, info); err != nil {
		return err
	}
	entries, err := seen.ReadDir(path)
	if err != nil {
		return fault.New(fault.ErrFailed, "%v", err)
	}
	for _, e := range entries {
		full := filepath.Join(path, e.Name())
		if e.Type()&fs.ModeSymlink != 0 && (e.Name() == "frame" || e.Name() == "bin" || unnamed(e.Name())) {
			continue
		}
		seen.At(full)
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fault.New(fault.ErrFailed, "%v", err)
		}
		if !info.IsDir() && !info.Mode().IsRegular() {
			return fault.New(fault.ErrUsage, "%s is neither a folder nor a file, and Trammel did not put it there", full).
				Advise("Remove it: rm %s", full)
		}
		if err := sameUser(full, info); err != nil {
			return err
		}
	}
	return nil
}

func sameUser(path string, info fs.FileInfo) error {
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Getuid() {
		return fault.New(fault.ErrUsage, "%s belongs to another user (%d), who could change what runs from it", path, st.Uid).
			Advise("Work in a checkout of your own, or remove %s; it is made anew.", path)
	}
	return nil
}

// localID is the name that Trammel gave the folder when it made it. What was done in this
// checkout is recorded under it in the person's state, so that a folder which somebody
// brings along, or one that was removed and made again, has nothing to show for itself.
func localID(dir string) string {
	raw, err := disk.ReadWithin(dir, filepath.Join(LocalName, "id"), 64)
	id := strings.TrimSpace(string(raw))
	if err != nil || len(id) != 26 || strings.Trim(id, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") != "" {
		return ""
	}
	return id
}

// Done is the folder in which it is recorded what was done in this checkout, "" where
// nothing was.
func (s *State) Done() string {
	if s.LocalID == "" {
		return ""
	}
	return filepath.Join(filepath.Dir(s.Bay.Records), ".checkout", s.LocalID)
}

// MakeLocal makes the folder for what can be made again, hidden from version control, and
// returns the State that knows it.
func (s *State) MakeLocal() (*State, error) {
	if s.LocalErr != nil {
		return nil, s.LocalErr
	}
	if s.pending != nil {
		// Another command may have finished it since this state was read, and written more.
		if now, err := readPending(s.Places, s.Dir()); err != nil {
			return nil, err
		} else if now != nil {
			if err := now.Finish(s.Places); err != nil {
				return nil, err
			}
		}
	}
	local := Local(s.Dir())
	seen.At(local)
	if err := os.Mkdir(local, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	if s.LocalID != "" {
		if _, err := seen.Lstat(filepath.Join(local, ".gitignore")); err == nil {
			return s, nil
		}
	}
	if err := localFolder(s.Dir()); err != nil { // it may have come this moment
		return nil, err
	}
	if err := disk.WriteWithin(s.Dir(), LocalName+"/.gitignore", []byte("*\n"), 0o644); err != nil {
		return nil, err
	}
	out := *s
	if out.LocalID = localID(s.Dir()); out.LocalID == "" {
		out.LocalID = rand.Text()
		if err := disk.WriteWithin(s.Dir(), LocalName+"/id", []byte(out.LocalID+"\n"), 0o600); err != nil {
			return nil, err
		}
		out.LocalID = localID(s.Dir()) // two at once: the last one's counts for both
	}
	return &out, nil
}

// EarlierLock is where the lock before the present one is kept, for the way back.
func EarlierLock(dir string) string { return filepath.Join(Local(dir), "earlier.lock") }

// key names a checkout among the files of a person's state.
func key(dir string) string { return strings.TrimPrefix(canon.Digest(dir), "sha256:")[:32] }

// ConsentFile is where the consent to a checkout is kept.
func ConsentFile(p place.Places, dir string) string {
	return filepath.Join(p.State, "approvals", key(dir)+".json")
}

// PlanFile is where the compiled environment of a bay is kept: in the person's state,
// where nothing that runs in the environment can change what the next command goes by.
func PlanFile(p place.Places, dir, bayName string) string {
	return filepath.Join(p.Plans(), key(dir)+"-"+bayName+".json")
}

// Remember notes the checkout among those whose tools a sweep must keep.
func (s *State) Remember() error {
	path := filepath.Join(s.Places.State, "projects", key(s.Dir()))
	if old, err := disk.Read(path, disk.MostState); err == nil && string(old) == s.Dir() {
		return nil
	}
	if err := disk.Private(s.Places.State); err != nil {
		return err
	}
	return disk.Write(path, []byte(s.Dir()), 0o600)
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
	out.Parts, out.OwnParts = out.partsOf(s.Lock), out.partsOf(s.OverlayLock)
	return &out
}
