package main

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// opened runs a command and counts how often each file of some folders was opened, by
// name (inotify(7)).
func opened(t *testing.T, run func(), dirs ...string) map[string]int {
	t.Helper()
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		t.Skip("no inotify here")
	}
	defer unix.Close(fd)
	for _, dir := range dirs {
		// Closing is asked for as well, so that two openings in a row are two events.
		if _, err := unix.InotifyAddWatch(fd, dir, unix.IN_OPEN|unix.IN_CLOSE); err != nil {
			t.Fatal(dir, err)
		}
	}
	run()
	counts := map[string]int{}
	b := make([]byte, 1<<20)
	for {
		n, err := unix.Read(fd, b)
		if err != nil || n <= 0 {
			return counts
		}
		for at := 0; at+unix.SizeofInotifyEvent <= n; {
			mask := binary.NativeEndian.Uint32(b[at+4:])
			size := int(binary.NativeEndian.Uint32(b[at+12:]))
			name := string(bytes.TrimRight(b[at+unix.SizeofInotifyEvent:at+unix.SizeofInotifyEvent+size], "\x00"))
			if mask&unix.IN_OPEN != 0 && mask&unix.IN_ISDIR == 0 {
				counts[name]++
			}
			at += unix.SizeofInotifyEvent + size
		}
	}
}

// What is judged is what happens, since each file is read once: the declaration, the lock,
// both of a person's own, the chosen params, the ports, the consent and the kept plan.
func TestEachFileIsReadOnce(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := stranger(t, `[param.lanes]
kind = "integer"
default = 1

[variables]
LANES = "@{param.lanes}"

[step.a]
run = "true"
evidence = "true"

[service.lane]
run = "exec sleep 600"
ports = { http = 18890 }
ready = { command = "true" }
`+catalogOf("keeper"), tool{"keeper", "echo 1.0", ""})
	h.write("trammel.local.toml", "[variables]\nOWN = \"x\"\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit", "--param", "lanes=2")
	h.ok("fit")
	h.keepsPlan()
	records, err := filepath.Glob(filepath.Join(h.home, "state/records/*/main"))
	if err != nil || len(records) != 1 {
		t.Fatal(records, err)
	}
	dirs := []string{h.dir, records[0], filepath.Join(h.home, "state/approvals"), filepath.Join(h.home, "state/plans")}
	inputs := func(name string) bool {
		return strings.HasPrefix(name, "trammel.") || strings.HasSuffix(name, ".json") && name != "wanted.json"
	}
	for _, c := range []struct {
		args  []string
		fresh bool // without a kept plan
		reads string
	}{
		{[]string{"run", "--", "true"}, true, "trammel.toml"},
		{[]string{"run", "--", "true"}, false, ""},
		{[]string{"shell"}, true, "trammel.toml"},
		{[]string{"shell"}, false, ""},
		{[]string{"fit"}, true, "trammel.lock"},
		{[]string{"verify"}, true, "trammel.lock"},
		{[]string{"show"}, true, "trammel.toml"},
		{[]string{"show", "lane"}, true, "trammel.toml"},
		{[]string{"approve"}, true, "trammel.lock"},
		{[]string{"do"}, true, "trammel.toml"},
		{[]string{"start"}, true, "trammel.toml"},
		{[]string{"logs"}, true, "trammel.toml"},
		{[]string{"stop"}, true, "trammel.toml"},
	} {
		if c.fresh {
			kept, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*"))
			for _, f := range kept {
				os.Remove(f)
			}
		}
		counts := opened(t, func() {
			if o := h.try(c.args...); o.code != 0 {
				t.Errorf("trammel %s: %d %s%s", strings.Join(c.args, " "), o.code, o.out, o.err)
			}
		}, dirs...)
		for name, n := range counts {
			most := 1
			if c.args[0] == "start" && name == "ports.json" {
				most = 3 // the supervisor, which is another process, settles them
			}
			if inputs(name) && n > most {
				t.Errorf("trammel %s opens %s %d times", strings.Join(c.args, " "), name, n)
			}
		}
		if c.reads != "" && counts[c.reads] == 0 {
			t.Errorf("trammel %s does not read %s: the test sees nothing", strings.Join(c.args, " "), c.reads)
		}
	}
}
