package gateway

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/service"
)

// backend is a service that says who it is and what it was told.
func backend(t *testing.T, name string) (port int) {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s %s", name, r.Host, r.Header.Get("X-Forwarded-Host"))
	}))
	t.Cleanup(s.Close)
	u, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	port, err = strconv.Atoi(u.Port())
	if err != nil {
		t.Fatal(err)
	}
	return port
}

// bayIn is a bay of a checkout whose state lies in a folder.
func bayIn(state, checkout, name string) bay.Bay {
	records := filepath.Join(state, "records", filepath.Base(checkout)+"-"+name)
	return bay.Bay{Dir: records, Records: records, State: state, Project: "heronweir", Checkout: checkout, Name: name}
}

// Names lead to the services and pages that publish them, and to nothing else.
func TestNamesLeadWhereTheyBelong(t *testing.T) {
	state := t.TempDir()
	if err := os.Mkdir(filepath.Join(state, "routes"), 0o700); err != nil {
		t.Fatal(err)
	}
	gone, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := gone.Addr().(*net.TCPAddr).Port
	gone.Close()
	main, spring := bayIn(state, "/heronweir", bay.Main), bayIn(state, "/heronweir", "spring")
	for b, services := range map[string]map[string][]Way{
		bay.Main: {
			"lane":  {{Name: "lane.1", Port: backend(t, "one"), State: service.Ready}, {Name: "lane.2", Port: backend(t, "two"), State: service.Ready}},
			"late":  {{Name: "late", Port: nobody, State: service.Starting}},
			"quiet": {{Name: "quiet", Port: nobody, State: service.Ready}},
			"taken": {{Name: "taken", Port: backend(t, "a stranger"), Socket: 1, State: service.Ready}},
		},
		"spring": {"lane": {{Name: "lane", Port: backend(t, "of spring"), State: service.Ready}}},
	} {
		of := main
		if b == "spring" {
			of = spring
		}
		if err := Publish(of, Routes{Project: "heronweir", Label: "heronweir", Bay: b, Checkout: of.Checkout, Records: of.Records, Services: services}); err != nil {
			t.Fatal(err)
		}
	}
	h := &router{dir: main.Routes(), log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	ask := func(host string) (int, string) {
		r := httptest.NewRequest("GET", "/day", nil)
		r.Host = host
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	for _, c := range []struct {
		host string
		code int
		says string
	}{
		{"1.lane.heronweir.localhost:4280", 200, "one 1.lane.heronweir.localhost:4280 1.lane.heronweir.localhost:4280"},
		{"2.lane.heronweir.localhost", 200, "two "},
		{"LANE.spring.heronweir.LOCALHOST.", 200, "of spring"},
		{"3.lane.heronweir.localhost", 404, "Nothing here is called 3.lane.heronweir.localhost"},
		{"late.heronweir.localhost", 502, "Service late is starting."},
		{"quiet.heronweir.localhost", 502, "Service quiet is not ready."},
		{"taken.heronweir.localhost", 502, "Service taken does not answer: its port"},
		{"lane.autumn.heronweir.localhost", 404, "Nothing here is called"},
		{"lane.heronweir.example", 421, "names here end in .localhost"},
		{"127.0.0.1:4280", 421, "names here end in .localhost"},
		{"localhost.weir.example", 421, "names here end in .localhost"},
		{"heronweir.localhost", 403, "another user's"}, // who asks is not known here, so that it is nobody's page
	} {
		if code, text := ask(c.host); code != c.code || !strings.Contains(text, c.says) {
			t.Errorf("%s: %d %s; not %d %s", c.host, code, text, c.code, c.says)
		}
	}
	// Copies take turns.
	seen := map[string]int{}
	for range 6 {
		_, text := ask("lane.heronweir.localhost")
		word, _, _ := strings.Cut(text, " ")
		seen[word]++
	}
	if seen["one"] != 3 || seen["two"] != 3 {
		t.Errorf("turns: %v", seen)
	}
	Withdraw(main)
	if code, _ := ask("1.lane.heronweir.localhost"); code != 404 {
		t.Errorf("what was withdrawn is still there: %d", code)
	}
}

// The first checkout of a name has it; another has one of its own, for as long as the first holds it.
func TestTwoCheckoutsOfOneName(t *testing.T) {
	state := t.TempDir()
	if err := os.Mkdir(filepath.Join(state, "routes"), 0o700); err != nil {
		t.Fatal(err)
	}
	first, second := bayIn(state, "/a/heronweir", bay.Main), bayIn(state, "/b/heronweir", bay.Main)
	label, held := Label(first)
	if label != "heronweir" || held == nil {
		t.Fatalf("%q %v", label, held)
	}
	if other, none := Label(second); other != second.OwnLabel() || other == "heronweir" || none != nil {
		t.Errorf("the second is called %q", other)
	}
	if again, more := Label(bayIn(state, "/a/heronweir", "spring")); again != "heronweir" || more == nil {
		t.Errorf("another bay of the first is called %q", again)
	} else {
		more.Close()
	}
	held.Close()
	if other, now := Label(second); other != "heronweir" || now == nil {
		t.Errorf("when the first has gone the second is called %q", other)
	} else {
		now.Close()
	}
}

func TestAddressesByName(t *testing.T) {
	state := t.TempDir()
	b := bayIn(state, "/heronweir", "spring")
	if n := NamesOf(b, "heronweir"); n.Address("lane") != "" || n.Secure("lane") != "" {
		t.Errorf("nobody serves names: %q %q", n.Address("lane"), n.Secure("lane"))
	}
	if err := os.Mkdir(b.Routes(), 0o700); err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{"port": "4281", "secure": "4244"} {
		if err := os.WriteFile(filepath.Join(b.Routes(), file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	n := NamesOf(b, "heronweir")
	if got := n.Address("2.lane"); got != "http://2.lane.spring.heronweir.localhost:4281/" {
		t.Error(got)
	}
	if got := n.Secure("lane"); got != "https://lane.spring.heronweir.localhost:4244/" {
		t.Error(got)
	}
	b.Name = bay.Main
	if got, taken := PageAddress(b); got != "http://heronweir.localhost:4281/" || taken {
		t.Error(got, taken)
	}
}
