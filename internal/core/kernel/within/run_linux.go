package within

import (
	"errors"
	"os"
	"path"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"unsafe"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/unix"
)

// NotGiven is the kernel's no to namespaces.
type NotGiven struct{ Reason error }

func (n *NotGiven) Error() string {
	return Needs + n.Reason.Error() + "\n  " + plain.ReplaceAll(Allow, "\n", "\n  ")
}

// because is an error with what the system said.
type because struct {
	what  string
	errno error
}

func (b *because) Error() string { return b.what + b.errno.Error() }

func (b *because) Unwrap() error { return b.errno }

// Entered is a process that was forked to set a view up and run a command in it.
type Entered struct {
	pid    int
	what   *program
	root   string   // of the view
	files  []string // that the command may be
	argv   []string
	report int // descriptor: records are read from it
	hear   int // descriptor: what is written here comes to it as signals

	mu     sync.Mutex
	reaped bool
}

// Close gives up what connects to the process.
func (e *Entered) Close() {
	_ = unix.Close(e.hear)
	_ = unix.Close(e.report)
}

// Signal sends a signal to the process, if it is still there.
func (e *Entered) Signal(s syscall.Signal) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.reaped {
		_ = unix.Kill(e.pid, s)
	}
}

// Wait waits for the process to end.
func (e *Entered) Wait() (status unix.WaitStatus, err error) {
	// Its id is its own until it is reaped (waitid(2)).
	const pid, exited, noWait = 1, 0x4, 0x01000000 // P_PID, WEXITED, WNOWAIT
	for {
		if _, _, errno := syscall.Syscall6(syscall.SYS_WAITID, pid, uintptr(e.pid), 0, exited|noWait, 0, 0); errno != unix.EINTR {
			break
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for {
		if _, err = unix.Wait4(e.pid, &status, 0, nil); err != unix.EINTR {
			e.reaped = true
			return status, err
		}
	}
}

// deniedBy tells whether an error means that the kernel gives no namespaces here.
func deniedBy(errno syscall.Errno) bool {
	return errno == unix.EPERM || errno == unix.ENOSPC || errno == unix.EUSERS || errno == unix.EINVAL || errno == unix.EACCES
}

// Given tells whether the kernel gives namespaces here: nil, or why not.
func Given() error {
	p := newProgram()
	p.do("", syscall.SYS_EXIT_GROUP, 0)
	e, err := enter(p, View{Closed: true})
	if err != nil {
		return err
	}
	defer e.Close()
	_, err = e.Wait()
	return err
}

// Start starts a command in a view, with files as its standard input, output and error. The caller's
// goroutine stays on its thread from then on: the parent-death signal follows the thread (prctl(2)).
func Start(o Order, argv, env []string, files [3]*os.File) (*Entered, error) {
	p := newProgram()
	for to, f := range files {
		p.standard[to] = int(f.Fd())
	}
	if err := p.view(o, env); err != nil {
		return nil, err
	}
	paths := []string{o.Path}
	if o.Path == "" {
		paths, p.looked = lookedUp(argv[0], env)
	}
	p.files, p.argv, p.env = p.texts(paths), p.texts(argv), p.texts(env)
	p.files = p.files[:len(paths)]
	e, err := enter(p, o.View)
	if err == nil {
		e.files, e.argv = paths, argv
	}
	return e, err
}

// lookedUp are the files that a command may be, inside: by its path, or of the PATH.
func lookedUp(command string, env []string) (paths []string, looked bool) {
	if plain.Contains(command, "/") {
		return []string{command}, false
	}
	list := ""
	for _, line := range env {
		if value, ok := plain.CutPrefix(line, "PATH="); ok {
			list = value
		}
	}
	for _, dir := range plain.Split(list, ':') {
		paths = append(paths, path.Join(dir, command))
	}
	return paths, true
}

// enter forks the process that plays a program in namespaces of its own.
func enter(p *program, v View) (*Entered, error) {
	var report, hear [2]int
	if err := syscall.Pipe2(report[:], syscall.O_CLOEXEC); err != nil {
		return nil, err
	}
	if err := syscall.Pipe2(hear[:], syscall.O_CLOEXEC); err != nil {
		return nil, errors.Join(err, unix.Close(report[0]), unix.Close(report[1]))
	}
	p.reportOther, p.report, p.hear, p.closed = report[0], report[1], hear[0], v.Closed
	p.others = own(report[1], hear[0])
	flags := uintptr(syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS)
	if v.Closed {
		flags |= syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC
	}
	runtime.LockOSThread()
	syscall.ForkLock.Lock()
	pid, errno := fork(p, flags)
	syscall.ForkLock.Unlock()
	e := &Entered{pid: int(pid), what: p, root: v.Root, report: report[0], hear: hear[1]}
	_, _ = unix.Close(report[1]), unix.Close(hear[0])
	if errno == 0 {
		return e, nil
	}
	e.Close()
	if deniedBy(errno) {
		return nil, &NotGiven{errno}
	}
	return nil, errno
}

// NoCommand is the error of a command that is not there, inside.
type NoCommand struct{ Name string }

func (n *NoCommand) Error() string {
	return "there is no command " + strconv.Quote(n.Name) + " in this root"
}

// next reads the next record; ok is false when there is none any more.
func (e *Entered) next() (kind, which int, errno syscall.Errno, ok bool) {
	var record [3]int32 // written in one piece (pipe(7), PIPE_BUF)
	for {
		n, err := syscall.Read(e.report, unsafe.Slice((*byte)(unsafe.Pointer(&record)), recordSize))
		if err == unix.EINTR {
			continue
		}
		if n != recordSize {
			return 0, 0, 0, false
		}
		break
	}
	return int(record[0]), int(record[1]), syscall.Errno(record[2]), true
}

// Began waits until the command is started, or says why it was not.
func (e *Entered) Began() error {
	kind, which, errno, ok := e.next()
	switch {
	case !ok && !e.what.closed || kind == commandBegan:
		return nil
	case !ok:
		return errors.New("the process that was to run it ended")
	case kind == callFailed:
		c := e.what.calls[which]
		err := &because{c.what + ": ", errno}
		switch {
		case errno == unix.ENOSYS:
			return errors.New("this kernel is too old for sealed roots: they need Linux 5.12")
		case c.deny && deniedBy(errno):
			return &NotGiven{err}
		}
		return err
	case which < 0 && errno == unix.ENOENT:
		return &NoCommand{e.argv[0]}
	case which < 0:
		return &because{e.argv[0] + " cannot be started: ", errno}
	}
	return notStarted(e.argv[0], e.root, e.files[which], errno)
}

// openInside opens from outside what a path leads to inside: a file of the root, or one of a folder
// that shows as it is, in the end of links that are followed as inside.
func openInside(root, file string) (*os.File, error) {
	for range 16 {
		at := file
		for _, own := range append([]string{"usr", "etc", "opt"}, top...) {
			if plain.HasPrefix(file, "/"+own+"/") {
				at = path.Join(root, file)
			}
		}
		target, err := os.Readlink(at)
		if err != nil {
			return os.Open(at)
		}
		if !path.IsAbs(target) {
			target = path.Join(path.Dir(file), target)
		}
		file = target
	}
	return nil, syscall.ELOOP
}

// notStarted says why a command that is there was not started: of a script it is mostly what
// interprets it (execve(2), "Interpreter scripts").
func notStarted(command, root, file string, errno syscall.Errno) error {
	if f, err := openInside(root, file); err == nil {
		defer f.Close()
		line := make([]byte, 256)
		n, _ := f.Read(line)
		first, _, _ := plain.Cut(string(line[:n]), "\n")
		if words := plain.Fields(plain.TrimPrefix(first, "#!")); errno == unix.ENOENT && plain.HasPrefix(first, "#!") && len(words) > 0 {
			return errors.New(command + " cannot be started: it is a script for " + words[0] + ", which is not in this root")
		}
	}
	return &because{command + " cannot be started: ", errno}
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
	e, err := Start(o, argv, env, [3]*os.File{os.Stdin, os.Stdout, os.Stderr})
	if err != nil {
		return 126, err
	}
	if err := e.Began(); err != nil {
		_, _ = e.Wait()
		var none *NoCommand
		if errors.As(err, &none) {
			return 127, err
		}
		return 126, err
	}
	status, err := e.attend(o.View.Closed, signals, tty)
	if o.View.Closed && tty != nil {
		foreground(tty, unix.Getpgrp())
	}
	if err != nil {
		return 126, err
	}
	if status.Signaled() {
		return 128 + int(status.Signal()), nil
	}
	return status.ExitStatus(), nil
}

// attend is with a process until it ends: it hands signals on, whose numbers come from a descriptor,
// and is stopped when its command is.
func (e *Entered) attend(closed bool, signals int, tty *os.File) (unix.WaitStatus, error) {
	process, err := unix.PidfdOpen(e.pid, 0)
	if err != nil {
		return 0, err
	}
	defer unix.Close(process)
	polled := []unix.PollFd{{Fd: int32(process), Events: unix.POLLIN}, {Fd: int32(signals), Events: unix.POLLIN}, {Fd: int32(e.report), Events: unix.POLLIN}}
	if !closed {
		polled[2].Fd = -1 // closed by what the process became
	}
	one := make([]byte, 1)
	for polled[0].Revents == 0 {
		if _, err := unix.Poll(polled, -1); err != nil && err != unix.EINTR {
			return 0, err
		} else if err != nil {
			continue
		}
		if polled[2].Revents != 0 {
			kind, _, _, ok := e.next()
			switch {
			case !ok:
				polled[2].Fd = -1
			case kind == commandStopped && tty != nil:
				e.suspend(tty)
			}
		}
		if polled[1].Revents == 0 {
			continue
		}
		if n, err := syscall.Read(signals, one); n != 1 || err != nil {
			continue
		}
		switch s := syscall.Signal(one[0]); {
		case closed: // to its init none can be sent
			_, _ = syscall.Write(e.hear, one)
		case (s == unix.SIGINT || s == unix.SIGQUIT) && tty != nil:
			// In an open view the command is in this process's group and had the terminal's
			// signals itself.
		default:
			e.Signal(s)
		}
	}
	return e.Wait()
}

// suspend stops this process, whose command was stopped from the terminal, and lets the command go on
// when this process does: to the shell outside both are one job.
func (e *Entered) suspend(tty *os.File) {
	foreground(tty, unix.Getpgrp())
	// Sent to its own thread, the signal stops the process before the call returns; sent to the
	// process, another thread may take it a moment later.
	runtime.LockOSThread()
	_ = unix.Tgkill(unix.Getpid(), unix.Gettid(), unix.SIGSTOP)
	runtime.UnlockOSThread()
	_, _ = syscall.Write(e.hear, []byte{byte(unix.SIGCONT)})
}

// Named is the life of a process under ViewName: a command in a view, with the command's own exit
// code. It does not return.
func Named(args, env []string) {
	o, err := Order{}, error(errTold)
	if len(args) > 2 {
		o, err = Unpack(args[1])
	}
	code := 126
	if err == nil {
		code, err = Run(o, args[2:], env)
	}
	if err != nil {
		_, _ = os.Stderr.WriteString("trammel: " + err.Error() + "\n")
	}
	os.Exit(code)
}

// foreground gives a terminal to a group, from out of the background.
func foreground(tty *os.File, group int) {
	setAction(syscall.SIGTTOU, sigIgn)
	_ = unix.IoctlSetPointerInt(int(tty.Fd()), unix.TIOCSPGRP, group)
	setAction(syscall.SIGTTOU, sigDfl)
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
