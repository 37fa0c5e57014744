package main

import (
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"
	"testing"
)

// privateHut is the demo's project in a private network.
func privateHut(t *testing.T) *hut {
	t.Helper()
	linuxOnly(t)
	h := demoHut(t)
	h.change("isolation = \"clean\"", "isolation = \"clean\"\nnetwork   = \"private\"")
	return h
}

func TestTwoBaysHaveTheSamePortsInNetworksOfTheirOwn(t *testing.T) {
	t.Parallel()
	for _, who := range []string{"root", "ordinary"} {
		t.Run(who, func(t *testing.T) {
			h := privateHut(t)
			if who == "ordinary" {
				if os.Getuid() != 0 {
					t.Skip("the tests run as one already")
				}
				asOrdinaryUser(t, h)
			}
			h.ok("lock")
			h.ok("fit")
			o := h.try("start")
			if strings.Contains(o.err, "gives no private networks") {
				t.Skip("no namespaces of users here")
			}
			if o.code != 0 {
				t.Fatal(o)
			}
			h.ok("--bay", "trial", "start", "--approve")
			for _, bay := range []string{"main", "trial"} {
				// What a service says of where it listens are the standard numbers,
				if out := h.ok("--bay", bay, "logs", "--lines", "1000"); !strings.Contains(out, "127.0.0.1:8590") {
					t.Errorf("%s: %s", bay, out)
				}
				// and from here it is reached by a forwarded one.
				board := 0
				for _, st := range statusesIn(t, h, bay) {
					if st.Name == "board" {
						board = st.Ports["http"]
					}
				}
				if page := get(t, fmt.Sprintf("http://127.0.0.1:%d/counts", board)); !strings.Contains(page, "silverfin") {
					t.Errorf("%s: %q", bay, page)
				}
				if out := h.ok("--bay", bay, "do", "count"); !strings.Contains(out, "silverfin") {
					t.Errorf("%s: a routine does not reach the ledger: %s", bay, out)
				}
			}
			h.ok("--bay", "trial", "stop")
			h.ok("do", "count")
			h.ok("clear", "--yes", "--all")
		})
	}
}

func TestSegmentsSeeOnlyThemselves(t *testing.T) {
	t.Parallel()
	h := privateHut(t)
	world, err := net.Listen("tcp4", "127.0.0.1:0") // this machine, outside of every network
	if err != nil {
		t.Fatal(err)
	}
	defer world.Close()
	try := func(port int) string {
		return fmt.Sprintf(`run = ["bash", "-c", "(exec 3<>/dev/tcp/127.0.0.1/%d) 2>/dev/null && echo reached || echo refused; echo proxy $http_proxy; exec sleep 1000"]
ready = { log = "proxy" }
needs = ["service.ledger"]
`, port)
	}
	port := world.Addr().(*net.TCPAddr).Port
	text := h.read("trammel.toml")
	text = text[:strings.Index(text, "[service.lane]")]
	text = strings.Replace(text, `"clean"`, `"open"`, 1)
	h.write("trammel.toml", text+"[service.beside]\n"+try(8590)+"\n[service.apart]\nsegment = \"back\"\n"+strings.Replace(try(8590), "needs = [\"service.ledger\"]\n", "", 1)+"\n[service.out]\n"+try(port))
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	for name, want := range map[string]string{"beside": "reached", "apart": "refused", "out": "refused"} {
		if out := h.ok("logs", name); !strings.Contains(out, want) || !strings.Contains(out, "proxy http://127.0.0.1:43128") {
			t.Errorf("%s: %s", name, out)
		}
	}
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "network   = \"private\"\n", "", 1))
	h.fails(2, []string{"no private network to have segments"}, "lock")
	if out := h.ok("stop"); !strings.Contains(out, "beside") { // also with a faulty declaration
		t.Error(out)
	}
}

func TestServicesInAPrivateNetworkDieWithTheirSupervisor(t *testing.T) {
	t.Parallel()
	h := privateHut(t)
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	before := statuses(t, h)
	pids := tree(before)
	supervisor := supervisorOf(t, h, "main")
	if err := syscall.Kill(supervisor, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	gone(t, pids)
	h.ok("start")
	if out := h.ok("do", "count"); !strings.Contains(out, "silverfin") {
		t.Error(out)
	}
	if _, err := os.Stat(h.home); err != nil {
		t.Fatal(err)
	}
}
