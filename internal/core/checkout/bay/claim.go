package bay

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"trammel.example/trammel/internal/core/base/disk"
)

// Claim is a port number on 127.0.0.1 that nobody else gets while it is held.
//
// The socket behind it is bound and never listens, and allows its address to be
// used again: a server that sets SO_REUSEADDR, as nearly all do, binds the same
// port and listens on it, while everyone who does not is refused. The lock file
// keeps other bays of the user out, whose sockets would share too.
type Claim struct {
	Number int
	socket int
	lock   *os.File
}

// ErrTaken is what Claim returns when somebody else has the port.
var ErrTaken = errors.New("the port is taken")

// Claim takes a port number.
func (b Bay) Claim(number int) (*Claim, error) {
	file, err := disk.LockFile(filepath.Join(b.PortLocks(), strconv.Itoa(number)))
	if errors.Is(err, disk.ErrHeld) {
		return nil, ErrTaken
	}
	if err != nil {
		return nil, err
	}
	// First without sharing, which finds every other socket. What then is in the
	// way may be nothing but connections that the last server closed and that
	// linger for a minute (TIME_WAIT); sharing gets past those and not past a
	// socket that listens.
	socket, err := bind(number, false)
	if errors.Is(err, unix.EADDRINUSE) {
		socket, err = bind(number, true)
	}
	if err != nil {
		file.Close()
		if errors.Is(err, unix.EADDRINUSE) {
			return nil, ErrTaken
		}
		return nil, err
	}
	return &Claim{number, socket, file}, nil
}

func bind(number int, share bool) (socket int, err error) {
	// No child may start between making the socket and marking it (syscall.ForkLock).
	syscall.ForkLock.RLock()
	socket, err = unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err == nil {
		unix.CloseOnExec(socket)
	}
	syscall.ForkLock.RUnlock()
	if err != nil {
		return -1, err
	}
	if share {
		err = unix.SetsockoptInt(socket, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	}
	if err == nil {
		err = unix.Bind(socket, &unix.SockaddrInet4{Port: number, Addr: [4]byte{127, 0, 0, 1}})
	}
	if err == nil && !share {
		err = unix.SetsockoptInt(socket, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	}
	if err != nil {
		unix.Close(socket)
		return -1, err
	}
	return socket, nil
}

// Release gives the number back.
func (c *Claim) Release() {
	unix.Close(c.socket)
	c.lock.Close()
}
