// Package root makes a whole system out of unpacked Debian packages: one tree of
// hard links to the parts, with the files that installing would have made.
//
// No script of a package runs. What installing does to a system is done here, the
// same for everybody: the alternatives that the scripts state literally, the file
// of trusted certificates, the loader's cache (by the root's own ldconfig, in a
// sealed view of the root), a keystore for Java, and the copies that cards name.
// The same packages give the same bytes, so that one digest fixes the root.
package root

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"trammel.example/trammel/internal/core/base/debian"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/kernel/seal"
	"trammel.example/trammel/internal/core/stored/tree"
	"trammel.example/trammel/internal/core/stored/unpack"
)

// Piece is one unpacked package.
type Piece struct {
	Name     string
	Version  string
	Dir      string // of its tree in the store
	Manifest tree.Manifest
}

// control reads one of a package's control files; "" when it has none.
func (p Piece) control(name string) string {
	raw, err := os.ReadFile(filepath.Join(p.Dir, unpack.ControlFolder, name))
	if err != nil {
		return ""
	}
	return string(raw)
}

// isItself makes sure that a package is the one that the index says it is: a control file
// names its package, version and architecture (Policy 5.3).
func (p Piece) isItself() error {
	found := 0
	var is [3]string
	err := debian.Paragraphs(strings.NewReader(p.control("control")), map[string]bool{"Package": true, "Version": true, "Architecture": true}, func(f map[string]string) error {
		found++
		is = [3]string{f["Package"], f["Version"], f["Architecture"]}
		return nil
	})
	if err != nil || found != 1 {
		return fault.New(fault.Source, "the package %s %s does not say what it is: its control file cannot be read", p.Name, p.Version)
	}
	if is[0] != p.Name || is[1] != p.Version || is[2] != "all" && is[2] != debian.Arch(runtime.GOARCH) {
		return fault.New(fault.Source, "the package %s %s says that it is %s %s for %s", p.Name, p.Version, is[0], is[1], is[2]).
			Advise("The archive gives another package under that name. Nothing was made of it.")
	}
	return nil
}

// builder is a root that is being made.
type builder struct {
	dir    string
	pieces []Piece
	placed map[string]placed // path → what is there
	dirs   map[string]bool
}

// placed is an entry of the root and the piece that it is of, -1 for one that is
// made here.
type placed struct {
	tree.Entry
	piece int
	from  string // path in the piece
}

// Make fills an empty folder with the root of pieces, which are sorted by name, and
// returns its manifest. files are copies to make: path → path of what is copied.
func Make(ctx context.Context, dir string, pieces []Piece, files map[string]string) (tree.Manifest, error) {
	for _, p := range pieces {
		if err := p.isItself(); err != nil {
			return nil, err
		}
	}
	b := &builder{dir: dir, pieces: pieces, placed: map[string]placed{}, dirs: map[string]bool{".": true}}
	if err := b.merge(); err != nil {
		return nil, err
	}
	if err := b.synthesise(files); err != nil {
		return nil, err
	}
	b.tidy()
	if err := b.write(ctx); err != nil {
		return nil, err
	}
	if err := b.linkable(); err != nil {
		return nil, err
	}
	if err := b.loaderCache(ctx); err != nil {
		return nil, err
	}
	return b.finish()
}

// merge decides what is at each path.
func (b *builder) merge() error {
	links := map[string]string{} // links that lead to a folder of the same root
	for _, p := range b.pieces {
		for _, e := range p.Manifest {
			if e.Type == tree.Link {
				links[e.Path] = path.Join(path.Dir(e.Path), e.Target)
			}
		}
	}
	for i, p := range b.pieces {
		for _, e := range p.Manifest {
			if strings.HasPrefix(e.Path, unpack.ControlFolder+"/") {
				continue
			}
			from := e.Path
			if to := through(links, e.Path); to != e.Path {
				// dpkg follows links among folders: a package may ship var/run/x where
				// another makes var/run a link to run.
				if to == ".." || strings.HasPrefix(to, "../") {
					continue
				}
				if e.Type == tree.Link { // what it points to is decided where the package has it
					e.Target = unpack.Relative(path.Dir(to), path.Join(path.Dir(from), e.Target))
				}
				e.Path = to
			}
			if err := b.put(placed{e, i, from}); err != nil {
				return err
			}
		}
	}
	return nil
}

// tidy drops what a folder with entries stands in the place of.
func (b *builder) tidy() {
	for name, at := range b.placed {
		if (at.Type == tree.Link || at.Type == tree.EmptyDir) && b.dirs[name] {
			delete(b.placed, name)
		}
	}
}

// through follows the links among the folders above a path.
func through(links map[string]string, name string) string {
	for range 16 {
		moved := false
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			if target, ok := links[dir]; ok {
				name, moved = path.Join(target, name[len(dir):]), true
				break
			}
		}
		if !moved {
			break
		}
	}
	return name
}

// put places an entry, or explains that two packages want its path.
func (b *builder) put(x placed) error {
	old, taken := b.placed[x.Path]
	switch {
	case !taken, old.Type == tree.EmptyDir, x.piece < 0:
	case x.Type == tree.EmptyDir, old.Entry.Same(x.Entry):
		return nil
	case b.replaces(old.piece, x.piece):
		return nil
	case b.replaces(x.piece, old.piece):
	case old.Type == tree.Link && x.Type == tree.Link && old.piece >= 0 && strings.HasPrefix(x.Path, "usr/share/doc"):
		return nil
	default:
		one, two := b.pieces[old.piece], b.pieces[x.piece]
		return fault.New(fault.Use, "the packages %s %s and %s %s both have the file /%s, and it differs", one.Name, one.Version, two.Name, two.Version, x.Path).
			Advise("Have one of the two from another source: each suite has a root of its own.")
	}
	b.placed[x.Path] = x
	for dir := path.Dir(x.Path); !b.dirs[dir]; dir = path.Dir(dir) {
		b.dirs[dir] = true
	}
	return nil
}

