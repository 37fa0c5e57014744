package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"app.example/trammel/internal/core/written/draft"
)

func TestAStarterIsAWholeProject(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "")
	if err := os.Remove(filepath.Join(h.dir, "trammel.toml")); err != nil {
		t.Fatal(err)
	}
	names, _ := draft.Starters()
	if len(names) < 12 {
		t.Errorf("there are %d starters", len(names))
	}
	out := h.ok("draft", "--starters")
	for _, name := range names {
		if !strings.Contains(out, name) {
			t.Errorf("%s is not listed", name)
		}
		dir := filepath.Join(h.dir, name)
		h.ok("--dir", dir, "draft", "--from", name, "--print")
		if _, err := os.Stat(dir); err == nil {
			t.Errorf("%s: printing wrote something", name)
		}
		h.ok("--dir", dir, "draft", "--from", name)
		if text, err := os.ReadFile(filepath.Join(dir, "trammel.toml")); err != nil || !strings.Contains(string(text), `project = "`+name+`"`) {
			t.Errorf("%s: %v\n%s", name, err, text)
		}
		h.ok("--dir", dir, "do") // it is read as a project
	}
	// What is there is not touched, and nothing is written beside it.
	h.write("mine/main.go", "package mine\n")
	h.fails(2, []string{"main.go is there already", "empty folder"}, "--dir", filepath.Join(h.dir, "mine"), "draft", "--from", "go-service")
	if entries, _ := os.ReadDir(filepath.Join(h.dir, "mine")); len(entries) != 1 {
		t.Error("a part of the starter was written")
	}
	h.fails(2, []string{"no starter is named", "go-service"}, "draft", "--from", "go-servise")
}

func TestATeamHasStartersOfItsOwn(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "")
	ours := filepath.Join(filepath.Dir(h.dir), "starters")
	write := func(name, text string, mode os.FileMode) {
		t.Helper()
		path := filepath.Join(ours, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	write("lane/trammel.toml", "format = 1\nproject = \"PROJECT\"\n\n[source.SUITE]\nkind = \"debian\"\nsuite = \"SUITE\"\n\n[routine.test]\nrun = \"./check\"\n", 0o644)
	write("lane/check", "#!/bin/sh\necho holds\n", 0o755)
	write("lane/.trammel/plan", "x", 0o644)
	// What a stranger may have put there stays out.
	for from, to := range map[string]string{"lane/secret": "/etc/passwd", "lane/out": "../.."} {
		if err := os.Symlink(to, filepath.Join(ours, from)); err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.Mkfifo(filepath.Join(ours, "lane/pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	git := func(args ...string) {
		t.Helper()
		c := exec.Command("git", append([]string{"-C", ours, "-c", "user.name=hut", "-c", "user.email=hut@weir.example"}, args...)...)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	git("init", "-q", "-b", "main")
	git("add", "lane/trammel.toml", "lane/check")
	git("commit", "-qm", "A lane")
	for i, from := range []string{filepath.Join(ours, "lane"), "git+file://" + ours + "#main:lane"} {
		dir := filepath.Join(h.dir, []string{"one", "two"}[i])
		h.ok("--dir", dir, "draft", "--from", from)
		var names []string
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			names = append(names, e.Name())
		}
		if got := strings.Join(names, " "); got != "check trammel.toml" {
			t.Errorf("from %s: %s", from, got)
		}
		if info, err := os.Stat(filepath.Join(dir, "check")); err != nil || info.Mode().Perm()&0o111 == 0 {
			t.Errorf("the script is not executable: %v", err)
		}
		if text, _ := os.ReadFile(filepath.Join(dir, "trammel.toml")); strings.Contains(string(text), "PROJECT") || strings.Contains(string(text), "SUITE") {
			t.Errorf("%s", text)
		}
	}
	h.fails(2, []string{"is no starter", "no trammel.toml"}, "--dir", filepath.Join(h.dir, "three"), "draft", "--from", ours)
}
