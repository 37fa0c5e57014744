// Package unix is the few system calls that the roles of this program need which it plays
// before its libraries are initialised: what the standard library has, under the names of
// golang.org/x/sys/unix, and what it lacks, by number. A package is initialised only after
// those that it imports, and in the order of import paths: with x/sys, which comes after
// github.com, a role would start after nearly all libraries (Go specification, "Package
// initialization"; docs/inside.md). The numbers are the same on all architectures that Linux
// took up since 2011 (Documentation/process/adding-syscalls), and for these calls on amd64.
package unix

import (
	"syscall"
	"unsafe"
)

// The calls that the standard library lacks.
const (
	sysPidfdSendSignal = 424
	SYS_OPEN_TREE      = 428
	SYS_MOVE_MOUNT     = 429
	sysPidfdOpen       = 434
	SYS_MOUNT_SETATTR  = 442

	SYS_LANDLOCK_CREATE_RULESET = 444
	SYS_LANDLOCK_RESTRICT_SELF  = 446
)

// SYS_KEYCTL is keyctl(2).
const SYS_KEYCTL = syscall.SYS_KEYCTL

// Constants as in the kernel's headers (linux/mount.h, linux/prctl.h, linux/fcntl.h).
const (
	AT_FDCWD      = -0x64
	AT_EMPTY_PATH = 0x1000
	AT_RECURSIVE  = 0x8000

	OPEN_TREE_CLONE         = 0x1
	OPEN_TREE_CLOEXEC       = syscall.O_CLOEXEC
	MOVE_MOUNT_F_EMPTY_PATH = 0x4

	MOUNT_ATTR_RDONLY = 0x1
	MOUNT_ATTR_NOSUID = 0x2
	MOUNT_ATTR_NODEV  = 0x4
	MOUNT_ATTR_NOEXEC = 0x8

	MS_NOSUID  = syscall.MS_NOSUID
	MS_NODEV   = syscall.MS_NODEV
	MS_NOEXEC  = syscall.MS_NOEXEC
	MS_REC     = syscall.MS_REC
	MS_PRIVATE = syscall.MS_PRIVATE
	MNT_DETACH = syscall.MNT_DETACH

	CAP_SYS_ADMIN = 0x15

	PR_SET_CHILD_SUBREAPER         = 36
	PR_SET_NO_NEW_PRIVS            = 38
	PR_CAP_AMBIENT                 = 47
	PR_CAP_AMBIENT_CLEAR_ALL       = 4
	POLLIN                   int16 = 0x1

	TIOCGPGRP = syscall.TIOCGPGRP
	TIOCSPGRP = syscall.TIOCSPGRP

	WNOHANG   = syscall.WNOHANG
	WUNTRACED = syscall.WUNTRACED
)

// Errors and signals.
const (
	EACCES = syscall.EACCES
	EINTR  = syscall.EINTR
	EINVAL = syscall.EINVAL
	ENOENT = syscall.ENOENT
	ENOSPC = syscall.ENOSPC
	ENOSYS = syscall.ENOSYS
	EPERM  = syscall.EPERM
	ESRCH  = syscall.ESRCH
	EUSERS = syscall.EUSERS

	SIGCONT = syscall.SIGCONT
	SIGHUP  = syscall.SIGHUP
	SIGINT  = syscall.SIGINT
	SIGKILL = syscall.SIGKILL
	SIGQUIT = syscall.SIGQUIT
	SIGSTOP = syscall.SIGSTOP
	SIGTERM = syscall.SIGTERM
	SIGTTOU = syscall.SIGTTOU
	SIGUSR1 = syscall.SIGUSR1
	SIGUSR2 = syscall.SIGUSR2
)

// What the standard library has.
type (
	Signal     = syscall.Signal
	WaitStatus = syscall.WaitStatus
)

// MountAttr is struct mount_attr of mount_setattr(2).
type MountAttr struct {
	Attr_set, Attr_clr, Propagation, Userns_fd uint64
}

// PollFd is struct pollfd of poll(2).
type PollFd struct {
	Fd              int32
	Events, Revents int16
}

func failed(errno syscall.Errno) error {
	if errno == 0 {
		return nil
	}
	return errno
}

