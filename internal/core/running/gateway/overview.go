package gateway

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/running/service"
)

//go:embed overview.html
var overviewText string

var overviewPage = sync.OnceValue(func() *template.Template { return template.Must(template.New("").Parse(overviewText)) })

// bayOut is a bay as the overview shows it.
type bayOut struct {
	Project, Bay, Folder, Locator, Page string
	Services                            []copyOut
}

type copyOut struct{ Name, State, Link, Where string }

// listing is how long the bays that do not run may be waited for.
const listing = 10 * time.Second

// overview lists the projects and bays of this user, those that run with their services. What it
// shows of the others it asks this very program for.
func (t *router) overview(w http.ResponseWriter, r *http.Request, running []Routes) {
	if !t.admit(w, r) {
		return
	}
	if r.URL.Path != "/" {
		http.NotFound(w, r)
		return
	}
	_, port, _ := net.SplitHostPort(r.Host)
	if port != "" {
		port = ":" + port
	}
	link := func(host string) string { return scheme(r) + host + port + "/" }
	var out []bayOut
	for _, b := range running {
		list, err := statusOf(r.Context(), b.Records)
		if err != nil {
			continue // it was killed, or is deaf
		}
		one := bayOut{Project: foreign.Line(b.Project), Bay: b.Bay, Folder: foreign.Line(b.Checkout), Page: link(b.host(""))}
		for _, st := range list {
			one.Services = append(one.Services, copyOut{st.Name, st.State, cmp.Or(st.Own, st.Address), strings.Join(st.Numbers(), " ")})
		}
		out = append(out, one)
	}
	for _, b := range t.resting(r.Context()) {
		if !slices.ContainsFunc(out, func(x bayOut) bool { return x.Folder == b.Folder && x.Bay == b.Bay }) {
			out = append(out, b)
		}
	}
	slices.SortStableFunc(out, func(a, b bayOut) int {
		return strings.Compare(a.Project+"\x00"+a.Folder+"\x00"+a.Bay, b.Project+"\x00"+b.Folder+"\x00"+b.Bay)
	})
	alone(w, "")
	_ = overviewPage().Execute(w, out)
}

// statusOf asks the supervisor of a bay.
func statusOf(ctx context.Context, records string) (list []service.Status, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return control(ctx, records) }}}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://supervisor/status", nil)
	if err != nil {
		return nil, err
	}
	answer, err := client.Do(q)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return list, json.NewDecoder(io.LimitReader(answer.Body, 64<<20)).Decode(&list)
}

// resting are all bays of this user, as the command bays tells.
func (t *router) resting(ctx context.Context) []bayOut {
	ctx, cancel := context.WithTimeout(ctx, listing)
	defer cancel()
	cmd, err := t.self(ctx, "bays", "--all", "--json")
	if err != nil {
		return nil
	}
	raw, err := cmd.Output()
	var listed struct {
		Bays []struct{ Name, Project, Dir, Locator string } `json:"bays"`
	}
	if err != nil || json.Unmarshal(raw, &listed) != nil {
		return nil
	}
	var out []bayOut
	for _, b := range listed.Bays {
		out = append(out, bayOut{Project: foreign.Line(b.Project), Bay: b.Name, Folder: foreign.Line(b.Dir), Locator: foreign.Line(b.Locator)})
	}
	return out
}
