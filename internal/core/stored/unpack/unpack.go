// Package unpack turns archives into trees, safely.
//
// It writes only below the folder it is given, which must be fresh and which
// nobody else writes to, and refuses every archive that tries anything else:
// absolute names, names and links that leave the tree, names below a link,
// devices, setuid bits, names that appear twice, too many entries, and sizes that
// only a bomb has. While it writes it hashes, on all cores, so that the tree
// needs no second reading.
package unpack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/stored/tree"
)

// Limits on what one archive may hold.
const (
	MaxEntries = 500_000
	MaxBytes   = 16 << 30
	maxRatio   = 400 // unpacked bytes to archive bytes; deflate itself ends at 1032
	freeBytes  = 64 << 20

	freeEntries = 8192 // that any archive may hold; beyond, each has taken
	leastEntry  = 50   // bytes of the archive: empty files with names in a row take ten
)

// Rules say how names and modes of an archive become those of the tree.
type Rules struct {
	Prefix     string   // text that every name starts with, dropped
	Strip      int      // leading folders to drop
	Executable []string // paths and globs of files that must be executable
	HashZip    bool     // zip: compute the h1 digest of the module
	Open       bool     // leave the folders writable: more will be put into them
	Docs       bool     // deb: with documentation and translations
	Modes      bool     // files keep the modes that the archive gives them, short of what lets others write
}

// Refused is an archive that does what no honest archive does.
type Refused struct {
	Name string // of the entry
	What string
}

func (r *Refused) Error() string {
	return fmt.Sprintf("the archive is refused: %q %s", r.Name, r.What)
}

// Result is what was unpacked.
type Result struct {
	Manifest tree.Manifest // sorted, with stamps
	H1       string        // of a module zip, when asked for
}

// Archive unpacks the file at archivePath into the empty folder into. On an error
// the folder holds an unfinished tree, which the caller removes.
func Archive(ctx context.Context, archivePath, format, into string, rules Rules) (*Result, error) {
	info, err := os.Stat(archivePath)
	if err != nil {
		return nil, err
	}
	return unpacked(ctx, info.Size(), into, rules, func(w *writer) error {
		switch format {
		case "tar.gz":
			return w.tarGz(archivePath)
		case "tar.xz", "tar.zst", "tar.bz2":
			return w.tarFile(archivePath, strings.TrimPrefix(format, "tar."))
		case "zip":
			return w.zip(archivePath)
		case "deb":
			w.whole, w.modes = true, true
			return w.deb(archivePath)
		}
		if kind, name, ok := strings.Cut(format, ":"); ok && (kind == "binary" || kind == "gz") {
			return w.bare(archivePath, kind, name)
		}
		return fmt.Errorf("archives of the format %q are not known", format)
	})
}

// Stream is Archive for a tar archive with zstd (RFC 8878) that comes as a stream of so many
// bytes. With whole it is a tree of a system, which may hold names that a tool may not have.
func Stream(ctx context.Context, from io.Reader, size int64, whole bool, into string, rules Rules) (*Result, error) {
	return unpacked(ctx, size, into, rules, func(w *writer) error {
		w.whole = whole
		return w.tarOf(from, "zst")
	})
}

// unpacked makes a tree of what read gives, from an archive of so many bytes.
func unpacked(ctx context.Context, size int64, into string, rules Rules, read func(w *writer) error) (*Result, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	w := &writer{ctx: ctx, cancel: cancel, root: into, rules: rules, dirs: map[string]bool{".": false}, names: map[string]tree.Type{}, modes: rules.Modes, size: size}
	w.budget = min(int64(MaxBytes), size*maxRatio+freeBytes)
	w.start()
	err := read(w)
	close(w.jobs)
	w.wait.Wait()
	for _, f := range w.after {
		f()
	}
	if cause := context.Cause(ctx); cause != nil {
		return nil, cause
	}
	if err != nil {
		return nil, err
	}
	m, err := w.finish()
	if err != nil {
		return nil, err
	}
	if name, leaves := m.Leaving(); leaves {
		return nil, &Refused{name, "is a link that leaves the tree by way of others"}
	}
	return &Result{m, w.h1}, nil
}

// writer makes the tree. One goroutine reads the archive and checks names; the
// workers write and hash.
type writer struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	root   string
	rules  Rules
	budget int64 // bytes that may still be written
	size   int64 // of the archive
	read   atomic.Int64
	listed int64 // bytes of an archive whose entries are listed in one place, as in a zip; else 0

	dirs  map[string]bool      // folders made; true when something is in them
	names map[string]tree.Type // entries, to find those that appear twice
	again []tree.Entry         // files whose names were there before
	links []link
	jobs  chan job
	wait  sync.WaitGroup
	after []func() // to do when the workers are done
	h1    string
	whole bool // the tree is of a system, not of one tool

	mu      sync.Mutex
	entries tree.Manifest
	modes   bool // files keep the modes that the archive gives them
}

