// Package gateway serves the names below localhost: those of services, those of pages, and the
// pages themselves.
//
// Each supervisor publishes where its services are reached, and one supervisor of the user, whichever
// came first, serves the names of all (RFC 6761, section 6.3). A request goes only to a socket that is
// the service's own; a page and the overview only to this user. It starts and stops nothing by itself:
// what a page asks for is done by the commands that a person would type.
package gateway

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/authority"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/peer"
	"app.example/trammel/internal/core/running/service"
)

// Services and pages have names: http://SERVICE.PROJECT.localhost:4280/, with the bay
// between them where it is not main. Names below localhost lead to this machine
// (RFC 6761, section 6.3). One supervisor of the user holds the port, whichever came
// first, and serves the names of all; when it goes, another takes over.

// Ports are tried in turn; the first is what people know. Another user of the machine may have it.
var Ports = []int{4280, 4281, 4282, 4283}

// securePorts are those for https, one for each of the others: 4243 for 4280.
func securePort(port int) int {
	if port == 0 {
		return 0
	}
	return port - 37
}

// Routes are what one bay's supervisor publishes.
type Routes struct {
	Project  string           `json:"project"`
	Label    string           `json:"label"` // what the names of this checkout end in: its project, or a name of its own
	Bay      string           `json:"bay"`
	Checkout string           `json:"checkout"`
	Records  string           `json:"records"`
	Services map[string][]Way `json:"services"` // a copy each
}

// Way is where a copy of a service is reached.
type Way struct {
	Name   string `json:"name"`             // of the copy
	Port   int    `json:"port"`             // on this machine
	Socket uint64 `json:"socket,omitempty"` // its own listener there; 0 where that cannot be told
	State  string `json:"state"`
}

// whose says why requests must not be handed to a port; "" when they may. Between the looks
// at a service somebody else may have come to listen there.
func (w Way) whose() string {
	if w.State == service.Starting {
		return "is starting"
	}
	if w.Socket == 0 {
		return ""
	}
	table, err := listen.Sockets()
	if err != nil {
		return ""
	}
	at := listen.At(table, w.Port)
	if len(at) == 0 {
		return "is not ready"
	}
	for _, s := range at {
		if s.Inode != w.Socket {
			return fmt.Sprintf("does not answer: its port %d is taken by %s", w.Port, listen.HolderOf(s))
		}
	}
	return ""
}

// host is the address of a way: of 127.0.0.1, or of ::1 where nothing listens but there.
func (w Way) host() string {
	if table, err := listen.Sockets(); err == nil && listen.OnlyV6(table, w.Port) {
		return "[::1]:" + strconv.Itoa(w.Port)
	}
	return "127.0.0.1:" + strconv.Itoa(w.Port)
}

// Reached is the address and port on this machine at which a service of a bay is reached now, one of its copies in
// turn. The error says why there is none.
func Reached(b bay.Bay, service string, turn int) (at string, err error) {
	var r Routes
	raw, err := disk.Read(routesFile(b), disk.MostState)
	if err != nil || json.Unmarshal(raw, &r) != nil {
		return "", errNoPage
	}
	ways, why := r.Services[service], "does not run"
	for i := range ways {
		w := ways[(turn+i)%len(ways)]
		if why = w.whose(); why == "" {
			return w.host(), nil
		}
	}
	return "", fmt.Errorf("service %s %s", service, why)
}

// Modern is TLS 1.3, or 1.2 with ciphers that authenticate what they encrypt (RFC 9325, section 4.2).
func Modern() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, CipherSuites: []uint16{
		tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256,
		tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
	}}
}

// host is the name of a service (or, with "", of the page) without the port.
func (r Routes) host(service string) string {
	name := r.Label + ".localhost"
	if r.Bay != bay.Main {
		name = r.Bay + "." + name
	}
	if service != "" {
		name = service + "." + name
	}
	return name
}

// Label decides what the names of a checkout end in, and holds that from other checkouts until the
// file is closed; nil when the name is the checkout's own. Two checkouts may have one project name:
// the first to start has it, for as long as any of its bays runs; another one has a name of its own,
// which its folder decides.
func Label(b bay.Bay) (label string, held *os.File) {
	held, ours, err := disk.HoldAs(filepath.Join(b.Routes(), "name-"+b.Project), b.Checkout)
	if err == nil && ours {
		return b.Project, held
	}
	return b.OwnLabel(), nil
}

