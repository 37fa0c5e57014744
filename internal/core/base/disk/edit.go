package disk

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// ErrChanged means that a file that was to be changed is not what it was when it was read: somebody else,
// most likely in an editor, has saved it meanwhile. Nothing was written.
var ErrChanged = errors.New("the file was changed meanwhile")

// Edit changes a file that people write too. was is what was read of it, nil where there was none, and now
// is what it is to say. It is written only if the file still says what was read; otherwise the error is
// ErrChanged, and whoever asks starts over. A link stays one: what it leads to is changed. The mode stays;
// one that is new has mode. Where the file system can exchange two names (renameat2(2)) no instant is left
// in which another's change could be lost; elsewhere the file is looked at right before it is replaced.
func Edit(path string, was, now []byte, mode fs.FileMode) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer folder.Close()
	// Changes of this program's own come one after another; some file servers lock no folders.
	for unix.Flock(int(folder.Fd()), unix.LOCK_EX) == unix.EINTR {
	}
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	fresh, err := os.CreateTemp(filepath.Dir(path), ".new-")
	if err != nil {
		return err
	}
	name := fresh.Name()
	defer func() { _ = os.Remove(name) }()
	_, err = fresh.Write(now)
	err = errors.Join(err, fresh.Chmod(mode), fresh.Sync(), fresh.Close())
	if err != nil {
		return err
	}
	if err := swap(path, name, was, now); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// says tells whether a file has a text; with nil, whether it is not there. No more of it is read than that
// takes, and what is no regular file says something else.
func says(path string, text []byte) (bool, error) {
	f, err := OpenRegular(path)
	if errors.Is(err, fs.ErrNotExist) {
		return text == nil, nil
	}
	if err != nil || text == nil {
		return false, nil
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, int64(len(text))+1))
	return err == nil && bytes.Equal(raw, text), err
}

// swap puts a fresh file in the place of another that says what it did.
func swap(path, fresh string, was, now []byte) error {
	if same, err := says(path, was); err != nil || !same {
		return errors.Join(err, ErrChanged)
	}
	if was == nil { // it is not there: a name that somebody has taken meanwhile is theirs
		err := os.Link(fresh, path)
		if errors.Is(err, fs.ErrExist) {
			return ErrChanged
		}
		if err == nil {
			return nil
		}
		return os.Rename(fresh, path)
	}
	switch err := exchange(fresh, path); {
	case errors.Is(err, fs.ErrNotExist):
		return ErrChanged // it was taken away
	case errors.Is(err, errors.ErrUnsupported) || errors.Is(err, unix.EINVAL):
		return os.Rename(fresh, path)
	case err != nil:
		return err
	}
	// What had the name has the fresh one's now: it must be what was read.
	if same, err := says(fresh, was); err == nil && same {
		return nil
	}
	if err := exchange(fresh, path); err != nil { // it is put back
		return err
	}
	if ours, err := says(fresh, now); err == nil && ours {
		return ErrChanged
	}
	// Somebody saved in between: what they wrote is the last word.
	return errors.Join(ErrChanged, exchange(fresh, path))
}
