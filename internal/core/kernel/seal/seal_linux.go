package seal

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Command is the command line that does in a view, started by anybody, what path
// and argv would do outside. A path "" looks argv[0] up in the PATH, inside.
func Command(v View, dir, path string, argv []string) (file string, args []string, err error) {
	told, err := json.Marshal(order{View: v, Dir: dir, Path: path})
	if err != nil {
		return "", nil, err
	}
	file, err = os.Executable()
	return file, append([]string{Name, string(told)}, argv...), err
}

// Main is the life of a process that enters a view and runs a command in it. main
// calls it when argv[0] is Name or the name of the process inside; it does not
// return.
func Main() {
	if os.Args[0] == insideName {
		inside()
	}
	var o order
	if len(os.Args) < 3 || json.Unmarshal([]byte(os.Args[1]), &o) != nil {
		fmt.Fprintln(os.Stderr, "trammel: it is started by trammel itself")
		os.Exit(126)
	}
	code, err := run(o, os.Args[2:], os.Environ())
	if err != nil {
		fmt.Fprintf(os.Stderr, "trammel: %v\n", err)
	}
	os.Exit(code)
}

// Inside tells whether argv[0] is that of a process of this package.
func Inside() bool { return os.Args[0] == Name || os.Args[0] == insideName }

// Run runs a command in a view, on this process's terminal and files, and returns
// its exit code, or 128 and the signal's number. An error means that the command
// was not started.
func Run(v View, dir, path string, argv, env []string) (code int, err error) {
	return run(order{View: v, Dir: dir, Path: path}, argv, env)
}

// Make runs a command in a root that is being made, where it may write, with
// nothing of the host.
func Make(ctx context.Context, root string, argv []string) error {
	o := order{View: View{Root: root, Closed: true, Work: "/"}, Dir: "/", Making: true}
	cmd, report, err := clone(o, argv, []string{"PATH=/usr/sbin:/usr/bin", "LC_ALL=C.UTF-8", "HOME=/"})
	if err != nil {
		return err
	}
	var said strings.Builder
	cmd.Stdin, cmd.Stdout, cmd.Stderr = nil, &said, &said
	if err := start(cmd); err != nil {
		report.Close()
		return err
	}
	defer context.AfterFunc(ctx, func() { _ = cmd.Process.Kill() })()
	if err := started(bufio.NewReader(report)); err != nil {
		_ = cmd.Wait()
		return err
	}
	report.Close()
	if err := cmd.Wait(); err != nil {
		return fmt.Errorf("%s: %w: %s", argv[0], err, strings.TrimSpace(said.String()))
	}
	return nil
}

// Available tells why views cannot be entered here; nil when they can.
func Available() error {
	cmd := &exec.Cmd{Path: "/proc/self/exe", Args: []string{insideName}, SysProcAttr: attributes(true)}
	if err := start(cmd); err != nil {
		return err
	}
	_ = cmd.Wait()
	return nil
}

// attributes are those of a process in namespaces of its own.
func attributes(closed bool) *syscall.SysProcAttr {
	uid, gid := os.Getuid(), os.Getgid()
	if uid == 0 {
		uid, gid = 1000, 1000
	}
	flags := uintptr(syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS)
	if closed {
		flags |= syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC
	}
	return &syscall.SysProcAttr{
		Cloneflags:  flags,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: uid, HostID: os.Getuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: gid, HostID: os.Getgid(), Size: 1}},
		AmbientCaps: []uintptr{unix.CAP_SYS_ADMIN}, // until the mounts are made
		Pdeathsig:   syscall.SIGKILL,
	}
}

