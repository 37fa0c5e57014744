package source

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// npm reads an npm registry: package documents and tarballs (npm registry API,
// "Package metadata": abbreviated form where the registry has it).
type npm struct {
	base          string // ends in /
	authorization string
	client        *fetch.Client

	mu        sync.Mutex
	documents map[string]*npmOnce
}

// npmOnce makes parallel items share one reading of a document.
type npmOnce struct {
	once sync.Once
	doc  *npmDocument
	err  error
}

type npmDocument struct {
	Name     string                `json:"name"`
	Versions map[string]npmVersion `json:"versions"`
	Time     map[string]any        `json:"time"` // RFC 3339 texts; other values are ignored
	Tags     map[string]string     `json:"dist-tags"`
	About    string                `json:"-"`
	odd      map[string]error      // versions that cannot be read, and why
}

// UnmarshalJSON reads each version for itself: one old release of an odd form, of which
// registries have many, must not keep the others away.
func (d *npmDocument) UnmarshalJSON(raw []byte) error {
	var all struct {
		Name     string                     `json:"name"`
		Versions map[string]json.RawMessage `json:"versions"`
		Time     map[string]any             `json:"time"`
		Tags     map[string]string          `json:"dist-tags"`
		About    any                        `json:"description"`
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	*d = npmDocument{Name: all.Name, Versions: map[string]npmVersion{}, Time: all.Time, Tags: all.Tags, odd: map[string]error{}}
	d.About, _ = all.About.(string)
	for v, text := range all.Versions {
		var one npmVersion
		if err := json.Unmarshal(text, &one); err != nil {
			d.odd[v] = err
			continue
		}
		d.Versions[v] = one
	}
	return nil
}

// npmTable is an object of texts. Very old packages have an empty array where there is
// nothing in it.
type npmTable map[string]string

func (t *npmTable) UnmarshalJSON(raw []byte) error {
	if strings.TrimSpace(string(raw)) == "[]" {
		*t = nil
		return nil
	}
	return json.Unmarshal(raw, (*map[string]string)(t))
}

type npmVersion struct {
	Engines       any                                `json:"engines"` // an object; very old packages have arrays
	Bin           any                                `json:"bin"`     // an object or a path
	Dependencies  npmTable                           `json:"dependencies"`
	Optional      npmTable                           `json:"optionalDependencies"`
	Peers         npmTable                           `json:"peerDependencies"`
	PeersMeta     map[string]struct{ Optional bool } `json:"peerDependenciesMeta"`
	OS            any                                `json:"os"` // lists, or one word
	CPU           any                                `json:"cpu"`
	Libc          any                                `json:"libc"`
	InstallScript bool                               `json:"hasInstallScript"`
	Dist          struct {
		Tarball   string `json:"tarball"`
		Integrity string `json:"integrity"`
		Shasum    string `json:"shasum"`
	} `json:"dist"`
}

func openNPM(a Address, _ declare.Source, m *Machine, c *fetch.Client) Source {
	base := strings.TrimSuffix(a.URL, "/") + "/"
	return &npm{base: base, authorization: m.npmAuthorization(a), client: c, documents: map[string]*npmOnce{}}
}

func (n *npm) Probe(ctx context.Context) error {
	_, err := n.document(ctx, "node")
	return err
}

// document reads the document of a package.
func (n *npm) document(ctx context.Context, name string) (*npmDocument, error) {
	n.mu.Lock()
	once := n.documents[name]
	if once == nil {
		once = &npmOnce{}
		n.documents[name] = once
	}
	n.mu.Unlock()
	once.once.Do(func() { once.doc, once.err = n.read(ctx, name) })
	return once.doc, once.err
}

func (n *npm) read(ctx context.Context, name string) (*npmDocument, error) {
	address := fetch.Address{URL: n.base + strings.Replace(name, "/", "%2f", 1), Authorization: n.authorization}
	var doc npmDocument
	_, err := n.client.Document(ctx, address, "application/vnd.npm.install-v1+json; q=1.0, application/json; q=0.8", func(raw []byte) error {
		doc = npmDocument{}
		if err := json.Unmarshal(raw, &doc); err != nil || doc.Name != name {
			return fault.New(fault.ErrSource, "%s is not the document of an npm package", address).
				Advise("Is this the address of an npm registry? See: trammel sources")
		}
		return nil
	})
	return &doc, err
}

// published is when a version came out, zero where the registry has no such date.
func (d *npmDocument) published(v string) time.Time {
	text, _ := d.Time[v].(string)
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return time.Time{}
	}
	return t.UTC()
}

