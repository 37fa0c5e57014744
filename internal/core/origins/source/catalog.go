package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Catalog reads a catalog: a folder or a plain HTTP tree of cards and release
// lists. Its format is specified in docs/catalog.md. Every page below the first
// is checked against the SHA-256 that the first one states for it.
type Catalog struct {
	name   string // as the declaration calls it
	base   string // an http address that ends in /, or an absolute folder
	remote bool
	auth   string
	keys   []string // who may sign; none: nobody needs to
	client *fetch.Client

	reading sync.Mutex
	index   map[string]catalogEntry // nil until read
	serial  int64                   // of the state that was read
	refused error                   // why it cannot be read: said to everybody who asks, and asked for once
}

type catalogEntry struct {
	card, cardSHA         string
	releases, releasesSHA string
}

func openCatalog(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	k := &Catalog{name: d.Name, client: c, keys: d.Keys}
	if strings.HasPrefix(a.URL, "http://") || strings.HasPrefix(a.URL, "https://") {
		k.base, k.remote, k.auth = strings.TrimSuffix(a.URL, "/")+"/", true, m.authorization(a, a.URL)
		return k
	}
	dir := strings.TrimPrefix(a.URL, "file://")
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(m.Project, dir)
	}
	k.base = dir
	return k
}

// Probe reads the catalog's first page.
func (k *Catalog) Probe(ctx context.Context) error { return k.open(ctx) }

// below refuses names that leave the catalog.
func below(name string) bool {
	return name != "" && !path.IsAbs(name) && path.Clean(name) == name && name != ".." && !strings.HasPrefix(name, "../") && !strings.Contains(name, "\\")
}

// read reads a page that check accepts.
func (k *Catalog) read(ctx context.Context, name string, check func([]byte) error) ([]byte, error) {
	if k.remote {
		return k.client.Document(ctx, fetch.Address{URL: k.base + name, Authorization: k.auth}, "", check)
	}
	raw, err := disk.ReadWithin(k.base, name, disk.MostText)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.ErrSource, "the catalog %q has no file %s in %s", k.name, name, k.base).
			Advise("Check its url under [source.%s].", k.name)
	}
	if err != nil {
		return nil, fault.New(fault.ErrSource, "the catalog %q: %s %s", k.name, name, disk.InWords(err))
	}
	return raw, check(raw)
}

// checked reads a page and holds it to its digest in the first page.
func (k *Catalog) checked(ctx context.Context, name, sha string) ([]byte, error) {
	return k.read(ctx, name, func(raw []byte) error {
		if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != sha {
			return fault.New(fault.ErrSource, "the catalog %q: %s has the wrong bytes: its SHA-256 is %x… and catalog.toml states %.8s…", k.name, name, sum[:4], sha).
				Advise("Whoever publishes the catalog must write its catalog.toml anew.")
		}
		return nil
	})
}

// open reads the first page once, for all who look something up at the same time.
func (k *Catalog) open(ctx context.Context) error {
	k.reading.Lock()
	defer k.reading.Unlock()
	if k.index != nil || k.refused != nil {
		return k.refused
	}
	err := k.first(ctx)
	if ctx.Err() == nil {
		k.refused = err
	}
	return err
}

func (k *Catalog) first(ctx context.Context) error {
	var first []byte
	if len(k.keys) > 0 {
		// The signature is read first: a page that is not signed is never looked into.
		signature, err := k.read(ctx, CatalogSignature, func([]byte) error { return nil })
		if err != nil {
			if fetch.NotFound(err) || !k.remote {
				return fault.New(fault.ErrSource, "the catalog %q is not signed, and the declaration says by whom it must be", k.name).
					Advise("Whoever publishes it signs it: trammel catalog sign FOLDER --key KEY")
			}
			return err
		}
		_, err = k.read(ctx, "catalog.toml", func(raw []byte) error {
			first = raw
			return k.signedBy(raw, signature)
		})
		if err != nil {
			return err
		}
		return k.parseIndex(first)
	}
	_, err := k.read(ctx, "catalog.toml", k.parseIndex)
	return err
}

// CatalogSignature is the name of the signature of a catalog's first page, and
// CatalogNamespace what keeps it from being one of anything else.
const (
	CatalogSignature = "catalog.toml.sig"
	CatalogNamespace = "trammel-catalog"
)

