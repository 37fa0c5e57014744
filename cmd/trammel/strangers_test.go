package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/service"
)

// Whose a port is: a service is ready only by a socket of its own, whoever else is on this
// machine, and whenever they come.

var given sync.Map // numbers that a test has

// freeNumber is a port that nothing has at this moment, below those that systems and bays
// take for themselves. Each test gets others.
func freeNumber(t *testing.T) int {
	t.Helper()
	return freeRow(t, 1)
}

// freeRow is the first of several such ports in a row, as copies have them.
func freeRow(t *testing.T, many int) int {
	t.Helper()
	first := slot(t)
	for range 1000 {
		n := first + rand.IntN(numbers-many+1)
		free := true
		for i := n; free && i < n+many; i++ {
			if _, had := given.LoadOrStore(i, true); had {
				free = false
			} else if l, err := net.Listen("tcp4", "127.0.0.1:"+itoa(i)); err == nil {
				l.Close()
			} else {
				free = false
			}
		}
		if free {
			return n
		}
	}
	t.Fatal("no port is free")
	return 0
}

// Each run of the tests has numbers of its own, so that two beside each other do not meet.
const numbers = 400

var slot = func() func(t *testing.T) int {
	var once sync.Once
	var first int
	return func(t *testing.T) int {
		once.Do(func() {
			for i := range 24 {
				f, err := os.OpenFile(filepath.Join(os.TempDir(), fmt.Sprintf("trammel-test-numbers-%d", i)), os.O_RDWR|os.O_CREATE, 0o666)
				if err == nil && syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
					first = 10000 + i*numbers // the file stays open as long as this process runs
					slotFile = f
					return
				}
			}
		})
		if first == 0 {
			t.Fatal("too many runs of the tests beside this one")
		}
		return first
	}
}()

var slotFile *os.File

// strangersNumber is one that a stranger listens on, whoever else takes numbers at the same time.
func strangersNumber(t *testing.T) int {
	t.Helper()
	for range 50 {
		number := freeNumber(t)
		if l, err := net.Listen("tcp4", "127.0.0.1:"+itoa(number)); err == nil {
			strangeAt(t, l)
			return number
		}
	}
	t.Fatal("no port stays free")
	return 0
}

// strange listens on a port as a program of somebody else's would, which shares addresses
// as nearly all do.
func strange(t *testing.T, number int) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp4", "127.0.0.1:"+itoa(number))
	if err != nil {
		t.Fatal(err)
	}
	return strangeAt(t, l)
}

func strangeAt(t *testing.T, l net.Listener) net.Listener {
	t.Helper()
	t.Cleanup(func() { l.Close() })
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "a stranger") })}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return l
}

func answer(t *testing.T, number int) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r, _ := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("http://127.0.0.1:%d/", number), nil)
	r.Close = true
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return string(b)
}

func slow(t *testing.T, number int, name, begun string, after time.Duration, ready string) string {
	return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { main = %d }\n%s\n",
		serves(t, "slow", fmt.Sprintf(", WEIR_PORT = \"@{port.main}\", WEIR_NAME = %q, WEIR_BEGUN = %q, WEIR_AFTER = %q", name, begun, after)), number, ready)
}

func TestUsersAndHomesOnOneMachineDoNotMeet(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	number := freeNumber(t)
	var huts []*hut
	for i := range 8 {
		h := newHut(t, nil, slow(t, number, fmt.Sprintf("home %d", i), filepath.Join(t.TempDir(), "begun"), time.Duration(i%3)*300*time.Millisecond, ""))
		h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "WEIR_BEGUN", "WEIR_IGNORED", 1))
		if i%2 == 1 && os.Getuid() == 0 {
			asOrdinaryUser(t, h)
		}
		h.ok("lock")
		h.ok("approve", "--yes")
		huts = append(huts, h)
	}
	for round := range 2 { // with new numbers, and with those that they have by now
		var all sync.WaitGroup
		for i, h := range huts {
			all.Go(func() {
				if o := h.try("start"); o.code != 0 || !strings.Contains(o.out, "ready") {
					t.Errorf("round %d, home %d: %+v", round, i, o)
				}
			})
		}
		all.Wait()
		seen := map[int]bool{}
		for i, h := range huts {
			st := find(t, h, "lane")
			if got := answer(t, st.Ports["main"]); st.State != service.Ready || got != fmt.Sprintf("home %d", i) {
				t.Errorf("round %d, home %d is %s at %d, where %q answers", round, i, st.State, st.Ports["main"], got)
			}
			if seen[st.Ports["main"]] {
				t.Errorf("%d is there twice", st.Ports["main"])
			}
			seen[st.Ports["main"]] = true
		}
		for _, h := range huts {
			h.ok("stop")
		}
	}
}

