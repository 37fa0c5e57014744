package sweep

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/written/lock"
)

// machine is a person's places with one part in the store, its archive, and a known project.
type machine struct {
	t      *testing.T
	places place.Places
	dir    string // the project
	part   lock.PartOn
	lock   *lock.Lock // names the part
	other  *lock.Lock // names none
}

func newMachine(t *testing.T) *machine {
	t.Helper()
	home := t.TempDir()
	t.Cleanup(func() { disk.RemoveAll(home) })
	m := &machine{t: t, dir: filepath.Join(home, "project"), places: place.Places{
		Data: filepath.Join(home, "data"), Cache: filepath.Join(home, "cache"), State: filepath.Join(home, "state"), Config: filepath.Join(home, "config"),
	}}
	m.part = lock.PartOn{Item: "lane", Name: "lane", Part: lock.Part{
		Path: "lane.tgz", Version: "1.0", Format: "tar.gz", Digest: fetch.Digest("sha256:" + strings.Repeat("a", 64)), Bin: map[string]string{"lane": "bin/lane"},
	}}
	tree, err := store.Open(m.places.Store()).Make(t.Context(), m.part, false, func(fresh string) error {
		return errors.Join(os.Mkdir(filepath.Join(fresh, "bin"), 0o755), os.WriteFile(filepath.Join(fresh, "bin/lane"), []byte("#!/bin/sh\n"), 0o755))
	})
	if err != nil {
		t.Fatal(err)
	}
	m.part.Tree = tree
	m.put(filepath.Join(m.places.Archives(), fetch.ArchiveName(m.part.Digest)), "an archive")
	m.other = &lock.Lock{
		Format: lock.Format, Declaration: lock.Declaration{Digest: "sha256:00", Project: "heronweir", Isolation: "clean", Platforms: []string{platform.Here().String()}},
		Sources: map[string]lock.Source{}, Items: map[string]lock.Item{},
	}
	whole := *m.other
	whole.Sources = map[string]lock.Source{"npm": {Kind: "npm", Address: "machine", AsOf: "2026-03-01T00:00:00Z"}}
	whole.Items = map[string]lock.Item{"lane": {
		Version: "1.0", Source: "npm", Card: "sha256:11", Platforms: map[string]map[string]lock.Part{platform.Here().String(): {"lane": m.part.Part}},
	}}
	m.lock = &whole
	m.put(filepath.Join(m.dir, "trammel.toml"), "format = 1\nproject = \"heronweir\"\n")
	m.put(filepath.Join(m.places.State, "projects", "one"), m.dir)
	return m
}

func (m *machine) put(path, text string) {
	m.t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
		m.t.Fatal(err)
	}
}

// sweep sweeps and tells what became of the part and its archive.
func (m *machine) sweep(o Options) (r *Result, part, archive bool) {
	m.t.Helper()
	r, err := Run(m.t.Context(), m.places, o)
	if err != nil {
		m.t.Fatal(err)
	}
	_, err = os.Stat(filepath.Join(m.places.Archives(), fetch.ArchiveName(m.part.Digest)))
	return r, store.Open(m.places.Store()).Has(m.part), err == nil
}

