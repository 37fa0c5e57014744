package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// libraries measures making a set of 50 wheels: unpacked into the store, hashed, synced to
// the disk and merged, against unzip of the same wheels. Their files are Go's own sources. It is one piece, since each
// row needs what those before it made.
func (b *workshop) libraries() ([]row, error) {
	if _, err := exec.LookPath("unzip"); err != nil {
		fmt.Fprintln(os.Stderr, "bench: unzip is not installed, so the row of libraries is left out")
		return nil, nil
	}
	toolchain, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	const count, most = 50, 120
	wheels := make([]standin.Wheel, count)
	placed := 0
	err = filepath.WalkDir(filepath.Join(strings.TrimSpace(string(toolchain)), "src"), func(file string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || !strings.HasSuffix(file, ".go") {
			return err
		}
		if placed == count*most {
			return filepath.SkipAll
		}
		raw, err := os.ReadFile(file)
		w := &wheels[placed%count]
		w.Files = append(w.Files, standin.File{Name: fmt.Sprintf("p%02d/f%03d.py", placed%count, placed/count), Content: string(raw)})
		placed++
		return err
	})
	if err != nil {
		return nil, err
	}
	dir := b.path("wheels")
	var parts []lock.PartOn
	files := map[string]string{}
	for i := range wheels {
		w := &wheels[i]
		w.Name, w.Version = fmt.Sprintf("p%02d", i), "1.0"
		name, archive := w.Pack()
		files[w.Name] = filepath.Join(dir, name)
		if err := put(files[w.Name], archive); err != nil {
			return nil, err
		}
		digest := fetch.Digest(fmt.Sprintf("sha256:%x", sha256.Sum256(archive)))
		parts = append(parts, lock.LibraryOf{Name: w.Name, Version: w.Version, Path: name, Size: int64(len(archive)), Digest: digest}.Part())
	}
	ctx := context.Background()
	ours := func() error {
		s := store.Open(b.next())
		slots := make(chan struct{}, runtime.GOMAXPROCS(0)+2)
		errs := make([]error, len(parts))
		var wait sync.WaitGroup
		for i, p := range parts {
			wait.Go(func() {
				slots <- struct{}{}
				defer func() { <-slots }()
				_, errs[i] = s.Add(ctx, p, false, func() (string, error) { return files[p.Name], nil })
			})
		}
		wait.Wait()
		for _, err := range errs {
			if err != nil {
				return err
			}
		}
		set := lock.PartOn{Item: "survey", Name: "survey", Part: lock.Part{Format: lock.SetFormat, Version: lock.Python, Digest: "sha256:" + fetch.Digest(strings.Repeat("a", 64))}}
		_, err := s.Merge(ctx, set, false, func(_ context.Context, fresh string) (tree.Manifest, error) {
			var pieces []merge.Piece
			for _, p := range s.Complete(append([]lock.PartOn{}, parts...)) {
				m, err := s.Manifest(p)
				if err != nil {
					return nil, err
				}
				pieces = append(pieces, merge.Piece{Name: p.Name, Version: p.Part.Version, Dir: s.Path(p), Manifest: m})
			}
			return libraries.Python(ctx, fresh, "survey", pieces, "3.13.5")
		})
		return err
	}
	other := func() error {
		into := b.next()
		if err := os.Mkdir(into, 0o755); err != nil {
			return err
		}
		return b.run("sh", "-c", fmt.Sprintf("for f in %s/*.whl; do unzip -q -d %s \"$f\" || exit 1; done", dir, into))()
	}
	return []row{compare("library set of 50 wheels, made", "unzip of the same wheels", 1.2, 7, ours, other)}, nil
}
