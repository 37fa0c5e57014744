package process

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/kernel/unix"
	"app.example/trammel/internal/core/kernel/within"
)

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
		t, err := startInit(spec, within.Spec{Path: path, Argv: spec.Argv, Mount: true}, attributes)
		if err == nil || !refused(err) {
			return t, err
		}
	}
	return startWeak(spec, path)
}

// startWeak starts a tree where the kernel gives no namespace.
func startWeak(spec Spec, path string) (*Tree, error) {
	return startInit(spec, within.Spec{Path: path, Argv: spec.Argv, Adopt: true}, groupAttributes())
}

// errNoNamespace is an init that was started and could not make its mounts.
var errNoNamespace = errors.New("the namespace cannot be set up")

// refused tells whether an error means that the kernel gives no namespaces here.
func refused(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EINVAL) ||
		errors.Is(err, unix.EUSERS) || errors.Is(err, errNoNamespace)
}

// initPipes are the ways between a tree's init and this process: control, report and spec, each
// with its reading end and its writing end.
type initPipes [3][2]*os.File

func openPipes() (*initPipes, error) {
	p := &initPipes{}
	for i := range p {
		r, w, err := os.Pipe()
		if err != nil {
			p.close()
			return nil, err
		}
		p[i] = [2]*os.File{r, w}
	}
	return p, nil
}

func (p *initPipes) close() {
	for _, ends := range p {
		for _, f := range ends {
			if f != nil {
				f.Close()
			}
		}
	}
}

// unmade is why an init could not start its program, as it reported it.
func unmade(report string) error {
	text := strings.TrimSpace(strings.TrimPrefix(report, "error "))
	if strings.HasPrefix(text, "mount") || text == "" {
		return fmt.Errorf("%w: %s", errNoNamespace, text)
	}
	return errors.New(text)
}

// startInit starts an init, which starts the program.
func startInit(spec Spec, do within.Spec, attributes *syscall.SysProcAttr) (*Tree, error) {
	pipes, err := openPipes()
	if err != nil {
		return nil, err
	}
	name := within.InitName
	if !do.Mount {
		name = within.AdoptName
	}
	cmd := &exec.Cmd{
		Path: "/proc/self/exe", Args: []string{name}, Env: spec.Env, Dir: spec.Dir,
		Stdout: spec.Stdout, Stderr: spec.Stderr, SysProcAttr: attributes,
		ExtraFiles: []*os.File{pipes[0][0], pipes[1][1], pipes[2][0]},
	}
	if spec.Stdin != nil {
		cmd.Stdin = spec.Stdin
	}
	if spec.On(func() { err = cmd.Start() }); err != nil {
		pipes.close()
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
			_, _ = pipes[2][1].Write(do.Pack())
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
		return nil, cmp.Or(born, unmade(first))
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

// Init is the life of a tree's init, where this process was started as one: main calls it. It
// does not return then.
func Init() {
	switch os.Args[0] {
	case within.InitName:
		within.Init(nil)
	case within.AdoptName:
	default:
		return
	}
	within.Init(func(group int) {
		signals := make(chan os.Signal, 16)
		signal.Notify(signals, unix.SIGTERM, unix.SIGINT, unix.SIGHUP, unix.SIGQUIT)
		go func() {
			for s := range signals {
				_ = unix.Kill(-group, s.(syscall.Signal))
			}
		}()
	})
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

// DieWithThread has a command that is not started yet be killed when the thread that starts
// it ends, and so with this process, however that ends (prctl(2), PR_SET_PDEATHSIG).
func DieWithThread(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
}
