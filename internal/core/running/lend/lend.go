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
	"io"
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
	"sync/atomic"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/gateway"
)

// Offer is what is lent.
type Offer struct {
	Service string
	Name    string // host and port by which the service knows itself
	Secret  string // of the link
	// At is where the service's own socket is on this machine, one of its copies in turn. It is never
	// that of the router, by whose other names more could be reached.
	At func(turn int) (string, error)
	// Visit is called when somebody new comes, with the link or without, and when somebody goes on
	// guessing.
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
	Guesses  int       `json:"guesses,omitempty"` // requests with a wrong one
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

	turn atomic.Uint64

	mu       sync.Mutex
	visitors map[string]*Visitor
	waiting  map[string]int // guesses that are being slowed, by address
}

type atKey struct{}

// New makes a loan of an offer.
func New(o *Offer) *Loan {
	l := &Loan{offer: o, pass: o.pass(), visitors: map[string]*Visitor{}, waiting: map[string]int{}}
	l.proxy = &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			at, _ := p.In.Context().Value(atKey{}).(string)
			p.SetURL(&url.URL{Scheme: "http", Host: at})
			// What the service is told of where it is asked is its own name, whatever the visitor wrote.
			p.Out.Host = o.Name
			p.SetXForwarded()
			p.Out.Header.Del("Authorization")
			if given := p.In.Header.Get("Authorization"); given != "Bearer "+o.Secret {
				p.Out.Header["Authorization"] = p.In.Header["Authorization"]
			}
			dropCookie(p.Out)
			if origin := p.In.Header.Get("Origin"); origin == "https://"+p.In.Host {
				p.Out.Header.Set("Origin", "http://"+o.Name)
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
	given := r.URL.Query().Get(param)
	if given != "" && equal(given, l.offer.Secret) {
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
		guess := given != "" || err == nil || strings.HasPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !l.refuse(r, guess) {
			http.Error(w, "Too many tries.", http.StatusTooManyRequests)
			return
		}
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, "Nothing is lent by this address. Ask for the whole link.", http.StatusForbidden)
		return
	}
	l.came(r, true)
	at, err := l.offer.At(int(l.turn.Add(1)))
	if err != nil {
		http.Error(w, "What was lent does not run at the moment.", http.StatusBadGateway)
		return
	}
	l.proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), atKey{}, at)))
}

// Bounds of what visitors can have kept and told.
const (
	mostVisitors = 200 // each by itself; those who come after them are counted as one
	mostRefused  = 50  // addresses without the secret, likewise
	others       = "others"
)

// Guesses are slowed: after the first ones each waits, and of one address only so many wait at a time.
const (
	freely      = 5
	longestWait = 4 * time.Second
	mostWaiting = 8
)

// refuse counts a request without the secret, and slows a guess down. It is false for one that is not
// even waited with.
func (l *Loan) refuse(r *http.Request, guess bool) bool {
	v, told := l.count(r, false, guess)
	if told && l.offer.Visit != nil {
		l.offer.Visit(v)
	}
	if !guess || v.Guesses <= freely {
		return true
	}
	l.mu.Lock()
	if l.waiting[v.From] >= mostWaiting {
		l.mu.Unlock()
		return false
	}
	l.waiting[v.From]++
	l.mu.Unlock()
	select {
	case <-time.After(min(longestWait, 50*time.Millisecond<<min(v.Guesses-freely, 10))):
	case <-r.Context().Done():
	}
	l.mu.Lock()
	if l.waiting[v.From]--; l.waiting[v.From] == 0 {
		delete(l.waiting, v.From)
	}
	l.mu.Unlock()
	return true
}

// came counts a request of somebody who has the secret.
func (l *Loan) came(r *http.Request, let bool) {
	if v, told := l.count(r, let, false); told && l.offer.Visit != nil {
		l.offer.Visit(v)
	}
}

// count counts a request. told is true for the first one of somebody, and of guesses for each power of ten.
func (l *Loan) count(r *http.Request, let, guess bool) (v Visitor, told bool) {
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
	defer l.mu.Unlock()
	key := from + "\x00" + program
	one := l.visitors[key]
	if most := map[bool]int{true: mostVisitors, false: mostRefused}[let]; one == nil && len(l.visitors) >= most {
		from, program, key = others, "", others
		one = l.visitors[key]
	}
	if one == nil {
		one = &Visitor{From: from, Program: program, First: now}
		l.visitors[key] = one
		told = true
	}
	one.Last = now
	if let {
		told = told || one.Requests == 0
		one.Requests++
	} else {
		one.Refused++
	}
	if guess {
		one.Guesses++
		told = told || powerOfTen(one.Guesses)
	}
	return *one, told
}

func powerOfTen(n int) bool {
	for n >= 10 && n%10 == 0 {
		if n /= 10; n == 1 {
			return true
		}
	}
	return false
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
	secure := gateway.Modern()
	secure.Certificates = []tls.Certificate{*certificate}
	cut := &cutting{Listener: on, open: map[net.Conn]bool{}}
	server := &http.Server{
		Handler: l, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
		TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){}, // upgrades need HTTP/1.1
		TLSConfig:    secure,
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

// entry is a line of the records: a loan that begins or ended, or somebody who came to it.
type entry struct {
	Record
	Came *Visitor `json:"came,omitempty"`
}

// mostRecords is how long a file of records may get before it makes room; the one before it is kept.
const mostRecords = 1 << 20 // bytes

// Note keeps how a loan stands: when it begins and when it ended.
func Note(b bay.Bay, r Record) error { return note(b, entry{Record: r}) }

// NoteVisitor keeps that somebody came to a loan.
func NoteVisitor(b bay.Bay, r Record, v Visitor) error {
	r.Visitors = nil
	return note(b, entry{Record: r, Came: &v})
}

func note(b bay.Bay, e entry) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	file := recordsFile(b)
	if info, err := os.Lstat(file); err == nil && info.Size() > mostRecords {
		if err := os.Rename(file, file+".1"); err != nil {
			return err
		}
	}
	f, err := disk.AppendOwn(file)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write(append(raw, '\n'))
	return err
}

// Noted are the loans of a bay, the last one last, as far as the records go back.
func Noted(b bay.Bay) ([]Record, error) {
	var out []Record
	for _, file := range []string{recordsFile(b) + ".1", recordsFile(b)} {
		raw, err := lastOf(file, 2*mostRecords)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(raw) {
			var e entry
			if json.Unmarshal([]byte(line), &e) != nil || e.Service == "" { // it was cut short
				continue
			}
			i := slices.IndexFunc(out, func(o Record) bool { return o.Service == e.Service && o.Begun.Equal(e.Begun) })
			if i < 0 {
				out = append(out, Record{Service: e.Service, To: e.To, Begun: e.Begun})
				i = len(out) - 1
			}
			if e.Came != nil {
				out[i].Visitors = append(out[i].Visitors, *e.Came)
				continue
			}
			if out[i].Ended = e.Ended; e.Visitors != nil {
				out[i].Visitors = e.Visitors
			}
		}
	}
	return out, nil
}

// lastOf is the end of a file, in bytes at most, from the beginning of a line on.
func lastOf(file string, most int64) (string, error) {
	f, err := disk.OpenRegular(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	from := max(0, info.Size()-most)
	raw, err := io.ReadAll(io.NewSectionReader(f, from, most))
	text := string(raw)
	if from > 0 {
		_, text, _ = strings.Cut(text, "\n")
	}
	return text, err
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
