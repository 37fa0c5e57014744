package gateway

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
)

// A browser may act on a page once it has been there by an invitation, which the command open asks the
// supervisor for on its control socket. The invitation is good once and for a minute. What the browser
// keeps instead is a cookie of the page's host alone, made of a secret in the bay's records: it outlives
// the supervisor, so that a bookmark goes on working, and is of no use under another name.

const (
	invitation = "invitation" // the parameter that it comes in
	invited    = time.Minute  // how long it is good
	cookie     = "trammel-page"
	kept       = 365 * 24 * time.Hour
)

// admission decides who may act on a page.
type admission struct {
	file string // of the secret

	mu      sync.Mutex
	invites map[string]time.Time // until when each is good
}

func newAdmission(file string) *admission {
	return &admission{file: file, invites: map[string]time.Time{}}
}

// secret reads the secret, made when it is asked for first.
func (a *admission) secret() ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	raw, err := disk.Read(a.file, 256)
	if err == nil && len(raw) >= 26 {
		return raw, nil
	}
	if err != nil && !disk.Gone(err) {
		return nil, err
	}
	raw = []byte(rand.Text())
	return raw, disk.Write(a.file, raw, 0o600)
}

// pass is what a browser keeps for a host.
func (a *admission) pass(host string) (string, error) {
	secret, err := a.secret()
	if err != nil {
		return "", err
	}
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte("page " + hostOnly(host)))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil)), nil
}

// hostOnly is a host as names are compared: without its port.
func hostOnly(host string) string {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return strings.ToLower(strings.TrimSuffix(host, "."))
}

// may tells whether a request brings what its host's visitors keep. A service of the same project may
// have set a cookie of that name for all names below its own: each that comes is looked at.
func (a *admission) may(r *http.Request) bool {
	want, err := a.pass(r.Host)
	if err != nil {
		return false
	}
	for _, c := range r.CookiesNamed(cookie) {
		if subtle.ConstantTimeCompare([]byte(c.Value), []byte(want)) == 1 {
			return true
		}
	}
	return false
}

// invite makes an invitation.
func (a *admission) invite() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := time.Now()
	for key, until := range a.invites {
		if now.After(until) {
			delete(a.invites, key)
		}
	}
	key := rand.Text()
	a.invites[key] = now.Add(invited)
	return key
}

// taken uses an invitation up, and tells whether it was good.
func (a *admission) taken(key string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	until, ok := a.invites[key]
	delete(a.invites, key)
	return ok && time.Now().Before(until)
}

// invite answers whoever the control socket lets ask.
func (p *Page) invite(w http.ResponseWriter, _ *http.Request) {
	_ = json.NewEncoder(w).Encode(p.let.invite())
}

// enter lets a browser with an invitation act from then on. The invitation goes from the address at
// once, so that it is in no history.
func (p *Page) enter(w http.ResponseWriter, r *http.Request, key string) {
	if p.let.taken(key) {
		pass, err := p.let.pass(r.Host)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		http.SetCookie(w, &http.Cookie{Name: cookie, Value: pass, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: int(kept / time.Second)})
	}
	own(w, "text/plain; charset=utf-8")
	w.Header().Set("Location", "/") // who comes with an old invitation sees the page, which says how to act
	w.WriteHeader(http.StatusSeeOther)
}

// errNoPage means that a bay's page cannot be reached now.
var errNoPage = errors.New("nobody serves the page")

// Invited is the address by which a browser may act on a bay's page, once and within a minute.
// errors.Is(err, errNoPage) where the bay does not run.
func Invited(ctx context.Context, b bay.Bay) (address string, err error) {
	at, _ := PageAddress(b)
	if RouterPort(b.State) == 0 {
		return "", errNoPage
	}
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return control(ctx, b.Records) }}}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://supervisor/invite", nil)
	if err != nil {
		return "", err
	}
	answer, err := client.Do(q)
	if err != nil {
		return "", errNoPage
	}
	defer answer.Body.Close()
	var key string
	if answer.StatusCode != http.StatusOK || json.NewDecoder(answer.Body).Decode(&key) != nil || key == "" {
		return "", errNoPage
	}
	return at + "?" + invitation + "=" + key, nil
}
