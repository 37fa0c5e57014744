// Package disk writes files that must survive a crash and takes the locks that
// keep two processes apart.
//
// Promise: after Write a reader sees either the whole old content or the whole
// new content, whatever is killed and whenever. A held Lock is released by the
// kernel when its process dies, so no stale lock ever needs removing.
package disk

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Write replaces the file at path by content: a fresh file in the same folder, fsync,
// its name, fsync of the folder. Missing parent folders are made.
func Write(path string, content []byte, mode fs.FileMode) error {
	f, err := Create(path)
	if err != nil {
		return err
	}
	defer f.Drop()
	if _, err := f.Write(content); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := f.Commit(mode); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// WriteCache replaces a file whose loss costs nothing but time: atomic like
// Write, without the two waits for the disk.
func WriteCache(path string, content []byte) error {
	f, err := Create(path)
	if err != nil {
		return err
	}
	defer f.Drop()
	if _, err := f.Write(content); err != nil {
		return err
	}
	return f.Commit(0o600)
}

// Full tells whether an error is that there is no room: on the disk, or of a person's quota.
func Full(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

// SyncDir makes renames in a folder durable.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil && !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOTSUP) {
		return err
	}
	return nil
}

// ErrHeld is what TryLock returns when another process holds the lock.
var ErrHeld = errors.New("held by another process")

// Lock takes an exclusive advisory lock on the file at path, making it when it
// is not there, and waits as long as ctx allows. The returned function gives it
// back. The file stays: removing it would let two processes lock two files of
// one name.
func Lock(ctx context.Context, path string) (unlock func(), err error) {
	pause := time.Millisecond
	for {
		unlock, err := TryLock(path)
		if !errors.Is(err, ErrHeld) {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("waiting for %s: %w", path, context.Cause(ctx))
		case <-time.After(pause):
		}
		pause = min(pause*2, 100*time.Millisecond)
	}
}

// TryLock is Lock without waiting: ErrHeld when somebody else has it.
func TryLock(path string) (unlock func(), err error) {
	f, err := LockFile(path)
	if err != nil {
		return nil, err
	}
	return func() { f.Close() }, nil
}

// LockShared takes a lock that any number of processes may share, but that keeps
// those out who want it alone with Lock.
func LockShared(ctx context.Context, path string) (unlock func(), err error) {
	pause := time.Millisecond
	for {
		f, err := lockFile(path, unix.LOCK_SH)
		if err == nil {
			return func() { f.Close() }, nil
		}
		if !errors.Is(err, ErrHeld) {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("waiting for %s: %w", path, context.Cause(ctx))
		case <-time.After(pause):
		}
		pause = min(pause*2, 100*time.Millisecond)
	}
}

// LockFile is TryLock that hands out the locked file itself, for a holder that
// passes it on to a child; closing every copy gives the lock back.
func LockFile(path string) (*os.File, error) { return lockFile(path, unix.LOCK_EX) }

// WaitLock is LockFile that waits until the holder gives the lock back or dies, which the
// kernel tells: nothing is asked again and again meanwhile.
func WaitLock(ctx context.Context, path string) (*os.File, error) {
	type answer struct {
		f   *os.File
		err error
	}
	got := make(chan answer)
	go func() {
		f, err := openLock(path)
		if err == nil {
			err = flock(f, unix.LOCK_EX)
		}
		select {
		case got <- answer{f, err}:
		case <-ctx.Done():
			if err == nil {
				f.Close()
			}
		}
	}()
	select {
	case a := <-got:
		return a.f, a.err
	case <-ctx.Done():
		return nil, fmt.Errorf("waiting for %s: %w", path, context.Cause(ctx))
	}
}

// Lockable tells whether a lock can lie at path: a file, or nothing yet.
func Lockable(path string) error {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("the lock %s %w; remove it", path, ErrNotRegular)
	}
	return nil
}

func lockFile(path string, how int) (*os.File, error) {
	f, err := openLock(path)
	if err != nil {
		return nil, err
	}
	return f, flock(f, how|unix.LOCK_NB)
}

func openLock(path string) (*os.File, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	if err := Lockable(path); err != nil {
		return nil, err
	}
	return os.OpenFile(path, os.O_RDWR|os.O_CREATE|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0o600)
}

// flock locks an open file; it is closed where that fails.
func flock(f *os.File, how int) (err error) {
	for {
		if err = unix.Flock(int(f.Fd()), how); err != unix.EINTR {
			break
		}
	}
	if err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return ErrHeld
		}
		return fmt.Errorf("lock %s: %w", f.Name(), err)
	}
	return nil
}

// HoldAs holds the file at path for an owner, together with any others of that owner, until
// the returned file is closed or the process dies. ours is false when another owner has it.
func HoldAs(path, owner string) (held *os.File, ours bool, err error) {
	for range 20 {
		f, err := lockFile(path, unix.LOCK_EX)
		if err == nil { // nobody has it
			if err = f.Truncate(0); err == nil {
				_, err = f.WriteAt([]byte(owner), 0)
			}
			if err == nil {
				err = unix.Flock(int(f.Fd()), unix.LOCK_SH)
			}
			if err != nil {
				f.Close()
				return nil, false, err
			}
			// The lock was given back for an instant (flock(2), "not guaranteed to be atomic").
			return heldBy(f, owner)
		}
		if !errors.Is(err, ErrHeld) {
			return nil, false, err
		}
		if f, err = lockFile(path, unix.LOCK_SH); err == nil {
			return heldBy(f, owner)
		}
		time.Sleep(5 * time.Millisecond) // somebody is writing who has it
	}
	return nil, false, ErrHeld
}

// heldBy keeps a file that is locked with others if it says that it is an owner's.
func heldBy(f *os.File, owner string) (held *os.File, ours bool, err error) {
	has := make([]byte, len(owner)+1)
	if n, _ := f.ReadAt(has, 0); string(has[:n]) == owner {
		return f, true, nil
	}
	f.Close()
	return nil, false, nil
}

// RemoveAll removes a tree whose folders may be read-only, as those of the
// store are.
func RemoveAll(path string) error {
	err := os.RemoveAll(path)
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			os.Chmod(p, 0o755)
		}
		return nil
	})
	return os.RemoveAll(path)
}

// Stamp is what tells cheaply whether a file changed: size, modification and
// change time, inode. A missing file has the zero Stamp.
type Stamp struct {
	Size   int64  `json:"size"`
	Mod    int64  `json:"mod"`    // nanoseconds since 1970
	Change int64  `json:"change"` // nanoseconds since 1970
	Inode  uint64 `json:"inode"`
}

// StampOf reads the stamp of the file that path names, following links.
func StampOf(path string) Stamp {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return Stamp{}
	}
	return StampFrom(&st)
}

// LinkStampOf is StampOf for the entry itself when it is a symbolic link.
func LinkStampOf(path string) Stamp {
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		return Stamp{}
	}
	return StampFrom(&st)
}
