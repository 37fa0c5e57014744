package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// A tool of one's own has a root of its own beside the project's, whatever archive, suite and packages they
// share: each command starts in the root that it was locked for, in every isolation, and verify starts one
// of each.
func TestOwnToolsHaveRootsOfTheirOwn(t *testing.T) {
	t.Parallel()
	for _, isolation := range []string{"clean", "open", "sealed"} {
		t.Run(isolation, func(t *testing.T) {
			t.Parallel()
			s, weir, oldweir := archives(t)
			// Each needs a package that the other's root has not, and one that both have.
			needs := func(name, on string) standin.Deb {
				d := toolDeb(name, "2.0-1", "cat /usr/share/"+on+"/is /usr/share/species-common/is")
				d.Fields = map[string]string{"Depends": on + ", species-common, bash | zsh"}
				return d
			}
			data := func(name string) standin.Deb {
				return standin.Deb{Name: name, Version: "1.0-1", Arch: "all", Packed: "xz", Files: []standin.File{{Name: "./usr/share/" + name + "/is", Content: name + "\n"}}}
			}
			weir.Put(needs("counter", "counter-data"), needs("editor", "editor-data"), needs("viewer", "viewer-data"), data("counter-data"), data("editor-data"), data("viewer-data"), data("species-common"))
			weir.Publish()
			h := sealedHut(t, s, weir, oldweir, isolation, "counter = { version = \"2\", from = \"weir\", package = \"counter\" }\n")
			h.fitted()
			h.ok("run", "--", "counter")
			before := h.read("trammel.lock")
			h.write("trammel.local.toml", "[toolchain]\neditor = { version = \"2\", from = \"weir\", package = \"editor\" }\nviewer = { version = \"2\", from = \"weir\", package = \"viewer\" }\n")
			h.ok("lock")
			h.ok("fit", "--approve")
			if h.read("trammel.lock") != before {
				t.Error("a tool of one's own moved the project's lock")
			}
			for name, want := range map[string]string{"counter": "counter-data\nspecies-common\n", "editor": "editor-data\nspecies-common\n", "viewer": "viewer-data\nspecies-common\n"} {
				if got := h.ok("run", "--", name); got != want {
					t.Errorf("%s says %q", name, got)
				}
				c := h.command("run", "--", "true")
				c.Path, c.Args = filepath.Join(h.dir, ".trammel/bin", name), []string{name}
				if out, err := c.CombinedOutput(); string(out) != want {
					t.Errorf(".trammel/bin/%s says %q, %v", name, out, err)
				}
			}
			out := h.ok("verify")
			for _, want := range []string{"yours, not the team's: ", "editor 2.0", "viewer 2.0"} {
				if !strings.Contains(out, want) {
					t.Errorf("verify does not say %q:\n%s", want, out)
				}
			}
			// What one of one's own says now is found, and what cannot be looked at is not well.
			found := globs(h.home, "data/store/*/usr/share/species-common/is")
			file := ""
			for _, f := range found {
				if other := filepath.Join(filepath.Dir(filepath.Dir(f)), "editor-data/is"); len(globs(filepath.Dir(other), "is")) > 0 {
					file = other
				}
			}
			if file == "" {
				t.Fatalf("no root of one's own among %v", found)
			}
			if err := os.Chmod(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.Remove(file); err != nil {
				t.Fatal(err)
			}
			h.fails(3, []string{"usr/share/editor-data/is", "your own", "Mend: trammel fit"}, "verify")
			h.ok("fit")
			h.ok("verify")
			if err := os.Remove(filepath.Join(h.dir, "trammel.local.toml")); err != nil {
				t.Fatal(err)
			}
			h.ok("fit", "--approve")
			if got := h.ok("run", "--", "counter"); got != "counter-data\nspecies-common\n" {
				t.Errorf("after it is gone: %q", got)
			}
			h.ok("verify")
		})
	}
}

// What somebody saves in an editor while set, unset and lock are at work is not lost, and two commands at
// once both have their way.
func TestNobodysEditIsLost(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\n")
	h.ok("lock")
	file := filepath.Join(h.dir, "trammel.toml")
	over := make(chan struct{})
	go func() {
		defer close(over)
		for i := range 12 {
			h.try("set", []string{"node=22.12", "node=22"}[i%2])
			h.try("lock")
		}
	}()
	saved := 0
	for going := true; going; {
		select {
		case <-over:
			going = false
		case <-time.After(7 * time.Millisecond):
		}
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		fresh := file + "~"
		if err := os.WriteFile(fresh, append(raw, fmt.Sprintf("# saved %d\n", saved)...), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(fresh, file); err != nil {
			t.Fatal(err)
		}
		saved++
	}
	text := h.read("trammel.toml")
	for i := range saved {
		if strings.Count(text, fmt.Sprintf("# saved %d\n", i)) != 1 {
			t.Fatalf("what was saved as number %d of %d is gone:\n%s", i, saved, text)
		}
	}
	// Two at once.
	other := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\nbun = \"latest\"\n[variables]\nA = \"b\"\n")
	other.write("trammel.toml", "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\n")
	var both sync.WaitGroup
	for _, args := range [][]string{{"set", "node=22.12"}, {"lock"}, {"set", "--local", "node=22"}} {
		both.Go(func() { other.try(args...) })
	}
	both.Wait()
	if got := other.read("trammel.toml"); !strings.Contains(got, "22.12") {
		t.Errorf("set is lost:\n%s", got)
	}
	link := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\n")
	link.write("ops/trammel.toml", link.read("trammel.toml"))
	_ = os.Remove(filepath.Join(link.dir, "trammel.toml"))
	if err := os.Symlink("ops/trammel.toml", filepath.Join(link.dir, "trammel.toml")); err != nil {
		t.Fatal(err)
	}
	link.ok("set", "node=22.12")
	if to, err := os.Readlink(filepath.Join(link.dir, "trammel.toml")); err != nil || to != "ops/trammel.toml" || !strings.Contains(link.read("ops/trammel.toml"), "22.12") {
		t.Errorf("a link is no link any more: %q %v", to, err)
	}
}
