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
	"strings"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
)

// registry is a repository of a registry. Credentials come from the file that clients of
// registries share.
type registry struct{ repository name.Repository }

func openRegistry(text string) (*registry, error) {
	r, err := name.NewRepository(text)
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "%q names no repository of a registry: %v", Scheme+text, err).Advise("Write, for example: oci://registry.example/depot")
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

func (r *registry) blob(ctx context.Context, digest v1.Hash, without int64) (io.ReadCloser, error) {
	auth, err := authn.DefaultKeychain.Resolve(r.repository)
	if err != nil {
		return nil, err
	}
	through, err := transport.NewWithContext(ctx, r.repository.Registry, auth, http.DefaultTransport, []string{r.repository.Scope(transport.PullScope)})
	if err != nil {
		return nil, err
	}
	address := fmt.Sprintf("%s://%s/v2/%s/blobs/%s", r.repository.Scheme(), r.repository.RegistryStr(), r.repository.RepositoryStr(), digest)
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	if without > 0 {
		q.Header.Set("Range", "bytes="+strconv.FormatInt(without, 10)+"-")
	}
	answer, err := (&http.Client{Transport: through}).Do(q)
	if err != nil {
		return nil, err
	}
	switch {
	case answer.StatusCode == http.StatusPartialContent && without > 0:
		return answer.Body, nil
	case answer.StatusCode == http.StatusOK: // all of it, also where a part was asked for
		if _, err := io.CopyN(io.Discard, answer.Body, without); err != nil {
			answer.Body.Close()
			return nil, err
		}
		return answer.Body, nil
	case answer.StatusCode == http.StatusRequestedRangeNotSatisfiable: // all of it had come
		answer.Body.Close()
		return io.NopCloser(strings.NewReader("")), nil
	}
	answer.Body.Close()
	if answer.StatusCode == http.StatusNotFound {
		return nil, ErrNone
	}
	return nil, fmt.Errorf("the registry answers %s", answer.Status)
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

func (f folder) blob(_ context.Context, digest v1.Hash, without int64) (io.ReadCloser, error) {
	// Not waited for, should something else than a file lie there.
	in, err := os.OpenFile(filepath.Join(f.dir, "blobs", digest.Algorithm, digest.Hex), os.O_RDONLY|unix.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	info, err := in.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("the depot has no file as blob %.8s…", digest.Hex)
	}
	if err == nil {
		_, err = in.Seek(without, io.SeekStart)
	}
	if err != nil {
		in.Close()
		return nil, err
	}
	return in, nil
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
