package proctree

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Process is one process and no other that has its number later.
type Process struct {
	Pid     int
	Started uint64 // clock ticks since the system's start (field 22 of proc_pid_stat(5))
}

// ProcessOf is the process that has a number now.
func ProcessOf(pid int) Process {
	started, _ := started(pid)
	return Process{pid, started}
}

// started is when a process began; ok is false when it has ended, also when nobody has
// asked for its exit code yet.
func started(pid int) (ticks uint64, ok bool) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, false
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(f) < 20 || f[0] == "Z" || f[0] == "X" {
		return 0, false
	}
	ticks, err = strconv.ParseUint(f[19], 10, 64)
	return ticks, err == nil
}

// Children are those of a process now, those that it adopted behind its own.
func Children(pid int) []int {
	if out, told := listed(pid); told {
		return out
	}
	return scanned(pid)
}

// listed asks the kernel, which tells where it was built to (CONFIG_PROC_CHILDREN). Each
// thread has children of its own.
func listed(pid int) (out []int, told bool) {
	tasks, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
	if err != nil {
		return nil, true // it is gone
	}
	for _, t := range tasks {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%s/children", pid, t.Name()))
		if err != nil {
			continue
		}
		told = true
		for text := range strings.FieldsSeq(string(b)) {
			if child, err := strconv.Atoi(text); err == nil {
				out = append(out, child)
			}
		}
	}
	return out, told
}

// scanned finds them among all processes, by what each says of its parent, in the order in
// which they began.
func scanned(pid int) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	began := map[int]uint64{}
	for _, e := range entries {
		child, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", child))
		if err != nil {
			continue
		}
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		if len(f) < 20 || f[1] != strconv.Itoa(pid) {
			continue
		}
		began[child], _ = strconv.ParseUint(f[19], 10, 64)
	}
	return slices.SortedFunc(maps.Keys(began), func(a, b int) int { return cmp.Or(cmp.Compare(began[a], began[b]), a-b) })
}

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
