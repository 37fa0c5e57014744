package process

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
)

// Top is the init of the tree that a process is in: the first process of its PID namespace
// (pid_namespaces(7)). ok is false where it has none of its own, or cannot be looked at.
func Top(pid int) (top int, ok bool) {
	for range 1000 { // no tree is deeper
		raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
		if err != nil {
			return 0, false
		}
		parent, inside := 0, []string(nil)
		for line := range strings.Lines(string(raw)) {
			if rest, is := strings.CutPrefix(line, "PPid:"); is {
				parent, _ = strconv.Atoi(strings.TrimSpace(rest))
			} else if rest, is := strings.CutPrefix(line, "NSpid:"); is {
				inside = strings.Fields(rest)
			}
		}
		if len(inside) < 2 {
			return 0, false
		}
		if inside[len(inside)-1] == "1" {
			return pid, true
		}
		pid = parent
	}
	return 0, false
}

// Replaced lists the programs and libraries that a process runs and that are no more where they were:
// something else took their place since it started (proc_pid_maps(5)). A file counts when ours says so of
// its path. elsewhere says that the process sees other folders than this one, so that its paths are not
// this one's.
// Errors: the process cannot be looked at.
func Replaced(pid int, ours func(path string, elsewhere bool) bool) (out []string, err error) {
	dir := "/proc/" + strconv.Itoa(pid)
	raw, err := os.ReadFile(dir + "/maps")
	if err != nil {
		return nil, err
	}
	there, _ := os.Readlink(dir + "/ns/mnt")
	here, _ := os.Readlink("/proc/self/ns/mnt")
	for line := range bytes.Lines(raw) {
		text, gone := strings.CutSuffix(strings.TrimSuffix(string(line), "\n"), " (deleted)")
		f := strings.SplitN(text, " ", 6)
		if !gone || len(f) < 6 || !strings.Contains(f[1], "x") {
			continue
		}
		path := strings.TrimLeft(f[5], " ")
		if !slices.Contains(out, path) && ours(path, there != here) {
			out = append(out, path)
		}
	}
	if len(raw) == 0 {
		return nil, fmt.Errorf("process %d has ended", pid)
	}
	return out, nil
}
