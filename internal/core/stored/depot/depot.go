// Package depot keeps trees of the store where a team's machines copy them from: in an OCI
// registry (distribution-spec 1.1), or a folder that is an image layout.
//
// A depot is believed nothing. A tree is asked for by its digest, which the lock has, and what
// comes is held to that; one that lies, is cut or is away costs the time that it took. Each tree
// is an artifact of its own with the tree's digest as its tag, one layer with the files, and where
// a root needs them one for each package whose list of commands is wanted, under the
// digest that the lock has of it.
package depot

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"github.com/klauspost/compress/zstd"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/stored/unpack"
)

// Scheme begins the address of a registry.
const Scheme = "oci://"

// The kinds of what a depot holds.
const (
	treeType    = "application/vnd.app.example.trammel.tree.v1"
	layerType   = types.MediaType(treeType + ".tar+zstd")
	archiveType = types.MediaType("application/vnd.app.example.trammel.archive.v1")
)

// Annotations of an artifact.
const (
	titleMark  = "org.opencontainers.image.title"
	storedMark = "org.opencontainers.image.created" // when it was last asked to be there
	treeMark   = "example.app.trammel.tree"
)

// ErrNone is a depot that has no such tree.
var ErrNone = errors.New("the depot does not have it")

// ErrWrong is a depot that has something else than what it was asked for.
var ErrWrong = errors.New("the depot has wrong bytes")

// Depot is one.
type Depot struct {
	Address string
	shelf   shelf
	scratch string
}

// shelf is where artifacts lie.
type shelf interface {
	put(ctx context.Context, tag string, img v1.Image) error
	// find gives an artifact's manifest; ErrNone where there is none.
	find(ctx context.Context, tag string) (*v1.Manifest, error)
	// blob opens a blob, without so many of its first bytes.
	blob(ctx context.Context, digest v1.Hash, without int64) (io.ReadCloser, error)
	list(ctx context.Context) ([]string, error)
	remove(ctx context.Context, tag string) error
}

// Open opens the depot at an address: oci://HOST/REPOSITORY, or a folder, which is below dir
// where it is not absolute. scratch is a folder for what is on its way.
func Open(address, dir, scratch string) (*Depot, error) {
	d := &Depot{Address: address, scratch: scratch}
	if repository, ok := strings.CutPrefix(address, Scheme); ok {
		s, err := openRegistry(repository)
		d.shelf = s
		return d, err
	}
	if strings.Contains(address, "://") {
		return nil, fault.New(fault.ErrUsage, "%q is no depot", address).Advise("A depot is a registry, as oci://registry.example/depot, or a folder.")
	}
	if !filepath.IsAbs(address) {
		address = filepath.Join(dir, address)
	}
	d.shelf = folder{address}
	return d, nil
}

// tag is the tag of a tree.
func tag(d tree.Digest) string { return "tree-" + strings.TrimPrefix(string(d), "blake3:")[:48] }

// Has tells whether the depot has a tree.
func (d *Depot) Has(ctx context.Context, digest tree.Digest) (bool, error) {
	_, err := d.shelf.find(ctx, tag(digest))
	if errors.Is(err, ErrNone) {
		return false, nil
	}
	return err == nil, err
}

// Stored is a tree that a depot has.
type Stored struct {
	Tag   string
	Title string
	At    time.Time // when it was last asked to be there
	Size  int64     // bytes
}

