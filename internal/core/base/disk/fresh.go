package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"
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
	if f := unlinked(dir); f != nil {
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
		return f.replace()
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

// Instant ends the name that a whole file has for the instant in which it takes the place of
// another. Who is killed just then leaves it, and the next who writes that file takes it away:
// there is at most one for each file.
const Instant = "-AAAAAAAAAA"

// replace gives the file, which has no name, that of another.
func (f *Fresh) replace() error {
	name := filepath.Join(filepath.Dir(f.path), ".new-"+filepath.Base(f.path)+Instant)
	for try := 0; ; try++ {
		err := link(f.File, name)
		if err == nil {
			if err = os.Rename(name, f.path); err == nil {
				return f.Close()
			}
			if !errors.Is(err, fs.ErrNotExist) { // else somebody took ours for what was left
				_ = os.Remove(name)
				return err
			}
		} else if !errors.Is(err, fs.ErrExist) {
			return err
		}
		if try > 200 {
			return err
		}
		if try%50 == 49 { // nobody takes so long
			_ = os.Remove(name)
		}
		time.Sleep(time.Millisecond)
	}
}

// Drop ends the use of the file; one that was not committed is gone.
func (f *Fresh) Drop() {
	f.Close()
	if f.name != "" {
		os.Remove(f.name)
	}
}