// signedBy makes sure that one of the declared keys signed the first page.
func (k *Catalog) signedBy(raw, signature []byte) error {
	key, err := sshsig.Check(raw, signature, CatalogNamespace, "catalog")
	if err != nil {
		return fault.New(fault.ErrSource, "the catalog %q: %v", k.name, err).Advise("Nothing of it was used. Whoever publishes it signs it anew: trammel catalog sign FOLDER --key KEY")
	}
	for _, line := range k.keys {
		known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			return fault.New(fault.ErrUsage, "keys of the source %q: %.40q is no SSH key", k.name, line).Advise("Write it as ssh-keygen does in a .pub file: ssh-ed25519 AAAA…")
		}
		if bytes.Equal(known.Marshal(), key.Marshal()) {
			return nil
		}
	}
	return fault.New(fault.ErrSource, "the catalog %q is signed by %s, which the declaration does not name", k.name, ssh.FingerprintSHA256(key)).
		Advise("Nothing of it was used. If that key is right, add it to keys under [source.%s].", k.name)
}

// parseIndex reads the catalog's first page.
func (k *Catalog) parseIndex(raw []byte) error {
	p := page.Parse(k.name+"/catalog.toml", raw)
	index := map[string]catalogEntry{}
	p.Whole(p.Root, "format", 1, 1, 1)
	p.Text(p.Root, "about")
	serial := p.Whole(p.Root, "serial", 0, 0, 1<<53)
	if group := p.Table(p.Root, "tool"); group != nil {
		for _, e := range group.Entries {
			t := p.Table(group, e.Name)
			if t == nil {
				continue
			}
			entry := catalogEntry{p.Text(t, "card"), p.Text(t, "card-sha256"), p.Text(t, "releases"), p.Text(t, "releases-sha256")}
			if !below(entry.card) || !below(entry.releases) {
				p.Fault(t.Span, "", "card and releases must name files inside the catalog")
			}
			p.Close(t)
			index[e.Name] = entry
		}
	}
	p.Close(p.Root)
	if err := p.Err(); err != nil {
		return fault.New(fault.ErrSource, "the catalog %q is faulty:\n%v", k.name, err)
	}
	k.index, k.serial = index, serial
	return nil
}

// Serial is the number of the catalog's state, which grows with each change that its publisher makes; 0 where its
// first page states none.
func (k *Catalog) Serial(ctx context.Context) (int64, error) {
	if err := k.open(ctx); err != nil {
		return 0, err
	}
	return k.serial, nil
}

// Tools lists the tools that the catalog has, sorted.
func (k *Catalog) Tools(ctx context.Context) ([]string, error) {
	if err := k.open(ctx); err != nil {
		return nil, err
	}
	return lock.Sorted(k.index), nil
}

// Card is the catalog's card of a tool; nil when it has no such tool.
func (k *Catalog) Card(ctx context.Context, tool string) (*card.Card, error) {
	if err := k.open(ctx); err != nil {
		return nil, err
	}
	entry, ok := k.index[tool]
	if !ok {
		return nil, nil
	}
	raw, err := k.checked(ctx, entry.card, entry.cardSHA)
	if err != nil {
		return nil, err
	}
	c, err := card.Parse(k.name+"/"+entry.card, tool, raw)
	if err != nil {
		return nil, fault.New(fault.ErrSource, "the catalog %q has a faulty card:\n%v", k.name, err)
	}
	return c, nil
}

// catalogPart is one archive of a release list.
type catalogPart struct {
	name, platform string
	part           lock.Part
}

type catalogRelease struct {
	Release
	parts []catalogPart
}

func (k *Catalog) releases(ctx context.Context, tool string) ([]catalogRelease, error) {
	if err := k.open(ctx); err != nil {
		return nil, err
	}
	entry, ok := k.index[tool]
	if !ok {
		return nil, noPart(tool, "in the catalog "+k.name, platform.Here())
	}
	raw, err := k.checked(ctx, entry.releases, entry.releasesSHA)
	if err != nil {
		return nil, err
	}
	return k.parseReleases(k.name+"/"+entry.releases, tool, raw)
}