// Publish says anew what a bay routes, for whoever serves the names.
func Publish(b bay.Bay, r Routes) error {
	raw, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return disk.WriteCache(routesFile(b), raw)
}

// Withdraw ends what was published.
func Withdraw(b bay.Bay) { os.Remove(routesFile(b)) }

// Names tell under which addresses the services of a bay are served.
type Names struct {
	of           Routes
	port, secure int // 0: not served
}

// NamesOf are the names of a bay as they are served now. label is that of its checkout (see Label).
func NamesOf(b bay.Bay, label string) Names {
	return Names{Routes{Label: label, Bay: b.Name}, RouterPort(b.State), SecurePort(b.State)}
}

// Address is the URL of a service or one of its copies ("2.lane"); "" while nobody serves names.
func (n Names) Address(service string) string { return n.url("http", service, n.port) }

// Secure is the same over https.
func (n Names) Secure(service string) string {
	if n.port == 0 {
		return ""
	}
	return n.url("https", service, n.secure)
}

func (n Names) url(scheme, service string, port int) string {
	if port == 0 {
		return ""
	}
	return fmt.Sprintf("%s://%s:%d/", scheme, n.of.host(service), port)
}

func routesFile(b bay.Bay) string {
	return filepath.Join(b.Routes(), strings.TrimPrefix(canon.Digest(b.Records), "sha256:")[:24]+".json")
}

// RouterPort is the port on which the user's names are served now; 0 when they are not.
func RouterPort(state string) int {
	return portIn(filepath.Join(state, "routes", "port"))
}

// SecurePort is the port on which they are served over https; 0 when they are not.
func SecurePort(state string) int { return portIn(secureFile(state)) }

func portIn(file string) int {
	raw, err := disk.Read(file, 64)
	n, convErr := strconv.Atoi(string(raw))
	if err != nil || convErr != nil {
		return 0
	}
	return n
}

// PageAddress is where a bay's page is. taken is true when another checkout has the
// project's name, and the address has a name of this checkout's own.
func PageAddress(b bay.Bay) (address string, taken bool) {
	r := Routes{Project: b.Project, Label: b.Project, Bay: b.Name}
	if raw, err := disk.Read(routesFile(b), disk.MostState); err == nil {
		_ = json.Unmarshal(raw, &r)
	}
	return fmt.Sprintf("http://%s:%d/", r.host(""), RouterPort(b.State)), r.Label != b.Project
}

// Self starts this very program as a person would on a bay.
type Self func(ctx context.Context, args ...string) (*exec.Cmd, error)

// Serve serves names whenever no other supervisor of the user does, until ctx ends.
func Serve(ctx context.Context, b bay.Bay, self Self, who *peer.Looker, log *slog.Logger) {
	lock, err := disk.WaitLock(ctx, filepath.Join(b.Routes(), "router.lock"))
	if err != nil {
		if ctx.Err() == nil {
			log.Warn("names are not served", "error", err)
		}
		return
	}
	defer lock.Close()
	for _, port := range append(slices.Clone(Ports), 0) { // 0 is any that is free
		l, err := net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(port))
		if err != nil {
			continue
		}
		handler := &router{dir: b.Routes(), log: log, self: self, who: who}
		go handler.serveSecurely(ctx, b.State, port)
		handler.serve(ctx, l, filepath.Join(b.Routes(), "port"), nil)
		return
	}
}

// Inside answers for services by name where a private network lets programs ask: there is no page there
// and no list of names.
func Inside(b bay.Bay, log *slog.Logger) http.Handler {
	t := &router{dir: b.Routes(), log: log}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), askerKey{}, func() peer.Peer { return peer.Peer{User: -1} })))
	})
}

// Server is a server of names.
func Server(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, Protocols: both()}
}

// serve serves on a listener, whose port stands in a file meanwhile.
func (t *router) serve(ctx context.Context, l net.Listener, file string, secure *tls.Config) {
	if err := disk.WriteCache(file, []byte(strconv.Itoa(l.Addr().(*net.TCPAddr).Port))); err != nil {
		t.log.Warn("the port of names cannot be noted", "error", err)
	}
	defer os.Remove(file)
	server := Server(t)
	server.ErrorLog, server.TLSConfig, server.ConnContext = slog.NewLogLogger(t.log.Handler(), slog.LevelDebug), secure, t.met
	end := context.AfterFunc(ctx, func() { server.Close() })
	defer end()
	if secure != nil {
		_ = server.ServeTLS(l, "", "")
	} else {
		_ = server.Serve(l)
	}
}

