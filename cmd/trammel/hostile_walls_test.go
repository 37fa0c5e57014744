package main

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// In a sealed shell that root runs, nothing of the host's kernel can be set: no file of
// /proc or /sys opens for writing but the process's own, and none can be mounted over,
// mounted anew or reached by another way to the same file.
func TestASealedShellOfRootSetsNothingOfTheKernel(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("for root alone")
	}
	s, weir, oldweir := archives(t)
	for _, isolation := range []string{"sealed", "sealed\"\nnetwork = \"private"} {
		h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
		h.change(`isolation = "sealed"`, `isolation = "`+isolation+`"`)
		h.fitted()
		// Opened for more at the end, nothing is written: whoever could open could set.
		o := h.try("run", "--", "bash", "-c", `
shopt -s nullglob dotglob globstar
opened() { ( : >> "$1" ) 2>/dev/null && echo "OPENED $1"; }
for f in /proc/sys/**/* /proc/sysrq-trigger /proc/irq/*/* /proc/irq/* /proc/bus/** /proc/fs/** /proc/mtrr /proc/acpi/** /proc/scsi/** /proc/kcore /proc/kmsg /proc/timer_list /proc/latency_stats \
  /proc/1/root/proc/sys/kernel/core_pattern /proc/self/root/proc/sys/kernel/core_pattern /proc/thread-self/root/proc/sys/vm/drop_caches \
  /sys/kernel/* /sys/kernel/mm/**/* /sys/module/*/parameters/* /sys/power/* /sys/fs/cgroup/* /sys/block/*/queue/* /sys/class/net/*/*; do
  [ -f "$f" ] && [ ! -L "$f" ] && opened "$f"
done
ls /proc/sys/kernel | wc -l
mount -t proc proc /tmp 2>/dev/null && echo "MOUNTED"
mount -o remount,rw /proc/sys 2>/dev/null && echo "REMOUNTED"
umount /proc/sys 2>/dev/null && echo "UNMOUNTED"
unshare -Urm true 2>/dev/null && unshare -Urm sh -c 'mount -t proc proc /tmp && echo x >> /tmp/sys/kernel/core_pattern' 2>/dev/null && echo "UNSHARED"
true`)
		if o.code != 0 || strings.Contains(o.out, "ED ") || strings.Contains(o.out, "MOUNTED") || strings.Contains(o.out, "UNSHARED") {
			t.Errorf("%s: %d\n%s%s", isolation, o.code, o.out, o.err)
		}
		if strings.HasPrefix(o.out, "0\n") || o.out == "" {
			t.Errorf("nothing was tried: %q", o.out)
		}
	}
}

// Two checkouts that say one name do not answer for each other: what was there first keeps
// it, the other is told and is found under a name of its own.
func TestTwoCheckoutsWithOneNameDoNotAnswerForEachOther(t *testing.T) {
	t.Parallel()
	first := webHut(t, "")
	second := newHut(t, nil, first.read("trammel.toml"))
	second.home, second.env = first.home, first.env
	second.ok("lock")
	second.ok("fit", "--approve")
	o := second.try("start")
	if o.code != 0 || !strings.Contains(o.out+o.err, "heronweir-") {
		t.Errorf("it is not told: %d %s%s", o.code, o.out, o.err)
	}
	own := ""
	for word := range strings.FieldsFuncSeq(second.ok("show")+o.out+o.err, func(r rune) bool { return strings.ContainsRune(" /:\n", r) }) {
		if strings.HasPrefix(word, "lane.heronweir-") && strings.HasSuffix(word, ".localhost") {
			own = word
		}
	}
	if own == "" {
		t.Fatalf("show does not say the name of its own:\n%s", second.ok("show"))
	}
	ports := func(h *hut) map[int]bool {
		out := map[int]bool{}
		for _, st := range statusesIn(t, h, "main") {
			for _, p := range st.Ports {
				out[p] = true
			}
		}
		return out
	}
	// The pages of a bay are told apart by the page's own state.
	for range 4 {
		if code, _ := first.seen("lane.heronweir.localhost", "/"); code != http.StatusOK {
			t.Errorf("the first answers %d", code)
		}
		if code, _ := second.seen(own, "/"); code != http.StatusOK {
			t.Errorf("the second answers %d as %s", code, own)
		}
	}
	if both := ports(first); len(both) == 0 || slices.ContainsFunc(keysOf(ports(second)), func(p int) bool { return both[p] }) {
		t.Errorf("they share a port: %v %v", both, ports(second))
	}
	// The first stops: its name answers for nobody, and never for the other.
	first.ok("stop")
	eventually(t, "the name is nobody's", func() bool {
		resp, err := second.named("GET", "lane.heronweir.localhost", "/", nil, "")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == http.StatusNotFound
	})
	second.ok("stop")
}

func keysOf(m map[int]bool) (out []int) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

// An archive whose names no file system takes is refused in words, and nothing is kept.
func TestNamesThatNoDiskTakesAreSaidInWords(t *testing.T) {
	t.Parallel()
	for name, file := range map[string]string{"long": strings.Repeat("x", 300), "deep": strings.Repeat("d/", 4000) + "f"} {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+catalogOf("keeper"))
		publishFiles(h, "keeper", file)
		h.ok("lock")
		o := h.try("fit", "--approve")
		if o.code != 5 || !strings.Contains(o.err, "Nothing of it was kept") || len(o.err) > 2000 {
			t.Errorf("%s: %d %.600s", name, o.code, o.err)
		}
		if left, _ := filepath.Glob(filepath.Join(h.home, "data/store/*keeper*")); len(left) > 0 {
			t.Errorf("%s left %v", name, left)
		}
	}
}
