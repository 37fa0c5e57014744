package main

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
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
