// Package reading reads files, folders and variables, and notes what was read, so that whoever
// learns from them can say what that rests on (package rests).
//
// Each look is noted before it is taken: a change that happens meanwhile shows. A nil Reader reads
// the same and notes nothing.
package reading

import (
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/rests"
)

// Reader reads for one purpose and remembers what it looked at.
type Reader struct {
	Host host.Host

	mu     sync.Mutex
	began  int64
	looks  map[rests.Look]bool
	absent map[string]*absent // by folder
	passed map[string]bool    // folders that were passed

	folders  map[string]string       // stamps of folders in which commands were looked for
	commands map[commandsIn][]string // programs that were found
	never    string
}

// absent are names that were missing in a folder, and its stamp when the first of them was.
type absent struct {
	stamp string
	names map[string]bool
}

// most is how many looks may be remembered: judging more takes longer than learning anew.
const most = 20_000

// New begins to read on a host.
func New(h host.Host) *Reader {
	return &Reader{Host: h, began: time.Now().UnixNano(), looks: map[rests.Look]bool{}, absent: map[string]*absent{}, passed: map[string]bool{}, folders: map[string]string{}, commands: map[commandsIn][]string{}}
}

// On is what was looked at so far.
func (r *Reader) On() rests.On {
	if r == nil {
		return rests.On{}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.never != "" {
		return rests.Never(r.never)
	}
	looks := slices.Collect(maps.Keys(r.looks))
	for folder, a := range r.absent {
		looks = append(looks, rests.Look{Kind: rests.Missing, Path: folder, Found: rests.NamesIn(a.stamp, slices.Sorted(maps.Keys(a.names)))})
	}
	for in, names := range r.commands {
		slices.Sort(names)
		looks = append(looks, rests.Look{Kind: rests.Commands, Path: in.folder, Found: rests.NamesIn(in.stamp, slices.Compact(slices.Clone(names)))})
	}
	return rests.Of(looks, r.began)
}

// Never says that what is learnt cannot be believed later, and why.
func (r *Reader) Never(why string) {
	if r != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.never = why
	}
}

// note remembers a look.
func (r *Reader) note(kind rests.Kind, path, found string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.looks[rests.Look{Kind: kind, Path: path, Found: found}] = true; len(r.looks) > most {
		r.never = "more was looked at than is worth judging again"
	}
}

// File notes what a path leads to, links followed; who reads it by other means says so first.
func (r *Reader) File(path string) {
	if r == nil {
		return
	}
	path = filepath.Clean(path)
	if stamp := rests.FileStamp(path); stamp != "" {
		r.note(rests.File, path, stamp)
		r.link(path)
		return
	}
	r.link(path)
	r.Absent(path)
}

// link notes the entry too where it is a symbolic link: it may lead elsewhere and find the same.
func (r *Reader) link(path string) {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		r.note(rests.Entry, path, rests.EntryStamp(path))
	}
}

// Entry notes an entry itself, which may be a symbolic link.
func (r *Reader) Entry(path string) {
	if r == nil {
		return
	}
	path = filepath.Clean(path)
	if stamp := rests.EntryStamp(path); stamp != "" {
		r.note(rests.Entry, path, stamp)
		return
	}
	r.Absent(path)
}

