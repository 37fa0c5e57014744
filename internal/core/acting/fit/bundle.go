package fit

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/acting/supply"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/core/written/lock"
)

// A bundle is a tar file with every archive that a lock names for some platforms, for
// machines without a network. Its first entry, bundle.json, says which; the archives
// follow under the names that they have in the cache.

// BundleFormat is the version of the file format.
const BundleFormat = 1

// Bundle is what bundle.json says.
type Bundle struct {
	Format    int       `json:"format"`
	Project   string    `json:"project"`
	Lock      lock.ID   `json:"lock"`
	Platforms []string  `json:"platforms"`
	Archives  []Bundled `json:"archives"`
	Without   []string  `json:"without,omitempty"`  // "TOOL on PLATFORM": built from modules, and not on this machine
	Supplies  int       `json:"supplies,omitempty"` // how many of the archives are what steps will ask registries for
	Missing   []string  `json:"missing,omitempty"`  // what of that is not in it, and why
}

// Bundled is one archive.
type Bundled struct {
	Name   string       `json:"name"`
	Digest fetch.Digest `json:"digest"`
	Size   int64        `json:"size"`
}

// wanted is an archive of a part, and the source that has it. What is built from
// modules is in a bundle as the tree that came of it, under the tree's digest, which
// the lock has.
type wanted struct {
	label string
	part  lock.PartOn // whose source is asked
	built bool
	lock.Part
	library lock.LibraryOf // of a set
}

// archivesOf are all that a lock names for a platform.
func archivesOf(l *lock.Lock, on platform.Platform) (out []wanted, err error) {
	for _, part := range lock.Distinct(l.PartsOn(on)) {
		switch {
		case part.Format == lock.RootFormat:
			for _, line := range part.Packages {
				p, err := lock.ParsePackage(line)
				if err != nil {
					return nil, err
				}
				d := p.Part(part.Docs)
				out = append(out, wanted{label: d.Label(), part: part, Part: d.Part})
			}
		case part.Format == lock.SetFormat:
			for _, x := range (lock.Set{Packages: part.Packages}).List() {
				out = append(out, wanted{label: part.Name + " " + x.Name, part: part, Part: x.Part().Part, library: x})
			}
		case len(part.Packages) > 0:
			packages, err := packagesOf(part)
			if err != nil {
				return nil, err
			}
			for _, x := range packages {
				out = append(out, wanted{label: part.Label() + " " + x.place, part: part, Part: lock.Part{Path: x.path, Digest: x.digest}})
			}
		case part.Build != "":
			out = append(out, wanted{label: part.Label(), part: part, built: true, Part: lock.Part{Digest: fetch.Digest(part.Tree)}})
		default:
			out = append(out, wanted{label: part.Label(), part: part, Part: part.Part})
		}
	}
	return out, nil
}

// WriteBundle fetches what is not in the cache and writes a bundle, with what steps will ask
// registries for.
func WriteBundle(ctx context.Context, g approval.Given, platforms []platform.Platform, supplies []supply.Want, o Options, to io.Writer) (*Bundle, error) {
	s := g.State()
	l := s.Lock
	b := &Bundle{Format: BundleFormat, Project: l.Declaration.Project, Lock: l.ID()}
	opened := map[string]source.Source{}
	files := map[string]string{}
	for _, on := range platforms {
		b.Platforms = append(b.Platforms, on.String())
		all, err := archivesOf(l, on)
		if err != nil {
			return nil, err
		}
		for _, x := range all {
			if x.built && (on != s.Platform || x.Digest == "" || !s.Store.Has(x.part)) {
				b.Without = append(b.Without, x.label+" on "+on.String())
				continue
			}
			name := fetch.ArchiveName(x.Digest)
			if files[name] != "" {
				continue
			}
			if x.built {
				size, err := packTree(s.Store.Path(x.part), filepath.Join(s.Places.Archives(), name))
				if err != nil {
					return nil, err
				}
				files[name] = filepath.Join(s.Places.Archives(), name)
				b.Archives = append(b.Archives, Bundled{name, x.Digest, size})
				continue
			}
			source, err := open(s, o, opened, x.part)
			if err != nil {
				return nil, err
			}
			var addresses []fetch.Address
			if x.library.Name != "" {
				addresses, err = find(ctx, source, x.library)
			} else {
				addresses, err = source.Where(x.Part)
			}
			if err != nil {
				return nil, err
			}
			last := error(fault.New(fault.ErrSource, "%s is nowhere to be had", x.label))
			for _, from := range addresses {
				files[name], last = o.Client.Archive(ctx, s.Places.Archives(), fetch.Download{Name: x.label, From: from, Size: x.Size, Digest: x.Digest})
				if last == nil || ctx.Err() != nil {
					break
				}
			}
			if last != nil {
				return nil, last
			}
			info, err := os.Stat(files[name])
			if err != nil {
				return nil, err
			}
			b.Archives = append(b.Archives, Bundled{name, x.Digest, info.Size()})
		}
	}
	var err error
	if b.Missing, err = supply.Fetch(ctx, s, o.Machine, o.Client, supplies); err != nil {
		return nil, err
	}
	for _, w := range supplies {
		name := w.Archive()
		path := filepath.Join(s.Places.Archives(), name)
		info, err := os.Stat(path)
		if err != nil {
			continue // which Missing says
		}
		b.Supplies++
		if files[name] == "" {
			files[name] = path
			b.Archives = append(b.Archives, Bundled{name, w.Digest, info.Size()})
		}
	}
	slices.SortFunc(b.Archives, func(x, y Bundled) int { return strings.Compare(x.Name, y.Name) })
	return b, b.write(ctx, files, to)
}

