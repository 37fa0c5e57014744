package source

import (
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/rlang"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// RLibraries is a repository of R packages ("R Installation and Administration", Setting
// up a package repository): src/contrib with its index PACKAGES and the older versions
// below Archive.
type RLibraries struct {
	base     fetch.Address
	archives string
	client   *fetch.Client
	name     string

	once sync.Once
	all  map[string][]rlang.Package // of the index
	err  error

	mu    sync.Mutex
	older map[string]*olderOnce
}

type olderOnce struct {
	once     sync.Once
	versions map[string]time.Time
	err      error
}

var rRepos = lazy.Regexp(`(?s)options\s*\([^)]*repos\s*=\s*(?:c\s*\(\s*)?(?:[A-Za-z.]+\s*=\s*)?["'](https?://[^"']+)["']`)

// findR finds the repository in R's own settings ("R documentation", options, repos): a
// person's profile, then the machine's.
func findR(m *Machine, _ declare.Source) (Address, bool) {
	var files []string
	if file := m.Getenv("R_PROFILE_USER"); file != "" {
		files = append(files, file)
	}
	if home := m.home(); home != "" {
		files = append(files, filepath.Join(home, ".Rprofile"))
	}
	if file := m.Getenv("R_PROFILE"); file != "" {
		files = append(files, file)
	}
	for _, file := range append(files, "/etc/R/Rprofile.site", "/usr/lib/R/etc/Rprofile.site", "/usr/local/lib/R/etc/Rprofile.site") {
		raw, err := disk.Read(file, 1<<20)
		if err != nil {
			continue
		}
		var kept []byte
		for line := range bytes.Lines(raw) {
			if !bytes.HasPrefix(bytes.TrimSpace(line), []byte("#")) {
				kept = append(kept, line...)
			}
		}
		if found := rRepos().FindSubmatch(kept); found != nil {
			return Address{URL: string(found[1]), Detail: file}, true
		}
	}
	return Address{}, false
}

func openR(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	base := strings.TrimSuffix(a.URL, "/") + "/"
	authorization := m.authorization(a, base)
	if u, err := url.Parse(base); err == nil && u.User != nil {
		u.User = nil
		base = u.String()
	}
	return &RLibraries{base: fetch.Address{URL: base, Authorization: authorization}, archives: m.Archives, client: c, name: d.Name, older: map[string]*olderOnce{}}
}

func (r *RLibraries) at(below string) fetch.Address {
	a := r.base
	a.URL += "src/contrib/" + below
	return a
}

// Probe reads the index.
func (r *RLibraries) Probe(ctx context.Context) error {
	_, err := r.index(ctx)
	return err
}

// index reads PACKAGES: the newest version of each package, and sometimes more.
func (r *RLibraries) index(ctx context.Context) (map[string][]rlang.Package, error) {
	r.once.Do(func() {
		for _, name := range []string{"PACKAGES.gz", "PACKAGES"} {
			_, err := r.client.Document(ctx, r.at(name), "", func(raw []byte) error {
				all, err := parseRIndex(raw)
				if err != nil {
					return fault.New(fault.ErrSource, "%s is not the index of an R repository: %v", r.at(name), err).
						Advise("The address of a repository is the folder above src/contrib. See: trammel sources")
				}
				r.all = all
				return nil
			})
			r.err = err
			if err == nil || !fetch.NotFound(err) {
				return
			}
		}
	})
	return r.all, r.err
}

// maxRIndex bounds an index, unpacked, in bytes.
const maxRIndex = 256 << 20

func parseRIndex(raw []byte) (map[string][]rlang.Package, error) {
	var in io.Reader = bytes.NewReader(raw)
	if bytes.HasPrefix(raw, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, err
		}
		in = io.LimitReader(z, maxRIndex)
	}
	out := map[string][]rlang.Package{}
	var bad error
	err := rlang.Paragraphs(in, func(f map[string]string) {
		p, err := rlang.ParsePackage(f)
		if err != nil {
			bad = err
			return
		}
		out[p.Name] = append(out[p.Name], p)
	})
	if err != nil {
		return nil, err
	}
	if len(out) == 0 && bad != nil {
		return nil, bad
	}
	return out, nil
}

// archived matches the links of a folder of older versions, with their dates where the
// server shows them.
var archived = lazy.Regexp(`href="(?:[^"]*/)?([A-Za-z][A-Za-z0-9.]*)_([0-9][0-9.-]*)\.tar\.gz"`)

// Older are the versions of a package below Archive, with their dates where the server's
// listing has them. A repository without such a folder has none.
func (r *RLibraries) Older(ctx context.Context, name string) (map[string]time.Time, error) {
	r.mu.Lock()
	once := r.older[name]
	if once == nil {
		once = &olderOnce{}
		r.older[name] = once
	}
	r.mu.Unlock()
	once.once.Do(func() {
		once.versions = map[string]time.Time{}
		raw, err := r.client.Document(ctx, r.at("Archive/"+name+"/"), "text/html", func([]byte) error { return nil })
		if err != nil && !fetch.NotFound(err) {
			once.err = err
			return
		}
		for line := range strings.Lines(string(raw)) {
			for _, m := range archived().FindAllStringSubmatch(line, -1) {
				if m[1] != name {
					continue
				}
				at := time.Time{}
				if i := dated().FindString(line); i != "" {
					at, _ = time.Parse("2006-01-02 15:04", i)
				}
				once.versions[m[2]] = at
			}
		}
	})
	return once.versions, once.err
}

