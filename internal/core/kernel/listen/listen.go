// Package listen tells which TCP ports are listened on, and by which processes.
//
// On Linux the kernel's own table is read (sock_diag(7)), which takes one message
// whatever the number of ports, opens no connection, and so disturbs no server. It is
// the table of the network that the calling thread is in. Elsewhere there is none,
// and callers connect instead.
package listen

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/user"
	"regexp"
	"strconv"
	"sync"
	"syscall"

	"app.example/trammel/internal/core/base/foreign"
)

// Socket is one that listens.
type Socket struct {
	At    netip.AddrPort
	Inode uint64
	User  int
	UDP   bool // it takes datagrams
	state byte
}

// ErrNone means that this system has no such table.
var ErrNone = errors.New("this system does not say who listens")

// At are the sockets that take connections to a port of 127.0.0.1, or of ::1.
func At(sockets []Socket, port int) []Socket { return at(sockets, port, false) }

// AtUDP are the sockets that take datagrams there.
func AtUDP(sockets []Socket, port int) []Socket { return at(sockets, port, true) }

// OnlyV6 tells whether what listens on a port is reached at ::1 and not at 127.0.0.1. The table tells it: a socket of
// :: takes both, unless it was told not to, which no table says.
func OnlyV6(sockets []Socket, port int) bool {
	at := At(sockets, port)
	for _, s := range at {
		if s.At.Addr() != netip.IPv6Loopback() {
			return false
		}
	}
	return len(at) > 0
}

// Dial connects to a port of this machine's loopback: of 127.0.0.1, or where nobody listens there of ::1. It is for the
// network that the calling thread is in.
func Dial(ctx context.Context, port int) (net.Conn, error) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if errors.Is(err, syscall.ECONNREFUSED) {
		if six, err := d.DialContext(ctx, "tcp6", net.JoinHostPort("::1", strconv.Itoa(port))); err == nil {
			return six, nil
		}
	}
	return c, err
}

func at(sockets []Socket, port int, udp bool) []Socket {
	var out []Socket
	for _, s := range sockets {
		if a := s.At.Addr().Unmap(); int(s.At.Port()) == port && s.UDP == udp && (a.IsUnspecified() || a.IsLoopback()) {
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

// unnamed finds where it is said that a port is taken, and only by whose program.
var unnamed = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`port (?:\S+ \()?(\d+)(/udp)?\)? is taken by (a program of user \S+)`)
})

// Named says the program too, where a text says only whose program has a port: a supervisor is in a user namespace of
// its own, from where it may not look at processes outside, and whoever asks it may.
func Named(text string) string {
	m := unnamed().FindStringSubmatchIndex(text)
	if m == nil {
		return text
	}
	number, err := strconv.Atoi(text[m[2]:m[3]])
	udp := m[4] >= 0
	table, readErr := Sockets()
	if udp {
		table, readErr = Datagrams()
	}
	if found := at(table, number, udp); err == nil && readErr == nil && len(found) > 0 {
		if h := HolderOf(found[0]); h.Pid != 0 {
			return text[:m[6]] + h.String() + text[m[7]:]
		}
	}
	return text
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
