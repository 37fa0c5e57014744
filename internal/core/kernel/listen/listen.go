// Package listen tells which TCP ports are listened on, and by which processes.
//
// On Linux the kernel's own table is read (sock_diag(7)), which takes one message
// whatever the number of ports, opens no connection, and so disturbs no server. It is
// the table of the network that the calling thread is in. Elsewhere there is none,
// and callers connect instead.
package listen

import (
	"errors"
	"fmt"
	"net/netip"
	"os/user"
	"strconv"

	"app.example/trammel/internal/core/base/foreign"
)

// Socket is one that listens.
type Socket struct {
	At    netip.AddrPort
	Inode uint64
	User  int
	state byte
}

// ErrNone means that this system has no such table.
var ErrNone = errors.New("this system does not say who listens")

// At are the sockets that take connections to a port of 127.0.0.1, or of ::1.
func At(sockets []Socket, port int) []Socket {
	var out []Socket
	for _, s := range sockets {
		if a := s.At.Addr().Unmap(); int(s.At.Port()) == port && (a.IsUnspecified() || a.IsLoopback()) {
			out = append(out, s)
		}
	}
	return out
}

// On tells whether anything among sockets takes connections to a port of this machine.
func On(sockets []Socket, port int) bool { return len(At(sockets, port)) > 0 }

// Open tells whether other machines reach a socket too.
func (s Socket) Open() bool { return !s.At.Addr().Unmap().IsLoopback() }

// Holder is the program that holds a socket, as far as this user may see it.
type Holder struct {
	Pid     int    // 0 when another user's processes cannot be looked at
	Command string // "" then
	User    int
}

// String names a holder for people: "perl (pid 812) of user lena".
func (h Holder) String() string {
	who := "user " + strconv.Itoa(h.User)
	if u, err := user.LookupId(strconv.Itoa(h.User)); err == nil {
		who = "user " + u.Username
	}
	if h.Pid == 0 {
		return "a program of " + who
	}
	// A program names itself as it likes (PR_SET_NAME in prctl(2)), also in several lines.
	return fmt.Sprintf("%s (pid %d) of %s", foreign.Line(h.Command), h.Pid, who)
}
