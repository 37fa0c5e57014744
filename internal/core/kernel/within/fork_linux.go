package within

import (
	"os"
	"slices"
	"strconv"
	"syscall"
	"unsafe"

	"app.example/trammel/internal/core/kernel/unix"
)

// A process that is to enter a view is this one, forked: a second start of the program would cost
// more than all mounts together. Of the forked process only the one thread is there that forked,
// and nothing of Go's runtime may run in it: no allocation, no growing stack, no signal handler.
// So all that it does is decided before, as a list of system calls (call), which one function
// plays (play) that the compiler lets neither grow its stack nor be looked at by the race detector;
// the runtime's own start of processes is made the same way (forkAndExecInChild in package syscall).
// What comes of it is told in three numbers on a pipe, and put into words here.

// call is one system call that a forked process makes.
type call struct {
	number uintptr
	args   [6]uintptr
	from   int        // slot of which the value is the first argument; 0: none
	to     int        // slot that takes the result, or -1 where it failed; 0: none
	given  int        // slot: the call is made only where that one did not fail; 0: always
	unless int        // slot: the call is made only where that one failed; 0: always
	may    [2]uintptr // errors that are none

	what string // for a person, in the process that forked
	deny bool   // an error means that the kernel gives no namespaces
}

// anyError among the errors of a call that are none.
const anyError = ^uintptr(0)

// program is all that a forked process does. It lives on in an Entered, so that its memory is of the
// heap, where nothing moves.
type program struct {
	calls []call
	slots []int
	held  []any           // what calls point to
	made  map[string]bool // folders that were made below the new root, as its calls will have them

	standard [3]int // descriptors that it has as standard input, output and error
	others   []int  // descriptors that are this process's own: a lock that it holds is not the other one's

	closed   bool
	session  bool // a session of its own, so that signals to the caller's group come once
	terminal int  // slot of the terminal whose foreground the command is to have; 0: none

	files  []uintptr // that the command may be, each a path
	looked bool      // they come of the PATH, of which what cannot be run is passed over
	argv   []uintptr
	env    []uintptr

	report, reportOther int // pipe: where records are written
	hear                int // closed views: where numbers of signals are read
	mask                uint64
	children            uint64 // mask: of SIGCHLD
	byDefault           [4]uintptr
	one                 [128]byte
	pair                [2]int32
	polled              [2]unix.PollFd
	atOnce              syscall.Timespec // the time 0
	status              int32
	record              [3]int32
}

// What a record is of.
const (
	callFailed   = iota + 1 // which, errno
	execFailed              // which file, errno
	commandBegan            // in a closed view
	commandStopped
)

// recordSize is how long a record is, in bytes: three numbers of the machine's own order.
const recordSize = 12

func newProgram() *program {
	return &program{slots: make([]int, 1), made: map[string]bool{}, standard: [3]int{0, 1, 2}, children: 1 << (syscall.SIGCHLD - 1)}
}

// slot is a place for the result of a call.
func (p *program) slot() int {
	p.slots = append(p.slots, 0)
	return len(p.slots) - 1
}

// do adds a call; what is for a person. The call may be changed until the next is added.
func (p *program) do(what string, number uintptr, args ...uintptr) *call {
	c := call{number: number, what: what}
	copy(c.args[:], args)
	p.calls = append(p.calls, c)
	return &p.calls[len(p.calls)-1]
}

// text is a string as system calls take it.
func (p *program) text(s string) uintptr {
	b := append([]byte(s), 0)
	p.held = append(p.held, b)
	return uintptr(unsafe.Pointer(unsafe.SliceData(b)))
}

// texts are strings as execve(2) takes them.
func (p *program) texts(list []string) []uintptr {
	out := make([]uintptr, 0, len(list)+1)
	for _, s := range list {
		out = append(out, p.text(s))
	}
	return append(out, 0)
}

// attributes are those of mount_setattr(2).
func (p *program) attributes(set uint64) (at, size uintptr) {
	attr := &unix.MountAttr{Attr_set: set}
	p.held = append(p.held, attr)
	return uintptr(unsafe.Pointer(attr)), unsafe.Sizeof(*attr)
}

