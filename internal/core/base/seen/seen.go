// Package seen notes what a command looks at, so that its answer can be kept, and given again for
// as long as all of that is as it was (kept.Answer).
//
// Nothing is noted until Begin: a process answers one question, so that there is one set of notes.
// Who looks at a file by other means than this package's says so with At, before looking; what
// no stamp of a file tells (another process, the network, the clock) is a Doubt, and the answer
// is not kept; but for a supervisor, which is asked again (Asked). A test compares the notes with the system calls of the command.
package seen

import (
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"app.example/trammel/internal/core/base/kept"
)

// most is how many things an answer may rest on: with more, looking at each is no faster than
// answering anew.
const most = 20_000

// Notes are what was looked at since they were begun.
type Notes struct {
	mu        sync.Mutex
	began     int64
	until     int64
	entries   map[string]kept.File
	targets   map[string]kept.File
	links     map[string]bool // which of the entries are symbolic links
	passed    map[string]kept.File
	variables map[string]string
	asked     map[string]string // supervisors, by socket: the sum of what they say
	doubt     string
	over      atomic.Bool // nothing is noted any more: there is a doubt, and none goes away
}

var current atomic.Pointer[Notes]

// Begin begins to note, for this process.
func Begin() *Notes {
	n := &Notes{began: time.Now().UnixNano(), entries: map[string]kept.File{}, targets: map[string]kept.File{}, links: map[string]bool{}, passed: map[string]kept.File{}, variables: map[string]string{}, asked: map[string]string{}}
	current.Store(n)
	return n
}

// Noting tells whether somebody will want the notes.
func Noting() bool { return noting() != nil }

func noting() *Notes {
	if n := current.Load(); n != nil && !n.over.Load() {
		return n
	}
	return nil
}

// Many says how many files are about to be looked at, where that is known: no note is made of
// more than are worth it.
func Many(files int) {
	if n := noting(); n != nil && files > most {
		n.doubts("more than are worth it")
	}
}

// At notes that a file or folder is about to be looked at, or found missing. Of a folder it
// notes which names are in it, and not what those are; but for links, which cannot change without it.
func At(path string) { at(path, true) }

