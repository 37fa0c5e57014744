package within

import (
	"errors"
	"fmt"
	"os"
	"path"
	"runtime"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/kernel/unix"
)

// Enter sets the view up that it is ordered and becomes the command, or in a closed view its
// init. It does not return.
func Enter() {
	runtime.LockOSThread()
	if len(os.Args) == 1 {
		os.Exit(0) // it could be started: nobody asks for more
	}
	unix.CloseOnExec(ViewReport)
	unix.CloseOnExec(ViewSignal)
	report, orders := os.NewFile(ViewReport, "report"), os.NewFile(ViewOrders, "orders")
	fail := func(err error) {
		fmt.Fprintln(report, strings.ReplaceAll(err.Error(), "\n", " "))
		os.Exit(126)
	}
	_ = os.WriteFile("/proc/self/comm", []byte("trammel"), 0) // what ps shows
	o, err := orderFrom(orders)
	if err != nil {
		fail(err)
	}
	if err := setUp(o.View, o.Making); err != nil {
		fail(err)
	}
	if err := os.Chdir(o.Dir); err != nil {
		if err := os.Chdir(o.View.Work); err != nil {
			fail(fmt.Errorf("the folder %s does not show in the sealed root", o.View.Work))
		}
	}
	argv, file := os.Args[1:], o.Path
	if file == "" {
		var err error
		if file, err = lookUp(argv[0]); err != nil {
			fail(err)
		}
	}
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		fail(err)
	}
	if o.View.Closed {
		if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
			fail(err)
		}
		initOfView(report, o.Terminal, file, argv, fail)
	}
	err = unix.Exec(file, argv, os.Environ())
	fail(notStarted(argv[0], file, err))
}

// notStarted says why a command that is there was not started: of a script it is mostly what
// interprets it (execve(2), "Interpreter scripts").
func notStarted(command, file string, err error) error {
	if errors.Is(err, unix.ENOENT) {
		if f, openErr := os.Open(file); openErr == nil {
			defer f.Close()
			line := make([]byte, 256)
			n, _ := f.Read(line)
			first, _, _ := strings.Cut(string(line[:n]), "\n")
			if words := strings.Fields(strings.TrimPrefix(first, "#!")); strings.HasPrefix(first, "#!") && len(words) > 0 {
				return fmt.Errorf("%s cannot be started: it is a script for %s, which is not in this root", command, words[0])
			}
		}
	}
	return fmt.Errorf("%s cannot be started: %w", command, err)
}

// lookUp finds a command in the PATH, inside.
func lookUp(command string) (string, error) {
	if strings.Contains(command, "/") {
		if _, err := os.Stat(command); err != nil {
			return "", fmt.Errorf("there is no command %q in this root", command)
		}
		return command, nil
	}
	for _, dir := range strings.Split(os.Getenv("PATH"), ":") {
		full := path.Join(dir, command)
		if info, err := os.Stat(full); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			return full, nil
		}
	}
	return "", fmt.Errorf("there is no command %q in this root", command)
}

// initOfView runs the command as the init of a closed view: it reaps what is left
// without a parent, hands signals on and ends with the command, and with it ends
// the whole namespace (pid_namespaces(7)).
func initOfView(report *os.File, terminal bool, file string, argv []string, fail func(error)) {
	ignoreSignals()
	signals := os.NewFile(ViewSignal, "signals")
	attributes := &syscall.SysProcAttr{Setsid: true}
	var tty *os.File
	if terminal {
		tty, _ = os.OpenFile("/dev/tty", os.O_RDWR, 0)
	}
	if tty != nil {
		// A group of its own in the foreground: what is typed reaches the command alone.
		attributes = &syscall.SysProcAttr{Setpgid: true, Foreground: true, Ctty: int(tty.Fd())}
	}
	child, err := os.StartProcess(file, argv, &os.ProcAttr{Env: os.Environ(), Files: []*os.File{os.Stdin, os.Stdout, os.Stderr}, Sys: attributes})
	if err != nil {
		fail(notStarted(argv[0], file, reason(err)))
	}
	fmt.Fprintln(report, "ok")
	go func() {
		one := make([]byte, 1)
		for {
			if n, err := signals.Read(one); n != 1 || err != nil {
				return
			}
			if s := syscall.Signal(one[0]); s == unix.SIGCONT && tty != nil {
				foreground(tty, child.Pid)
			}
			_ = unix.Kill(-child.Pid, syscall.Signal(one[0]))
		}
	}()
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, unix.WUNTRACED, nil)
		switch {
		case err == unix.EINTR || pid != child.Pid:
			if err != nil && err != unix.EINTR {
				os.Exit(126)
			}
		case status.Stopped():
			fmt.Fprintln(report, "stopped")
		case status.Signaled():
			os.Exit(128 + int(status.Signal()))
		default:
			os.Exit(status.ExitStatus())
		}
	}
}

// foreground gives a terminal to a group, from out of the background.
func foreground(tty *os.File, group int) {
	setAction(syscall.SIGTTOU, sigIgn)
	_ = unix.IoctlSetPointerInt(int(tty.Fd()), unix.TIOCSPGRP, group)
	setAction(syscall.SIGTTOU, sigDfl)
}