// serveSecurely serves the same names over https, with certificates of this machine's own
// authority.
func (t *router) serveSecurely(ctx context.Context, state string, beside int) {
	own, err := authority.Open(ctx, state)
	if err != nil {
		t.log.Warn("names are not served over https", "error", err)
		return
	}
	var l net.Listener
	for _, port := range []int{securePort(beside), 0} {
		if l, err = net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(port)); err == nil {
			break
		}
	}
	if err != nil {
		t.log.Warn("names are not served over https", "error", err)
		return
	}
	secure := Modern()
	secure.GetCertificate = func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		name := strings.ToLower(hello.ServerName)
		if name == "" || !authority.Vouches(name) {
			name = "localhost"
		}
		return own.For(name)
	}
	t.serve(ctx, l, secureFile(state), secure)
}

func secureFile(state string) string { return filepath.Join(state, "routes", "secure") }

// router sends requests on by the name that they are for.
type router struct {
	dir  string
	log  *slog.Logger
	self Self
	who  *peer.Looker
	turn atomic.Uint64
}

// known reads what all supervisors publish, also what one that was killed left behind:
// its ports and its control socket answer nobody.
func (t *router) known() []Routes {
	files, _ := filepath.Glob(filepath.Join(t.dir, "*.json"))
	var out []Routes
	for _, f := range files {
		var r Routes
		raw, err := disk.Read(f, disk.MostState)
		if err != nil || json.Unmarshal(raw, &r) != nil {
			continue
		}
		out = append(out, r)
	}
	return out
}

// scheme is how a request came, so that links lead back the same way.
func scheme(r *http.Request) string {
	if r.TLS != nil {
		return "https://"
	}
	return "http://"
}

func control(ctx context.Context, records string) (net.Conn, error) {
	return service.Dial(ctx, filepath.Join(records, "control"))
}

func (t *router) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := r.Host
	if host, _, err := net.SplitHostPort(name); err == nil {
		name = host
	}
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	if !strings.HasSuffix(name, ".localhost") && name != "localhost" {
		// A name that leads here from elsewhere would let a foreign page read answers.
		http.Error(w, "names here end in .localhost", http.StatusMisdirectedRequest)
		return
	}
	from := asker(r)
	if from.Seal && !from.Door {
		// A sealed program has the machine's network, and so reaches this port. What it may ask is decided here.
		http.Error(w, "Programs in a sealed root do not reach services by name. Where they should, the declaration says so: names = true", http.StatusForbidden)
		return
	}
	all := t.known()
	if name == "localhost" {
		t.overview(w, r, all)
		return
	}
	for _, bay := range all { // a bay's page comes before a service of that name
		if name == bay.host("") {
			t.page(w, r, bay)
			return
		}
	}
	for _, bay := range all {
		for called, ways := range bay.Services {
			if name == bay.host(called) && len(ways) > 0 {
				t.service(w, r, called, ways)
				return
			}
			// One copy: 2.lane.heronweir.localhost
			for _, w1 := range ways {
				if copy, ok := service.CopyOf(w1.Name, called); ok && name == bay.host(copy+"."+called) {
					t.service(w, r, called, []Way{w1})
					return
				}
			}
		}
	}
	t.unknown(w, r, name, all)
}

