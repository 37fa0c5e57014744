package main

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/service"
)

// serve is this program as a service of the benches: it listens on a port after some
// time, and sends as many bytes as it is asked for.
func serve(port string, after time.Duration) {
	time.Sleep(after)
	time.AfterFunc(10*time.Minute, func() { os.Exit(0) })
	chunk := make([]byte, 256<<10)
	err := http.ListenAndServe("127.0.0.1:"+port, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.URL.Query().Get("mib"))
		if r.URL.Query().Has("stated") {
			w.Header().Set("Content-Length", strconv.Itoa(n<<20))
		}
		for range n * 4 {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
	}))
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

const ownStart = 200 * time.Millisecond

// stack makes a project of its own with a declaration, locked and approved.
func (b *workshop) stack(name, declaration string) (run func(args ...string) func() error, err error) {
	dir := b.path(name)
	if err := put(filepath.Join(dir, "trammel.toml"), []byte("format = 1\nproject = \""+name+"\"\nisolation = \"open\"\n"+declaration)); err != nil {
		return nil, err
	}
	run = func(args ...string) func() error {
		return b.run(b.program, append([]string{"--dir", dir, "--quiet"}, args...)...)
	}
	for _, args := range [][]string{{"lock"}, {"approve", "--yes"}} {
		if err := run(args...)(); err != nil {
			return nil, err
		}
	}
	return run, nil
}

func freePort() string {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return "0"
	}
	defer l.Close()
	return strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
}

// listening waits until a port accepts.
func listening(port string) {
	for {
		if c, err := net.Dial("tcp4", "127.0.0.1:"+port); err == nil {
			c.Close()
			return
		}
		time.Sleep(500 * time.Microsecond)
	}
}

// services are the rows of starting services and of bytes to them.
func (b *workshop) services() ([]row, error) {
	if runtime.GOOS != "linux" {
		return nil, nil
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	var rows []row
	for _, part := range []func(self string) ([]row, error){b.chain, b.many, b.forwarded} {
		more, err := part(self)
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
	}
	return rows, nil
}

// serves is a run of this program as a server.
func serves(self, port string) string { return fmt.Sprintf("run = [%q, \"-serve\", %q]\n", self, port) }

// chain is a chain of services to ready.
func (b *workshop) chain(self string) ([]row, error) {
	var chain strings.Builder
	for i := range 5 {
		fmt.Fprintf(&chain, "\n[service.s%d]\n%sports = { main = %d }\n", i, serves(self, "@{port.main}"), 21300+i)
		if i > 0 {
			fmt.Fprintf(&chain, "needs = [\"service.s%d\"]\n", i-1)
		}
	}
	chained, err := b.stack("chain", chain.String())
	if err != nil {
		return nil, err
	}
	oneByOne := func() error {
		var all []*exec.Cmd
		for range 5 {
			port := freePort()
			cmd := exec.Command(self, "-serve", port)
			if err := cmd.Start(); err != nil {
				return err
			}
			all = append(all, cmd)
			listening(port)
		}
		for _, cmd := range all {
			cmd.Process.Kill()
			cmd.Wait()
		}
		return nil
	}
	row := compare("chain of five services to ready", "their own starts, one by one", 1.05, 7, chained("start"), oneByOne)
	b.before[row.name] = chained("stop")
	b.finally[row.name] = func() { _ = chained("stop")() }
	return rowsOf(row), nil
}

func rowsOf(rows ...row) []row { return rows }

// many are rows of many services: the figure is what each takes beyond a bare fork.
func (b *workshop) many(string) (rows []row, err error) {
	var hundred func(args ...string) func() error
	for _, n := range []int{10, 100, 200, 1000} {
		var many strings.Builder
		for i := range n {
			fmt.Fprintf(&many, "\n[service.s%d]\nrun = [\"sleep\", \"1000\"]\n", i)
		}
		run, err := b.stack(fmt.Sprintf("many%d", n), many.String())
		if err != nil {
			return nil, err
		}
		start := compare(fmt.Sprintf("start %d services", n), "a bare fork and 5 ms for each", 0.8, max(2, min(5, 1000/n)), run("start"), func() error {
			var all []*exec.Cmd
			for range n {
				cmd := exec.Command("sleep", "1000")
				if err := cmd.Start(); err != nil {
					return err
				}
				all = append(all, cmd)
			}
			time.Sleep(time.Duration(n) * 5 * time.Millisecond)
			for _, cmd := range all {
				cmd.Process.Kill()
				cmd.Wait()
			}
			return nil
		})
		b.before[start.name] = run("stop")
		rows = append(rows, start)
		last := start.name
		if n == 200 {
			rows = append(rows, compare("status of 200 services (show)", "Go hello", 3, 20, once(run("start"), b.run(b.program, "--dir", b.path(fmt.Sprintf("many%d", n)), "show")), b.run(b.hello)), // quiet, no answer would be kept
				compare("who of 200 services runs (bays)", "Go hello", 0, 20, run("bays"), b.run(b.hello)))
			rows = append(rows, b.inits(run("start")), b.rest(run))
			last = rows[len(rows)-1].name
		}
		end := run("stop")
		if n == 1000 {
			rows = append(rows, compare("start with nothing to do, 1,000 services", "100 services", 10, 10, once(run("start"), run("start")), once(hundred("start"), hundred("start"))))
			last, end = rows[len(rows)-1].name, func() error { return errors.Join(run("stop")(), hundred("stop")()) }
		}
		if n == 100 {
			hundred = run
		}
		b.finally[last] = func() { _ = end() }
		b.after = append(b.after, b.finally[last]) // where that row is not measured
	}
	return rows, nil
}

// forwarded are rows of bytes through the forwarder of a private network, and through the router.
func (b *workshop) forwarded(self string) ([]row, error) {
	common, err := b.stack("common", "\n[service.web]\n"+serves(self, "@{port.http}")+"ports = { http = 21401 }\n")
	if err != nil {
		return nil, err
	}
	private, err := b.stack("private", "network = \"private\"\n\n[service.web]\n"+serves(self, "@{port.http}")+"ports = { http = 21400 }\n")
	if err != nil {
		return nil, err
	}
	direct := freePort()
	cmd := exec.Command(self, "-serve", direct)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	b.after = append(b.after, func() { cmd.Process.Kill(); cmd.Wait(); _ = private("stop")(); _ = common("stop")() })
	listening(direct)
	fetch := func(host, address, more string) func() error {
		return func() error {
			r, err := http.NewRequest(http.MethodGet, "http://"+address+"/?mib=256"+more, nil)
			if err != nil {
				return err
			}
			r.Host = host
			resp, err := http.DefaultClient.Do(r)
			if err != nil {
				return err
			}
			defer resp.Body.Close()
			n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, resp.Body, make([]byte, 256<<10))
			if err == nil && n != 256<<20 {
				err = fmt.Errorf("%d bytes, and %s", n, resp.Status)
			}
			return err
		}
	}
	floor := fetch("", "127.0.0.1:"+direct, "")
	routed := func(more string) func() error {
		return func() error {
			return fetch("web.common.localhost", fmt.Sprintf("127.0.0.1:%d", gateway.RouterPort(b.path("home/state"))), more)()
		}
	}
	return rowsOf(
		compare("256 MiB into a private network", "direct loopback", 1.5, 7, once(private("start"), fetch("", "127.0.0.1:21400", "")), floor),
		compare("256 MiB by name, through the router", "direct loopback", 1.5, 7, once(common("start"), routed("&stated")), fetch("", "127.0.0.1:"+direct, "&stated")),
		compare("256 MiB by name, in chunks of no stated length", "direct loopback", 0, 7, routed(""), floor),
	), nil
}