// write writes the file: the same bundle always has the same bytes.
func (b *Bundle) write(ctx context.Context, files map[string]string, to io.Writer) error {
	done := event.Task(ctx, fmt.Sprintf("bundle %d archives", len(b.Archives)))
	err := func() error {
		text, err := json.MarshalIndent(b, "", " ")
		if err != nil {
			return err
		}
		w := tar.NewWriter(to)
		head := func(name string, size int64) error {
			return w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: size, Typeflag: tar.TypeReg, ModTime: time.Unix(0, 0), Format: tar.FormatPAX})
		}
		if err := head("bundle.json", int64(len(text))); err != nil {
			return err
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
		for _, a := range b.Archives {
			if err := context.Cause(ctx); err != nil {
				return err
			}
			f, err := os.Open(files[a.Name])
			if err != nil {
				return err
			}
			if err = head("archives/"+a.Name, a.Size); err == nil {
				_, err = io.CopyN(w, f, a.Size)
			}
			f.Close()
			if err != nil {
				return err
			}
		}
		return w.Close()
	}()
	done("", err)
	return err
}

// ReadBundle puts the archives of a bundle that a lock or the checkout's own files name into
// the cache. Each is held to the digest that is stated there, not to what the bundle says of it.
func ReadBundle(ctx context.Context, s *checkout.State, supplies []supply.Want, file string) (*Bundle, error) {
	l := s.Lock
	f, err := disk.OpenRegular(file)
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "the bundle cannot be read: %v", err).Advise("Write one where there is a network: trammel export bundle --output %s", shell.Typed(filepath.Base(file)))
	}
	defer f.Close()
	bad := func(format string, args ...any) error {
		return fault.New(fault.ErrSource, "%s: %s", filepath.Base(file), fmt.Sprintf(format, args...)).Advise("Have it written anew: trammel export bundle --output %s", shell.Typed(filepath.Base(file)))
	}
	locked := map[string]wanted{}
	for _, text := range l.Declaration.Platforms {
		if on, ok := platform.Parse(text); ok {
			all, err := archivesOf(l, on)
			if err != nil {
				return nil, err
			}
			for _, x := range all {
				if x.Digest == "" {
					continue // built, and no machine has told its tree yet
				}
				locked[fetch.ArchiveName(x.Digest)] = x
			}
		}
	}
	asked := map[string]supply.Want{}
	for _, w := range supplies {
		asked[w.Archive()] = w
	}
	var b Bundle
	r := tar.NewReader(f)
	head, err := r.Next()
	if err != nil || head.Name != "bundle.json" || head.Size > 64<<20 {
		return nil, bad("it is no bundle")
	}
	if err := json.NewDecoder(r).Decode(&b); err != nil || b.Format != BundleFormat {
		return nil, bad("it is no bundle of format %d", BundleFormat)
	}
	if b.Project != l.Declaration.Project || !slices.Contains(b.Platforms, s.Platform.String()) {
		return nil, fault.New(fault.ErrUsage, "%s is of %s for %s, and this is %s on %s", filepath.Base(file), b.Project, strings.Join(b.Platforms, ", "), l.Declaration.Project, s.Platform)
	}
	folder := s.Places.Archives()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	for {
		head, err := r.Next()
		if errors.Is(err, io.EOF) {
			return &b, nil
		}
		if err != nil {
			return nil, bad("it is cut short or damaged: %v", err)
		}
		name := strings.TrimPrefix(head.Name, "archives/")
		want, ok := locked[name]
		if w, supplied := asked[name]; supplied && !ok && head.Typeflag == tar.TypeReg {
			if err := keepArchive(r, folder, name, w.Digest); err != nil {
				return nil, bad("%s: %v", w.Label(), err)
			}
			if err := w.Check(filepath.Join(folder, name)); err != nil {
				return nil, bad("%s: %v", w.Label(), err)
			}
			continue
		}
		if !ok || head.Typeflag != tar.TypeReg { // of another state of the lock: nothing needs it
			continue
		}
		if err := context.Cause(ctx); err != nil {
			return nil, err
		}
		err = keepArchive(r, folder, name, want.Digest)
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, bad("it is cut short or damaged: %v", err)
		}
		if err != nil {
			return nil, bad("%s (%s): %v", want.label, name, err)
		}
	}
}

