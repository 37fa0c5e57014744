package proctree

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// InitName is the argv[0] under which this program is a tree's init.
const InitName = "trammel-init"

// The init's own descriptors.
const (
	controlFD = 3 // signals come in; its end means: the starter is gone
	reportFD  = 4 // "ok", "error TEXT", "exit CODE SIGNAL" go out
	specFD    = 5 // what to run, as JSON
)

// initSpec is what the init is told. Env and Dir are the init's own.
type initSpec struct {
	Path  string   `json:"path"`
	Argv  []string `json:"argv"`
	Mount bool     `json:"mount"` // give the namespace its own /proc
	Adopt bool     `json:"adopt"` // there is no namespace: take in and end what the command leaves
}

func groupAttributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
}

// startTree tries, in this order: namespaces of root, namespaces of an ordinary
// user, an init without a namespace.
func startTree(spec Spec, path string) (*Tree, error) {
	const common = syscall.CLONE_NEWPID | syscall.CLONE_NEWNS
	var attempts []*syscall.SysProcAttr
	if os.Geteuid() == 0 {
		// Without a user namespace, so that steps may still change owners.
		attempts = append(attempts, &syscall.SysProcAttr{Cloneflags: common})
	}
	attempts = append(attempts, &syscall.SysProcAttr{
		Cloneflags:  common | syscall.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: os.Getuid(), HostID: os.Getuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}},
		AmbientCaps: []uintptr{unix.CAP_SYS_ADMIN}, // until the mounts are made
	})
	for _, attributes := range attempts {
		attributes.Pdeathsig = syscall.SIGKILL
		t, err := startInit(spec, initSpec{Path: path, Argv: spec.Argv, Mount: true}, attributes)
		if err == nil || !refused(err) {
			return t, err
		}
	}
	return startWeak(spec, path)
}

// startWeak starts a tree where the kernel gives no namespace.
func startWeak(spec Spec, path string) (*Tree, error) {
	return startInit(spec, initSpec{Path: path, Argv: spec.Argv, Adopt: true}, groupAttributes())
}

// errNoNamespace is an init that was started and could not make its mounts.
var errNoNamespace = errors.New("the namespace cannot be set up")

// refused tells whether an error means that the kernel gives no namespaces here.
func refused(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EINVAL) ||
		errors.Is(err, unix.EUSERS) || errors.Is(err, errNoNamespace)
}

func startInit(spec Spec, do initSpec, attributes *syscall.SysProcAttr) (*Tree, error) {
	told, err := json.Marshal(do)
	if err != nil {
		return nil, err
	}
	var pipes [3][2]*os.File // control, report, spec: reading end, writing end
	closeAll := func() {
		for _, p := range pipes {
			for _, f := range p {
				if f != nil {
					f.Close()
				}
			}
		}
	}
	for i := range pipes {
		r, w, err := os.Pipe()
		if err != nil {
			closeAll()
			return nil, err
		}
		pipes[i] = [2]*os.File{r, w}
	}
	cmd := &exec.Cmd{
		Path: "/proc/self/exe", Args: []string{InitName}, Env: spec.Env, Dir: spec.Dir,
		Stdout: spec.Stdout, Stderr: spec.Stderr, SysProcAttr: attributes,
		ExtraFiles: []*os.File{pipes[0][0], pipes[1][1], pipes[2][0]},
	}
	if spec.Stdin != nil {
		cmd.Stdin = spec.Stdin
	}
	if spec.On(func() { err = cmd.Start() }); err != nil {
		closeAll()
		return nil, err
	}
	pipes[0][0].Close()
	pipes[1][1].Close()
	pipes[2][0].Close()
	var born error
	if spec.Born != nil {
		born = spec.Born(cmd.Process.Pid)
	}
	go func() { // may be larger than a pipe
		if born == nil {
			_, _ = pipes[2][1].Write(told)
		}
		pipes[2][1].Close()
	}()
	report := bufio.NewReader(pipes[1][0])
	first, _ := report.ReadString('\n')
	if first != "ok\n" {
		cmd.Process.Kill()
		cmd.Wait()
		pipes[0][1].Close()
		pipes[1][0].Close()
		if born != nil {
			return nil, born
		}
		text := strings.TrimSpace(strings.TrimPrefix(first, "error "))
		if strings.HasPrefix(text, "mount") || text == "" {
			return nil, fmt.Errorf("%w: %s", errNoNamespace, text)
		}
		return nil, errors.New(text)
	}
	t := &Tree{Pid: cmd.Process.Pid, Weak: do.Adopt, control: pipes[0][1], done: make(chan struct{})}
	go func() {
		last := readAll(report)
		err := cmd.Wait() // returns when the kernel has ended the whole namespace
		t.mu.Lock()
		defer t.mu.Unlock()
		exit, ok := parseExit(strings.TrimSpace(last))
		if !ok { // the init itself was killed
			exit = exitOf(cmd.ProcessState, err)
		}
		t.exit = exit
		pipes[0][1].Close()
		pipes[1][0].Close()
		close(t.done)
	}()
	return t, nil
}

