package within

import (
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"app.example/trammel/internal/core/kernel/unix"
)

// mounted is something of the host, held to be put into the new root.
type mounted struct {
	fd     int
	at     string // relative to the new root
	file   bool
	hidden bool // an empty folder is put over it instead
}

// setUp makes the view this process's root (mount_namespaces(7), pivot_root(2)).
func setUp(v View, making bool) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("refused making mounts private: %w", err)
	}
	base, over, err := layout(v, making, thisMachine{})
	if err != nil {
		return err
	}
	system, err := holdAll(base)
	if err != nil {
		return err
	}
	rest, err := holdAll(over)
	if err != nil {
		return err
	}
	const stage = "/tmp"
	if err := unix.Mount("tmpfs", stage, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755,size=64m"); err != nil {
		return fmt.Errorf("refused mounting: %w", err)
	}
	if err := os.Chdir(stage); err != nil {
		return err
	}
	if err := skeleton(v); err != nil {
		return err
	}
	for _, m := range system {
		if err := m.place(); err != nil {
			return err
		}
	}
	for _, name := range top {
		if _, err := os.Lstat("usr/" + name); err == nil {
			if err := os.Symlink("usr/"+name, name); err != nil {
				return err
			}
		}
	}
	if v.Closed {
		if err := kernelFolders(); err != nil {
			return err
		}
	} else {
		hostLinks()
	}
	for _, m := range rest {
		if err := m.place(); err != nil {
			return err
		}
	}
	for _, m := range rest { // what was to be put into them is there
		if m.hidden {
			if err := unix.MountSetattr(unix.AT_FDCWD, m.at, 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
				return fmt.Errorf("closing /%s: %w", m.at, err)
			}
		}
	}
	if err := identity(); err != nil {
		return err
	}
	return enter()
}

// holdAll takes hold of things of the host, before the new root covers some of them.
func holdAll(list []shown) (out []mounted, err error) {
	for _, x := range list {
		if x.from == "" {
			out = append(out, mounted{at: x.at, hidden: true})
			continue
		}
		m, err := hold(x.from, x.at, x.flags)
		switch {
		case err != nil && (x.lack == unheld || x.lack == absent && errors.Is(err, unix.ENOENT)):
		case err != nil:
			return nil, err
		case x.file && !m.file:
			unix.Close(m.fd)
		default:
			out = append(out, m)
		}
	}
	return out, nil
}

// enter closes the folder that this process is in and makes it the root.
func enter() error {
	if err := unix.MountSetattr(unix.AT_FDCWD, ".", 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
		return fmt.Errorf("closing the root: %w", err)
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("refused changing the root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return err
	}
	return os.Chdir("/")
}

// hold takes hold of a folder or file with all that is mounted below it, and sets
// attributes on the copy of the mounts alone (open_tree(2), mount_setattr(2)).
func hold(path, at string, attributes uint64) (mounted, error) {
	info, err := os.Stat(path)
	if err != nil {
		return mounted{}, unwrap(err)
	}
	fd, err := unix.OpenTree(unix.AT_FDCWD, path, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE)
	if errors.Is(err, unix.ENOSYS) {
		return mounted{}, errors.New("this kernel is too old for sealed roots: they need Linux 5.12")
	}
	if err != nil {
		return mounted{}, fmt.Errorf("taking %s: %w", path, err)
	}
	if attributes != 0 {
		err = unix.MountSetattr(fd, "", unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: attributes | unix.MOUNT_ATTR_NOSUID})
		if err != nil {
			unix.Close(fd)
			return mounted{}, fmt.Errorf("closing %s: %w", path, err)
		}
	}
	return mounted{fd: fd, at: strings.TrimPrefix(at, "/"), file: !info.IsDir()}, nil
}

func unwrap(err error) error {
	var at *os.PathError
	if errors.As(err, &at) {
		return fmt.Errorf("%s: %w", at.Path, at.Err)
	}
	return err
}

// place puts what is held into the new root.
func (m mounted) place() error {
	if _, err := os.Lstat(m.at); err != nil {
		if err := os.MkdirAll(path.Dir(m.at), 0o755); err != nil {
			return fmt.Errorf("/%s lies where the root's own system shows: keep projects and Trammel's folders out of /usr, /etc and /opt", m.at)
		}
		make := func() error { return os.Mkdir(m.at, 0o755) }
		if m.file {
			make = func() error { return os.WriteFile(m.at, nil, 0o644) }
		}
		if err := make(); err != nil {
			return fmt.Errorf("a place for /%s: %w", m.at, err)
		}
	}
	if m.hidden {
		if err := unix.Mount("tmpfs", m.at, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755,size=64k"); err != nil {
			return fmt.Errorf("hiding /%s: %w", m.at, err)
		}
		return nil
	}
	if err := unix.MoveMount(m.fd, "", unix.AT_FDCWD, m.at, unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return fmt.Errorf("showing /%s: %w", m.at, err)
	}
	return unix.Close(m.fd)
}