func TestAStrangerIsNeverTheService(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	probes := map[string]string{
		"no probe": "", "tcp": `ready = { tcp = "main", within = "30s" }`, "http": `ready = { http = "/", within = "30s" }`,
		"a command": `ready = { command = "true", within = "30s" }`,
	}
	for probe, ready := range probes {
		t.Run("before, "+probe, func(t *testing.T) {
			t.Parallel()
			number := strangersNumber(t)
			h := newHut(t, nil, slow(t, number, "mine", filepath.Join(t.TempDir(), "b"), 0, ready))
			h.ok("lock")
			o := h.try("start")
			if o.code != 0 || !strings.Contains(o.err, fmt.Sprintf("port %d is taken by trammel.test (pid %d) of user ", number, os.Getpid())) {
				t.Errorf("%+v", o)
			}
			if got := answer(t, find(t, h, "lane").Ports["main"]); got != "mine" {
				t.Errorf("%q answers", got)
			}
		})
		t.Run("during, "+probe, func(t *testing.T) {
			t.Parallel()
			number, begun := freeNumber(t), filepath.Join(t.TempDir(), "begun")
			after := 2500 * time.Millisecond
			if probe == "a command" {
				after = 700 * time.Millisecond // while its port is waited for, before the command is asked
			}
			h := newHut(t, nil, slow(t, number, "mine", begun, after, ready))
			h.ok("lock")
			h.ok("approve", "--yes")
			done := make(chan outcome)
			go func() { done <- h.try("start") }()
			eventually(t, "the service has begun", func() bool { _, err := os.Stat(begun); return err == nil })
			strange(t, number)
			o := <-done
			if o.code != 0 || !strings.Contains(o.err, fmt.Sprintf("port %d is taken by trammel.test", number)) {
				t.Errorf("%+v", o)
			}
			if got := answer(t, find(t, h, "lane").Ports["main"]); got != "mine" {
				t.Errorf("%q answers", got)
			}
		})
		t.Run("always, "+probe, func(t *testing.T) {
			t.Parallel()
			number := freeNumber(t)
			// It never listens, whatever its number; a stranger takes each that it gets.
			h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { main = %d }\n%s\n",
				serves(t, "silent", ""), number, strings.Replace(ready, "30s", "3s", 1)))
			h.ok("lock")
			h.ok("approve", "--yes")
			ended := make(chan struct{})
			var taking sync.WaitGroup
			taking.Go(func() {
				for {
					select {
					case <-ended:
						return
					case <-time.After(20 * time.Millisecond):
					}
					if st := statuses(t, h); len(st) == 1 && st[0].State == service.Starting {
						if l, err := net.Listen("tcp4", "127.0.0.1:"+itoa(st[0].Ports["main"])); err == nil {
							defer l.Close()
						}
					}
				}
			})
			o := h.try("start")
			close(ended)
			taking.Wait()
			if probe == "a command" && o.code == 0 && !strings.Contains(o.err, "is taken by") {
				return // its command said yes before anybody took the port
			}
			if o.code != 6 || !strings.Contains(o.err, "is taken by trammel.test (pid ") {
				t.Errorf("%+v", o)
			}
		})
	}
}