// clone prepares the process that enters a view. What cannot be set up there comes
// as a line on the report; nothing but its end means that the command runs.
func clone(o order, argv, env []string) (*exec.Cmd, *os.File, error) {
	told, err := json.Marshal(o)
	if err != nil {
		return nil, nil, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	orders, giving, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	go func() {
		_, _ = giving.Write(told)
		giving.Close()
	}()
	cmd := &exec.Cmd{
		Path: "/proc/self/exe", Args: append([]string{insideName}, argv...), Env: env,
		Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, ExtraFiles: []*os.File{write, orders}, SysProcAttr: attributes(o.View.Closed),
	}
	return cmd, read, nil
}

// start starts a prepared process. The caller's goroutine must stay on its thread
// until the process ends: the parent-death signal follows the thread (prctl(2)).
func start(cmd *exec.Cmd) error {
	runtime.LockOSThread()
	err := cmd.Start()
	for _, f := range cmd.ExtraFiles {
		f.Close()
	}
	var errno syscall.Errno
	if errors.As(err, &errno) && (errno == unix.EPERM || errno == unix.ENOSPC || errno == unix.EUSERS || errno == unix.EINVAL || errno == unix.EACCES) {
		return refusedBy(errno)
	}
	return err
}

// started reads whether the command was started.
func started(report *bufio.Reader) error {
	line, err := report.ReadString('\n')
	if err == io.EOF && line == "" || line == "ok\n" {
		return nil
	}
	text := strings.TrimSpace(line)
	if reason, ok := strings.CutPrefix(text, "refused "); ok {
		return refusedBy(errors.New(reason))
	}
	return errors.New(text)
}

func run(o order, argv, env []string) (int, error) {
	tty := foreground()
	o.Terminal = tty != nil
	cmd, reportFile, err := clone(o, argv, env)
	if err != nil {
		return 126, err
	}
	defer reportFile.Close()
	signals := make(chan os.Signal, 16)
	signal.Notify(signals, unix.SIGTERM, unix.SIGHUP, unix.SIGINT, unix.SIGQUIT, unix.SIGUSR1, unix.SIGUSR2)
	if tty == nil && o.View.Closed {
		cmd.SysProcAttr.Setsid = true // a signal to this process's group comes in once, by way of this process
	}
	if err := start(cmd); err != nil {
		return 126, err
	}
	report := bufio.NewReader(reportFile)
	if err := started(report); err != nil {
		_ = cmd.Wait()
		code := 126
		if strings.HasPrefix(err.Error(), "there is no command") {
			code = 127
		}
		return code, err
	}
	done := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		for {
			select {
			case s := <-signals:
				// In an open view the command is in this process's group and had the
				// terminal's signals itself.
				if typed := s == unix.SIGINT || s == unix.SIGQUIT; typed && tty != nil && !o.View.Closed {
					continue
				}
				_ = cmd.Process.Signal(s)
			case <-done:
				return
			}
		}
	})
	if o.View.Closed && tty != nil {
		go suspend(report, tty, cmd)
	}
	err = cmd.Wait()
	close(done)
	wait.Wait()
	if o.View.Closed && tty != nil {
		takeTerminal(tty)
	}
	var exit *exec.ExitError
	switch {
	case err == nil:
		return 0, nil
	case errors.As(err, &exit):
		if status := exit.Sys().(syscall.WaitStatus); status.Signaled() {
			return 128 + int(status.Signal()), nil
		}
		return exit.ExitCode(), nil
	}
	return 126, err
}

// foreground is the terminal, when this process is in its foreground.
func foreground() *os.File {
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return nil
	}
	if group, err := unix.IoctlGetInt(int(tty.Fd()), unix.TIOCGPGRP); err != nil || group != unix.Getpgrp() {
		tty.Close()
		return nil
	}
	return tty
}

// takeTerminal puts this process's group into the foreground again.
func takeTerminal(tty *os.File) {
	signal.Ignore(unix.SIGTTOU)
	_ = unix.IoctlSetPointerInt(int(tty.Fd()), unix.TIOCSPGRP, unix.Getpgrp())
	signal.Reset(unix.SIGTTOU)
}

