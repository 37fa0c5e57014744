package main

import (
	"bytes"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// errands is a project whose steps ask registries for packages, with a bundle of it, and how to
// be on a machine without any network.
func errands(t *testing.T, npm bool) (h *hut, bundle string, away func() *hut) {
	t.Helper()
	s := registry(t)
	s.PutModule("heronweir.example/counts", "v1.2.0", standin.File{Name: "go.mod", Content: "module heronweir.example/counts\n\ngo 1.24\n"}, standin.File{Name: "counts.go", Content: "package counts\n\nconst Silverfin = 3\n"})
	declaration := "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[step.modules]\nrun = \"go mod download && go list -f {{.Dir}} heronweir.example/counts\"\nreads = [\"go.mod\", \"go.sum\"]\n"
	files := map[string]string{
		"go.mod":  "module heronweir.example/lane\n\ngo 1.24\n\nrequire heronweir.example/counts v1.2.0\n",
		"main.go": "package main\n\nimport \"heronweir.example/counts\"\n\nfunc main() { println(counts.Silverfin, \"silverfin\") }\n",
	}
	if npm {
		declaration += "\n[step.packages]\nrun = \"cd web && npm ci && node -e 'console.log(require(\\\"weir-counts\\\"))'\"\nreads = [\"web/package-lock.json\"]\n"
		archive := standin.TarGz(standin.File{Name: "package/package.json", Content: `{"name":"weir-counts","version":"2.0.1","main":"index.js"}`}, standin.File{Name: "package/index.js", Content: "module.exports = 'redgill 1'\n"})
		s.PutTarball("weir-counts", "2.0.1", time.Now(), nil, archive)
		sum := sha512.Sum512(archive)
		entry := func(name, resolved, more string) string {
			return fmt.Sprintf("\"node_modules/%s\":{\"version\":\"2.0.1\",%s\"integrity\":\"sha512-%s\"%s}", name, resolved, base64.StdEncoding.EncodeToString(sum[:]), more)
		}
		files["web/package.json"] = `{"name":"board","dependencies":{"weir-counts":"2.0.1"}}`
		files["web/package-lock.json"] = `{"name":"board","lockfileVersion":3,"packages":{"":{"name":"board","dependencies":{"weir-counts":"2.0.1"}},` +
			entry("weir-counts", `"resolved":"https://packages.heronweir.example/mirror/weir-counts/-/weir-counts-2.0.1.tgz",`, "") + `}}`
	}
	fill := func(h *hut) {
		for name, content := range files {
			h.write(name, content)
		}
	}
	h = newHut(t, s, declaration)
	fill(h)
	// As somebody with a network would have made it; the machine's Go writes the sums.
	tidy := exec.Command("go", "mod", "download", "heronweir.example/counts")
	sums := exec.Command("go", "mod", "tidy")
	for _, c := range []*exec.Cmd{tidy, sums} {
		c.Dir = h.dir
		c.Env = append(os.Environ(), "GOPROXY="+s.Proxy(), "GOSUMDB=off", "GOFLAGS=-mod=mod", "GOMODCACHE="+t.TempDir()+"/modules", "GOFLAGS=-modcacherw")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	files["go.sum"] = h.read("go.sum")
	h.ok("lock")
	h.ok("approve", "--yes")
	bundle = filepath.Join(t.TempDir(), "heronweir.bundle")
	if o := h.try("export", "bundle", "--output", bundle); o.code != 0 || !strings.Contains(o.err, "that steps will ask for") || strings.Contains(o.err, "Not in it") {
		t.Fatalf("%+v", o)
	}
	lock := h.read("trammel.lock")
	s.Close()
	return h, bundle, func() *hut {
		o := newHut(t, nil, declaration)
		fill(o)
		o.write("trammel.lock", lock)
		// What the environment says is out of reach: only the bundle is left.
		o.env = append(o.env, "GOPROXY=http://127.0.0.1:9/", "npm_config_registry=http://127.0.0.1:9/", "npm_config_fetch_retries=0", "GOFLAGS=-modcacherw", "GOTOOLCHAIN=local")
		return o
	}
}

func TestABundleBringsWhatStepsAskRegistriesFor(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	_, err := exec.LookPath("npm")
	h, bundle, away := errands(t, err == nil)
	// What is private is sent to no proxy.
	h.env = append(h.env, "GOPRIVATE=heronweir.example/*")
	if o := h.try("export", "bundle", "--output", filepath.Join(t.TempDir(), "private.bundle")); !strings.Contains(o.err, "it is private") {
		t.Errorf("%+v", o)
	}
	o := away()
	o.ok("fit", "--bundle", bundle)
	if out := o.ok("run", "--", "env"); !strings.Contains(out, "GOPROXY=http://127.0.0.1:9/") {
		t.Error("the address of the bundle is left in the environment")
	}
	o.ok("verify")
	if err == nil {
		if text, err := os.ReadFile(filepath.Join(o.dir, "web/node_modules/weir-counts/index.js")); err != nil || !strings.Contains(string(text), "redgill") {
			t.Errorf("%v %s", err, text)
		}
	}
	// Without a bundle, the same machine cannot.
	away().fails(1, []string{"step modules failed"}, "fit")

	// What is not in it is said before it is missed.
	x := away()
	x.write("go.sum", x.read("go.sum")+"heronweir.example/eels v0.1.0 h1:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=\n")
	if r := x.try("fit", "--bundle", bundle); !strings.Contains(r.err, "not in the bundle") || !strings.Contains(r.err, "heronweir.example/eels v0.1.0") {
		t.Errorf("%+v", r)
	}
	// Bytes that are not those which the checkout names are not taken.
	raw, err := os.ReadFile(bundle)
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.Index(raw, []byte("PK\x03\x04"))
	if at < 0 {
		t.Fatal("there is no zip in the bundle")
	}
	broken := append([]byte{}, raw...)
	broken[at+72] ^= 0x40 // in the first file of the module
	file := filepath.Join(t.TempDir(), "broken.bundle")
	if err := os.WriteFile(file, broken, 0o644); err != nil {
		t.Fatal(err)
	}
	y := away()
	if r := y.try("fit", "--bundle", file); r.code != 5 || !strings.Contains(r.err, "heronweir.example/counts") {
		t.Errorf("%+v", r)
	}
}