// A port that is taken over while the service runs is seen, by the state and by the router.
func TestAStrangerWhoComesLaterIsSeen(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	number := freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { http = %d }\nready = { tcp = \"http\", every = \"1h\", within = \"60s\" }\nrestart = \"never\"\n",
		serves(t, "leaves", `, WEIR_PORT = "@{port.http}"`), number))
	h.ok("lock")
	h.ok("start")
	h.ok("stop", "--signal", "USR1", "lane")
	eventually(t, "it has given up its port", func() bool { return strings.Contains(h.ok("logs", "lane"), "left") })
	strange(t, number)
	if got := byName(t, h, "lane"); strings.Contains(got, "a stranger") || !strings.Contains(got, "is taken by") && !strings.Contains(got, "starting") {
		t.Errorf("the router answers %q", got)
	}
	// At once, though the next look at it is an hour away.
	if st := find(t, h, "lane"); st.State != service.Failing || !strings.Contains(st.Reason, fmt.Sprintf("port http (%d) is taken by trammel.test", number)) {
		t.Errorf("%+v", st)
	}
}

// byName is what the router answers for a service.
func byName(t *testing.T, h *hut, name string) string {
	t.Helper()
	at := ""
	eventually(t, "it has a name", func() bool { at = find(t, h, name).Address; return at != "" })
	host := strings.TrimSuffix(strings.TrimPrefix(at, "http://"), "/")
	_, port, _ := net.SplitHostPort(host)
	r, _ := http.NewRequest(http.MethodGet, "http://127.0.0.1:"+port+"/", nil)
	r.Host, r.Close = host, true
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return string(b)
}

func TestDeclaredNumbersComeBackWhenTheyAreAskedFor(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	number, next := freeNumber(t), freeNumber(t)
	squatter := strange(t, number)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.ledger]\n%sports = { main = %d }\n",
		serves(t, "keep", `, WEIR_PORT = "@{port.main}", WEIR_ROWS = "@{bay.dir}/rows"`), number))
	h.ok("lock")
	if o := h.try("start"); !strings.Contains(o.err, fmt.Sprintf("port %d is taken by trammel.test", number)) {
		t.Errorf("a wanted port that is taken at the first start is not told: %+v", o)
	}
	port := func() int { return find(t, h, "ledger").Ports["main"] }
	moved := port()
	resp, err := http.Post(fmt.Sprintf("http://127.0.0.1:%d/", moved), "text/plain", strings.NewReader("silverfin\n"))
	if err != nil || resp.StatusCode != 200 {
		t.Fatal(resp, err)
	}
	squatter.Close()
	o := h.try("start")
	if port() != moved || !strings.Contains(o.err, fmt.Sprintf("port main of ledger has %d, as so far in this bay, and not %d as declared; to go back to that: trammel start --wanted-ports", moved, number)) {
		t.Errorf("at %d: %+v", port(), o)
	}
	o = h.try("start", "--wanted-ports")
	if port() != number || !strings.Contains(o.err, fmt.Sprintf("port main of ledger has %d again, as declared, and not %d", number, moved)) {
		t.Errorf("at %d: %+v", port(), o)
	}
	// A number that the declaration changes is told too, and taken by the same.
	h.change(itoa(number), itoa(next))
	h.ok("lock")
	if o = h.try("start"); port() != number || !strings.Contains(o.err, fmt.Sprintf("and not %d as declared", next)) {
		t.Errorf("at %d: %+v", port(), o)
	}
	if h.ok("start", "--wanted-ports"); port() != next {
		t.Errorf("at %d, not %d", port(), next)
	}
	files, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/rows"))
	if raw, err := os.ReadFile(files[0]); string(raw) != "silverfin\n" {
		t.Errorf("the data: %q, %v", raw, err)
	}
	if o = h.try("start", "--wanted-ports"); o.code != 0 || strings.Contains(o.err, "declared") {
		t.Errorf("with nothing to do: %+v", o)
	}
}

// Two services that changed places change their numbers in one go.
func TestServicesChangePlaces(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	a, b := freeNumber(t), freeNumber(t)
	text := func(a, b int) string {
		return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { main = %d }\n\n[service.board]\n%sports = { main = %d }\n",
			serves(t, "web", `, WEIR_PORT = "@{port.main}"`), a, serves(t, "web", `, WEIR_PORT = "@{port.main}"`), b)
	}
	h := newHut(t, nil, text(a, b))
	h.ok("lock")
	h.ok("start")
	h.write("trammel.toml", text(b, a))
	h.ok("lock")
	h.ok("start", "--wanted-ports")
	if lane, board := find(t, h, "lane"), find(t, h, "board"); lane.Ports["main"] != b || board.Ports["main"] != a || lane.State != "ready" || board.State != "ready" {
		t.Errorf("%+v %+v", lane, board)
	}
}

