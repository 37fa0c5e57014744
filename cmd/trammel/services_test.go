package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/demo"
)

var hutDay = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

// resealed gives an edited lock a right digest, as a forger would.
func resealed(t *testing.T, text string) string {
	t.Helper()
	var facts map[string]any
	if err := toml.Unmarshal([]byte(text), &facts); err != nil {
		t.Fatal(err)
	}
	old := facts["digest"].(string)
	delete(facts, "digest")
	return strings.Replace(text, old, canon.Digest(facts), 1)
}

// demoHut is a machine with the demo's project and catalog.
func demoHut(t *testing.T) *hut {
	t.Helper()
	h := newHut(t, nil, "")
	if err := demo.Write(filepath.Dir(h.dir), engine); err != nil {
		t.Fatal(err)
	}
	return h
}

func statuses(t *testing.T, h *hut) []service.Status { return statusesIn(t, h, "main") }

func statusesIn(t *testing.T, h *hut, bay string) []service.Status {
	t.Helper()
	var out struct{ Services []service.Status }
	if err := json.Unmarshal([]byte(h.ok("--bay", bay, "show", "--json")), &out); err != nil {
		t.Fatal(err)
	}
	return out.Services
}

func find(t *testing.T, h *hut, name string) service.Status {
	t.Helper()
	for _, st := range statuses(t, h) {
		if st.Name == name {
			return st
		}
	}
	t.Fatalf("no service %s", name)
	return service.Status{}
}

// portOf is the number that the bay keeps for the first port of a service.
func portOf(t *testing.T, h *hut, name string) int {
	t.Helper()
	files, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/ports.json"))
	ports := map[string]int{}
	b, err := os.ReadFile(files[0])
	if err == nil {
		err = json.Unmarshal(b, &ports)
	}
	if err != nil {
		t.Fatal(err)
	}
	for key, n := range ports {
		if strings.HasPrefix(key, name+".1/") {
			return n
		}
	}
	t.Fatalf("no port of %s in %v", name, ports)
	return 0
}

func get(t *testing.T, address string) string {
	t.Helper()
	resp, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return string(b)
}

// tree lists the processes of services: their inits and all below them.
func tree(list []service.Status) []int {
	var out []int
	for _, st := range list {
		if st.Pid > 0 {
			top := topOf(st.Pid)
			out = append(append(out, top), below(top)...)
		}
	}
	return out
}

// topOf is the process that a supervisor started for the sake of another: the init of its
// tree.
func topOf(pid int) int {
	for {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return pid
		}
		var state string
		parent := 0
		fmt.Sscan(string(b[strings.LastIndexByte(string(b), ')')+1:]), &state, &parent)
		line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", parent))
		if err != nil || parent <= 1 || strings.HasPrefix(string(line), service.SupervisorName) {
			return pid
		}
		pid = parent
	}
}

// below lists all descendants. Each thread has children of its own.
func below(pid int) []int {
	var out []int
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		b, err := os.ReadFile(list)
		if err != nil {
			continue
		}
		for f := range strings.FieldsSeq(string(b)) {
			var child int
			fmt.Sscan(f, &child)
			out = append(append(out, child), below(child)...)
		}
	}
	return out
}

func gone(t *testing.T, pids []int) {
	t.Helper()
	for _, pid := range pids {
		eventually(t, fmt.Sprintf("process %d is gone", pid), func() bool { return !alive(pid) })
	}
}

func TestServicesStartInOrderAndNothingIsLeftAfterStop(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	o := h.try("start")
	if o.code != 0 {
		t.Fatal(o.out, o.err)
	}
	// Each line of progress is a service that got ready: the needed ones first.
	at := func(word string) int { return strings.Index(o.err, word) }
	if at("service ledger") < 0 || at("service ledger") > at("service lane.1") || at("service lane.3") > at("service board") {
		t.Errorf("the order is wrong:\n%s", o.err)
	}
	board := find(t, h, "board")
	base := fmt.Sprintf("http://127.0.0.1:%d", board.Ports["http"])
	counts := get(t, base+"/counts")
	if counts != "{\"mill trout\":2,\"redgill\":3,\"silverfin\":5,\"weir eel\":2}\n" {
		t.Errorf("the board says %s", counts)
	}
	if !strings.Contains(get(t, base+"/"), "Today at the ladder") {
		t.Error("the board serves no page")
	}
	lane := find(t, h, "lane.2")
	if _, err := http.PostForm(fmt.Sprintf("http://127.0.0.1:%d/passing", lane.Ports["http"]), url.Values{"species": {"redgill"}}); err != nil {
		t.Error(err)
	}
	if out := h.ok("do", "count", "redgill"); !strings.Contains(out, "lane-2/redgill             2") {
		t.Errorf("the routine counts\n%s", out)
	}
	if out := h.ok("logs", "lane"); !strings.Contains(out, "a redgill passed lane 2") {
		t.Errorf("logs:\n%s", out)
	}
	before := tree(statuses(t, h))
	h.ok("start")
	if again := find(t, h, "board"); again.Pid != board.Pid {
		t.Error("a second start restarted what ran well")
	}
	h.ok("verify")
	if out := h.ok("stop", "lane"); out != "stopped: board, lane.1, lane.2, lane.3\n" {
		t.Errorf("stopping what others need: %q", out)
	}
	if out := h.ok("stop"); out != "stopped: ledger\n" {
		t.Errorf("stop: %q", out)
	}
	gone(t, before)
	if out := h.ok("stop"); out != "nothing was running\n" {
		t.Errorf("a second stop: %q", out)
	}
	// The data outlives the services.
	h.ok("start", "ledger")
	if out := h.ok("do", "count", "redgill"); !strings.Contains(out, "lane-2/redgill             2") {
		t.Errorf("after a restart:\n%s", out)
	}
}

