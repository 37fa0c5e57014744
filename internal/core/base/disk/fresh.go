package disk

import (
	"crypto/rand"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Fresh is a file that is to take a name when it is whole. Until then it has none
// where the system can make such files (open(2), O_TMPFILE), so that a process that is
// killed while it writes leaves nothing behind.
type Fresh struct {
	*os.File
	path string
	name string // "" while it has none
}

// Create makes a file that Commit will name path. Missing parent folders are made. The
// caller drops it in the end, whatever comes.
func Create(path string) (*Fresh, error) {
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if f := nameless(dir); f != nil {
		return &Fresh{File: f, path: path}, nil
	}
	f, err := os.CreateTemp(dir, ".new-"+filepath.Base(path)+"-*")
	if err != nil {
		return nil, err
	}
	return &Fresh{File: f, path: path, name: f.Name()}, nil
}

// Commit gives the file its mode and its name, in place of another of that name. It
// does not wait for the disk.
func (f *Fresh) Commit(mode fs.FileMode) error {
	if err := f.Chmod(mode); err != nil {
		return err
	}
	if f.name == "" {
		err := link(f.File, f.path)
		if err == nil {
			return f.Close()
		}
		// Something has the name: a second name first, which then takes its place.
		name := filepath.Join(filepath.Dir(f.path), fmt.Sprintf(".new-%s-%s", filepath.Base(f.path), rand.Text()[:10]))
		if err := link(f.File, name); err != nil {
			return err
		}
		f.name = name
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Rename(f.name, f.path); err != nil {
		return err
	}
	f.name = ""
	return nil
}

// Drop ends the use of the file; one that was not committed is gone.
func (f *Fresh) Drop() {
	f.Close()
	if f.name != "" {
		os.Remove(f.name)
	}
}
