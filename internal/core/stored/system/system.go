// Package system makes a whole system out of unpacked Debian packages: one tree of
// hard links to the parts, with the files that installing would have made.
//
// No script of a package runs. What installing does to a system is done here, the
// same for everybody: the alternatives that the scripts state literally, the file
// of trusted certificates, the loader's cache (by the root's own ldconfig, in a
// sealed view of the root), a keystore for Java, and the copies that cards name.
// The same packages give the same bytes, so that one digest fixes the root.
package system

import (
	"bytes"
	"context"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/stored/unpack"
)

// Piece is one unpacked package.
type Piece struct{ merge.Piece }

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
		return fault.New(fault.ErrSource, "the package %s %s does not say what it is: its control file cannot be read", p.Name, p.Version)
	}
	if is[0] != p.Name || is[1] != p.Version || is[2] != "all" && is[2] != debian.Arch(runtime.GOARCH) {
		return fault.New(fault.ErrSource, "the package %s %s says that it is %s %s for %s", p.Name, p.Version, is[0], is[1], is[2]).
			Advise("The archive gives another package under that name. Nothing was made of it.")
	}
	return nil
}

// builder is a root that is being made.
type builder struct {
	*merge.Tree
	pieces []Piece
}

// Make fills an empty folder with the root of pieces, which are sorted by name, and
// returns its manifest. files are copies to make: path → path of what is copied.
func Make(ctx context.Context, dir string, pieces []Piece, files map[string]string) (tree.Manifest, error) {
	for _, p := range pieces {
		if err := p.isItself(); err != nil {
			return nil, err
		}
	}
	b := &builder{merge.New(dir), pieces}
	b.Settle, b.Modes = b.settle, true
	for _, p := range pieces {
		b.Pieces = append(b.Pieces, p.Piece)
	}
	if err := b.merge(); err != nil {
		return nil, err
	}
	if err := b.synthesise(files); err != nil {
		return nil, err
	}
	b.Tidy()
	if err := b.Write(ctx); err != nil {
		return nil, err
	}
	if err := b.linkable(); err != nil {
		return nil, err
	}
	if err := b.derive(ctx); err != nil {
		return nil, err
	}
	return b.Finish()
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
			if err := b.Put(merge.Placed{Entry: e, Piece: i, From: from}); err != nil {
				return err
			}
		}
	}
	return nil
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

// settle decides between two packages that want one path.
func (b *builder) settle(old, x merge.Placed) (merge.Placed, error) {
	switch {
	case b.replaces(old.Piece, x.Piece):
		return old, nil
	case b.replaces(x.Piece, old.Piece):
		return x, nil
	case old.Type == tree.Link && x.Type == tree.Link && old.Piece >= 0 && strings.HasPrefix(x.Path, "usr/share/doc"):
		return old, nil
	}
	one, two := b.pieces[old.Piece], b.pieces[x.Piece]
	return x, fault.New(fault.ErrUsage, "the packages %s %s and %s %s both have the file /%s, and it differs", one.Name, one.Version, two.Name, two.Version, x.Path).
		Advise("Have one of the two from another source: each suite has a root of its own.")
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

// certificates are the trusted certificates of the root, as PEM.
func (b *builder) certificates() ([]byte, error) {
	var all bytes.Buffer
	for _, name := range b.Below("usr/share/ca-certificates", ".crt") {
		raw, err := b.Read(name)
		if err != nil {
			return nil, err
		}
		all.Write(bytes.TrimSpace(raw))
		all.WriteByte('\n')
	}
	return all.Bytes(), nil
}
