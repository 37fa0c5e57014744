package bay

import (
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// nameFor takes the name of a port number: an abstract socket (unix(7)), which all users of
// one network see, which lies in no folder, and which the kernel frees with its holder.
func nameFor(number string) (io.Closer, error) {
	fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	if err := unix.Bind(fd, &unix.SockaddrUnix{Name: "@trammel-port-" + number}); err != nil {
		unix.Close(fd)
		if errors.Is(err, unix.EADDRINUSE) {
			return nil, ErrTaken
		}
		return nil, err
	}
	return os.NewFile(uintptr(fd), "port "+number), nil
}
