package supervise

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// keepRights leaves the rights that private networks take to this process alone: what
// it starts gets none of them. Each thread has its own, so all are told.
func keepRights() {
	_, _, _ = syscall.AllThreadsSyscall6(syscall.SYS_PRCTL, unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0, 0)
}
