package kept

import (
	"io"
	"os"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// SumPath is where a supervisor says, on its socket and by HTTP, what the sum is of all that it
// can say of its services but for what they use.
const SumPath = "/sum"

// mostSum is how much a supervisor may say, in bytes, and patience how long it may take for each
// part of it: the longer way has more of that.
const mostSum = 4096

var patience = syscall.Timeval{Usec: 300_000}

// SumOf asks a supervisor for the sum; "" where it does not say. The network's own package is
// initialised late, and speaks no shorter a request (RFC 1945, section 5).
func SumOf(socket string) string {
	at := plain.LastIndexByte(socket, '/')
	if at < 1 {
		return ""
	}
	// An address holds 107 bytes, and a bay's path may be longer (unix(7)).
	const onlyPath = 0x200000 // O_PATH in open(2)
	folder, err := syscall.Open(socket[:at], onlyPath|syscall.O_DIRECTORY|syscall.O_CLOEXEC, 0)
	if err != nil {
		return ""
	}
	defer syscall.Close(folder)
	fd, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return ""
	}
	f := os.NewFile(uintptr(fd), socket)
	defer f.Close()
	for _, way := range []int{syscall.SO_RCVTIMEO, syscall.SO_SNDTIMEO} {
		if err := syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, way, &patience); err != nil {
			return ""
		}
	}
	if err := syscall.Connect(fd, &syscall.SockaddrUnix{Name: "/proc/self/fd/" + strconv.Itoa(folder) + socket[at:]}); err != nil {
		return ""
	}
	if _, err := f.WriteString("GET " + SumPath + " HTTP/1.0\r\n\r\n"); err != nil {
		return ""
	}
	raw, err := io.ReadAll(io.LimitReader(f, mostSum))
	head, body, ok := plain.Cut(string(raw), "\r\n\r\n")
	line, _, _ := plain.Cut(head, "\r\n")
	if words := plain.Fields(line); err != nil || !ok || len(words) < 2 || words[1] != "200" {
		return ""
	}
	return body
}
