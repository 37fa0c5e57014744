// Package sweep frees what nothing uses any more.
//
// It keeps every part that the lock of a known project names, or the lock before
// that, or a person's own additions, or that a running process of this user works
// from. It has the store to itself while it looks and removes, so it never takes
// away what a fit is about to use. Projects that are gone are forgotten.
package sweep

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Options of one sweep.
type Options struct {
	Print     bool          // remove nothing
	OlderThan time.Duration // keep what was added more recently
}

// Freed is one thing that was removed, or would be.
type Freed struct {
	Kind  string // "part", "archive", "frame", "layer" or "leftover"
	Name  string
	Bytes int64
}

// Result is what a sweep found.
type Result struct {
	Freed    []Freed
	Kept     int      // parts
	Projects []string // whose tools were kept

	// Unread are locks that could not be read, and say what they would name: while there
	// is one nothing is freed that it might need.
	Unread []Unread

	seen map[uint64]uint64 // inode → its names among what was freed
	Gone []string          // projects that are forgotten
}

// Unread is a lock, or a project, that could not be read.
type Unread struct {
	Path string
	Why  string
}

// Bytes is the room that was freed.
func (r *Result) Bytes() int64 {
	var sum int64
	for _, f := range r.Freed {
		sum += f.Bytes
	}
	return sum
}

// roots is what must stay.
type roots struct {
	parts    map[string]bool       // folder names in the store
	archives map[fetch.Digest]bool // digests
	frames   map[string]bool       // folder names
}

// Run sweeps the places of a user.
func Run(ctx context.Context, p place.Places, o Options) (*Result, error) {
	s := store.Open(p.Store())
	if _, err := os.Stat(p.Store()); errors.Is(err, fs.ErrNotExist) && o.Print {
		return &Result{}, nil // nothing is there, and nothing is made to look
	}
	if !o.Print { // who only looks waits for nobody
		unlock, err := s.WriteLock(ctx)
		if err != nil {
			return nil, err
		}
		defer unlock()
	}
	keep := roots{map[string]bool{}, map[fetch.Digest]bool{}, map[string]bool{}}
	result := &Result{seen: map[uint64]uint64{}}
	if err := projects(p, s, &keep, result, o.Print); err != nil {
		return nil, err
	}
	if len(result.Unread) > 0 { // only what is certainly nobody's
		for _, path := range s.Leftovers() {
			result.free("leftover", path, o.Print)
		}
		return result, ctx.Err()
	}
	processes(p, &keep)
	if err := parts(ctx, s, p, keep, o, result); err != nil {
		return nil, err
	}
	for _, path := range s.Leftovers() {
		result.free("leftover", path, o.Print)
	}
	frames(p, keep, o, result)
	programs(p, o, result)
	archives(p, keep, o, result)
	indexes(p, o, result)
	layers(p, o, result)
	return result, ctx.Err()
}

// layers removes layers of images, which are made again when they are wanted.
func layers(p place.Places, o Options, r *Result) {
	entries, err := os.ReadDir(p.Layers())
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > max(o.OlderThan, time.Hour) { // one may be on its way
			r.free("layer", filepath.Join(p.Layers(), e.Name()), o.Print)
		}
	}
}

// free removes a file or folder and counts it.
func (r *Result) free(kind, path string, printOnly bool) {
	size := r.sizeOf(path)
	if printOnly || disk.RemoveAll(path) == nil {
		r.Freed = append(r.Freed, Freed{kind, filepath.Base(path), size})
	}
}

// sizeOf is the room that goes with a file or tree. A file that has other names,
// in parts or roots that stay, takes nothing along; its last name takes all.
func (r *Result) sizeOf(path string) int64 {
	var sum int64
	_ = filepath.WalkDir(path, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		var st unix.Stat_t
		if d.Type().IsRegular() && unix.Lstat(name, &st) == nil {
			if r.seen[st.Ino]++; r.seen[st.Ino] >= uint64(st.Nlink) {
				sum += st.Size
			}
		}
		return nil
	})
	return sum
}