func TestFewerCopiesMoveNobodyElse(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	first, other := freeRow(t, 3), freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[param.n]\nkind = \"integer\"\ndefault = 3\n\n[service.lane]\ncopies = \"@{param.n}\"\n%sports = { main = %d }\n\n[service.board]\nneeds = [\"service.lane\"]\n%sports = { main = %d }\n\n[service.aside]\nrun = \"sleep 600\"\n",
		serves(t, "web", `, WEIR_PORT = "@{port.main}"`), first, serves(t, "web", `, WEIR_PORT = "@{port.main}"`), other))
	h.ok("lock")
	h.ok("start", "--param", "n=3")
	before := map[string]service.Status{}
	for _, st := range statuses(t, h) {
		before[st.Name] = st
	}
	for _, n := range []int{2, 2, 3, 1, 3} {
		o := h.try("start", "--param", fmt.Sprintf("n=%d", n))
		if o.code != 0 || strings.Contains(o.err, "is taken") {
			t.Errorf("%d copies: %+v", n, o)
		}
		now := statuses(t, h)
		if len(now) != n+2 {
			t.Errorf("%d copies: %+v", n, now)
		}
		for _, st := range now {
			if was, had := before[st.Name]; st.State != "ready" || had && (st.Ports["main"] != was.Ports["main"] || st.Name == "aside" && st.Pid != was.Pid) {
				t.Errorf("%d copies: %+v, and before %+v", n, st, was)
			}
		}
	}
}

func TestEveryPortIsListed(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	first, second := freeNumber(t), freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n%sports = { http = %d, debug = %d }\n",
		serves(t, "everywhere", `, WEIR_PORT = "@{port.http}", WEIR_SECOND = "@{port.debug}"`), first, second))
	h.ok("lock")
	o := h.try("start")
	for where, out := range map[string]string{"start": o.out + o.err, "show": h.ok("show"), "show lane": h.ok("show", "lane"), "show --json": h.ok("show", "--json")} {
		if !strings.Contains(out, itoa(first)) || !strings.Contains(out, itoa(second)) {
			t.Errorf("%s does not list both ports:\n%s", where, out)
		}
		if !strings.Contains(out, "0.0.0.0:"+itoa(second)) {
			t.Errorf("%s does not say that one is open to other machines:\n%s", where, out)
		}
	}
}

// What failed while others were getting ready is an error of the start, with its reason.
func TestAStartThatEndsWellHasAllThatItStarted(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	h := newHut(t, nil, `format = 1
project = "heronweir"
isolation = "open"

[service.early]
run   = "echo go; sleep 0.6; echo the weir is dry; exit 3"
ready = { log = "go" }

[service.late]
run   = "sleep 2; echo go; exec sleep 600"
ready = { log = "go" }
`)
	h.ok("lock")
	h.fails(6, []string{"early", "exit code 3", "the weir is dry"}, "start")
	if st := find(t, h, "late"); st.State != service.Ready {
		t.Errorf("what did not fail: %+v", st)
	}
}

func TestServicesThatAreNotServices(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	number := freeNumber(t)
	for name, c := range map[string]struct {
		declared string
		words    []string
	}{
		"ends at once":      {"run = \"exit 1\"", []string{"exit code 1"}},
		"ends a bit later":  {"run = \"sleep 0.05; exit 4\"", []string{"exit code 4"}},
		"to the background": {serves(t, "background", `, WEIR_PORT = "@{port.main}"`) + fmt.Sprintf("ports = { main = %d }", number), []string{"it went to the background", "trammel.test", "stay in the foreground"}},
		"without a port":    {"run = \"setsid sleep 600 & sleep 0.1; exit 0\"", []string{"it went to the background", "foreground"}},
		"no such command":   {"run = [\"no-such-command\"]", []string{"no-such-command"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\nrestart = \"never\"\n"+c.declared+"\n")
			h.ok("lock")
			if !strings.Contains(c.declared, "ports") && !strings.Contains(c.declared, "[") { // on a busy machine it may run for long enough to be ready
				h.try("start")
				eventually(t, "it is told", func() bool {
					st := find(t, h, "lane")
					return st.State == service.Failed && !slices.ContainsFunc(c.words, func(w string) bool { return !strings.Contains(st.Reason, w) })
				})
				return
			}
			h.fails(6, c.words, "start")
		})
	}
}

