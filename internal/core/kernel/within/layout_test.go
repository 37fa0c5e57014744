//go:build linux

package within

import (
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/kernel/unix"
)

// madeUpMachine is a machine of folders with what lies in them.
type madeUpMachine struct {
	folders  map[string][]string
	has      []string
	terminal string
}

func (h madeUpMachine) Folders(dir string) []string { return h.folders[dir] }
func (h madeUpMachine) Names(dir string) []string   { return h.folders[dir] }
func (h madeUpMachine) Has(path string) bool        { return slices.Contains(h.has, path) }
func (h madeUpMachine) Terminal() string            { return h.terminal }

// said writes a layout: place < what is shown there, how.
func said(list []shown) string {
	var out []string
	for _, x := range list {
		text := x.at
		if x.from == "" {
			text += " empty"
		} else if x.from != "/"+x.at {
			text += " < " + x.from
		}
		if x.flags&unix.MOUNT_ATTR_RDONLY != 0 {
			text += " ro"
		}
		if x.flags&unix.MOUNT_ATTR_NODEV != 0 {
			text += " nodev"
		}
		text += [...]string{"", " if there", " if it can be"}[x.lack]
		out = append(out, text)
	}
	return strings.Join(out, "\n")
}

func TestLayouts(t *testing.T) {
	host := madeUpMachine{
		folders: map[string][]string{
			"/":               {"bin", "boot", "etc", "home", "lib", "lib64", "srv", "tmp", "usr", "var"},
			"/root/var/lib":   {"dpkg"},
			"/root/var/log":   {"never"},
			"/root/var/tmp":   {"never"},
			"/root/var/spool": {"cron"},
		},
		has: []string{"/root/etc/hosts", "/root/etc/resolv.conf", "/home/weir/.secret"},
	}
	base := "usr < /root/usr ro nodev\netc < /root/etc ro nodev\nopt < /root/opt ro nodev if there"
	network := "\netc/resolv.conf ro if it can be\netc/hosts ro if it can be"
	dev := "dev/null\ndev/zero\ndev/full\ndev/random\ndev/urandom\ndev/tty\n"
	packages := "var/lib/dpkg < /root/var/lib/dpkg ro if it can be\nvar/spool/cron < /root/var/spool/cron ro if it can be"
	for name, c := range map[string]struct {
		view         View
		making       bool
		terminal     string
		bare         bool // the root has no files of the network
		system, rest string
	}{
		"open": {view: View{}, system: base + network,
			rest: "boot if it can be\nhome if it can be\nsrv if it can be\ntmp if it can be\nvar if it can be"},
		"closed": {view: View{Closed: true}, system: base + network, rest: dev + packages},
		"with a frame": {view: View{Closed: true, Frame: "/home/weir/frames/1"}, system: base + network,
			rest: dev + "run/trammel < /home/weir/frames/1 ro nodev\n" + packages},
		"on a terminal": {view: View{Closed: true}, terminal: "/dev/pts/3", system: base + network,
			rest: dev + "dev/console < /dev/pts/3 if it can be\n" + packages},
		"being made": {view: View{Closed: true}, making: true, rest: dev + packages,
			system: "usr < /root/usr nodev\netc < /root/etc nodev\nopt < /root/opt nodev if there"},
		"without files of the network": {view: View{Closed: true}, bare: true, system: base, rest: dev + packages},
		"a project in a home": {
			view:   View{Closed: true, Write: []string{"/home/weir/heronweir"}, Read: []string{"/home/weir"}, Hide: []string{"/home/weir/.secret", "/home/weir/gone"}},
			system: base + network,
			rest:   dev + packages + "\nhome/weir ro nodev if there\nhome/weir/.secret empty\nhome/weir/heronweir nodev if there",
		},
		"a folder in one that is hidden": {
			view:   View{Closed: true, Write: []string{"/home/weir/.secret/open"}, Hide: []string{"/home/weir/.secret"}},
			system: base + network, rest: dev + packages + "\nhome/weir/.secret empty\nhome/weir/.secret/open nodev if there",
		},
	} {
		c.view.Root = "/root"
		h := host
		h.terminal = c.terminal
		if c.bare {
			h.has = nil
		}
		system, rest, err := layout(c.view, c.making, h)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if got := said(system); got != c.system {
			t.Errorf("%s: the system is\n%s\nand not\n%s", name, got, c.system)
		}
		if got := said(rest); got != c.rest {
			t.Errorf("%s: over it lies\n%s\nand not\n%s", name, got, c.rest)
		}
	}
	for _, v := range []View{{Closed: true, Write: []string{"/"}}, {Closed: true, Read: []string{"/"}}} {
		if _, _, err := layout(v, false, host); err == nil || !strings.Contains(err.Error(), "folder of its own") {
			t.Errorf("%+v: %v", v, err)
		}
	}
}