func TestServicesDieWithTheirSupervisor(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format = 1
project = "heronweir"

[service.lane]
run   = ["sh", "-c", "sleep 1000 & (setsid sleep 1000 &) ; trap '' TERM; sleep 1000"]
ready = { log = "never" , within = "15s" }

[service.board]
run = ["sh", "-c", "(setsid sh -c 'sleep 1000' &) ; exec sleep 1000"]
`)
	h.ok("lock")
	h.ok("fit")
	h.ok("start", "board")
	c := h.command("start", "lane")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { c.Process.Kill(); c.Wait() }()
	eventually(t, "both run with all their children", func() bool { return len(tree(statuses(t, h))) >= 6 })
	pids := tree(statuses(t, h))
	supervisor := supervisorOf(t, h, "main")
	if err := syscall.Kill(supervisor, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	gone(t, append(pids, supervisor))
	h.ok("start", "board") // a new supervisor takes over
	if st := find(t, h, "board"); st.State != service.Ready {
		t.Errorf("after the supervisor was killed: %+v", st)
	}
}

// supervisorOf is the pid of a bay's supervisor, which it keeps in its lock.
func supervisorOf(t *testing.T, h *hut, bayName string) int {
	t.Helper()
	b, ok := bayOf(t, h, bayName)
	raw, err := os.ReadFile(b.SupervisorLock())
	pid, notNumber := strconv.Atoi(string(raw))
	if !ok || err != nil || notNumber != nil {
		t.Fatalf("bay %s has no supervisor: %v %v", bayName, err, notNumber)
	}
	return pid
}

// bayOf is a bay of this very checkout: other tests have bays in a home that is shared.
func bayOf(t *testing.T, h *hut, name string) (bay.Bay, bool) {
	t.Helper()
	dir, err := filepath.EvalSymlinks(h.dir)
	if err != nil {
		t.Fatal(err)
	}
	return bay.Find(place.Places{State: filepath.Join(h.home, "state")}, dir, name)
}

func TestAServiceThatDiesIsStartedAgainByItsRule(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	h.ok("start", "lane")
	lane, ledger := find(t, h, "lane.1"), find(t, h, "ledger")
	for _, st := range []service.Status{lane, ledger} {
		if err := syscall.Kill(st.Pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "the ledger, never to be started again, has failed", func() bool {
		return find(t, h, "ledger").State == service.Failed
	})
	if st := find(t, h, "ledger"); !strings.Contains(st.Reason, "KILL") {
		t.Errorf("the reason is %q", st.Reason)
	}
	h.ok("start")
	eventually(t, "the lane, to be started again on failure, is ready", func() bool {
		st := find(t, h, "lane.1")
		return st.State == service.Ready && st.Restarts > 0
	})
}

func TestInterruptedStartStopsWhatItStarted(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format = 1
project = "heronweir"

[service.ledger]
run = "sleep 1000"

[service.lane]
run   = "sleep 1000"
needs = ["service.ledger"]
ready = { log = "never" }
`)
	h.ok("lock")
	h.ok("fit")
	c := h.command("start")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the lane is starting", func() bool {
		return len(statuses(t, h)) == 2 && find(t, h, "lane").State == service.Starting && find(t, h, "lane").Pid > 0
	})
	pids := tree(statuses(t, h))
	c.Process.Signal(syscall.SIGINT)
	c.Wait()
	if code := c.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit code %d", code)
	}
	gone(t, pids)
}

func TestProbes(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := demoHut(t)
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "[service.lane]", `[service.by-log]
run   = "echo warming up; sleep 0.05; echo counting now; sleep 1000"
ready = { log = "counting (now|today)" }

[service.by-command]
run   = "sleep 0.05; touch @{bay.dir}/up; sleep 1000"
ready = { command = "test -e @{bay.dir}/up" }

[service.by-tcp]
run   = "tallydb serve --listen 127.0.0.1:@{port.main}"
ports = { main = 28620 }
ready = { tcp = "main" }

[service.by-status]
run   = "ladderweb --listen 127.0.0.1:@{port.http} --pages board"
ports = { http = 28621 }
ready = { http = "/nothing-here", status = 404 }

[service.once]
run   = "echo done"

[service.lane]`, 1))
	h.ok("lock")
	h.ok("fit")
	h.ok("start", "by-log", "by-command", "by-tcp", "by-status")
	for _, name := range []string{"by-log", "by-command", "by-tcp", "by-status"} {
		if st := find(t, h, name); st.State != service.Ready {
			t.Errorf("%s is %s", name, st.State)
		}
	}
}

