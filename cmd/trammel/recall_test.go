package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// commits makes the project folder a repository, and returns what commits all of it.
func commits(t *testing.T, h *hut) (commit func(subject string) string) {
	t.Helper()
	r, err := git.PlainInit(filepath.Dir(h.dir), false) // the project is below its top
	if err != nil {
		t.Fatal(err)
	}
	w, err := r.Worktree()
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	return func(subject string) string {
		t.Helper()
		for _, name := range []string{"trammel.toml", "trammel.lock"} {
			if _, err := w.Add("heronweir/" + name); err != nil {
				t.Fatal(err)
			}
		}
		at = at.Add(time.Hour)
		who := &object.Signature{Name: "hut-laptop", Email: "hut-laptop@heronweir.example", When: at}
		id, err := w.Commit(subject, &git.CommitOptions{Author: who, Committer: who})
		if err != nil {
			t.Fatal(err)
		}
		return id.String()
	}
}

func nodes(t *testing.T) *hut {
	t.Helper()
	h := newHut(t, registry(t), "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[toolchain]\nnode = \"=22.11.0\"\n")
	h.ok("lock")
	return h
}

func TestEarlierLocksComeBackFromVersionControl(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := nodes(t)
	commit := commits(t, h)
	first := commit("Pin node")
	h.ok("set", "node==22.12.0")
	second := commit("Newer node")
	h.write("trammel.toml", h.read("trammel.toml")+"\n[variables]\nWEIR_UNITS = \"fish-per-hour\"\n")
	h.ok("lock")
	commit("A variable")
	h.write("trammel.toml", "# a remark\n"+h.read("trammel.toml"))
	commit("A remark, which is no revision of the lock")
	list := strings.Split(strings.TrimSpace(h.ok("recall", "--list")), "\n")
	if len(list) != 3 || !strings.Contains(list[0], "+ variable WEIR_UNITS") || !strings.Contains(list[1], "node 22.11.0 → 22.") || !strings.Contains(list[2], "the first lock") {
		t.Fatalf("%q", list)
	}
	var out struct {
		Shallow   bool
		Revisions []struct{ Revision, Subject string }
	}
	if err := json.Unmarshal([]byte(h.ok("recall", "--list", "--json")), &out); err != nil || len(out.Revisions) != 3 || out.Revisions[1].Revision != second || out.Revisions[1].Subject != "Newer node" || out.Shallow {
		t.Errorf("%+v, %v", out, err)
	}
	if got := h.ok("recall", "--against", first[:10]); !strings.Contains(got, "node 22.11.0 → 22.") || !strings.Contains(got, "+ variable WEIR_UNITS") {
		t.Error(got)
	}
	h.ok("fit")
	newer := h.ok("run", "--", "node", "--version")
	// With the declaration, everything is as it was; without, it says that they part.
	o := h.try("recall", first)
	if o.code != 0 || !strings.Contains(o.out, "→ 22.11.0") || !strings.Contains(o.err, "--declaration") {
		t.Errorf("%+v", o)
	}
	h.fails(3, nil, "lock", "--check")
	o = h.try("recall", first, "--declaration")
	if o.code != 0 || !strings.Contains(o.err, "trammel fit") {
		t.Errorf("%+v", o)
	}
	h.ok("lock", "--check")
	h.ok("fit")
	if got := h.ok("run", "--", "node", "--version"); got == newer || !strings.Contains(got, "22.11.0") {
		t.Errorf("%q", got)
	}
	h.ok("recall", "HEAD", "--declaration")
	h.ok("fit")
	if got := h.ok("run", "--", "node", "--version"); got != newer {
		t.Errorf("%q, not %q", got, newer)
	}
	h.fails(2, []string{`nothing is called "v9"`, "recall --list"}, "recall", "v9")
	h.fails(2, []string{"there is no earlier lock number 7"}, "recall", "7")
	h.fails(2, []string{"say one of"}, "recall")
	h.write("trammel.toml", "nonsense = [")
	h.ok("recall", "HEAD", "--declaration") // the way back from a faulty declaration
	h.ok("lock", "--check")
	// The project moves to another folder: its history goes with it.
	gitPath, err := exec.LookPath("git")
	if err != nil {
		return
	}
	top := filepath.Dir(h.dir)
	for _, args := range [][]string{{"checkout", "-q", "-f"}, {"mv", "heronweir", "weir"}, {"-c", "user.name=hut", "-c", "user.email=hut@heronweir.example", "commit", "-qm", "Move"}} {
		c := exec.Command(gitPath, args...)
		c.Dir = top
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	moved := &hut{t: t, dir: filepath.Join(top, "weir"), home: h.home, env: h.env}
	if got := moved.ok("recall", "--list"); strings.Count(got, "\n") != 3 || !strings.Contains(got, "the first lock") {
		t.Errorf("after a move: %s", got)
	}
	if got := moved.ok("recall", "--against", first); !strings.Contains(got, "22.11.0 → 22.12.0") {
		t.Errorf("after a move: %s", got)
	}
	if err := os.MkdirAll(h.dir, 0o755); err != nil { // where the person still stands
		t.Fatal(err)
	}
	shallow := filepath.Join(t.TempDir(), "shallow")
	if raw, err := exec.Command(gitPath, "clone", "-q", "--depth", "2", "file://"+filepath.Dir(h.dir), shallow).CombinedOutput(); err != nil {
		t.Skip(string(raw))
	}
	other := &hut{t: t, dir: filepath.Join(shallow, "weir"), home: h.home, env: h.env}
	o = other.try("recall", "--list")
	if o.code != 0 || !strings.Contains(o.out+o.err, "This clone is shallow") {
		t.Errorf("%+v", o)
	}
}

func TestWithoutVersionControlTheLastTwentyLocksAreKept(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := nodes(t)
	for i := range 22 {
		h.write("trammel.toml", strings.Split(h.read("trammel.toml"), "\n[variables]")[0]+fmt.Sprintf("\n[variables]\nDAY = \"%d\"\n", i))
		h.ok("lock")
	}
	o := h.try("recall", "--list", "--last", "0")
	if n := strings.Count(o.out, "\n"); o.code != 0 || n != 20 || !strings.Contains(o.err, "the last twenty") {
		t.Errorf("%d: %+v", n, o)
	}
	h.ok("recall", "1", "--declaration")
	if !strings.Contains(h.read("trammel.toml"), `DAY = "20"`) {
		t.Error(h.read("trammel.toml"))
	}
	h.ok("lock", "--check")
	h.ok("recall", "1", "--declaration") // and there again
	if !strings.Contains(h.read("trammel.toml"), `DAY = "21"`) {
		t.Error(h.read("trammel.toml"))
	}
	h.fails(2, []string{"nothing is called"}, "recall", "HEAD")
}

func TestALockInConflictIsMerged(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, registry(t), "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[toolchain]\nnode = \"=22.11.0\"\n")
	h.ok("lock")
	ours := h.read("trammel.lock")
	both := map[string]string{}
	for side, declared := range map[string]string{"ours": "node = \"=22.12.0\"\n", "theirs": "node = \"=24.1.0\"\n"} {
		h.write("trammel.lock", ours)
		h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), h.read("trammel.toml")[strings.Index(h.read("trammel.toml"), "node ="):], declared, 1))
		h.ok("lock")
		both[side] = h.read("trammel.lock")
	}
	conflict := "<<<<<<< HEAD\n" + both["ours"] + "=======\n" + both["theirs"] + ">>>>>>> theirs\n"
	h.write("trammel.lock", conflict)
	o := h.try("lock")
	if o.code != 0 || !strings.Contains(o.err, "in conflict") || !strings.Contains(o.err, "resolved anew: node") {
		t.Errorf("%+v", o)
	}
	h.ok("lock", "--check")
	h.write("trammel.lock", strings.Replace(conflict, "=======", "|||||||\n"+ours+"=======", 1)) // with the base
	h.ok("lock")
	h.ok("lock", "--check")
	// By git's own hand, where there is one: each side sets another tool.
	gitPath, err := exec.LookPath("git")
	if err != nil {
		return
	}
	run := func(args ...string) (string, error) {
		c := exec.Command(gitPath, append([]string{"-c", "user.name=hut", "-c", "user.email=hut@heronweir.example", "-c", "init.defaultBranch=main"}, args...)...)
		c.Dir = h.dir
		out, err := c.CombinedOutput()
		return string(out), err
	}
	must := func(args ...string) {
		t.Helper()
		if out, err := run(args...); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	must("init", "-q")
	must("add", "trammel.toml", "trammel.lock")
	must("commit", "-qm", "One tool")
	must("checkout", "-qb", "theirs")
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "[toolchain]", "[variables]\nTHEIRS = \"1\"\n\n[toolchain]", 1))
	h.ok("lock")
	must("commit", "-qam", "Theirs")
	must("checkout", "-q", "main")
	h.ok("set", "node==18.20.4") // as neither side has it
	must("commit", "-qam", "Ours")
	if out, err := run("merge", "theirs"); err == nil {
		t.Fatalf("git found no conflict: %s", out)
	}
	if strings.Contains(h.read("trammel.toml"), "<<<<") {
		t.Fatal("the declaration is in conflict, too")
	}
	o = h.try("lock")
	if o.code != 0 || !strings.Contains(o.err, "in conflict") {
		t.Errorf("%+v", o)
	}
	h.ok("lock", "--check")
	if text := h.read("trammel.lock"); strings.Contains(text, "<<<<") || !strings.Contains(text, "18.20.4") || !strings.Contains(text, "THEIRS") {
		t.Error(text)
	}
}