// once does something the first time only.
func once(first, then func() error) func() error {
	done := false
	return func() error {
		if !done {
			done = true
			if err := first(); err != nil {
				return err
			}
		}
		return then()
	}
}

// rest looks at the supervisor of 200 services that do nothing, for ten seconds: CPU as
// a part of a core, against the fifth of a per cent that it may use. Its memory is printed.
func (b *workshop) rest(run func(args ...string) func() error) row {
	var used, allowed time.Duration
	look := func() error {
		pid, err := b.supervisor("many200")
		if err != nil {
			return err
		}
		before, _ := cpu(pid)
		time.Sleep(10 * time.Second)
		after, memory := cpu(pid)
		used, allowed = after-before, 20*time.Millisecond
		b.remarks = append(b.remarks, fmt.Sprintf("The supervisor of 200 services keeps %d MiB of memory of its own (goal: less than 30).", memory>>10))
		return run("stop")()
	}
	r := compare("supervisor of 200 services at rest, CPU", "0.2 % of a core", 1, 1, nil, nil)
	b.figures[r.name] = func() (float64, error) {
		err := look()
		return float64(used) / float64(allowed), err
	}
	return r
}

// inits looks at the inits of 200 services: how much memory of its own the middle one of them has.
func (b *workshop) inits(start func() error) row {
	r := compare("init of a process tree: memory of its own", "3 MB", 1, 1, nil, nil)
	b.figures[r.name] = func() (float64, error) {
		if err := start(); err != nil {
			return 0, err
		}
		supervisor, err := b.supervisor("many200")
		if err != nil {
			return 0, err
		}
		var all []int
		for _, task := range glob(fmt.Sprintf("/proc/%d/task/*/children", supervisor)) {
			children, _ := os.ReadFile(task)
			for _, child := range strings.Fields(string(children)) {
				if pid, err := strconv.Atoi(child); err == nil {
					_, kib := cpu(pid)
					all = append(all, kib)
				}
			}
		}
		if len(all) < 200 {
			return 0, fmt.Errorf("%d inits of 200 services", len(all))
		}
		slices.Sort(all)
		return float64(all[len(all)/2]) / (3 << 10), nil
	}
	return r
}

func glob(pattern string) []string {
	found, _ := filepath.Glob(pattern)
	return found
}

// supervisor finds the process by the bay that stands among its arguments.
func (b *workshop) supervisor(project string) (int, error) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range all {
		text, err := os.ReadFile(f)
		if err == nil && strings.HasPrefix(string(text), service.SupervisorName) && strings.Contains(string(text), b.path(project)) {
			return strconv.Atoi(strings.Split(f, "/")[2])
		}
	}
	return 0, errors.New("there is no supervisor")
}

func cpu(pid int) (used time.Duration, kib int) {
	stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	text := string(stat)
	f := strings.Fields(text[strings.LastIndexByte(text, ')')+1:])
	if len(f) > 12 {
		user, _ := strconv.Atoi(f[11])
		system, _ := strconv.Atoi(f[12])
		used = time.Duration(user+system) * 10 * time.Millisecond
	}
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "RssAnon:"); ok {
			_, _ = fmt.Sscan(rest, &kib)
		}
	}
	return used, kib
}
