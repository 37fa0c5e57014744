package within

import (
	"os"
	"runtime"
	"strconv"
	"syscall"
	"unsafe"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/unix"
)

const (
	sigDfl = 0
	sigIgn = 1
)

// setAction sets what becomes of a signal by rt_sigaction(2), past the runtime.
func setAction(s syscall.Signal, handler uintptr) {
	action := struct{ handler, flags, restorer, mask uintptr }{handler: handler}
	_, _, _ = syscall.RawSyscall6(syscall.SYS_RT_SIGACTION, uintptr(s), uintptr(unsafe.Pointer(&action)), 0, 8, 0, 0)
}

// ignoreSignals leaves the signals that end a program to what the kernel does: an init has none
// delivered that it does not handle (pid_namespaces(7)), and its command starts with the default.
func ignoreSignals() {
	for _, s := range []syscall.Signal{unix.SIGTERM, unix.SIGINT, unix.SIGHUP, unix.SIGQUIT, unix.SIGUSR1, unix.SIGUSR2, unix.SIGCONT} {
		setAction(s, sigDfl)
	}
}

// prepare makes an init what it is told to be, before it starts its command.
func prepare(told Spec) (what string, err error) {
	if told.Mount {
		if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
			return "mount /", err
		}
		if err := unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
			return "mount /proc", err
		}
	}
	if told.Adopt {
		if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
			return "adopt", err
		}
	}
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	return "", nil
}

// Init is the life of a tree's init. It does not return. forward hands on the signals that come
// to this process itself where there is no namespace, in which nobody sends any.
func Init(forward func(group int)) {
	runtime.LockOSThread()
	for _, fd := range []int{InitControl, InitReport, InitSpec} {
		unix.CloseOnExec(fd)
	}
	report := os.NewFile(InitReport, "report")
	fail := func(what string, err error) {
		_, _ = report.WriteString("error " + what + ": " + err.Error() + "\n")
		os.Exit(127)
	}
	told, err := specFrom(os.NewFile(InitSpec, "spec"))
	if err != nil {
		fail("spec", err)
	}
	if what, err := prepare(told); err != nil {
		fail(what, err)
	}
	if told.Mount {
		ignoreSignals()
	}
	// As package os would start it, but for that it would first try out, with another process, whether
	// this kernel has descriptors of processes.
	child, err := syscall.ForkExec(told.Path, told.Argv, &syscall.ProcAttr{Env: os.Environ(), Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{Setsid: true}})
	if err != nil {
		fail("start", &os.PathError{Op: "fork/exec", Path: told.Path, Err: err})
	}
	_, _ = report.WriteString("ok\n")
	go func() {
		control, one := os.NewFile(InitControl, "control"), make([]byte, 1)
		for {
			n, err := control.Read(one)
			switch {
			case n == 1 && one[0] != KillAll:
				_ = unix.Kill(-child, syscall.Signal(one[0]))
			case n == 1:
				endAll(told.Adopt)
			case err != nil:
				endAll(told.Adopt)
				os.Exit(99) // the starter is gone, and with this init goes the namespace
			}
		}
	}()
	if forward != nil {
		forward(child)
	}
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, 0, nil)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			os.Exit(0)
		}
		if pid == child {
			code, signalled := status.ExitStatus(), 0
			if status.Signaled() {
				code, signalled = 0, int(status.Signal())
			}
			_, _ = report.WriteString("exit " + strconv.Itoa(code) + " " + strconv.Itoa(signalled) + " " + strconv.Quote(left()) + "\n")
			endAll(told.Adopt)
			os.Exit(0)
		}
	}
}

// left is the name of a process that is still there when the command has ended.
func left() string {
	for _, pid := range Children(os.Getpid()) {
		b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/comm")
		if _, alive := Started(pid); alive && err == nil {
			return plain.TrimSpace(string(b))
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
		alive := false
		for _, pid := range Children(os.Getpid()) {
			if _, ok := Started(pid); ok {
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
