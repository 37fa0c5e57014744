package within

import (
	"bufio"
	"errors"
	"io"
	"os"
	"runtime"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/kernel/unix"
)

// NotGiven is the kernel's no to namespaces.
type NotGiven struct{ Reason error }

func (n *NotGiven) Error() string {
	return Needs + n.Reason.Error() + "\n  " + strings.ReplaceAll(Allow, "\n", "\n  ")
}

// Entered is a process that was started to set a view up.
type Entered struct {
	Process *os.Process
	report  *bufio.Reader
	hear    *os.File // what is written here comes to it as signals
	from    *os.File
}

// Close gives up what connects to the process.
func (e *Entered) Close() {
	e.hear.Close()
	e.from.Close()
}

// Attributes are those of a process in namespaces of its own, as this process's own user, and as
// user 1000 where that is root.
func Attributes(closed bool) *syscall.SysProcAttr {
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

// Refused tells whether an error of a start means that the kernel gives no namespaces here.
func Refused(err error) (syscall.Errno, bool) {
	var errno syscall.Errno
	ok := errors.As(err, &errno)
	return errno, ok && (errno == unix.EPERM || errno == unix.ENOSPC || errno == unix.EUSERS || errno == unix.EINVAL || errno == unix.EACCES)
}

// Start starts the process that enters a view. The caller's goroutine stays on its thread from
// then on: the parent-death signal follows the thread (prctl(2)). attributes are Attributes,
// with what the caller changed of them.
func Start(o Order, argv, env []string, files [3]*os.File, attributes *syscall.SysProcAttr) (*Entered, error) {
	var pipes [3][2]*os.File // report, orders, signals
	for i := range pipes {
		r, w, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		pipes[i] = [2]*os.File{r, w}
	}
	runtime.LockOSThread()
	process, err := os.StartProcess("/proc/self/exe", append([]string{ViewName}, argv...), &os.ProcAttr{
		Env: env, Files: append(files[:], pipes[0][1], pipes[1][0], pipes[2][0]), Sys: attributes,
	})
	for _, f := range []*os.File{pipes[0][1], pipes[1][0], pipes[2][0]} {
		f.Close()
	}
	if err != nil {
		if errno, refused := Refused(err); refused {
			return nil, &NotGiven{errno}
		}
		return nil, err
	}
	go func() { // may be larger than a pipe
		_, _ = pipes[1][1].Write(o.Pack())
		pipes[1][1].Close()
	}()
	return &Entered{process, bufio.NewReader(pipes[0][0]), pipes[2][1], pipes[0][0]}, nil
}

// Began waits until the command is started: nothing but the report's end, or "ok", means that it
// is.
func (e *Entered) Began() error {
	line, err := e.report.ReadString('\n')
	if err == io.EOF && line == "" || line == "ok\n" {
		return nil
	}
	text := strings.TrimSpace(line)
	if reason, ok := strings.CutPrefix(text, "refused "); ok {
		return &NotGiven{errors.New(reason)}
	}
	return errors.New(text)
}

// Run runs a command in a view, on this process's terminal and files, and returns its exit
// code, or 128 and the signal's number. An error means that the command was not started. This
// process is there for nothing else: the signals that come to it go to the command.
func Run(o Order, argv, env []string) (int, error) {
	tty := inForeground()
	o.Terminal = tty != nil
	signals, err := relayed(unix.SIGTERM, unix.SIGHUP, unix.SIGINT, unix.SIGQUIT, unix.SIGUSR1, unix.SIGUSR2)
	if err != nil {
		return 126, err
	}
	attributes := Attributes(o.View.Closed)
	if tty == nil && o.View.Closed {
		attributes.Setsid = true // a signal to this process's group comes in once, by way of this process
	}
	e, err := Start(o, argv, env, [3]*os.File{os.Stdin, os.Stdout, os.Stderr}, attributes)
	if err != nil {
		return 126, err
	}
	if err := e.Began(); err != nil {
		_, _ = e.Process.Wait()
		code := 126
		if strings.HasPrefix(err.Error(), "there is no command") {
			code = 127
		}
		return code, err
	}
	go func() {
		one := make([]byte, 1)
		for {
			if n, err := signals.Read(one); n != 1 || err != nil {
				return
			}
			s := syscall.Signal(one[0])
			switch {
			case o.View.Closed: // to its init none can be sent
				_, _ = e.hear.Write(one)
			case (s == unix.SIGINT || s == unix.SIGQUIT) && tty != nil:
				// In an open view the command is in this process's group and had the terminal's
				// signals itself.
			default:
				_ = e.Process.Signal(s)
			}
		}
	}()
	if o.View.Closed && tty != nil {
		go suspend(e, tty)
	}
	state, err := e.Process.Wait()
	if o.View.Closed && tty != nil {
		foreground(tty, unix.Getpgrp())
	}
	if err != nil {
		return 126, err
	}
	if status := state.Sys().(syscall.WaitStatus); status.Signaled() {
		return 128 + int(status.Signal()), nil
	}
	return state.ExitCode(), nil
}

// inForeground is the terminal, when this process is in its foreground.
func inForeground() *os.File {
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

// suspend stops this process when the command was stopped from the terminal, and
// lets the command go on when this process does: to the shell outside both are one
// job.
func suspend(e *Entered, tty *os.File) {
	for {
		if line, err := e.report.ReadString('\n'); err != nil || line != "stopped\n" {
			return
		}
		foreground(tty, unix.Getpgrp())
		// Sent to its own thread, the signal stops the process before the call returns;
		// sent to the process, another thread may take it a moment later.
		runtime.LockOSThread()
		_ = unix.Tgkill(unix.Getpid(), unix.Gettid(), unix.SIGSTOP)
		runtime.UnlockOSThread()
		_, _ = e.hear.Write([]byte{byte(unix.SIGCONT)})
	}
}
