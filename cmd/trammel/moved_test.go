package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const moving = `format = 1
project = "heronweir"
[service.ledger]
run = "mkdir -p @{bay.dir}/data && date +%N > @{bay.dir}/data/began && cat @{bay.dir}/data/began >> @{bay.dir}/data/all && sleep 600"
ready = { file = "@{bay.dir}/data/began" }
[step.load]
run = "echo x >> loaded"
when = "first"
`

// moved gives the checkout of a hut another folder.
func (h *hut) moved(name string) {
	h.t.Helper()
	to := filepath.Join(filepath.Dir(h.dir), name)
	if err := os.Rename(h.dir, to); err != nil {
		h.t.Fatal(err)
	}
	h.dir = to
}

// A checkout that was moved finds its bay again by its id, with its data, and takes it along when its person says so.
func TestACheckoutThatMovedFindsItsBay(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, moving)
	h.wary = true
	h.ok("lock")
	h.ok("start", "--approve")
	h.ok("fit")
	before := strings.TrimSpace(h.ok("run", "--", "sh", "-c", "cat "+filepath.Join(h.home, "state/bays/*/main/data/all")))
	h.moved("laden")
	// What runs is named, where somebody stops, lists or starts.
	if o := h.try("stop"); !strings.Contains(o.err, "Services of checkouts that are gone run: ledger of heronweir") {
		t.Errorf("stop: %+v", o)
	}
	if out := h.ok("bays", "--all"); !strings.Contains(out, "ledger") || !strings.Contains(out, "the checkout is gone: "+filepath.Join(filepath.Dir(h.dir), "heronweir")) {
		t.Errorf("bays:\n%s", out)
	}
	for _, args := range [][]string{{"start"}, {"fit"}} {
		h.fails(2, []string{"this checkout was moved here from " + filepath.Join(filepath.Dir(h.dir), "heronweir"), "main (", "in which ledger runs", "trammel bays --adopt", "trammel bays --leave"}, args...)
	}
	if out := h.ok("bays", "--adopt"); !strings.Contains(out, "adopted bay main") || !strings.Contains(out, "stopped: ledger") {
		t.Errorf("adopt:\n%s", out)
	}
	h.ok("start") // consent came along
	after := h.ok("run", "--", "sh", "-c", "cat "+filepath.Join(h.home, "state/bays/*/main/data/all"))
	if !strings.HasPrefix(after, before) || strings.Count(after, "\n") != 2 {
		t.Errorf("the data is %q, and was %q", after, before)
	}
	if strings.Count(h.read("loaded"), "x") != 1 {
		t.Errorf("a step that is done once was done again: %q", h.read("loaded"))
	}
	h.ok("verify")
	h.fails(2, []string{"is where it was"}, "bays", "--adopt")
	// One that is left begins anew, and what was left can still be seen and stopped.
	h.moved("third")
	h.ok("bays", "--leave")
	h.ok("start", "--approve")
	if out := h.ok("bays", "--all"); strings.Count(out, "ledger") != 2 {
		t.Errorf("bays:\n%s", out)
	}
	if out := h.ok("stop", "--gone"); !strings.Contains(out, "stopped: ledger of heronweir") {
		t.Errorf("stop --gone:\n%s", out)
	}
	if out := h.ok("stop", "--gone"); !strings.Contains(out, "nothing of a checkout that is gone") {
		t.Errorf("stop --gone again:\n%s", out)
	}
}

// A copy of a checkout, with its .trammel, is another one: it takes nothing, also when the first is removed later.
func TestACopyTakesNoBay(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, moving)
	h.ok("lock")
	h.ok("start")
	h.ok("fit")
	first := h.dir
	h.dir = filepath.Join(filepath.Dir(first), "copy")
	for _, name := range []string{"trammel.toml", "trammel.lock", ".trammel/id", ".trammel/.gitignore"} {
		raw, err := os.ReadFile(filepath.Join(first, name))
		if err != nil {
			t.Fatal(err)
		}
		h.write(name, string(raw))
	}
	h.ok("start")
	h.ok("fit")
	if h.read(".trammel/id") == func() string { raw, _ := os.ReadFile(filepath.Join(first, ".trammel/id")); return string(raw) }() {
		t.Error("two checkouts have one id")
	}
	if h.read("loaded") != "x\n" {
		t.Error("the copy believes that its step is done")
	}
	if data := globs(h.home, "state/bays/*/main/data/all"); len(data) != 2 {
		t.Errorf("data: %v", data)
	}
	if err := os.RemoveAll(first); err != nil {
		t.Fatal(err)
	}
	h.ok("start")
	h.ok("verify")
	h.fails(2, []string{"is where it was"}, "bays", "--adopt")
	h.ok("stop", "--gone")
}
