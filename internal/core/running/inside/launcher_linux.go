package inside

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/written/declare"
)

// Main is the life of the launcher: args are the words behind its name. It returns the code to
// end with.
func Main(args []string) int {
	p, err := Read(File)
	if err != nil {
		fmt.Fprintln(os.Stderr, "trammel:", err)
		return 126
	}
	l := &launcher{Plan: p, host: os.Environ(), waiting: map[int]chan syscall.WaitStatus{}}
	return l.main(args)
}

type launcher struct {
	*Plan
	host []string // the container's environment

	mu      sync.Mutex
	waiting map[int]chan syscall.WaitStatus
	early   map[int]syscall.WaitStatus // of children that ended before anybody asked
}

const usage = "say what to start: service NAME, step NAME, routine NAME [ARGUMENT…], ready NAME, list, or -- COMMAND"

func (l *launcher) main(args []string) int {
	if len(args) == 0 {
		args = []string{"--", "/bin/sh"}
	}
	switch name := at(args, 1); args[0] {
	case "list":
		var all []string
		for name := range l.Services {
			all = append(all, "service "+name)
		}
		for name := range l.Steps {
			all = append(all, "step "+name)
		}
		for name := range l.Routines {
			all = append(all, "routine "+name)
		}
		slices.Sort(all)
		fmt.Println(strings.Join(all, "\n"))
		return 0
	case "ready":
		if s, ok := l.Services[name]; ok {
			return l.lead(func(context.Context) int { return l.ready(name, s) })
		}
		return l.unknown("service", name, slices.Sorted(maps.Keys(l.Services)))
	case "service":
		if s, ok := l.Services[name]; ok {
			return l.lead(func(ctx context.Context) int { return l.service(ctx, name, s) })
		}
		return l.unknown("service", name, slices.Sorted(maps.Keys(l.Services)))
	case "step":
		if s, ok := l.Steps[name]; ok {
			return l.lead(func(ctx context.Context) int { return l.step(ctx, name, s) })
		}
		return l.unknown("step", name, slices.Sorted(maps.Keys(l.Steps)))
	case "routine":
		if run, ok := l.Routines[name]; ok {
			return l.lead(func(ctx context.Context) int { return l.do(ctx, run, l.environ(nil), args[2:]) })
		}
		return l.unknown("routine", name, slices.Sorted(maps.Keys(l.Routines)))
	case "--":
		args = args[1:]
	}
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "trammel:", usage)
		return 2
	}
	return l.lead(func(ctx context.Context) int { return l.do(ctx, declare.Run{Argv: args}, l.environ(nil), nil) })
}

func at(list []string, i int) string {
	if i < len(list) {
		return list[i]
	}
	return ""
}

func (l *launcher) unknown(kind, name string, known []string) int {
	fmt.Fprintf(os.Stderr, "trammel: this image has no %s %q. It has: %s\n", kind, name, strings.Join(known, ", "))
	return 2
}

// lead does what the first process of a container does besides: it waits for every child,
// also those that others left behind.
func (l *launcher) lead(body func(context.Context) int) int {
	l.early = map[int]syscall.WaitStatus{}
	_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGCHLD)
	go func() {
		for range ended {
			l.reap()
		}
	}()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	code := body(ctx)
	l.sweep()
	return code
}

// reap takes the status of every child that has ended.
func (l *launcher) reap() {
	for {
		var st syscall.WaitStatus
		l.mu.Lock()
		pid, err := syscall.Wait4(-1, &st, syscall.WNOHANG, nil)
		if err == syscall.EINTR {
			l.mu.Unlock()
			continue
		}
		if err != nil || pid <= 0 {
			l.mu.Unlock()
			return
		}
		if c := l.waiting[pid]; c != nil {
			delete(l.waiting, pid)
			c <- st
		} else {
			l.early[pid] = st
		}
		l.mu.Unlock()
	}
}

