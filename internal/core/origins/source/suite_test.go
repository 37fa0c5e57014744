package source_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// A kind of source as the suite takes it: a server that has two versions of a tool.
type kind struct {
	declared declare.Source
	from     card.From
	versions []string // newest first
	parts    bool     // a tool's parts are asked of it; libraries of a language are asked for otherwise
	dates    bool     // it knows when each came out
}

const here = "linux"

func kinds(t *testing.T, s *standin.Server) map[string]kind {
	t.Helper()
	s.PutNPM("weir-sluice", "1.4.2", s.Day, nil, standin.File{Name: "package.json", Content: `{"name":"weir-sluice","version":"1.4.2"}`})
	s.PutNPM("weir-sluice", "1.3.1", s.Day, nil, standin.File{Name: "package.json", Content: `{"name":"weir-sluice","version":"1.3.1"}`})
	s.PutGo("1.24.6")
	s.PutGo("1.24.5")
	for _, v := range []string{"1.4.2", "1.3.1"} {
		s.PutWheel("shelf", standin.Wheel{Name: "weir-sluice", Version: v})
		archive := standin.TarGz(standin.File{Name: "sluice-" + v + "/sluice", Content: "#!/bin/sh\necho sluice " + v + "\n", Mode: 0o755})
		s.PutFile("dl/"+v+"/sluice-"+here+"-"+runtime.GOARCH+".tar.gz", archive)
		s.PutFile("dl/"+v+"/SHA256SUMS", fmt.Appendf(nil, "%x  sluice-%s-%s.tar.gz\n", sha256.Sum256(archive), here, runtime.GOARCH))
	}
	s.PutFile("dl/index.json", []byte(`{"1.4.2":{},"1.3.1":{}}`))
	s.PutR("cran", standin.RPackage{Name: "weirsluice", Version: "1.3.1"}, standin.RPackage{Name: "weirsluice", Version: "1.4.2"})
	folder := t.TempDir()
	if err := standin.Publish(folder, []standin.Tool{{Name: "sluice", Versions: []string{"1.3.1", "1.4.2"}, Archives: [][]byte{
		standin.TarGz(standin.File{Name: "bin/sluice", Content: "1.3.1", Mode: 0o755}), standin.TarGz(standin.File{Name: "bin/sluice", Content: "1.4.2", Mode: 0o755}),
	}}}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"catalog.toml", "cards/sluice.toml", "releases/sluice.toml", "files/sluice-1.3.1.tar.gz", "files/sluice-1.4.2.tar.gz"} {
		raw, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		s.PutFile("hut/"+name, raw)
	}
	archive := s.Debian("weir", "weir")
	archive.Put(standin.Deb{Name: "sluice", Version: "1.4.2-1", Files: []standin.File{{Name: "./usr/bin/sluice", Content: "1.4.2", Mode: 0o755}}})
	archive.Publish()
	keys := filepath.Join(t.TempDir(), "weir.asc")
	if err := os.WriteFile(keys, []byte(archive.Keys()), 0o644); err != nil {
		t.Fatal(err)
	}
	return map[string]kind{
		"catalog": {declare.Source{Name: "hut", Kind: "catalog", URL: s.Files() + "hut/"}, card.From{Kind: "catalog", Package: "sluice", Parts: []card.Part{{Name: "sluice", Bin: map[string]string{"sluice": "bin/sluice"}}}}, []string{"1.4.2", "1.3.1"}, true, true},
		// An archive has one version of a package at a time, and what a lock wants of it is a root's business.
		"debian": {declare.Source{Name: "weir", Kind: "debian", URL: archive.URL(), Debian: declare.Debian{Suites: []string{"weir"}, Components: []string{"main"}, Keyring: keys}}, card.From{Kind: "debian", Package: "sluice", Versioned: "sluice"}, []string{"1.4.2"}, false, true},
		"npm":    {declare.Source{Name: "npm", Kind: "npm", URL: s.NPM()}, card.From{Kind: "npm", Package: "weir-sluice", Parts: []card.Part{{Name: "sluice", Bin: map[string]string{"sluice": "sluice.js"}}}}, []string{"1.4.2", "1.3.1"}, true, true},
		"gomod":  {declare.Source{Name: "gomod", Kind: "gomod", URL: s.Proxy(), SumDB: s.SumDB()}, card.From{Kind: "gomod", Package: "golang.org/toolchain", Release: "v0.0.1-go@{version}.@{os}-@{arch}", Parts: []card.Part{{Name: "go"}}}, []string{"1.24.6", "1.24.5"}, true, false},
		"listing": {declare.Source{Name: "sluice", Kind: "listing", Listing: &declare.Listing{
			Index: s.Files() + "dl/index.json", Versions: "$.*~", Archive: s.Files() + "dl/@{version}/sluice-@{os}-@{arch}.tar.gz", Sums: s.Files() + "dl/@{version}/SHA256SUMS", Strip: 1, Bin: []string{"sluice"},
		}}, card.From{Kind: "listing", Package: "sluice", Parts: []card.Part{{Name: "sluice"}}}, []string{"1.4.2", "1.3.1"}, true, false},
		"wheel": {declare.Source{Name: "wheel", Kind: "wheel", URL: s.Python("shelf")}, card.From{Kind: "wheel", Package: "weir-sluice"}, []string{"1.4.2", "1.3.1"}, false, false},
		"r":     {declare.Source{Name: "r", Kind: "r", URL: s.R("cran")}, card.From{Kind: "r", Package: "weirsluice"}, []string{"1.4.2", "1.3.1"}, false, false},
	}
}