// fork forks this thread, for namespaces as flags say (clone(2)); the other one plays the program
// and does not return.
//
//go:norace
//go:nosplit
//go:noinline
func fork(p *program, flags uintptr) (pid uintptr, errno syscall.Errno) {
	every := ^uint64(0)
	syscall.RawSyscall6(syscall.SYS_RT_SIGPROCMASK, 2, uintptr(unsafe.Pointer(&every)), uintptr(unsafe.Pointer(&p.mask)), 8, 0, 0)
	pid, _, errno = syscall.RawSyscall6(syscall.SYS_CLONE, flags|uintptr(syscall.SIGCHLD), 0, 0, 0, 0, 0)
	if errno == 0 && pid == 0 {
		p.life()
	}
	syscall.RawSyscall6(syscall.SYS_RT_SIGPROCMASK, 2, uintptr(unsafe.Pointer(&p.mask)), 0, 8, 0, 0)
	return pid, errno
}

// life is that of the forked process. Signals are blocked in it until its command is another program.
//
//go:norace
//go:nosplit
func (p *program) life() {
	syscall.RawSyscall6(syscall.SYS_CLOSE, uintptr(p.reportOther), 0, 0, 0, 0, 0)
	syscall.RawSyscall6(syscall.SYS_PRCTL, syscall.PR_SET_PDEATHSIG, uintptr(syscall.SIGKILL), 0, 0, 0, 0)
	for s := uintptr(1); s <= 64; s++ { // the runtime's handlers are none here
		syscall.RawSyscall6(syscall.SYS_RT_SIGACTION, s, uintptr(unsafe.Pointer(&p.byDefault)), 0, 8, 0, 0)
	}
	if p.session {
		syscall.RawSyscall6(syscall.SYS_SETSID, 0, 0, 0, 0, 0, 0)
	}
	// Who forked it may be gone already: nobody is left then to read records.
	p.polled[0].Fd = int32(p.report)
	syscall.RawSyscall6(syscall.SYS_PPOLL, uintptr(unsafe.Pointer(&p.polled)), 1, uintptr(unsafe.Pointer(&p.atOnce)), 0, 8, 0)
	if p.polled[0].Revents != 0 {
		p.exit(126)
	}
	// One that is still to be copied must not be written over by another before.
	for to := range p.standard {
		if from := p.standard[to]; from != to && from < len(p.standard) {
			if high, _, errno := syscall.RawSyscall6(syscall.SYS_FCNTL, uintptr(from), syscall.F_DUPFD_CLOEXEC, uintptr(len(p.standard)), 0, 0, 0); errno == 0 {
				p.standard[to] = int(high)
			}
		}
	}
	for to := range p.standard {
		if from := p.standard[to]; from != to {
			syscall.RawSyscall6(syscall.SYS_DUP3, uintptr(from), uintptr(to), 0, 0, 0, 0)
		}
	}
	for i := range p.others {
		syscall.RawSyscall6(syscall.SYS_CLOSE, uintptr(p.others[i]), 0, 0, 0, 0, 0)
	}
	for i := range p.calls {
		if errno := p.play(&p.calls[i]); errno != 0 {
			p.tell(callFailed, i, int(errno))
			p.exit(126)
		}
	}
	if p.closed {
		p.init()
	}
	p.exec()
}

// play makes a call.
//
//go:norace
//go:nosplit
func (p *program) play(c *call) (errno syscall.Errno) {
	if c.given != 0 && p.slots[c.given] < 0 || c.unless != 0 && p.slots[c.unless] >= 0 {
		return 0
	}
	first := c.args[0]
	if c.from != 0 {
		first = uintptr(p.slots[c.from])
	}
	r, _, errno := syscall.RawSyscall6(c.number, first, c.args[1], c.args[2], c.args[3], c.args[4], c.args[5])
	if c.to != 0 {
		p.slots[c.to] = int(r)
		if errno != 0 {
			p.slots[c.to] = -1
		}
	}
	if e := uintptr(errno); e == c.may[0] || e == c.may[1] || c.may[0] == anyError {
		return 0
	}
	return errno
}