var dated = lazy.Regexp(`\d{4}-\d{2}-\d{2} \d{2}:\d{2}`)

// Versions are the versions of a package, newest first: those of the index with what they
// need, and of the older ones that they are there.
func (r *RLibraries) Versions(ctx context.Context, name string) (list []rlang.Package, err error) {
	all, err := r.index(ctx)
	if err != nil {
		return nil, err
	}
	list = slices.Clone(all[name])
	slices.SortStableFunc(list, func(a, b rlang.Package) int { return rlang.Compare(b.Version, a.Version) })
	return list, nil
}

// Archive fetches the source package of a version and gives its digest: an R repository
// states none that holds, so that what was seen first is what is locked. path is where it
// is, below src/contrib.
func (r *RLibraries) Archive(ctx context.Context, name, v string) (file string, l lock.LibraryOf, err error) {
	base := name + "_" + v + ".tar.gz"
	for _, below := range []string{base, "Archive/" + name + "/" + base} {
		note := "r package " + r.at(below).URL
		if known := fetch.Digest(r.client.NoteOf(note)); known.Check() == nil {
			file := filepath.Join(r.archives, fetch.ArchiveName(known))
			if info, err := os.Stat(file); err == nil {
				return file, lock.LibraryOf{Name: name, Version: v, Path: base, Size: info.Size(), Digest: known}, nil
			}
		}
		file, digest, size, err := r.client.Seen(ctx, r.archives, r.at(below))
		if fetch.NotFound(err) {
			continue
		}
		if err != nil {
			return "", l, err
		}
		r.client.KeepNote(note, string(digest))
		return file, lock.LibraryOf{Name: name, Version: v, Path: base, Size: size, Digest: digest}, nil
	}
	return "", l, noPart(name, v, platform.Here())
}

// Find is where the file of a locked package can be had now, in the order to try: among
// the newest, then among the older ones.
func (r *RLibraries) Find(_ context.Context, l lock.LibraryOf) ([]fetch.Address, error) {
	return []fetch.Address{r.at(l.Path), r.at("Archive/" + l.Name + "/" + l.Path)}, nil
}

// Description reads what a source package says of itself.
func (r *RLibraries) Description(ctx context.Context, name, v string) (rlang.Package, error) {
	file, _, err := r.Archive(ctx, name, v)
	if err != nil {
		return rlang.Package{}, err
	}
	out, err := RDescription(file, name)
	if err != nil {
		return out, err
	}
	if out.Name != name || rlang.Compare(out.Version, v) != 0 {
		return out, &errMetadata{"says that it is " + out.Name + " " + out.Version}
	}
	return out, nil
}

// RDescription reads what a source package on disk says of itself.
func RDescription(file, name string) (rlang.Package, error) {
	raw, err := fileIn(file, name+"/DESCRIPTION")
	if err != nil {
		return rlang.Package{}, &errMetadata{"has no DESCRIPTION that can be read"}
	}
	var out rlang.Package
	bad := error(nil)
	if err := rlang.Paragraphs(bytes.NewReader(raw), func(f map[string]string) {
		if out.Name == "" {
			out, bad = rlang.ParsePackage(f)
		}
	}); err != nil {
		bad = err
	}
	if bad != nil {
		return out, &errMetadata{"has a DESCRIPTION that cannot be read"}
	}
	return out, nil
}

// Releases lists the versions of a package.
func (r *RLibraries) Releases(ctx context.Context, from card.From, _ []platform.Platform) ([]Release, error) {
	list, err := r.Versions(ctx, from.Package)
	if err != nil {
		return nil, err
	}
	older, err := r.Older(ctx, from.Package)
	if err != nil {
		return nil, err
	}
	var out []Release
	for _, p := range list {
		out = append(out, Release{Version: p.Version})
	}
	for v, at := range older {
		if !slices.ContainsFunc(out, func(x Release) bool { return x.Version == v }) {
			out = append(out, Release{v, at})
		}
	}
	if len(out) == 0 {
		return nil, noPart(from.Package, "latest", platform.Here())
	}
	return sortReleases(version.Dotted, out), nil
}

// Parts is not for a repository of libraries: they come in sets.
func (r *RLibraries) Parts(context.Context, card.From, string, platform.Platform, time.Time) (map[string]lock.Part, time.Time, error) {
	return nil, time.Time{}, fault.New(fault.ErrUsage, "the source %q has libraries, which are declared in a set: [libraries.NAME]", r.name)
}

// Where is not for a repository of libraries.
func (r *RLibraries) Where(lock.Part) ([]fetch.Address, error) {
	return nil, fault.New(fault.ErrUsage, "the source %q has libraries, which come in sets", r.name)
}