// tellEvery is how many bytes of an archive are read between two words about it.
const tellEvery = 1 << 20

// advance counts bytes of the archive that were read, and tells of them now and then.
func (w *writer) advance(n int64) {
	now := w.read.Add(n)
	if now/tellEvery != (now-n)/tellEvery {
		event.Advance(w.ctx, event.Bytes, min(now, w.size), w.size)
	}
}

// counted is an archive whose reading is told of.
type counted struct {
	io.Reader
	w *writer
}

func (c counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.w.advance(int64(n))
	return n, err
}

type link struct{ name, target string }

// job is a file to write. Its content comes as a function (zip, read by the
// worker) or as chunks (tar, read by the one reader).
type job struct {
	name       string
	executable bool
	mode       os.FileMode // to have exactly; 0 for one that nobody may write
	chunks     chan []byte
	copy       func(w io.Writer, buffer []byte) error
}

func (w *writer) start() {
	workers := runtime.GOMAXPROCS(0)
	w.jobs = make(chan job, 256)
	for range workers {
		w.wait.Go(func() {
			k := kits.Get().(*kit)
			defer kits.Put(k)
			for j := range w.jobs {
				if w.ctx.Err() == nil {
					if err := w.file(j, k.h, k.buffer); err != nil {
						w.cancel(err)
					}
				}
				if j.chunks != nil {
					for c := range j.chunks { // never leave the reader waiting
						recycle(c)
					}
				}
			}
		})
	}
}

