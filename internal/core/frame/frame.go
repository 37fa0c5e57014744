// Package frame makes the folder that one environment shows of the store.
//
// A frame is a folder bin with one link for each command of the locked toolchains
// and nothing else. Its name is the digest of what it shows, so a frame never
// changes, two projects with one set of tools share it, and an open shell keeps
// the one it was opened with.
package frame

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"trammel.example/trammel/internal/core/canon"
	"trammel.example/trammel/internal/core/disk"
	"trammel.example/trammel/internal/core/fault"
	"trammel.example/trammel/internal/core/lock"
	"trammel.example/trammel/internal/core/store"
)

// Command is one command that a frame shows.
type Command struct {
	Name string
	Item string // the toolchain it belongs to
	File string // absolute path in the store
}

// Frame is what one environment shows. It need not be on disk yet.
type Frame struct {
	Dir      string // absolute
	Commands []Command
}

// Bin is the folder to put on PATH.
func (f Frame) Bin() string { return filepath.Join(f.Dir, "bin") }

// Of computes the frame of parts whose trees are all known. Two items that bring
// one command are a fault that names both.
func Of(root string, s *store.Store, parts []lock.PartOn) (Frame, error) {
	files := map[string]string{}
	owner := map[string]string{}
	for _, p := range parts {
		for command, file := range p.Bin {
			full := filepath.Join(s.Path(p), filepath.FromSlash(file))
			if old, ok := files[command]; ok && old != full {
				return Frame{}, fault.New(fault.Use, "the command %s comes from both %s and %s", command, owner[command], p.Item).
					Advise("Take one of the two toolchains out of the declaration.")
			}
			if _, ok := files[command]; !ok {
				files[command], owner[command] = full, p.Item
			}
		}
	}
	f := Frame{Dir: filepath.Join(root, strings.TrimPrefix(canon.Digest(files), "sha256:")[:32])}
	for _, command := range lock.Sorted(files) {
		f.Commands = append(f.Commands, Command{command, owner[command], files[command]})
	}
	return f, nil
}

// Make puts the frame on disk: built aside and renamed, so that it is whole or
// not there. A frame that is there and right is left alone.
func (f Frame) Make() error {
	if len(f.Check()) == 0 {
		return nil
	}
	root := filepath.Dir(f.Dir)
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(root, ".new-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(fresh)
	bin := filepath.Join(fresh, "bin")
	if err := os.Mkdir(bin, 0o755); err != nil {
		return err
	}
	for _, c := range f.Commands {
		if err := os.Symlink(c.File, filepath.Join(bin, c.Name)); err != nil {
			return err
		}
	}
	if err := os.Chmod(fresh, 0o755); err != nil {
		return err
	}
	for range 3 {
		err = os.Rename(fresh, f.Dir)
		if err == nil || len(f.Check()) == 0 {
			return nil
		}
		if !errors.Is(err, fs.ErrExist) && !strings.Contains(err.Error(), "not empty") {
			return err
		}
		// Something wrong has the name: it goes aside.
		old, err := os.MkdirTemp(root, ".new-")
		if err != nil {
			return err
		}
		if err := os.Rename(f.Dir, filepath.Join(old, "old")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		disk.RemoveAll(old)
	}
	return err
}

// Difference is one command that is not what the frame should show.
type Difference struct {
	Command string
	What    string
}

// Check compares the folder with what it should show.
func (f Frame) Check() []Difference {
	var out []Difference
	wanted := map[string]string{}
	for _, c := range f.Commands {
		wanted[c.Name] = c.File
	}
	entries, err := os.ReadDir(f.Bin())
	if err != nil {
		return []Difference{{"", "the frame is not there"}}
	}
	for _, e := range entries {
		want, ok := wanted[e.Name()]
		target, _ := os.Readlink(filepath.Join(f.Bin(), e.Name()))
		switch {
		case !ok:
			out = append(out, Difference{e.Name(), "extra"})
		case target != want:
			out = append(out, Difference{e.Name(), "is not the locked one"})
		}
		delete(wanted, e.Name())
	}
	for _, name := range lock.Sorted(wanted) {
		out = append(out, Difference{name, "missing"})
	}
	return out
}

// Point makes the stable links of a checkout: .trammel/frame and .trammel/bin,
// for editors and scripts that cannot ask.
func (f Frame) Point(trammelDir string) error {
	if err := link(filepath.Join(trammelDir, "frame"), f.Dir); err != nil {
		return err
	}
	return link(filepath.Join(trammelDir, "bin"), filepath.Join("frame", "bin"))
}

// link makes or moves a symbolic link in one step.
func link(path, target string) error {
	if old, err := os.Readlink(path); err == nil && old == target {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	fresh := fmt.Sprintf("%s.new-%d", path, os.Getpid())
	os.Remove(fresh)
	if err := os.Symlink(target, fresh); err != nil {
		return err
	}
	if err := os.Rename(fresh, path); err != nil {
		os.Remove(fresh)
		return err
	}
	return nil
}
