package source

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/html"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Wheels is an index of Python packages: the Simple Repository API in its two forms
// (PEP 503, HTML; PEP 691, JSON), with metadata files (PEP 658 and 714), yanked files (PEP
// 592), sizes and dates (PEP 700).
type Wheels struct {
	indexes  []fetch.Address
	mix      bool
	archives string
	client   *fetch.Client
	name     string

	mu       sync.Mutex
	projects map[string]*projectOnce
	metadata map[string]*metadataOnce
}

type projectOnce struct {
	once sync.Once
	p    *Project
	err  error
}

type metadataOnce struct {
	once sync.Once
	m    *python.Metadata
	err  error
}

// Project is what an index has of one name.
type Project struct {
	Name  string
	Files []ProjectFile
}

// ProjectFile is one file of a project.
type ProjectFile struct {
	Name     string
	Address  fetch.Address
	Digest   fetch.Digest
	Size     int64     // bytes; 0 where the index does not say
	Uploaded time.Time // zero where the index does not say
	Python   string    // its Requires-Python
	Yanked   bool
	Why      string // it was yanked

	Metadata       bool         // its metadata can be had by itself
	MetadataDigest fetch.Digest // of that; "" where the index does not say
}

// simpleForms are what this program reads, the best first (PEP 691, "Version + Format
// Selection").
const simpleForms = "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html; q=0.2, text/html; q=0.01"

// findWheel finds the index in pip's own settings (pip documentation, "Configuration"): the
// environment, then the files, the person's before the machine's.
func findWheel(m *Machine, _ declare.Source) (Address, bool) {
	join := func(first, more string) string {
		return strings.Join(append([]string{first}, strings.Fields(more)...), ",")
	}
	extra := m.Getenv("PIP_EXTRA_INDEX_URL")
	if v := m.Getenv("PIP_INDEX_URL"); v != "" {
		return Address{URL: join(v, extra), Detail: "PIP_INDEX_URL in the environment"}, true
	}
	var files []string
	if file := m.Getenv("PIP_CONFIG_FILE"); file != "" {
		files = append(files, file)
	}
	if home := m.home(); home != "" {
		config := m.Getenv("XDG_CONFIG_HOME")
		if config == "" {
			config = filepath.Join(home, ".config")
		}
		files = append(files, filepath.Join(config, "pip/pip.conf"), filepath.Join(home, ".pip/pip.conf"), filepath.Join(home, "Library/Application Support/pip/pip.conf"))
	}
	files = append(files, "/etc/xdg/pip/pip.conf", "/etc/pip.conf")
	for _, file := range files {
		settings := m.pipConf(file)
		if v := settings["index-url"]; v != "" {
			if extra == "" {
				extra = settings["extra-index-url"]
			}
			return Address{URL: join(v, extra), Detail: file}, true
		}
	}
	return Address{}, false
}

// pipConf reads the sections [global] and [install] of a pip.conf.
func (m *Machine) pipConf(file string) map[string]string {
	raw, err := disk.Read(file, 1<<20)
	if err != nil {
		return nil
	}
	out := map[string]string{}
	section, last := "", ""
	for line := range strings.Lines(string(raw)) {
		text := strings.TrimSpace(line)
		switch {
		case text == "" || text[0] == '#' || text[0] == ';':
		case text[0] == '[':
			section, last = strings.Trim(text, "[]"), ""
		case section != "global" && section != "install":
		case (line[0] == ' ' || line[0] == '\t') && last != "":
			out[last] += " " + text
		default:
			i := strings.IndexAny(text, "=:")
			if i > 0 {
				last = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(text[:i])), "_", "-")
				out[last] = strings.TrimSpace(text[i+1:])
			}
		}
	}
	return out
}

func openWheel(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	w := &Wheels{client: c, mix: d.Mix, name: d.Name, archives: m.Archives, projects: map[string]*projectOnce{}, metadata: map[string]*metadataOnce{}}
	for one := range strings.SplitSeq(a.URL, ",") {
		base := strings.TrimSuffix(strings.TrimSpace(one), "/") + "/"
		at := a
		at.URL = one
		authorization := m.authorization(at, base)
		if u, err := url.Parse(base); err == nil && u.User != nil {
			u.User = nil
			base = u.String()
		}
		w.indexes = append(w.indexes, fetch.Address{URL: base, Authorization: authorization})
	}
	return w
}

