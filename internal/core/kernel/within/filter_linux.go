package within

import (
	"runtime"
	"syscall"
	"unsafe"

	"app.example/trammel/internal/core/kernel/unix"
)

// What the command of a closed view is not to do, though its user might. All of it holds for whatever it
// starts, too, and cannot be given up (prctl(2), "PR_SET_NO_NEW_PRIVS").

// instruction is struct sock_filter, and filter struct sock_fprog (linux/filter.h).
type instruction struct {
	code   uint16
	jt, jf uint8
	k      uint32
}

type filter struct {
	length uint16
	first  *instruction
}

// Parts of struct seccomp_data (linux/seccomp.h): the number of the call, the architecture that it is
// made by, and the lower half of its second argument, which is all that ioctl(2) looks at.
const (
	callNumber = 0
	callArch   = 4
	secondArg  = 24
)

// Architectures (linux/audit.h).
const (
	archAMD64 = 0xc000003e
	arch386   = 0x40000003
	archARM64 = 0xc00000b7
	archARM   = 0x40000028
)

// Requests of ioctl(2) by which a program types into a terminal, as if a person had
// (TIOCSTI in ioctl_tty(2), and pasting by TIOCLINUX in ioctl_console(2)).
const (
	requestSTI   = 0x5412
	requestLinux = 0x541c
)

// typing is a program for the kernel that refuses them, by whichever of a machine's calls.
func typing() []instruction {
	const load, equal, give = 0x20, 0x15, 0x06                                                         // BPF_LD|BPF_W|BPF_ABS, BPF_JMP|BPF_JEQ|BPF_K, BPF_RET|BPF_K
	const allow, deny = 0x7fff0000, 0x00050000 | uint32(syscall.EPERM)                                 // SECCOMP_RET_ALLOW, SECCOMP_RET_ERRNO
	wide, narrow, own, other := uint32(archAMD64), uint32(arch386), uint32(16), uint32(0x40000000+514) // the second is of x32
	if runtime.GOARCH == "arm64" {
		wide, narrow, own, other = archARM64, archARM, 29, 29
	}
	return []instruction{
		{load, 0, 0, callArch},
		{equal, 2, 0, wide},
		{equal, 4, 0, narrow},
		{give, 0, 0, deny}, // no call that this machine has
		{load, 0, 0, callNumber},
		{equal, 4, 0, own},
		{equal, 3, 2, other},
		{load, 0, 0, callNumber},
		{equal, 1, 0, 54}, // ioctl of both 32-bit machines
		{give, 0, 0, allow},
		{load, 0, 0, secondArg},
		{equal, 2, 0, requestSTI},
		{equal, 1, 0, requestLinux},
		{give, 0, 0, allow},
		{give, 0, 0, deny},
	}
}

// confine has the command not type into the terminal, not have the keys of the caller's session
// (keyrings(7)), and not connect to abstract sockets of programs outside, where the kernel knows how to
// refuse that (landlock(7), LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET, since Linux 6.12).
func (p *program) confine() {
	const joinSession = 1 // KEYCTL_JOIN_SESSION_KEYRING
	p.do("", unix.SYS_KEYCTL, joinSession, 0).may[0] = anyError
	scope := &[3]uint64{0, 0, 1} // struct landlock_ruleset_attr: nothing of files or ports, the scope
	p.held = append(p.held, scope)
	rules := p.slot()
	c := p.do("", unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(scope)), unsafe.Sizeof(*scope), 0)
	c.to, c.may[0] = rules, anyError
	c = p.do("", unix.SYS_LANDLOCK_RESTRICT_SELF, 0, 0)
	c.from, c.given, c.may[0] = rules, rules, anyError
	c = p.do("", syscall.SYS_CLOSE)
	c.from, c.given = rules, rules
	code := typing()
	f := &filter{uint16(len(code)), &code[0]}
	p.held = append(p.held, code, f)
	const setSeccomp, byFilter = 22, 2 // PR_SET_SECCOMP, SECCOMP_MODE_FILTER
	p.do("closing the terminal to typing", syscall.SYS_PRCTL, setSeccomp, byFilter, uintptr(unsafe.Pointer(f)))
}
