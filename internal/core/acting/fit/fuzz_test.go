package fit

import (
	"archive/tar"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/lock"
)

// FuzzBundle reads files that say they are bundles: nothing but archives with locked
// digests comes out of them, and only into the cache.
func FuzzBundle(f *testing.F) {
	const digest = "sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881" // of "x"
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, e := range [][2]string{{"bundle.json", `{"format":1,"project":"heronweir","platforms":["linux/amd64"]}`}, {"archives/" + strings.ReplaceAll(digest, ":", "-"), "x"}} {
		_ = w.WriteHeader(&tar.Header{Name: e[0], Size: int64(len(e[1])), Mode: 0o644})
		_, _ = w.Write([]byte(e[1]))
	}
	w.Close()
	f.Add(b.Bytes())
	l := &lock.Lock{Items: map[string]lock.Item{"sluice": {Version: "1", Platforms: map[string]map[string]lock.Part{"linux/amd64": {"sluice": {Version: "1", Format: "tar.gz", Digest: digest, Path: "x"}}}}}}
	l.Declaration.Project, l.Declaration.Platforms = "heronweir", []string{"linux/amd64"}
	f.Fuzz(func(t *testing.T, raw []byte) {
		root := t.TempDir()
		file := filepath.Join(root, "heronweir.bundle")
		os.WriteFile(file, raw, 0o600)
		p := &checkout.State{Lock: l, Places: place.Places{Cache: filepath.Join(root, "cache")}, Platform: platform.Platform{OS: "linux", Arch: "amd64"}}
		_, _ = ReadBundle(context.Background(), p, nil, file)
		if around, _ := os.ReadDir(root); len(around) > 2 {
			t.Errorf("something was written beside the cache: %v", around)
		}
		_ = filepath.WalkDir(filepath.Join(root, "cache"), func(path string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() && !strings.HasSuffix(path, ".lock") {
				if content, _ := os.ReadFile(path); string(content) != "x" {
					t.Errorf("%s holds %q, which nothing locked names", path, content)
				}
			}
			return nil
		})
	})
}
