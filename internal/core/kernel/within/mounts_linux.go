package within

import (
	"errors"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/unix"
)

// atFolder is the folder that a process is in, among the arguments of system calls (openat(2)).
const atFolder = ^uintptr(0) - 99 // AT_FDCWD

// mounted is something of the host, held to be put into the new root.
type mounted struct {
	slot   int    // that has it
	at     string // relative to the new root
	file   bool
	hidden bool // an empty folder is put over it instead
}

// view makes the view the root of the process that plays the program (mount_namespaces(7),
// pivot_root(2)), and the order's folder its own. env is the command's.
func (p *program) view(o Order, env []string) error {
	p.mapped()
	mask := p.slot() // the modes of what is made here are meant; the caller's own is the command's again
	p.do("taking the umask", syscall.SYS_UMASK, 0).to = mask
	p.do("making mounts private", syscall.SYS_MOUNT, 0, p.text("/"), 0, unix.MS_REC|unix.MS_PRIVATE, 0).deny = true
	base, over, err := layout(o.View, o.Making, thisMachine{})
	if err != nil {
		return err
	}
	system, err := p.holdAll(base)
	if err != nil {
		return err
	}
	rest, err := p.holdAll(over)
	if err != nil {
		return err
	}
	const stage = "/tmp"
	p.mount("tmpfs", stage, unix.MS_NOSUID|unix.MS_NODEV, "mode=0755,size=64m")
	p.do("going to "+stage, syscall.SYS_CHDIR, p.text(stage))
	p.skeleton(o.View)
	for _, m := range system {
		p.place(m)
	}
	for _, name := range top {
		if _, err := os.Lstat(path.Join(o.View.Root, "usr", name)); err == nil {
			p.link("usr/"+name, name)
		}
	}
	if o.View.Closed {
		if err := p.kernelFolders(); err != nil {
			return err
		}
	} else {
		p.hostLinks()
	}
	for _, m := range rest {
		p.place(m)
	}
	for _, m := range rest { // what was to be put into them is there
		if m.hidden {
			p.set(m.at, unix.MOUNT_ATTR_RDONLY)
		}
	}
	p.identity(o.View.Root, env)
	p.set(".", unix.MOUNT_ATTR_RDONLY)
	here := p.text(".")
	p.do("changing the root", syscall.SYS_PIVOT_ROOT, here, here).deny = true
	p.do("leaving the host's root", syscall.SYS_UMOUNT2, here, unix.MNT_DETACH)
	p.do("going to the root", syscall.SYS_CHDIR, p.text("/"))
	p.do("giving the umask back", syscall.SYS_UMASK).from = mask
	p.begin(o)
	return nil
}

// begin goes to the order's folder and gives up what the command is not to have.
func (p *program) begin(o Order) {
	there := p.slot()
	c := p.do("", syscall.SYS_CHDIR, p.text(o.Dir))
	c.to, c.may[0] = there, anyError
	p.do("the folder "+o.View.Work+" does not show in the sealed root", syscall.SYS_CHDIR, p.text(o.View.Work)).unless = there
	const setName, setDumpable = 15, 4 // PR_SET_NAME and PR_SET_DUMPABLE
	p.do("naming", syscall.SYS_PRCTL, setName, p.text("trammel"))
	if !o.View.Closed {
		return
	}
	if p.session = !o.Terminal; o.Terminal {
		p.terminal = p.slot()
		c := p.do("", syscall.SYS_OPENAT, atFolder, p.text("/dev/tty"), syscall.O_RDWR|syscall.O_CLOEXEC, 0)
		c.to, c.may[0] = p.terminal, anyError
	}
	p.do("giving up privileges", syscall.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1)
	p.confine()
	// Its memory is that of the process that forked it, with the host's variables in it: nobody
	// inside may look there.
	p.do("closing its memory", syscall.SYS_PRCTL, setDumpable, 0)
}

// holdAll takes hold of things of the host, before the new root covers some of them.
func (p *program) holdAll(list []shown) (out []mounted, err error) {
	for _, x := range list {
		if x.from == "" {
			out = append(out, mounted{at: x.at, hidden: true})
			continue
		}
		info, err := os.Stat(x.from)
		switch {
		case err != nil && (x.lack == unheld || x.lack == absent && errors.Is(err, unix.ENOENT)):
			continue
		case err != nil:
			return nil, unwrap(err)
		case x.file && info.IsDir():
			continue
		}
		m := mounted{at: plain.TrimPrefix(x.at, "/"), file: !info.IsDir()}
		m.slot = p.hold(x.from, x.flags, x.lack)
		out = append(out, m)
	}
	return out, nil
}

// hold takes hold of a folder or file with all that is mounted below it, and sets
// attributes on the copy of the mounts alone (open_tree(2), mount_setattr(2)).
func (p *program) hold(from string, attributes uint64, lack lack) (slot int) {
	slot = p.slot()
	c := p.do("taking "+from, unix.SYS_OPEN_TREE, atFolder, p.text(from), unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE)
	c.to = slot
	switch lack {
	case absent:
		c.may[0] = uintptr(unix.ENOENT)
	case unheld:
		c.may[0] = anyError
	}
	if attributes != 0 {
		at, size := p.attributes(attributes | unix.MOUNT_ATTR_NOSUID)
		c := p.do("closing "+from, unix.SYS_MOUNT_SETATTR, 0, p.text(""), unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, at, size)
		c.from, c.given = slot, slot
	}
	return slot
}