func TestAChangedServiceIsFoundAndRestarted(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	h.ok("start", "ledger")
	old := find(t, h, "ledger")
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "ledger.tally", "ledger-2.tally", 1))
	h.ok("lock")
	h.fails(3, []string{"services", "ledger", "trammel start ledger"}, "verify")
	h.ok("start", "ledger")
	if now := find(t, h, "ledger"); now.Pid == old.Pid {
		t.Error("the changed service was not restarted")
	}
	h.ok("fit") // the new ledger is empty and the step that fills it is told by hand
	h.ok("verify")
}

func TestStepsRunWhenDueAndBringTheirServices(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := demoHut(t)
	h.ok("lock")
	if out := h.ok("fit", "--print"); !strings.Contains(out, "fetch") || !strings.Contains(out, "sample") {
		t.Errorf("fit --print:\n%s", out)
	}
	h.ok("fit")
	if list := statuses(t, h); len(tree(list)) != 0 {
		t.Errorf("services that only a step needed still run: %v", list)
	}
	h.write("data/passings.csv", h.read("data/passings.csv")+"520,1,redgill,155\n")
	if out := h.ok("show"); !strings.Contains(out, "data/passings.csv changed") {
		t.Errorf("show does not say why:\n%s", out)
	}
	if out := h.ok("fit", "--print"); !strings.Contains(out, "step  check   data/passings.csv changed") {
		t.Errorf("fit --print:\n%s", out)
	}
	if out := h.ok("fit"); !strings.Contains(out, "ran      check, sample") {
		t.Errorf("fit:\n%s", out)
	}
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Errorf("second fit:\n%s", out)
	}
	if out := h.ok("fit", "--again", "check"); !strings.Contains(out, "ran      check\n") {
		t.Errorf("fit --again:\n%s", out)
	}
	h.write("data/passings.csv", "minute,lane,species,length_mm\n1,1,unicorn fish,100\n")
	h.fails(1, []string{"step check failed", `no species is named "unicorn fish"`}, "fit")
	h.fails(1, nil, "fit") // still due
}

func TestAKilledStepLeavesNothingAndIsDueAgain(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format = 1
project = "heronweir"
[step.long]
run = "echo $$ > pid; (setsid sleep 1000 &) ; sleep 1000"
`)
	h.ok("lock")
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGKILL} {
		os.Remove(filepath.Join(h.dir, "pid"))
		c := h.command("fit")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, "the step runs", func() bool { _, err := os.Stat(filepath.Join(h.dir, "pid")); return err == nil })
		eventually(t, "its children run", func() bool { return len(below(c.Process.Pid)) >= 3 })
		pids := below(c.Process.Pid)
		c.Process.Signal(sig)
		c.Wait()
		gone(t, pids)
		if out := h.ok("show"); !strings.Contains(out, "long  due") {
			t.Errorf("after %v:\n%s", sig, out)
		}
	}
}

func TestDemoTellsTheWholeStory(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "")
	dir := filepath.Join(h.dir, "play")
	out := h.ok("demo", dir)
	for _, want := range []string{"$ trammel lock", "+ sluice 1.4.2", "lane-1/silverfin", "All 7 hold.", "1 of 2 files differs", "share/sluice.txt", "mended   sluice 1.4.2", "stopped: board", "cd " + dir} {
		if !strings.Contains(out, want) {
			t.Errorf("the demo does not say %q:\n%s", want, out)
		}
	}
	h.fails(2, []string{"is not empty"}, "demo", dir)
	h.dir = filepath.Join(dir, "heronweir")
	if len(tree(statuses(t, h))) > 0 {
		t.Error("the demo left services running")
	}
	h.ok("verify", "--deep") // people can play on
}

// bayDir is the folder of a bay.
func bayDir(t *testing.T, h *hut, bay string) string {
	t.Helper()
	dirs, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*", bay))
	if len(dirs) != 1 {
		t.Fatalf("bays: %v", dirs)
	}
	return dirs[0]
}

// recordsDir is the folder of what Trammel itself goes by of a bay.
func recordsDir(t *testing.T, h *hut, bay string) string {
	t.Helper()
	dirs, _ := filepath.Glob(filepath.Join(h.home, "state/records/*", bay))
	if len(dirs) != 1 {
		t.Fatalf("records: %v", dirs)
	}
	return dirs[0]
}

// planOf is the plan that is kept for the main bay of the only checkout, "" where none is.
func planOf(t *testing.T, h *hut) string {
	t.Helper()
	files, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*-main.json"))
	if len(files) != 1 {
		return ""
	}
	raw, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}