// file writes and hashes one file.
func (w *writer) file(j job, h *tree.Hasher, buffer []byte) error {
	mode := os.FileMode(0o444)
	kind := tree.File
	if j.executable {
		mode, kind = 0o555, tree.Executable
	}
	f, err := os.OpenFile(filepath.Join(w.root, filepath.FromSlash(j.name)), os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	defer f.Close()
	if j.mode != 0 {
		if err := f.Chmod(j.mode); err != nil {
			return err
		}
	}
	h.Reset()
	if j.copy != nil {
		err = j.copy(io.MultiWriter(f, h), buffer)
	} else {
		for c := range j.chunks {
			if err == nil {
				if _, err = f.Write(c); err == nil {
					h.Write(c)
				}
			}
			recycle(c)
		}
	}
	if err != nil {
		return err
	}
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	e := tree.Entry{Type: kind, Sum: h.Sum(), Path: j.name, Stamp: disk.StampFrom(&st)}
	w.mu.Lock()
	w.entries = append(w.entries, e)
	w.mu.Unlock()
	return nil
}

// name turns the name of an entry into that of the tree; "" means: leave it out.
func (w *writer) name(raw string, isDir bool) (string, error) {
	if strings.ContainsRune(raw, 0) || strings.ContainsRune(raw, '\\') && !w.whole {
		return "", &Refused{raw, "has a character that file names do not have everywhere"}
	}
	if strings.HasPrefix(raw, "/") {
		return "", &Refused{raw, "is an absolute name"}
	}
	for word := range strings.SplitSeq(raw, "/") {
		if word == ".." {
			return "", &Refused{raw, "leaves the tree"}
		}
	}
	if !strings.HasPrefix(raw, w.rules.Prefix) {
		if isDir && strings.HasPrefix(w.rules.Prefix, strings.TrimSuffix(raw, "/")) {
			return "", nil
		}
		return "", &Refused{raw, fmt.Sprintf("does not start with %q", w.rules.Prefix)}
	}
	name := path.Clean(raw[len(w.rules.Prefix):])
	for range w.rules.Strip {
		_, rest, ok := strings.Cut(name, "/")
		if !ok {
			if isDir {
				return "", nil
			}
			return "", &Refused{raw, "lies above the folder that is unpacked"}
		}
		name = rest
	}
	if name == "." {
		return "", nil
	}
	return name, nil
}

// Greatest sizes of a name: of a word, as file systems have it (NAME_MAX), and of the
// whole, with room for the folder that it is unpacked into (PATH_MAX).
const (
	maxWord = 255
	maxName = 3000
)

// room refuses one more entry where there are too many for what was read of the archive so far. Folders
// count too, also those that are made on the way to others.
func (w *writer) room(name string) error {
	many, read := int64(len(w.names)+len(w.dirs)), max(w.read.Load(), w.listed)
	if many >= MaxEntries {
		return &Refused{name, fmt.Sprintf("is entry number %d", MaxEntries+1)}
	}
	if many > freeEntries+2*read/leastEntry {
		return &Refused{name, fmt.Sprintf("is entry number %d in the first %d bytes, which no honest archive holds", many, read)}
	}
	return nil
}

// claim takes a name and makes its folders.
func (w *writer) claim(name string, kind tree.Type) error {
	if len(name) > maxName {
		return &Refused{name[:40] + "…", fmt.Sprintf("has a name of %d bytes", len(name))}
	}
	for word := range strings.SplitSeq(name, "/") {
		if len(word) > maxWord {
			return &Refused{word[:40] + "…", fmt.Sprintf("has a name of %d bytes", len(word))}
		}
	}
	if _, twice := w.names[key(name)]; twice {
		return &Refused{name, "appears twice"}
	}
	if err := w.room(name); err != nil {
		return err
	}
	w.names[key(name)] = kind
	if _, isDir := w.dirs[name]; isDir {
		return &Refused{name, "is a folder as well"}
	}
	return w.mkdir(path.Dir(name), true)
}

// key is a name as the file system compares it.
func key(name string) string {
	if runtime.GOOS == "darwin" {
		return strings.ToLower(name)
	}
	return name
}

// mkdir makes a folder and those above it.
func (w *writer) mkdir(dir string, used bool) error {
	if was, ok := w.dirs[dir]; ok {
		if used && !was {
			w.dirs[dir] = true
		}
		return nil
	}
	if kind, taken := w.names[key(dir)]; taken {
		if kind == tree.Link {
			return &Refused{dir, "is a link, and other entries lie below it"}
		}
		return &Refused{dir, "is a file, and other entries lie below it"}
	}
	if err := w.mkdir(path.Dir(dir), true); err != nil {
		return err
	}
	if err := w.room(dir); err != nil {
		return err
	}
	w.dirs[dir] = used
	return os.Mkdir(filepath.Join(w.root, filepath.FromSlash(dir)), 0o755)
}

func (w *writer) symlink(name, target string) error {
	if path.IsAbs(target) || target == "" || strings.ContainsRune(target, 0) {
		return &Refused{name, fmt.Sprintf("is a link to %q, outside the tree", target)}
	}
	if to := path.Join(path.Dir(name), target); to == ".." || strings.HasPrefix(to, "../") {
		return &Refused{name, fmt.Sprintf("is a link to %q, outside the tree", target)}
	}
	if err := w.claim(name, tree.Link); err != nil {
		return err
	}
	full := filepath.Join(w.root, filepath.FromSlash(name))
	if err := os.Symlink(target, full); err != nil {
		return err
	}
	w.mu.Lock()
	w.entries = append(w.entries, tree.Entry{Type: tree.Link, Target: target, Path: name, Stamp: disk.LinkStampOf(full)})
	w.mu.Unlock()
	return nil
}

func (w *writer) executable(name string, mode fs.FileMode) bool {
	if mode&0o100 != 0 {
		return true
	}
	for _, pattern := range w.rules.Executable {
		if ok, _ := doublestar.Match(pattern, name); ok {
			return true
		}
	}
	return false
}

// spend counts bytes against the budget.
func (w *writer) spend(name string, bytes int64) error {
	if w.budget -= bytes; w.budget < 0 || bytes < 0 {
		return &Refused{name, "takes more room than an archive of this size honestly holds"}
	}
	return nil
}

// finish makes hard links, finds empty folders and closes the tree for writing.
func (w *writer) finish() (tree.Manifest, error) {
	byName := make(map[string]tree.Entry, len(w.entries))
	for _, e := range w.entries {
		byName[e.Path] = e
	}
	for _, e := range w.again {
		if first := byName[e.Path]; first.Type != e.Type || first.Sum != e.Sum {
			return nil, &Refused{e.Path, "appears twice, and not with the same content"}
		}
	}
	for _, l := range w.links {
		e, ok := byName[l.target]
		if !ok || e.Type == tree.Link {
			return nil, &Refused{l.name, fmt.Sprintf("is a hard link to %q, which is no file of the archive", l.target)}
		}
		if err := os.Link(filepath.Join(w.root, filepath.FromSlash(l.target)), filepath.Join(w.root, filepath.FromSlash(l.name))); err != nil {
			return nil, err
		}
		e.Path = l.name
		w.entries = append(w.entries, e)
		byName[l.name] = e
	}
	for dir, used := range w.dirs {
		full := filepath.Join(w.root, filepath.FromSlash(dir))
		if !used && dir != "." {
			w.entries = append(w.entries, tree.Entry{Type: tree.EmptyDir, Path: dir})
		}
		if w.rules.Open {
			continue
		}
		if err := os.Chmod(full, 0o555); err != nil {
			return nil, err
		}
	}
	if len(w.links) > 0 { // a hard link changes the change time of both names
		for i, e := range w.entries {
			if e.Type == tree.File || e.Type == tree.Executable {
				w.entries[i].Stamp = disk.LinkStampOf(filepath.Join(w.root, filepath.FromSlash(e.Path)))
			}
		}
	}
	if len(w.entries) == 0 {
		return nil, errors.New("the archive is empty")
	}
	w.entries.Sort()
	return w.entries, nil
}
