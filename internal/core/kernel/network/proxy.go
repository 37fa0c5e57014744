package network

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// Out is the way out of a network: an HTTP proxy with CONNECT (RFC 9110, section 9.3.6) whose connections
// are made outside. It leads to other machines only: not to this one, by none of its addresses, so that
// neither other bays, other segments nor what listens on the host for the person alone is reached by it;
// and not to addresses that are valid on one link, where clouds tell machines their credentials.
type Out struct {
	reach atomic.Pointer[Reach]
	plain *httputil.ReverseProxy
	ahead func(*http.Request) (*url.URL, error) // the proxy of this machine itself
}

// Reach is where a way out leads.
type Reach struct {
	Only  bool     // to Hosts and nowhere else
	Hosts []string // "weir.example", "*.weir.example", "weir.example:443", "192.0.2.7:5432"
}

// ErrNotReached means that the way out does not lead to an address.
var ErrNotReached = errors.New("a private network does not reach it")

// NewOut makes a way out that leads to every other machine.
func NewOut() *Out {
	o := &Out{ahead: http.ProxyFromEnvironment}
	o.reach.Store(&Reach{})
	o.plain = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.Out.URL.Host = r.In.URL.Host },
		Transport: &http.Transport{
			Proxy: o.ahead, MaxIdleConnsPerHost: 16, IdleConnTimeout: 30 * time.Second,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				if known, _ := ctx.Value(aheadKey{}).(string); known == address { // the machine's own settings name it
					return (&net.Dialer{}).DialContext(ctx, network, address)
				}
				return dial(ctx, address)
			},
		},
		FlushInterval: -1,
		ErrorHandler:  func(w http.ResponseWriter, _ *http.Request, err error) { refuse(w, err) },
	}
	return o
}

// Set says anew where it leads. Connections that are open stay.
func (o *Out) Set(r Reach) { o.reach.Store(&r) }

type aheadKey struct{}

func refuse(w http.ResponseWriter, err error) {
	code := http.StatusBadGateway
	if errors.Is(err, ErrNotReached) {
		code = http.StatusForbidden
	}
	http.Error(w, err.Error(), code)
}

func (o *Out) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodConnect {
		o.connect(w, r)
		return
	}
	if !r.URL.IsAbs() || r.URL.Scheme != "http" {
		http.Error(w, "this is a proxy", http.StatusBadRequest)
		return
	}
	if err := o.reach.Load().allows(r.URL.Hostname(), portOf(r.URL)); err != nil {
		refuse(w, err)
		return
	}
	if up, err := o.ahead(r); err == nil && up != nil {
		// The next proxy looks the name up. What it leads to from here is refused here.
		if err := looked(r.Context(), r.URL.Hostname()); err != nil {
			refuse(w, err)
			return
		}
		r = r.WithContext(context.WithValue(r.Context(), aheadKey{}, net.JoinHostPort(up.Hostname(), portOf(up))))
	}
	o.plain.ServeHTTP(w, r)
}

func portOf(u *url.URL) string {
	if p := u.Port(); p != "" {
		return p
	}
	if u.Scheme == "https" {
		return "443"
	}
	return "80"
}

func (o *Out) connect(w http.ResponseWriter, r *http.Request) {
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		http.Error(w, "CONNECT names a host and a port", http.StatusBadRequest)
		return
	}
	if err := o.reach.Load().allows(host, port); err != nil {
		refuse(w, err)
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
	defer cancel()
	out, err := dial(ctx, r.Host)
	if err != nil {
		refuse(w, err)
		return
	}
	in, buffered, err := w.(http.Hijacker).Hijack()
	if err != nil {
		out.Close()
		return
	}
	_, _ = io.WriteString(in, "HTTP/1.1 200 OK\r\n\r\n")
	if n := buffered.Reader.Buffered(); n > 0 {
		early, _ := buffered.Peek(n)
		_, _ = out.Write(early)
	}
	Join(in, out)
}

// allows tells whether a host that is named may be reached.
func (r *Reach) allows(host, port string) error {
	if !r.Only {
		return nil
	}
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	for _, pattern := range r.Hosts {
		name, number := SplitHost(pattern)
		if number != "" && number != port {
			continue
		}
		if at, err := netip.ParseAddr(name); err == nil {
			if given, err := netip.ParseAddr(host); err == nil && given.Unmap() == at.Unmap() {
				return nil
			}
			continue
		}
		if rest, wild := strings.CutPrefix(name, "*."); host == name || wild && strings.HasSuffix(host, "."+rest) {
			return nil
		}
	}
	return fmt.Errorf("%w: %s is not among the hosts that network names in the declaration", ErrNotReached, net.JoinHostPort(host, port))
}