// exec becomes the command: the first of its files that can be started.
//
//go:norace
//go:nosplit
func (p *program) exec() {
	syscall.RawSyscall6(syscall.SYS_RT_SIGPROCMASK, 2, uintptr(unsafe.Pointer(&p.mask)), 0, 8, 0, 0)
	which, why := -1, syscall.ENOENT
	for i := range p.files {
		_, _, errno := syscall.RawSyscall6(syscall.SYS_EXECVE, p.files[i], uintptr(unsafe.Pointer(&p.argv[0])), uintptr(unsafe.Pointer(&p.env[0])), 0, 0, 0)
		_, _, missing := syscall.RawSyscall6(syscall.SYS_FACCESSAT, atFolder, p.files[i], 0, 0, 0, 0)
		if missing == 0 && !(p.looked && errno == syscall.EACCES) {
			which, why = i, errno
			break
		}
	}
	p.tell(execFailed, which, int(why))
	p.exit(127)
}

// init is the life of the first process of a closed view: it starts the command, reaps what is left
// without a parent, hands signals on and ends with the command, and with it ends the whole namespace
// (pid_namespaces(7)). All signals stay blocked.
//
//go:norace
//go:nosplit
func (p *program) init() {
	tty := -1
	if p.terminal != 0 {
		tty = p.slots[p.terminal]
	}
	events, _, errno := syscall.RawSyscall6(syscall.SYS_SIGNALFD4, ^uintptr(0), uintptr(unsafe.Pointer(&p.children)), 8, syscall.O_CLOEXEC, 0, 0)
	if errno == 0 {
		_, _, errno = syscall.RawSyscall6(syscall.SYS_PIPE2, uintptr(unsafe.Pointer(&p.pair)), syscall.O_CLOEXEC, 0, 0, 0, 0)
	}
	if errno != 0 {
		p.tell(execFailed, -1, int(errno))
		p.exit(126)
	}
	child, _, errno := syscall.RawSyscall6(syscall.SYS_CLONE, uintptr(syscall.SIGCHLD), 0, 0, 0, 0, 0)
	if errno == 0 && child == 0 {
		if tty >= 0 { // a group of its own in the foreground: what is typed reaches the command alone
			syscall.RawSyscall6(syscall.SYS_SETPGID, 0, 0, 0, 0, 0, 0)
			p.foreground(tty, 0)
		} else {
			syscall.RawSyscall6(syscall.SYS_SETSID, 0, 0, 0, 0, 0, 0)
		}
		p.exec()
	}
	if errno != 0 {
		p.tell(execFailed, -1, int(errno))
		p.exit(126)
	}
	// The command has begun when its end of the pipe is closed (execve(2)).
	syscall.RawSyscall6(syscall.SYS_CLOSE, uintptr(p.pair[1]), 0, 0, 0, 0, 0)
	if n, _, _ := syscall.RawSyscall6(syscall.SYS_READ, uintptr(p.pair[0]), uintptr(unsafe.Pointer(&p.one)), 1, 0, 0, 0); n == 0 {
		p.tell(commandBegan, 0, 0)
	}
	p.polled[0] = unix.PollFd{Fd: int32(events), Events: unix.POLLIN}
	p.polled[1] = unix.PollFd{Fd: int32(p.hear), Events: unix.POLLIN}
	for {
		p.reap(int(child))
		syscall.RawSyscall6(syscall.SYS_PPOLL, uintptr(unsafe.Pointer(&p.polled)), 2, 0, 0, 8, 0)
		if p.polled[0].Revents != 0 {
			syscall.RawSyscall6(syscall.SYS_READ, events, uintptr(unsafe.Pointer(&p.one)), uintptr(len(p.one)), 0, 0, 0)
		}
		if p.polled[1].Revents != 0 {
			if n, _, _ := syscall.RawSyscall6(syscall.SYS_READ, uintptr(p.hear), uintptr(unsafe.Pointer(&p.one)), 1, 0, 0, 0); n != 1 {
				p.polled[1].Fd = -1 // nobody sends any more
				continue
			}
			if syscall.Signal(p.one[0]) == syscall.SIGCONT && tty >= 0 {
				p.foreground(tty, int(child))
			}
			syscall.RawSyscall6(syscall.SYS_KILL, -child, uintptr(p.one[0]), 0, 0, 0, 0)
		}
	}
}

