package service

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// sessions are the ways to start a supervisor, the best first: in a session of its own,
// so that it outlives this process and its terminal. An ordinary user's is also in a
// namespace of users of its own, with the rights there that private networks take
// (user_namespaces(7)), where the kernel gives one.
func sessions() []*syscall.SysProcAttr {
	plain := &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 {
		return []*syscall.SysProcAttr{plain}
	}
	return []*syscall.SysProcAttr{{
		Setsid: true, Cloneflags: syscall.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: os.Getuid(), HostID: os.Getuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}},
		AmbientCaps: []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN},
	}, plain}
}

// apart tells whether a supervisor that is started so is in another namespace of users than this process.
func apart(a *syscall.SysProcAttr) bool { return a.Cloneflags&syscall.CLONE_NEWUSER != 0 }

// pair makes two ends of a connection that keeps messages apart (SOCK_SEQPACKET in unix(7)).
func pair() (a, b *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(fds[0]), "asks"), os.NewFile(uintptr(fds[1]), "answers"), nil
}
