package supervise

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/service"
)

// A port answers for a service only when a process of that service's own tree holds the
// listening socket. Nothing else is believed: not a connection that is accepted, not an
// answer to a probe, since any program of this machine may have been faster.

// holding tells whose the listeners on a service's ports are.
type holding struct {
	spec service.Spec
	g    *ground
	tree *process.Tree

	mu   sync.Mutex
	ours map[uint64]bool // sockets that were found to be the tree's
}

func newHolding(spec service.Spec, g *ground, tree *process.Tree) *holding {
	return &holding{spec: spec, g: g, tree: tree, ours: map[uint64]bool{}}
}

// stranger is a listener on a service's port that is none of the service's.
type stranger struct {
	name   string // of the port
	door   door
	holder listen.Holder
}

func (e *stranger) Error() string {
	return fmt.Sprintf("port %s (%s) is taken by %s", e.name, e.door, e.holder)
}

// look tells whether the tree listens on a port. The error is a *stranger when somebody
// else does, or listen.ErrNone where that cannot be told.
func (h *holding) look(port door) (own bool, err error) {
	table, err := h.g.sockets()
	if err != nil {
		return false, err
	}
	at := port.in(table)
	if len(at) == 0 {
		return false, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	known := func(s listen.Socket) bool { return h.ours[s.Inode] }
	if slices.ContainsFunc(at, func(s listen.Socket) bool { return !known(s) }) {
		for inode := range listen.Held(listen.Below(h.tree.Pid)) {
			h.ours[inode] = true
		}
	}
	for _, s := range at {
		if !known(s) {
			return false, &stranger{h.name(port), port, listen.HolderOf(s)}
		}
	}
	return true, nil
}

// in are the sockets of a table that are on a port.
func (d door) in(table []listen.Socket) []listen.Socket {
	if d.udp {
		return listen.AtUDP(table, d.number)
	}
	return listen.At(table, d.number)
}

func (h *holding) name(port door) string {
	for _, name := range slices.Sorted(maps.Keys(h.spec.Ports)) {
		if h.spec.Ports[name] == port.number && slices.Contains(h.spec.UDP, name) == port.udp {
			return name
		}
	}
	return "of its probe"
}

// patience is how long a stranger may be on a port before it is sure that the service does
// not get it: two that start at once may be seen in any order, and one that ends goes.
const patience = time.Second

// opened waits until the tree listens on a port.
func (h *holding) opened(ctx context.Context, port door, begun time.Time) error {
	var seen time.Time
	for {
		own, err := h.look(port)
		var other *stranger
		pause := listenEvery(time.Since(begun))
		switch {
		case own || err != nil && !errors.As(err, &other):
			return nil // where nobody tells, the probe finds out
		case other != nil:
			if seen.IsZero() {
				seen = time.Now()
			}
			if time.Since(seen) > patience {
				return other
			}
			pause = 30 * time.Millisecond
		default:
			seen = time.Time{}
			if len(h.spec.Ready.Command) > 0 && time.Since(begun) > time.Second {
				return nil // a command may mean something else than its ports
			}
		}
		select {
		case <-ctx.Done():
			if other != nil {
				return other
			}
			return fmt.Errorf("nothing listens on port %s", port)
		case <-time.After(pause):
		}
	}
}

// strangers is the first declared port that somebody else answers on, as an error.
func (h *holding) strangers() error {
	for _, d := range doors(h.spec) {
		var other *stranger
		if _, err := h.look(d); errors.As(err, &other) {
			return other
		}
	}
	return nil
}

// socket is the tree's own listener on a port; 0 when it has none.
func (h *holding) socket(port int) uint64 {
	table, err := h.g.sockets()
	if err != nil {
		return 0
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range listen.At(table, port) {
		if h.ours[s.Inode] {
			return s.Inode
		}
	}
	return 0
}

// indirect tells whether another process than the program itself listens, as with one that is
// about to go to the background.
func (h *holding) indirect() bool {
	table, err := h.g.sockets()
	if err != nil || len(h.spec.Ports) == 0 {
		return false
	}
	own := listen.Held([]int{h.tree.Program()})
	for _, port := range doors(h.spec) {
		for _, s := range port.in(table) {
			if _, ok := own[s.Inode]; ok {
				return false
			}
		}
	}
	return true
}

// open lists the declared ports that other machines reach too, as address and port.
func (h *holding) open() []string {
	if h.g.net != nil {
		return nil // nobody outside reaches a private network
	}
	table, err := h.g.sockets()
	if err != nil {
		return nil
	}
	var out []string
	for _, port := range doors(h.spec) {
		for _, s := range port.in(table) {
			if s.Open() {
				out = append(out, s.At.String())
			}
		}
	}
	return out
}

// onlyV6 are the names of ports that are reached at ::1 and not at 127.0.0.1.
func (h *holding) onlyV6() (names []string) {
	table, err := h.g.sockets()
	if err != nil {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(h.spec.Ports)) {
		if !slices.Contains(h.spec.UDP, name) && listen.OnlyV6(table, h.spec.Ports[name]) {
			names = append(names, name)
		}
	}
	return names
}
