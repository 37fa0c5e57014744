package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/peer"
)

// What a supervisor is asked, beside services to start and stop, and what both sides know.

// SupervisorName is the argv[0] under which this program is a bay's supervisor;
// argv[1] is the bay as JSON.
const SupervisorName = "trammel-supervisor"

// Order asks for ports to be held.
type Order struct {
	Wanted   bay.Ports `json:"wanted"`             // declared numbers by port key
	UDP      []string  `json:"udp,omitempty"`      // keys of those that take datagrams
	Declared bool      `json:"declared,omitempty"` // go back to the declared numbers, where they can be had
	Lost     []string  `json:"lost,omitempty"`     // keys whose number a stranger took; they get another
	Patient  bool      `json:"patient,omitempty"`  // wait for the processes of an earlier supervisor to end
}

// Claimed is the answer to a claim: the numbers that are held, and a sentence for
// each that is not the one that is declared.
type Claimed struct {
	Ports   bay.Ports `json:"ports"`
	Told    []string  `json:"told,omitempty"`
	Earlier []string  `json:"earlier,omitempty"` // processes of an earlier supervisor that have not ended; nothing is held then
}

// Surplus are copies of services that are not declared any more.
type Surplus struct {
	Names []string `json:"names"`
	Keep  []string `json:"keep"` // keys of ports that the copies that are declared have
}

// Signal asks for a signal to be sent to services.
type Signal struct {
	Signal string   `json:"signal"` // "HUP"
	Names  []string `json:"names"`
}

// Signalled is a program that got a signal.
type Signalled struct {
	Name string `json:"name"`
	Pid  int    `json:"pid"`
}

// signals by the names that a declaration may use.
var signals = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP,
	"USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2, "KILL": syscall.SIGKILL,
}

// SignalNames are the signals that services can be sent.
func SignalNames() []string { return slices.Sorted(maps.Keys(signals)) }

// SignalOf is the signal of a name; ok is false where services can be sent none of it.
func SignalOf(name string) (s syscall.Signal, ok bool) { s, ok = signals[name]; return s, ok }

// Late tells whether a request was made so long ago that whoever made it was told that it did
// not happen.
func Late(r *http.Request) bool {
	at, err := strconv.ParseInt(r.Header.Get(askedAt), 10, 64)
	return err == nil && r.Method == http.MethodPost && time.Since(time.Unix(0, at)) > tooLate
}

// Wanted are the services of a bay that ran when nobody had stopped them.
func Wanted(b bay.Bay) []string {
	var out []string
	if raw, err := disk.Read(b.WantedFile(), disk.MostState); err == nil {
		_ = json.Unmarshal(raw, &out)
	}
	return out
}

// CopyOf is the number of a copy of a service that has several: "2" of lane.2.
func CopyOf(name, service string) (number string, ok bool) {
	return strings.CutPrefix(name, service+".")
}

// CompareNames orders lane.2 before lane.10.
func CompareNames(a, b string) int {
	if len(a) != len(b) && len(a) > 0 && len(b) > 0 && commonService(a, b) {
		return len(a) - len(b)
	}
	if a < b {
		return -1
	}
	if a > b {
		return 1
	}
	return 0
}

func commonService(a, b string) bool {
	ext := filepath.Ext(a)
	return ext != "" && a[:len(a)-len(ext)] == b[:max(0, len(b)-len(filepath.Ext(b)))]
}

// ListenControl makes the control socket. Only the same user may connect: the socket's mode says so,
// and each connection is asked for its user. A process that does not see this machine as a login of the
// user does is answered, and gets nothing (see Told).
func ListenControl(path string, who *peer.Looker) (net.Listener, error) {
	os.Remove(path) // of a supervisor that was killed; its lock is ours now
	short, done, err := shortPath(path)
	if err != nil {
		return nil, err
	}
	defer done()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: short, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	return ownUser{l, who}, nil
}

// ownUser drops connections of other users.
type ownUser struct {
	*net.UnixListener
	who *peer.Looker
}

func (l ownUser) Accept() (net.Conn, error) {
	for {
		c, err := l.AcceptUnix()
		if err != nil {
			return nil, err
		}
		uid, pid, err := peerOf(c)
		if err != nil || uid != os.Getuid() && uid != 0 {
			c.Close()
			continue
		}
		at, err := l.who.OfProcess(pid)
		return &caller{c, err == nil && at.Files, err == nil}, nil
	}
}

// caller is a connection to the control socket.
type caller struct {
	*net.UnixConn
	known bool // it is from a login of the user
	told  bool // the helper could be asked whose it is
}

type callerKey struct{}

// Told has a server of the control socket answer only processes of a login of the user.
func Told(server *http.Server) {
	server.ConnContext = func(ctx context.Context, c net.Conn) context.Context {
		return context.WithValue(ctx, callerKey{}, c)
	}
	own := server.Handler
	server.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, ok := r.Context().Value(callerKey{}).(*caller)
		if ok && !c.told {
			http.Error(w, fmt.Sprintf("its helper, which tells who asks, has ended. End the supervisor, and run the command again: kill %d", os.Getpid()), http.StatusForbidden)
			return
		}
		if !ok || !c.known {
			http.Error(w, "it answers only programs of your own login, and this one runs in a container, a sealed root, a step or a service. Run the command in a plain terminal.", http.StatusForbidden)
			return
		}
		own.ServeHTTP(w, r)
	})
}
