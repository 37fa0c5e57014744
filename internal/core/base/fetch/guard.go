package fetch

import "net/http"

// guarded asks before each request whether its host may be asked, so that no redirect and no
// second address leads around it.
type guarded struct {
	*http.Transport
	allow func(host string) error
}

// refusal is a host that may not be asked. Another try does not help.
type refusal struct{ error }

func (r refusal) Unwrap() error { return r.error }

func (g guarded) RoundTrip(r *http.Request) (*http.Response, error) {
	if g.allow != nil {
		if err := g.allow(r.URL.Hostname()); err != nil {
			return nil, refusal{err}
		}
	}
	return g.Transport.RoundTrip(r)
}
