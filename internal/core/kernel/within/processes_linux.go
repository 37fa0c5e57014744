package within

import (
	"cmp"
	"maps"
	"os"
	"slices"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// Started is when a process began; ok is false when it has ended, also when nobody has
// asked for its exit code yet. One whose first thread has ended goes on for as long as another does:
// the init of a namespace that ends waits so for everything in it (proc_pid_stat(5), fields 3, 20 and 22).
func Started(pid int) (ticks uint64, ok bool) {
	b, err := file("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return 0, false
	}
	f := plain.Fields(string(b[plain.LastIndexByte(string(b), ')')+1:]))
	if len(f) < 20 || f[0] == "X" {
		return 0, false
	}
	if threads, err := strconv.Atoi(f[17]); f[0] == "Z" && (err != nil || threads < 2) {
		return 0, false
	}
	ticks, err = strconv.ParseUint(f[19], 10, 64)
	return ticks, err == nil
}

// Starved tells whether a process wants to run, and has had next to no time to: on a machine
// that is busy, its silence says nothing (proc_pid_stat(5), fields 3, 14 and 15).
func Starved(pid int) bool {
	b, err := file("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return false
	}
	f := plain.Fields(string(b[plain.LastIndexByte(string(b), ')')+1:]))
	if len(f) < 14 || f[0] != "R" {
		return false
	}
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return user+system < 10 // ticks of 10 ms
}

// Children are those of a process now, those that it adopted behind its own.
func Children(pid int) []int {
	if out, told := Listed(pid); told {
		return out
	}
	return Scanned(pid)
}

// Listed asks the kernel, which tells where it was built to (CONFIG_PROC_CHILDREN). Each
// thread has children of its own.
func Listed(pid int) (out []int, told bool) {
	tasks, err := os.ReadDir("/proc/" + strconv.Itoa(pid) + "/task")
	if err != nil {
		return nil, true // it is gone
	}
	for _, t := range tasks {
		b, err := file("/proc/" + strconv.Itoa(pid) + "/task/" + t.Name() + "/children")
		if err != nil {
			continue
		}
		told = true
		for _, text := range plain.Fields(string(b)) {
			if child, err := strconv.Atoi(text); err == nil {
				out = append(out, child)
			}
		}
	}
	return out, told
}

// file reads a file of /proc, by the calls that this takes and no more: it is done for each
// thread of each process that is started.
func file(path string) (out []byte, err error) {
	fd, err := syscall.Open(path, syscall.O_RDONLY|syscall.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer syscall.Close(fd)
	var part [1024]byte
	for {
		n, err := syscall.Read(fd, part[:])
		if err == syscall.EINTR {
			continue
		}
		if err != nil || n <= 0 {
			return out, err
		}
		out = append(out, part[:n]...)
	}
}

// Scanned finds them among all processes, by what each says of its parent, in the order in
// which they began.
func Scanned(pid int) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	began := map[int]uint64{}
	for _, e := range entries {
		child, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		b, err := file("/proc/" + strconv.Itoa(child) + "/stat")
		if err != nil {
			continue
		}
		f := plain.Fields(string(b[plain.LastIndexByte(string(b), ')')+1:]))
		if len(f) < 20 || f[1] != strconv.Itoa(pid) {
			continue
		}
		began[child], _ = strconv.ParseUint(f[19], 10, 64)
	}
	return slices.SortedFunc(maps.Keys(began), func(a, b int) int { return cmp.Or(cmp.Compare(began[a], began[b]), a-b) })
}
