package peer

import (
	"syscall"
	"unsafe"
)

// Messages of sock_diag(7): linux/sock_diag.h and linux/inet_diag.h.
const (
	sockDiagByFamily = 20
	headSize         = 16
	requestSize      = headSize + 56
	messageSize      = 72
)

// socket is the other end's socket of a connection, as the kernel's table has it: its inode and its user.
// One of another network is not found.
func socket(q *question) (inode uint32, user int, ok bool) {
	const protocol = 4 // NETLINK_SOCK_DIAG
	fd, err := syscall.Socket(syscall.AF_NETLINK, syscall.SOCK_RAW|syscall.SOCK_CLOEXEC, protocol)
	if err != nil {
		return 0, 0, false
	}
	defer syscall.Close(fd)
	_ = syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_RCVTIMEO, &syscall.Timeval{Sec: 2})
	family := byte(syscall.AF_INET)
	if q[1] != 0 {
		family = syscall.AF_INET6
	}
	var r [requestSize]byte
	*(*syscall.NlMsghdr)(unsafe.Pointer(&r[0])) = syscall.NlMsghdr{Len: requestSize, Type: sockDiagByFamily, Flags: syscall.NLM_F_REQUEST}
	b := r[headSize:] // struct inet_diag_req_v2
	b[0], b[1] = family, syscall.IPPROTO_TCP
	for i := 4; i < 8; i++ { // of any state
		b[i] = 0xff
	}
	copy(b[8:], q[18:20])  // the other end's port is this socket's own
	copy(b[10:], q[36:38]) // and ours its remote one
	copy(b[12:], q[2:18])  // addresses likewise
	copy(b[28:], q[20:36])
	for i := 48; i < 56; i++ { // INET_DIAG_NOCOOKIE
		b[i] = 0xff
	}
	if err := syscall.Sendto(fd, r[:], 0, &syscall.SockaddrNetlink{Family: syscall.AF_NETLINK}); err != nil {
		return 0, 0, false
	}
	var answer [4096]byte
	n, _, err := syscall.Recvfrom(fd, answer[:], 0)
	if err != nil || n < headSize+messageSize {
		return 0, 0, false
	}
	if (*syscall.NlMsghdr)(unsafe.Pointer(&answer[0])).Type != sockDiagByFamily {
		return 0, 0, false
	}
	m := answer[headSize:] // struct inet_diag_msg
	if string(m[4:8]) != string(b[8:12]) {
		return 0, 0, false
	}
	word := func(at int) uint32 { return *(*uint32)(unsafe.Pointer(&m[at])) }
	return word(68), int(word(64)), true
}
