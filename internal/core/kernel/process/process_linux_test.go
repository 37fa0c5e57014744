package process

import (
	"slices"
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