// service hands a request to one of a service's copies, in turn. Upgrades such as
// WebSocket's (RFC 6455) and streams pass as they come.
func (t *router) service(w http.ResponseWriter, r *http.Request, service string, ways []Way) {
	turn, why := int(t.turn.Add(1)), ""
	to := ways[turn%len(ways)]
	for i := range ways {
		to = ways[(turn+i)%len(ways)]
		if why = to.whose(); why == "" {
			break
		}
	}
	if why != "" {
		say(w, http.StatusBadGateway, "Service "+service+" "+why+".", "See how it is: trammel show, trammel logs "+shell.Typed(service), nil)
		return
	}
	target := &url.URL{Scheme: "http", Host: to.host()}
	var way http.RoundTripper = carrier
	if r.ProtoMajor == 2 && to.speaks2(r.Context()) {
		way = straight2
	}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(target)
			p.SetXForwarded()
			p.Out.Host = p.In.Host // links that the service makes lead back by the name
		},
		Transport: way, FlushInterval: -1, BufferPool: buffers, ErrorLog: slog.NewLogLogger(t.log.Handler(), slog.LevelDebug),
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if errors.Is(err, errHanded) {
				return
			}
			what := "does not answer"
			if errors.Is(err, syscall.ECONNREFUSED) {
				what = "is not ready"
			}
			say(w, http.StatusBadGateway, "Service "+service+" "+what+".", "See how it is: trammel show, trammel logs "+shell.Typed(service), nil)
		},
	}
	proxy.ServeHTTP(w, withClient(r, w))
}

// carrier is what requests go to services by.
var carrier = &straight{beside: outgoing}

// outgoing keeps connections to services. It asks no proxy: they are on this machine.
var outgoing = &http.Transport{MaxIdleConnsPerHost: 16, IdleConnTimeout: 30 * time.Second, DisableCompression: true, ReadBufferSize: 256 << 10, WriteBufferSize: 64 << 10}

type pool chan []byte

// buffers are what bytes are moved through; large ones cost fewer system calls.
var buffers = make(pool, 32)

func (p pool) Get() []byte {
	select {
	case b := <-p:
		return b
	default:
		return make([]byte, 256<<10)
	}
}

func (p pool) Put(b []byte) {
	select {
	case p <- b:
	default:
	}
}

// page hands a request to the supervisor whose page it is for.
func (t *router) page(w http.ResponseWriter, r *http.Request, b Routes) {
	if !t.admit(w, r) {
		return
	}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host = "http", "supervisor"
			p.Out.URL.Path = "/page" + p.In.URL.Path
			p.Out.URL.RawPath = ""
			p.Out.Host = p.In.Host
		},
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return control(ctx, b.Records)
		}},
		FlushInterval: -1, ErrorLog: slog.NewLogLogger(t.log.Handler(), slog.LevelDebug),
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			say(w, http.StatusBadGateway, b.Project+" does not run in bay "+b.Bay+" now.", "Start it: trammel start", nil)
		},
	}
	proxy.ServeHTTP(w, r)
}

// unknown answers for names that nobody has, with those that somebody has.
func (t *router) unknown(w http.ResponseWriter, r *http.Request, name string, all []Routes) {
	_, port, _ := net.SplitHostPort(r.Host)
	if port != "" {
		port = ":" + port
	}
	if _, ours := ownLogin(r); !ours { // names tell what somebody works at
		say(w, http.StatusNotFound, "Nothing here is called "+name+".", "Names are listed for programs of the user's own login only.", nil)
		return
	}
	links := []string{}
	for _, b := range all {
		ctx, cancel := context.WithTimeout(r.Context(), time.Second)
		c, err := control(ctx, b.Records)
		cancel()
		if err != nil {
			continue
		}
		c.Close()
		links = append(links, scheme(r)+b.host("")+port+"/")
		for _, service := range slices.Sorted(maps.Keys(b.Services)) {
			links = append(links, scheme(r)+b.host(service)+port+"/")
		}
	}
	slices.Sort(links)
	say(w, http.StatusNotFound, "Nothing here is called "+name+".", "Names that lead somewhere now:", links)
}

var plainPage = sync.OnceValue(func() *template.Template { return template.Must(template.New("").Parse(plainText)) })

const plainText = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.What}}</title>
<style>:root{color-scheme:light dark}body{font:1rem/1.6 system-ui,sans-serif;max-width:42rem;margin:4rem auto;padding:0 1rem}</style></head>
<body><h1>{{.What}}</h1><p>{{.Do}}</p>{{with .Links}}<ul>{{range .}}<li><a href="{{.}}">{{.}}</a></li>{{end}}</ul>{{else}}{{if .Listing}}<p>None.</p>{{end}}{{end}}</body></html>
`

func say(w http.ResponseWriter, code int, what, do string, links []string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(code)
	_ = plainPage().Execute(w, struct {
		What, Do string
		Links    []string
		Listing  bool
	}{what, do, links, links != nil})
}
