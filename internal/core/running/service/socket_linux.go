package service

import (
	"fmt"
	"net"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// shortPath names a socket through its folder's descriptor, since an address
// holds only 107 bytes (unix(7)) and a bay's path may be longer.
func shortPath(path string) (short string, done func(), err error) {
	fd, err := unix.Open(filepath.Dir(path), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", fd, filepath.Base(path)), func() { unix.Close(fd) }, nil
}

// peerOf are the user and the process at the other end of a connection (SO_PEERCRED in unix(7)).
func peerOf(c *net.UnixConn) (uid, pid int, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, 0, err
	}
	var cred *unix.Ucred
	var err2 error
	err = raw.Control(func(fd uintptr) { cred, err2 = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err == nil {
		err = err2
	}
	if err != nil {
		return 0, 0, err
	}
	return int(cred.Uid), int(cred.Pid), nil
}
