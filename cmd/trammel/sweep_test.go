package main

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
)

// stored lists the parts in a store by their short names.
func stored(h *hut) string {
	found, _ := filepath.Glob(filepath.Join(h.home, "data/store/*"))
	var out []string
	for _, f := range found {
		if info, err := os.Lstat(f); err == nil && info.IsDir() && filepath.Base(f)[0] != '.' {
			_, name, _ := strings.Cut(filepath.Base(f), "-")
			out = append(out, name)
		}
	}
	return strings.Join(sorted(out), " ")
}

func sorted(list []string) []string {
	for i := range list {
		for j := range i {
			if list[i] < list[j] {
				list[i], list[j] = list[j], list[i]
			}
		}
	}
	return list
}

func TestSweepKeepsWhatAnyProjectUses(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := registry(t)
	weir := newHut(t, s, goAndNode)
	weir.ok("lock")
	weir.ok("fit")
	other := newHut(t, s, "format = 1\nproject = \"heronweir-archive\"\n[toolchain]\nnode = \"18\"\n")
	other.home, other.env = weir.home, weir.env
	other.ok("lock")
	other.ok("fit")
	const all = "go-1.24.6 node-18.20.4 node-22.12.0 npm-10.11.0 npm-10.9.0"
	if got := stored(weir); got != all {
		t.Fatalf("the store has %s", got)
	}
	if out := weir.ok("sweep"); !strings.Contains(out, "5 parts are in use by 2 projects") || stored(weir) != all {
		t.Errorf("a sweep with nothing to free:\n%s", out)
	}

	// Uninstalling is unset and sweep; the lock before is kept for the way back.
	weir.ok("unset", "node")
	weir.ok("fit")
	weir.ok("sweep")
	if got := stored(weir); got != all {
		t.Errorf("the way back is lost: %s", got)
	}
	weir.ok("set", "go=1.22")
	weir.ok("fit")
	if out := weir.ok("sweep", "--print"); !strings.Contains(out, "would be freed") || !strings.Contains(out, "node-22.12.0") || !strings.Contains(stored(weir), "node-22.12.0") {
		t.Errorf("sweep --print:\n%s", out)
	}
	if out := weir.ok("sweep", "--older-than", "1h"); !strings.Contains(out, "0 B freed") {
		t.Errorf("sweep --older-than:\n%s", out)
	}

	// A shell that is open on the old environment keeps what it works from.
	sh := weir.command("run", "--trial", "node=22", "--", "sh", "-c", "echo up > "+weir.dir+"/up; exec sleep 1000")
	if err := sh.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the trial runs", func() bool { _, err := os.Stat(weir.dir + "/up"); return err == nil })
	weir.ok("sweep")
	if got := stored(weir); !strings.Contains(got, "node-22.12.0") {
		t.Errorf("a running process lost its tools: %s", got)
	}
	sh.Process.Kill()
	sh.Wait()
	weir.ok("sweep")
	if got := stored(weir); got != "go-1.22.9 go-1.24.6 node-18.20.4 npm-10.9.0" {
		t.Errorf("after the sweep: %s", got)
	}
	weir.ok("verify", "--deep")
	other.ok("verify", "--deep")

	// A project that is gone keeps nothing.
	if err := os.RemoveAll(other.dir); err != nil {
		t.Fatal(err)
	}
	if o := weir.try("sweep"); !strings.Contains(o.err, "forgotten, since it is gone: "+other.dir) {
		t.Errorf("sweep:\n%s%s", o.out, o.err)
	}
	if got := stored(weir); got != "go-1.22.9 go-1.24.6" {
		t.Errorf("at the end: %s", got)
	}
	if err := os.MkdirAll(other.dir, 0o755); err != nil {
		t.Fatal(err)
	}
}

func TestSweepAndFitAtOnceNeverClash(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.ok("approve", "--yes")
	h.wary = true
	var wait sync.WaitGroup
	for range 3 {
		wait.Go(func() {
			for range 4 {
				if o := h.try("fit"); o.code != 0 {
					t.Errorf("fit: %s%s", o.out, o.err)
				}
			}
		})
		wait.Go(func() {
			for range 4 {
				if o := h.try("sweep"); o.code != 0 {
					t.Errorf("sweep: %s%s", o.out, o.err)
				}
			}
		})
	}
	wait.Wait()
	h.ok("verify", "--deep")
}

// What a service runs from stays, whatever the lock says by now: in a sealed view its paths name no frame. And who
// only looks waits for nobody.
func TestASweepTakesNothingThatRuns(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally+"[service.count]\nrun = \"sleep 600\"\n")
	h.fitted()
	h.ok("start")
	frame := frameOf(t, h)
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), newTally, newTally+"lure = { version = \"1\", from = \"weir\", package = \"lure\" }\n", 1))
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.ok("fit") // the earlier lock is this one too by now
	if err := os.RemoveAll(filepath.Join(h.dir, ".trammel/earlier.lock")); err != nil {
		t.Fatal(err)
	}
	h.ok("sweep", "--older-than", "0s")
	if left, _ := os.ReadDir(frame); len(left) == 0 {
		t.Error("the commands of a service that runs are gone")
	}
	h.ok("fit")
	h.ok("stop")
	h.ok("verify", "--deep")
	h.ok("sweep", "--older-than", "0s")
	if _, err := os.Stat(frame); err == nil {
		t.Error("what nobody uses stays")
	}
	h.ok("run", "--", "lure")
	busy, err := os.OpenFile(filepath.Join(h.home, "data/store/.sweep.lock"), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	if err := syscall.Flock(int(busy.Fd()), syscall.LOCK_EX); err != nil {
		t.Fatal(err)
	}
	h.ok("sweep", "--print")
}