// List lists what the depot has, sorted by tag.
func (d *Depot) List(ctx context.Context) ([]Stored, error) {
	tags, err := d.shelf.list(ctx)
	if err != nil {
		return nil, err
	}
	slices.Sort(tags)
	var out []Stored
	for _, tag := range tags {
		if !strings.HasPrefix(tag, "tree-") { // somebody else's
			continue
		}
		m, err := d.shelf.find(ctx, tag)
		if errors.Is(err, ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		s := Stored{Tag: tag, Title: m.Annotations[titleMark]}
		s.At, _ = time.Parse(time.RFC3339, m.Annotations[storedMark])
		for _, l := range m.Layers {
			s.Size += l.Size
		}
		out = append(out, s)
	}
	return out, nil
}

// Tag is the tag under which a depot has a tree.
func Tag(d tree.Digest) string { return tag(d) }

// Remove takes a tree out.
func (d *Depot) Remove(ctx context.Context, tag string) error { return d.shelf.remove(ctx, tag) }

// Content is what a depot gets of one tree.
type Content struct {
	Title    string // for people
	Dir      string // where it lies
	Manifest tree.Manifest
	Archives []string // files that belong to it, each under the SHA-256 of its bytes
}

// Put brings a tree into the depot.
func (d *Depot) Put(ctx context.Context, digest tree.Digest, c Content, now time.Time) error {
	if err := os.MkdirAll(d.scratch, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(d.scratch, ".new-tree-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := pack(ctx, f, c.Dir, c.Manifest); err != nil {
		return err
	}
	img := mutate.MediaType(mutate.ConfigMediaType(empty.Image, types.MediaType(treeType+".config+json")), types.OCIManifestSchema1)
	layers := []mutate.Addendum{{Layer: &file{path: f.Name(), kind: layerType}}}
	for _, a := range c.Archives {
		layers = append(layers, mutate.Addendum{Layer: &file{path: a, kind: archiveType}})
	}
	if img, err = mutate.Append(img, layers...); err != nil {
		return err
	}
	img = mutate.Annotations(img, map[string]string{titleMark: c.Title, storedMark: now.UTC().Format(time.RFC3339), treeMark: string(digest)}).(v1.Image)
	return d.shelf.put(ctx, tag(digest), img)
}

// Get brings a tree into an empty folder, and returns what is there. What comes is not what was
// asked for until the caller has taken its digest. A system keeps the modes of its files.
func (d *Depot) Get(ctx context.Context, digest tree.Digest, system bool, into string) (tree.Manifest, error) {
	m, err := d.shelf.find(ctx, tag(digest))
	if err != nil {
		return nil, err
	}
	if len(m.Layers) == 0 || m.Layers[0].MediaType != layerType {
		return nil, fmt.Errorf("%w: what it has as %s is no tree", ErrWrong, tag(digest))
	}
	layer := m.Layers[0]
	if layer.Size > unpack.MaxBytes {
		return nil, fmt.Errorf("%w: what it has as %s is an archive of %d bytes", ErrWrong, tag(digest), layer.Size)
	}
	from := d.open(ctx, layer.Digest, layer.Size)
	from.sum = nil // what is made of it has a digest that the caller knows, and checks
	defer from.Close()
	result, err := unpack.Stream(ctx, from, layer.Size, system, into, unpack.Rules{Modes: system})
	switch {
	case from.broken != nil: // what was made of a part tells nothing
		return nil, from.broken
	case err != nil && !errors.As(err, new(*fs.PathError)) && ctx.Err() == nil:
		return nil, fmt.Errorf("%w: %w", ErrWrong, err)
	case err != nil:
		return nil, err
	}
	return result.Manifest, nil
}

// Archive brings a file that belongs to a tree, by its SHA-256 (hex). The file is the caller's.
func (d *Depot) Archive(ctx context.Context, sum string) (path string, err error) {
	if err := os.MkdirAll(d.scratch, 0o700); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(d.scratch, ".depot-")
	if err != nil {
		return "", err
	}
	from := d.open(ctx, v1.Hash{Algorithm: "sha256", Hex: sum}, unpack.MaxBytes)
	_, err = io.Copy(f, from)
	if err = errors.Join(err, from.Close(), f.Close()); err != nil {
		os.Remove(f.Name())
		return "", err
	}
	return f.Name(), nil
}

// incoming is a blob on its way: it goes on where a broken connection ended, and ends with an
// error when it is not what its digest says.
type incoming struct {
	ctx    context.Context
	shelf  shelf
	digest v1.Hash
	most   int64
	from   io.ReadCloser
	have   int64
	tries  int
	sum    hash.Hash // of what came; nil where nobody asks
	broken error     // why no more could be had
}

func (d *Depot) open(ctx context.Context, digest v1.Hash, most int64) *incoming {
	return &incoming{ctx: ctx, shelf: d.shelf, digest: digest, most: most, sum: sha256.New()}
}

// mostTries is how often a blob is asked for again without a byte that came in between.
const mostTries = 3

func (b *incoming) Read(to []byte) (int, error) {
	for {
		if b.from == nil {
			from, err := b.shelf.blob(b.ctx, b.digest, b.have)
			if err != nil {
				if b.broken = b.again(err); b.broken != nil {
					return 0, b.broken
				}
				continue
			}
			b.from = from
		}
		n, err := b.from.Read(to)
		if n > 0 {
			b.tries = 0
			if b.sum != nil {
				b.sum.Write(to[:n])
			}
			if b.have += int64(n); b.have > b.most {
				return 0, fmt.Errorf("%w: more than the %d that it says", ErrWrong, b.most)
			}
			return n, nil
		}
		switch {
		case err == io.EOF:
			if b.sum == nil {
				return 0, io.EOF
			}
			if got := hex.EncodeToString(b.sum.Sum(nil)); got != b.digest.Hex {
				return 0, fmt.Errorf("%w: their SHA-256 is %.8s…, and %.8s… was asked for", ErrWrong, got, b.digest.Hex)
			}
			return 0, io.EOF
		case err != nil:
			b.from.Close()
			b.from = nil
			if b.broken = b.again(err); b.broken != nil {
				return 0, b.broken
			}
		}
	}
}

// again waits before the next try; with an error there is none.
func (b *incoming) again(err error) error {
	if b.tries++; b.tries > mostTries || errors.Is(err, ErrNone) || b.ctx.Err() != nil {
		return err
	}
	select {
	case <-time.After(time.Duration(b.tries) * 300 * time.Millisecond):
		return nil
	case <-b.ctx.Done():
		return context.Cause(b.ctx)
	}
}

func (b *incoming) Close() error {
	if b.from == nil {
		return nil
	}
	return b.from.Close()
}

// pack writes a tree as a tar archive (POSIX.1-2017, pax) with zstd.
func pack(ctx context.Context, to io.Writer, dir string, m tree.Manifest) error {
	z, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	w := tar.NewWriter(z)
	buffer := make([]byte, 256<<10)
	for _, e := range m {
		if err := ctx.Err(); err != nil {
			return err
		}
		h := &tar.Header{Name: e.Path, Mode: 0o644, ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
		switch e.Type {
		case tree.EmptyDir:
			h.Typeflag, h.Name, h.Mode = tar.TypeDir, e.Path+"/", 0o755
		case tree.Link:
			h.Typeflag, h.Linkname = tar.TypeSymlink, e.Target
		default:
			h.Typeflag = tar.TypeReg
		}
		if h.Typeflag != tar.TypeReg {
			if err := w.WriteHeader(h); err != nil {
				return err
			}
			continue
		}
		f, err := os.Open(filepath.Join(dir, filepath.FromSlash(e.Path)))
		if err != nil {
			return err
		}
		info, err := f.Stat()
		if err == nil {
			h.Size, h.Mode = info.Size(), int64(info.Mode().Perm())
			err = w.WriteHeader(h)
		}
		if err == nil {
			_, err = io.CopyBuffer(struct{ io.Writer }{w}, io.LimitReader(f, h.Size), buffer)
		}
		f.Close()
		if err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), z.Close())
}

// file is a layer that is a file as it is.
type file struct {
	path string
	kind types.MediaType
	sum  *v1.Hash
	size int64
}

func (f *file) Digest() (v1.Hash, error) {
	if f.sum != nil {
		return *f.sum, nil
	}
	in, err := os.Open(f.path)
	if err != nil {
		return v1.Hash{}, err
	}
	defer in.Close()
	sum := sha256.New()
	if f.size, err = io.Copy(sum, in); err != nil {
		return v1.Hash{}, err
	}
	f.sum = &v1.Hash{Algorithm: "sha256", Hex: hex.EncodeToString(sum.Sum(nil))}
	return *f.sum, nil
}

func (f *file) DiffID() (v1.Hash, error)             { return f.Digest() }
func (f *file) Compressed() (io.ReadCloser, error)   { return os.Open(f.path) }
func (f *file) Uncompressed() (io.ReadCloser, error) { return os.Open(f.path) }
func (f *file) MediaType() (types.MediaType, error)  { return f.kind, nil }
func (f *file) Size() (int64, error)                 { _, err := f.Digest(); return f.size, err }
