package inside

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
)

// pass makes the ports of a service that listens on loopback alone reachable from other
// containers: most programs of a developer's machine do, and rightly there. A connection to the
// container's own address is passed on to 127.0.0.1, where the service sees it come from.
func (l *launcher) pass(ctx context.Context, ports map[string]int) {
	for name, port := range ports {
		go func() {
			for {
				if wide, loopback := listening(port); wide {
					return
				} else if loopback {
					break
				}
				select {
				case <-time.After(100 * time.Millisecond):
				case <-ctx.Done():
					return
				}
			}
			for _, own := range addresses() {
				listener, err := net.Listen("tcp", net.JoinHostPort(own, strconv.Itoa(port)))
				if err != nil {
					l.say("port %s (%d) is not to be reached from outside: %v", name, port, err)
					continue
				}
				go serve(listener, fmt.Sprintf("127.0.0.1:%d", port))
			}
		}()
	}
}

func serve(listener net.Listener, to string) {
	for {
		c, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			inner, err := net.DialTimeout("tcp", to, 5*time.Second)
			if err != nil {
				return
			}
			defer inner.Close()
			go func() {
				_, _ = io.Copy(inner, c) // spliced by the kernel
				_ = inner.(*net.TCPConn).CloseWrite()
			}()
			_, _ = io.Copy(c, inner)
			_ = c.(*net.TCPConn).CloseWrite()
		}()
	}
}

// addresses are the container's own, loopback aside.
func addresses() []string {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []string
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	return out
}

// listening tells whether something listens on a port at every address, or only on loopback
// (proc_net(5), /proc/net/tcp: state 0A).
func listening(port int) (wide, loopback bool) {
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(raw)) {
			f := strings.Fields(line)
			if len(f) < 4 || f[3] != "0A" {
				continue
			}
			address, number, _ := strings.Cut(f[1], ":")
			if n, err := strconv.ParseInt(number, 16, 32); err != nil || int(n) != port {
				continue
			}
			switch {
			case address == "0100007F", strings.HasSuffix(address, "0000000001000000"), strings.HasSuffix(address, "0100007F"):
				loopback = true
			default:
				wide = true
			}
		}
	}
	return wide, loopback
}
