package listen

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/kernel/process"
)

// Messages of sock_diag(7): linux/sock_diag.h and linux/inet_diag.h.
const (
	sockDiagByFamily = 20
	requestSize      = 16 + 56
	answerSize       = 72
)

// States of sockets, as bits: linux/tcp_states.h.
const (
	listens = 1 << 10                           // TCP_LISTEN
	ending  = 1<<4 | 1<<5 | 1<<6 | 1<<9 | 1<<11 // FIN_WAIT1, FIN_WAIT2, TIME_WAIT, LAST_ACK, CLOSING
	any     = 1<<14 - 1
	bound   = 1 << 7 // TCP_CLOSE: of a datagram socket, that it is bound
)

// Sockets reads the table of the calling thread's network: all that listen.
func Sockets() ([]Socket, error) { return sockets(unix.IPPROTO_TCP, listens) }

// Datagrams reads the table of the calling thread's network: all that take datagrams from anybody.
func Datagrams() ([]Socket, error) { return sockets(unix.IPPROTO_UDP, bound) }

// All reads the table of the calling thread's network: sockets of any state.
func All() ([]Socket, error) { return sockets(unix.IPPROTO_TCP, any) }

// Lingering tells whether, of all sockets, connections that end by themselves are all that has a
// local port. What is bound to it and does not listen is in no table of older kernels, so nothing
// at all is not lingering.
func Lingering(all []Socket, port int) bool {
	found := false
	for _, s := range all {
		if int(s.At.Port()) != port {
			continue
		}
		if found = true; ending&(1<<s.state) == 0 {
			return false
		}
	}
	return found
}

// HolderOf finds the process that holds a socket: the first of them, since what it started holds it
// too until it runs a program of its own (execve(2)).
func HolderOf(s Socket) Holder {
	h := Holder{User: s.User}
	var begun uint64
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return h
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		command, ok := Held([]int{pid})[s.Inode]
		if !ok {
			continue
		}
		if at := process.ProcessOf(pid).Started; h.Pid == 0 || at != 0 && at < begun {
			h.Pid, h.Command, begun = pid, command, at
		}
	}
	return h
}

func sockets(protocol byte, states uint32) ([]Socket, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrNone, err)
	}
	defer unix.Close(fd)
	_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 2})
	var out []Socket
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		if out, err = dump(fd, family, protocol, states, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// dump lists the sockets of a family. A list that changed while the kernel wrote it is asked for again
// (NLM_F_DUMP_INTR in netlink(7)).
func dump(fd int, family, protocol byte, states uint32, out []Socket) ([]Socket, error) {
	for try := 0; ; try++ {
		list, whole, err := dumpOnce(fd, family, protocol, states, out[:len(out):len(out)])
		if err != nil || whole || try == mostDumps {
			return list, err
		}
	}
}

// mostDumps is how often a list is asked for again before it is taken as it is.
const mostDumps = 8

func dumpOnce(fd int, family, protocol byte, states uint32, out []Socket) (_ []Socket, whole bool, err error) {
	whole = true
	request := make([]byte, requestSize)
	binary.NativeEndian.PutUint32(request[0:], requestSize)
	binary.NativeEndian.PutUint16(request[4:], sockDiagByFamily)
	binary.NativeEndian.PutUint16(request[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	request[16], request[17] = family, protocol
	binary.NativeEndian.PutUint32(request[20:], states)
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, false, fmt.Errorf("%w: %v", ErrNone, err)
	}
	buffer := make([]byte, 32<<10)
	for {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return nil, false, err
		}
		for message := buffer[:n]; len(message) >= 16; {
			size := int(binary.NativeEndian.Uint32(message))
			if size < 16 || size > len(message) {
				return nil, false, errors.New("the kernel's answer cannot be read")
			}
			if binary.NativeEndian.Uint16(message[6:])&unix.NLM_F_DUMP_INTR != 0 {
				whole = false
			}
			switch binary.NativeEndian.Uint16(message[4:]) {
			case unix.NLMSG_DONE:
				return out, whole, nil
			case unix.NLMSG_ERROR:
				return nil, false, ErrNone
			case sockDiagByFamily:
				if size >= 16+answerSize {
					one := parse(message[16:size])
					one.UDP = protocol == unix.IPPROTO_UDP
					out = append(out, one)
				}
			}
			message = message[min(len(message), (size+3)&^3):]
		}
	}
}

// parse reads a struct inet_diag_msg.
func parse(b []byte) Socket {
	port := binary.BigEndian.Uint16(b[4:])
	address, _ := netip.AddrFromSlice(b[8:12])
	if b[0] == unix.AF_INET6 {
		address, _ = netip.AddrFromSlice(b[8:24])
	}
	return Socket{
		At: netip.AddrPortFrom(address, port), User: int(binary.NativeEndian.Uint32(b[64:])),
		Inode: uint64(binary.NativeEndian.Uint32(b[68:])), state: b[1],
	}
}

// Below lists a process and all that descend from it.
func Below(pid int) []int {
	out := []int{pid}
	for _, child := range process.Children(pid) {
		out = append(out, Below(child)...)
	}
	return out
}

// Held are the inodes of the sockets that processes hold, with the name of the
// process's command.
func Held(pids []int) map[uint64]string {
	out := map[uint64]string{}
	for _, pid := range pids {
		dir := fmt.Sprintf("/proc/%d/fd", pid)
		f, err := os.Open(dir)
		if err != nil {
			continue
		}
		names, _ := f.Readdirnames(-1)
		f.Close()
		command := ""
		for _, name := range names {
			to, err := os.Readlink(dir + "/" + name)
			text, ok := strings.CutPrefix(to, "socket:[")
			if err != nil || !ok {
				continue
			}
			inode, err := strconv.ParseUint(strings.TrimSuffix(text, "]"), 10, 64)
			if err != nil {
				continue
			}
			if command == "" {
				b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
				command = strings.TrimSpace(string(b))
			}
			out[inode] = command
		}
	}
	return out
}

// Use is what processes use of the machine.
type Use struct {
	Memory int64 // bytes that are resident and not of files
	Ticks  int64 // of CPU time so far, 100 a second (USER_HZ in time(7))
}

// UseOf adds up what processes use. Memory is the resident set without pages of files,
// which is cheap to read; what several share of it is counted for each. Time of children counts
// with those that have waited for them (proc_pid_stat(5), fields 14 to 17).
func UseOf(pids []int) (u Use) {
	page := int64(os.Getpagesize())
	for _, pid := range pids {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid)); err == nil {
			if f := strings.Fields(string(b)); len(f) > 2 {
				resident, _ := strconv.ParseInt(f[1], 10, 64)
				shared, _ := strconv.ParseInt(f[2], 10, 64)
				u.Memory += max(0, resident-shared) * page
			}
		}
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil {
			text := string(b)
			if f := strings.Fields(text[strings.LastIndexByte(text, ')')+1:]); len(f) > 14 {
				for _, word := range f[11:15] { // its own, and that of children that have ended
					n, _ := strconv.ParseInt(word, 10, 64)
					u.Ticks += n
				}
			}
		}
	}
	return u
}

