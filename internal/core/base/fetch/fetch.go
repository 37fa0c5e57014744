// Package fetch makes every HTTP request of the program.
//
// It promises: retries with backoff where another try can help (429, 5xx, cut
// connections), range requests to resume (RFC 9110, section 14), conditional
// requests against a cache (section 13), no more bytes than declared, redirects
// only to http and https and never with credentials to another host, and in
// offline mode not one packet. A download that ends well has the digest that was
// asked for; anything else is an error and leaves no file behind under its name.
package fetch

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/foreign"
)

// Limits that keep a broken or hostile server from filling memory or time.
const (
	maxDocument = 256 << 20        // bytes of one index document
	stall       = 30 * time.Second // without a byte
	tries       = 5
	perHost     = 4 // requests at once
)

// Client makes requests. The zero value is not usable; call New.
type Client struct {
	http    *http.Client
	cache   string // folder of cached documents
	offline bool

	mu    sync.Mutex
	hosts map[string]chan struct{}
	pause time.Duration // first backoff
	stall time.Duration
}

// Options of a Client.
type Options struct {
	Indexes string // folder for cached documents
	Offline bool
	Allow   func(host string) error // whether a host may be asked, also after a redirect; nil: any may
	Backoff time.Duration           // the first pause between tries; 0 means 300 ms
	Stall   time.Duration           // how long no byte may come; 0 means 30 s
}

// New makes a client.
func New(o Options) *Client {
	c := &Client{cache: o.Indexes, offline: o.Offline, hosts: map[string]chan struct{}{}, pause: o.Backoff}
	if c.pause == 0 {
		c.pause = 300 * time.Millisecond
	}
	if c.stall = o.Stall; c.stall == 0 {
		c.stall = stall
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = c.stall
	transport.MaxIdleConnsPerHost = perHost
	// Archives come compressed and digests are of the bytes on the wire.
	transport.DisableCompression = true
	c.http = &http.Client{Transport: guarded{transport, o.Allow}, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) >= 10 {
			return &errRedirect{"more than 10 redirects"}
		}
		if r.URL.Scheme != "http" && r.URL.Scheme != "https" {
			return &errRedirect{fmt.Sprintf("a redirect to %s, which is neither http nor https", r.URL.Scheme)}
		}
		if via[0].URL.Scheme == "https" && r.URL.Scheme == "http" {
			return &errRedirect{"a redirect from https to http"}
		}
		if r.URL.Host != via[0].URL.Host {
			r.Header.Del("Authorization")
		}
		return nil
	}}
	return c
}

// Offline tells whether the client refuses to make requests.
func (c *Client) Offline() bool { return c.offline }

// Cache is the folder of cached documents, for what is made from them.
func (c *Client) Cache() string { return c.cache }

// Address is where something is, and the credentials to get it with. Its String
// never shows credentials.
type Address struct {
	URL           string
	Authorization string // value of the Authorization header, or ""
}

func (a Address) String() string { return Redact(a.URL) }

// Redact drops user names, passwords and query strings from a URL.
func Redact(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "(an address that does not parse)"
	}
	u.User, u.RawQuery = nil, ""
	return u.String()
}

// StatusError is an answer that is not a success.
type StatusError struct {
	URL    string
	Status int
	Said   string // the first line of what it answered, where that is text
}

func (e *StatusError) Error() string {
	text := fmt.Sprintf("%s answered %d %s", Redact(e.URL), e.Status, strings.ToLower(http.StatusText(e.Status)))
	if e.Said != "" {
		text += ": " + e.Said
	}
	return text
}

// saidIn is the first line of an answer's text, for people; pages and data say nothing.
func saidIn(resp *http.Response, body []byte) string {
	kind := resp.Header.Get("Content-Type")
	if !strings.HasPrefix(kind, "text/plain") && kind != "" {
		return ""
	}
	line, _, _ := strings.Cut(strings.TrimSpace(string(body)), "\n")
	if line == "" || strings.HasPrefix(line, "<") || strings.HasPrefix(line, "{") {
		return ""
	}
	return fmt.Sprintf("%.200s", foreign.Line(line))
}

