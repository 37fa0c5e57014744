package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"app.example/trammel/internal/standin"
)

// The tests in hostile_*_test.go are what a stranger's repository would do, a class of
// attacks a file: before consent, behind it, by links, by what lies in state, and in words.

// tool is a command of a catalog: a shell script, and what its card says.
type tool struct{ name, script, card string }

// stranger is a machine that has just cloned a stranger's project, with a catalog in it.
func stranger(t *testing.T, declaration string, tools ...tool) *hut {
	t.Helper()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+declaration)
	h.wary = true
	h.publish(tools...)
	return h
}

func (h *hut) publish(tools ...tool) {
	h.t.Helper()
	var list []standin.Tool
	for _, x := range tools {
		archive := standin.TarGz(standin.File{Name: "bin/" + x.name, Content: "#!/bin/sh\n" + x.script + "\n", Mode: 0o755})
		list = append(list, standin.Tool{Name: x.name, Archives: [][]byte{archive}, Card: x.card})
	}
	if err := standin.Publish(filepath.Join(h.dir, "tools"), list); err != nil {
		h.t.Fatal(err)
	}
}

// catalogOf declares the catalog and tools of it.
func catalogOf(names ...string) string {
	text := "\n[source.c]\nkind = \"catalog\"\nurl = \"tools\"\n\n[toolchain]\n"
	for _, n := range names {
		text += n + " = \"1.0\"\n"
	}
	return text
}

func (h *hut) link(name, target string) {
	h.t.Helper()
	path := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		h.t.Fatal(err)
	}
	os.RemoveAll(path)
	if err := os.Symlink(target, path); err != nil {
		h.t.Fatal(err)
	}
}

func (h *hut) there(name string) bool {
	_, err := os.Lstat(filepath.Join(h.dir, name))
	return err == nil
}

// picture is every entry below some folders with its mode and content, but for those that
// a word names. Times of reading are left out.
func picture(t *testing.T, without string, dirs ...string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, dir := range dirs {
		err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if without != "" && d.IsDir() && d.Name() == without {
				return filepath.SkipDir
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			text := info.Mode().String()
			switch {
			case info.Mode()&os.ModeSymlink != 0:
				to, _ := os.Readlink(path)
				text += " " + to
			case info.Mode().IsRegular():
				raw, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				text += fmt.Sprintf(" %x %d", sha256.Sum256(raw), info.ModTime().UnixNano())
			}
			out[path] = text
			return nil
		})
		if err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
	}
	return out
}

// changed lists what is not in two pictures alike.
func changed(before, after map[string]string) []string {
	var out []string
	for path, was := range before {
		if is, ok := after[path]; !ok {
			out = append(out, "gone: "+path)
		} else if is != was {
			out = append(out, "changed: "+path)
		}
	}
	for path := range after {
		if _, ok := before[path]; !ok {
			out = append(out, "new: "+path)
		}
	}
	sort.Strings(out)
	return out
}

// ran lists the marks that hostile commands leave: files whose names begin with RAN.
func (h *hut) ran() []string {
	var out []string
	for _, dir := range []string{h.dir, filepath.Dir(h.home)} {
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err == nil && strings.HasPrefix(d.Name(), "RAN") {
				out = append(out, path)
			}
			return nil
		})
	}
	return out
}

// keepsPlan runs a command until its plan is kept, which it is once all that it was made
// from is older than the clock's grain, so that what follows is judged by that plan.
func (h *hut) keepsPlan() {
	h.t.Helper()
	eventually(h.t, "a plan is kept", func() bool {
		h.ok("run", "--", "true")
		kept, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*.cache"))
		return len(kept) > 0
	})
	h.ok("run", "--", "true")
}

// publishFiles publishes a tool whose archive holds its command and one more file.
func publishFiles(h *hut, name, file string) {
	h.t.Helper()
	archive := standin.TarGz(standin.File{Name: "bin/" + name, Content: "#!/bin/sh\n", Mode: 0o755}, standin.File{Name: file, Content: "x"})
	if err := standin.Publish(filepath.Join(h.dir, "tools"), []standin.Tool{{Name: name, Archives: [][]byte{archive}}}); err != nil {
		h.t.Fatal(err)
	}
}
