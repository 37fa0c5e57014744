package peer

import (
	"os"
	"slices"
	"strconv"
	"syscall"
	"unsafe"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/unix"
)

// Help is the life of the helper. It ends when nobody can ask any more.
func Help(args []string) {
	l := looker{}
	if len(args) > 1 {
		l.door = args[1]
	}
	syscall.CloseOnExec(helperFd)
	var q question
	for {
		n, err := syscall.Read(helperFd, q[:])
		if err == syscall.EINTR {
			continue
		}
		if err != nil || n != questionSize {
			os.Exit(0)
		}
		a := l.answer(&q).pack()
		if _, err := syscall.Write(helperFd, a[:]); err != nil {
			os.Exit(0)
		}
	}
}

// recently is how many processes are looked at before all the others: a browser has many connections.
const recently = 8

// looker looks, in the namespaces of the process that it is in.
type looker struct {
	door   string
	recent []int // processes that had a connection, the last one first
}

func (l *looker) answer(q *question) Peer {
	if q[0] == byProcess {
		return l.process(number(q[38:]))
	}
	inode, user, ok := socket(q)
	if !ok || inode == 0 {
		return Peer{User: -1}
	}
	text := "socket:[" + strconv.FormatUint(uint64(inode), 10) + "]"
	for i, pid := range l.recent {
		if p, ok := l.holder(pid, user, text); ok {
			copy(l.recent[1:i+1], l.recent[:i])
			l.recent[0] = pid
			return p
		}
	}
	for _, pid := range processes() {
		if p, ok := l.holder(pid, user, text); ok {
			l.recent = append([]int{pid}, l.recent[:min(len(l.recent), recently-1)]...)
			return p
		}
	}
	return Peer{User: user}
}

// processes are all that this one sees, the newest first: who has just connected has often just begun.
func processes() (out []int) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil {
			out = append(out, pid)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out
}

// folder is a process's folder in /proc, held open: it is that process's and never another's, which may
// get the number later (proc(5)).
type folder int

func folderOf(pid int) (folder, bool) {
	fd, err := syscall.Open("/proc/"+strconv.Itoa(pid), syscall.O_RDONLY|syscall.O_DIRECTORY|syscall.O_CLOEXEC, 0)
	return folder(fd), err == nil
}

func (f folder) close() { _ = syscall.Close(int(f)) }

// link reads one of its links; "" where the kernel does not tell.
func (f folder) link(name string) string {
	var buffer [256]byte
	at, err := syscall.BytePtrFromString(name)
	if err != nil {
		return ""
	}
	n, _, errno := syscall.Syscall6(syscall.SYS_READLINKAT, uintptr(f), uintptr(unsafe.Pointer(at)), uintptr(unsafe.Pointer(&buffer[0])), uintptr(len(buffer)), 0, 0)
	if errno != 0 {
		return ""
	}
	return string(buffer[:n])
}

// open opens one of its files.
func (f folder) open(name string, flags int) (int, error) {
	return syscall.Openat(int(f), name, flags|syscall.O_CLOEXEC, 0)
}

// holds tells whether one of its descriptors is a socket, by the text of its link.
func (f folder) holds(socket string) bool {
	fd, err := f.open("fd", syscall.O_RDONLY|syscall.O_DIRECTORY)
	if err != nil {
		return false
	}
	all := os.NewFile(uintptr(fd), "fd")
	defer all.Close()
	for {
		names, err := all.Readdirnames(256)
		for _, name := range names {
			if folder(fd).link(name) == socket {
				return true
			}
		}
		if err != nil || len(names) == 0 {
			return false
		}
	}
}

// holder is a process, if it is a user's and holds a socket.
func (l *looker) holder(pid, user int, socket string) (Peer, bool) {
	var info syscall.Stat_t
	f, ok := folderOf(pid)
	if !ok {
		return Peer{}, false
	}
	defer f.close()
	if syscall.Fstat(int(f), &info) != nil || int(info.Uid) != user && info.Uid != 0 || !f.holds(socket) {
		return Peer{}, false
	}
	p := l.sees(f, pid)
	p.User = user
	return p, true
}

