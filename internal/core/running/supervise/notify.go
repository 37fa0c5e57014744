package supervise

import (
	"crypto/rand"
	"encoding/hex"
	"net"
	"os"
	"path/filepath"
	"strings"
)

// notifier takes what a service says of itself: datagrams of lines NAME=VALUE on the
// socket that NOTIFY_SOCKET names, as in sd_notify(3).
type notifier struct {
	conn  *net.UnixConn
	path  string        // "" of one without a file
	ready chan struct{} // one word a READY=1
}

// listenNotify makes the socket of one run of a service. Its file is in the bay, or,
// where that path is too long for an address (unix(7)), it has no file.
func listenNotify(dir, name string, g *ground, says func(string)) (*notifier, error) {
	n := &notifier{ready: make(chan struct{}, 1)}
	address := filepath.Join(dir, "notify-"+name)
	n.path = address
	if len(address) > 100 {
		raw := make([]byte, 16)
		if _, err := rand.Read(raw); err != nil {
			return nil, err
		}
		address, n.path = "@trammel-"+hex.EncodeToString(raw), ""
	} else {
		os.Remove(address)
	}
	var err error
	open := func() { n.conn, err = net.ListenUnixgram("unixgram", &net.UnixAddr{Name: address, Net: "unixgram"}) }
	if on := g.on(); on != nil && n.path == "" {
		on(open) // such names belong to a network
	} else {
		open()
	}
	if err != nil {
		return nil, err
	}
	go n.read(says)
	return n, nil
}

func (n *notifier) variable() string {
	return "NOTIFY_SOCKET=" + n.conn.LocalAddr().String()
}

func (n *notifier) read(says func(string)) {
	b := make([]byte, 4096)
	for {
		size, err := n.conn.Read(b)
		if err != nil {
			return
		}
		for line := range strings.Lines(string(b[:size])) {
			name, value, _ := strings.Cut(strings.TrimRight(line, "\n"), "=")
			switch {
			case name == "READY" && value == "1":
				select {
				case n.ready <- struct{}{}:
				default:
				}
			case name == "STATUS":
				says(value)
			}
		}
	}
}

func (n *notifier) close() {
	n.conn.Close()
	if n.path != "" {
		os.Remove(n.path)
	}
}