func TestAStoppedStartSaysWhy(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\nrun = \"sleep 600\"\nready = { log = \"never\" }\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	done := make(chan outcome)
	go func() { done <- h.try("start") }()
	eventually(t, "it is starting", func() bool { st := statuses(t, h); return len(st) == 1 && st[0].Pid > 0 })
	h.ok("stop")
	if o := <-done; o.code != 6 || !strings.Contains(o.err, "it was stopped while it was starting") {
		t.Errorf("%+v", o)
	}
}

// A supervisor that does not answer is told by every command that asks it.
func TestADeafSupervisorIsNamed(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\nrun = \"sleep 600\"\n\n[routine.count]\nneeds = [\"service.lane\"]\nrun = \"echo counted\"\n")
	h.ok("lock")
	h.ok("start")
	pid := supervisorOf(t, h, "main")
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	defer syscall.Kill(pid, syscall.SIGCONT)
	eventually(t, "it is suspended", func() bool {
		b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		return strings.HasPrefix(string(b[strings.LastIndexByte(string(b), ')')+1:]), " T")
	})
	words := []string{fmt.Sprintf("(pid %d) does not answer", pid), fmt.Sprintf("kill -KILL %d", pid)}
	var all sync.WaitGroup
	for _, args := range [][]string{{"start"}, {"stop"}, {"do", "count"}, {"clear", "--yes", "main"}} {
		all.Go(func() {
			o := h.try(args...)
			if o.code != 6 || !strings.Contains(o.err, words[0]) || !strings.Contains(o.err, words[1]) {
				t.Errorf("%v: %+v", args, o)
			}
		})
	}
	all.Go(func() {
		if o := h.try("show"); !strings.Contains(o.out+o.err, words[0]) {
			t.Errorf("show: %+v", o)
		}
	})
	all.Wait()
	syscall.Kill(pid, syscall.SIGCONT)
	if st := find(t, h, "lane"); st.State != service.Ready {
		t.Errorf("afterwards: %+v", st)
	}
}

// Nothing is begun while something of a supervisor that was killed is alive.
func TestWhatAnEarlierSupervisorRanIsWaitedFor(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	number := freeNumber(t)
	h := newHut(t, nil, slow(t, number, "mine", filepath.Join(t.TempDir(), "b"), 0, ""))
	h.ok("lock")
	h.ok("start")
	supervisor := supervisorOf(t, h, "main")
	trees, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/trees"))
	noted, err := os.ReadFile(trees[0])
	if err != nil || !strings.HasSuffix(string(noted), " lane\n") {
		t.Fatalf("%q, %v", noted, err)
	}
	// One that dies slowly, and holds the port until it does.
	slowly := exec.Command(serverFile(t))
	slowly.Env = append(os.Environ(), serverHabit+"=silent")
	syscall.Kill(supervisor, syscall.SIGKILL)
	if err := slowly.Start(); err != nil {
		t.Fatal(err)
	}
	go slowly.Wait()
	gone(t, []int{supervisor})
	p := process.ProcessOf(slowly.Process.Pid)
	other := process.ProcessOf(os.Getpid()) // has the number of one that is gone: is left alone
	boot := process.Boot()
	line := fmt.Sprintf("%d %d %s lane\n%d %d %s board\n", p.Pid, p.Started, boot, other.Pid, other.Started+7, boot)
	if err := os.WriteFile(trees[0], append(noted, line...), 0o600); err != nil {
		t.Fatal(err)
	}
	o := h.try("start")
	// What it ran itself may be ending still, and be named first.
	if o.code != 0 || !strings.Contains(o.err, "is still ending: ") || !strings.Contains(o.err, fmt.Sprintf("lane (pid %d)", p.Pid)) || strings.Contains(o.err, "board") {
		t.Errorf("%+v", o)
	}
	if p.Alive() {
		t.Error("it is alive, and the new supervisor began")
	}
	if st := find(t, h, "lane"); st.Ports["main"] != number || answer(t, number) != "mine" {
		t.Errorf("%+v", st)
	}
}

