package seal

import (
	"app.example/trammel/internal/core/kernel/within"
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"app.example/trammel/internal/core/kernel/unix"
)

// Command is the command line that does in a view, started by anybody, what path
// and argv would do outside. A path "" looks argv[0] up in the PATH, inside.
func Command(v View, dir, path string, argv []string) (file string, args []string, err error) {
	told, err := json.Marshal(within.Order{View: v, Dir: dir, Path: path})
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
	if os.Args[0] == within.ViewName {
		within.Enter()
	}
	var o within.Order
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
func Inside() bool { return os.Args[0] == Name || os.Args[0] == within.ViewName }

// Run runs a command in a view, on this process's terminal and files, and returns
// its exit code, or 128 and the signal's number. An error means that the command
// was not started.
func Run(v View, dir, path string, argv, env []string) (code int, err error) {
	return run(within.Order{View: v, Dir: dir, Path: path}, argv, env)
}

// Make runs a command in a root that is being made, where it may write, with
// nothing of the host.
func Make(ctx context.Context, root string, argv []string) error {
	o := within.Order{View: View{Root: root, Closed: true, Work: "/"}, Dir: "/", Making: true}
	cmd, report, hear, err := clone(o, argv, []string{"PATH=/usr/sbin:/usr/bin", "LC_ALL=C.UTF-8", "HOME=/"})
	if err != nil {
		return err
	}
	defer hear.Close()
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
	cmd := &exec.Cmd{Path: "/proc/self/exe", Args: []string{within.ViewName}, SysProcAttr: attributes(true)}
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
func clone(o within.Order, argv, env []string) (cmd *exec.Cmd, report, signals *os.File, err error) {
	read, write, err := os.Pipe()
	if err != nil {
		return nil, nil, nil, err
	}
	orders, giving, err := os.Pipe()
	if err != nil {
		return nil, nil, nil, err
	}
	hearing, signals, err := os.Pipe()
	if err != nil {
		return nil, nil, nil, err
	}
	go func() {
		_, _ = giving.Write(o.Pack())
		giving.Close()
	}()
	cmd = &exec.Cmd{
		Path: "/proc/self/exe", Args: append([]string{within.ViewName}, argv...), Env: env,
		Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, ExtraFiles: []*os.File{write, orders, hearing}, SysProcAttr: attributes(o.View.Closed),
	}
	return cmd, read, signals, nil
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

func run(o within.Order, argv, env []string) (int, error) {
	tty := foreground()
	o.Terminal = tty != nil
	cmd, reportFile, hear, err := clone(o, argv, env)
	if err != nil {
		return 126, err
	}
	defer reportFile.Close()
	defer hear.Close()
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
				if o.View.Closed { // to its init none can be sent
					_, _ = hear.Write([]byte{byte(s.(syscall.Signal))})
				} else {
					_ = cmd.Process.Signal(s)
				}
			case <-done:
				return
			}
		}
	})
	if o.View.Closed && tty != nil {
		go suspend(report, tty, hear)
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
func suspend(report *bufio.Reader, tty, hear *os.File) {
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
		_, _ = hear.Write([]byte{byte(unix.SIGCONT)})
	}
}
