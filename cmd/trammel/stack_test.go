package main

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

func TestNoAcknowledgedRowIsLostWhateverIsKilled(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.ledger]\n"+
		serves(t, "keep", `, WEIR_PORT = "@{port.main}", WEIR_ROWS = "@{bay.dir}/rows"`)+fmt.Sprintf("ports = { main = %d }\nrestart = \"on-failure\"\n\n[service.lane]\nrun = \"exec sleep 1000\"\nneeds = [\"service.ledger\"]\n", freeNumber(t)))
	h.ok("lock")
	h.ok("start")
	port := find(t, h, "ledger").Ports["main"]
	var mu sync.Mutex
	acknowledged := map[int]bool{}
	done := make(chan struct{})
	var writing sync.WaitGroup
	writing.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			default:
			}
			resp, err := http.Post(fmt.Sprintf("http://127.0.0.1:%d/", port), "text/plain", strings.NewReader(fmt.Sprintf("row %d silverfin\n", i)))
			if err != nil {
				time.Sleep(5 * time.Millisecond)
				continue
			}
			resp.Body.Close()
			if resp.StatusCode == 200 {
				mu.Lock()
				acknowledged[i] = true
				mu.Unlock()
			}
		}
	})
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(acknowledged)
	}
	more := func(what string) {
		t.Helper()
		before := count()
		eventually(t, "rows are kept again after "+what, func() bool { return count() > before+20 })
	}
	more("a fresh start")
	kill := func(pids ...int) {
		t.Helper()
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		gone(t, pids)
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 15))
	for round := range 20 {
		st := statuses(t, h)
		what := []string{"the service", "the supervisor", "everything"}[r.IntN(3)]
		switch what {
		case "the service": // it is started again by its rule, on its port
			kill(find(t, h, "ledger").Pid)
		case "the supervisor": // everything goes with it, and a start brings it back
			kill(supervisorOf(t, h, "main"))
		default: // every process of the bay at once
			kill(append(tree(st), supervisorOf(t, h, "main"))...)
		}
		h.ok("start")
		if now := find(t, h, "ledger").Ports["main"]; now != port {
			t.Fatalf("round %d, after %s was killed: the port moved from %d to %d", round, what, port, now)
		}
		more("kill -9 of " + what)
	}
	h.ok("start") // warm: nothing changes
	h.ok("stop")
	close(done)
	writing.Wait()
	text, err := os.ReadFile(filepath.Join(bayDir(t, h, "main"), "rows"))
	if err != nil {
		t.Fatal(err)
	}
	kept := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		kept[line] = true
	}
	for i := range acknowledged {
		if !kept[fmt.Sprintf("row %d silverfin\n", i)] {
			t.Errorf("row %d was acknowledged and is lost", i)
		}
	}
	t.Logf("%d rows", len(acknowledged))
}

func TestTwentyBaysAndASquatterDoNotClash(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	squatter, err := net.Listen("tcp4", "127.0.0.1:0") // a foreign program on the wanted port
	if err != nil {
		t.Fatal(err)
	}
	defer squatter.Close()
	wanted := squatter.Addr().(*net.TCPAddr).Port
	h := newHut(t, nil, fmt.Sprintf("format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { http = %d }\nready = { http = \"/health\", within = \"30s\" }\n", serves(t, "web", `, WEIR_PORT = "@{port.http}"`), wanted))
	h.ok("lock")
	h.ok("approve", "--yes")
	ports := map[int]string{wanted: "the squatter"}
	starts := sync.WaitGroup{}
	limit := make(chan struct{}, 4)
	for i := range 20 {
		starts.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			if o := h.try("--bay", fmt.Sprintf("b%d", i), "start"); o.code != 0 || !strings.Contains(o.err, fmt.Sprintf("port %d is taken by trammel.test", wanted)) && !strings.Contains(o.out, "lane") {
				t.Errorf("%+v", o)
			}
		})
	}
	starts.Wait()
	for i := range 20 {
		name := fmt.Sprintf("b%d", i)
		st := statusesIn(t, h, name)
		if len(st) != 1 || st[0].State != "ready" {
			t.Fatalf("%s: %+v", name, st)
		}
		port := st[0].Ports["http"]
		if other := ports[port]; other != "" {
			t.Errorf("%s has the port %d of %s", name, port, other)
		}
		ports[port] = name
		if text := get(t, fmt.Sprintf("http://127.0.0.1:%d/", port)); !strings.HasPrefix(text, "lane 1") {
			t.Errorf("%s: %q", name, text)
		}
	}
	if out := h.ok("bays"); strings.Count(out, "lane") != 20 {
		t.Error(out)
	}
	// The same loop again: the ports are the same.
	for i := range 3 {
		name := fmt.Sprintf("b%d", i)
		h.ok("--bay", name, "stop")
		h.ok("--bay", name, "start")
		if port := statusesIn(t, h, name)[0].Ports["http"]; ports[port] != name {
			t.Errorf("%s moved to %d", name, port)
		}
	}
	h.ok("clear", "--yes", "--all")
}

func TestHostileServicesAreStoppedWhole(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for name, script := range map[string]string{
		"ignores TERM":       "trap '' TERM INT HUP; echo up; while :; do sleep 0.2; done",
		"forks twice":        "(setsid sh -c 'setsid sleep 900 &' &); sleep 0.2; echo up; exec sleep 900",
		"a bounded outburst": "i=0; while [ $i -lt 100 ]; do (setsid sleep 900 &); i=$((i+1)); done; echo up; exec sleep 900",
	} {
		t.Run(name, func(t *testing.T) {
			h := newHut(t, nil, fmt.Sprintf("format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\nrun = [\"sh\", \"-c\", %q]\nready = { log = \"up\" }\nstop = { within = \"300ms\" }\n", script))
			h.ok("lock")
			h.ok("start")
			pids := tree(statuses(t, h))
			if name == "a bounded outburst" && len(pids) < 100 {
				t.Errorf("only %d processes", len(pids))
			}
			h.ok("stop")
			gone(t, pids)
		})
	}
}

func TestAFloodIsKeptWithinItsBoundsAndReadWithoutASupervisor(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n"+serves(t, "flood", `, WEIR_BYTES = "60000000"`)+"ready = { log = \"^flooded\", within = \"60s\" }\n")
	h.ok("lock")
	h.ok("start")
	h.ok("stop")
	files, _ := filepath.Glob(filepath.Join(recordsDir(t, h, "main"), "logs", "lane.log*"))
	var size int64
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			size += info.Size()
		}
	}
	if len(files) != 4 || size > 40<<20 {
		t.Errorf("%d files of %d bytes", len(files), size)
	}
	lines := strings.Split(strings.TrimSpace(h.ok("logs", "lane", "--since", "1h")), "\n")
	last := -1
	for _, line := range lines {
		fields := strings.Fields(line)
		var n int
		if len(fields) < 3 || fields[2] == "·" {
			continue
		}
		if _, err := fmt.Sscanf(fields[2], "%08d", &n); err != nil {
			continue
		}
		if last >= 0 && n != last+1 {
			t.Fatalf("line %d comes after %d", n, last)
		}
		last = n
	}
	if last < 1_000_000 {
		t.Errorf("the last line is %d", last)
	}
}
