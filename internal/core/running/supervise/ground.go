package supervise

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/network"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/service"
)

// ground is the network that services stand on: this machine's, or a private one.
type ground struct {
	net   *network.Network // nil: this machine's
	way   *http.Server     // the way out of a private one
	out   *network.Out     // where it leads
	names *http.Server     // answers for services by name in it; nil where nobody there may ask

	// begun is when it was made. Looks at services that run are made at multiples of a time
	// since then, so that all of them share one reading of the table.
	begun time.Time

	mu    sync.Mutex
	table []listen.Socket
	err   error
	at    time.Time
	took  time.Duration // to read it
	udp   bool          // some service has ports for datagrams
}

// wayOut is the port of the proxy in every private network.
const wayOut = 43128

// newGround makes a private network with its way out.
func newGround() (*ground, error) {
	n, err := network.New()
	if err != nil {
		return nil, err
	}
	l, err := n.Listen(wayOut)
	if err != nil {
		n.Close()
		return nil, err
	}
	out := network.NewOut()
	g := &ground{begun: time.Now(), net: n, out: out, way: &http.Server{Handler: out, ReadHeaderTimeout: 10 * time.Second}}
	go func() { _ = g.way.Serve(l) }()
	return g, nil
}

// leads says where a private network leads from now on: which other machines, and whether services of
// this one may be asked for by name.
func (g *ground) leads(spec service.Spec, b bay.Bay, log *slog.Logger) {
	if g.net == nil {
		return
	}
	g.out.Set(network.Reach{Only: spec.Reach != nil, Hosts: spec.Reach})
	g.mu.Lock()
	defer g.mu.Unlock()
	if spec.Named == (g.names != nil) {
		return
	}
	if !spec.Named {
		_ = g.names.Close()
		g.names = nil
		return
	}
	names := gateway.Server(gateway.Inside(b, log))
	g.names = names
	ports := slices.Clone(gateway.Ports) // as outside, whichever it is there
	// Where others have these, names are served on another port, which is known as soon as they are.
	for end := time.Now().Add(time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if port := gateway.RouterPort(b.State); port > 0 {
			ports = append(ports, port)
			break
		}
	}
	for _, port := range ports {
		if l, err := g.net.Listen(port); err == nil {
			go func() { _ = names.Serve(l) }()
		}
	}
}

// variables lead programs in a private network to its way out. Many programs know the
// small names only, many the large.
func (g *ground) variables() []string {
	if g.net == nil {
		return nil
	}
	address := "http://127.0.0.1:" + strconv.Itoa(wayOut)
	return []string{
		"http_proxy=" + address, "https_proxy=" + address, "HTTP_PROXY=" + address, "HTTPS_PROXY=" + address,
		"no_proxy=localhost,127.0.0.1,::1", "NO_PROXY=localhost,127.0.0.1,::1",
	}
}

// on is where to fork what is to be in this network.
func (g *ground) on() func(func()) {
	if g.net == nil {
		return nil
	}
	return g.net.Do
}

// takes notes what a service will listen on.
func (g *ground) takes(spec service.Spec) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.udp = g.udp || len(spec.UDP) > 0
}

func (g *ground) sockets() ([]listen.Socket, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	// Many services that start at once share a reading, and where one takes long, for longer.
	if time.Since(g.at) > max(500*time.Microsecond, 8*g.took) {
		begun := time.Now()
		read := func() {
			if g.table, g.err = listen.Sockets(); g.err == nil && g.udp {
				var more []listen.Socket
				more, g.err = listen.Datagrams()
				g.table = append(g.table, more...)
			}
		}
		if g.net == nil {
			read()
		} else {
			g.net.Do(read)
		}
		g.at = time.Now()
		g.took = g.at.Sub(begun)
	}
	return g.table, g.err
}

// next is how long it is until the next look at what is looked at so often.
func (g *ground) next(every time.Duration) time.Duration {
	return every - time.Since(g.begun)%every
}

func (g *ground) dial(ctx context.Context, port int) (net.Conn, error) {
	if g.net != nil {
		return g.net.Dial(ctx, port)
	}
	return listen.Dial(ctx, port)
}

func (g *ground) accepts(ctx context.Context, port int) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	c, err := g.dial(ctx, port)
	if err != nil {
		return fmt.Errorf("nothing listens on port %d", port)
	}
	return c.Close()
}

// client makes a new connection for each probe and follows no redirect: a redirect is
// an answer.
func (g *ground) client() *http.Client {
	return &http.Client{
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			_, text, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			port, err := strconv.Atoi(text)
			if err != nil {
				return nil, err
			}
			return g.dial(ctx, port)
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Timeout:       5 * time.Second,
	}
}

// forward takes connections to this machine's ports into a private network, and those that
// are made in the networks of other segments to the numbers that the service has in its own.
func (g *ground) forward(spec service.Spec, beside []*ground) (end func(), err error) {
	var listeners []io.Closer
	end = func() {
		for _, l := range listeners {
			l.Close()
		}
	}
	if g.net == nil {
		return end, nil
	}
	for name, outer := range spec.Outer {
		if slices.Contains(spec.UDP, name) {
			l, err := net.ListenPacket("udp4", "127.0.0.1:"+strconv.Itoa(outer))
			if err != nil {
				end()
				return nil, fmt.Errorf("its port %s cannot be forwarded: %w", name, err)
			}
			listeners = append(listeners, l)
			inner := spec.Ports[name]
			go network.ForwardPackets(l, func() (net.Conn, error) { return g.net.DialUDP(inner) })
			continue
		}
		l, err := net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(outer))
		if err != nil {
			end()
			if table, tableErr := listen.Sockets(); tableErr == nil && errors.Is(err, syscall.EADDRINUSE) {
				if at := listen.At(table, outer); len(at) > 0 {
					return nil, &stranger{name, door{number: outer}, listen.HolderOf(at[0])}
				}
			}
			return nil, fmt.Errorf("its port %s cannot be forwarded: %w", name, err)
		}
		listeners = append(listeners, l)
		inner := spec.Ports[name]
		go network.Forward(l, func(ctx context.Context) (net.Conn, error) { return g.net.Dial(ctx, inner) })
	}
	for _, other := range beside {
		for name, inner := range spec.Ports {
			if slices.Contains(spec.UDP, name) {
				l, err := other.net.ListenUDP(inner)
				if err != nil {
					end()
					return nil, fmt.Errorf("its port %s cannot be shown in another segment: %w", name, err)
				}
				listeners = append(listeners, l)
				go network.ForwardPackets(l, func() (net.Conn, error) { return g.net.DialUDP(inner) })
				continue
			}
			l, err := other.net.Listen(inner)
			if err != nil {
				end()
				return nil, fmt.Errorf("its port %s cannot be shown in another segment: %w", name, err)
			}
			listeners = append(listeners, l)
			go network.Forward(l, func(ctx context.Context) (net.Conn, error) { return g.net.Dial(ctx, inner) })
		}
	}
	return end, nil
}