func TestWhatIsNotCommittedIsNeverLostByGoingBack(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := nodes(t)
	commit := commits(t, h)
	// Before the first commit there are the kept ones.
	h.ok("set", "node==22.12.0")
	if out := h.ok("recall", "--list"); !strings.Contains(out, "the first lock that was kept") {
		t.Errorf("nothing is listed before the first commit:\n%s", out)
	}
	h.ok("recall", "1", "--declaration")
	if !strings.Contains(h.read("trammel.toml"), "=22.11.0") {
		t.Error(h.read("trammel.toml"))
	}
	h.ok("set", "node==22.12.0")
	commit("Node")
	// A change of both that nobody committed, with words of a person's own in it.
	h.ok("set", "node==22.11.0")
	h.write("trammel.toml", h.read("trammel.toml")+"# do not forget the weir at night\n")
	h.ok("lock")
	o := h.try("recall", "1", "--declaration")
	if o.code != 0 || !strings.Contains(o.out+o.err, "was not committed. It is kept: trammel recall ") {
		t.Fatalf("%d %s%s", o.code, o.out, o.err)
	}
	if !strings.Contains(h.read("trammel.toml"), "=22.12.0") {
		t.Error("one back is not the committed one")
	}
	_, rest, _ := strings.Cut(o.out+o.err, "It is kept: ")
	again := strings.Fields(rest)[1:4]
	out := h.ok("recall", "--list")
	if !strings.Contains(out, "never committed") || !strings.Contains(out, again[1]) {
		t.Errorf("the kept ones are not listed:\n%s", out)
	}
	h.ok(again...)
	if got := h.read("trammel.toml"); !strings.Contains(got, "do not forget the weir at night") || !strings.Contains(got, "=22.11.0") {
		t.Errorf("it did not come back:\n%s", got)
	}
	// The declaration alone, too.
	h.ok("recall", "1", "--declaration")
	h.write("trammel.toml", h.read("trammel.toml")+"# nor the trout\n")
	o = h.try("recall", "HEAD", "--declaration")
	if o.code != 0 || !strings.Contains(o.out+o.err, "It is kept: ") {
		t.Fatalf("%d %s%s", o.code, o.out, o.err)
	}
	_, rest, _ = strings.Cut(o.out+o.err, "It is kept: ")
	h.ok(strings.Fields(rest)[1:4]...)
	if !strings.Contains(h.read("trammel.toml"), "nor the trout") {
		t.Error("a note of a person's own is gone")
	}
}
