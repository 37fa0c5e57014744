package disk

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// Errors of reading what somebody else decides.
var (
	ErrNotRegular = errors.New("is no regular file")
	ErrTooLarge   = errors.New("is larger than a file of its kind may be")
	ErrLeaves     = errors.New("leads out of the folder that it lies in")
)

// Greatest sizes, in bytes, of files that are read whole.
const (
	MostText  = 16 << 20  // what people write
	MostLock  = 256 << 20 // what machines write
	MostState = 64 << 20  // records of Trammel's own
)

// Read reads a regular file of at most so many bytes. A pipe, a device or an endless
// file is an error at once, and nothing waits for a writer.
func Read(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return readAll(f, path, most)
}

// OpenRegular opens a regular file for reading; a pipe or a device is an error at once.
func OpenRegular(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if err := regular(f, path); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// ReadWithin is Read of a name below a folder that somebody else filled. A name that
// leaves the folder, by any chain of links, is ErrLeaves (os.Root).
func ReadWithin(dir, name string, most int64) ([]byte, error) {
	f, err := OpenWithin(dir, name)
	if err != nil {
		return nil, err
	}
	return readAll(f, filepath.Join(dir, name), most)
}

// OpenWithin opens a regular file below a folder for reading.
func OpenWithin(dir, name string) (*os.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f, err := root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, leaving(root, name, err)
	}
	if err := regular(f, filepath.Join(dir, name)); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// StatWithin describes what a name below a folder leads to, links followed within it.
func StatWithin(dir, name string) (fs.FileInfo, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	info, err := root.Stat(filepath.FromSlash(name))
	if err != nil {
		return nil, leaving(root, name, err)
	}
	return info, nil
}

// leaving makes ErrLeaves of the error by which os.Root refuses, which has no name of
// its own: what is refused though nothing is missing and nothing forbids it.
func leaving(root *os.Root, name string, err error) error {
	var path *fs.PathError
	var errno syscall.Errno
	var link *os.LinkError
	if errors.As(err, &link) && !errors.As(err, &errno) {
		return &fs.PathError{Op: link.Op, Path: filepath.Join(root.Name(), name), Err: ErrLeaves}
	}
	if errors.As(err, &path) && !errors.As(err, &errno) {
		return &fs.PathError{Op: path.Op, Path: filepath.Join(root.Name(), name), Err: ErrLeaves}
	}
	return err
}

func regular(f *os.File, path string) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return &fs.PathError{Op: "read", Path: path, Err: ErrNotRegular}
	}
	return nil
}

func readAll(f *os.File, path string, most int64) ([]byte, error) {
	defer f.Close()
	if err := regular(f, path); err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > most {
		return nil, tooLarge(path, most)
	}
	raw := make([]byte, 0, info.Size()+512)
	for {
		n, err := f.Read(raw[len(raw):cap(raw)])
		raw = raw[:len(raw)+n]
		if int64(len(raw)) > most {
			return nil, tooLarge(path, most)
		}
		if errors.Is(err, io.EOF) {
			return raw, nil
		}
		if err != nil {
			return nil, err
		}
		if len(raw) == cap(raw) {
			raw = append(raw, make([]byte, len(raw))...)[:len(raw)]
		}
	}
}

func tooLarge(path string, most int64) error {
	return &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w: more than %d MiB", ErrTooLarge, most>>20)}
}

// Gone tells whether an error says that nothing has the name: neither it, nor a folder that it would lie
// in.
func Gone(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR)
}

// InWords says of an error of reading what is wrong, without the path, for a message
// that names the file itself.
func InWords(err error) string {
	for _, known := range []error{ErrNotRegular, ErrTooLarge, ErrLeaves} {
		if errors.Is(err, known) {
			var path *fs.PathError
			if errors.As(err, &path) {
				return path.Err.Error()
			}
			return known.Error()
		}
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		return "cannot be read: " + path.Err.Error()
	}
	return "cannot be read: " + err.Error()
}

// CreateOwn makes or empties a file that only its owner may read, whatever the umask and
// whatever mode one of that name had.
func CreateOwn(path string) (*os.File, error) {
	return own(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC)
}

// WriteWithin is Write of a name below a folder that somebody else filled: it goes
// nowhere else, whatever links lie in the way (os.Root). Folders that are missing are made.
func WriteWithin(dir, name string, content []byte, mode fs.FileMode) error {
	return writeWithin(dir, name, content, mode, true)
}

// FillWithin is WriteWithin in a tree that is being made, which is made durable when it is whole
// (SyncAll).
func FillWithin(dir, name string, content []byte, mode fs.FileMode) error {
	return writeWithin(dir, name, content, mode, false)
}