// process is what a process sees.
func (l *looker) process(pid int) Peer {
	f, ok := folderOf(pid)
	if !ok {
		return Peer{User: -1}
	}
	defer f.close()
	p := l.sees(f, pid)
	p.User = -1
	var info syscall.Stat_t
	if syscall.Fstat(int(f), &info) == nil {
		p.User = int(info.Uid)
	}
	return p
}

// own is this process's own link.
func own(name string) string {
	text, _ := os.Readlink("/proc/self/" + name)
	return text
}

// sees compares what a process sees with what a login does, which this process is in.
func (l *looker) sees(f folder, pid int) Peer {
	p := Peer{Pid: pid}
	same := func(name string) bool {
		text := f.link(name)
		return text != "" && text == own(name)
	}
	p.Files = same("ns/pid") && same("ns/mnt")
	p.Login = p.Files && same("ns/user") && same("ns/net")
	if !p.Files {
		p.Seal = sealed(f)
		p.Door = p.Seal && l.shows(f)
	}
	return p
}

// sealed tells whether a process descends from the init of a sealed view. That one is the first of its
// namespace of processes and of one of IPC, and is this program: nobody inside can become it, change it
// or leave what descends from it (pid_namespaces(7)).
func sealed(f folder) bool {
	ours, ipc := own("ns/pid"), own("ns/ipc")
	for range mostAncestors {
		text := f.link("ns/pid")
		if text == ours {
			return false
		}
		// What cannot be looked at is taken for the stricter.
		if text == "" || f.link("ns/ipc") != ipc && f.named(viewName) {
			return true
		}
		parent := f.parent()
		if parent <= 1 {
			return false
		}
		next, ok := folderOf(parent)
		if !ok {
			return true
		}
		defer next.close()
		f = next
	}
	return true
}

// mostAncestors bounds the way up.
const mostAncestors = 4096

// viewName is what the init of a view is called (PR_SET_NAME in prctl(2)), as package within has it.
const viewName = "trammel"

// read reads one of its files, as far as a page goes.
func (f folder) read(name string) string {
	fd, err := f.open(name, syscall.O_RDONLY)
	if err != nil {
		return ""
	}
	defer syscall.Close(fd)
	var buffer [4096]byte
	n, err := syscall.Read(fd, buffer[:])
	if err != nil || n < 0 {
		return ""
	}
	return string(buffer[:n])
}

// named tells whether a process is called so.
func (f folder) named(name string) bool { return plain.TrimSuffix(f.read("comm"), "\n") == name }

// parent is the number of the process that started it; 0 where that is not told (proc_pid_stat(5)).
func (f folder) parent() int {
	text := f.read("stat")
	fields := plain.Fields(text[plain.LastIndexByte(text, ')')+1:])
	if len(fields) < 2 {
		return 0
	}
	pid, err := strconv.Atoi(fields[1])
	if err != nil {
		return 0
	}
	return pid
}

// shows tells whether a process's view shows the door itself, at the door's own path. No link on the
// way is followed: those inside lead where the ones inside want.
func (l *looker) shows(f folder) bool {
	var door, inside syscall.Stat_t
	if l.door == "" || syscall.Stat(l.door, &door) != nil {
		return false
	}
	const path = 0x200000 // O_PATH of open(2)
	root, err := f.open("root", path|syscall.O_DIRECTORY)
	if err != nil {
		return false
	}
	defer syscall.Close(root)
	fd, err := unix.OpenBelow(root, plain.TrimPrefix(l.door, "/"), path|syscall.O_CLOEXEC)
	if err != nil {
		return false
	}
	defer syscall.Close(fd)
	return syscall.Fstat(fd, &inside) == nil && inside.Dev == door.Dev && inside.Ino == door.Ino
}
