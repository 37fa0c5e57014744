package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const keeperDeclaration = `format  = 1
project = "heronweir"

[step.migrate]
run   = "echo migrated >> @{bay.dir}/data/ledger/rows"
needs = ["service.ledger"]
per   = "bay"

[step.seed]
run   = "echo seeded >> @{bay.dir}/data/ledger/rows"
when  = "first"
needs = ["step.migrate"]

[service.ledger]
run   = "mkdir -p @{bay.dir}/data/ledger && cat @{bay.dir}/data/ledger/rows 2>/dev/null; exec sleep 300"

[service.board]
run   = "exec sleep 300"
needs = ["service.ledger", "step.seed"]
`

// A service's data is kept as a named state, brought back, cleared and copied to another bay; and the steps that made rows
// in it are due again just where their rows are gone.
func TestNamedStatesOfData(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, keeperDeclaration)
	h.ok("lock")
	h.ok("start", "--approve")
	files := func(bay string) string {
		found, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/"+bay+"/data/ledger/rows"))
		if len(found) != 1 {
			return "none"
		}
		raw, _ := os.ReadFile(found[0])
		return string(raw)
	}
	const fresh = "migrated\nseeded\n"
	if got := files("main"); got != fresh {
		t.Fatalf("rows: %q", got)
	}
	path := filepath.Join(h.home, "state/bays")
	data, _ := filepath.Glob(path + "/*/main/data/ledger")
	os.Symlink("rows", filepath.Join(data[0], "link"))
	os.Chmod(filepath.Join(data[0], "rows"), 0o640)
	o := h.try("data", "save", "ledger", "--as", "seeded")
	if o.code != 0 || !strings.Contains(o.out, "saved data of ledger as seeded") || !strings.Contains(o.err, "board") {
		t.Errorf("%+v", o)
	}
	if !find(t, h, "ledger").Running() || !find(t, h, "board").Running() {
		t.Error("what was stopped for it does not run again")
	}
	must1(0, appendTo(filepath.Join(data[0], "rows"), "by hand\n"))
	h.ok("data", "load", "ledger", "--as", "seeded")
	if got := files("main"); got != fresh {
		t.Errorf("after load: %q", got)
	}
	info, err := os.Stat(filepath.Join(data[0], "rows"))
	if target, linkErr := os.Readlink(filepath.Join(data[0], "link")); err != nil || linkErr != nil || target != "rows" || info.Mode().Perm() != 0o640 {
		t.Errorf("modes and links are not as before: %v %v %q", err, linkErr, target)
	}
	if o := h.try("start"); o.code != 0 || strings.Contains(o.err, "step ") {
		t.Errorf("a step is due after a load: %+v", o)
	}
	var list struct {
		States []struct{ Service, Name string }
	}
	if err := json.Unmarshal([]byte(h.ok("data", "list", "--json")), &list); err != nil || len(list.States) != 1 || list.States[0].Name != "seeded" {
		t.Errorf("the list: %v %v", list, err)
	}
	// One service's data alone is cleared; its next start begins anew.
	h.fails(2, []string{"would be gone", "--yes"}, "data", "clear", "ledger")
	h.ok("data", "clear", "ledger", "--yes")
	h.ok("start")
	if got := files("main"); got != fresh {
		t.Errorf("after clear: %q", got)
	}
	must1(0, appendTo(filepath.Join(data[0], "rows"), "by hand\n"))
	// Another bay begins with it.
	h.fails(2, []string{`there is no bay "mian"`, "main"}, "--bay", "trial", "data", "copy", "mian")
	h.ok("--bay", "trial", "data", "copy", "main")
	if got := files("trial"); got != fresh+"by hand\n" {
		t.Errorf("copied: %q", got)
	}
	o = h.try("--bay", "trial", "start")
	if got := files("trial"); o.code != 0 || got != fresh+"by hand\n" || strings.Contains(o.err, "step ") {
		t.Errorf("a step is due in the copy: %q %+v", got, o)
	}
	h.fails(2, []string{"has data in bay trial already", "data clear ledger"}, "--bay", "trial", "data", "copy", "main")
	h.ok("clear", "trial", "--yes")
	// What is wrong is said.
	h.fails(2, []string{`no state named "sedeed"`, "seeded"}, "data", "load", "ledger", "--as", "sedeed")
	h.fails(2, []string{"cannot name a state"}, "data", "save", "ledger", "--as", "../x")
	h.fails(2, []string{"has no data folder", "keeps its data elsewhere"}, "data", "save", "board", "--as", "x")
	// A link that a service puts in the place of its data leads nothing elsewhere.
	h.ok("stop")
	outside := t.TempDir()
	os.WriteFile(filepath.Join(outside, "precious"), []byte("day 1"), 0o600)
	os.Rename(data[0], data[0]+".was")
	if err := os.Symlink(outside, data[0]); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"clear", "ledger", "--yes"}, {"save", "ledger", "--as", "x"}, {"load", "ledger", "--as", "seeded"}} {
		h.fails(1, []string{"is no folder", "Nothing was touched"}, append([]string{"data"}, args...)...)
	}
	if raw, _ := os.ReadFile(filepath.Join(outside, "precious")); string(raw) != "day 1" {
		t.Error("what it leads to was touched")
	}
	os.Remove(data[0])
	os.Rename(data[0]+".was", data[0])
	h.ok("data", "drop", "ledger", "--as", "seeded")
	if out := h.try("data", "list"); strings.Contains(out.out, "seeded") {
		t.Errorf("%+v", out)
	}
	h.ok("stop")
}

// Killed at any instant, a save or a load leaves the data whole, as it was or as it is to be.
func TestAStateIsSavedAndLoadedWholeOrNot(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, strings.Replace(keeperDeclaration, "mkdir -p @{bay.dir}/data/ledger &&", "mkdir -p @{bay.dir}/data/ledger && { [ -e @{bay.dir}/data/ledger/1 ] || for i in 1 2 3 4 5 6 7 8 9; do echo $i > @{bay.dir}/data/ledger/$i; done; };", 1))
	h.ok("lock")
	h.ok("start", "--approve")
	h.ok("data", "save", "ledger", "--as", "seeded")
	h.ok("stop")
	whole := func() string {
		dirs, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/data/ledger"))
		if len(dirs) != 1 {
			return "no data"
		}
		out, _ := exec.Command("sh", "-c", "cd "+dirs[0]+" && ls && cat *").Output()
		return string(out)
	}
	want := whole()
	for i := range 12 {
		for _, word := range []string{"load", "save"} {
			c := h.command("data", word, "ledger", "--as", "seeded")
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			exec.Command("sleep", "0.0"+itoa(i*7%10)).Run()
			_ = c.Process.Kill()
			_ = c.Wait()
			if got := whole(); got != want {
				t.Fatalf("after a %s that was killed: %q, not %q", word, got, want)
			}
		}
	}
	h.ok("data", "load", "ledger", "--as", "seeded")
	left, _ := filepath.Glob(filepath.Join(h.home, "state/*/*/main/*/.new-*"))
	if got := whole(); got != want || len(left) > 0 {
		t.Errorf("%q, left %v", got, left)
	}
	h.ok("stop")
}
