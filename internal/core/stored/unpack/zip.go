package unpack

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"

	"github.com/klauspost/compress/zip"

	"app.example/trammel/internal/core/stored/tree"
)

// zip reads a zip archive. For a Go module it also computes the h1 digest: the
// SHA-256 of the lines "HEX  NAME\n" of all files, sorted by name
// (golang.org/x/mod/sumdb/dirhash, Hash1).
func (w *writer) zip(archivePath string) error {
	r, err := zip.OpenReader(archivePath)
	if err != nil {
		return fmt.Errorf("the archive is not a zip file: %w", err)
	}
	w.after = append(w.after, func() { r.Close() }) // workers read from it
	w.listed = w.size
	var sums moduleSums
	// The largest files first: they must not be what everybody waits for in the end.
	files := slices.Clone(r.File)
	slices.SortStableFunc(files, func(a, b *zip.File) int {
		return cmp.Compare(b.UncompressedSize64>>16, a.UncompressedSize64>>16)
	})
	for _, f := range files {
		if err := w.zipEntry(f, &sums); err != nil {
			return err
		}
	}
	if w.rules.HashZip {
		w.after = append(w.after, func() { w.h1 = sums.h1() })
	}
	return nil
}

func (w *writer) zipEntry(f *zip.File, sums *moduleSums) error {
	mode := f.Mode()
	name, err := w.name(f.Name, mode.IsDir())
	if err != nil || name == "" {
		return err
	}
	switch {
	case mode&(fs.ModeSetuid|fs.ModeSetgid) != 0:
		return &Refused{f.Name, "has a setuid or setgid bit"}
	case mode.IsDir():
		return w.mkdir(name, false)
	case mode&fs.ModeSymlink != 0:
		target, err := readLink(f)
		if err != nil {
			return err
		}
		return w.symlink(name, target)
	case !mode.IsRegular():
		return &Refused{f.Name, "is neither a file, a folder nor a link"}
	}
	if err := w.claim(name, tree.File); err != nil {
		return err
	}
	if err := w.spend(name, int64(min(f.UncompressedSize64, 1<<62))); err != nil {
		return err
	}
	j := job{name: name, executable: w.executable(name, mode), copy: func(to io.Writer, buffer []byte) error {
		in, err := f.Open()
		if err != nil {
			return damaged(err)
		}
		defer in.Close()
		sum := sha256.New()
		if w.rules.HashZip {
			to = io.MultiWriter(to, sum)
		}
		// The reader itself ends with an error past the declared size and where
		// the checksum differs.
		if _, err := io.CopyBuffer(to, struct{ io.Reader }{in}, buffer); err != nil {
			return damaged(err)
		}
		w.advance(int64(f.CompressedSize64))
		if w.rules.HashZip {
			sums.add(f.Name, hex.EncodeToString(sum.Sum(nil)))
		}
		return nil
	}}
	select {
	case w.jobs <- j:
		return nil
	case <-w.ctx.Done():
		return context.Cause(w.ctx)
	}
}

// moduleSums collects the sums of a module's files from many workers.
type moduleSums struct {
	mu    sync.Mutex
	lines [][2]string // name, hex SHA-256
}

func (s *moduleSums) add(name, sum string) {
	s.mu.Lock()
	s.lines = append(s.lines, [2]string{name, sum})
	s.mu.Unlock()
}

func (s *moduleSums) h1() string {
	slices.SortFunc(s.lines, func(a, b [2]string) int { return cmp.Compare(a[0], b[0]) })
	all := sha256.New()
	for _, l := range s.lines {
		fmt.Fprintf(all, "%s  %s\n", l[1], l[0])
	}
	return "h1:" + base64.StdEncoding.EncodeToString(all.Sum(nil))
}

// readLink reads the target of a symbolic link, which zip keeps as content.
func readLink(f *zip.File) (string, error) {
	in, err := f.Open()
	if err != nil {
		return "", damaged(err)
	}
	defer in.Close()
	target, err := io.ReadAll(io.LimitReader(in, 4097))
	if err != nil || len(target) > 4096 {
		return "", &Refused{f.Name, "is a link with an unreadable target"}
	}
	return string(target), nil
}
