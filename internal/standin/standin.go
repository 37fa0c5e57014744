// Package standin is a small server that speaks the real protocols of package
// registries, for tests that must not need a network: an npm registry, a Go
// module proxy with a signed checksum database, and plain files. It serves what
// it is given, counts what it is asked, and misbehaves on demand.
package standin

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/mod/sumdb"
	"golang.org/x/mod/sumdb/dirhash"
	"golang.org/x/mod/sumdb/note"
)

// Fault is a way to misbehave.
type Fault string

// The faults.
const (
	Truncate   Fault = "truncated"      // half the bytes, then the connection ends
	CutOnce    Fault = "cut once"       // Truncate for the first request only
	WrongBytes Fault = "wrong bytes"    // the right number of other bytes
	Slow       Fault = "slow"           // a pause in the middle
	Trickle    Fault = "trickle"        // many small pieces, for killing in between
	NotFound   Fault = "404"            //
	Broken     Fault = "500"            //
	Busy       Fault = "429 once"       // 429 with Retry-After for the first request
	Empty      Fault = "nothing"        // 200 and no byte
	Endless    Fault = "endless"        // more bytes than declared, without a length
	Loop       Fault = "redirect loop"  //
	Elsewhere  Fault = "elsewhere"      // a redirect to the same server by its other name
	RangeLies  Fault = "range lies"     // 206 with bytes from somewhere else
	Refused    Fault = "403 with words" //
	NotJSON    Fault = "not json"       // a page for people
)

// File is one file of a package.
type File struct {
	Name, Content string
	Mode          int64  // 0 means 0644
	Link          string // target, for a link of a Deb or a tar archive
}

// Server is one stand-in with all its registries.
type Server struct {
	http *httptest.Server

	mu       sync.Mutex
	blobs    map[string][]byte // path → bytes
	packages map[string]map[string]any
	modules  map[string]map[string][]byte // module path → version → zip
	faults   map[string]Fault             // by a part of the path
	hits     map[string]int
	served   map[string]int64
	sums     http.Handler
	sumKey   string
	more     map[string]any       // package@version → fields of its package.json
	dates    map[string]time.Time // module path@version → when it was published
	python   map[string]*pythonIndex

	rPackages map[string][]RPackage
	kept      []kept              // what archives of snapshots have had
	states    map[string][]string // archive → moments whose states are kept
	Whole     bool                // it gives no ranges
	Day       time.Time           // when what is put next was published
}

// New starts a server on loopback. Close ends it.
func New() *Server {
	s := &Server{
		blobs: map[string][]byte{}, packages: map[string]map[string]any{}, modules: map[string]map[string][]byte{},
		faults: map[string]Fault{}, hits: map[string]int{}, served: map[string]int64{},
		more: map[string]any{}, python: map[string]*pythonIndex{}, rPackages: map[string][]RPackage{}, states: map[string][]string{}, dates: map[string]time.Time{}, Day: time.Date(2026, 2, 3, 0, 0, 0, 0, time.UTC),
	}
	signer, verifier, err := note.GenerateKey(nil, "sums.heronweir.example")
	if err != nil {
		panic(err)
	}
	s.sumKey = verifier
	s.sums = sumdb.NewServer(sumdb.NewTestServer(signer, s.goSum))
	s.http = httptest.NewServer(http.HandlerFunc(s.serve))
	return s
}

// Close ends the server.
func (s *Server) Close() { s.http.Close() }

// NPM is the address of the npm registry.
func (s *Server) NPM() string { return s.http.URL + "/npm/" }

// Proxy is the address of the module proxy.
func (s *Server) Proxy() string { return s.http.URL + "/proxy" }

// Files is the address of plain files.
func (s *Server) Files() string { return s.http.URL + "/files/" }

// SumDB is a value for GOSUMDB: the database's name and key.
func (s *Server) SumDB() string { return s.sumKey }

// Fail makes every request whose path contains part misbehave; an empty fault
// mends it.
func (s *Server) Fail(part string, f Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f == "" {
		delete(s.faults, part)
	} else {
		s.faults[part] = f
	}
}

// Hits is how often a path that contains part was asked for.
func (s *Server) Hits(part string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for path, count := range s.hits {
		if strings.Contains(path, part) {
			n += count
		}
	}
	return n
}

// Served is how many bytes of bodies went out for paths that contain part.
func (s *Server) Served(part string) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	var n int64
	for path, count := range s.served {
		if strings.Contains(path, part) {
			n += count
		}
	}
	return n
}

// PutFile publishes a plain file.
func (s *Server) PutFile(name string, content []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.blobs["/files/"+name] = content
}

// PutNPM publishes a version of an npm package. engines may be empty.
func (s *Server) PutNPM(name, version string, published time.Time, engines map[string]string, files ...File) {
	for i := range files {
		files[i].Name = "package/" + files[i].Name
	}
	s.PutTarball(name, version, published, engines, TarGz(files...))
}

// Describe adds fields of package.json to what the registry says of a version that
// is put afterwards: dependencies, bin, os and the like.
func (s *Server) Describe(name, version string, fields map[string]any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.more[name+"@"+version] = fields
}

