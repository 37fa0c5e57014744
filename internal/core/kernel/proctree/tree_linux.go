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
}

func groupAttributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
}

// startTree tries, in this order: namespaces of root, namespaces of an ordinary
// user, a process group.
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
		t, err := startInit(spec, path, attributes)
		if err == nil || !refused(err) {
			return t, err
		}
	}
	return startGroup(spec, path)
}

// errNoNamespace is an init that was started and could not make its mounts.
var errNoNamespace = errors.New("the namespace cannot be set up")

// refused tells whether an error means that the kernel gives no namespaces here.
func refused(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EINVAL) ||
		errors.Is(err, unix.EUSERS) || errors.Is(err, errNoNamespace)
}

func startInit(spec Spec, path string, attributes *syscall.SysProcAttr) (*Tree, error) {
	told, err := json.Marshal(initSpec{Path: path, Argv: spec.Argv, Mount: true})
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
	go func() { // may be larger than a pipe
		_, _ = pipes[2][1].Write(told)
		pipes[2][1].Close()
	}()
	report := bufio.NewReader(pipes[1][0])
	first, _ := report.ReadString('\n')
	if first != "ok\n" {
		cmd.Process.Kill()
		cmd.Wait()
		pipes[0][1].Close()
		pipes[1][0].Close()
		text := strings.TrimSpace(strings.TrimPrefix(first, "error "))
		if strings.HasPrefix(text, "mount") || text == "" {
			return nil, fmt.Errorf("%w: %s", errNoNamespace, text)
		}
		return nil, errors.New(text)
	}
	t := &Tree{Pid: cmd.Process.Pid, control: pipes[0][1], done: make(chan struct{})}
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
			if n, err := control.Read(one); n == 1 {
				_ = unix.Kill(-main, syscall.Signal(one[0]))
			} else if err != nil {
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
			fmt.Fprintf(report, "exit %d %d\n", code, signalled)
			os.Exit(0)
		}
	}
}