// NotFound tells whether err is a 404 or 410: the server is well and has no such
// thing.
func NotFound(err error) bool {
	var s *StatusError
	return errors.As(err, &s) && (s.Status == http.StatusNotFound || s.Status == http.StatusGone)
}

func sourceError(address Address, err error) error {
	var path *os.PathError // this machine's disk, not the source
	if errors.Is(err, context.Canceled) || errors.Is(err, fault.ErrSource) || errors.As(err, &path) {
		return err
	}
	e := fault.New(fault.ErrSource, "%v", err)
	var status *StatusError
	var dns *net.DNSError
	switch {
	case errors.As(err, &status) && status.Status == 403 && status.Said != "":
		return e.Advise("Those are the source's own words. If it wants credentials, they come from the machine's settings.")
	case errors.As(err, &status) && (status.Status == 401 || status.Status == 403):
		return e.Advise("The source wants credentials that the machine's settings do not give.")
	case errors.As(err, &status) && status.Status == 404:
		return e.Advise("Check the address of the source: trammel sources")
	case errors.As(err, &status):
		return e.Advise("The source itself is in trouble. Try again later, or name a mirror.")
	case errors.As(err, &dns):
		e.What = fmt.Sprintf("%s cannot be reached: the host name does not resolve", address)
		return e.Advise("Check the network and the address of the source: trammel sources")
	}
	e.What = fmt.Sprintf("%s cannot be read: %v", address, plain(err))
	return e.Advise("Check the network and the address of the source: trammel sources")
}

// plain takes the method and the address, which may hold credentials, out of an
// error of net/http.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

func errOffline(address Address) error {
	return fault.New(fault.ErrSource, "%s is needed and not in the cache", address).
		Advise("This run is --offline. Run it once with the network.")
}

