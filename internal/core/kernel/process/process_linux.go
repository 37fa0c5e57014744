package process

import (
	"os"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/kernel/unix"
	"app.example/trammel/internal/core/kernel/within"
)

// Process is one process and no other that has its number later.
type Process struct {
	Pid     int
	Started uint64 // clock ticks since the system's start (field 22 of proc_pid_stat(5))
}

// Boot names the present start of the system (random(4), boot_id); "-" where it is not said.
var Boot = sync.OnceValue(func() string {
	raw, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if id := strings.TrimSpace(string(raw)); err == nil && id != "" {
		return id
	}
	return "-"
})

// ProcessOf is the process that has a number now.
func ProcessOf(pid int) Process {
	started, _ := started(pid)
	return Process{pid, started}
}

func started(pid int) (ticks uint64, ok bool) { return within.Started(pid) }

// Starved tells whether a tree's program, or its init, wants to run and has had next to no time.
func (t *Tree) Starved() bool { return within.Starved(t.Program()) || within.Starved(t.Pid) }

// Children are those of a process now, those that it adopted behind its own.
func Children(pid int) []int { return within.Children(pid) }

// Alive tells whether it has not ended.
func (p Process) Alive() bool {
	ticks, ok := started(p.Pid)
	return ok && ticks == p.Started
}

// handle opens it for good: what is done by the handle is done to this process (pidfd_open(2)).
func (p Process) handle() (fd int, ok bool) {
	fd, err := unix.PidfdOpen(p.Pid, 0)
	if err != nil {
		return -1, false
	}
	if !p.Alive() { // the number may have been another's when it was opened
		unix.Close(fd)
		return -1, false
	}
	return fd, true
}

// Signal sends it a signal.
func (p Process) Signal(s unix.Signal) error {
	fd, ok := p.handle()
	if !ok {
		return unix.ESRCH
	}
	defer unix.Close(fd)
	return unix.PidfdSendSignal(fd, s, nil, 0)
}

// Kill ends it.
func (p Process) Kill() { _ = p.Signal(unix.SIGKILL) }

// WaitGone waits until it has ended, for at most a time; 0 is for ever. It tells whether it
// has.
func (p Process) WaitGone(most time.Duration) bool {
	fd, ok := p.handle()
	if !ok {
		return true
	}
	defer unix.Close(fd)
	begun := time.Now()
	for {
		rest := -1
		if most > 0 {
			rest = int(max(0, most-time.Since(begun)).Milliseconds())
		}
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, rest)
		switch {
		case err == unix.EINTR:
		case err != nil || n > 0:
			return err == nil
		default:
			return false
		}
	}
}

// Own is the init's own child: what the tree was started for, or what leads to it. When that
// has ended, the first of those that the init adopted; 0 for none.
func (t *Tree) Own() int {
	if below := Children(t.Pid); len(below) > 0 {
		return below[0]
	}
	return 0
}
