package within

import (
	"errors"
	"os"
	"path"
	"slices"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/unix"
)

// shown is one thing that a view has in a place.
type shown struct {
	at    string // relative to the new root
	from  string // what of this machine it is; "" of a folder that shows empty
	flags uint64 // MOUNT_ATTR_… of mount_setattr(2)
	lack  lack   // what is done where it cannot be had
	file  bool   // it counts only where it is a file
}

// lack is what becomes of a view when something of it cannot be had.
type lack int

const (
	refused lack = iota // there is no view
	absent              // one without it, where it is not there
	unheld              // one without it, whatever the reason
)

// machine is what a layout depends on of this machine.
type machine interface {
	// Folders are the names of the folders in one; none of one that cannot be read.
	Folders(dir string) []string
	// Names are the names of all that lies in a folder.
	Names(dir string) []string
	Has(path string) bool
	// Terminal is the one that the command is on, or "".
	Terminal() string
}

// devices are all that /dev holds, besides terminals and shared memory.
var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

// top are the folders of a merged /usr that the top level links to.
var top = []string{"bin", "sbin", "lib", "lib64", "lib32", "libx32"}

// layout decides what a view shows and where: the root's own system first, then what lies over
// it, in the order in which it is put there. Nothing is asked but of h.
func layout(v View, making bool, h machine) (system, rest []shown, err error) {
	var access uint64 = unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_RDONLY
	if making {
		access = unix.MOUNT_ATTR_NODEV
	}
	for _, name := range []string{"usr", "etc", "opt"} {
		x := shown{at: name, from: path.Join(v.Root, name), flags: access}
		if name == "opt" {
			x.lack = absent
		}
		system = append(system, x)
	}
	// The host's files that say how the network is reached: a root has empty ones in their places.
	for _, name := range []string{"resolv.conf", "hosts"} {
		if !making && h.Has(path.Join(v.Root, "etc", name)) {
			system = append(system, shown{at: "etc/" + name, from: "/etc/" + name, flags: unix.MOUNT_ATTR_RDONLY, lack: unheld, file: true})
		}
	}
	if v.Closed {
		rest, err = closedLayout(v, h)
		return system, rest, err
	}
	for _, name := range h.Folders("/") { // the host's top level, but for what the root brings
		if name != "usr" && name != "etc" && !slices.Contains(top, name) {
			rest = append(rest, shown{at: name, from: "/" + name, lack: unheld})
		}
	}
	return system, rest, nil
}

// closedLayout is what a closed view shows besides its system: devices, what the root's packages
// ship below /var, and the folders that the view names.
func closedLayout(v View, h machine) (out []shown, err error) {
	for _, name := range devices {
		out = append(out, shown{at: "dev/" + name, from: "/dev/" + name})
	}
	// Under this name programs find out which terminal they are on.
	if tty := h.Terminal(); tty != "" {
		out = append(out, shown{at: "dev/console", from: tty, lack: unheld})
	}
	if v.Frame != "" {
		out = append(out, shown{at: plain.TrimPrefix(FrameAt, "/"), from: v.Frame, flags: unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_RDONLY})
	}
	for _, folder := range []string{"var/lib", "var/cache", "var/spool"} {
		for _, name := range h.Names(path.Join(v.Root, folder)) {
			out = append(out, shown{at: folder + "/" + name, from: path.Join(v.Root, folder, name), flags: unix.MOUNT_ATTR_RDONLY, lack: unheld})
		}
	}
	var named []shown
	for _, at := range v.Read {
		named = append(named, shown{from: at, flags: unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_RDONLY, lack: absent})
	}
	for _, at := range v.Write {
		named = append(named, shown{from: at, flags: unix.MOUNT_ATTR_NODEV, lack: absent})
	}
	for i, x := range named {
		if x.from == "/" {
			return nil, errors.New("the folder / cannot be shown in a sealed root: keep the project in a folder of its own")
		}
		named[i].at = plain.TrimPrefix(x.from, "/")
	}
	for _, at := range v.Hide {
		if h.Has(at) {
			named = append(named, shown{at: plain.TrimPrefix(at, "/")})
		}
	}
	// What lies in a folder that shows too comes after it.
	slices.SortStableFunc(named, func(a, b shown) int { return len(a.at) - len(b.at) })
	return append(out, named...), nil
}

// thisMachine is the machine that this process runs on.
type thisMachine struct{}

func (thisMachine) Folders(dir string) (out []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, e.Name())
		}
	}
	return out
}

func (thisMachine) Names(dir string) (out []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func (thisMachine) Has(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func (thisMachine) Terminal() string {
	if tty, err := os.Readlink("/proc/self/fd/0"); err == nil && plain.HasPrefix(tty, "/dev/pts/") {
		return tty
	}
	return ""
}
