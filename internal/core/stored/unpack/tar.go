package unpack

import (
	"archive/tar"
	"cmp"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"app.example/trammel/internal/core/stored/tree"
)

// tarGz reads a gzipped tar archive (RFC 1952; POSIX.1-2017, pax).
func (w *writer) tarGz(archivePath string) error {
	f, err := os.Open(archivePath)
	if err != nil {
		return err
	}
	defer f.Close()
	packed, done := buffered(counted{f, w})
	defer done()
	unzipped, err := gzip.NewReader(packed)
	if err != nil {
		return fmt.Errorf("the archive is not gzip: %w", err)
	}
	defer unzipped.Close()
	if err := eachEntry(tar.NewReader(unzipped), w.tarEntry); err != nil {
		return err
	}
	// What is behind the end mark must unzip too: there is the checksum.
	if _, err := io.Copy(io.Discard, io.LimitReader(unzipped, freeBytes)); err != nil {
		return damaged(err)
	}
	return nil
}

// eachEntry calls do with every entry of a tar archive.
func eachEntry(t *tar.Reader, do func(*tar.Reader, *tar.Header) error) error {
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return damaged(err)
		}
		if err := do(t, h); err != nil {
			return err
		}
	}
}

func damaged(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("the archive is cut off: %w", err)
	}
	return fmt.Errorf("the archive is damaged: %w", err)
}

func (w *writer) tarEntry(t *tar.Reader, h *tar.Header) error {
	if h.Typeflag == tar.TypeXGlobalHeader {
		return nil
	}
	name, err := w.name(h.Name, h.Typeflag == tar.TypeDir)
	if err != nil || name == "" {
		return err
	}
	switch h.Typeflag {
	case tar.TypeDir:
		return w.mkdir(name, false)
	case tar.TypeSymlink:
		return w.symlink(name, h.Linkname)
	case tar.TypeLink:
		target, err := w.name(h.Linkname, false)
		if err != nil {
			return err
		}
		if err := w.claim(name, tree.File); err != nil {
			return err
		}
		w.links = append(w.links, link{name, target})
		return nil
	case tar.TypeReg:
	default:
		return &Refused{h.Name, fmt.Sprintf("is neither a file, a folder nor a link (tar type %q)", h.Typeflag)}
	}
	if h.Mode&0o6000 != 0 {
		return &Refused{h.Name, "has a setuid or setgid bit"}
	}
	if kind, there := w.names[key(name)]; there && kind == tree.File && !w.whole {
		return w.twice(t, name, h)
	}
	if err := w.claim(name, tree.File); err != nil {
		return err
	}
	if err := w.spend(name, h.Size); err != nil {
		return err
	}
	j := job{name: name, executable: w.executable(name, h.FileInfo().Mode()), chunks: make(chan []byte, 8)}
	if w.modes {
		// What a program copies out of a system keeps the mode, and is to be replaced by the next
		// copy: files have the modes of their package, short of what lets others write.
		j.mode = h.FileInfo().Mode().Perm()&0o755 | 0o444
	}
	select {
	case w.jobs <- j:
	case <-w.ctx.Done():
		return context.Cause(w.ctx)
	}
	defer close(j.chunks)
	for left := h.Size; left > 0; {
		chunk, err := chunkOf(w.ctx, left)
		if err != nil {
			return err
		}
		if _, err := io.ReadFull(t, chunk); err != nil {
			recycle(chunk)
			w.cancel(damaged(err))
			return damaged(err)
		}
		left -= int64(len(chunk))
		if err := w.give(j, chunk); err != nil {
			return err
		}
	}
	return nil
}

// give hands a piece of a file to the worker that writes it.
func (w *writer) give(j job, chunk []byte) error {
	select {
	case j.chunks <- chunk:
		return nil
	case <-w.ctx.Done():
		recycle(chunk)
		return context.Cause(w.ctx)
	}
}

// twice reads a file whose name was there before, perhaps in another spelling, as "./x" and
// "x". That is no harm while both are the same, which is looked at when all is written.
func (w *writer) twice(t *tar.Reader, name string, h *tar.Header) error {
	if err := w.spend(name, h.Size); err != nil {
		return err
	}
	sum := tree.NewHasher()
	sum.Reset()
	if n, err := io.Copy(sum, t); err != nil || n != h.Size {
		return damaged(cmp.Or(err, io.ErrUnexpectedEOF))
	}
	kind := tree.File
	if w.executable(name, h.FileInfo().Mode()) {
		kind = tree.Executable
	}
	w.again = append(w.again, tree.Entry{Type: kind, Sum: sum.Sum(), Path: name})
	return nil
}

// tarFile reads a tar archive that is compressed otherwise: xz, zst (RFC 8878) or bz2.
func (w *writer) tarFile(archivePath, compression string) error {
	f, err := os.Open(archivePath)
	if err != nil {
		return err
	}
	defer f.Close()
	return w.tarOf(f, compression)
}

func (w *writer) tarOf(from io.Reader, compression string) (err error) {
	in, done := buffered(counted{from, w})
	defer done()
	var plain io.Reader
	switch compression {
	case "xz":
		var done func()
		if plain, done, err = plainOf(in); err != nil {
			return fmt.Errorf("the archive is not xz: %w", err)
		}
		defer done()
	case "zst":
		z, err := zstd.NewReader(in, zstd.WithDecoderMaxWindow(1<<30))
		if err != nil {
			return fmt.Errorf("the archive is not zst: %w", err)
		}
		defer z.Close()
		plain = z
	default:
		plain = bzip2.NewReader(in)
	}
	if err := eachEntry(tar.NewReader(plain), w.tarEntry); err != nil {
		return err
	}
	// What is behind the end mark must decompress too: there is the checksum.
	if _, err := io.Copy(io.Discard, io.LimitReader(plain, freeBytes)); err != nil {
		return damaged(err)
	}
	return nil
}

// bare takes a file that is the tool itself, gzipped or not, as the command bin/NAME.
func (w *writer) bare(archivePath, kind, name string) error {
	f, err := os.Open(archivePath)
	if err != nil {
		return err
	}
	defer f.Close()
	var in io.Reader = counted{f, w}
	if kind == "gz" {
		packed, done := buffered(in)
		defer done()
		z, err := gzip.NewReader(packed)
		if err != nil {
			return fmt.Errorf("the file is not gzip: %w", err)
		}
		defer z.Close()
		in = z
	}
	name, err = w.name("bin/"+name, false)
	if err != nil {
		return err
	}
	if err := w.claim(name, tree.File); err != nil {
		return err
	}
	j := job{name: name, executable: true, chunks: make(chan []byte, 8)}
	select {
	case w.jobs <- j:
	case <-w.ctx.Done():
		return context.Cause(w.ctx)
	}
	defer close(j.chunks)
	for {
		chunk, full := chunkOf(w.ctx, chunkSize)
		if full != nil {
			return full
		}
		n, err := in.Read(chunk)
		if spend := w.spend(name, int64(n)); spend != nil {
			recycle(chunk)
			w.cancel(spend)
			return spend
		}
		if err := w.give(j, chunk[:n]); err != nil {
			return err
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			w.cancel(damaged(err))
			return damaged(err)
		}
	}
}