// Close closes a descriptor.
func Close(fd int) error { return syscall.Close(fd) }

// CloseOnExec keeps a descriptor from commands that are started.
func CloseOnExec(fd int) { syscall.CloseOnExec(fd) }

// Getpid is this process's id.
func Getpid() int { return syscall.Getpid() }

// Getpgrp is this process's group.
func Getpgrp() int { return syscall.Getpgrp() }

// Gettid is this thread's id.
func Gettid() int { return syscall.Gettid() }

// Kill sends a signal.
func Kill(pid int, s syscall.Signal) error { return syscall.Kill(pid, s) }

// Tgkill sends a signal to a thread.
func Tgkill(tgid, tid int, s syscall.Signal) error {
	_, _, errno := syscall.RawSyscall(syscall.SYS_TGKILL, uintptr(tgid), uintptr(tid), uintptr(s))
	return failed(errno)
}

// Wait4 waits for a process.
func Wait4(pid int, status *WaitStatus, options int, usage *syscall.Rusage) (int, error) {
	return syscall.Wait4(pid, status, options, usage)
}

// Mount attaches a file system.
func Mount(source, target, kind string, flags uintptr, data string) error {
	return syscall.Mount(source, target, kind, flags, data)
}

// Prctl changes what this process may (prctl(2)).
func Prctl(option int, a, b, c, d uintptr) error {
	_, _, errno := syscall.Syscall6(syscall.SYS_PRCTL, uintptr(option), a, b, c, d, 0)
	return failed(errno)
}

// PidfdOpen opens a process (pidfd_open(2)).
func PidfdOpen(pid, flags int) (int, error) {
	fd, _, errno := syscall.Syscall(sysPidfdOpen, uintptr(pid), uintptr(flags), 0)
	return int(fd), failed(errno)
}

// PidfdSendSignal sends a signal to a process that is open.
func PidfdSendSignal(fd int, s syscall.Signal, _ *struct{}, flags int) error {
	_, _, errno := syscall.Syscall6(sysPidfdSendSignal, uintptr(fd), uintptr(s), 0, uintptr(flags), 0, 0)
	return failed(errno)
}

// Poll waits for descriptors, for at most some milliseconds; -1 is without end.
func Poll(fds []PollFd, timeout int) (int, error) {
	var limit *syscall.Timespec
	if timeout >= 0 {
		t := syscall.NsecToTimespec(int64(timeout) * 1e6)
		limit = &t
	}
	n, _, errno := syscall.Syscall6(syscall.SYS_PPOLL, uintptr(unsafe.Pointer(unsafe.SliceData(fds))), uintptr(len(fds)), uintptr(unsafe.Pointer(limit)), 0, 0, 0)
	return int(n), failed(errno)
}

// IoctlGetInt reads a number of a terminal.
func IoctlGetInt(fd int, request uint) (int, error) {
	var value int32
	_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, uintptr(fd), uintptr(request), uintptr(unsafe.Pointer(&value)))
	return int(value), failed(errno)
}

// IoctlSetPointerInt sets one.
func IoctlSetPointerInt(fd int, request uint, value int) error {
	v := int32(value)
	_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, uintptr(fd), uintptr(request), uintptr(unsafe.Pointer(&v)))
	return failed(errno)
}

// sysOpenat2 is openat2(2).
const sysOpenat2 = 437

// OpenBelow opens a file below a folder. No link on the way is followed, and nothing above the folder
// is reached (RESOLVE_BENEATH, RESOLVE_NO_SYMLINKS and RESOLVE_NO_MAGICLINKS in openat2(2)).
func OpenBelow(dir int, name string, flags int) (int, error) {
	at, err := syscall.BytePtrFromString(name)
	if err != nil {
		return -1, err
	}
	how := struct{ flags, mode, resolve uint64 }{uint64(flags), 0, 0x8 | 0x4 | 0x2}
	fd, _, errno := syscall.Syscall6(sysOpenat2, uintptr(dir), uintptr(unsafe.Pointer(at)), uintptr(unsafe.Pointer(&how)), unsafe.Sizeof(how), 0, 0)
	return int(fd), failed(errno)
}