// Every kind of source keeps the same promises.
func TestEveryKindOfSource(t *testing.T) {
	on := []platform.Platform{{OS: "linux", Arch: runtime.GOARCH}}
	server := standin.New()
	t.Cleanup(server.Close)
	for name := range kinds(t, server) {
		t.Run(name, func(t *testing.T) {
			s := standin.New()
			defer s.Close()
			k := kinds(t, s)[name]
			open := func() (source.Source, *fetch.Client) {
				t.Helper()
				c := fetch.New(fetch.Options{Indexes: t.TempDir(), Backoff: time.Millisecond, Stall: time.Second})
				m := &source.Machine{Getenv: func(string) string { return "" }, Project: t.TempDir(), Config: t.TempDir(), Archives: t.TempDir()}
				opened, at, err := source.Open(k.declared, m, c)
				if err != nil || at.URL == "" || at.Detail == "" {
					t.Fatalf("%+v %v", at, err)
				}
				return opened, c
			}
			ctx := t.Context()
			opened, client := open()
			if err := opened.Probe(ctx); err != nil && !fetch.NotFound(err) {
				t.Errorf("it is there, and the probe says %v", err)
			}
			releases, err := opened.Releases(ctx, k.from, on)
			var versions []string
			for _, r := range releases {
				versions = append(versions, r.Version)
				if !source.Scheme(name).Valid(r.Version) {
					t.Errorf("%s is no version of this kind", r.Version)
				}
				if k.dates && r.Published.IsZero() {
					t.Errorf("%s has no date", r.Version)
				}
			}
			slices.SortFunc(versions, func(a, b string) int { return source.Scheme(name).Compare(b, a) })
			if err != nil || !slices.Equal(versions, k.versions) {
				t.Fatalf("it has %v, and %v", versions, err)
			}
			if k.parts {
				archives(t, opened, client, k, on[0])
			}
			// A path of a lock, which strangers write, stays within the source.
			if addresses, err := opened.Where(lock.Part{Path: "../../etc/passwd"}); err == nil {
				for _, a := range addresses {
					if strings.Contains(a.URL, "..") {
						t.Errorf("a path that leaves the source is fetched from %s", a.URL)
					}
				}
			}
			// What is broken is said, and never taken for nothing.
			for _, bad := range []standin.Fault{standin.Broken, standin.NotJSON, standin.Truncate, standin.Loop} {
				s.Fail("/", bad)
				other, _ := open()
				list, err := other.Releases(ctx, k.from, on)
				if err == nil && len(list) > 0 {
					t.Errorf("%s gives %v", bad, list)
				}
				if err == nil && bad != standin.NotJSON {
					t.Errorf("%s is taken for a source that has nothing", bad)
				}
			}
			// A person who gives up does not wait.
			cancelled, cancel := context.WithCancel(ctx)
			cancel()
			other, _ := open()
			if list, err := other.Releases(cancelled, k.from, on); err == nil {
				t.Errorf("given up, it still gives %v", list)
			}
			s.Close()
			gone, _ := open()
			if err := gone.Probe(ctx); err == nil {
				t.Error("nobody is there, and the probe says all is well")
			}
			if _, err := gone.Releases(ctx, k.from, on); err == nil || fault.ExitCode(err) != 5 && !errors.Is(err, fault.ErrSource) && !strings.Contains(err.Error(), "refused") {
				t.Errorf("nobody is there: %v", err)
			}
		})
	}
}

// archives holds each version to what a lock needs of it.
func archives(t *testing.T, opened source.Source, client *fetch.Client, k kind, p platform.Platform) {
	t.Helper()
	ctx := t.Context()
	digests := map[fetch.Digest]string{}
	for _, v := range k.versions {
		parts, _, err := opened.Parts(ctx, k.from, v, p, time.Time{})
		if err != nil || len(parts) == 0 {
			t.Errorf("%s has %v, %v", v, parts, err)
		}
		for name, part := range parts {
			if err := part.Digest.Check(); err != nil || strings.Contains(part.Path, "..") || strings.Contains(part.Path, "://") && k.declared.Kind != "listing" {
				t.Errorf("%s %s: %+v %v", v, name, part, err)
			}
			if other, twice := digests[part.Digest]; twice {
				t.Errorf("%s and %s are the same bytes", v, other)
			}
			digests[part.Digest] = v
			addresses, err := opened.Where(part)
			if err != nil || len(addresses) == 0 {
				t.Fatalf("%s %s is nowhere: %v", v, name, err)
			}
			folder := t.TempDir()
			file, err := client.Archive(ctx, folder, fetch.Download{Name: name, From: addresses[0], Size: part.Size, Digest: part.Digest})
			if err != nil {
				t.Errorf("%s %s cannot be had from where it is said to be: %v", v, name, err)
				continue
			}
			if info, err := os.Stat(file); err != nil || info.Size() == 0 || filepath.Dir(file) != folder {
				t.Errorf("%s: %v", file, err)
			}
		}
	}
	again, _, err := opened.Parts(ctx, k.from, k.versions[0], p, time.Time{})
	first, _, _ := opened.Parts(ctx, k.from, k.versions[0], p, time.Time{})
	if err != nil || fmt.Sprint(again) != fmt.Sprint(first) {
		t.Errorf("asked twice it says something else: %v", err)
	}
	if parts, _, err := opened.Parts(ctx, k.from, "9.9.9", p, time.Time{}); err == nil || !fetch.NotFound(err) {
		t.Errorf("a version that is not there has %v, %v", parts, err)
	}
}