// Init is the life of a tree's init. main calls it when argv[0] is InitName; it
// does not return.
func Init() {
	runtime.LockOSThread()
	for _, fd := range []int{controlFD, reportFD, specFD} {
		unix.CloseOnExec(fd)
	}
	control, report, spec := os.NewFile(controlFD, "control"), os.NewFile(reportFD, "report"), os.NewFile(specFD, "spec")
	fail := func(what string, err error) {
		fmt.Fprintf(report, "error %s: %v\n", what, err)
		os.Exit(127)
	}
	var told initSpec
	if err := json.NewDecoder(spec).Decode(&told); err != nil {
		fail("spec", err)
	}
	spec.Close()
	if told.Mount {
		if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
			fail("mount /", err)
		}
		if err := unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
			fail("mount /proc", err)
		}
	}
	if told.Adopt {
		if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
			fail("adopt", err)
		}
	}
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	signals := make(chan os.Signal, 16)
	signal.Notify(signals, unix.SIGTERM, unix.SIGINT, unix.SIGHUP, unix.SIGQUIT)
	cmd := &exec.Cmd{Path: told.Path, Args: told.Argv, Env: os.Environ(), Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		fail("start", err)
	}
	fmt.Fprintln(report, "ok")
	main := cmd.Process.Pid
	go func() {
		one := make([]byte, 1)
		for {
			n, err := control.Read(one)
			switch {
			case n == 1 && one[0] != killAll:
				_ = unix.Kill(-main, syscall.Signal(one[0]))
			case n == 1:
				endAll(told.Adopt)
			case err != nil:
				endAll(told.Adopt)
				os.Exit(99) // the starter is gone, and with this init goes the namespace
			}
		}
	}()
	go func() {
		for s := range signals {
			_ = unix.Kill(-main, s.(syscall.Signal))
		}
	}()
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, 0, nil)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			os.Exit(0)
		}
		if pid == main {
			code, signalled := status.ExitStatus(), 0
			if status.Signaled() {
				code, signalled = 0, int(status.Signal())
			}
			fmt.Fprintf(report, "exit %d %d %q\n", code, signalled, left())
			endAll(told.Adopt)
			os.Exit(0)
		}
	}
}

// left is the name of a process that is still there when the command has ended.
func left() string {
	for _, pid := range Children(os.Getpid()) {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if _, alive := started(pid); alive && err == nil {
			return strings.TrimSpace(string(b))
		}
	}
	return ""
}

// endAll ends everything that descends from this init, where no namespace does it. What a
// process that is ended leaves comes to this init and is ended in turn.
func endAll(adopted bool) {
	if !adopted {
		return
	}
	for {
		all := Children(os.Getpid())
		alive := false
		for _, pid := range all {
			if _, ok := started(pid); ok {
				alive = true
				_ = unix.Kill(pid, unix.SIGKILL)
			}
		}
		if !alive {
			return
		}
		_, _ = unix.Wait4(-1, nil, unix.WNOHANG, nil)
	}
}

// programBelow follows the processes that are this program itself to what they run: the
// init, what enters a root, the interpreter of a script while it runs one command. A copy of
// this program that was kept for later counts too, which its size tells.
func programBelow(pid int) int {
	self, err := os.Stat("/proc/self/exe")
	if err != nil {
		return pid
	}
	for inits := true; ; inits = false {
		exe, err := os.Stat(fmt.Sprintf("/proc/%d/exe", pid))
		if err != nil || !os.SameFile(self, exe) && self.Size() != exe.Size() {
			return pid
		}
		// What the init adopted comes behind its own child.
		below := Children(pid)
		if len(below) == 0 || len(below) > 1 && !inits {
			return pid
		}
		pid = below[0]
	}
}
