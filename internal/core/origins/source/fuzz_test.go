package source

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

var here = platform.Platform{OS: "linux", Arch: "amd64"}

// told makes sure that an error is one for people: never that of a library alone.
func told(t *testing.T, err error) {
	t.Helper()
	if err != nil && !errors.Is(err, fault.ErrUsage) && !errors.Is(err, fault.ErrSource) && !errors.Is(err, fault.ErrFailed) {
		t.Errorf("an error that says nothing to a person: %v", err)
	}
}

func FuzzCatalog(f *testing.F) {
	f.Add("format = 1\n[tool.sluice]\ncard = \"c.toml\"\ncard-sha256 = \"aa\"\nreleases = \"r.toml\"\nreleases-sha256 = \"bb\"\n",
		"[[release]]\nversion = \"1.4.2\"\npublished = 2026-02-03\n[[release.part]]\nplatform = \"any\"\npath = \"x.tar.gz\"\nsize = 7\nsha256 = \""+strings.Repeat("a", 64)+"\"\n")
	f.Add("format = 1\n[tool.a]\ncard = \"../c\"\n", "release = [1]\n")
	f.Fuzz(func(t *testing.T, index, list string) {
		k := &Catalog{name: "hut"}
		err := k.parseIndex([]byte(index))
		told(t, err)
		for tool, e := range k.index {
			if strings.HasPrefix(path.Clean(e.card), "..") || path.IsAbs(e.releases) {
				t.Errorf("the tool %q leads out of the catalog: %+v", tool, e)
			}
		}
		releases, err := k.parseReleases("hut/r.toml", "sluice", []byte(list))
		told(t, err)
		for _, r := range releases {
			for _, p := range r.parts {
				if strings.HasPrefix(path.Clean(p.part.Path), "..") || path.IsAbs(p.part.Path) || p.part.Digest.Check() != nil {
					t.Errorf("the part %+v leads out of the catalog, or has no digest", p)
				}
			}
			r.has("sluice", here)
		}
	})
}

func FuzzNPM(f *testing.F) {
	f.Add(`{"name":"a","versions":{"1.2.0":{"bin":"x.js","dependencies":{"a":"^1"},"os":["linux"],"dist":{"tarball":"http://npm.example/a/-/a-1.2.0.tgz","integrity":"sha512-`+strings.Repeat("A", 86)+`=="}}},"time":{"1.2.0":"2026-02-03T04:05:06Z"}}`, "^1.0 || ~2")
	f.Add(`{"name":"a","versions":{"1.0.0":{"bin":{"x":"../../y"},"engines":["node"],"os":"!win32"}},"time":{"1.0.0":3}}`, "*")
	f.Fuzz(func(t *testing.T, text, ranges string) {
		var doc npmDocument
		if json.Unmarshal([]byte(text), &doc) != nil {
			return
		}
		once := &npmOnce{doc: &doc}
		once.once.Do(func() {})
		n := &npm{base: "http://npm.example/", client: fetch.New(fetch.Options{Offline: true, Indexes: t.TempDir()}), documents: map[string]*npmOnce{"a": once}}
		for _, build := range []bool{false, true} {
			from := card.From{Kind: "npm", Package: "a", Build: build, Parts: []card.Part{{Name: "a"}}}
			list, err := n.Releases(context.Background(), from, []platform.Platform{here})
			told(t, err)
			for i, r := range list {
				if i > 8 {
					break
				}
				parts, _, err := n.Parts(context.Background(), from, r.Version, here, time.Time{})
				told(t, err)
				for _, p := range parts {
					for command, file := range p.Bin {
						if err == nil && (strings.HasPrefix(path.Clean(file), "..") || strings.Contains(command, "/")) {
							t.Errorf("the command %q is %q, outside of the part", command, file)
						}
					}
				}
			}
		}
		doc.companion("node", "", ranges, time.Time{})
	})
}

func FuzzModuleLists(f *testing.F) {
	f.Add("v1.24.5\nv0.0.1-go1.24.5.linux-amd64\nv1.2.3-pre\n", "v0.0.1-go@{version}.@{os}-@{arch}")
	f.Add("<html>", "@{")
	f.Fuzz(func(t *testing.T, list, release string) {
		for _, r := range []string{release, "v0.0.1-go@{version}.@{os}-@{arch}"} {
			out, err := fromList(list, card.From{Package: "hut.example/go", Release: r}, []platform.Platform{here})
			told(t, err)
			for _, x := range out {
				if !strings.Contains(list, x.Version) {
					t.Errorf("the version %q is not in the list", x.Version)
				}
			}
		}
		moduleVersions(strings.Fields(list))
		_, _ = escaped(list)
	})
}

// FuzzSettings reads files of other programs' settings, which are what people and
// installers wrote into them.
func FuzzSettings(f *testing.F) {
	f.Add("deb [signed-by=/k.gpg] http://deb.example/debian trixie main\n", "registry = http://npm.example/${X?}/\n", "machine npm.example login heron password reed\n")
	f.Add("Types: deb\nURIs: http://deb.example/debian\nSuites: trixie trixie-updates\nSigned-By:\n -----BEGIN PGP\n .\n", "//npm.example/:_authToken=abc", "default machine")
	f.Fuzz(func(t *testing.T, apt, npmrc, netrc string) {
		dir := t.TempDir()
		for name, text := range map[string]string{"apt/sources.list": apt, "apt/sources.list.d/a.sources": apt, ".npmrc": npmrc, ".netrc": netrc, "config/sources.toml": npmrc} {
			os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		m := &Machine{Project: dir, Config: filepath.Join(dir, "config"), Apt: filepath.Join(dir, "apt"), Getenv: func(name string) string {
			return map[string]string{"HOME": dir, "PATH": dir}[name]
		}}
		for _, kind := range []string{"npm", "debian"} {
			a, err := Locate(declare.Source{Name: kind, Kind: kind, Debian: declare.Debian{Suites: []string{"trixie"}}}, m)
			told(t, err)
			if err == nil && !strings.HasPrefix(a.URL, "http://") && !strings.HasPrefix(a.URL, "https://") {
				t.Errorf("%s: the address %q", kind, a.URL)
			}
		}
		m.npmAuthorization(Address{URL: "http://npm.example/"})
		m.netrc("npm.example")
	})
}
