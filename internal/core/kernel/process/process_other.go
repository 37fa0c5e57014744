//go:build !linux

package process

import (
	"syscall"
	"time"
)

// Process is one process; here it is told by its number alone.
type Process struct {
	Pid     int
	Started uint64 // 0: not known here
}

// Boot names the present start of the system, which is not said here.
func Boot() string { return "-" }

// ProcessOf is the process that has a number now.
func ProcessOf(pid int) Process { return Process{Pid: pid} }

// Alive tells whether it has not ended.
func (p Process) Alive() bool { return syscall.Kill(p.Pid, 0) == nil }

// Signal sends it a signal.
func (p Process) Signal(s syscall.Signal) error { return syscall.Kill(p.Pid, s) }

// Kill does nothing here: the number may be another's by now.
func (p Process) Kill() {}

// WaitGone waits until it has ended, for at most a time, or ten seconds. It tells whether
// it has.
func (p Process) WaitGone(most time.Duration) bool {
	if most == 0 {
		most = 10 * time.Second
	}
	for end := time.Now().Add(most); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if !p.Alive() {
			return true
		}
	}
	return false
}

// Starved is for Linux; elsewhere nothing tells.
func (t *Tree) Starved() bool { return false }

// Own is for Linux; elsewhere there is no init.
func (t *Tree) Own() int { return t.Pid }
