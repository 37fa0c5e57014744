package main

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"app.example/trammel/internal/standin"
)

// repacked is a tar.gz archive compressed otherwise.
func repacked(t *testing.T, archive []byte, how string) []byte {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(archive))
	if err != nil {
		t.Fatal(err)
	}
	plain, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	if how == "xz" {
		return standin.XZ(plain)
	}
	var out bytes.Buffer
	w, _ := zstd.NewWriter(&out)
	w.Write(plain)
	w.Close()
	return out.Bytes()
}

func TestToolsWhoseMakersPublishArchives(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := standin.New()
	defer s.Close()
	arch := map[string]string{"amd64": "x64", "arm64": "arm64"}[runtime.GOARCH]
	says := func(text string) string { return "#!/bin/sh\necho " + text + "\n" }
	// As Node.js is published: a JSON list, tar.xz archives, a file of checksums a version.
	var list []map[string]any
	for _, v := range []string{"20.18.0", "22.11.0"} {
		stem := "node-v" + v + "-linux-" + arch
		archive := repacked(t, standin.TarGz(standin.File{Name: stem + "/bin/node", Content: says("v" + v), Mode: 0o755}, standin.File{Name: stem + "/README.md"}), "xz")
		s.PutFile("node/v"+v+"/"+stem+".tar.xz", archive)
		s.PutFile("node/v"+v+"/SHASUMS256.txt", fmt.Appendf(nil, "%x  other.tar.gz\n%x  %s.tar.xz\n", sha256.Sum256(nil), sha256.Sum256(archive), stem))
		list = append(list, map[string]any{"version": "v" + v, "lts": true})
	}
	raw, _ := json.Marshal(list)
	s.PutFile("node/index.json", raw)
	// As Go is: checksums in the index itself.
	goArchive := standin.TarGz(standin.File{Name: "go/bin/go", Content: says("go version go1.24.1 linux"), Mode: 0o755}, standin.File{Name: "go/VERSION"})
	file := "go1.24.1.linux-" + runtime.GOARCH + ".tar.gz"
	s.PutFile("dl/"+file, goArchive)
	raw, _ = json.Marshal([]any{map[string]any{"version": "go1.24.1", "files": []any{map[string]any{"filename": "other", "sha256": strings.Repeat("0", 64)}, map[string]any{"filename": file, "sha256": fmt.Sprintf("%x", sha256.Sum256(goArchive))}}}})
	s.PutFile("dl/index", raw)
	// As many others are: a page with links, a bare binary, gzipped, and one digest a file.
	var gz bytes.Buffer
	z := gzip.NewWriter(&gz)
	z.Write([]byte(says("sluice 2.1")))
	z.Close()
	s.PutFile("sluice/", []byte("<html><a href=\"2.0/\">2.0/</a> <a href=\"2.1/\">2.1/</a> <a href=\"latest/\">latest/</a></html>"))
	s.PutFile("sluice/2.1/sluice-linux.gz", gz.Bytes())
	s.PutFile("sluice/2.1/sluice-linux.gz.sha512", fmt.Appendf(nil, "%x\n", sha512.Sum512(gz.Bytes())))
	// And one that states no checksum at all, in BSD's company.
	seine := repacked(t, standin.TarGz(standin.File{Name: "seine/cast", Content: says("seine 0.3")}), "zst")
	s.PutFile("seine/seine-0.3.tar.zst", seine)
	s.PutFile("seine/list", []byte("releases: 0.3 0.2\n"))
	text := `format  = 1
project = "heronweir"

[source.node]
kind     = "listing"
index    = "@FILES@node/index.json"
versions = '$[*].version'
archive  = "@FILES@node/v@{version}/node-v@{version}-@{os}-@{arch}.tar.xz"
sums     = "@FILES@node/v@{version}/SHASUMS256.txt"
arch     = { amd64 = "x64" }
strip    = 1

[source.golang]
kind     = "listing"
index    = "@FILES@dl/index"
versions = '"version":"go([0-9.]+)"'
archive  = "@FILES@dl/go@{version}.@{os}-@{arch}.tar.gz"
sums     = '$[*].files[?@.filename=="go@{version}.@{os}-@{arch}.tar.gz"].sha256'
strip    = 1

[source.sluice]
kind     = "listing"
index    = "@FILES@sluice/"
versions = 'href="([0-9][0-9.]*)/"'
archive  = "@FILES@sluice/@{version}/sluice-@{os}.gz"
sums     = "@FILES@sluice/@{version}/sluice-@{os}.gz.sha512"

[source.seine]
kind     = "listing"
index    = "@FILES@seine/list"
versions = '\b(\d+\.\d+)\b'
archive  = "@FILES@seine/seine-@{version}.tar.zst"
strip    = 1
bin      = ["cast"]

[toolchain]
node   = { version = "22", from = "node" }
go     = { version = "1.24", from = "golang" }
sluice = "2.1"
seine  = "=0.3"
`
	h := newHut(t, nil, strings.ReplaceAll(text, "@FILES@", s.Files()))
	o := h.try("lock")
	if o.code != 0 || !strings.Contains(o.out, "+ node 22.11.0") || !strings.Contains(o.out, "+ sluice 2.1") || !strings.Contains(o.err, "states no digest of seine-0.3.tar.zst") {
		t.Fatalf("%d %s%s", o.code, o.out, o.err)
	}
	h.fitted()
	for command, want := range map[string]string{"node": "v22.11.0\n", "go": "go version go1.24.1 linux\n", "sluice": "sluice 2.1\n", "cast": "seine 0.3\n"} {
		if got := h.ok("run", "--", command); got != want {
			t.Errorf("%s says %q", command, got)
		}
	}
	h.ok("verify", "--deep")
	if out := h.ok("find", "node"); !strings.Contains(out, "20.18.0") || !strings.Contains(out, "from node") {
		t.Errorf("%s", out)
	}
	// Bad input, each with words that lead on.
	good := h.read("trammel.toml")
	for change, words := range map[string]string{
		`$[*].version'|$[*].versions'`: "finds no version in it", `versions = '$[*].version'|versions = '$[*'`: "is no JSONPath", `SHASUMS256.txt"|SHASUMS1.txt"`: "has no file of checksums at",
		`href="([0-9]|href="((`: "neither a JSONPath nor a regular expression", `sluice-@{os}.gz.sha512"|@{nothing}"`: "nothing is named @{nothing} in sums",
		`[?@.filename=="go|[?@.filename=="gone`: "states no checksum of go1.24.1", `kind     = "listing"` + "\nindex    = \"" + s.Files() + "seine/list\"|kind = \"listing\"": "has no index",
	} {
		old, new, _ := strings.Cut(change, "|")
		h.write("trammel.toml", strings.Replace(good, old, new, 1))
		if o := h.try("lock", "--renew"); o.code == 0 || !strings.Contains(o.err, words) {
			t.Errorf("%s: %d %s", change, o.code, o.err)
		}
	}
	h.write("trammel.toml", good)
	h.ok("lock")
	s.PutFile("node/v22.11.0/node-v22.11.0-linux-"+arch+".tar.xz", []byte("other bytes"))
	fresh := h.elsewhere(nil)
	fresh.fails(5, []string{"wrong bytes"}, "fit", "--approve")
	cut := gz.Bytes()[:gz.Len()-6]
	s.PutFile("sluice/2.1/sluice-linux.gz", cut)
	s.PutFile("sluice/2.1/sluice-linux.gz.sha512", fmt.Appendf(nil, "%x\n", sha512.Sum512(cut)))
	h.ok("lock", "--renew", "sluice")
	h.ok("approve", "--yes")
	h.fails(5, []string{"sluice 2.1", "cut off"}, "fit")
}
