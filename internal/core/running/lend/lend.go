// Package lend lets somebody else use one running service for a while: over https, by a link
// with a secret, until a moment.
//
// Promise: who has the link reaches that service and nothing else of this machine; who does
// not have it learns nothing, not even which service it is. When the time is over, or the
// lender ends it, every connection is cut. Who came, from where and when, is told as it
// happens and noted.
//
// Not promised: that a browser trusts the certificate before it was told to. It is one of
// this machine's own authority (package authority).
package lend

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/checkout/bay"
)

// Offer is what is lent.
type Offer struct {
	Service string
	Name    string      // host of the service on the router of names, without a port
	Router  func() int  // port of the router on this machine as it is now; another supervisor may have taken it over
	Secret  string      // of the link
	Ours    func() bool // whether the name still leads to the bay that lends; another checkout may have taken it
	// Visit is called when somebody new comes, with the link or without.
	Visit func(Visitor)
}

// Visitor is somebody who used what was lent, told apart by address and program.
type Visitor struct {
	From     string    `json:"from"`    // IP address
	Program  string    `json:"program"` // as it calls itself (User-Agent)
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
	Requests int       `json:"requests"`
	Refused  int       `json:"refused,omitempty"` // requests without the secret
}

// Secret makes the secret of a link: 128 bits, in base64url (RFC 4648, section 5).
func Secret() string {
	var raw [16]byte
	if _, err := rand.Read(raw[:]); err != nil {
		panic(err) // the system has no random numbers
	}
	return base64.RawURLEncoding.EncodeToString(raw[:])
}

// param carries the secret in the link, once; cookie carries what it is worth afterwards. Its
// prefix keeps it to this host and to https (draft-ietf-httpbis-rfc6265bis, section 4.1.3.2).
const (
	param  = "lent"
	cookie = "__Host-trammel-lent"
)

// Link is what the lender hands on.
func (o *Offer) Link(host string, port int) string {
	return "https://" + net.JoinHostPort(host, strconv.Itoa(port)) + "/?" + param + "=" + o.Secret
}

// pass is what a browser keeps: it opens nothing but this loan, and is not the link.
func (o *Offer) pass() string {
	mac := hmac.New(sha256.New, []byte(o.Secret))
	mac.Write([]byte("pass"))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

func equal(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// Loan is an Offer while it is served.
type Loan struct {
	offer *Offer
	pass  string
	proxy *httputil.ReverseProxy

	mu       sync.Mutex
	visitors map[string]*Visitor
}

// New makes a loan of an offer.
func New(o *Offer) *Loan {
	l := &Loan{offer: o, pass: o.pass(), visitors: map[string]*Visitor{}}
	l.proxy = &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			port := strconv.Itoa(o.Router())
			inside := net.JoinHostPort(o.Name, port)
			p.SetURL(&url.URL{Scheme: "http", Host: net.JoinHostPort("127.0.0.1", port)})
			// The name decides what is reached: it is this service's, whatever the visitor wrote.
			p.Out.Host = inside
			p.Out.Header.Del("Authorization")
			if given := p.In.Header.Get("Authorization"); given != "Bearer "+o.Secret {
				p.Out.Header["Authorization"] = p.In.Header["Authorization"]
			}
			dropCookie(p.Out)
			if origin := p.In.Header.Get("Origin"); origin == "https://"+p.In.Host {
				p.Out.Header.Set("Origin", "http://"+inside)
			}
		},
		ModifyResponse: func(r *http.Response) error {
			// Where the service sends people to itself, they stay with the link's host.
			if at, err := url.Parse(r.Header.Get("Location")); err == nil && at.Host == r.Request.Host && at.Host != "" {
				at.Scheme, at.Host = "", ""
				if at.Path == "" {
					at.Path = "/"
				}
				r.Header.Set("Location", at.String())
			}
			for i, line := range r.Header["Set-Cookie"] {
				r.Header["Set-Cookie"][i] = withoutDomain(line)
			}
			return nil
		},
		Transport: &http.Transport{MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, DisableCompression: true}, FlushInterval: -1,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) {
			http.Error(w, "What was lent does not run at the moment.", http.StatusBadGateway)
		},
	}
	return l
}

// dropCookie keeps the pass from the service.
func dropCookie(r *http.Request) {
	all := r.Cookies()
	r.Header.Del("Cookie")
	for _, c := range all {
		if c.Name != cookie {
			r.AddCookie(c)
		}
	}
}

// withoutDomain leaves a service's cookie with whatever host the visitor asked.
func withoutDomain(line string) string {
	parts := strings.Split(line, ";")
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool {
		name, _, _ := strings.Cut(strings.TrimSpace(p), "=")
		return strings.EqualFold(name, "domain")
	}), ";")
}

func (l *Loan) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if given := r.URL.Query().Get(param); given != "" && equal(given, l.offer.Secret) {
		// The secret goes from the address at once, so that it is in no history and no referrer.
		http.SetCookie(w, &http.Cookie{Name: cookie, Value: l.pass, Path: "/", Secure: true, HttpOnly: true, SameSite: http.SameSiteLaxMode})
		at := *r.URL
		q := at.Query()
		q.Del(param)
		at.RawQuery, at.Scheme, at.Host = q.Encode(), "", ""
		at.Path = "/" + strings.TrimLeft(at.Path, "/\\") // no other host: //elsewhere
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Location", at.String())
		w.WriteHeader(http.StatusSeeOther)
		l.came(r, true)
		return
	}
	c, err := r.Cookie(cookie)
	if !(err == nil && equal(c.Value, l.pass)) && !equal(r.Header.Get("Authorization"), "Bearer "+l.offer.Secret) {
		l.came(r, false)
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, "Nothing is lent by this address. Ask for the whole link.", http.StatusForbidden)
		return
	}
	l.came(r, true)
	if !l.offer.Ours() {
		http.Error(w, "What was lent does not run at the moment.", http.StatusBadGateway)
		return
	}
	l.proxy.ServeHTTP(w, r)
}

