package service

import (
	"net"

	"golang.org/x/sys/unix"
)

// shortPath is the path itself: here nothing shorter names the same socket.
func shortPath(path string) (short string, done func(), err error) { return path, func() {}, nil }

// peerOf are the user and the process at the other end of a connection (LOCAL_PEERCRED).
func peerOf(c *net.UnixConn) (uid, pid int, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, 0, err
	}
	var cred *unix.Xucred
	var err2 error
	err = raw.Control(func(fd uintptr) { cred, err2 = unix.GetsockoptXucred(int(fd), unix.SOL_LOCAL, unix.LOCAL_PEERCRED) })
	if err == nil {
		err = err2
	}
	if err != nil {
		return 0, 0, err
	}
	return int(cred.Uid), 0, nil
}