// Probe asks for the project pip, which an index of any use has; one that does not know it
// answers too.
func (w *Wheels) Probe(ctx context.Context) error {
	for _, index := range w.indexes {
		_, err := w.page(ctx, index, "pip")
		if err != nil && !fetch.NotFound(err) {
			return err
		}
	}
	return nil
}

// Project reads what the source has of a name, which is normalized. The first index that
// has the name decides, unless the declaration mixes them. An error for which
// fetch.NotFound holds means that no index has it.
func (w *Wheels) Project(ctx context.Context, name string) (*Project, error) {
	w.mu.Lock()
	once := w.projects[name]
	if once == nil {
		once = &projectOnce{}
		w.projects[name] = once
	}
	w.mu.Unlock()
	once.once.Do(func() { once.p, once.err = w.read(ctx, name) })
	return once.p, once.err
}

func (w *Wheels) read(ctx context.Context, name string) (*Project, error) {
	out := &Project{Name: name}
	var missing error
	for _, index := range w.indexes {
		files, err := w.page(ctx, index, name)
		if fetch.NotFound(err) {
			missing = err
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			if !slices.ContainsFunc(out.Files, func(o ProjectFile) bool { return o.Name == f.Name }) {
				out.Files = append(out.Files, f)
			}
		}
		if !w.mix {
			return out, nil
		}
		missing = nil
	}
	if len(out.Files) == 0 && missing != nil {
		return nil, missing
	}
	return out, nil
}

// page reads the page of a project in one index.
func (w *Wheels) page(ctx context.Context, index fetch.Address, name string) ([]ProjectFile, error) {
	at := fetch.Address{URL: index.URL + name + "/", Authorization: index.Authorization}
	var files []ProjectFile
	_, err := w.client.Document(ctx, at, simpleForms, func(raw []byte) (err error) {
		if text := bytes.TrimSpace(raw); len(text) > 0 && text[0] == '{' {
			files, err = parseSimpleJSON(at.URL, text)
		} else {
			files, err = parseSimpleHTML(at.URL, raw)
		}
		if err != nil {
			return fault.New(fault.ErrSource, "%s is not the page of a project in a Python index: %v", at, err).
				Advise("Is this the address of the Simple Repository API? It often ends in /simple. See: trammel sources")
		}
		return nil
	})
	for i, f := range files {
		if sameHost(f.Address.URL, index.URL) {
			files[i].Address.Authorization = index.Authorization
		}
	}
	return files, err
}

func sameHost(a, b string) bool {
	x, err := url.Parse(a)
	y, err2 := url.Parse(b)
	return err == nil && err2 == nil && x.Scheme == y.Scheme && x.Host == y.Host
}

// hashes picks the strongest digest of a table that this program knows.
func hashes(table map[string]string) fetch.Digest {
	for _, algorithm := range []string{"sha512", "sha384", "sha256"} {
		if v := table[algorithm]; v != "" {
			if d := fetch.Digest(algorithm + ":" + strings.ToLower(v)); d.Check() == nil {
				return d
			}
		}
	}
	return ""
}