func unwrap(err error) error {
	var at *os.PathError
	if errors.As(err, &at) {
		return &because{at.Path + ": ", at.Err}
	}
	return err
}

// place puts what is held into the new root.
func (p *program) place(m mounted) {
	taken := "/" + m.at + " lies where the root's own system shows: keep projects and Trammel's folders out of /usr, /etc and /opt"
	for at := 0; ; at++ {
		next := plain.IndexByte(m.at[at:], '/')
		if next < 0 {
			break
		}
		if at += next; !p.made[m.at[:at]] {
			p.made[m.at[:at]] = true
			p.folder(taken, m.at[:at])
		}
	}
	if m.file {
		c := p.do(taken, syscall.SYS_MKNODAT, atFolder, p.text(m.at), syscall.S_IFREG|0o644, 0)
		c.may[0], c.given = uintptr(syscall.EEXIST), m.slot
	} else {
		p.folder(taken, m.at).given = m.slot
	}
	if m.hidden {
		p.mount("tmpfs", m.at, unix.MS_NOSUID|unix.MS_NODEV, "mode=0755,size=64k")
		return
	}
	p.put(m.slot, m.at)
}

// put attaches what a slot holds.
func (p *program) put(slot int, at string) {
	c := p.do("showing /"+at, unix.SYS_MOVE_MOUNT, 0, p.text(""), atFolder, p.text(at), unix.MOVE_MOUNT_F_EMPTY_PATH)
	c.from, c.given = slot, slot
	c = p.do("showing /"+at, syscall.SYS_CLOSE)
	c.from, c.given = slot, slot
}

// folder makes a folder where there is none.
func (p *program) folder(what, at string) *call {
	c := p.do(what, syscall.SYS_MKDIRAT, atFolder, p.text(at), 0o755)
	c.may[0] = uintptr(syscall.EEXIST)
	return c
}

// link makes a symbolic link.
func (p *program) link(target, at string) *call {
	return p.do("a link at /"+at, syscall.SYS_SYMLINKAT, p.text(target), atFolder, p.text(at))
}

// mount mounts a file system of the kernel's own.
func (p *program) mount(kind, at string, flags uintptr, options string) {
	k := p.text(kind)
	p.do("mounting /"+plain.TrimPrefix(at, "/"), syscall.SYS_MOUNT, k, p.text(at), k, flags, p.text(options)).deny = true
}

// set sets attributes of a mount.
func (p *program) set(at string, attributes uint64) {
	attr, size := p.attributes(attributes)
	p.do("closing /"+plain.TrimPrefix(at, "."), unix.SYS_MOUNT_SETATTR, atFolder, p.text(at), 0, attr, size)
}

// skeleton makes the folders that a view mounts things on.
func (p *program) skeleton(v View) {
	folders := []string{"usr", "etc", "opt"}
	if v.Closed {
		folders = append(folders, "proc", "dev", "sys", "tmp", "run", "home", "root", "mnt", "srv", "var", "var/tmp", "var/lib", "var/cache", "var/log", "var/spool")
	}
	for _, dir := range folders {
		p.folder("the folder /"+dir, dir)
	}
	if v.Closed {
		p.link("../run", "var/run")
		p.do("opening /var/tmp", syscall.SYS_FCHMODAT, atFolder, p.text("var/tmp"), 0o1777)
	}
}

// hostLinks makes the links of the host's top level again.
func (p *program) hostLinks() {
	entries, _ := os.ReadDir("/")
	for _, e := range entries {
		if target, err := os.Readlink("/" + e.Name()); err == nil && !slices.Contains(top, e.Name()) {
			p.link(target, e.Name()).may[0] = anyError
		}
	}
}

