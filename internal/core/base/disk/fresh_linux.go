package disk

import (
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// unlinked opens a file without a name in a folder; nil where that cannot be had.
func unlinked(dir string) *os.File {
	fd, err := unix.Open(dir, unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil
	}
	if _, err := os.Lstat(procPath(fd)); err != nil { // without /proc it could never get one
		unix.Close(fd)
		return nil
	}
	return os.NewFile(uintptr(fd), dir)
}

// link gives an open file a name that nothing has.
func link(f *os.File, path string) error {
	return unix.Linkat(unix.AT_FDCWD, procPath(int(f.Fd())), unix.AT_FDCWD, path, unix.AT_SYMLINK_FOLLOW)
}

func procPath(fd int) string { return "/proc/self/fd/" + strconv.Itoa(fd) }

// heldPath is a path of an open folder that leads to it whatever becomes of its name.
func heldPath(folder *os.File) (string, bool) {
	path := procPath(int(folder.Fd()))
	_, err := os.Stat(path)
	return path, err == nil
}