// mostVisitors bounds what somebody without the secret can have kept and told: of those who were
// refused only the address counts, and only so many.
const mostVisitors = 50

// came counts a request.
func (l *Loan) came(r *http.Request, let bool) {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = r.RemoteAddr
	}
	program := foreign.Line(r.UserAgent())
	if len(program) > 120 {
		program = program[:120]
	}
	if !let {
		program = "" // which a stranger could make up anew each time
	}
	now := time.Now()
	l.mu.Lock()
	v := l.visitors[from+"\x00"+program]
	fresh := v == nil || let && v.Requests == 0
	if v == nil {
		if !let && len(l.visitors) >= mostVisitors {
			l.mu.Unlock()
			return
		}
		v = &Visitor{From: from, Program: program, First: now}
		l.visitors[from+"\x00"+program] = v
	}
	v.Last = now
	if let {
		v.Requests++
	} else {
		v.Refused++
	}
	told := *v
	l.mu.Unlock()
	if fresh && l.offer.Visit != nil {
		l.offer.Visit(told)
	}
}

// Visitors are those who came, in the order of coming.
func (l *Loan) Visitors() []Visitor {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []Visitor
	for v := range maps.Values(l.visitors) {
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b Visitor) int { return a.First.Compare(b.First) })
	return out
}

// Serve serves a loan until the context ends, and then cuts every connection, also those that
// were upgraded.
func (l *Loan) Serve(ctx context.Context, on net.Listener, certificate *tls.Certificate) error {
	cut := &cutting{Listener: on, open: map[net.Conn]bool{}}
	server := &http.Server{
		Handler: l, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
		TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){}, // upgrades need HTTP/1.1
		TLSConfig:    &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{*certificate}},
	}
	stop := context.AfterFunc(ctx, func() {
		_ = server.Close()
		cut.all()
	})
	defer stop()
	err := server.ServeTLS(cut, "", "")
	if ctx.Err() != nil {
		cut.all()
		return nil
	}
	return err
}

// cutting knows every connection that it accepted.
type cutting struct {
	net.Listener
	mu    sync.Mutex
	open  map[net.Conn]bool
	ended bool
}

func (c *cutting) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended {
		conn.Close()
		return nil, net.ErrClosed
	}
	one := &known{Conn: conn, of: c}
	c.open[one] = true
	return one, nil
}

func (c *cutting) all() {
	c.mu.Lock()
	c.ended = true
	list := slices.Collect(maps.Keys(c.open))
	c.mu.Unlock()
	for _, conn := range list {
		conn.Close()
	}
}

type known struct {
	net.Conn
	of *cutting
}

func (k *known) Close() error {
	k.of.mu.Lock()
	delete(k.of.open, k)
	k.of.mu.Unlock()
	return k.Conn.Close()
}

// Record is one loan as it is noted.
type Record struct {
	Service  string    `json:"service"`
	To       string    `json:"to"` // where it was reached: an address, or a server's name
	Begun    time.Time `json:"begun"`
	Ended    time.Time `json:"ended,omitzero"` // zero while it lasts, and of one that was killed
	Visitors []Visitor `json:"visitors"`
}

func recordsFile(b bay.Bay) string { return filepath.Join(b.Records, "lent.jsonl") }

// Note keeps how a loan stands: when it begins, when somebody comes, when it ended. What was
// noted last of one counts.
func Note(b bay.Bay, r Record) error {
	raw, err := json.Marshal(r)
	if err != nil {
		return err
	}
	f, err := disk.AppendOwn(recordsFile(b))
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write(append(raw, '\n'))
	return err
}

// Noted are the loans of a bay, the last one last.
func Noted(b bay.Bay) ([]Record, error) {
	raw, err := disk.Read(recordsFile(b), disk.MostState)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Record
	for line := range strings.Lines(string(raw)) {
		var r Record
		if json.Unmarshal([]byte(line), &r) != nil { // it was cut short
			continue
		}
		if i := slices.IndexFunc(out, func(o Record) bool { return o.Service == r.Service && o.Begun.Equal(r.Begun) }); i >= 0 {
			out[i] = r
			continue
		}
		out = append(out, r)
	}
	return out, nil
}

// Here is the address by which other machines reach this one: that from which it would send
// to them. "" where it has none but its own.
func Here() string {
	// Nothing is sent: a datagram's socket only looks for the way (192.0.2.0/24 is no real
	// network, RFC 5737).
	c, err := net.Dial("udp4", "192.0.2.1:9")
	if err == nil {
		defer c.Close()
		if at, ok := c.LocalAddr().(*net.UDPAddr); ok && !at.IP.IsLoopback() && !at.IP.IsUnspecified() {
			return at.IP.String()
		}
	}
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			return n.IP.String()
		}
	}
	return ""
}