// What a project may need stays; everything else goes.
func TestWhatStays(t *testing.T) {
	conflict := func(m *machine, ours, theirs *lock.Lock) string {
		// As git leaves it: what differs between markers. The digests cannot hold.
		return "<<<<<<< ours\n" + string(ours.Bytes()) + "=======\n" + string(theirs.Bytes()) + ">>>>>>> theirs\n"
	}
	for _, c := range []struct {
		name          string
		before        func(m *machine)
		o             Options
		part, archive bool // stay
		unread        int
		gone          bool // the project is forgotten
	}{
		{"nobody names it", func(m *machine) { m.put(lock.Path(m.dir), string(m.other.Bytes())) }, Options{}, false, false, 0, false},
		{"the project has no lock", func(m *machine) {}, Options{}, false, false, 0, false},
		{"its lock names it", func(m *machine) { m.put(lock.Path(m.dir), string(m.lock.Bytes())) }, Options{}, true, true, 0, false},
		{"the lock before names it", func(m *machine) {
			m.put(lock.Path(m.dir), string(m.other.Bytes()))
			m.put(checkout.EarlierLock(m.dir), string(m.lock.Bytes()))
		}, Options{}, true, true, 0, false},
		{"a person's own additions name it", func(m *machine) { m.put(lock.OverlayPath(m.dir), string(m.lock.Bytes())) }, Options{}, true, true, 0, false},
		{"one side of a conflict names it", func(m *machine) { m.put(lock.Path(m.dir), conflict(m, m.other, m.lock)) }, Options{}, true, true, 0, false},
		{"a lock that cannot be read may name it", func(m *machine) { m.put(lock.Path(m.dir), "format = 1\n[item") }, Options{}, true, true, 1, false},
		{"a conflict whose one side is no lock", func(m *machine) {
			m.put(lock.Path(m.dir), "<<<<<<< ours\nformat = \n=======\n"+string(m.other.Bytes())+">>>>>>> theirs\n")
		}, Options{}, true, true, 1, false},
		{"the project is gone", func(m *machine) {
			m.put(lock.Path(m.dir), string(m.lock.Bytes()))
			os.Remove(filepath.Join(m.dir, "trammel.toml"))
		}, Options{}, false, false, 0, true},
		{"a note of a project that is no text", func(m *machine) {
			if err := os.MkdirAll(filepath.Join(m.places.State, "projects", "two"), 0o755); err != nil {
				m.t.Fatal(err)
			}
		}, Options{}, true, true, 1, false},
		{"the folder shows a frame of it", func(m *machine) {
			frame := filepath.Join(m.places.Frames(), "0123")
			m.put(filepath.Join(frame, "note"), "")
			if err := errors.Join(os.MkdirAll(filepath.Join(frame, "bin"), 0o755), os.Symlink(filepath.Join(store.Open(m.places.Store()).Path(m.part), "bin/lane"), filepath.Join(frame, "bin/lane")),
				os.MkdirAll(checkout.Local(m.dir), 0o755), os.Symlink(frame, filepath.Join(checkout.Local(m.dir), "frame"))); err != nil {
				m.t.Fatal(err)
			}
		}, Options{}, true, false, 0, false},
		{"only printed", func(m *machine) {}, Options{Print: true}, true, true, 0, false},
		{"younger than asked for", func(m *machine) {}, Options{OlderThan: time.Hour}, true, true, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMachine(t)
			c.before(m)
			left := filepath.Join(m.places.Store(), ".new-half")
			m.put(filepath.Join(left, "x"), "half of a part")
			r, part, archive := m.sweep(c.o)
			if part != c.part || archive != c.archive {
				t.Errorf("the part stays: %v, its archive: %v; %+v", part, archive, r)
			}
			if len(r.Unread) != c.unread {
				t.Errorf("not read: %+v", r.Unread)
			}
			if _, err := os.Stat(left); (err == nil) != c.o.Print {
				t.Errorf("what was begun by somebody who died: %v", err)
			}
			if _, err := os.Stat(filepath.Join(m.places.State, "projects", "one")); (err != nil) != c.gone || c.gone != (len(r.Gone) == 1) {
				t.Errorf("known: %v, gone: %v", err == nil, r.Gone)
			}
			freed := map[string]bool{}
			for _, f := range r.Freed {
				freed[f.Kind] = true
			}
			if freed["part"] == c.part && !c.o.Print || freed["archive"] == c.archive && !c.o.Print {
				t.Errorf("what is said to be freed: %+v", r.Freed)
			}
		})
	}
}

// A file with several names takes room along with its last one only.
func TestRoomIsCountedOnce(t *testing.T) {
	m := newMachine(t)
	one, two, stays := filepath.Join(m.places.Layers(), "one"), filepath.Join(m.places.Layers(), "two"), filepath.Join(m.places.Data, "stays")
	m.put(one, strings.Repeat("x", 1000))
	m.put(stays, strings.Repeat("y", 500))
	if err := errors.Join(os.Link(one, two), os.Link(stays, filepath.Join(m.places.Layers(), "three"))); err != nil {
		t.Fatal(err)
	}
	long := time.Now().Add(-48 * time.Hour)
	for _, name := range []string{"one", "two", "three"} {
		_ = os.Chtimes(filepath.Join(m.places.Layers(), name), long, long)
	}
	m.put(lock.Path(m.dir), string(m.lock.Bytes()))
	r, _, _ := m.sweep(Options{})
	if len(r.Freed) != 3 || r.Bytes() != 1000 {
		t.Errorf("%d bytes: %+v", r.Bytes(), r.Freed)
	}
}

// A process that works from a part, or from a frame that links to it, keeps it.
func TestARunningProcessKeepsWhatItWorksFrom(t *testing.T) {
	if _, err := os.Stat("/proc/self/environ"); err != nil {
		t.Skip("only Linux says what processes work from")
	}
	m := newMachine(t)
	at := store.Open(m.places.Store()).Path(m.part)
	c, in := sleeper(t, at)
	if _, part, _ := m.sweep(Options{}); !part {
		t.Error("a part went from under a process")
	}
	in.Close()
	if err := c(); err != nil {
		t.Fatal(err)
	}
	if _, part, _ := m.sweep(Options{}); part {
		t.Error("it stays after the process")
	}
}

// sleeper is a process whose environment names a path, until its input ends.
func sleeper(t *testing.T, path string) (wait func() error, in io.Closer) {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	p, err := os.StartProcess("/bin/cat", []string{"cat"}, &os.ProcAttr{Env: []string{"PATH=/bin:" + path + "/bin"}, Files: []*os.File{r, os.Stderr, os.Stderr}})
	if err != nil {
		t.Fatal(err)
	}
	r.Close()
	for range 500 { // until it runs a program of its own
		if raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", p.Pid)); strings.Contains(string(raw), path) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return func() error { _, err := p.Wait(); return err }, w
}
