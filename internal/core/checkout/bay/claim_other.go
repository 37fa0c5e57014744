//go:build !linux

package bay

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// portNames is where the names of port numbers lie: a folder in which everybody may make
// files and nobody may remove another's. It is the same for all users, so it is not a
// person's own temporary folder.
const portNames = "/tmp/trammel-ports"

// nameFor takes the name of a port number: a lock on a file that all users may open.
func nameFor(number string) (io.Closer, error) {
	if err := os.Mkdir(portNames, 0o1777); err == nil {
		_ = os.Chmod(portNames, 0o777|os.ModeSticky) // whatever the umask
	} else if !errors.Is(err, os.ErrExist) {
		return nil, err
	}
	// Somebody else may have made it, or put a link there that leads elsewhere.
	info, err := os.Lstat(portNames)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() || info.Mode()&os.ModeSticky == 0 {
		return nil, fmt.Errorf("%s is no folder in which everybody's files are safe; remove it", portNames)
	}
	fd, err := unix.Open(filepath.Join(portNames, number), unix.O_RDWR|unix.O_CREAT|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o666)
	if err != nil {
		return nil, err
	}
	_ = unix.Fchmod(fd, 0o666)
	if err := unix.Flock(fd, unix.LOCK_EX|unix.LOCK_NB); err != nil {
		unix.Close(fd)
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, ErrTaken
		}
		return nil, err
	}
	return os.NewFile(uintptr(fd), "port "+number), nil
}
