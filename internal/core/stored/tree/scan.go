package tree

import (
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/disk"
)

// Scan lists what is in a folder now, with stamps, on all cores. Contents are
// hashed only when deep; otherwise Sum is empty.
//
// Every entry is reached by a descriptor of its folder, and a file is opened once:
// the paths of a large tree cost more than its bytes.
func Scan(root string, deep bool) (Manifest, error) {
	return (&scan{root: root, deep: deep}).all()
}

// List is a Scan that hashes nothing and leaves out the folders that skip names by their path
// below root, which it asks on several goroutines.
func List(root string, skip func(folder string) bool) (Manifest, error) {
	return (&scan{root: root, skip: skip}).all()
}

func (s *scan) all() (Manifest, error) {
	s.wake.L = &s.mutex
	s.todo = []chunk{{}}
	s.open = 1
	found := make([]Manifest, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for i := range found {
		wait.Go(func() { found[i] = s.work() })
	}
	wait.Wait()
	if s.err != nil {
		return nil, s.err
	}
	m := found[0]
	for _, more := range found[1:] {
		m = merged(m, more)
	}
	return m, nil
}

// merged is two sorted manifests as one.
func merged(a, b Manifest) Manifest {
	if len(b) == 0 {
		return a
	}
	out := make(Manifest, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if a[0].Path < b[0].Path {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// chunk is some work: a folder to list, or some entries of one that was listed.
type chunk struct {
	dir   string // relative to the root, "" for the root itself
	names []fs.DirEntry
}

// chunkSize keeps the files of one large folder from being one worker's alone.
const chunkSize = 256

// scan is the work that is left, shared by the workers.
type scan struct {
	root string
	deep bool
	skip func(folder string) bool // nil: none

	mutex sync.Mutex
	wake  sync.Cond
	todo  []chunk
	open  int // chunks that are waiting or being done
	err   error
}

// next waits for a chunk; ok is false when all is done, or something failed.
func (s *scan) next() (p chunk, ok bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for len(s.todo) == 0 && s.open > 0 && s.err == nil {
		s.wake.Wait()
	}
	if len(s.todo) == 0 || s.err != nil {
		return chunk{}, false
	}
	last := len(s.todo) - 1
	p, s.todo = s.todo[last], s.todo[:last]
	return p, true
}

func (s *scan) add(p chunk) {
	s.mutex.Lock()
	s.todo = append(s.todo, p)
	s.open++
	s.mutex.Unlock()
	s.wake.Signal()
}

// done ends a chunk.
func (s *scan) done(err error) {
	s.mutex.Lock()
	s.open--
	if s.err == nil {
		s.err = err
	}
	if s.open == 0 || s.err != nil {
		s.wake.Broadcast()
	}
	s.mutex.Unlock()
}

// worker is what one goroutine keeps between files.
type worker struct {
	*scan
	hash  *Hasher
	found []Manifest // of a chunk each
}

// sorted is what a worker found, in order: what is moved while it is put so are places, which are
// smaller than entries.
func (w *worker) sorted() Manifest {
	type place struct {
		path     string
		chunk, i int32
	}
	count := 0
	for _, m := range w.found {
		count += len(m)
	}
	places := make([]place, 0, count)
	for chunk, m := range w.found {
		for i := range m {
			places = append(places, place{m[i].Path, int32(chunk), int32(i)})
		}
	}
	slices.SortFunc(places, func(a, b place) int { return strings.Compare(a.path, b.path) })
	out := make(Manifest, count)
	for i, p := range places {
		out[i] = w.found[p.chunk][p.i]
	}
	return out
}

func (s *scan) work() Manifest {
	w := &worker{scan: s}
	if s.deep {
		w.hash = NewHasher()
	}
	for {
		p, ok := s.next()
		if !ok {
			return w.sorted()
		}
		s.done(w.do(p))
	}
}

func (w *worker) do(p chunk) error {
	dir := filepath.Join(w.root, filepath.FromSlash(p.dir))
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	fd := int(f.Fd())
	names := p.names
	if names == nil {
		if names, err = f.ReadDir(-1); err != nil {
			return err
		}
		if len(names) == 0 && p.dir != "" {
			w.found = append(w.found, Manifest{{Type: EmptyDir, Path: p.dir}})
		}
		for len(names) > chunkSize {
			w.add(chunk{p.dir, names[:chunkSize]})
			names = names[chunkSize:]
		}
	}
	found := make(Manifest, 0, len(names))
	defer func() { w.found = append(w.found, found) }()
	for _, d := range names {
		name := d.Name()
		path := name
		if p.dir != "" {
			path = p.dir + "/" + name
		}
		if d.IsDir() {
			if w.skip == nil || !w.skip(path) {
				w.add(chunk{dir: path})
			}
			continue
		}
		e, err := w.entry(fd, name, d.Type())
		if err != nil {
			return &fs.PathError{Op: "reading", Path: filepath.Join(dir, name), Err: err}
		}
		e.Path = path
		found = append(found, e)
	}
	return nil
}

// entry describes a file or a link in an open folder.
func (w *worker) entry(dir int, name string, kind fs.FileMode) (Entry, error) {
	var st unix.Stat_t
	if !w.deep || !kind.IsRegular() {
		if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return Entry{}, err
		}
		e := entryOf(&st)
		if e.Type == Link {
			target, err := readLink(dir, name, int(st.Size))
			e.Target = target
			return e, err
		}
		return e, nil
	}
	fd, err := openFile(dir, name)
	if err != nil {
		return Entry{}, err
	}
	defer unix.Close(fd)
	if err := unix.Fstat(fd, &st); err != nil {
		return Entry{}, err
	}
	e := entryOf(&st)
	w.hash.Reset()
	if err := w.hash.readAll(fd, st.Size); err != nil {
		return Entry{}, err
	}
	e.Sum = w.hash.Sum()
	return e, nil
}

func openFile(dir int, name string) (int, error) {
	for {
		fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
		if err != unix.EINTR {
			return fd, err
		}
	}
}

func readLink(dir int, name string, size int) (string, error) {
	for size = max(size, 64); ; size *= 2 {
		target := make([]byte, size+1)
		n, err := unix.Readlinkat(dir, name, target)
		if err != nil || n < len(target) {
			return string(target[:max(n, 0)]), err
		}
	}
}

// entryOf is what a stat result tells of an entry.
func entryOf(st *unix.Stat_t) Entry {
	e := Entry{Type: '?', Stamp: disk.StampFrom(st)} // a device or pipe: no part has one
	switch mode := uint32(st.Mode); mode & unix.S_IFMT {
	case unix.S_IFLNK:
		e.Type = Link
	case unix.S_IFREG:
		e.Type = File
		if mode&0o100 != 0 {
			e.Type = Executable
		}
	}
	return e
}