func TestShowSaysWhatACrashEnded(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\nrun = \"sleep 600\"\n\n[service.board]\nrun = \"sleep 600\"\nauto = false\n")
	h.ok("lock")
	h.ok("start", "lane", "board")
	pid := supervisorOf(t, h, "main")
	syscall.Kill(pid, syscall.SIGKILL)
	gone(t, []int{pid})
	if out := h.ok("show"); !strings.Contains(out, "ended without stopping them") || !strings.Contains(out, "board, lane") || !strings.Contains(out, "trammel start") {
		t.Error(out)
	}
	h.ok("start")
	if out := h.ok("show"); strings.Contains(out, "ended without") {
		t.Error(out)
	}
	h.ok("stop")
	if out := h.ok("show"); strings.Contains(out, "ended without") {
		t.Error(out)
	}
}

// A signal reaches the program itself, through whatever Trammel has around it.
func TestSignalsReachThePrograms(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	self := serverFile(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.array]\n%s\n[service.script]\nrun = \"exec %s\"\nvariables = { %s = \"signals\" }\n\n[service.plain]\nrun = \"%s\"\nvariables = { %s = \"signals\" }\n",
		serves(t, "signals", ""), self, serverHabit, self, serverHabit))
	h.ok("lock")
	h.ok("start")
	for _, name := range []string{"array", "script", "plain"} {
		eventually(t, name+" counts", func() bool { return strings.Contains(h.ok("logs", name), "counting") })
		if out := h.ok("stop", "--signal", "sighup", name); !strings.Contains(out, name) {
			t.Error(out)
		}
		eventually(t, name+" got it", func() bool { return strings.Contains(h.ok("logs", name), "got hangup") })
		st := find(t, h, name)
		exe, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", st.Pid))
		if st.State != service.Ready || err != nil || filepath.Base(exe) != filepath.Base(self) {
			t.Errorf("%s is %s, its pid is that of %s, %v", name, st.State, exe, err)
		}
	}
	h.fails(2, []string{"no signal is named", "HUP"}, "stop", "--signal", "WINK", "array")
	h.fails(2, []string{"say which service"}, "stop", "--signal", "HUP")
	var sent struct {
		Format int
		Sent   []service.Signalled
	}
	if err := json.Unmarshal([]byte(h.ok("stop", "--json", "--signal", "USR1", "array", "plain")), &sent); err != nil || sent.Format != 1 || len(sent.Sent) != 2 {
		t.Errorf("%+v, %v", sent, err)
	}
	lines := strings.Split(strings.TrimSpace(h.ok("logs", "--json", "array")), "\n")
	if len(lines) < 3 {
		t.Errorf("%q", lines)
	}
	for _, line := range lines {
		var x struct {
			Format        int
			Service, Text string
		}
		if err := json.Unmarshal([]byte(line), &x); err != nil || x.Format != 1 || x.Service != "array" {
			t.Errorf("%q: %+v, %v", line, x, err)
		}
	}
	var stopped struct {
		Format  int
		Stopped []string
	}
	if err := json.Unmarshal([]byte(h.ok("stop", "--json")), &stopped); err != nil || len(stopped.Stopped) != 3 {
		t.Errorf("%+v, %v", stopped, err)
	}
	var cleared struct {
		Format  int
		Cleared []struct{ Bay string }
	}
	if err := json.Unmarshal([]byte(h.ok("clear", "--json", "main")), &cleared); err != nil || len(cleared.Cleared) != 1 {
		t.Errorf("%+v, %v", cleared, err)
	}
}