// SplitHost takes a pattern of Reach apart; port is "" where it has none.
func SplitHost(pattern string) (name, port string) {
	if h, p, err := net.SplitHostPort(pattern); err == nil {
		return strings.ToLower(h), p
	}
	return strings.ToLower(strings.Trim(pattern, "[]")), ""
}

// CheckHost tells what is wrong with a pattern of Reach; nil when nothing is.
func CheckHost(pattern string) error {
	name, port := SplitHost(pattern)
	if port != "" {
		if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
			return fmt.Errorf("%q is no port", port)
		}
	}
	if at, err := netip.ParseAddr(name); err == nil {
		if why := closed(at, nil); why != "" {
			return fmt.Errorf("%s is %s, which a private network never reaches", at, why)
		}
		return nil
	}
	if name == "localhost" || strings.HasSuffix(name, ".localhost") {
		return errors.New("localhost is this machine itself, which a private network never reaches; services by name: names = true")
	}
	labels := strings.Split(strings.TrimPrefix(name, "*."), ".")
	for _, label := range labels {
		if ok, _ := path.Match("[a-z0-9_]*", label); !ok || len(label) > 63 || strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-_") != "" {
			return fmt.Errorf("%q is no name of a host", pattern)
		}
	}
	return nil
}

// dial connects to another machine. Every address that a name has is looked at when it is connected
// to, so that no later answer of a name server can lead elsewhere.
func dial(ctx context.Context, address string) (net.Conn, error) {
	own := addresses()
	d := net.Dialer{ControlContext: func(_ context.Context, _, to string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(to)
		if err != nil {
			return err
		}
		if why := closed(at.Addr(), own); why != "" {
			return fmt.Errorf("%w: %s is %s", ErrNotReached, at.Addr(), why)
		}
		return nil
	}}
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	// A machine may take whole ranges for its own by its routes. A connection to itself comes from where
	// it goes to.
	here, ok1 := c.LocalAddr().(*net.TCPAddr)
	there, ok2 := c.RemoteAddr().(*net.TCPAddr)
	if !ok1 || !ok2 || here.IP.Equal(there.IP) {
		c.Close()
		return nil, fmt.Errorf("%w: %s is this machine itself", ErrNotReached, address)
	}
	return c, nil
}

// looked refuses a name that leads to an address which is closed.
func looked(ctx context.Context, host string) error {
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil // it is known to the next proxy alone
	}
	own := addresses()
	for _, at := range list {
		if why := closed(at, own); why != "" {
			return fmt.Errorf("%w: %s is %s", ErrNotReached, at.Unmap(), why)
		}
	}
	return nil
}

// addresses are this machine's own, as they are now.
func addresses() (out []netip.Addr) {
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok {
			if at, ok := netip.AddrFromSlice(n.IP); ok {
				out = append(out, at.Unmap())
			}
		}
	}
	return out
}

// metadata are the addresses outside of the link's own range at which clouds tell a machine its
// credentials, as their makers document them.
var metadata = []netip.Addr{
	netip.MustParseAddr("100.100.100.200"), netip.MustParseAddr("192.0.0.192"), netip.MustParseAddr("168.63.129.16"),
	netip.MustParseAddr("fd00:ec2::254"), netip.MustParseAddr("fd20:ce::254"),
}

// this is "this host on this network" (RFC 6890, section 2.2.2).
var this = netip.MustParsePrefix("0.0.0.0/8")

// carrying are the ranges of IPv6 whose addresses have an IPv4 address within, and where: IPv4-compatible
// (RFC 4291, section 2.5.5.1), NAT64 (RFC 6052, section 2.1; RFC 8215) and 6to4 (RFC 3056, section 2).
var carrying = []struct {
	in netip.Prefix
	at int
}{
	{netip.MustParsePrefix("::/96"), 12}, {netip.MustParsePrefix("64:ff9b::/96"), 12}, {netip.MustParsePrefix("64:ff9b:1::/48"), 12},
	{netip.MustParsePrefix("2002::/16"), 2},
}

// closed says what an address is that the way out does not lead to; "" when it does.
func closed(at netip.Addr, own []netip.Addr) string {
	at = at.WithZone("").Unmap()
	switch {
	case at.IsLoopback() || at.IsUnspecified() || this.Contains(at) || slices.Contains(own, at):
		return "this machine itself"
	case slices.Contains(metadata, at):
		return "where clouds tell a machine its credentials"
	case at.IsLinkLocalUnicast():
		return "valid on one link only"
	case at.IsMulticast() || at == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return "no single machine"
	}
	for _, c := range carrying {
		if at.Is6() && c.in.Contains(at) {
			raw := at.As16()
			within, _ := netip.AddrFromSlice(raw[c.at : c.at+4])
			return closed(within, own)
		}
	}
	return ""
}
