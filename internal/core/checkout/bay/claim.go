package bay

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/disk"
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

// What Take returns when somebody else has the port, and when this user may not have it.
var (
	ErrTaken  = errors.New("the port is taken")
	ErrRights = errors.New("the port needs rights")
)

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
	name, err := nameFor(strconv.Itoa(number))
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
		if errors.Is(err, unix.EACCES) {
			return nil, ErrRights
		}
		return nil, err
	}
	return &Claim{number, socket, name}, nil
}

// TakeUDP claims a port number for datagrams. No socket holds it: one that is bound would get what is sent to the
// service. So it only keeps other bays away, and sees that nobody has the number now.
func TakeUDP(number int) (*Claim, error) {
	if number < 1 || number > 65535 {
		return nil, fmt.Errorf("%d is no port", number)
	}
	name, err := nameFor(strconv.Itoa(number) + "-udp")
	if err != nil {
		return nil, err
	}
	probe, err := net.ListenPacket("udp4", "127.0.0.1:"+strconv.Itoa(number))
	if err == nil {
		probe.Close()
		return &Claim{number, -1, name}, nil
	}
	name.Close()
	switch {
	case errors.Is(err, unix.EADDRINUSE):
		err = ErrTaken
	case errors.Is(err, unix.EACCES):
		err = ErrRights
	}
	return nil, err
}

// LeastPort is the smallest number that an ordinary user may listen on (ip_unprivileged_port_start in
// Documentation/networking/ip-sysctl.rst); 1024 where the system does not say.
func LeastPort() int {
	raw, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
	if n, convErr := strconv.Atoi(strings.TrimSpace(string(raw))); err == nil && convErr == nil {
		return n
	}
	return 1024
}

// Claimer is which other bay of this user's home has a number in its records, as "bay trial of heronweir"; "" is none
// that runs.
func (b Bay) Claimer(number int) string {
	files, _ := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(b.Records)), "*", "*", filepath.Base(b.PortsFile())))
	for _, file := range files {
		other := filepath.Dir(file)
		var ports Ports
		if other == b.Records || readRecord(file, &ports) != nil {
			continue
		}
		for _, n := range ports {
			if n != number {
				continue
			}
			if lock, err := disk.LockFile(filepath.Join(other, filepath.Base(b.SupervisorLock()))); err == nil {
				lock.Close() // nothing of it runs
				break
			}
			folder := filepath.Base(filepath.Dir(other))
			if i := strings.LastIndexByte(folder, '-'); i > 0 {
				folder = folder[:i]
			}
			return "bay " + filepath.Base(other) + " of " + folder
		}
	}
	return ""
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
	if c.socket >= 0 {
		unix.Close(c.socket)
	}
	c.name.Close()
}