// kernelFolders mounts /proc, /dev, /tmp and /run afresh.
func (p *program) kernelFolders() error {
	p.mount("proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	if err := p.closeProc(); err != nil {
		return err
	}
	p.mount("tmpfs", "dev", unix.MS_NOSUID|unix.MS_NOEXEC, "mode=0755,size=64k")
	for _, x := range [][2]string{{"/proc/self/fd", "fd"}, {"/proc/self/fd/0", "stdin"}, {"/proc/self/fd/1", "stdout"}, {"/proc/self/fd/2", "stderr"}, {"pts/ptmx", "ptmx"}} {
		p.link(x[0], "dev/"+x[1])
	}
	p.folder("the folder /dev/pts", "dev/pts")
	p.folder("the folder /dev/shm", "dev/shm")
	p.mount("devpts", "dev/pts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620")
	for _, dir := range []string{"dev/shm", "tmp"} {
		p.mount("tmpfs", dir, unix.MS_NOSUID|unix.MS_NODEV, "mode=1777")
	}
	p.mount("tmpfs", "run", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755")
	return nil
}

// kernelSettings are what /proc has of the machine besides its processes: settings of the
// kernel, and files that act on it when they are written (proc(5)). A caller who is root
// outside may write them by the kernel's rules, whatever number shows inside.
var kernelSettings = []string{"sys", "sysrq-trigger", "irq", "bus", "fs", "acpi", "scsi", "mtrr", "timer_list", "latency_stats", "asound", "driver"}

// closedFiles are what /proc shows of the kernel's memory, and of keys: they show empty.
var closedFiles = []string{"kcore", "keys", "kmsg", "sched_debug", "kallsyms", "kpagecount", "kpageflags", "kpagecgroup"}

// closeProc makes all of /proc that is of the machine read-only, and closes what shows the
// kernel's memory. Processes keep their own files, which they may need to write. What there is it
// reads of the caller's own /proc: that of the machine is the same in every one, and the kernel
// gives a new one only to who sees all of it already (mount_namespaces(7), "Restrictions").
func (p *program) closeProc() error {
	const procMagic = 0x9fa0 // statfs(2)
	var fs syscall.Statfs_t
	if err := syscall.Statfs("/proc", &fs); err != nil || fs.Type != procMagic {
		return errors.New("/proc is not the kernel's here, and what is to be closed of it cannot be told")
	}
	names, err := ofMachine()
	if err != nil {
		return err
	}
	if !slices.Contains(names, kernelSettings[0]) {
		return errors.New("/proc shows only processes here, and what is to be closed of it cannot be told")
	}
	for _, name := range names {
		at := "proc/" + name
		if slices.Contains(kernelSettings, name) {
			slot := p.slot()
			c := p.do("taking /"+at, unix.SYS_OPEN_TREE, atFolder, p.text(at), unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE)
			c.to, c.may[0] = slot, uintptr(unix.ENOENT)
			attr, size := p.attributes(unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_NOEXEC)
			c = p.do("closing /"+at, unix.SYS_MOUNT_SETATTR, 0, p.text(""), unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, attr, size)
			c.from, c.given = slot, slot
			p.put(slot, at)
			continue
		}
		info, err := os.Stat("/" + at)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		from := at
		if slices.Contains(closedFiles, name) {
			from = "/dev/null"
		} else if info.Mode().Perm()&0o222 == 0 {
			continue
		}
		slot := p.slot()
		c := p.do("taking /"+at, unix.SYS_OPEN_TREE, atFolder, p.text(from), unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
		c.to = slot
		attr, size := p.attributes(unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID)
		c = p.do("closing /"+at, unix.SYS_MOUNT_SETATTR, 0, p.text(""), unix.AT_EMPTY_PATH, attr, size)
		c.from = slot
		p.put(slot, at)
	}
	return nil
}

// ofMachine are the names in /proc that are no process's. They come first, and the processes, of which
// there may be thousands, are not listed (proc_root_readdir in fs/proc/root.c).
func ofMachine() (names []string, err error) {
	f, err := os.Open("/proc")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for {
		part, err := f.Readdirnames(64)
		if err == io.EOF {
			return names, nil
		}
		if err != nil {
			return nil, err
		}
		for _, name := range part {
			if number(name) {
				return names, nil
			}
			names = append(names, name)
		}
	}
}

// number tells whether a name is one of a process.
func number(name string) bool {
	_, err := strconv.ParseUint(name, 10, 64)
	return err == nil
}

// identity writes who the caller is, and shows that in place of the root's own
// list of users.
func (p *program) identity(root string, env []string) {
	user, home := "", ""
	for _, line := range env {
		if value, ok := plain.CutPrefix(line, "USER="); ok {
			user = value
		}
		if value, ok := plain.CutPrefix(line, "HOME="); ok {
			home = value
		}
	}
	if user == "" || plain.ContainsAny(user, ":\n") || user == "root" {
		user = "user"
	}
	if home == "" || plain.ContainsAny(home, ":\n") {
		home = "/"
	}
	uid, gid := inner()
	for _, x := range [][2]string{
		{"passwd", "root:x:0:0:root:/root:/bin/sh\n" + user + ":x:" + strconv.Itoa(uid) + ":" + strconv.Itoa(gid) + "::" + home + ":/bin/bash\nnobody:x:65534:65534:nobody:/:/bin/sh\n"},
		{"group", "root:x:0:\n" + user + ":x:" + strconv.Itoa(gid) + ":\nnogroup:x:65534:\n"},
	} {
		at := "etc/" + x[0]
		if _, err := os.Stat(path.Join(root, at)); err != nil {
			continue // a root that is being made
		}
		own := "." + x[0]
		p.write(own, syscall.O_WRONLY|syscall.O_CREAT|syscall.O_EXCL, x[1])
		p.place(mounted{slot: p.hold(own, unix.MOUNT_ATTR_RDONLY, refused), at: at, file: true})
		p.do("writing /"+at, syscall.SYS_UNLINKAT, atFolder, p.text(own), 0)
	}
}