// Absent notes that a path is missing. Where its folder is missing too, that is what is noted.
func (r *Reader) Absent(path string) {
	if r == nil {
		return
	}
	path = filepath.Clean(path)
	folder, name := filepath.Split(path)
	folder = filepath.Clean(folder)
	stamp, known := r.stampOf(folder)
	for !known && stamp == "" && filepath.Dir(folder) != folder {
		folder, name = filepath.Dir(folder), filepath.Base(folder)
		stamp, known = r.stampOf(folder)
	}
	if rests.EntryStamp(filepath.Join(folder, name)) != "" { // a link that leads nowhere, or it came this moment
		r.note(rests.File, path, rests.FileStamp(path))
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	a := r.absent[folder]
	if a == nil {
		a = &absent{stamp, map[string]bool{}}
		r.absent[folder] = a
	}
	if a.names[name] = true; len(a.names) > most {
		r.never = "more was looked for than is worth judging again"
	}
}

// stampOf is the stamp of a folder; known tells that names were missing in it before, when it had that.
func (r *Reader) stampOf(folder string) (stamp string, known bool) {
	r.mu.Lock()
	a := r.absent[folder]
	r.mu.Unlock()
	if a != nil {
		return a.stamp, true
	}
	return rests.FileStamp(folder), false
}

// Folder notes which names are in a folder.
func (r *Reader) Folder(path string) { r.File(path) }

// Tree notes all that is in a folder, at any depth, but for the folders below that skip names.
func (r *Reader) Tree(path string, skip func(folder string) bool) {
	if r == nil {
		return
	}
	seen := 0
	_ = filepath.WalkDir(path, func(at string, d fs.DirEntry, err error) error {
		if seen++; seen > most {
			r.Never("more was looked at than is worth judging again")
			return fs.SkipAll
		}
		below, _ := filepath.Rel(path, at)
		switch {
		case err != nil:
			r.File(at)
		case d.IsDir() && below != "." && skip(filepath.ToSlash(below)):
			return fs.SkipDir
		case d.IsDir():
			r.Folder(at)
		default:
			r.Entry(at)
		}
		return nil
	})
}

// Bytes notes that a file is held to its bytes, of which there is a copy.
func (r *Reader) Bytes(path, copy string) {
	if r != nil {
		r.note(rests.Bytes, path, copy)
	}
}

// Passing notes which folders a path goes through, from below a folder on.
func (r *Reader) Passing(top, path string) {
	for at := filepath.Dir(path); len(at) > len(top); at = filepath.Dir(at) {
		r.Identity(at)
		if filepath.Dir(at) == at {
			return
		}
	}
}

// Identity notes which folder a path is, whatever is in it.
func (r *Reader) Identity(path string) {
	if r == nil {
		return
	}
	r.mu.Lock()
	known := r.passed[path]
	r.passed[path] = true
	r.mu.Unlock()
	if !known {
		r.note(rests.Identity, path, rests.IdentityOf(path))
	}
}

// Program notes which program reads: another version may learn something else.
func (r *Reader) Program() {
	if r != nil {
		r.note(rests.Program, rests.Self, rests.FileStamp(rests.Self))
	}
}

// Command tells whether a path is a program that can be started.
func (r *Reader) Command(path string) bool { return r.command(path, false) }

// CommandOf is Command where many of one folder are looked for: as long as nothing comes to the folder or
// goes from it, they are believed to be what they were.
func (r *Reader) CommandOf(path string) bool { return r.command(path, true) }

func (r *Reader) command(path string, byFolder bool) bool {
	if r == nil {
		return rests.IsCommand(path)
	}
	folder := filepath.Dir(path)
	key := commandsIn{folder, ""}
	if byFolder {
		r.mu.Lock()
		stamp, known := r.folders[folder]
		if !known {
			stamp = rests.FileStamp(folder)
			r.folders[folder] = stamp
		}
		r.mu.Unlock()
		key.stamp = stamp
	}
	if !rests.IsCommand(path) {
		r.File(path)
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.commands[key] = append(r.commands[key], filepath.Base(path))
	return true
}

// commandsIn are commands of a folder, by its stamp or, where that is "", each by itself.
type commandsIn struct{ folder, stamp string }

// LookupEnv is the value of a variable of the host.
func (r *Reader) LookupEnv(name string) (string, bool) {
	value, set := r.Host.LookupEnv(name)
	r.note(rests.Variable, name, rests.Sum(value, set))
	return value, set
}

// Getenv is the value of a variable of the host, "" where it is not set.
func (r *Reader) Getenv(name string) string {
	value, _ := r.LookupEnv(name)
	return value
}

// Read is disk.Read.
func (r *Reader) Read(path string, most int64) ([]byte, error) {
	r.File(path)
	return disk.Read(path, most)
}

// ReadWithin is disk.ReadWithin.
func (r *Reader) ReadWithin(dir, name string, most int64) ([]byte, error) {
	r.File(filepath.Join(dir, filepath.FromSlash(name)))
	return disk.ReadWithin(dir, name, most)
}

// Stat is os.Stat.
func (r *Reader) Stat(path string) (fs.FileInfo, error) { r.File(path); return os.Stat(path) }

// Lstat is os.Lstat.
func (r *Reader) Lstat(path string) (fs.FileInfo, error) { r.Entry(path); return os.Lstat(path) }

// Readlink is os.Readlink.
func (r *Reader) Readlink(path string) (string, error) { r.Entry(path); return os.Readlink(path) }

// ReadDir is os.ReadDir.
func (r *Reader) ReadDir(path string) ([]fs.DirEntry, error) { r.Folder(path); return os.ReadDir(path) }

// EvalSymlinks is filepath.EvalSymlinks.
func (r *Reader) EvalSymlinks(path string) (string, error) {
	r.Passing("", path)
	r.Identity(path)
	return filepath.EvalSymlinks(path)
}

// DirFS is os.DirFS.
func (r *Reader) DirFS(dir string) fs.FS {
	if r == nil {
		return os.DirFS(dir)
	}
	return folder{r, dir, os.DirFS(dir)}
}

type folder struct {
	r   *Reader
	dir string
	fs.FS
}

func (f folder) path(name string) string { return filepath.Join(f.dir, filepath.FromSlash(name)) }

func (f folder) Open(name string) (fs.File, error) { f.r.File(f.path(name)); return f.FS.Open(name) }

func (f folder) Stat(name string) (fs.FileInfo, error) {
	f.r.File(f.path(name))
	return fs.Stat(f.FS, name)
}

func (f folder) ReadDir(name string) ([]fs.DirEntry, error) {
	f.r.Folder(f.path(name))
	return fs.ReadDir(f.FS, name)
}
