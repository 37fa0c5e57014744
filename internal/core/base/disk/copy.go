package disk

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// CopyTree copies a folder to a path that is not there yet, with modes and times: files, folders and links, as they are.
// Where the file system shares blocks between files (ioctl_ficlone(2)) or copies within the kernel (copy_file_range(2)),
// that is used. Sockets and pipes are left out. It follows no link. ended tells, before each file, whether to stop: its
// error ends the copying.
func CopyTree(from, to string, ended func() error) error {
	type stamped struct {
		path string
		info fs.FileInfo
	}
	var folders []stamped
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if err := ended(); err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			folders = append(folders, stamped{at, info})
			return os.Mkdir(at, info.Mode().Perm()|0o700) // until it is full
		case d.Type()&fs.ModeSymlink != 0:
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(target, at)
		case !d.Type().IsRegular():
			return nil
		}
		return copyFile(path, at, info)
	})
	for i := len(folders) - 1; err == nil && i >= 0; i-- {
		f := folders[i]
		if err = os.Chmod(f.path, f.info.Mode().Perm()); err == nil {
			err = os.Chtimes(f.path, f.info.ModTime(), f.info.ModTime())
		}
	}
	return err
}

func copyFile(from, to string, info fs.FileInfo) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm()|0o200)
	if err != nil {
		return err
	}
	if clone(out, in) != nil {
		_, err = io.Copy(out, in)
	}
	if err == nil {
		err = out.Chmod(info.Mode().Perm())
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Chtimes(to, info.ModTime(), info.ModTime())
	}
	return err
}

// Swap gives a folder that is complete the name of another, in one step where the system can, and removes what had the
// name before. Where there was nothing it only gets the name.
func Swap(fresh, name string) error {
	if _, err := os.Lstat(name); os.IsNotExist(err) {
		return os.Rename(fresh, name)
	}
	if err := exchange(fresh, name); err != nil {
		return err
	}
	return RemoveAll(fresh)
}