// sweep ends what was left behind: the container ends with its first process all the same.
func (l *launcher) sweep() {
	if os.Getpid() != 1 {
		return
	}
	_ = syscall.Kill(-1, syscall.SIGTERM)
	for range 20 {
		if _, err := syscall.Wait4(-1, nil, syscall.WNOHANG, nil); err == syscall.ECHILD {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// child is one in a group of its own.
type child struct {
	pid  int
	ends chan syscall.WaitStatus
}

// start starts a command; out and err are where it prints.
func (l *launcher) start(c script.Command, env []string, out, errs *os.File) (*child, error) {
	path := c.Path
	if path == "" {
		var err error
		if path, err = process.LookPath(c.Argv[0], env, l.Dir); err != nil {
			return nil, err
		}
	}
	p := &child{ends: make(chan syscall.WaitStatus, 1)}
	l.mu.Lock()
	defer l.mu.Unlock()
	attributes := &syscall.SysProcAttr{Setpgid: true}
	if _, err := unix.IoctlGetInt(0, unix.TIOCGPGRP); err == nil { // a terminal: it goes to the command
		attributes = &syscall.SysProcAttr{Setpgid: true, Foreground: true, Ctty: 0}
	}
	pid, err := syscall.ForkExec(path, c.Argv, &syscall.ProcAttr{Dir: l.Dir, Env: env, Files: []uintptr{0, out.Fd(), errs.Fd()}, Sys: attributes})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Argv[0], err)
	}
	p.pid = pid
	if st, ended := l.early[pid]; ended {
		delete(l.early, pid)
		p.ends <- st
	} else {
		l.waiting[pid] = p.ends
	}
	return p, nil
}

func codeOf(st syscall.WaitStatus) int {
	if st.Signaled() {
		return 128 + int(st.Signal())
	}
	return st.ExitStatus()
}

// run starts a command and waits for its end. Signals that come are the command's; one that
// asks to end becomes stop, and after within the command is ended.
func (l *launcher) run(p *child, stop syscall.Signal, within time.Duration) int {
	signals := make(chan os.Signal, 16)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGWINCH)
	defer signal.Stop(signals)
	var over <-chan time.Time
	for {
		select {
		case st := <-p.ends:
			return codeOf(st)
		case s := <-signals:
			number := s.(syscall.Signal)
			if stop != 0 && (number == syscall.SIGTERM || number == syscall.SIGINT) {
				if over == nil {
					over = time.After(within)
				}
				number = stop
			}
			_ = syscall.Kill(-p.pid, number)
		case <-over:
			_ = syscall.Kill(-p.pid, syscall.SIGKILL)
		}
	}
}

// do runs a run to its end.
func (l *launcher) do(_ context.Context, run declare.Run, env []string, args []string) int {
	c, err := script.CommandOf(run, env, args...)
	if err == nil {
		var p *child
		if p, err = l.start(c, env, os.Stdout, os.Stderr); err == nil {
			return l.run(p, 0, 0)
		}
	}
	fmt.Fprintln(os.Stderr, "trammel:", err)
	var none *process.NotFound
	if errors.As(err, &none) {
		return 127
	}
	return 126
}

// environ is the environment of a process: the container's own, what is locked, and what a
// service has besides.
func (l *launcher) environ(more []Variable) []string {
	given := map[string]string{}
	for _, line := range l.host {
		name, value, _ := strings.Cut(line, "=")
		given[name] = value
	}
	all := map[string]string{}
	for name, value := range given {
		if !strings.HasPrefix(name, "TRAMMEL_") {
			all[name] = value
		}
	}
	all["HOME"], all["SHELL"], all["PWD"] = Home, "/bin/sh", l.Dir
	if all["LANG"] == "" {
		all["LANG"] = "C.UTF-8"
	}
	for _, v := range slices.Concat(l.Variables, more) {
		value, ok := given[v.Name]
		switch {
		case ok && v.Given:
			all[v.Name] = value
		case v.Needs:
			delete(all, v.Name)
		default:
			all[v.Name] = v.Value
		}
	}
	all["PATH"] = strings.Join(l.Path, ":")
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, name+"="+all[name])
	}
	return out
}

// lacks says which variables a container would have to be given, and was not.
func (l *launcher) lacks(more []Variable) {
	for _, v := range slices.Concat(l.Variables, more) {
		if v.Needs && !slices.ContainsFunc(l.host, func(line string) bool { return strings.HasPrefix(line, v.Name+"=") }) {
			l.say("%s is not set: there is a secret in it, which no image holds; the container can be given its value", v.Name)
		}
	}
}

func (l *launcher) say(format string, args ...any) {
	fmt.Fprintf(os.Stderr, "trammel: "+format+"\n", args...)
}