// parseSimpleJSON reads a page in JSON (PEP 691, "Project Detail").
func parseSimpleJSON(base string, raw []byte) ([]ProjectFile, error) {
	var doc struct {
		Meta struct {
			Version string `json:"api-version"`
		} `json:"meta"`
		Files []struct {
			Name   string            `json:"filename"`
			URL    string            `json:"url"`
			Hashes map[string]string `json:"hashes"`
			Python string            `json:"requires-python"`
			Core   json.RawMessage   `json:"core-metadata"`
			Dist   json.RawMessage   `json:"dist-info-metadata"`
			Yanked json.RawMessage   `json:"yanked"`
			Size   int64             `json:"size"`
			Upload string            `json:"upload-time"`
		} `json:"files"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, err
	}
	if major, _, _ := strings.Cut(doc.Meta.Version, "."); major != "1" {
		return nil, fmt.Errorf("its api-version is %q, and this program reads 1", doc.Meta.Version)
	}
	var out []ProjectFile
	for _, f := range doc.Files {
		p := ProjectFile{Name: f.Name, Digest: hashes(f.Hashes), Size: max(0, f.Size), Python: f.Python}
		p.Uploaded, _ = time.Parse(time.RFC3339, f.Upload)
		meta := f.Core
		if len(meta) == 0 {
			meta = f.Dist
		}
		var table map[string]string
		if json.Unmarshal(meta, &table) == nil && table != nil {
			p.Metadata, p.MetadataDigest = true, hashes(table)
		} else {
			p.Metadata = string(meta) == "true"
		}
		if text := string(f.Yanked); text != "" && text != "false" && text != "null" {
			p.Yanked = true
			_ = json.Unmarshal(f.Yanked, &p.Why)
		}
		if err := p.at(base, f.URL); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// parseSimpleHTML reads a page in HTML: an anchor for each file (PEP 503).
func parseSimpleHTML(base string, raw []byte) ([]ProjectFile, error) {
	var out []ProjectFile
	tags := 0
	tokens := html.NewTokenizer(bytes.NewReader(raw))
	var open *ProjectFile
	for {
		switch kind := tokens.Next(); kind {
		case html.ErrorToken:
			if err := tokens.Err(); err != io.EOF {
				return nil, err
			}
			if tags == 0 {
				return nil, errors.New("it is neither JSON nor HTML")
			}
			return out, nil
		case html.TextToken:
			if open != nil {
				open.Name += string(tokens.Text())
			}
		case html.EndTagToken:
			if name, _ := tokens.TagName(); string(name) == "a" && open != nil {
				if open.Name = strings.TrimSpace(open.Name); open.Name != "" && !strings.Contains(open.Name, "/") {
					out = append(out, *open)
				}
				open = nil
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := tokens.TagName()
			tags++
			attributes := map[string]string{}
			for more {
				var key, value []byte
				key, value, more = tokens.TagAttr()
				attributes[string(key)] = string(value)
			}
			switch string(name) {
			case "base":
				if u, err := url.Parse(base); err == nil && attributes["href"] != "" {
					if b, err := u.Parse(attributes["href"]); err == nil {
						base = b.String()
					}
				}
			case "meta":
				if v := attributes["content"]; attributes["name"] == "pypi:repository-version" && v != "" && !strings.HasPrefix(v, "1.") {
					return nil, fmt.Errorf("its repository version is %s, and this program reads 1", v)
				}
			case "a":
				f := ProjectFile{Python: attributes["data-requires-python"]}
				meta, has := attributes["data-core-metadata"]
				if !has {
					meta, has = attributes["data-dist-info-metadata"]
				}
				if has {
					f.Metadata = true
					algorithm, value, _ := strings.Cut(meta, "=")
					f.MetadataDigest = hashes(map[string]string{algorithm: value})
				}
				f.Why, f.Yanked = attributes["data-yanked"]
				if err := f.at(base, attributes["href"]); err != nil {
					return nil, err
				}
				open = &f
			}
		}
	}
}

// at resolves the address of a file; in HTML its digest is in the fragment.
func (f *ProjectFile) at(base, href string) error {
	u, err := url.Parse(base)
	if err != nil {
		return err
	}
	full, err := u.Parse(href)
	if err != nil || full.Scheme != "http" && full.Scheme != "https" {
		return fmt.Errorf("the address %q of a file cannot be used", href)
	}
	if algorithm, value, ok := strings.Cut(full.Fragment, "="); ok && f.Digest == "" {
		f.Digest = hashes(map[string]string{algorithm: value})
	}
	full.Fragment = ""
	full.User = nil
	f.Address.URL = full.String()
	if f.Name == "" && path.Base(full.Path) != "/" {
		return nil // HTML: the text of the anchor is the name
	}
	return nil
}

// Metadata is the core metadata of a file, which must be of the project and version: by
// itself, out of the wheel by ranges, or out of the whole file.
func (w *Wheels) Metadata(ctx context.Context, f ProjectFile) (*python.Metadata, error) {
	key := f.Name + " " + string(f.Digest)
	w.mu.Lock()
	once := w.metadata[key]
	if once == nil {
		once = &metadataOnce{}
		w.metadata[key] = once
	}
	w.mu.Unlock()
	once.once.Do(func() { once.m, once.err = w.readMetadata(ctx, f) })
	return once.m, once.err
}

// errMetadata is metadata that is there and cannot be taken.
type errMetadata struct{ what string }

func (e *errMetadata) Error() string { return e.what }

// Odd is what is wrong with the metadata of a file, when an error says that.
func Odd(err error) (string, bool) {
	var odd *errMetadata
	if errors.As(err, &odd) {
		return odd.what, true
	}
	return "", false
}

func (w *Wheels) readMetadata(ctx context.Context, f ProjectFile) (*python.Metadata, error) {
	wheel, isWheel := python.ParseWheel(f.Name)
	if f.Metadata {
		at := f.Address
		at.URL += ".metadata"
		raw, err := w.client.Document(ctx, at, "", func(raw []byte) error {
			if f.MetadataDigest == "" {
				return nil
			}
			h, _ := f.MetadataDigest.Hasher()
			h.Write(raw)
			if _, want := f.MetadataDigest.Cut(); fmt.Sprintf("%x", h.Sum(nil)) != want {
				return fault.New(fault.ErrSource, "%s has other bytes than the index states", at).Advise("Nothing of it was used. Try later, or another index.")
			}
			return nil
		})
		if err == nil {
			return checkedMetadata(raw, wheel, isWheel)
		}
		if !fetch.NotFound(err) {
			return nil, err
		}
	}
	// It never changes under its digest, so it is kept.
	note := "metadata of " + string(f.Digest)
	if raw := w.client.NoteOf(note); raw != "" && f.Digest != "" {
		return checkedMetadata([]byte(raw), wheel, isWheel)
	}
	var raw []byte
	err := fetch.ErrWhole
	if isWheel {
		raw, err = w.fromRanges(ctx, f)
	}
	if errors.Is(err, fetch.ErrWhole) {
		raw, err = w.fromWhole(ctx, f)
	}
	if err != nil {
		return nil, err
	}
	m, err := checkedMetadata(raw, wheel, isWheel)
	if err == nil {
		w.client.KeepNote(note, string(raw))
	}
	return m, err
}

func checkedMetadata(raw []byte, wheel python.Wheel, isWheel bool) (*python.Metadata, error) {
	m, err := python.ParseMetadata(raw)
	if err != nil {
		return nil, &errMetadata{"has metadata that cannot be read"}
	}
	if isWheel && (m.Name != wheel.Name || version.PEP440.Compare(m.Version, wheel.Version) != 0) {
		return nil, &errMetadata{fmt.Sprintf("has the metadata of %s %s", m.Name, m.Version)}
	}
	if len(m.Odd) > 0 {
		return nil, &errMetadata{fmt.Sprintf("has metadata that cannot be read: %.80q", m.Odd[0])}
	}
	return m, nil
}

// fromRanges reads METADATA out of a wheel without fetching the rest.
func (w *Wheels) fromRanges(ctx context.Context, f ProjectFile) ([]byte, error) {
	ranged, err := w.client.Ranges(ctx, f.Address)
	if err != nil {
		return nil, err
	}
	return metadataIn(ranged, ranged.Size)
}

// maxMetadata bounds a METADATA file, in bytes.
const maxMetadata = 16 << 20

func metadataIn(file io.ReaderAt, size int64) ([]byte, error) {
	z, err := zip.NewReader(file, size)
	if err != nil {
		return nil, &errMetadata{"is no wheel that can be read"}
	}
	for _, x := range z.File {
		if dir, name := path.Split(x.Name); name == "METADATA" && strings.HasSuffix(dir, ".dist-info/") && strings.Count(dir, "/") == 1 {
			in, err := x.Open()
			if err != nil {
				return nil, err
			}
			defer in.Close()
			return io.ReadAll(io.LimitReader(in, maxMetadata))
		}
	}
	return nil, &errMetadata{"is a wheel without METADATA"}
}

// fromWhole fetches a file, which is needed later anyhow, and reads its metadata.
func (w *Wheels) fromWhole(ctx context.Context, f ProjectFile) ([]byte, error) {
	if f.Digest == "" {
		return nil, noDigest(f)
	}
	archive, err := w.client.Archive(ctx, w.archives, fetch.Download{Name: f.Name, From: f.Address, Size: f.Size, Digest: f.Digest, Said: "the index"})
	if err != nil {
		return nil, err
	}
	in, err := os.Open(archive)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	if strings.HasSuffix(f.Name, ".whl") {
		return metadataIn(in, info.Size())
	}
	return packageInfo(in)
}

func noDigest(f ProjectFile) error {
	return fault.New(fault.ErrSource, "the index states no digest of %s, so that nothing fixes its bytes", f.Name).
		Advise("An index gives one behind each address (#sha256=…, PEP 503) or as hashes (PEP 691). Have it from an index that does.")
}

// packageInfo reads PKG-INFO out of a source distribution. It counts when it says what a
// wheel made of it would: from metadata version 2.2, with dependencies that are not dynamic
// (PEP 643).
func packageInfo(in io.Reader) ([]byte, error) {
	raw, err := memberOf(in, func(name string) bool { return strings.Count(name, "/") == 1 && path.Base(name) == "PKG-INFO" })
	if err != nil {
		return nil, &errMetadata{"is a source distribution without PKG-INFO"}
	}
	head, _, _ := strings.Cut(string(raw), "\n\n")
	stated := ""
	for line := range strings.Lines(head) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		value = strings.TrimSpace(value)
		if strings.EqualFold(name, "Metadata-Version") {
			stated = value
		}
		if strings.EqualFold(name, "Dynamic") && strings.EqualFold(value, "Requires-Dist") {
			stated = ""
			break
		}
	}
	if stated == "" || version.Dotted.Compare(stated, "2.2") < 0 {
		return nil, &errMetadata{"is a source distribution that does not state its dependencies (PEP 643)"}
	}
	return raw, nil
}

// memberOf is the first file of a tar.gz whose name fits.
func memberOf(in io.Reader, fits func(name string) bool) ([]byte, error) {
	z, err := gzip.NewReader(in)
	if err != nil {
		return nil, err
	}
	for t := tar.NewReader(z); ; {
		h, err := t.Next()
		if err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg && fits(strings.TrimPrefix(h.Name, "./")) {
			return io.ReadAll(io.LimitReader(t, maxMetadata))
		}
	}
}

// fileIn is one file of a tar.gz on disk.
func fileIn(archive, name string) ([]byte, error) {
	in, err := os.Open(archive)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return memberOf(in, func(n string) bool { return n == name })
}

// Find is where the file of a locked package can be had now, in the order to try.
func (w *Wheels) Find(ctx context.Context, l lock.LibraryOf) ([]fetch.Address, error) {
	p, err := w.Project(ctx, l.Name)
	if err != nil {
		return nil, err
	}
	for _, f := range p.Files {
		if f.Name == l.Path {
			return []fetch.Address{f.Address}, nil
		}
	}
	return nil, fault.New(fault.ErrSource, "the source %q does not have %s any more", w.name, l.Path).
		Advise("Take what it has now: trammel lock --renew, or name an index that keeps its files.")
}

// Releases lists the versions of a project that files are there of.
func (w *Wheels) Releases(ctx context.Context, from card.From, _ []platform.Platform) ([]Release, error) {
	p, err := w.Project(ctx, python.Normal(from.Package))
	if err != nil {
		return nil, err
	}
	dates := map[string]time.Time{}
	for _, f := range p.Files {
		v, ok := f.Version(p.Name)
		if !ok || f.Yanked {
			continue
		}
		if old, had := dates[v]; !had || !f.Uploaded.IsZero() && (old.IsZero() || f.Uploaded.Before(old)) {
			dates[v] = f.Uploaded
		}
	}
	var out []Release
	for v, at := range dates {
		out = append(out, Release{v, at})
	}
	return sortReleases(version.PEP440, out), nil
}

// Version is the version that a file is of.
func (f ProjectFile) Version(project string) (string, bool) {
	if w, ok := python.ParseWheel(f.Name); ok {
		return w.Version, w.Name == project
	}
	return python.ParseSdist(f.Name, project)
}

// Parts is not for an index of libraries: they come in sets.
func (w *Wheels) Parts(context.Context, card.From, string, platform.Platform, time.Time) (map[string]lock.Part, time.Time, error) {
	return nil, time.Time{}, fault.New(fault.ErrUsage, "the source %q has libraries, which are declared in a set: [libraries.NAME]", w.name)
}

// Where is not for an index of libraries.
func (w *Wheels) Where(lock.Part) ([]fetch.Address, error) {
	return nil, fault.New(fault.ErrUsage, "the source %q has libraries, which come in sets", w.name)
}
