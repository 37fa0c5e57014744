// Package history walks the earlier states of a project's lock: those that version
// control holds, or, without it, the last twenty that were kept beside the checkout.
//
// It reads git's own repositories, also shallow ones, as far as their history goes. A
// commit counts when its lock is other than that of each of its parents; so a merge
// counts only when it made a lock of its own.
package history

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/lock"
)

// Revision is an earlier state of a lock.
type Revision struct {
	ID      string    // of a commit, or the name of a kept lock
	At      time.Time // when it was committed or put aside
	Subject string    // the commit's first line; no name is read
	Changes []string  // what it did differently than the one before it
	Lock    *lock.Lock

	Declaration []byte // as it was then; nil where it was not kept
}

// Short is the id as people type it.
func (r Revision) Short() string {
	if strings.Contains(r.ID, "-") { // one that was put aside
		return r.ID
	}
	return r.ID[:min(len(r.ID), 12)]
}

// History is where earlier locks come from.
type History struct {
	Dir  string // of the project
	Kept string // folder of locks that were put aside

	repository *git.Repository
	below      string // the project's folder within the repository, "" at its top
}

// Open finds the history of a project.
func Open(dir, kept string) (*History, error) {
	h := &History{Dir: dir, Kept: kept}
	if path := waits(dir); path != "" {
		return nil, fault.New(fault.ErrFailed, "the repository around %s is not read: %s is neither a file nor a folder", dir, path).
			Advise("git makes nothing of that kind. Remove it: rm %s", shell.Typed(path))
	}
	r, err := git.PlainOpenWithOptions(dir, &git.PlainOpenOptions{DetectDotGit: true, EnableDotGitCommonDir: true})
	if errors.Is(err, git.ErrRepositoryNotExists) {
		return h, nil
	}
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "the repository around %s cannot be read: %v", dir, err)
	}
	work, err := r.Worktree()
	if err != nil {
		return h, nil // a repository without files has no project in it
	}
	top, err := filepath.EvalSymlinks(work.Filesystem.Root())
	if err != nil {
		return nil, err
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	below, err := filepath.Rel(top, real)
	if err != nil || strings.HasPrefix(below, "..") {
		return h, nil
	}
	if below != "." {
		h.below = filepath.ToSlash(below) + "/"
	}
	h.repository = r
	return h, nil
}

// waits finds what an archive can bring along in place of a repository's files, and of which a reader
// would wait for a writer or never come to an end: a pipe, a device, a socket. It is "" where all are
// files, folders and links.
func waits(dir string) (path string) {
	for d := dir; ; d = filepath.Dir(d) {
		at := filepath.Join(d, git.GitDirName)
		if _, err := os.Lstat(at); err == nil {
			_ = filepath.WalkDir(at, func(name string, e fs.DirEntry, err error) error {
				kind := fs.FileMode(0)
				if err == nil {
					kind = e.Type()
				}
				if kind&fs.ModeSymlink != 0 {
					if info, err := os.Stat(name); err == nil {
						kind = info.Mode().Type()
					}
				}
				if err == nil && kind&(fs.ModeNamedPipe|fs.ModeDevice|fs.ModeSocket) != 0 {
					path = name
					return fs.SkipAll
				}
				return nil
			})
			return path
		}
		if d == filepath.Dir(d) {
			return ""
		}
	}
}

// Versioned tells whether version control holds the history.
func (h *History) Versioned() bool { return h.repository != nil }

// List are the revisions, the newest first, at most limit of them (all when it is 0).
// cut tells that the history goes on where it is not here: a shallow clone.
func (h *History) List(limit int) (out []Revision, cut bool, err error) {
	if h.repository == nil {
		return h.kept(limit)
	}
	head, err := h.repository.Head()
	if err != nil {
		return h.kept(limit) // nothing is committed yet
	}
	// The newest of those whose children were looked at comes next. A parent that is not here ends its
	// line of a shallow clone, and the commit itself counts.
	var waiting []*object.Commit
	seen := map[plumbing.Hash]bool{}
	wait := func(id plumbing.Hash) error {
		if seen[id] {
			return nil
		}
		seen[id] = true
		c, err := h.repository.CommitObject(id)
		if errors.Is(err, plumbing.ErrObjectNotFound) {
			cut = true
			return nil
		}
		if err != nil {
			return err
		}
		at, _ := slices.BinarySearchFunc(waiting, c, func(a, b *object.Commit) int { return a.Committer.When.Compare(b.Committer.When) })
		waiting = slices.Insert(waiting, at, c)
		return nil
	}
	if err := wait(head.Hash()); err != nil {
		return nil, false, err
	}
	for len(waiting) > 0 && (limit == 0 || len(out) < limit) {
		c := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		for _, id := range c.ParentHashes {
			if err := wait(id); err != nil {
				return nil, false, err
			}
		}
		r, is, missing, err := h.revision(c)
		if err != nil {
			return nil, false, err
		}
		cut = cut || missing
		if is {
			out = append(out, r)
		}
	}
	return out, cut, nil
}

