package process

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/kernel/within"
)

// Where the kernel does not list children they are found all the same.
func TestChildrenAreFoundBothWays(t *testing.T) {
	tree, out := start(t, "sleep 60 & sleep 60 & (setsid sh -c 'sleep 60 & wait' &) ; echo up; wait")
	await(t, out, "up")
	var walk func(pid int, of func(int) []int) []int
	walk = func(pid int, of func(int) []int) []int {
		all := []int{pid}
		for _, child := range of(pid) {
			all = append(all, walk(child, of)...)
		}
		slices.Sort(all)
		return all
	}
	list := func(pid int) []int { found, _ := within.Listed(pid); return found }
	for range 200 { // until it has forked all of them
		a, b := walk(tree.Pid, list), walk(tree.Pid, within.Scanned)
		if slices.Equal(a, b) && len(a) >= 6 {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Errorf("listed %v, scanned %v", walk(tree.Pid, list), walk(tree.Pid, within.Scanned))
}

// leaderless is a process whose first thread has ended and which goes on: the init of a namespace
// that was killed is one until all in it has ended.
const leaderless = "WEIR_LEADERLESS"

func init() {
	if os.Getenv(leaderless) == "" {
		return
	}
	runtime.LockOSThread() // the first thread of the process
	go func() {
		runtime.LockOSThread()
		_, _ = syscall.Read(0, make([]byte, 1))
		syscall.Exit(0)
	}()
	for { // until another thread reads
		if threads, _ := os.ReadDir("/proc/self/task"); len(threads) > 2 {
			_, _, _ = syscall.RawSyscall(syscall.SYS_EXIT, 0, 0, 0)
		}
		runtime.Gosched()
	}
}

func TestAProcessWithoutItsFirstThreadIsAlive(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command(self)
	c.Env = append(os.Environ(), leaderless+"=1")
	in, err := c.StdinPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	p := ProcessOf(c.Process.Pid)
	for { // what it is then lasts until it is told to end
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.Pid))
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(string(raw[strings.LastIndexByte(string(raw), ')')+1:]), " Z ") {
			break
		}
		time.Sleep(time.Millisecond)
	}
	if !p.Alive() {
		t.Error("it counts as ended")
	}
	if p.WaitGone(time.Millisecond) {
		t.Error("nobody waits for it")
	}
	in.Close()
	if !p.WaitGone(0) {
		t.Error("it is waited for in vain")
	}
	if p.Alive() { // though nobody has asked for its exit code
		t.Error("it counts as alive")
	}
	_ = c.Wait()
}
