package store

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// part is a part whose archive lies in a file.
func part(t *testing.T, content string) (lock.PartOn, func() (string, error)) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "archive")
	archive := standin.TarGz(
		standin.File{Name: "bin/lane", Content: content}, standin.File{Name: "share/notes.txt", Content: strings.Repeat("silverfin\n", 1000)},
	)
	if err := os.WriteFile(path, archive, 0o644); err != nil {
		t.Fatal(err)
	}
	p := lock.PartOn{Item: "lane", Name: "lane", Part: lock.Part{
		Version: "1.0", Format: "tar.gz", Digest: fetch.Digest("sha256:" + strings.Repeat("a", 64)), Bin: map[string]string{"lane": "bin/lane"},
	}}
	return p, func() (string, error) { return path, nil }
}

func open(t *testing.T) *Store {
	t.Helper()
	root := filepath.Join(t.TempDir(), "store")
	t.Cleanup(func() { disk.RemoveAll(root) })
	return Open(root)
}

// clean tells whether a store holds only whole parts and their records.
func clean(t *testing.T, s *Store) {
	t.Helper()
	if left := s.Leftovers(); len(left) > 0 {
		t.Errorf("left over: %v", left)
	}
	names, err := s.Names()
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		for _, record := range []string{".manifest", ".stamps"} {
			if _, err := os.Stat(filepath.Join(s.root, n+record)); err != nil {
				t.Errorf("%s has no %s", n, record)
			}
		}
	}
}

func TestAPartIsAddedOnceAndChecksOut(t *testing.T) {
	s := open(t)
	p, get := part(t, "#!/bin/sh\n")
	var mu sync.Mutex
	gets := 0
	var wait sync.WaitGroup
	for range 6 {
		wait.Go(func() {
			_, err := s.Add(context.Background(), p, false, func() (string, error) {
				mu.Lock()
				defer mu.Unlock()
				gets++
				return get()
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if gets != 1 {
		t.Errorf("the archive was wanted %d times", gets)
	}
	p.Tree = s.Tree(p)
	for _, deep := range []bool{false, true} {
		if c, err := s.Check(p, deep); err != nil || !c.OK() || c.Files != 2 {
			t.Errorf("deep %v: %+v, %v", deep, c, err)
		}
	}
	if info, err := os.Stat(filepath.Join(s.Path(p), "bin/lane")); err != nil || info.Mode().Perm()&0o111 == 0 || info.Mode().Perm()&0o222 != 0 {
		t.Errorf("the command has the mode %v, %v", info.Mode(), err)
	}
	clean(t, s)
}

func TestWhatDoesNotFitTheLockIsNotKept(t *testing.T) {
	cases := map[string]struct {
		spoil func(p *lock.PartOn)
		get   func() (string, error)
		wrong bool // wrong bytes, so that the archive is dropped
		says  string
	}{
		"another tree":     {func(p *lock.PartOn) { p.Tree = canon.TreeDigest("blake3:" + strings.Repeat("0", 64)) }, nil, true, "its tree digest is"},
		"another h1":       {func(p *lock.PartOn) { p.Digest = "h1:x"; p.Format = "zip" }, nil, true, "not a zip"},
		"a command missed": {func(p *lock.PartOn) { p.Bin = map[string]string{"x": "bin/gone"} }, nil, false, "has no file bin/gone"},
		"a wrong format":   {func(p *lock.PartOn) { p.Format = "rar" }, nil, true, "not known"},
		"no archive":       {func(*lock.PartOn) {}, func() (string, error) { return "", errors.New("the source is gone") }, false, "the source is gone"},
		"a wrong prefix":   {func(p *lock.PartOn) { p.Prefix = "other/" }, nil, true, "refused"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			p, get := part(t, "x")
			c.spoil(&p)
			if c.get != nil {
				get = c.get
			}
			_, err := s.Add(context.Background(), p, false, get)
			if err == nil || !strings.Contains(err.Error(), c.says) || errors.Is(err, ErrWrongBytes) != c.wrong {
				t.Errorf("%v", err)
			}
			if names, _ := s.Names(); len(names) > 0 {
				t.Errorf("it is in the store: %v", names)
			}
			clean(t, s)
		})
	}
}

func TestAPartIsMendedUnderTheFeetOfWhoUsesIt(t *testing.T) {
	s := open(t)
	p, get := part(t, "#!/bin/sh\n")
	p.Tree, _ = s.Add(context.Background(), p, false, get)
	file := filepath.Join(s.Path(p), "share/notes.txt")
	reading, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer reading.Close()
	os.Chmod(file, 0o644)
	if err := os.WriteFile(file, []byte("changed"), 0o644); err != nil {
		t.Fatal(err)
	}
	if c, _ := s.Check(p, false); c.OK() || len(c.Differences) != 1 || c.Differences[0].Path != "share/notes.txt" {
		t.Errorf("%+v", c)
	}
	s.MarkDamaged(p)
	if !s.Damaged(p) {
		t.Error("the mark is not there")
	}
	if _, err := s.Add(context.Background(), p, true, get); err != nil {
		t.Fatal(err)
	}
	if c, _ := s.Check(p, true); !c.OK() || s.Damaged(p) {
		t.Errorf("after mending: %+v", c)
	}
	old := make([]byte, 7)
	if _, err := reading.ReadAt(old, 0); err != nil || !bytes.Equal(old, []byte("changed")) {
		t.Errorf("an open file went away: %q, %v", old, err)
	}
	clean(t, s)
}

// A process that is killed leaves a folder without a name; the next one to add
// that part takes it away, and nobody else's.
func TestLeftoversOfTheKilledAreTakenAway(t *testing.T) {
	s := open(t)
	p, get := part(t, "x")
	own := filepath.Join(s.root, ".new-"+strings.ReplaceAll(string(p.Digest), ":", "-")+"-1")
	others := filepath.Join(s.root, ".new-sha256-"+strings.Repeat("b", 64)+"-1")
	for _, dir := range []string{own, others} {
		if err := os.MkdirAll(filepath.Join(dir, "half"), 0o555); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Add(context.Background(), p, false, get); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(own); !os.IsNotExist(err) {
		t.Error("what was left is still there")
	}
	if _, err := os.Stat(others); err != nil {
		t.Error("somebody else's work was taken away")
	}
}

func TestACancelledAddLeavesNothing(t *testing.T) {
	s := open(t)
	p, get := part(t, "x")
	ctx, cancel := context.WithCancel(context.Background())
	if _, err := s.Add(ctx, p, false, func() (string, error) { cancel(); return get() }); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	clean(t, s)
}

// What is put together here, a root or a tree of packages, is refused as a whole when links
// of several parts lead out of it together.
func TestATreeThatLinksLeadOutOfIsNotKept(t *testing.T) {
	s := open(t)
	p, _ := part(t, "x")
	p.Tree, p.Bin = "", nil
	for name, links := range map[string][2]string{"one": {"q", "../x"}, "absolute": {"q", "/etc"}, "deeper": {"a/b/q", "../../../x"}} {
		_, err := s.Merge(context.Background(), p, false, func(_ context.Context, fresh string) (tree.Manifest, error) {
			at := filepath.Join(fresh, links[0])
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				return nil, err
			}
			if err := os.Symlink(links[1], at); err != nil {
				return nil, err
			}
			return tree.Scan(fresh, true)
		})
		if err == nil || !strings.Contains(err.Error(), "leaves the tree") {
			t.Errorf("%s: %v", name, err)
		}
		if names, _ := s.Names(); len(names) > 0 {
			t.Errorf("%s is in the store: %v", name, names)
		}
		clean(t, s)
	}
}
