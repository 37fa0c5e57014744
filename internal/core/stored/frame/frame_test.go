package frame

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/lock"
)

func parts(commands ...string) []lock.PartOn {
	var out []lock.PartOn
	for i, c := range commands {
		item, command, _ := strings.Cut(c, ":")
		out = append(out, lock.PartOn{Item: item, Name: item, Part: lock.Part{
			Version: "1", Tree: canon.TreeDigest("blake3:" + strings.Repeat(string(rune('a'+i)), 64)), Bin: map[string]string{command: "bin/" + command},
		}})
	}
	return out
}

func TestAFrameShowsExactlyItsCommands(t *testing.T) {
	root := t.TempDir()
	s := store.Open("/store")
	f, err := Of(nil, root, s, parts("go:go", "node:node"))
	if err != nil {
		t.Fatal(err)
	}
	if d := f.Check(); len(d) != 1 || d[0].What != "the frame is not there" {
		t.Errorf("before it is made: %v", d)
	}
	var wait sync.WaitGroup
	for range 8 { // many make it at once
		wait.Go(func() {
			if err := f.Make(); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if d := f.Check(); len(d) > 0 {
		t.Errorf("after: %v", d)
	}
	if target, _ := os.Readlink(filepath.Join(f.Bin(), "go")); !strings.HasPrefix(target, "/store/aaaa") {
		t.Errorf("go is %s", target)
	}
	os.Symlink("/bin/true", filepath.Join(f.Bin(), "stowaway"))
	os.Remove(filepath.Join(f.Bin(), "go"))
	os.Remove(filepath.Join(f.Bin(), "node"))
	os.Symlink("/usr/bin/node", filepath.Join(f.Bin(), "node"))
	want := []Difference{{"node", "is not the locked one"}, {"stowaway", "extra"}, {"go", "missing"}}
	if got := f.Check(); !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
	if err := f.Make(); err != nil || len(f.Check()) > 0 {
		t.Errorf("making it again: %v, %v", err, f.Check())
	}
	if left, _ := os.ReadDir(root); len(left) != 1 {
		t.Errorf("left over: %v", left)
	}
}

func TestFramesAreNamedByWhatTheyShow(t *testing.T) {
	s := store.Open("/store")
	a, _ := Of(nil, "/frames", s, parts("go:go", "node:node"))
	b, _ := Of(nil, "/frames", s, parts("go:go", "node:node"))
	c, _ := Of(nil, "/frames", s, parts("go:go", "node:nodejs"))
	if a.Dir != b.Dir || a.Dir == c.Dir {
		t.Errorf("%s, %s, %s", a.Dir, b.Dir, c.Dir)
	}
	if _, err := Of(nil, "/frames", s, parts("go:go", "other:go")); err == nil || !strings.Contains(err.Error(), "both go and other") {
		t.Errorf("one command from two tools: %v", err)
	}
}

func TestStableLinksMove(t *testing.T) {
	local, root := filepath.Join(t.TempDir(), ".trammel"), t.TempDir()
	elsewhere := t.TempDir()
	if err := os.WriteFile(filepath.Join(elsewhere, "mine"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Mkdir(local, 0o755), os.Symlink(elsewhere, filepath.Join(local, "bin"))); err != nil { // what a checkout may bring
		t.Fatal(err)
	}
	defer func() {
		if _, err := os.Stat(filepath.Join(elsewhere, "mine")); err != nil {
			t.Error("something outside was removed")
		}
	}()
	s := store.Open("/store")
	for _, tools := range [][]lock.PartOn{parts("go:go"), parts("go:go", "node:node")} {
		f, _ := Of(nil, root, s, tools)
		if err := f.Make(); err != nil {
			t.Fatal(err)
		}
		for _, script := range []string{"#!/bin/sh\n", "#!/bin/sh\n", "#!/bin/sh\n# another program\n"} {
			if err := f.Point(context.Background(), local, script); err != nil {
				t.Fatal(err)
			}
			entries, err := os.ReadDir(filepath.Join(local, "bin"))
			if err != nil || len(entries) != len(tools) {
				t.Errorf("%v, %v", entries, err)
			}
			for _, e := range entries {
				if raw, err := os.ReadFile(filepath.Join(local, "bin", e.Name())); err != nil || string(raw) != script {
					t.Errorf("%s: %q, %v", e.Name(), raw, err)
				}
			}
		}
		if left, _ := filepath.Glob(filepath.Join(local, ".new-*")); len(left) > 0 {
			t.Errorf("left over: %v", left)
		}
	}
}
