package bay

import (
	"errors"
	"fmt"
	"io"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/kernel/listen"
)

// Claim is a port number on 127.0.0.1 that no other bay gets while it is held, whoever on
// this machine it belongs to.
//
// Two things are held. A name for the number, which all users of the machine see, keeps
// other bays away. The socket behind the number is bound and never listens, and allows its
// address to be used again: a server that sets SO_REUSEADDR, as nearly all do, binds the
// same port and listens on it, while everyone who does not is refused. That a stranger who
// shares gets it too cannot be kept away, only be seen: who listens is looked up in the
// kernel's table before anything is believed (package service).
type Claim struct {
	Number int
	socket int
	name   io.Closer
}

// ErrTaken is what Claim returns when somebody else has the port.
var ErrTaken = errors.New("the port is taken")

// Taker claims port numbers, many at once: what it read of the kernel's table it goes by for an
// instant. Its zero value is ready, and it is for one goroutine.
type Taker struct {
	table []listen.Socket
	err   error
	read  time.Time
}

// tableAge is how old what a Taker goes by may be. Who begins to listen meanwhile keeps the number:
// the kernel shares none that is listened on.
const tableAge = 5 * time.Millisecond

// lingering tells whether a number is only lingering.
func (t *Taker) lingering(number int) bool {
	if time.Since(t.read) > tableAge {
		t.table, t.err = listen.All()
		t.read = time.Now()
	}
	return t.err == nil && listen.Lingering(t.table, number)
}

// Take claims a port number.
func Take(number int) (*Claim, error) { return new(Taker).Take(number) }

// Take claims a port number.
func (t *Taker) Take(number int) (*Claim, error) {
	if number < 1 || number > 65535 {
		return nil, fmt.Errorf("%d is no port", number)
	}
	name, err := nameFor(number)
	if err != nil {
		return nil, err
	}
	// First without sharing, which finds every other socket. What is in the way then may
	// be nothing but connections that the last server closed and that linger for a minute.
	// Only when the kernel's table shows that is the number shared: a number that others
	// have claimed, or are about to listen on, would be shared as well.
	socket, err := bind(number, false)
	if errors.Is(err, unix.EADDRINUSE) && t.lingering(number) {
		socket, err = bind(number, true)
	}
	if err != nil {
		name.Close()
		if errors.Is(err, unix.EADDRINUSE) {
			return nil, ErrTaken
		}
		return nil, err
	}
	return &Claim{number, socket, name}, nil
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
	c.name.Close()
}
