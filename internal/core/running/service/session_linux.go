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
