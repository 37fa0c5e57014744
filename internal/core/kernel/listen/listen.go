// Package listen tells which TCP ports are listened on, and by which processes.
//
// On Linux the kernel's own table is read (sock_diag(7)), which takes one message
// whatever the number of ports, opens no connection, and so disturbs no server. It is
// the table of the network that the calling thread is in. Elsewhere there is none,
// and callers connect instead.
package listen

import (
	"errors"
	"net/netip"
)

// Socket is one that listens.
type Socket struct {
	At    netip.AddrPort
	Inode uint64
	User  int
}

// ErrNone means that this system has no such table.
var ErrNone = errors.New("this system does not say who listens")

// On tells whether anything among sockets takes connections to a port of 127.0.0.1.
func On(sockets []Socket, port int) bool {
	for _, s := range sockets {
		a := s.At.Addr()
		if int(s.At.Port()) == port && (a.IsUnspecified() || a.IsLoopback() || a.Is4In6() && a.Unmap().IsLoopback()) {
			return true
		}
	}
	return false
}
