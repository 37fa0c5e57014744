package store

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// merged makes a set of a part that is in the store, by hard links.
func merged(t *testing.T, s *Store, name string, piece lock.PartOn) lock.PartOn {
	t.Helper()
	p := lock.PartOn{Item: name, Name: name, Part: lock.Part{Version: "1", Format: lock.SetFormat, Digest: fetch.Digest("sha256:" + strings.Repeat(name[:1], 64))}}
	m, err := s.Manifest(piece)
	if err != nil {
		t.Fatal(err)
	}
	p.Tree, err = s.Merge(context.Background(), p, false, func(ctx context.Context, fresh string) (tree.Manifest, error) {
		b := merge.New(fresh)
		b.Pieces = []merge.Piece{{Name: piece.Name, Dir: s.Path(piece), Manifest: m}}
		for _, e := range m {
			if err := b.Put(merge.Placed{Entry: e, Piece: 0, From: e.Path}); err != nil {
				return nil, err
			}
		}
		if err := b.Make("of", []byte(name)); err != nil {
			return nil, err
		}
		if err := b.Write(ctx); err != nil {
			return nil, err
		}
		return b.Finish()
	})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func checked(t *testing.T, s *Store, p lock.PartOn) string {
	t.Helper()
	c, err := s.Check(p, false)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, d := range c.Differences {
		out = append(out, d.Path+" "+d.What)
	}
	return c.Record + strings.Join(out, ", ")
}

// alter changes one byte of a file and puts its times back.
func alter(t *testing.T, file string) {
	t.Helper()
	info, err := os.Stat(file)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	raw[0] ^= 1
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(file, info.Mode().Perm()); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
}

// A byte that was changed in a file which trees share is found by the short way, also when size and times are those of
// before; and a tree that is made of the same files, or taken away, is no change.
func TestAChangedByteOfASharedFileIsFound(t *testing.T) {
	s := open(t)
	piece, get := part(t, "#!/bin/sh\n")
	var err error
	if piece.Tree, err = s.Add(context.Background(), piece, false, get); err != nil {
		t.Fatal(err)
	}
	a := merged(t, s, "alpha", piece)
	time.Sleep(3 * coarse)
	b := merged(t, s, "beta", piece)
	for _, p := range []lock.PartOn{piece, a, b} {
		if got := checked(t, s, p); got != "" {
			t.Errorf("%s: %s", p.Name, got)
		}
	}
	time.Sleep(3 * coarse)
	if err := s.Remove(Name(b)); err != nil {
		t.Fatal(err)
	}
	for _, p := range []lock.PartOn{piece, a} {
		if got := checked(t, s, p); got != "" {
			t.Errorf("%s after another was taken away: %s", p.Name, got)
		}
	}
	time.Sleep(3 * coarse)
	alter(t, filepath.Join(s.Path(a), "share/notes.txt"))
	for _, p := range []lock.PartOn{piece, a} {
		if got := checked(t, s, p); got != "share/notes.txt changed" {
			t.Errorf("%s: %q", p.Name, got)
		}
	}
}

// A file whose time of change is of no interval that the store noted is read, so that a note that is lost hides nothing.
func TestALostNoteCostsAReading(t *testing.T) {
	s := open(t)
	piece, get := part(t, "#!/bin/sh\n")
	var err error
	if piece.Tree, err = s.Add(context.Background(), piece, false, get); err != nil {
		t.Fatal(err)
	}
	a := merged(t, s, "alpha", piece)
	for _, text := range []string{"", "no numbers\n", "1 2\n"} {
		if err := os.WriteFile(s.spansFile(), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if got := checked(t, s, piece); got != "" {
			t.Errorf("%q: %s", text, got)
		}
		if got := checked(t, s, a); got != "" {
			t.Errorf("%q: %s", text, got)
		}
	}
}

func TestOnlyTheStoresOwnLinkingIsNoChange(t *testing.T) {
	was := disk.Stamp{Size: 1, Mod: 2, Change: 100, Inode: 4}
	spans := []span{{200, 300}}
	for name, c := range map[string]struct {
		have disk.Stamp
		want bool
	}{
		"in an interval":     {disk.Stamp{Size: 1, Mod: 2, Change: 250, Inode: 4}, true},
		"at its beginning":   {disk.Stamp{Size: 1, Mod: 2, Change: 200, Inode: 4}, true},
		"at its end":         {disk.Stamp{Size: 1, Mod: 2, Change: 300, Inode: 4}, true},
		"before it":          {disk.Stamp{Size: 1, Mod: 2, Change: 199, Inode: 4}, false},
		"after it":           {disk.Stamp{Size: 1, Mod: 2, Change: 301, Inode: 4}, false},
		"of another size":    {disk.Stamp{Size: 2, Mod: 2, Change: 250, Inode: 4}, false},
		"of another time":    {disk.Stamp{Size: 1, Mod: 3, Change: 250, Inode: 4}, false},
		"of another file":    {disk.Stamp{Size: 1, Mod: 2, Change: 250, Inode: 5}, false},
		"as it was recorded": {disk.Stamp{Size: 1, Mod: 2, Change: 100, Inode: 4}, false},
	} {
		if got := linkedOnly(was, c.have, spans); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	if linkedOnly(disk.Stamp{Size: 1, Mod: 2, Inode: 4}, disk.Stamp{Size: 1, Mod: 2, Change: 250, Inode: 4}, spans) {
		t.Error("a record of an earlier release, without a time of change, is believed")
	}
}
