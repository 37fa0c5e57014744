package depot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
)

// registry is a repository of a registry. Credentials come from the file that clients of
// registries share.
type registry struct{ repository name.Repository }

func openRegistry(text string) (*registry, error) {
	r, err := name.NewRepository(text)
	if err != nil {
		return nil, fault.New(fault.Use, "%q names no repository of a registry: %v", Scheme+text, err).Advise("Write, for example: oci://registry.example/depot")
	}
	return &registry{r}, nil
}

func (r *registry) options(ctx context.Context) []remote.Option {
	return []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain), remote.WithJobs(4)}
}

func (r *registry) put(ctx context.Context, tag string, img v1.Image) error {
	return remote.Write(r.repository.Tag(tag), img, r.options(ctx)...)
}

func (r *registry) find(ctx context.Context, tag string) (*v1.Manifest, error) {
	img, err := remote.Image(r.repository.Tag(tag), r.options(ctx)...)
	if missing(err) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	return img.Manifest()
}

// missing tells whether a registry says that it does not have something.
func missing(err error) bool {
	var t *transport.Error
	return errors.As(err, &t) && t.StatusCode == http.StatusNotFound
}

func (r *registry) blob(ctx context.Context, digest v1.Hash, into *os.File) error {
	auth, err := authn.DefaultKeychain.Resolve(r.repository)
	if err != nil {
		return err
	}
	through, err := transport.NewWithContext(ctx, r.repository.Registry, auth, http.DefaultTransport, []string{r.repository.Scope(transport.PullScope)})
	if err != nil {
		return err
	}
	have, err := into.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	address := fmt.Sprintf("%s://%s/v2/%s/blobs/%s", r.repository.Scheme(), r.repository.RegistryStr(), r.repository.RepositoryStr(), digest)
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	if have > 0 {
		q.Header.Set("Range", "bytes="+strconv.FormatInt(have, 10)+"-")
	}
	answer, err := (&http.Client{Transport: through}).Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	switch {
	case answer.StatusCode == http.StatusNotFound:
		return ErrNone
	case answer.StatusCode == http.StatusRequestedRangeNotSatisfiable: // all of it was there, or something else
		return into.Truncate(0)
	case answer.StatusCode == http.StatusOK && have > 0: // from the beginning
		if err := into.Truncate(0); err != nil {
			return err
		}
		if _, err := into.Seek(0, io.SeekStart); err != nil {
			return err
		}
	case answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusPartialContent:
		return fmt.Errorf("the registry answers %s", answer.Status)
	}
	_, err = io.Copy(into, io.LimitReader(answer.Body, most))
	return err
}

func (r *registry) list(ctx context.Context) ([]string, error) {
	tags, err := remote.List(r.repository, r.options(ctx)...)
	if missing(err) {
		return nil, nil
	}
	return tags, err
}

func (r *registry) remove(ctx context.Context, tag string) error {
	d, err := remote.Head(r.repository.Tag(tag), r.options(ctx)...)
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	// By digest: a tag alone leaves what it named.
	return remote.Delete(r.repository.Digest(d.Digest.String()), r.options(ctx)...)
}

// folder is an image layout in a folder, which several machines may share.
type folder struct{ dir string }

// refName is the annotation that names an artifact in a layout.
const refName = "org.opencontainers.image.ref.name"

func (f folder) alone(ctx context.Context) (func(), error) {
	if err := os.MkdirAll(f.dir, 0o755); err != nil {
		return nil, err
	}
	return disk.Lock(ctx, filepath.Join(f.dir, ".lock"))
}

func (f folder) path() (layout.Path, error) {
	p, err := layout.FromPath(f.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return "", ErrNone
	}
	return p, err
}

func (f folder) put(ctx context.Context, tag string, img v1.Image) error {
	// Blobs first: each has the name of its bytes, and is in nobody's way.
	unlock, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	p, err := f.path()
	if errors.Is(err, ErrNone) {
		p, err = layout.Write(f.dir, mutate.IndexMediaType(empty.Index, types.OCIImageIndex))
	}
	if err != nil {
		return err
	}
	return p.ReplaceImage(img, named(tag), layout.WithAnnotations(map[string]string{refName: tag}))
}

func named(tag string) func(v1.Descriptor) bool {
	return func(d v1.Descriptor) bool { return d.Annotations[refName] == tag }
}

func (f folder) index() (v1.ImageIndex, *v1.IndexManifest, error) {
	p, err := f.path()
	if err != nil {
		return nil, nil, err
	}
	index, err := p.ImageIndex()
	if err != nil {
		return nil, nil, err
	}
	m, err := index.IndexManifest()
	return index, m, err
}

func (f folder) find(_ context.Context, tag string) (*v1.Manifest, error) {
	index, m, err := f.index()
	if err != nil {
		return nil, err
	}
	for _, d := range m.Manifests {
		if named(tag)(d) {
			img, err := index.Image(d.Digest)
			if err != nil {
				return nil, err
			}
			return img.Manifest()
		}
	}
	return nil, ErrNone
}

func (f folder) blob(_ context.Context, digest v1.Hash, into *os.File) error {
	in, err := os.Open(filepath.Join(f.dir, "blobs", digest.Algorithm, digest.Hex))
	if errors.Is(err, fs.ErrNotExist) {
		return ErrNone
	}
	if err != nil {
		return err
	}
	defer in.Close()
	if err := into.Truncate(0); err != nil {
		return err
	}
	if _, err := into.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err = io.Copy(into, in)
	return err
}

func (f folder) list(context.Context) ([]string, error) {
	_, m, err := f.index()
	if errors.Is(err, ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, d := range m.Manifests {
		if tag := d.Annotations[refName]; tag != "" {
			out = append(out, tag)
		}
	}
	return out, nil
}

func (f folder) remove(ctx context.Context, tag string) error {
	unlock, err := f.alone(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	p, err := f.path()
	if err != nil {
		return err
	}
	if err := p.RemoveDescriptors(named(tag)); err != nil {
		return err
	}
	// Blobs that nothing names any more go, too.
	left, err := p.GarbageCollect()
	if err != nil {
		return err
	}
	for _, digest := range left {
		if err := p.RemoveBlob(digest); err != nil {
			return err
		}
	}
	return nil
}
