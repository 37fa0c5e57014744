package network

import (
	"fmt"
	"os"
	"runtime"

	"golang.org/x/sys/unix"
)

// live is the life of the network's thread. It never goes back to the scheduler: the
// runtime ends the thread with the goroutine.
func (n *Network) live(ready chan<- error) {
	runtime.LockOSThread()
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		ready <- fmt.Errorf("%w: %v", ErrNone, err)
		return
	}
	if err := loopbackUp(); err != nil {
		ready <- fmt.Errorf("%w: its loopback: %v", ErrNone, err)
		return
	}
	// Ports below 1024 are the services' too (ip_unprivileged_port_start in
	// Documentation/networking/ip-sysctl.rst). Without it they just move up.
	_ = os.WriteFile("/proc/sys/net/ipv4/ip_unprivileged_port_start", []byte("0"), 0)
	ready <- nil
	for f := range n.work {
		f()
	}
}

func loopbackUp() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(fd, unix.SIOCGIFFLAGS, request); err != nil {
		return err
	}
	request.SetUint16(request.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request)
}