// PutTarball is PutNPM with an archive made elsewhere.
func (s *Server) PutTarball(name, version string, published time.Time, engines map[string]string, archive []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	path := name + "/-/" + name[strings.LastIndexByte(name, '/')+1:] + "-" + version + ".tgz"
	s.blobs["/npm/"+path] = archive
	doc := s.packages[name]
	if doc == nil {
		doc = map[string]any{"name": name, "versions": map[string]any{}, "time": map[string]any{}, "dist-tags": map[string]any{}}
		s.packages[name] = doc
	}
	sum := sha512.Sum512(archive)
	more, _ := s.more[name+"@"+version].(map[string]any)
	entry := map[string]any{
		"name": name, "version": version, "engines": engines,
		"dist": map[string]any{"tarball": s.NPM() + path, "integrity": "sha512-" + base64.StdEncoding.EncodeToString(sum[:])},
	}
	maps.Copy(entry, more)
	doc["versions"].(map[string]any)[version] = entry
	doc["time"].(map[string]any)[version] = published.UTC().Format(time.RFC3339)
}

// PutModule publishes a version of a module; names are without the zip's prefix.
func (s *Server) PutModule(path, version string, files ...File) {
	for i := range files {
		files[i].Name = path + "@" + version + "/" + files[i].Name
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.modules[path] == nil {
		s.modules[path] = map[string][]byte{}
	}
	archive := Zip(files...)
	s.modules[path][version] = archive
	s.dates[path+"@"+version] = s.Day
	s.blobs["/proxy/"+path+"/@v/"+version+".zip"] = archive
}

// goSum is what the checksum database knows of a module version.
func (s *Server) goSum(path, version string) ([]byte, error) {
	s.mu.Lock()
	archive, ok := s.modules[path][version]
	s.mu.Unlock()
	if !ok {
		return nil, fmt.Errorf("no such module")
	}
	sum, err := hashZip(archive)
	if err != nil {
		return nil, err
	}
	modSum, err := dirhash.Hash1([]string{"go.mod"}, func(string) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(goMod(path, version, archive))), nil
	})
	if err != nil {
		return nil, err
	}
	return fmt.Appendf(nil, "%s %s %s\n%s %s/go.mod %s\n", path, version, sum, path, version, modSum), nil
}

// goMod is the go.mod of a module's zip, or the one that a module without has.
func goMod(path, version string, archive []byte) []byte {
	r, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	must(err)
	f, err := r.Open(path + "@" + version + "/go.mod")
	if err != nil {
		return []byte("module " + path + "\n")
	}
	defer f.Close()
	b, err := io.ReadAll(f)
	must(err)
	return b
}

func hashZip(archive []byte) (string, error) {
	r, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		return "", err
	}
	var names []string
	for _, f := range r.File {
		names = append(names, f.Name)
	}
	return dirhash.Hash1(names, func(name string) (io.ReadCloser, error) { return r.Open(name) })
}

// TarGz packs files into a gzipped tar archive.
func TarGz(files ...File) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	t := tar.NewWriter(z)
	for _, f := range files {
		mode := f.Mode
		if mode == 0 {
			mode = 0o644
		}
		header := &tar.Header{Name: f.Name, Mode: mode, Size: int64(len(f.Content)), Typeflag: tar.TypeReg}
		if f.Link != "" {
			header.Typeflag, header.Linkname = tar.TypeSymlink, f.Link
		}
		must(t.WriteHeader(header))
		_, err := t.Write([]byte(f.Content))
		must(err)
	}
	must(t.Close())
	must(z.Close())
	return b.Bytes()
}

// Zip packs files into a zip archive whose entries state no modes, as module
// proxies serve them.
func Zip(files ...File) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		w, err := z.Create(f.Name)
		must(err)
		_, err = w.Write([]byte(f.Content))
		must(err)
	}
	must(z.Close())
	return b.Bytes()
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	path, _ := url.PathUnescape(r.URL.EscapedPath())
	s.mu.Lock()
	first := s.hits[path] == 0
	asks := r.Method != http.MethodHead // how large something is, is no download
	if asks {
		s.hits[path]++
	}
	var fault Fault
	for part, f := range s.faults {
		if asks && strings.Contains(path, part) {
			fault = f
		}
	}
	s.mu.Unlock()
	w = &counting{w, s, path}
	switch fault {
	case NotFound:
		http.Error(w, "no such thing", http.StatusNotFound)
		return
	case Broken:
		http.Error(w, "out of order", http.StatusInternalServerError)
		return
	case Busy:
		if first {
			w.Header().Set("Retry-After", "0")
			http.Error(w, "later", http.StatusTooManyRequests)
			return
		}
	case Elsewhere:
		if strings.HasPrefix(r.Host, "127.") {
			http.Redirect(w, r, "http://"+strings.Replace(r.Host, "127.0.0.1", "localhost", 1)+r.URL.Path, http.StatusFound)
			return
		}
	case Loop:
		http.Redirect(w, r, r.URL.Path, http.StatusFound)
		return
	case Refused:
		http.Error(w, "this version is not available", http.StatusForbidden)
		return
	case NotJSON:
		fmt.Fprintln(w, "<html>Please log in</html>")
		return
	}
	if below, ok := strings.CutPrefix(path, "/proxy/sumdb/"); ok {
		_, rest, _ := strings.Cut(below, "/")
		r2 := r.Clone(r.Context())
		if rest == "supported" {
			return
		}
		r2.URL.Path = "/" + rest
		answer := httptest.NewRecorder()
		s.sums.ServeHTTP(answer, r2)
		if answer.Code != http.StatusOK {
			http.Error(w, answer.Body.String(), answer.Code)
			return
		}
		s.send(w, r, answer.Body.Bytes(), fault, first)
		return
	}
	if body, ok := s.keptLists(path); ok {
		s.send(w, r, body, fault, first)
		return
	}
	if at, ok := s.stateOf(path); ok {
		http.Redirect(w, r, at, http.StatusFound)
		return
	}
	if s.servePython(w, r, path, fault, first) {
		return
	}
	body, ok := s.document(path)
	if !ok {
		http.NotFound(w, r)
		return
	}
	s.send(w, r, body, fault, first)
}