// skeleton makes the folders that a view mounts things on.
func skeleton(v View) error {
	for _, dir := range []string{"usr", "etc", "opt", "proc", "dev", "sys", "tmp", "run", "home", "root", "mnt", "srv", "var/tmp", "var/lib", "var/cache", "var/log", "var/spool"} {
		if !v.Closed && !slices.Contains([]string{"usr", "etc", "opt"}, dir) {
			continue
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if v.Closed {
		if err := os.Symlink("../run", "var/run"); err != nil {
			return err
		}
		return os.Chmod("var/tmp", 0o1777)
	}
	return nil
}

// hostLinks makes the links of the host's top level again.
func hostLinks() {
	entries, _ := os.ReadDir("/")
	for _, e := range entries {
		if target, err := os.Readlink("/" + e.Name()); err == nil && !slices.Contains(top, e.Name()) {
			_ = os.Symlink(target, e.Name())
		}
	}
}

// kernelFolders mounts /proc, /dev, /tmp and /run afresh.
func kernelFolders() error {
	mount := func(kind, at string, flags uintptr, options string) error {
		if err := unix.Mount(kind, at, kind, flags, options); err != nil {
			return fmt.Errorf("refused mounting /%s: %w", at, err)
		}
		return nil
	}
	if err := mount("proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return err
	}
	if err := closeProc(); err != nil {
		return err
	}
	if err := mount("tmpfs", "dev", unix.MS_NOSUID|unix.MS_NOEXEC, "mode=0755,size=64k"); err != nil {
		return err
	}
	for link, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx"} {
		if err := os.Symlink(target, "dev/"+link); err != nil {
			return err
		}
	}
	for _, dir := range []string{"dev/pts", "dev/shm"} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
	}
	if err := mount("devpts", "dev/pts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620"); err != nil {
		return err
	}
	for _, dir := range []string{"dev/shm", "tmp"} {
		if err := mount("tmpfs", dir, unix.MS_NOSUID|unix.MS_NODEV, "mode=1777"); err != nil {
			return err
		}
	}
	return mount("tmpfs", "run", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755")
}

// kernelSettings are what /proc has of the machine besides its processes: settings of the
// kernel, and files that act on it when they are written (proc(5)). A caller who is root
// outside may write them by the kernel's rules, whatever number shows inside.
var kernelSettings = []string{"sys", "sysrq-trigger", "irq", "bus", "fs", "acpi", "scsi", "mtrr", "timer_list", "latency_stats", "asound", "driver"}

// closedFiles are what /proc shows of the kernel's memory, and of keys: they show empty.
var closedFiles = []string{"kcore", "keys", "kmsg", "sched_debug", "kallsyms", "kpagecount", "kpageflags", "kpagecgroup"}

// closeProc makes all of /proc that is of the machine read-only, and closes what shows the
// kernel's memory. Processes keep their own files, which they may need to write.
func closeProc() error {
	for _, name := range kernelSettings {
		at := "proc/" + name
		if _, err := os.Lstat(at); err != nil {
			continue
		}
		fd, err := unix.OpenTree(unix.AT_FDCWD, at, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_RECURSIVE)
		if err == nil {
			err = unix.MountSetattr(fd, "", unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_NOEXEC})
		}
		if err == nil {
			err = unix.MoveMount(fd, "", unix.AT_FDCWD, at, unix.MOVE_MOUNT_F_EMPTY_PATH)
			unix.Close(fd)
		}
		if err != nil {
			return fmt.Errorf("closing /%s: %w", at, err)
		}
	}
	// Whatever else the kernel has there that may be written is closed by the same way.
	entries, err := os.ReadDir("proc")
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := e.Name()
		if e.IsDir() || slices.Contains(kernelSettings, name) || strings.Trim(name, "0123456789") == "" {
			continue
		}
		at, from := "proc/"+name, "proc/"+name
		info, err := os.Stat(at)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if slices.Contains(closedFiles, name) {
			from = "/dev/null"
		} else if info.Mode().Perm()&0o222 == 0 {
			continue
		}
		fd, err := unix.OpenTree(unix.AT_FDCWD, from, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
		if err == nil {
			err = unix.MountSetattr(fd, "", unix.AT_EMPTY_PATH, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID})
		}
		if err == nil {
			err = unix.MoveMount(fd, "", unix.AT_FDCWD, at, unix.MOVE_MOUNT_F_EMPTY_PATH)
			unix.Close(fd)
		}
		if err != nil {
			return fmt.Errorf("closing /%s: %w", at, err)
		}
	}
	return nil
}

// identity writes who the caller is, and shows that in place of the root's own
// list of users.
func identity() error {
	user := os.Getenv("USER")
	if user == "" || strings.ContainsAny(user, ":\n") || user == "root" {
		user = "user"
	}
	home := os.Getenv("HOME")
	if home == "" || strings.ContainsAny(home, ":\n") {
		home = "/"
	}
	uid, gid := os.Getuid(), os.Getgid()
	for name, text := range map[string]string{
		"passwd": fmt.Sprintf("root:x:0:0:root:/root:/bin/sh\n%s:x:%d:%d::%s:/bin/bash\nnobody:x:65534:65534:nobody:/:/bin/sh\n", user, uid, gid, home),
		"group":  fmt.Sprintf("root:x:0:\n%s:x:%d:\nnogroup:x:65534:\n", user, gid),
	} {
		if _, err := os.Stat("etc/" + name); err != nil {
			continue // a root that is being made
		}
		if err := os.WriteFile("."+name, []byte(text), 0o644); err != nil {
			return err
		}
		m, err := hold("."+name, "etc/"+name, unix.MOUNT_ATTR_RDONLY)
		if err != nil {
			return err
		}
		if err := m.place(); err != nil {
			return err
		}
		_ = os.Remove("." + name)
	}
	return nil
}