func writeWithin(dir, name string, content []byte, mode fs.FileMode, durable bool) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	name = filepath.FromSlash(name)
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return leaving(root, name, err)
	}
	folder, err := root.Open(filepath.Dir(name))
	if err != nil {
		return leaving(root, name, err)
	}
	defer folder.Close()
	if err := commitAt(root, folder, name, content, mode, durable); err != nil {
		var link *os.LinkError
		if err = leaving(root, name, err); errors.As(err, &link) { // by a descriptor, which is no name for people
			return &fs.PathError{Op: "write", Path: filepath.Join(dir, name), Err: link.Err}
		}
		return err
	}
	if !durable {
		return nil
	}
	if err := folder.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, syscall.ENOTSUP) {
		return err
	}
	return nil
}

// commitAt writes a file into an open folder. By the folder's descriptor it has no name
// until it is whole, where the system can do that.
func commitAt(root *os.Root, folder *os.File, name string, content []byte, mode fs.FileMode, durable bool) error {
	if held, ok := heldPath(folder); ok {
		f, err := Create(filepath.Join(held, filepath.Base(name)))
		if err != nil {
			return err
		}
		defer f.Drop()
		if _, err = f.Write(content); err == nil && durable {
			err = f.Sync()
		}
		if err == nil {
			err = f.Commit(mode)
		}
		return err
	}
	fresh := freshName(name)
	f, err := root.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil && durable {
		err = f.Sync()
	}
	f.Close()
	if err == nil {
		err = root.Rename(fresh, name)
	}
	if err != nil {
		_ = root.Remove(fresh)
	}
	return err
}

// LinkWithin makes or moves a symbolic link at a name below a folder that somebody else
// filled. What the link leads to is the caller's business.
func LinkWithin(dir, name, target string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	name = filepath.FromSlash(name)
	if old, err := root.Readlink(name); err == nil && old == target {
		return nil
	}
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return leaving(root, name, err)
	}
	if err := root.Symlink(target, name); err == nil {
		return nil
	} else if !errors.Is(err, fs.ErrExist) {
		return leaving(root, name, err)
	}
	fresh := freshName(name)
	if err := root.Symlink(target, fresh); err != nil {
		return leaving(root, name, err)
	}
	if err := root.Rename(fresh, name); err != nil {
		_ = root.Remove(fresh)
		return leaving(root, name, err)
	}
	return nil
}

// MkdirWithin makes a folder, and those above it, below a folder that somebody else filled.
func MkdirWithin(dir, name string, mode fs.FileMode) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(filepath.FromSlash(name), mode); err != nil {
		return leaving(root, name, err)
	}
	return nil
}

// FreshDirWithin makes an empty folder beside a name below a folder, to be renamed to it, and
// returns its name. What an earlier process left of the kind is removed: the caller sees to it
// that nobody else makes one meanwhile.
func FreshDirWithin(root *os.Root, name string) (string, error) {
	left, err := fs.Glob(root.FS(), ".new-"+name+"-*")
	if err != nil {
		return "", err
	}
	for _, old := range left {
		if err := root.RemoveAll(old); err != nil {
			return "", err
		}
	}
	fresh := filepath.Join(filepath.Dir(name), ".new-"+filepath.Base(name)+"-"+rand.Text()[:8])
	return fresh, root.Mkdir(fresh, 0o755)
}

// RemoveWithin removes what has a name below a folder that somebody else filled; it may
// be missing.
func RemoveWithin(dir, name string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	err = root.Remove(filepath.FromSlash(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return leaving(root, name, err)
}

// freshName is a name beside another that nothing has.
func freshName(name string) string {
	return filepath.Join(filepath.Dir(name), fmt.Sprintf(".new-%s-%s", filepath.Base(name), rand.Text()[:10]))
}

// AppendOwn opens a file for more at its end, which only its owner may read, whatever the
// umask.
func AppendOwn(path string) (*os.File, error) {
	return own(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND)
}

// own opens a file that is this program's. A link or a pipe of its name is none, and makes
// room.
func own(path string, flag int) (*os.File, error) {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
		if err := os.Remove(path); err != nil {
			return nil, err
		}
	}
	f, err := os.OpenFile(path, flag|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0o600)
	if err != nil {
		return nil, err
	}
	if err = regular(f, path); err == nil {
		err = f.Chmod(0o600)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Private makes a folder that only its owner may look into, whatever the umask.
func Private(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	info, err := os.Stat(dir)
	if err == nil && info.Mode().Perm() != 0o700 {
		err = os.Chmod(dir, 0o700)
	}
	return err
}