// replaces tells whether a package says that it takes over files of another
// (Debian Policy, 7.6.1).
func (b *builder) replaces(taker, other int) bool {
	if taker < 0 || other < 0 {
		return false
	}
	says := false
	_ = debian.Paragraphs(strings.NewReader(b.pieces[taker].control("control")), map[string]bool{"Replaces": true}, func(f map[string]string) error {
		groups, err := debian.ParseRelations(strings.ReplaceAll(f["Replaces"], "\n", " "), "")
		for _, g := range groups {
			says = says || g[0].Name == b.pieces[other].Name && g[0].Holds(b.pieces[other].Version)
		}
		return err
	})
	return says
}

// make places a file with content of its own.
func (b *builder) make(name string, content []byte) error {
	// A package may have a link of this name, or a file that it shares with the store: both
	// are replaced, never written into.
	if err := disk.WriteWithin(b.dir, name, content, 0o444); err != nil {
		return err
	}
	sum := blake3.Sum256(content)
	return b.put(placed{tree.Entry{Type: tree.File, Sum: hex.EncodeToString(sum[:]), Path: name}, -1, ""})
}

func (b *builder) link(name, target string) error {
	return b.put(placed{tree.Entry{Type: tree.Link, Target: target, Path: name}, -1, ""})
}

func (b *builder) mkdir(dir string) error {
	return os.MkdirAll(filepath.Join(b.dir, filepath.FromSlash(dir)), 0o755)
}

// write makes the folders, links and hard links that were decided.
func (b *builder) write(ctx context.Context) error {
	made := map[string]bool{".": true}
	folder := func(dir string) error {
		if made[dir] {
			return nil
		}
		for d := dir; !made[d]; d = path.Dir(d) {
			made[d] = true
		}
		return b.mkdir(dir)
	}
	names := make([]string, 0, len(b.placed))
	for name := range b.placed {
		names = append(names, name)
	}
	slices.Sort(names)
	for i, name := range names {
		if i%1000 == 0 && ctx.Err() != nil {
			return context.Cause(ctx)
		}
		x := b.placed[name]
		full := filepath.Join(b.dir, name)
		dir := path.Dir(name)
		if x.Type == tree.EmptyDir {
			dir = name
		}
		if err := folder(dir); err != nil {
			return err
		}
		var err error
		switch {
		case x.Type == tree.EmptyDir:
		case x.Type == tree.Link:
			err = os.Symlink(x.Target, full)
		case x.piece >= 0:
			if err = hardLink(filepath.Join(b.pieces[x.piece].Dir, filepath.FromSlash(x.from)), full); err != nil {
				err = fmt.Errorf("%s of %s: %w", name, b.pieces[x.piece].Name, err)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
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

// loaderCache has the root's own ldconfig write etc/ld.so.cache (ldconfig(8)).
func (b *builder) loaderCache(ctx context.Context) error {
	if _, ok := b.placed["usr/sbin/ldconfig"]; !ok {
		return nil
	}
	if err := seal.Make(ctx, b.dir, []string{"/usr/sbin/ldconfig", "-X"}); err != nil {
		return err
	}
	raw, err := os.ReadFile(filepath.Join(b.dir, "etc/ld.so.cache"))
	if err != nil {
		return fmt.Errorf("the root's ldconfig wrote no cache: %w", err)
	}
	return b.make("etc/ld.so.cache", raw)
}

// finish closes the tree for writing and lists it.
func (b *builder) finish() (tree.Manifest, error) {
	var m tree.Manifest
	for name, x := range b.placed {
		e := x.Entry
		e.Path = name
		if e.Type == tree.File || e.Type == tree.Executable {
			e.Stamp = disk.LinkStampOf(filepath.Join(b.dir, filepath.FromSlash(name)))
			e.Stamp.Change = 0 // every root that shares the file moves it
		}
		m = append(m, e)
	}
	m.Sort()
	if len(m) == 0 {
		return nil, errors.New("the root is empty")
	}
	return m, filepath.WalkDir(b.dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() || name == b.dir {
			return err
		}
		return os.Chmod(name, 0o555)
	})
}

// read is the content of a file of the root, before or after it is written.
func (b *builder) read(name string) ([]byte, error) {
	for range 8 {
		x, ok := b.placed[name]
		switch {
		case !ok:
			return nil, fmt.Errorf("the root has no file /%s", name)
		case x.Type == tree.Link:
			name = path.Join(path.Dir(name), x.Target)
			continue
		case x.piece >= 0:
			return os.ReadFile(filepath.Join(b.pieces[x.piece].Dir, filepath.FromSlash(x.from)))
		}
		return os.ReadFile(filepath.Join(b.dir, filepath.FromSlash(name)))
	}
	return nil, fmt.Errorf("/%s is a circle of links", name)
}

// below lists the files of a folder of the root, sorted.
func (b *builder) below(dir, suffix string) []string {
	var out []string
	for name, x := range b.placed {
		if strings.HasPrefix(name, dir+"/") && strings.HasSuffix(name, suffix) && x.Type != tree.EmptyDir {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// certificates are the trusted certificates of the root, as PEM.
func (b *builder) certificates() ([]byte, error) {
	var all bytes.Buffer
	for _, name := range b.below("usr/share/ca-certificates", ".crt") {
		raw, err := b.read(name)
		if err != nil {
			return nil, err
		}
		all.Write(bytes.TrimSpace(raw))
		all.WriteByte('\n')
	}
	return all.Bytes(), nil
}
