package gateway

import (
	"encoding/hex"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// sameUser tells whether a request over loopback came from this user (or root): other
// users of the machine can connect too. The kernel's table of connections says whose
// the other end is (/proc/net/tcp in proc_net(5)).
func sameUser(r *http.Request) (bool, error) {
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return false, errors.New("the connection has no address")
	}
	here, err := netip.ParseAddrPort(local.String())
	if err != nil {
		return false, err
	}
	there, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return false, err
	}
	table, err := os.ReadFile("/proc/net/tcp")
	if err != nil {
		return false, err
	}
	// The other end's own line: its address is ours' remote.
	from, to := kernelAddress(there), kernelAddress(here)
	for line := range strings.Lines(string(table)) {
		f := strings.Fields(line)
		if len(f) > 7 && f[1] == from && f[2] == to {
			uid, err := strconv.Atoi(f[7])
			return err == nil && (uid == os.Getuid() || uid == 0), err
		}
	}
	return false, errors.New("the connection is not in the kernel's table")
}

// kernelAddress is how the table writes an IPv4 address: the bytes backwards on
// little-endian machines, all of which this runs on, then the port.
func kernelAddress(a netip.AddrPort) string {
	b := a.Addr().Unmap().As4()
	back := []byte{b[3], b[2], b[1], b[0]}
	port := []byte{byte(a.Port() >> 8), byte(a.Port())}
	return strings.ToUpper(hex.EncodeToString(back) + ":" + hex.EncodeToString(port))
}