// slot waits for a place among the requests to one host.
func (c *Client) slot(ctx context.Context, host string) (release func(), err error) {
	c.mu.Lock()
	slots := c.hosts[host]
	if slots == nil {
		slots = make(chan struct{}, perHost)
		c.hosts[host] = slots
	}
	c.mu.Unlock()
	select {
	case slots <- struct{}{}:
		return func() { <-slots }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// allTries ends what gets a little further each time.
const allTries = 60

// retry calls try until it succeeds, gives a final error, or has had its tries. A try that
// got further than any before it does not count; reached is how far it got, in bytes.
func (c *Client) retry(ctx context.Context, try func() (reached int64, err error)) error {
	var best int64
	for n, all := 0, 1; ; all++ {
		reached, err := try()
		if err == nil || ctx.Err() != nil || !temporary(err) {
			return err
		}
		if reached > best {
			best, n = reached, 0
		}
		if n++; n == tries || all == allTries {
			return err
		}
		pause := c.pause << (n - 1)
		pause = pause/2 + rand.N(pause)
		var status *retryAfter
		if errors.As(err, &status) && status.after > 0 {
			pause = min(status.after, time.Minute)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pause):
		}
	}
}

// retryAfter is a StatusError that says when to come back (RFC 9110, 10.2.3).
type retryAfter struct {
	StatusError
	after time.Duration
}

func (e *retryAfter) Unwrap() error { return &e.StatusError }

// errLies is bytes or headers that contradict each other or what was declared:
// another try of the same server will not help.
type errLies struct{ what string }

func (e *errLies) Error() string { return e.what }

// errRedirect is a redirect that is not followed; asking again leads to the same.
type errRedirect struct{ what string }

func (e *errRedirect) Error() string { return e.what }

// errScheme is what the transport says of an address that is neither http nor https.
type errScheme struct{ url string }

func (e *errScheme) Error() string { return e.url + " is neither http nor https" }

// temporary judges an error by what it is, never by its text, which has the address in it.
func temporary(err error) bool {
	var status *StatusError
	if errors.As(err, &status) {
		return status.Status == 429 || status.Status >= 500 || status.Status == 408
	}
	var lies *errLies
	var dns *net.DNSError
	switch {
	case errors.As(err, &lies), errors.Is(err, fault.ErrSource), errors.Is(err, os.ErrPermission), errors.As(err, new(*os.PathError)):
		return false
	case errors.As(err, &dns) && dns.IsNotFound:
		return false
	}
	return !errors.As(err, new(refusal)) && !errors.As(err, new(*errRedirect)) && !errors.As(err, new(*errScheme))
}

func (c *Client) request(ctx context.Context, a Address, header http.Header) (*http.Response, error) {
	return c.ask(ctx, http.MethodGet, a, header)
}

// Size is how many bytes an address would answer with, as its server says when asked for no more
// than that (RFC 9110, section 9.3.2); 0 where it does not say. It is tried once.
func (c *Client) Size(ctx context.Context, a Address) int64 {
	if c.offline || strings.HasPrefix(a.URL, "file://") {
		return 0
	}
	release, err := c.slot(ctx, hostOf(a))
	if err != nil {
		return 0
	}
	defer release()
	resp, err := c.ask(ctx, http.MethodHead, a, nil)
	if err != nil {
		return 0
	}
	resp.Body.Close()
	return max(resp.ContentLength, 0)
}

func (c *Client) ask(ctx context.Context, method string, a Address, header http.Header) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, a.URL, nil)
	if err != nil {
		return nil, &errLies{"the address does not parse"}
	}
	if r.URL.Scheme != "http" && r.URL.Scheme != "https" {
		return nil, &errScheme{Redact(a.URL)}
	}
	for k, v := range header {
		r.Header[k] = v
	}
	if a.Authorization != "" {
		r.Header.Set("Authorization", a.Authorization)
	}
	r.Header.Set("User-Agent", "trammel")
	resp, err := c.http.Do(r)
	if err != nil {
		return nil, err
	}
	switch resp.StatusCode {
	case http.StatusOK, http.StatusPartialContent, http.StatusNotModified, http.StatusRequestedRangeNotSatisfiable:
		return resp, nil
	}
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
	resp.Body.Close()
	status := StatusError{a.URL, resp.StatusCode, saidIn(resp, said)}
	if seconds, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil {
		return nil, &retryAfter{status, time.Duration(seconds) * time.Second}
	}
	return nil, &status
}

// Copy writes what an address answers to a file, at most limit bytes, with no digest
// to hold it to.
func (c *Client) Copy(ctx context.Context, a Address, to *os.File, limit int64) error {
	if c.offline {
		return errOffline(a)
	}
	release, err := c.slot(ctx, hostOf(a))
	if err != nil {
		return err
	}
	defer release()
	err = c.retry(ctx, func() (int64, error) {
		if err := to.Truncate(0); err != nil {
			return 0, err
		}
		if _, err := to.Seek(0, io.SeekStart); err != nil {
			return 0, err
		}
		resp, err := c.request(ctx, a, nil)
		if err != nil {
			return 0, err
		}
		defer resp.Body.Close()
		n, err := io.Copy(to, c.watch(io.LimitReader(resp.Body, limit+1), resp.Body))
		if err == nil && n > limit {
			err = &errLies{fmt.Sprintf("it is larger than %d bytes", limit)}
		}
		return n, err
	})
	if err != nil && ctx.Err() == nil {
		err = sourceError(a, err)
	}
	return err
}

// cached is what a document's cache file says beside its bytes.
type cached struct {
	ETag     string `json:"etag"`
	Modified string `json:"modified"`
	Size     int    `json:"size"`
}

