// Package merge makes one tree of several that are in the store, by hard links to their
// files, with files of its own beside them: a whole system of packages, a set of libraries.
// The same pieces give the same tree.
package merge

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/stored/tree"
)

// Piece is one unpacked part.
type Piece struct {
	Name     string
	Version  string
	Dir      string // of its tree in the store
	Manifest tree.Manifest
}

// Tree is a tree that is being made.
type Tree struct {
	Dir    string
	Pieces []Piece
	Placed map[string]Placed // path → what is there
	Dirs   map[string]bool   // folders with entries

	// Settle decides between two pieces that want one path for different things: it gives
	// the entry to have, or an error.
	Settle func(old, x Placed) (Placed, error)
	Modes  bool // what is made may be written by its owner, as in a system
}

// Placed is an entry and the piece that it is of, -1 for one that is made here.
type Placed struct {
	tree.Entry
	Piece int
	From  string // path in the piece
}

// New starts a tree in an empty folder.
func New(dir string) *Tree {
	return &Tree{Dir: dir, Placed: map[string]Placed{}, Dirs: map[string]bool{".": true}}
}

// Put places an entry, or has it settled when another one is there.
func (b *Tree) Put(x Placed) (err error) {
	old, taken := b.Placed[x.Path]
	switch {
	case !taken, old.Type == tree.EmptyDir, x.Piece < 0:
	case x.Type == tree.EmptyDir, old.Entry.Same(x.Entry):
		return nil
	default:
		if x, err = b.Settle(old, x); err != nil {
			return err
		}
	}
	b.Placed[x.Path] = x
	for dir := path.Dir(x.Path); !b.Dirs[dir]; dir = path.Dir(dir) {
		b.Dirs[dir] = true
	}
	return nil
}

// Tidy drops what a folder with entries stands in the place of.
func (b *Tree) Tidy() {
	for name, at := range b.Placed {
		if (at.Type == tree.Link || at.Type == tree.EmptyDir) && b.Dirs[name] {
			delete(b.Placed, name)
		}
	}
}

// Make places a file with content of its own.
func (b *Tree) Make(name string, content []byte) error { return b.own(name, content, tree.File) }

// MakeCommand places a file of its own that may be executed.
func (b *Tree) MakeCommand(name string, content []byte) error {
	return b.own(name, content, tree.Executable)
}

func (b *Tree) own(name string, content []byte, kind tree.Type) error {
	mode := fs.FileMode(0o444)
	if kind == tree.Executable {
		mode = 0o555
	}
	if b.Modes {
		mode |= 0o200
	}
	// A piece may have a link of this name, or a file that it shares with the store: both
	// are replaced, never written into.
	if err := disk.FillWithin(b.Dir, name, content, mode); err != nil {
		return err
	}
	sum := blake3.Sum256(content)
	return b.Put(Placed{tree.Entry{Type: kind, Sum: hex.EncodeToString(sum[:]), Path: name}, -1, ""})
}

// Link places a symbolic link.
func (b *Tree) Link(name, target string) error {
	return b.Put(Placed{tree.Entry{Type: tree.Link, Target: target, Path: name}, -1, ""})
}

func (b *Tree) mkdir(dir string) error {
	return os.MkdirAll(filepath.Join(b.Dir, filepath.FromSlash(dir)), 0o755)
}

// Write makes the folders, links and hard links that were decided.
func (b *Tree) Write(ctx context.Context) error {
	return b.Each(ctx, func(names []string) error {
		made := map[string]bool{".": true}
		for _, name := range names {
			dir := path.Dir(name)
			if b.Placed[name].Type == tree.EmptyDir {
				dir = name
			}
			if !made[dir] {
				for d := dir; !made[d]; d = path.Dir(d) {
					made[d] = true
				}
				if err := b.mkdir(dir); err != nil {
					return err
				}
			}
			if err := b.write(name); err != nil {
				return err
			}
		}
		return nil
	})
}

// write makes one thing in its folder.
func (b *Tree) write(name string) error {
	x, full := b.Placed[name], filepath.Join(b.Dir, name)
	switch {
	case x.Type == tree.EmptyDir:
	case x.Type == tree.Link:
		return os.Symlink(x.Target, full)
	case x.Piece >= 0:
		if err := hardLink(filepath.Join(b.Pieces[x.Piece].Dir, filepath.FromSlash(x.From)), full); err != nil {
			return fmt.Errorf("%s of %s: %w", name, b.Pieces[x.Piece].Name, err)
		}
	}
	return nil
}

// run is how many names one core takes at a time: neighbours, which share folders.
const run = 256

// Each hands the names of all that was decided out, sorted and in parts, to all cores at once.
func (b *Tree) Each(ctx context.Context, do func(names []string) error) error {
	names := slices.Sorted(maps.Keys(b.Placed))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for part := range slices.Chunk(names, run) {
		work.Go(func() error {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			return do(part)
		})
	}
	return work.Wait()
}

// hardLink links a file, or copies it where a file has as many names as the file
// system allows.
func hardLink(from, to string) error {
	err := unix.Link(from, to)
	if !errors.Is(err, unix.EMLINK) && !errors.Is(err, unix.EPERM) {
		return err
	}
	raw, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	info, err := os.Stat(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, raw, info.Mode().Perm())
}

// Finish closes the tree for writing and lists it.
func (b *Tree) Finish() (tree.Manifest, error) {
	var m tree.Manifest
	var mu sync.Mutex
	_ = b.Each(context.Background(), func(names []string) error {
		part := make(tree.Manifest, 0, len(names))
		for _, name := range names {
			e := b.Placed[name].Entry
			e.Path = name
			if e.Type == tree.File || e.Type == tree.Executable {
				e.Stamp = disk.LinkStampOf(filepath.Join(b.Dir, filepath.FromSlash(name)))
			}
			part = append(part, e)
		}
		mu.Lock()
		m = append(m, part...)
		mu.Unlock()
		return nil
	})
	m.Sort()
	if len(m) == 0 {
		return nil, errors.New("the root is empty")
	}
	return m, filepath.WalkDir(b.Dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() || name == b.Dir {
			return err
		}
		return os.Chmod(name, 0o555)
	})
}

// Read is the content of a file of the root, before or after it is written.
func (b *Tree) Read(name string) ([]byte, error) {
	for range 8 {
		x, ok := b.Placed[name]
		switch {
		case !ok:
			return nil, fmt.Errorf("the root has no file /%s", name)
		case x.Type == tree.Link:
			name = path.Join(path.Dir(name), x.Target)
			continue
		case x.Piece >= 0:
			return os.ReadFile(filepath.Join(b.Pieces[x.Piece].Dir, filepath.FromSlash(x.From)))
		}
		return os.ReadFile(filepath.Join(b.Dir, filepath.FromSlash(name)))
	}
	return nil, fmt.Errorf("/%s is a circle of links", name)
}

// Below lists the files of a folder of the root, sorted.
func (b *Tree) Below(dir, suffix string) []string {
	var out []string
	for name, x := range b.Placed {
		if strings.HasPrefix(name, dir+"/") && strings.HasSuffix(name, suffix) && x.Type != tree.EmptyDir {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
