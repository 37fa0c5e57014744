package image

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

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

// refName is the annotation that names an image in a layout (image-spec, "Pre-Defined Annotation Keys").
const refName = "org.opencontainers.image.ref.name"

// Scheme begins the address of a registry.
const Scheme = "oci://"

// ToFolder writes an index as a layout (image-spec, "Image Layout Specification"), whole or not
// at all; a layout that is there is replaced.
func ToFolder(dir string, index v1.ImageIndex, reference string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(dir, "oci-layout")); err != nil {
			return fault.New(fault.ErrUsage, "%s is there, and is no image layout", dir).Advise("Name another folder, or remove it.")
		}
	}
	parent := filepath.Dir(filepath.Clean(dir))
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(parent, ".new-layout-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(fresh)
	if err := writeLayout(fresh, index, reference); err != nil {
		return err
	}
	if err := os.Chmod(fresh, 0o755); err != nil {
		return err
	}
	old := fresh + "-old"
	if err := os.Rename(dir, old); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	defer disk.RemoveAll(old)
	return os.Rename(fresh, dir)
}

func writeLayout(dir string, index v1.ImageIndex, reference string) error {
	p, err := layout.Write(dir, mutate.IndexMediaType(empty.Index, types.OCIImageIndex))
	if err != nil {
		return err
	}
	var options []layout.Option
	if reference != "" {
		options = append(options, layout.WithAnnotations(map[string]string{refName: reference}))
	}
	// One platform is an image by itself, which every reader of layouts takes.
	m, err := index.IndexManifest()
	if err != nil {
		return err
	}
	if len(m.Manifests) == 1 {
		img, err := index.Image(m.Manifests[0].Digest)
		if err != nil {
			return err
		}
		if err := p.WriteImage(img); err != nil {
			return err
		}
		size, err := img.Size()
		if err != nil {
			return err
		}
		d := v1.Descriptor{MediaType: types.OCIManifestSchema1, Digest: m.Manifests[0].Digest, Size: size}
		if reference != "" {
			d.Annotations = map[string]string{refName: reference}
		}
		return p.AppendDescriptor(d)
	}
	return p.AppendIndex(index, options...)
}

// ToArchive writes a layout as a tar archive, whose bytes are the same for the same index.
func ToArchive(out io.Writer, scratch string, index v1.ImageIndex, reference string) error {
	dir, err := os.MkdirTemp(scratch, ".new-layout-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(dir)
	if err := writeLayout(dir, index, reference); err != nil {
		return err
	}
	w := tar.NewWriter(out)
	err = filepath.WalkDir(dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil || file == dir {
			return err
		}
		below, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		h := &tar.Header{Name: filepath.ToSlash(below), Mode: 0o644, ModTime: time.Unix(0, 0), Format: tar.FormatPAX, Typeflag: tar.TypeReg}
		if d.IsDir() {
			h.Name, h.Mode, h.Typeflag = h.Name+"/", 0o755, tar.TypeDir
			return w.WriteHeader(h)
		}
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		h.Size = info.Size()
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		_, err = io.Copy(w, f)
		return err
	})
	return errors.Join(err, w.Close())
}

// ToRegistry pushes an index to a registry (distribution-spec 1.1), or the image itself where
// the index has one alone. Credentials come from the files that clients of registries share. It returns
// the reference by digest.
func ToRegistry(ctx context.Context, reference string, index v1.ImageIndex, through http.RoundTripper) (string, error) {
	ref, err := name.ParseReference(strings.TrimPrefix(reference, Scheme))
	if err != nil {
		return "", fault.New(fault.ErrUsage, "%q names no image in a registry: %v", reference, err).Advise("Write, for example: oci://registry.example/heronweir:v1")
	}
	options := []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain), remote.WithJobs(4)}
	if through != nil {
		options = append(options, remote.WithTransport(through))
	}
	m, err := index.IndexManifest()
	if err != nil {
		return "", err
	}
	digest, err := index.Digest()
	if err != nil {
		return "", err
	}
	if len(m.Manifests) == 1 {
		img, inner := index.Image(m.Manifests[0].Digest)
		if inner != nil {
			return "", inner
		}
		digest = m.Manifests[0].Digest
		err = remote.Write(ref, img, options...)
	} else {
		err = remote.WriteIndex(ref, index, options...)
	}
	if err != nil {
		return "", Refused(ref.Context().RegistryStr(), err)
	}
	return ref.Context().Digest(digest.String()).String(), nil
}

// Refused is an error of a registry in words that say what to do.
func Refused(registry string, err error) error {
	var t *transport.Error
	if errors.As(err, &t) {
		switch t.StatusCode {
		case http.StatusUnauthorized, http.StatusForbidden:
			return fault.New(fault.ErrSource, "the registry %s does not let you: %v", registry, t).
				Advise("Sign in with the client of registries that you have (its file config.json is read here, DOCKER_CONFIG names its folder), and see that you may write there.")
		}
		return fault.New(fault.ErrSource, "the registry %s refuses: %v", registry, t)
	}
	return fault.New(fault.ErrSource, "the registry %s cannot be reached: %v", registry, err).Advise("See that its address is right and that it answers.")
}