// reap takes in what ended, and ends when that is the command.
//
//go:norace
//go:nosplit
func (p *program) reap(child int) {
	for {
		pid, _, errno := syscall.RawSyscall6(syscall.SYS_WAIT4, ^uintptr(0), uintptr(unsafe.Pointer(&p.status)), syscall.WNOHANG|syscall.WUNTRACED, 0, 0, 0)
		if errno != 0 {
			p.exit(126)
		}
		if pid == 0 {
			return
		}
		if int(pid) != child {
			continue
		}
		switch ended := p.status & 0x7f; { // wait(2), linux/wait.h
		case ended == 0:
			p.exit(int(p.status >> 8 & 0xff))
		case ended != 0x7f:
			p.exit(128 + int(ended))
		default:
			p.tell(commandStopped, 0, 0)
		}
	}
}

// foreground gives a terminal to a group; 0 is this process's own. SIGTTOU is blocked.
//
//go:norace
//go:nosplit
func (p *program) foreground(tty, group int) {
	if group == 0 {
		pid, _, _ := syscall.RawSyscall6(syscall.SYS_GETPID, 0, 0, 0, 0, 0, 0)
		group = int(pid)
	}
	p.status = int32(group)
	syscall.RawSyscall6(syscall.SYS_IOCTL, uintptr(tty), unix.TIOCSPGRP, uintptr(unsafe.Pointer(&p.status)), 0, 0, 0)
}

// tell writes a record.
//
//go:norace
//go:nosplit
func (p *program) tell(kind, which, errno int) {
	p.record[0], p.record[1], p.record[2] = int32(kind), int32(which), int32(errno)
	syscall.RawSyscall6(syscall.SYS_WRITE, uintptr(p.report), uintptr(unsafe.Pointer(&p.record)), recordSize, 0, 0, 0)
}

//go:norace
//go:nosplit
func (p *program) exit(code int) {
	for {
		syscall.RawSyscall6(syscall.SYS_EXIT_GROUP, uintptr(code), 0, 0, 0, 0, 0)
	}
}

// mapped tells the kernel who this user is in the namespace (user_namespaces(7)).
func (p *program) mapped() {
	uid, gid := inner()
	for _, x := range [][2]string{{"uid_map", one(uid, os.Getuid())}, {"setgroups", "deny"}, {"gid_map", one(gid, os.Getgid())}} {
		p.write("/proc/self/"+x[0], syscall.O_WRONLY, x[1])
	}
}

// one is the line of a map of one id (user_namespaces(7)).
func one(inside, outside int) string {
	return strconv.Itoa(inside) + " " + strconv.Itoa(outside) + " 1\n"
}

// write writes a file.
func (p *program) write(path string, flags int, text string) {
	file := p.slot()
	what := "writing " + path
	c := p.do(what, syscall.SYS_OPENAT, atFolder, p.text(path), uintptr(flags|syscall.O_CLOEXEC), 0o644)
	c.to, c.deny = file, true
	c = p.do(what, syscall.SYS_WRITE, 0, p.text(text), uintptr(len(text)))
	c.from, c.deny = file, true
	p.do(what, syscall.SYS_CLOSE).from = file
}

// own are the descriptors of this process that no command gets (FD_CLOEXEC in fcntl(2)), but for some.
func own(but ...int) (list []int) {
	entries, _ := os.ReadDir("/proc/self/fd")
	for _, e := range entries {
		fd, err := strconv.Atoi(e.Name())
		if err != nil || fd < 3 || slices.Contains(but, fd) {
			continue
		}
		if flags, _, errno := syscall.Syscall(syscall.SYS_FCNTL, uintptr(fd), syscall.F_GETFD, 0); errno == 0 && flags&syscall.FD_CLOEXEC != 0 {
			list = append(list, fd)
		}
	}
	return list
}

// inner is who the caller is inside: itself, and user 1000 where it is root, since servers refuse
// to run as 0.
func inner() (uid, gid int) {
	if uid = os.Getuid(); uid == 0 {
		return 1000, 1000
	}
	return uid, os.Getgid()
}