// document finds what a path names: a blob, or a document made of what was put.
func (s *Server) document(path string) ([]byte, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b, ok := s.blobs[path]; ok {
		return b, true
	}
	if name, ok := strings.CutPrefix(path, "/npm/"); ok {
		doc, ok := s.packages[name]
		if !ok {
			return nil, false
		}
		b, err := json.Marshal(doc)
		must(err)
		return b, true
	}
	if rest, ok := strings.CutPrefix(path, "/proxy/"); ok {
		module, file, _ := strings.Cut(rest, "/@v/")
		versions := s.modules[module]
		if file == "list" && versions != nil {
			var list []string
			for v := range versions {
				list = append(list, v)
			}
			slices.Sort(list)
			return []byte(strings.Join(list, "\n") + "\n"), true
		}
		if v, ok := strings.CutSuffix(file, ".mod"); ok && versions[v] != nil {
			return goMod(module, v, versions[v]), true
		}
		if v, ok := strings.CutSuffix(file, ".info"); ok && versions[v] != nil {
			return fmt.Appendf(nil, `{"Version":%q,"Time":%q}`, v, s.dates[module+"@"+v].Format(time.RFC3339)), true
		}
	}
	return nil, false
}

// send answers with a body, whole or from a range, well or badly.
func (s *Server) send(w http.ResponseWriter, r *http.Request, body []byte, fault Fault, first bool) {
	tag := `"` + strconv.Itoa(len(body)) + "-" + fmt.Sprintf("%x", sha512.Sum512(body))[:16] + `"`
	w.Header().Set("ETag", tag)
	w.Header().Set("Accept-Ranges", "bytes")
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	total, start := len(body), 0
	status := http.StatusOK
	if spec, ok := strings.CutPrefix(r.Header.Get("Range"), "bytes="); ok && (r.Header.Get("If-Range") == "" || r.Header.Get("If-Range") == tag) && !s.Whole {
		from, to, _ := strings.Cut(spec, "-")
		end := total - 1
		if start, _ = strconv.Atoi(from); from == "" { // the last so many
			last, _ := strconv.Atoi(to)
			start = max(0, total-last)
		} else if n, err := strconv.Atoi(to); err == nil {
			end = min(end, n)
		}
		if start >= total {
			w.WriteHeader(http.StatusRequestedRangeNotSatisfiable)
			return
		}
		status = http.StatusPartialContent
		w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", start, end, total))
		body = body[start : end+1]
		if fault == RangeLies {
			body = bytes.Repeat([]byte("x"), len(body))
		}
	}
	if fault == WrongBytes {
		body = bytes.Repeat([]byte("x"), len(body))
	}
	if fault == Empty {
		body = nil
	}
	if fault != Endless {
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	}
	w.WriteHeader(status)
	half := len(body) / 2
	switch {
	case fault == Truncate, (fault == CutOnce || fault == RangeLies) && first:
		_, _ = w.Write(body[:half])
		panic(http.ErrAbortHandler)
	case fault == Slow:
		_, _ = w.Write(body[:half])
		flush(w)
		time.Sleep(300 * time.Millisecond)
		_, _ = w.Write(body[half:])
	case fault == Trickle:
		for piece := range slices.Chunk(body, max(len(body)/40, 1)) {
			_, _ = w.Write(piece)
			flush(w)
			time.Sleep(5 * time.Millisecond)
		}
	case fault == Endless:
		_, _ = w.Write(body)
		for range 64 {
			_, _ = w.Write(bytes.Repeat([]byte("x"), 64<<10))
		}
	default:
		_, _ = w.Write(body)
	}
}

func flush(w http.ResponseWriter) {
	if c, ok := w.(*counting); ok {
		w = c.ResponseWriter
	}
	w.(http.Flusher).Flush()
}

// counting counts the bytes of bodies.
type counting struct {
	http.ResponseWriter
	s    *Server
	path string
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.s.mu.Lock()
	c.s.served[c.path] += int64(n)
	c.s.mu.Unlock()
	return n, err
}