// Committed tells whether version control has a commit, which Find counts from.
func (h *History) Committed() bool {
	if h.repository == nil {
		return false
	}
	_, err := h.repository.Head()
	return err == nil
}

// Uncommitted are the locks that were put aside in the checkout and that no listed revision has,
// the newest first: what was in force and was never committed.
func (h *History) Uncommitted(listed []Revision) ([]Revision, error) {
	if !h.Committed() {
		return nil, nil // they are the list
	}
	all, _, err := h.kept(0)
	known := map[lock.ID]bool{}
	for _, r := range listed {
		if r.Lock != nil {
			known[r.Lock.ID()] = true
		}
	}
	var out []Revision
	for _, r := range all {
		if id := r.Lock.ID(); !known[id] {
			known[id] = true
			out = append(out, r)
		}
	}
	return out, err
}

// Same tells whether a file of the project is in the last commit as it is here.
func (h *History) Same(name string, content []byte) bool {
	if !h.Committed() {
		return false
	}
	head, err := h.repository.Head()
	if err != nil {
		return false
	}
	c, err := h.repository.CommitObject(head.Hash())
	if err != nil {
		return false
	}
	id, err := h.blob(c, name)
	if err != nil || id.IsZero() {
		return false
	}
	committed, err := h.content(id)
	return err == nil && string(committed) == string(content)
}

// blob is the id of a file in a commit; zero where it has none.
func (h *History) blob(c *object.Commit, name string) (plumbing.Hash, error) {
	tree, err := c.Tree()
	if err != nil {
		return plumbing.ZeroHash, err
	}
	e, err := tree.FindEntry(h.below + name)
	if err != nil { // or a folder above it is not there
		return plumbing.ZeroHash, nil
	}
	return e.Hash, nil
}