// before does what comes before a service or a step: it waits for what it needs, and does the
// steps of the project's folder.
func (l *launcher) before(ctx context.Context, steps, waits []string) int {
	if os.Getenv("TRAMMEL_WAIT") != "" {
		for _, address := range waits {
			if !l.answers(ctx, address) {
				return 143
			}
		}
	}
	for _, name := range steps {
		mark := filepath.Join(l.Dir, ".trammel", "done", name)
		if _, err := os.Stat(mark); err == nil {
			continue
		}
		l.say("step %s", name)
		if code := l.do(ctx, script.Strictly(l.Steps[name].Run), l.environ(nil), nil); code != 0 {
			l.say("step %s ended with code %d", name, code)
			return code
		}
		if err := os.MkdirAll(filepath.Dir(mark), 0o755); err == nil {
			_ = os.WriteFile(mark, nil, 0o644)
		}
	}
	return 0
}

// answers waits until something listens at an address.
func (l *launcher) answers(ctx context.Context, address string) bool {
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, syscall.SIGINT)
	defer signal.Stop(stop)
	for said := false; ; {
		c, err := (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "tcp", address)
		if err == nil {
			c.Close()
			return true
		}
		if !said {
			l.say("waits for %s", address)
			said = true
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-stop:
			return false
		case <-ctx.Done():
			return false
		}
	}
}

func (l *launcher) step(ctx context.Context, name string, s Step) int {
	l.lacks(nil)
	if code := l.before(ctx, s.Steps, s.Waits); code != 0 {
		return code
	}
	return l.do(ctx, script.Strictly(s.Run), l.environ(nil), nil)
}

func (l *launcher) service(ctx context.Context, name string, s Service) int {
	l.lacks(s.Variables)
	if code := l.before(ctx, s.Steps, s.Waits); code != 0 {
		return code
	}
	env := l.environ(s.Variables)
	if s.Commands != "" {
		for i, line := range env {
			if path, ok := strings.CutPrefix(line, "PATH="); ok {
				env[i] = "PATH=" + s.Commands + ":" + path
			}
		}
	}
	if code := l.data(ctx, name, s, env); code != 0 {
		return code
	}
	for _, file := range s.Stale {
		_ = os.Remove(filepath.Join(Bay, file))
	}
	own, stop := signalOf(s.Signal), func() {}
	out, errs := os.Stdout, os.Stderr
	if err := os.MkdirAll(Ready, 0o755); err == nil {
		_ = os.Remove(filepath.Join(Ready, name))
		if s.Ready.Log != "" {
			if out, errs, stop, err = l.listen(name, s.Ready.Log); err != nil {
				l.say("%v", err)
				return 126
			}
		}
		if s.Ready.Notify {
			if socket, err := notify(name); err == nil {
				env = append(env, "NOTIFY_SOCKET="+socket)
			}
		}
	}
	c, err := script.CommandOf(s.Run, env)
	var p *child
	if err == nil {
		p, err = l.start(c, env, out, errs)
	}
	if err != nil {
		l.say("%v", err)
		return 126
	}
	go l.pass(ctx, s.Ports)
	if s.Settle != "" {
		go l.settle(ctx, name, s, env)
	}
	code := l.run(p, own, s.Within)
	stop()
	return code
}

func signalOf(name string) syscall.Signal {
	if n := unix.SignalNum("SIG" + name); n != 0 {
		return n
	}
	return syscall.SIGTERM
}

// data makes the data of a service that has none yet. What is half-made, because that was
// killed, is made anew.
func (l *launcher) data(ctx context.Context, name string, s Service, env []string) int {
	if s.Data == "" {
		_ = os.MkdirAll(DataFolder, 0o755)
		return 0
	}
	made := filepath.Join(filepath.Dir(s.Data), "."+filepath.Base(s.Data)+".made")
	if _, err := os.Stat(made); err == nil {
		return 0
	}
	begun := made + ".begun"
	if _, err := os.Stat(begun); err == nil {
		_ = os.RemoveAll(s.Data)
	}
	err := os.MkdirAll(filepath.Dir(s.Data), 0o755)
	if err == nil {
		err = os.WriteFile(begun, nil, 0o600)
	}
	if err == nil {
		if err = os.Mkdir(s.Data, 0o700); errors.Is(err, os.ErrExist) {
			err = nil
		}
	}
	if err != nil {
		l.say("the data of %s cannot be kept: %v", name, err)
		return 1
	}
	for _, file := range s.MadeUp { // where nobody gave the container one
		if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
			err := os.MkdirAll(filepath.Dir(file), 0o700)
			if err == nil {
				err = os.WriteFile(file, []byte(rand.Text()), 0o600)
			}
			if err != nil {
				l.say("%v", err)
				return 1
			}
		}
	}
	if s.Once != "" {
		l.say("makes the data of %s", name)
		if code := l.do(ctx, declare.Run{Script: s.Once}, env, nil); code != 0 {
			l.say("the data of %s cannot be made: code %d", name, code)
			return code
		}
	}
	if err := os.WriteFile(made, nil, 0o600); err != nil {
		l.say("%v", err)
		return 1
	}
	_ = os.Remove(begun)
	return 0
}