// Share is how much of a core one process gets while all that want to run get the same: 1 on a
// machine with time to spare (proc_loadavg(5), the first and the fourth field).
func Share() float64 {
	b, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 1
	}
	f := strings.Fields(string(b))
	if len(f) < 4 {
		return 1
	}
	load, _ := strconv.ParseFloat(f[0], 64)
	now, _, _ := strings.Cut(f[3], "/")
	running, _ := strconv.ParseFloat(now, 64)
	return min(1, float64(runtime.NumCPU())/max(1, load, running))
}

// SocketsOf reads the table of the network that a process is in: all that listen or take datagrams (proc_pid_net(5)).
func SocketsOf(pid int) (out []Socket, err error) {
	for _, name := range []string{"tcp", "tcp6", "udp", "udp6"} {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", pid, name))
		if errors.Is(err, os.ErrNotExist) && strings.HasSuffix(name, "6") {
			continue
		}
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(raw)) {
			if s, ok := parseLine(line, strings.HasPrefix(name, "udp")); ok {
				out = append(out, s)
			}
		}
	}
	return out, nil
}

// parseLine reads a line of /proc/net/tcp: the local address as words in the machine's order with the port
// behind it, the state in hexadecimal, and the user and the inode in decimal.
func parseLine(line string, udp bool) (s Socket, ok bool) {
	f := strings.Fields(line)
	state := "0A" // TCP_LISTEN
	if udp {
		state = "07" // TCP_CLOSE: bound, and connected to nobody
	}
	if len(f) < 10 || f[3] != state {
		return s, false
	}
	address, number, _ := strings.Cut(f[1], ":")
	port, err := strconv.ParseUint(number, 16, 16)
	if err != nil || len(address)%8 != 0 {
		return s, false
	}
	var raw []byte
	for ; address != ""; address = address[8:] {
		word, err := strconv.ParseUint(address[:8], 16, 32)
		if err != nil {
			return s, false
		}
		raw = binary.NativeEndian.AppendUint32(raw, uint32(word))
	}
	at, ok := netip.AddrFromSlice(raw)
	user, userErr := strconv.Atoi(f[7])
	inode, inodeErr := strconv.ParseUint(f[9], 10, 64)
	return Socket{At: netip.AddrPortFrom(at, uint16(port)), User: user, Inode: inode, UDP: udp, state: 10}, ok && userErr == nil && inodeErr == nil
}