// suspend stops this process when the command was stopped from the terminal, and
// lets the command go on when this process does: to the shell outside both are one
// job.
func suspend(report *bufio.Reader, tty *os.File, cmd *exec.Cmd) {
	for {
		if line, err := report.ReadString('\n'); err != nil || line != "stopped\n" {
			return
		}
		takeTerminal(tty)
		// Sent to its own thread, the signal stops the process before the call returns;
		// sent to the process, another thread may take it a moment later.
		runtime.LockOSThread()
		_ = unix.Tgkill(unix.Getpid(), unix.Gettid(), unix.SIGSTOP)
		runtime.UnlockOSThread()
		_ = cmd.Process.Signal(unix.SIGCONT)
	}
}

// inside sets the view up and becomes the command, or in a closed view its init.
func inside() {
	runtime.LockOSThread()
	if len(os.Args) == 1 {
		os.Exit(0) // it could be started: Available asks for no more
	}
	unix.CloseOnExec(3)
	report, orders := os.NewFile(3, "report"), os.NewFile(4, "orders")
	fail := func(err error) {
		fmt.Fprintln(report, strings.ReplaceAll(err.Error(), "\n", " "))
		os.Exit(126)
	}
	_ = os.WriteFile("/proc/self/comm", []byte("trammel"), 0) // what ps shows
	var o order
	if err := json.NewDecoder(orders).Decode(&o); err != nil {
		fail(err)
	}
	orders.Close()
	o.View.making = o.Making
	if err := setUp(o.View); err != nil {
		fail(err)
	}
	if err := os.Chdir(o.Dir); err != nil {
		if err := os.Chdir(o.View.Work); err != nil {
			fail(fmt.Errorf("the folder %s does not show in the sealed root", o.View.Work))
		}
	}
	argv := os.Args[1:]
	path := o.Path
	if path == "" {
		var err error
		if path, err = lookUp(argv[0]); err != nil {
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
		initProcess(report, o.Terminal, path, argv, fail)
	}
	err := unix.Exec(path, argv, os.Environ())
	fail(fmt.Errorf("%s cannot be started: %w", argv[0], err))
}

// lookUp finds a command in the PATH, inside.
func lookUp(command string) (string, error) {
	if strings.Contains(command, "/") {
		if _, err := os.Stat(command); err != nil {
			return "", fmt.Errorf("there is no command %q in this root", command)
		}
		return command, nil
	}
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		full := filepath.Join(dir, command)
		if info, err := os.Stat(full); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			return full, nil
		}
	}
	return "", fmt.Errorf("there is no command %q in this root", command)
}

// initProcess runs the command as the init of a closed view: it reaps what is left
// without a parent, hands signals on and ends with the command, and with it ends
// the whole namespace (pid_namespaces(7)).
func initProcess(report *os.File, terminal bool, path string, argv []string, fail func(error)) {
	cmd := &exec.Cmd{Path: path, Args: argv, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	var tty *os.File
	if terminal {
		tty, _ = os.OpenFile("/dev/tty", os.O_RDWR, 0)
	}
	if tty != nil {
		// A group of its own in the foreground: what is typed reaches the command alone.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Foreground: true, Ctty: int(tty.Fd())}
	} else {
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	}
	signals := make(chan os.Signal, 16)
	signal.Notify(signals, unix.SIGTERM, unix.SIGHUP, unix.SIGINT, unix.SIGQUIT, unix.SIGUSR1, unix.SIGUSR2, unix.SIGCONT)
	if err := cmd.Start(); err != nil {
		fail(fmt.Errorf("%s cannot be started: %w", argv[0], err))
	}
	main := cmd.Process.Pid
	fmt.Fprintln(report, "ok")
	go func() {
		for s := range signals {
			if s == unix.SIGCONT && tty != nil {
				signal.Ignore(unix.SIGTTOU)
				_ = unix.IoctlSetPointerInt(int(tty.Fd()), unix.TIOCSPGRP, main)
			}
			_ = unix.Kill(-main, s.(syscall.Signal))
		}
	}()
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, unix.WUNTRACED, nil)
		switch {
		case err == unix.EINTR || pid != main:
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