// parseReleases reads the release list of a tool.
func (k *Catalog) parseReleases(file, tool string, raw []byte) ([]catalogRelease, error) {
	p := page.Parse(file, raw)
	var out []catalogRelease
	if list := p.Root.Get("release"); list != nil {
		for _, item := range list.Items {
			if item.Table != nil {
				out = append(out, readRelease(p, item.Table, tool))
			}
		}
	}
	p.Close(p.Root)
	if err := p.Err(); err != nil {
		return nil, fault.New(fault.ErrSource, "the catalog %q has a faulty release list:\n%v", k.name, err)
	}
	return out, nil
}

// Formats are the archive formats that a release list may name.
var Formats = []string{"tar.gz", "zip", "tar.xz", "tar.zst", "tar.bz2"}

func readRelease(p *page.Page, t *page.Table, tool string) catalogRelease {
	r := catalogRelease{Release: Release{Version: p.Text(t, "version")}}
	if r.Version == "" {
		p.Fault(t.Span, "", "a release has no version")
	}
	if v := t.Get("published"); v != nil {
		for _, layout := range []string{time.RFC3339, time.DateOnly} {
			if at, err := time.Parse(layout, v.Text); err == nil {
				r.Published = at.UTC()
			}
		}
	}
	if list := t.Get("part"); list != nil {
		for _, item := range list.Items {
			if item.Table == nil {
				continue
			}
			x := catalogPart{name: p.Text(item.Table, "name"), platform: p.Text(item.Table, "platform")}
			x.part = lock.Part{
				Path: p.Text(item.Table, "path"), Version: p.Text(item.Table, "version"), Format: p.Choice(item.Table, "format", Formats...),
				Size: p.Whole(item.Table, "size", 0, 1, 1<<40), Digest: fetch.Digest("sha256:" + p.Text(item.Table, "sha256")),
			}
			if x.name == "" {
				x.name = tool
			}
			if x.part.Version == "" {
				x.part.Version = r.Version
			}
			if err := x.part.Digest.Check(); err != nil {
				p.Fault(item.Table.Span, "", "sha256 is missing or not 64 hex digits")
			}
			if !below(x.part.Path) {
				p.Fault(item.Table.Span, "", "path must name a file inside the catalog")
			}
			p.Close(item.Table)
			r.parts = append(r.parts, x)
		}
	}
	p.Close(t)
	return r
}

func (r catalogRelease) has(name string, p platform.Platform) (lock.Part, bool) {
	for _, x := range r.parts {
		if x.name == name && (x.platform == p.String() || x.platform == "any") {
			return x.part, true
		}
	}
	return lock.Part{}, false
}

// Releases lists the versions that have every part for every platform.
func (k *Catalog) Releases(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error) {
	all, err := k.releases(ctx, from.Package)
	if err != nil {
		return nil, err
	}
	var out []Release
	for _, r := range all {
		missing := slices.ContainsFunc(on, func(p platform.Platform) bool {
			return slices.ContainsFunc(from.Parts, func(rule card.Part) bool { _, ok := r.has(rule.Name, p); return !ok })
		})
		if !missing {
			out = append(out, r.Release)
		}
	}
	return sortReleases(version.Dotted, out), nil
}

// Parts gives the parts of one version for one platform.
func (k *Catalog) Parts(ctx context.Context, from card.From, v string, p platform.Platform, _ time.Time) (map[string]lock.Part, time.Time, error) {
	all, err := k.releases(ctx, from.Package)
	if err != nil {
		return nil, time.Time{}, err
	}
	for _, r := range all {
		if r.Version != v {
			continue
		}
		out := map[string]lock.Part{}
		for _, rule := range from.Parts {
			part, ok := r.has(rule.Name, p)
			if !ok {
				return nil, time.Time{}, noPart(rule.Name, v, p)
			}
			part.Strip, part.Bin, part.Executable = rule.Strip, rule.Bin, rule.Executable
			out[rule.Name] = part
		}
		return out, r.Published, nil
	}
	return nil, time.Time{}, noPart(from.Package, v, p)
}

// Where says where an archive of the catalog is.
func (k *Catalog) Where(p lock.Part) ([]fetch.Address, error) {
	if !below(p.Path) {
		return nil, fault.New(fault.ErrUsage, "the lock's path %q leaves the catalog %q", p.Path, k.name)
	}
	if k.remote {
		return []fetch.Address{{URL: k.base + p.Path, Authorization: k.auth}}, nil
	}
	return []fetch.Address{{URL: "file://" + filepath.Join(k.base, filepath.FromSlash(p.Path))}}, nil
}