// settle has a service take on settings as soon as it answers.
func (l *launcher) settle(ctx context.Context, name string, s Service, env []string) {
	for range 600 {
		if l.ready(name, s) == 0 {
			if c, err := script.CommandOf(declare.Run{Script: s.Settle}, env); err == nil {
				if p, err := l.start(c, env, os.Stdout, os.Stderr); err == nil {
					if st := <-p.ends; codeOf(st) != 0 {
						l.say("the settings of %s were not taken on: code %d", name, codeOf(st))
					}
				}
			}
			return
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// listen has the streams of a service looked through for the line that says that it is ready.
func (l *launcher) listen(name, expression string) (out, errs *os.File, stop func(), err error) {
	wanted, err := regexp.Compile(expression)
	if err != nil {
		return nil, nil, nil, err
	}
	var wait sync.WaitGroup
	through := func(to io.Writer) (*os.File, error) {
		r, w, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		wait.Go(func() {
			defer r.Close()
			lines := bufio.NewReaderSize(r, 64<<10)
			for {
				line, err := lines.ReadString('\n')
				_, _ = io.WriteString(to, line)
				if wanted.MatchString(strings.TrimRight(line, "\r\n")) {
					_ = os.WriteFile(filepath.Join(Ready, name), nil, 0o644)
				}
				if err != nil {
					return
				}
			}
		})
		return w, nil
	}
	if out, err = through(os.Stdout); err == nil {
		errs, err = through(os.Stderr)
	}
	return out, errs, func() { out.Close(); errs.Close(); wait.Wait() }, err
}

// notify listens for what a service says of itself (sd_notify(3)).
func notify(name string) (socket string, err error) {
	socket = filepath.Join(Ready, name+".socket")
	_ = os.Remove(socket)
	c, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		return "", err
	}
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := c.Read(b)
			if err != nil {
				return
			}
			if slices.Contains(strings.Split(string(b[:n]), "\n"), "READY=1") {
				_ = os.WriteFile(filepath.Join(Ready, name), nil, 0o644)
			}
		}
	}()
	return socket, nil
}

// ready probes a service, as seen from its own container.
func (l *launcher) ready(name string, s Service) int {
	p := s.Ready
	fail := func(why any) int { fmt.Fprintln(os.Stderr, why); return 1 }
	dial := func(port int) error {
		c, err := net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(port), 2*time.Second)
		if err == nil {
			c.Close()
		}
		return err
	}
	switch {
	case p.Log != "" || p.Notify:
		if _, err := os.Stat(filepath.Join(Ready, name)); err != nil {
			return fail("it has not said so yet")
		}
	case p.File != "":
		if _, err := os.Stat(p.File); err != nil {
			return fail(err)
		}
	case p.HTTP != "":
		client := http.Client{Timeout: 5 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		r, err := client.Get(fmt.Sprintf("http://127.0.0.1:%d%s", p.Port, p.HTTP))
		if err != nil {
			return fail(err)
		}
		r.Body.Close()
		if p.Status != 0 && r.StatusCode != p.Status || p.Status == 0 && (r.StatusCode < 200 || r.StatusCode >= 400) {
			return fail(r.Status)
		}
	case !p.Command.Empty():
		env := l.environ(s.Variables)
		c, err := script.CommandOf(p.Command, env)
		if err != nil {
			return fail(err)
		}
		asked, err := l.start(c, env, os.Stdout, os.Stderr)
		if err != nil {
			return fail(err)
		}
		if code := codeOf(<-asked.ends); code != 0 {
			return fail(fmt.Sprintf("its probe ended with code %d", code))
		}
	case p.TCP != 0:
		if err := dial(p.TCP); err != nil {
			return fail(err)
		}
	default:
		for _, port := range s.Ports {
			if err := dial(port); err != nil {
				return fail(err)
			}
		}
	}
	return 0
}
