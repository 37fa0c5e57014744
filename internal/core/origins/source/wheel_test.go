package source

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestPagesOfAPythonIndex(t *testing.T) {
	sum := strings.Repeat("a", 64)
	page := `<!DOCTYPE html><html><head><base href="/files/"></head><body><h1>tally</h1>
<a href="tally-1.0-py3-none-any.whl#sha256=` + sum + `" data-requires-python="&gt;=3.9" data-core-metadata="sha256=` + sum + `">tally-1.0-py3-none-any.whl</a>
<A HREF='https://other.example/tally-1.1.tar.gz#sha256=` + sum + `' data-yanked="counts twice">tally-1.1.tar.gz</A>
<a href="tally-1.2.zip" data-dist-info-metadata="true">tally-1.2.zip</a></body></html>`
	files, err := parseSimpleHTML("https://index.example/simple/tally/", []byte(page))
	if err != nil || len(files) != 3 {
		t.Fatalf("%+v %v", files, err)
	}
	first := files[0]
	if first.Address.URL != "https://index.example/files/tally-1.0-py3-none-any.whl" || first.Python != ">=3.9" || !first.Metadata || string(first.Digest) != "sha256:"+sum || first.MetadataDigest == "" {
		t.Errorf("%+v", first)
	}
	if !files[1].Yanked || files[1].Why != "counts twice" || files[1].Address.URL != "https://other.example/tally-1.1.tar.gz" || files[2].Digest != "" || !files[2].Metadata {
		t.Errorf("%+v", files[1:])
	}
	json := `{"meta": {"api-version": "1.1"}, "name": "tally", "files": [
{"filename": "tally-1.0-py3-none-any.whl", "url": "../../t.whl", "hashes": {"sha256": "` + strings.ToUpper(sum) + `", "md5": "x"}, "requires-python": null, "core-metadata": true, "yanked": false, "size": 12, "upload-time": "2026-02-03T04:05:06.789Z"},
{"filename": "tally-1.1.tar.gz", "url": "https://other.example/t.gz", "hashes": {}, "dist-info-metadata": {"sha256": "` + sum + `"}, "yanked": "bad"}]}`
	files, err = parseSimpleJSON("https://index.example/simple/tally/", []byte(json))
	if err != nil || len(files) != 2 || files[0].Address.URL != "https://index.example/t.whl" || files[0].Size != 12 || files[0].Uploaded.IsZero() || !files[0].Metadata || files[0].Yanked || string(files[0].Digest) != "sha256:"+sum {
		t.Errorf("%+v %v", files, err)
	}
	if !files[1].Yanked || files[1].Why != "bad" || files[1].Digest != "" || files[1].MetadataDigest == "" {
		t.Errorf("%+v", files[1])
	}
	for _, bad := range []string{`{"meta": {"api-version": "2.0"}, "files": []}`, `{"meta": {"api-version": "1.0"}, "files": [{"filename": "x", "url": "file:///etc/passwd"}]}`, `{`} {
		if files, err := parseSimpleJSON("https://index.example/simple/x/", []byte(bad)); err == nil {
			t.Errorf("%s was read as %+v", bad, files)
		}
	}
	for _, bad := range []string{"plain words", `<html><meta name="pypi:repository-version" content="2.0"></html>`, `<a href="ftp://x.example/y.whl">y.whl</a>`} {
		if files, err := parseSimpleHTML("https://index.example/simple/x/", []byte(bad)); err == nil {
			t.Errorf("%s was read as %+v", bad, files)
		}
	}
}

func FuzzSimplePages(f *testing.F) {
	f.Add([]byte(`<a href="x-1-py3-none-any.whl#sha256=00">x</a>`))
	f.Add([]byte(`{"meta": {"api-version": "1.0"}, "files": [{"filename": "x", "url": "y", "yanked": true}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		one, _ := parseSimpleHTML("https://index.example/simple/x/", raw)
		two, _ := parseSimpleJSON("https://index.example/simple/x/", raw)
		for _, file := range append(one, two...) {
			if !strings.HasPrefix(file.Address.URL, "http") || file.Digest != "" && file.Digest.Check() != nil || file.Size < 0 {
				t.Errorf("%+v", file)
			}
		}
	})
}

func TestPipsOwnSettings(t *testing.T) {
	dir := t.TempDir()
	put(t, dir+"/.config/pip/pip.conf", "[global]\nindex-url = https://a.example/simple\nextra-index-url =\n    https://b.example/simple\n    https://c.example/simple\n[list]\nindex-url = https://no.example\n")
	env := map[string]string{"HOME": dir}
	m := &Machine{Getenv: func(n string) string { return env[n] }}
	a, ok := findWheel(m, Implied("wheel"))
	if !ok || a.URL != "https://a.example/simple,https://b.example/simple,https://c.example/simple" || a.Checkout {
		t.Errorf("%+v", a)
	}
	env["PIP_INDEX_URL"], env["PIP_EXTRA_INDEX_URL"] = "https://d.example/simple", "https://e.example/x https://f.example/y"
	if a, _ = findWheel(m, Implied("wheel")); a.URL != "https://d.example/simple,https://e.example/x,https://f.example/y" {
		t.Errorf("%+v", a)
	}
	put(t, dir+"/.Rprofile", "# options(repos = c(CRAN = \"https://no.example\"))\noptions(digits = 3)\nlocal({ options(repos = c(CRAN = \"https://cran.example\")) })\n")
	if a, ok := findR(m, Implied("r")); !ok || a.URL != "https://cran.example" {
		t.Errorf("%+v", a)
	}
}

func put(t *testing.T, file, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}
