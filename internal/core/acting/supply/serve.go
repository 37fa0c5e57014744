package supply

import (
	"archive/tar"
	"compress/gzip"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"app.example/trammel/internal/core/base/version"
)

// Shop serves wants from a cache of archives to programs on this machine.
type Shop struct {
	archives string
	byPath   map[string]Want   // npm: path below the registry
	packages map[string][]Want // npm: by name
	modules  map[string][]Want // gomod: by escaped path
	server   *http.Server
	base     string
	secret   string // the first part of every path: other users of the machine do not know it
}

// Open serves wants whose files are in a folder, on loopback, until Close.
func Open(archives string, wants []Want) (*Shop, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Shop{archives: archives, byPath: map[string]Want{}, packages: map[string][]Want{}, modules: map[string][]Want{}, secret: rand.Text()}
	s.base = "http://" + l.Addr().String() + "/" + s.secret
	for _, w := range wants {
		switch w.Kind {
		case "npm":
			s.byPath[w.Path] = w
			s.packages[w.Name] = append(s.packages[w.Name], w)
		case "gomod":
			s.byPath["go:"+w.Path] = w
			folder := path.Dir(w.Path) // …/@v
			s.modules[folder] = append(s.modules[folder], w)
		}
	}
	s.server = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug)}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// Close ends serving.
func (s *Shop) Close() { _ = s.server.Close() }

// Variables are how programs find the shop in place of the registries.
func (s *Shop) Variables() []string {
	return []string{
		"npm_config_registry=" + s.base + "/npm/", "npm_config_replace_registry_host=always",
		"GOPROXY=" + s.base + "/go", "GOSUMDB=off", // the go.sum of the project decides
	}
}

func (s *Shop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.Error(w, "the bundle only answers questions", http.StatusMethodNotAllowed)
		return
	}
	asked, err := url.PathUnescape(r.URL.EscapedPath())
	if err != nil {
		http.Error(w, "no such path", http.StatusBadRequest)
		return
	}
	asked, ok := strings.CutPrefix(asked, "/"+s.secret)
	if !ok {
		http.NotFound(w, r)
		return
	}
	if below, ok := strings.CutPrefix(asked, "/npm/"); ok {
		s.npm(w, r, below)
		return
	}
	if below, ok := strings.CutPrefix(asked, "/go/"); ok {
		s.module(w, r, below)
		return
	}
	http.NotFound(w, r)
}

func (s *Shop) absent(w http.ResponseWriter, what string) {
	http.Error(w, what+" is not in the bundle", http.StatusNotFound)
}

func (s *Shop) file(w http.ResponseWriter, r *http.Request, want Want) {
	f, err := os.Open(filepath.Join(s.archives, want.Archive()))
	if err != nil {
		s.absent(w, want.Label())
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", time.Time{}, f)
}

// npm answers as a registry does: documents of packages, and their archives. Addresses of other
// registries have their own folders before the usual path, which are left out.
func (s *Shop) npm(w http.ResponseWriter, r *http.Request, asked string) {
	if strings.Contains(asked, "/-/") {
		for rest := asked; ; {
			if want, ok := s.byPath[rest]; ok {
				s.file(w, r, want)
				return
			}
			_, after, ok := strings.Cut(rest, "/")
			if !ok {
				s.absent(w, asked)
				return
			}
			rest = after
		}
	}
	list := s.packages[asked]
	if len(list) == 0 {
		s.absent(w, asked)
		return
	}
	versions := map[string]any{}
	var newest string
	for _, x := range list {
		doc, err := manifest(filepath.Join(s.archives, x.Archive()))
		if err != nil {
			continue // it is not there, or no package
		}
		algorithm, value := x.Digest.Cut()
		raw, err := hex.DecodeString(value)
		if err != nil {
			continue
		}
		doc["name"], doc["version"] = x.Name, x.Version
		doc["dist"] = map[string]string{"tarball": s.base + "/npm/" + x.Path, "integrity": algorithm + "-" + base64.StdEncoding.EncodeToString(raw)}
		versions[x.Version] = doc
		if newest == "" || version.Semver.Compare(x.Version, newest) > 0 {
			newest = x.Version
		}
	}
	if newest == "" {
		s.absent(w, asked)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"name": asked, "dist-tags": map[string]string{"latest": newest}, "versions": versions})
}

// manifest is the package.json of an npm package.
func manifest(file string) (map[string]any, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	t := tar.NewReader(io.LimitReader(z, 1<<30))
	for {
		head, err := t.Next()
		if err != nil {
			return nil, errors.New("it has no package.json")
		}
		// The first folder's name differs between packages.
		if _, name, ok := strings.Cut(head.Name, "/"); ok && name == "package.json" {
			out := map[string]any{}
			return out, json.NewDecoder(io.LimitReader(t, 16<<20)).Decode(&out)
		}
	}
}

// module answers as a module proxy does (Go Modules Reference, GOPROXY protocol).
func (s *Shop) module(w http.ResponseWriter, r *http.Request, asked string) {
	if want, ok := s.byPath["go:"+asked]; ok {
		s.file(w, r, want)
		return
	}
	folder, last := path.Split(asked)
	folder = strings.TrimSuffix(folder, "/")
	if last == "@latest" {
		folder += "/@v"
	}
	var have []string
	for _, x := range s.modules[folder] {
		if !x.Mod && !slices.Contains(have, x.Version) {
			have = append(have, x.Version)
		}
	}
	version.Newest(version.Go, have)
	name := strings.TrimSuffix(last, ".info")
	if plain, err := module.UnescapeVersion(name); err == nil {
		name = plain
	}
	switch {
	case len(have) == 0:
		s.absent(w, asked)
	case last == "list":
		fmt.Fprintln(w, strings.Join(have, "\n"))
	case last == "@latest":
		_ = json.NewEncoder(w).Encode(map[string]string{"Version": have[0]})
	case strings.HasSuffix(last, ".info") && slices.Contains(have, name):
		_ = json.NewEncoder(w).Encode(map[string]string{"Version": name})
	default:
		s.absent(w, asked)
	}
}