// projects collects what the known projects need.
func projects(p place.Places, s *store.Store, keep *roots, r *Result, printOnly bool) error {
	notes, err := os.ReadDir(filepath.Join(p.State, "projects"))
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	for _, note := range notes {
		path := filepath.Join(p.State, "projects", note.Name())
		if strings.HasPrefix(note.Name(), ".") {
			continue
		}
		raw, err := disk.Read(path, disk.MostText)
		if err != nil {
			r.Unread = append(r.Unread, Unread{path, disk.InWords(err)})
			continue
		}
		dir := string(raw)
		there, err := declared(p, dir)
		if err != nil {
			r.Unread = append(r.Unread, Unread{dir, "cannot be looked into: " + err.Error()})
			continue
		}
		if !there {
			r.Gone = append(r.Gone, dir)
			if !printOnly {
				os.Remove(path)
			}
			continue
		}
		r.Projects = append(r.Projects, dir)
		for _, file := range []string{lock.Path(dir), checkout.EarlierLock(dir), lock.OverlayPath(dir)} {
			l, err := lock.ReadFile(file)
			switch {
			case err == nil:
				keep.lock(s, l)
			case errors.Is(err, lock.ErrNone):
			default:
				raw, _ := lock.ReadBytes(filepath.Dir(file), filepath.Base(file))
				ours, theirs, ok := lock.Sides(raw)
				if !ok {
					why, _, _ := strings.Cut(err.Error(), "\n")
					r.Unread = append(r.Unread, Unread{file, why})
					continue
				}
				keep.lock(s, ours) // in conflict: what either side names is kept
				keep.lock(s, theirs)
			}
		}
		// What the checkout shows now, whatever its locks say.
		if target := frame.Led(checkout.Local(dir)); target != "" {
			keep.frames[filepath.Base(target)] = true
		}
	}
	return nil
}

// declared tells whether a project is still there. That it cannot be seen, say for lack of
// rights, is an error, and not the same.
func declared(p place.Places, dir string) (bool, error) {
	for _, file := range []string{filepath.Join(dir, declare.FileName), checkout.DefaultFile(p)} {
		info, err := os.Stat(file)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
		if err == nil && !info.IsDir() && filepath.Dir(file) == dir {
			return true, nil
		}
	}
	return false, nil
}

func (k *roots) lock(s *store.Store, l *lock.Lock) {
	var here []lock.PartOn
	for _, name := range l.Declaration.Platforms {
		on, _ := platform.Parse(name)
		for _, part := range s.Complete(l.PartsOn(on)) {
			if part.Format == lock.RootFormat {
				k.packages(s, part)
			}
			if part.Format == lock.SetFormat {
				k.libraries(s, part)
			}
			k.archives[part.Digest] = true
			if part.Tree != "" {
				k.parts[store.Name(part)] = true
				if on == platform.Here() {
					here = append(here, part)
				}
			}
		}
	}
	if f, err := frame.Of(nil, "/", s, here); err == nil {
		k.frames[filepath.Base(f.Dir)] = true
	}
}

// packages keeps those that a root is made of.
func (k *roots) packages(s *store.Store, root lock.PartOn) {
	var debs []lock.PartOn
	for _, p := range (lock.Root{Packages: root.Packages}).List() {
		debs = append(debs, p.Part(root.Docs))
	}
	for _, deb := range s.Complete(debs) {
		k.archives[deb.Digest] = true
		if deb.Tree != "" {
			k.parts[store.Name(deb)] = true
		}
	}
}

// libraries keeps those that a set is made of: wheels by what they are, and what was built
// by the trees that the lock names.
func (k *roots) libraries(s *store.Store, set lock.PartOn) {
	sums := map[string]canon.TreeDigest{}
	for _, line := range set.Sums {
		if name, sum, ok := strings.Cut(line, " "); ok {
			sums[name] = canon.TreeDigest(sum)
		}
	}
	for _, x := range (lock.Set{Packages: set.Packages}).List() {
		k.archives[x.Digest] = true
		part := x.Part()
		if part.Tree = sums[x.Name]; part.Tree == "" {
			part = s.Complete([]lock.PartOn{part})[0]
		}
		if part.Tree != "" {
			k.parts[store.Name(part)] = true
		}
	}
}