func at(path string, follow bool) {
	n := noting()
	if n == nil {
		return
	}
	if !filepath.IsAbs(path) {
		n.doubts("a path that is not absolute: " + path)
		return
	}
	path = filepath.Clean(path)
	entry, link := kept.Entry(path)
	var target kept.File
	if link && follow {
		target = kept.Target(path)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	was, known := n.entries[path]
	if known && was != entry || !entry.Settled(n.began) {
		n.because("it changes: " + path)
	}
	if len(n.entries) >= most {
		n.because("more than are worth it")
		return
	}
	n.entries[path] = entry
	if link {
		n.links[path] = true
	}
	if link && follow {
		if !target.Settled(n.began) {
			n.because("it changes: " + path)
		}
		n.targets[path] = target
	}
}

// pass notes that a path goes through a folder: what else is in it decides nothing.
func pass(path string) {
	if n := noting(); n != nil {
		stamp := kept.PassedStamp(path)
		n.mu.Lock()
		defer n.mu.Unlock()
		if was, known := n.passed[path]; known && was != stamp {
			n.because("it changes: " + path)
		}
		n.passed[path] = stamp
	}
}

// Doubt says that the answer rests on what no file tells, and on what.
func Doubt(on string) {
	if n := current.Load(); n != nil {
		n.doubts(on)
	}
}

func (n *Notes) doubts(on string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.because(on)
}

// because is a doubt, said with the lock held.
func (n *Notes) because(on string) {
	n.doubt = on
	n.over.Store(true)
}

// Asked notes what a supervisor said the sum of all that it can say is, before it was asked.
func Asked(socket, sum string) {
	n := noting()
	if n == nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if was, known := n.asked[socket]; sum == "" || known && was != sum {
		n.because("what the supervisor says")
	}
	n.asked[socket] = sum
}

// Until says that the answer is another one from a moment on.
func Until(t time.Time) {
	n := current.Load()
	if n == nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if at := t.UnixNano(); n.until == 0 || at < n.until {
		n.until = at
	}
}

// Variable notes that a variable of the environment was looked at.
func Variable(name, value string, set bool) {
	n := current.Load()
	if n == nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.variables[name] = kept.Variable(name, value, set)
}

// Answer is a reply with all that it rests on; ok is false where there is a doubt.
func (n *Notes) Answer(q kept.Question, program kept.File, r kept.Reply) (a kept.Answer, ok bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.doubt != "" {
		return kept.Answer{}, false
	}
	a = kept.Answer{Question: q, Program: program, Until: n.until, Reply: r}
	for _, v := range n.variables {
		a.Variables = append(a.Variables, v)
	}
	slices.Sort(a.Variables)
	for _, socket := range slices.Sorted(maps.Keys(n.asked)) {
		a.Asked = append(a.Asked, kept.Asked{Socket: socket, Sum: n.asked[socket]})
	}
	a.Entries, a.Targets, a.Passed = sorted(n.entries), sorted(n.targets), sorted(n.passed)
	a.Entries = slices.DeleteFunc(a.Entries, n.toldByFolder)
	return a, true
}

// toldByFolder tells whether an entry need not be looked at again, since its folder is: what is
// missing does not come, and a symbolic link does not become another one, without the folder's
// showing it, or the folder's being missing itself.
func (n *Notes) toldByFolder(f kept.File) bool {
	if f != (kept.File{Path: f.Path}) && !n.links[f.Path] {
		return false
	}
	folder := filepath.Dir(f.Path)
	if folder == f.Path {
		return false
	}
	if n.links[folder] {
		_, known := n.targets[folder]
		return known
	}
	_, known := n.entries[folder]
	return known
}

func sorted(files map[string]kept.File) []kept.File {
	out := make([]kept.File, 0, len(files))
	for _, f := range files {
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b kept.File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// Stat is os.Stat, noted.
func Stat(path string) (fs.FileInfo, error) { At(path); return os.Stat(path) }

// Lstat is os.Lstat, noted.
func Lstat(path string) (fs.FileInfo, error) { at(path, false); return os.Lstat(path) }

// ReadDir is os.ReadDir, noted.
func ReadDir(path string) ([]fs.DirEntry, error) { At(path); return os.ReadDir(path) }

// Readlink is os.Readlink, noted; not what the link leads to.
func Readlink(path string) (string, error) { at(path, false); return os.Readlink(path) }

// EvalSymlinks is filepath.EvalSymlinks, noted with each folder on the way.
func EvalSymlinks(path string) (string, error) {
	if Noting() {
		for at := path; ; at = filepath.Dir(at) {
			pass(at)
			if at == filepath.Dir(at) {
				break
			}
		}
	}
	return filepath.EvalSymlinks(path)
}

// Getenv is os.Getenv, noted.
func Getenv(name string) string {
	value, set := os.LookupEnv(name)
	Variable(name, value, set)
	return value
}

// Glob is filepath.Glob, of which no stamp tells that it finds the same again.
func Glob(pattern string) ([]string, error) {
	Doubt("what " + pattern + " finds")
	return filepath.Glob(pattern)
}

// DirFS is os.DirFS, noted.
func DirFS(dir string) fs.FS { return folder{dir, os.DirFS(dir)} }

type folder struct {
	dir string
	fs.FS
}

func (f folder) note(name string) { At(filepath.Join(f.dir, filepath.FromSlash(name))) }

func (f folder) Open(name string) (fs.File, error) { f.note(name); return f.FS.Open(name) }

func (f folder) Stat(name string) (fs.FileInfo, error) { f.note(name); return fs.Stat(f.FS, name) }

func (f folder) ReadDir(name string) ([]fs.DirEntry, error) {
	f.note(name)
	return fs.ReadDir(f.FS, name)
}