func (h *History) content(id plumbing.Hash) ([]byte, error) {
	b, err := h.repository.BlobObject(id)
	if err != nil {
		return nil, err
	}
	r, err := b.Reader()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// revision tells whether a commit changed the lock, and how.
func (h *History) revision(c *object.Commit) (r Revision, is, cut bool, err error) {
	own, err := h.blob(c, lock.FileName)
	if err != nil || own.IsZero() {
		return r, false, false, err
	}
	var before plumbing.Hash
	for i, id := range c.ParentHashes {
		parent, err := h.repository.CommitObject(id)
		if errors.Is(err, plumbing.ErrObjectNotFound) {
			cut = true
			continue
		}
		if err != nil {
			return r, false, cut, err
		}
		theirs, err := h.blob(parent, lock.FileName)
		if err != nil {
			return r, false, cut, err
		}
		if theirs.IsZero() { // the project may have been in another folder before
			below, moved, err := movedFrom(parent, own)
			if err != nil {
				return r, false, cut, err
			}
			if moved {
				h.below, theirs = below, own
			}
		}
		if theirs == own {
			return r, false, cut, nil
		}
		if i == 0 {
			before = theirs
		}
	}
	r = Revision{ID: c.Hash.String(), At: c.Committer.When, Subject: strings.SplitN(c.Message, "\n", 2)[0]}
	if r.Lock, err = h.lockOf(own); err != nil {
		r.Changes = []string{"a lock that cannot be read: " + strings.SplitN(err.Error(), "\n", 2)[0]}
		return r, true, cut, nil
	}
	var old *lock.Lock
	if !before.IsZero() {
		old, _ = h.lockOf(before)
	}
	switch {
	case cut && before.IsZero():
		r.Changes = []string{"what it changed is not in this shallow clone"}
	case old == nil:
		r.Changes = []string{"the first lock"}
	default:
		r.Changes = lock.Changes(old, r.Lock)
	}
	if file, err := h.blob(c, "trammel.toml"); err == nil && !file.IsZero() {
		if r.Declaration, err = h.content(file); err != nil {
			return r, false, cut, err
		}
	}
	return r, true, cut, nil
}

// movedFrom finds the folder in which a commit has just this lock.
func movedFrom(c *object.Commit, own plumbing.Hash) (below string, found bool, err error) {
	tree, err := c.Tree()
	if err != nil {
		return "", false, err
	}
	walker := object.NewTreeWalker(tree, true, nil)
	defer walker.Close()
	for {
		name, entry, err := walker.Next()
		if errors.Is(err, io.EOF) {
			return "", false, nil
		}
		if err != nil {
			return "", false, err
		}
		if entry.Hash == own && path.Base(name) == lock.FileName {
			return strings.TrimSuffix(name, lock.FileName), true, nil
		}
	}
}

func (h *History) lockOf(id plumbing.Hash) (*lock.Lock, error) {
	raw, err := h.content(id)
	if err != nil {
		return nil, err
	}
	return lock.Parse(raw)
}

// Find gives the state of the lock at a revision: of a commit, branch or tag, or the
// number of a revision in the list, 1 being the one before the present.
func (h *History) Find(rev string) (Revision, error) {
	var n int
	if _, err := fmt.Sscanf(rev, "%d", &n); err == nil && fmt.Sprint(n) == rev && n > 0 && n < 10000 {
		list, _, err := h.List(n + 1)
		if err != nil {
			return Revision{}, err
		}
		if !h.Committed() {
			n-- // what was put aside is not the present one
		} else if now, err := lock.Read(h.Dir); err == nil && len(list) > 0 && list[0].Lock != nil && list[0].Lock.ID() != now.ID() {
			n-- // the present one is not committed, so that one back is what is
		}
		if n < len(list) {
			return list[n], nil
		}
		return Revision{}, fault.New(fault.ErrUsage, "there is no earlier lock number %s", rev).Advise("List them: trammel recall --list")
	}
	list, _, err := h.kept(0)
	for _, r := range list {
		if r.ID == rev {
			return r, err
		}
	}
	if !h.Committed() {
		return Revision{}, errNone(rev)
	}
	id, err := h.repository.ResolveRevision(plumbing.Revision(rev))
	if err != nil {
		return Revision{}, errNone(rev)
	}
	c, err := h.repository.CommitObject(*id)
	if err != nil {
		return Revision{}, errNone(rev)
	}
	own, err := h.blob(c, lock.FileName)
	if err != nil {
		return Revision{}, err
	}
	if own.IsZero() { // or the project was in another folder then
		list, _, err := h.List(0)
		if i := slices.IndexFunc(list, func(r Revision) bool { return r.ID == id.String() }); err == nil && i >= 0 {
			return list[i], nil
		}
		return Revision{}, fault.New(fault.ErrUsage, "%s has no %s", rev, lock.FileName).Advise("List those that have one: trammel recall --list")
	}
	r := Revision{ID: c.Hash.String(), At: c.Committer.When, Subject: strings.SplitN(c.Message, "\n", 2)[0]}
	if r.Lock, err = h.lockOf(own); err != nil {
		return r, fault.New(fault.ErrUsage, "the lock of %s cannot be read: %v", rev, err)
	}
	if file, err := h.blob(c, "trammel.toml"); err == nil && !file.IsZero() {
		r.Declaration, err = h.content(file)
		return r, err
	}
	return r, nil
}

func errNone(rev string) error {
	return fault.New(fault.ErrUsage, "nothing is called %q in the history of the lock", rev).Advise("List what there is: trammel recall --list")
}

// keep is how many locks are put aside.
const keep = 20

// stamp is how a lock that was put aside is called: when that was, in UTC.
const stamp = "20060102-150405"

// PutAside keeps a lock, and the declaration it was made of where that is known, for a
// project without version control.
func PutAside(kept string, l *lock.Lock, declaration []byte, now time.Time) error {
	// Several within a second keep their order, also after the first of them went.
	second, n := now.UTC().Format(stamp), 0
	same, _ := filepath.Glob(filepath.Join(kept, second+"-*.lock"))
	for _, f := range same {
		var last int
		if _, err := fmt.Sscanf(filepath.Base(f)[len(second):], "-%03d.lock", &last); err == nil {
			n = max(n, last)
		}
	}
	name := fmt.Sprintf("%s-%03d", second, n+1)
	if declaration != nil {
		if err := disk.Write(filepath.Join(kept, name+".toml"), declaration, 0o600); err != nil {
			return err
		}
	}
	if err := l.WriteFile(filepath.Join(kept, name+".lock")); err != nil {
		return err
	}
	all, _ := filepath.Glob(filepath.Join(kept, "*.lock"))
	slices.Sort(all)
	for _, old := range all[:max(0, len(all)-keep)] {
		_ = os.Remove(strings.TrimSuffix(old, ".lock") + ".toml")
		if err := os.Remove(old); err != nil {
			return err
		}
	}
	return nil
}

// kept lists what was put aside, the newest first.
func (h *History) kept(limit int) (out []Revision, cut bool, err error) {
	files, _ := filepath.Glob(filepath.Join(h.Kept, "*.lock"))
	slices.Sort(files)
	slices.Reverse(files)
	for i, f := range files {
		if limit > 0 && len(out) == limit {
			break
		}
		name := strings.TrimSuffix(filepath.Base(f), ".lock")
		r := Revision{ID: name}
		r.At, _ = time.Parse(stamp, name[:min(len(name), len(stamp))])
		if r.Lock, err = lock.ReadFile(f); err != nil {
			continue // one that a full disk cut, say: the others are still worth having
		}
		r.Declaration, _ = disk.ReadWithin(h.Kept, name+".toml", disk.MostText)
		if i+1 < len(files) {
			if before, err := lock.ReadFile(files[i+1]); err == nil {
				r.Changes = lock.Changes(before, r.Lock)
			}
		} else {
			r.Changes = []string{"the first lock that was kept"}
		}
		out = append(out, r)
	}
	return out, false, nil
}