// processes adds what running processes of this user work from: their program,
// their folder, and the frames and parts that their environment names. Only Linux
// says so; elsewhere an open shell keeps what its project's lock keeps.
func processes(p place.Places, keep *roots) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return
	}
	inStore, inFrames := p.Store()+"/", p.Frames()+"/"
	here, _ := os.Readlink("/proc/self/ns/mnt")
	note := func(text []byte) {
		for prefix, set := range map[string]map[string]bool{inStore: keep.parts, inFrames: keep.frames} {
			for rest := text; ; {
				_, after, ok := bytes.Cut(rest, []byte(prefix))
				if !ok {
					break
				}
				name, _, _ := bytes.Cut(after, []byte("/"))
				if i := bytes.IndexAny(name, ":\x00 "); i >= 0 {
					name = name[:i]
				}
				set[string(name)] = true
				rest = after
			}
		}
	}
	for _, e := range entries {
		if e.Name()[0] < '0' || e.Name()[0] > '9' {
			continue
		}
		for _, link := range []string{"exe", "cwd"} {
			if target, err := os.Readlink(filepath.Join("/proc", e.Name(), link)); err == nil {
				note([]byte(target + "/"))
			}
		}
		if environ, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ")); err == nil {
			note(environ)
		}
		if there, err := os.Readlink(filepath.Join("/proc", e.Name(), "ns/mnt")); err == nil && there != here {
			mounted(filepath.Join("/proc", e.Name(), "mountinfo"), map[string]map[string]bool{inFrames: keep.frames, inStore: keep.parts})
		}
	}
	// A frame that a process has on its PATH needs what it links to.
	for name := range keep.frames {
		bin := filepath.Join(p.Frames(), name, "bin")
		links, _ := os.ReadDir(bin)
		for _, l := range links {
			if target, err := os.Readlink(filepath.Join(bin, l.Name())); err == nil {
				note([]byte(target))
			}
		}
		shown, _ := os.ReadDir(filepath.Join(p.Frames(), name, "roots"))
		for _, l := range shown {
			if target, err := os.Readlink(filepath.Join(p.Frames(), name, "roots", l.Name())); err == nil {
				note([]byte(target + "/"))
			}
		}
	}
}

// mounted keeps the frames and parts that a view shows to a process under other names, by the folder within its file
// system that each mount shows (proc_pid_mountinfo(5), field 4): the end of its path, since where that file system is
// mounted is another field's. folders are those of frames and parts, each with what is kept of it.
func mounted(file string, folders map[string]map[string]bool) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return
	}
	for line := range strings.Lines(string(raw)) {
		f := strings.Fields(line)
		if len(f) < 4 {
			continue
		}
		for folder, set := range folders {
			last := "/" + filepath.Base(folder) + "/"
			if before, after, ok := strings.Cut(f[3], last); ok && strings.HasSuffix(folder, before+last) {
				name, _, _ := strings.Cut(after, "/")
				set[name] = true
			}
		}
	}
}

func parts(ctx context.Context, s *store.Store, p place.Places, keep roots, o Options, r *Result) error {
	names, err := s.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		path := filepath.Join(p.Store(), name)
		if keep.parts[name] || recent(path, o.OlderThan) {
			r.Kept++
			continue
		}
		size := r.sizeOf(path)
		if !o.Print {
			if err := s.Remove(name); err != nil {
				return err
			}
		}
		r.Freed = append(r.Freed, Freed{"part", name, size})
	}
	return nil
}

// recent tells whether something appeared within a duration.
func recent(path string, within time.Duration) bool {
	var st unix.Stat_t
	if within <= 0 || unix.Lstat(path, &st) != nil {
		return false
	}
	return time.Since(time.Unix(0, disk.StampFrom(&st).Change)) < within
}

func frames(p place.Places, keep roots, o Options, r *Result) {
	entries, _ := os.ReadDir(p.Frames())
	for _, e := range entries {
		path := filepath.Join(p.Frames(), e.Name())
		if !keep.frames[e.Name()] && !recent(path, o.OlderThan) {
			r.free("frame", path, o.Print)
		}
	}
}

// programs frees the copies of this program that no frame launches with.
func programs(p place.Places, o Options, r *Result) {
	used := map[string]bool{}
	launchers, _ := filepath.Glob(filepath.Join(p.Frames(), "*", "launch"))
	for _, l := range launchers {
		if target, err := os.Readlink(l); err == nil {
			used[filepath.Dir(target)] = true
		}
	}
	entries, _ := os.ReadDir(p.Programs())
	for _, e := range entries {
		if path := filepath.Join(p.Programs(), e.Name()); !used[path] && !recent(path, max(o.OlderThan, time.Hour)) {
			r.free("program", path, o.Print)
		}
	}
}

// indexes frees the compact indexes that were not looked into for a month.
func indexes(p place.Places, o Options, r *Result) {
	found, _ := filepath.Glob(filepath.Join(p.Indexes(), "debian-*.index"))
	for _, path := range found {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > max(o.OlderThan, 30*24*time.Hour) {
			r.free("index", path, o.Print)
		}
	}
}

// archives frees downloads: what no lock names, and what was begun and never
// finished a week ago.
func archives(p place.Places, keep roots, o Options, r *Result) {
	var names []string
	for digest := range keep.archives {
		names = append(names, fetch.ArchiveName(digest))
	}
	entries, _ := os.ReadDir(p.Archives())
	for _, e := range entries {
		path := filepath.Join(p.Archives(), e.Name())
		base, more, _ := strings.Cut(e.Name(), ".")
		if slices.Contains(names, base) && (more != "partial" || recent(path, 7*24*time.Hour)) || recent(path, o.OlderThan) {
			continue
		}
		r.free("archive", path, o.Print)
	}
}