// keepArchive writes one archive under its name, if its bytes are right. A digest of files, as
// that of a module or of a tree, is checked when they are unpacked.
func keepArchive(from io.Reader, folder, name string, digest fetch.Digest) error {
	path := filepath.Join(folder, name)
	unlock, err := disk.Lock(context.Background(), path+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	fresh, err := disk.Create(path)
	if err != nil {
		return err
	}
	defer fresh.Drop()
	h, ofBytes := digest.Hasher()
	to := io.Writer(fresh)
	if ofBytes {
		to = io.MultiWriter(fresh, h)
	}
	if _, err := io.Copy(to, from); err != nil {
		return err
	}
	if ofBytes {
		if _, value := digest.Cut(); fmt.Sprintf("%x", h.Sum(nil)) != value {
			return errors.New("its bytes are not those that the lock names")
		}
	}
	return fresh.Commit(0o600)
}

// fromBundle stands for a source whose archives are all in the cache: no address of it
// is known here, or needed.
type fromBundle struct{ source.Source }

func (fromBundle) Find(context.Context, lock.LibraryOf) ([]fetch.Address, error) {
	return []fetch.Address{{URL: "bundle:"}}, nil
}

func (fromBundle) Where(lock.Part) ([]fetch.Address, error) {
	return []fetch.Address{{URL: "bundle:"}}, nil
}

// packTree packs the files of a part, the same bytes for the same tree.
func packTree(dir, to string) (size int64, err error) {
	out, err := disk.Create(to)
	if err != nil {
		return 0, err
	}
	defer out.Drop()
	z := gzip.NewWriter(out)
	w := tar.NewWriter(z)
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		head := &tar.Header{Name: filepath.ToSlash(name), Typeflag: tar.TypeReg, Mode: 0o644, ModTime: time.Unix(0, 0), Size: info.Size()}
		if info.Mode()&0o111 != 0 {
			head.Mode = 0o755
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			head.Typeflag, head.Size = tar.TypeSymlink, 0
			if head.Linkname, err = os.Readlink(path); err != nil {
				return err
			}
			return w.WriteHeader(head)
		}
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(w, f)
		return err
	})
	for _, end := range []func() error{w.Close, z.Close} {
		if endErr := end(); err == nil {
			err = endErr
		}
	}
	if err != nil {
		return 0, err
	}
	info, err := out.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), out.Commit(0o600)
}

// unbundle makes a part that is built elsewhere from the tree that a bundle brought.
// The store holds it to the digest in the lock.
func unbundle(ctx context.Context, s *checkout.State, w work) error {
	archive := filepath.Join(s.Places.Archives(), fetch.ArchiveName(fetch.Digest(w.part.Tree)))
	if _, err := os.Stat(archive); err != nil || w.part.Tree == "" {
		return fault.New(fault.ErrSource, "%s is built from modules, and the bundle does not have it for %s", w.part.Label(), s.Platform).
			Advise("Write the bundle on a machine of this platform that is fitted, or fit once with the network.")
	}
	_, err := s.Store.Make(ctx, w.part, w.mend, func(fresh string) error {
		_, err := unpack.Archive(ctx, archive, "tar.gz", fresh, unpack.Rules{Open: true})
		return err
	})
	return err
}