func (n *npm) Releases(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error) {
	main, err := n.document(ctx, from.Package)
	if err != nil {
		return nil, err
	}
	// A version counts when every package that carries it for a platform has it.
	var needed []*npmDocument
	for _, p := range on {
		for _, part := range from.Parts {
			if part.Package == "" || part.Engines != "" {
				continue
			}
			name, err := from.Expand(part.Package, "", p)
			if err != nil {
				return nil, fault.New(fault.ErrUsage, "the card of %s: %v", from.Package, err)
			}
			doc, err := n.document(ctx, name)
			if fetch.NotFound(err) {
				return nil, nil // nothing for this platform at all
			}
			if err != nil {
				return nil, err
			}
			needed = append(needed, doc)
		}
	}
	var out []Release
	for v := range main.Versions {
		missing := slices.ContainsFunc(needed, func(d *npmDocument) bool { _, ok := d.Versions[v]; return !ok })
		if !missing && version.Semver.Valid(v) && (from.Only == "" || version.InRange(v, from.Only)) {
			out = append(out, Release{v, main.published(v)})
		}
	}
	return sortReleases(version.Semver, out), nil
}

func (n *npm) Parts(ctx context.Context, from card.From, v string, p platform.Platform, asOf time.Time) (map[string]lock.Part, time.Time, error) {
	main, err := n.document(ctx, from.Package)
	if err != nil {
		return nil, time.Time{}, err
	}
	if from.Build {
		part, err := n.treePart(ctx, from, v, p, asOf)
		return map[string]lock.Part{from.Parts[0].Name: part}, main.published(v), err
	}
	out := map[string]lock.Part{}
	for _, rule := range from.Parts {
		name := from.Package
		if rule.Package != "" {
			if name, err = from.Expand(rule.Package, v, p); err != nil {
				return nil, time.Time{}, fault.New(fault.ErrUsage, "the card of %s: %v", from.Package, err)
			}
		}
		doc, err := n.document(ctx, name)
		if err != nil {
			return nil, time.Time{}, err
		}
		take := v
		if rule.Engines != "" {
			if take = doc.companion(rule.Engines, rule.Lines[version.Major(v)], v, asOf); take == "" {
				return nil, time.Time{}, noPart(name, "for "+rule.Engines+" "+v, p)
			}
		}
		one, ok := doc.Versions[take]
		if why := doc.odd[take]; why != nil {
			return nil, time.Time{}, fault.New(fault.ErrSource, "what the registry says of %s %s cannot be read: %v", name, take, why)
		}
		if !ok {
			return nil, time.Time{}, noPart(name, take, p)
		}
		part, err := n.part(name, take, one)
		if err != nil {
			return nil, time.Time{}, err
		}
		part.Strip, part.Bin, part.Executable = 1, rule.Bin, rule.Executable
		if len(rule.Bin) == 0 && rule.Executable == nil {
			if part.Bin, err = commands(name, one); err != nil {
				return nil, time.Time{}, err
			}
			for command, file := range part.Bin {
				part.Bin[command] = strings.TrimPrefix(file, "node_modules/"+name+"/")
			}
		}
		out[rule.Name] = part
	}
	return out, main.published(v), nil
}

// companion is the newest release of a package whose engines allow the version of
// the tool that it runs on: of a line, where that has any. Pre-releases do not count.
func (d *npmDocument) companion(engine, line, v string, asOf time.Time) string {
	if line != "" {
		if best := d.fitting(engine, line+".", v, asOf); best != "" {
			return best
		}
	}
	return d.fitting(engine, "", v, asOf)
}

func (d *npmDocument) fitting(engine, start, v string, asOf time.Time) string {
	best := ""
	for candidate, one := range d.Versions {
		engines, _ := one.Engines.(map[string]any)
		allowed, _ := engines[engine].(string)
		if !strings.HasPrefix(candidate, start) {
			continue
		}
		if version.Semver.Prerelease(candidate) || allowed == "" || !version.InRange(v, allowed) {
			continue
		}
		if at := d.published(candidate); !asOf.IsZero() && (at.IsZero() || at.After(asOf)) {
			continue
		}
		if best == "" || version.Semver.Compare(candidate, best) > 0 {
			best = candidate
		}
	}
	return best
}

func (n *npm) part(name, v string, one npmVersion) (lock.Part, error) {
	digest, err := fetch.FromIntegrity(one.Dist.Integrity)
	if one.Dist.Integrity == "" && one.Dist.Shasum != "" { // packages from before 2017
		digest, err = fetch.Digest("sha1:"+one.Dist.Shasum), nil
	}
	if err == nil {
		err = digest.Check()
	}
	if err != nil {
		return lock.Part{}, fault.New(fault.ErrSource, "npm package %s %s has no usable digest: %v", name, v, err)
	}
	// The usual place; a registry that keeps tarballs elsewhere below itself says so.
	file := name + "/-/" + path.Base(name) + "-" + v + ".tgz"
	if below, ok := strings.CutPrefix(one.Dist.Tarball, n.base); ok && !strings.Contains(below, "..") {
		file = below
	}
	return lock.Part{Path: file, Version: v, Format: "tar.gz", Digest: digest}, nil
}

func (n *npm) Where(p lock.Part) ([]fetch.Address, error) {
	if strings.Contains(p.Path, "..") || path.IsAbs(p.Path) {
		return nil, fmt.Errorf("the lock's path %q leaves the source", p.Path)
	}
	return []fetch.Address{{URL: n.base + p.Path, Authorization: n.authorization}}, nil
}
