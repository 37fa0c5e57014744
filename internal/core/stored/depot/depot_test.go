package depot

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/stored/tree"
)

// stocked is a depot in a folder with a tree in it.
func stocked(t *testing.T, fill func(dir string)) (d *Depot, digest tree.Digest) {
	t.Helper()
	dir := t.TempDir()
	fill(dir)
	m, err := tree.Scan(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	if d, err = Open(filepath.Join(t.TempDir(), "depot"), "", t.TempDir()); err != nil {
		t.Fatal(err)
	}
	if err := d.Put(context.Background(), m.Digest(), Content{Title: "weir 1", Dir: dir, Manifest: m}, time.Now()); err != nil {
		t.Fatal(err)
	}
	return d, m.Digest()
}

func weir(t *testing.T) func(dir string) {
	return func(dir string) {
		for i := range 50 {
			sub := filepath.Join(dir, fmt.Sprint("lane", i%7))
			if err := os.MkdirAll(sub, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(sub, fmt.Sprint("count", i)), []byte(strings.Repeat(fmt.Sprint(i), 9000)), fs.FileMode(0o644|(i%2)*0o111)); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Symlink("lane1/count1", filepath.Join(dir, "first")); err != nil {
			t.Fatal(err)
		}
		if err := os.Mkdir(filepath.Join(dir, "empty"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

func TestATreeComesBackAsItWas(t *testing.T) {
	d, digest := stocked(t, weir(t))
	into := t.TempDir()
	m, err := d.Get(context.Background(), digest, false, into)
	if err != nil || m.Digest() != digest {
		t.Fatalf("%v, %v", m.Digest(), err)
	}
	if found, err := tree.Scan(into, true); err != nil || found.Digest() != digest {
		t.Errorf("on disk there is something else: %v", err)
	}
	if _, err := d.Get(context.Background(), tree.Digest("blake3:"+strings.Repeat("0", 64)), false, t.TempDir()); !errors.Is(err, ErrNone) {
		t.Errorf("a tree that nobody put there: %v", err)
	}
}

// A depot that holds more than an archive of that size honestly does fills nobody's disk.
func TestADepotCannotFillADisk(t *testing.T) {
	d, digest := stocked(t, func(dir string) {
		f, err := os.Create(filepath.Join(dir, "zeros"))
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(f.Truncate(512<<20), f.Close()); err != nil {
			t.Fatal(err)
		}
	})
	into := t.TempDir()
	if _, err := d.Get(context.Background(), digest, false, into); !errors.Is(err, ErrWrong) {
		t.Errorf("%v", err)
	}
	if info, err := os.Stat(filepath.Join(into, "zeros")); err == nil && info.Size() > 1<<20 {
		t.Errorf("%d bytes were written", info.Size())
	}
}

// What is no file in a depot's folder is neither waited for nor read.
func TestADepotWithSomethingElseAsABlob(t *testing.T) {
	d, digest := stocked(t, weir(t))
	m, err := d.shelf.find(context.Background(), tag(digest))
	if err != nil {
		t.Fatal(err)
	}
	blob := filepath.Join(d.Address, "blobs", "sha256", m.Layers[0].Digest.Hex)
	for name, make := range map[string]func() error{
		"fifo":   func() error { return syscall.Mkfifo(blob, 0o644) },
		"folder": func() error { return os.Mkdir(blob, 0o755) },
		"device": func() error { return os.Symlink("/dev/zero", blob) },
		"cut":    func() error { return os.WriteFile(blob, []byte("short"), 0o644) },
	} {
		t.Run(name, func(t *testing.T) {
			if err := errors.Join(os.RemoveAll(blob), make()); err != nil {
				t.Fatal(err)
			}
			if m, err := d.Get(context.Background(), digest, false, t.TempDir()); err == nil {
				t.Errorf("a tree of %d entries came", len(m))
			}
		})
	}
}