// Document reads an index document that check accepts. With the same address it
// asks the server only whether the cached one still holds, and offline it gives
// the cached one. What check refuses is never cached, so a moment's wrong bytes
// do not stay. A nil check means: do not cache. accept is the value of the Accept
// header, or "".
func (c *Client) Document(ctx context.Context, a Address, accept string, check func([]byte) error) ([]byte, error) {
	path := filepath.Join(c.cache, strings.TrimPrefix(canon.Digest(canon.List{a.URL, accept}), "sha256:")[:32])
	memo, body, have := readCached(path)
	have = have && check != nil && check(body) == nil
	if c.offline {
		if have {
			return body, nil
		}
		return nil, errOffline(a)
	}
	release, err := c.slot(ctx, hostOf(a))
	if err != nil {
		return nil, err
	}
	defer release()
	var out []byte
	err = c.retry(ctx, func() (int64, error) {
		header := http.Header{}
		if accept != "" {
			header.Set("Accept", accept)
		}
		if have && memo.ETag != "" {
			header.Set("If-None-Match", memo.ETag)
		} else if have && memo.Modified != "" {
			header.Set("If-Modified-Since", memo.Modified)
		}
		resp, err := c.request(ctx, a, header)
		if err != nil {
			return 0, err
		}
		defer resp.Body.Close()
		if resp.StatusCode == http.StatusNotModified && have {
			out = body
			return 0, nil
		}
		if resp.StatusCode != http.StatusOK {
			return 0, &errLies{fmt.Sprintf("%s answered %d to a plain request", a, resp.StatusCode)}
		}
		out, err = io.ReadAll(c.watch(io.LimitReader(resp.Body, maxDocument+1), resp.Body))
		if err != nil {
			return 0, err
		}
		if len(out) > maxDocument {
			return 0, &errLies{fmt.Sprintf("%s is larger than %d MiB", a, maxDocument>>20)}
		}
		if resp.ContentLength >= 0 && int64(len(out)) != resp.ContentLength {
			return 0, io.ErrUnexpectedEOF
		}
		if check == nil {
			return 0, nil
		}
		if err := check(out); err != nil {
			return 0, err
		}
		writeCached(path, cached{resp.Header.Get("ETag"), resp.Header.Get("Last-Modified"), len(out)}, out)
		return 0, nil
	})
	if err != nil {
		return nil, sourceError(a, err)
	}
	return out, nil
}

func hostOf(a Address) string {
	u, err := url.Parse(a.URL)
	if err != nil {
		return ""
	}
	return u.Host
}

// A cache file is one line of JSON and then the document itself. A damaged one
// counts as missing.
func readCached(path string) (memo cached, body []byte, ok bool) {
	raw, err := disk.Read(path, maxDocument+64<<10)
	if err != nil {
		return memo, nil, false
	}
	head, body, found := bytes.Cut(raw, []byte("\n"))
	if !found || json.Unmarshal(head, &memo) != nil || memo.Size != len(body) {
		return memo, nil, false
	}
	return memo, body, true
}

// NoteOf gives what Remember kept under a name; "" when there is nothing.
func (c *Client) NoteOf(name string) string {
	_, body, _ := readCached(c.noteFile(name))
	return string(body)
}

// KeepNote keeps a small fact that can never change, such as a checked sum.
func (c *Client) KeepNote(name, fact string) {
	writeCached(c.noteFile(name), cached{Size: len(fact)}, []byte(fact))
}

func (c *Client) noteFile(name string) string {
	return filepath.Join(c.cache, strings.TrimPrefix(canon.Digest(canon.Map{"note": name}), "sha256:")[:32])
}

// writeCached keeps a document; a cache that cannot be written costs only time.
func writeCached(path string, memo cached, body []byte) {
	head, err := json.Marshal(memo)
	if err != nil {
		return
	}
	_ = disk.WriteCache(path, append(append(head, '\n'), body...))
}

// watched fails a read that has had no byte for the stall time.
type watched struct {
	r      io.Reader
	cancel func() error
	stall  time.Duration
}

func (c *Client) watch(r io.Reader, body io.Closer) *watched { return &watched{r, body.Close, c.stall} }

func (w *watched) Read(b []byte) (int, error) {
	timer := time.AfterFunc(w.stall, func() { w.cancel() })
	n, err := w.r.Read(b)
	if !timer.Stop() && err != nil && err != io.EOF {
		err = fmt.Errorf("no byte came for %s", w.stall)
	}
	return n, err
}
