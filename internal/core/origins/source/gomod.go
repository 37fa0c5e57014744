package source

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// gomod reads Go module proxies (Go Modules Reference, "GOPROXY protocol") and
// the checksum database behind them.
type gomod struct {
	proxies []proxy
	client  *fetch.Client
	machine *Machine
	sums    sums
}

// proxy is one entry of GOPROXY. After "|" every error sends the request on to
// the next one, after "," only "not found" does.
type proxy struct {
	base          string
	authorization string
	anyError      bool
}

func openGomod(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	g := &gomod{client: c, machine: m}
	for rest := a.URL; rest != ""; {
		one, separator := rest, ""
		if i := strings.IndexAny(rest, ",|"); i >= 0 {
			one, separator, rest = rest[:i], rest[i:i+1], rest[i+1:]
		} else {
			rest = ""
		}
		if one = strings.TrimSpace(one); one == "off" || one == "direct" || one == "" {
			continue // version control itself is not a module proxy
		}
		g.proxies = append(g.proxies, proxy{strings.TrimSuffix(one, "/"), m.authorization(a, one), separator == "|"})
	}
	name, key := m.sumDB(d.SumDB)
	g.sums = sums{name: name, key: key, notes: c, read: func(ctx context.Context, path string) ([]byte, error) { return g.get(ctx, path, nil) }}
	return g
}

func (g *gomod) Probe(ctx context.Context) error {
	_, err := g.get(ctx, "/golang.org/toolchain/@v/list", nil)
	return err
}

// get reads a document below the proxies, from the first that has it. check is as
// in fetch.Client.Document.
func (g *gomod) get(ctx context.Context, path string, check func([]byte) error) (raw []byte, err error) {
	err = fault.New(fault.ErrSource, "GOPROXY names no proxy")
	for _, p := range g.proxies {
		raw, err = g.client.Document(ctx, fetch.Address{URL: p.base + path, Authorization: p.authorization}, "", check)
		if err == nil || ctx.Err() != nil || !p.anyError && !fetch.NotFound(err) {
			break
		}
	}
	return raw, err
}

// escaped is the path of a module on a proxy (module.EscapePath).
func escaped(modulePath string) (string, error) {
	e, err := module.EscapePath(modulePath)
	if err != nil {
		return "", fault.New(fault.ErrUsage, "%q is not a module path: %v", modulePath, err)
	}
	return "/" + e + "/@v/", nil
}

func (g *gomod) Releases(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error) {
	if from.Build {
		return g.moduleReleases(ctx, from.Package)
	}
	dir, err := escaped(from.Package)
	if err != nil {
		return nil, err
	}
	raw, err := g.get(ctx, dir+"list", func(raw []byte) error {
		for v := range strings.FieldsSeq(string(raw)) {
			if !strings.HasPrefix(v, "v") {
				return fault.New(fault.ErrSource, "the proxy's list of versions of %s is not one: it has %.20q", from.Package, v)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return fromList(string(raw), from, on)
}

// fromList are the versions of a tool that a proxy's list has for every platform.
func fromList(list string, from card.From, on []platform.Platform) ([]Release, error) {
	count := map[string]int{}
	for _, p := range on {
		before, after, err := releaseFrame(from, p)
		if err != nil {
			return nil, err
		}
		for word := range strings.FieldsSeq(list) {
			v, ok := strings.CutPrefix(word, before)
			if ok {
				v, ok = strings.CutSuffix(v, after)
			}
			if ok && version.Go.Valid(v) {
				count[v]++
			}
		}
	}
	var out []Release
	for v, n := range count {
		if n == len(on) {
			out = append(out, Release{Version: v})
		}
	}
	return sortReleases(version.Go, out), nil
}

// releaseFrame is what stands before and after the tool's version in the module's.
func releaseFrame(from card.From, p platform.Platform) (before, after string, err error) {
	const mark = "\x01"
	whole, err := from.Expand(from.Release, mark, p)
	before, after, ok := strings.Cut(whole, mark)
	if err != nil || !ok {
		return "", "", fault.New(fault.ErrUsage, "the card of %s needs a release with @{version}, not %q", from.Package, from.Release)
	}
	return before, after, nil
}

// Published asks for the information of one version.
func (g *gomod) Published(ctx context.Context, from card.From, v string, p platform.Platform) (time.Time, error) {
	if from.Build {
		module, err := g.moduleOf(ctx, from.Package)
		if err != nil {
			return time.Time{}, err
		}
		dir, err := escaped(module)
		if err != nil {
			return time.Time{}, err
		}
		return g.info(ctx, dir, "v"+v)
	}
	dir, err := escaped(from.Package)
	if err != nil {
		return time.Time{}, err
	}
	before, after, err := releaseFrame(from, p)
	if err != nil {
		return time.Time{}, err
	}
	return g.info(ctx, dir, before+v+after)
}

// info reads when a version was published; an error when it is not there.
func (g *gomod) info(ctx context.Context, dir, full string) (time.Time, error) {
	var info struct {
		Version string
		Time    time.Time
	}
	_, err := g.get(ctx, dir+full+".info", func(raw []byte) error {
		if err := json.Unmarshal(raw, &info); err != nil || info.Version != full {
			return fault.New(fault.ErrSource, "the proxy's %s.info is not the information of that version", full)
		}
		return nil
	})
	return info.Time.UTC(), err
}

func (g *gomod) Parts(ctx context.Context, from card.From, v string, p platform.Platform, _ time.Time) (map[string]lock.Part, time.Time, error) {
	if from.Build {
		return g.moduleParts(ctx, from, v)
	}
	dir, err := escaped(from.Package)
	if err != nil {
		return nil, time.Time{}, err
	}
	before, after, err := releaseFrame(from, p)
	if err != nil {
		return nil, time.Time{}, err
	}
	full := before + v + after
	published, err := g.info(ctx, dir, full)
	if err != nil {
		return nil, time.Time{}, err
	}
	rule := from.Parts[0]
	part := lock.Part{
		Path: strings.TrimPrefix(dir, "/") + full + ".zip", Version: v, Format: "zip",
		Prefix: from.Package + "@" + full + "/", Bin: rule.Bin, Executable: rule.Executable,
	}
	if part.Digest, err = g.sums.lookup(ctx, from.Package, full); err != nil {
		return nil, time.Time{}, err
	}
	if part.Digest == "" {
		return nil, time.Time{}, fault.New(fault.ErrSource, "there is no checksum for %s@%s: GOSUMDB is off and the declaration names no other", from.Package, full).
			Advise("Name a checksum database: sumdb under the [source.…] of kind gomod, or GOSUMDB.")
	}
	return map[string]lock.Part{rule.Name: part}, published, nil
}

func (g *gomod) Where(p lock.Part) ([]fetch.Address, error) {
	if strings.Contains(p.Path, "..") {
		return nil, fmt.Errorf("the lock's path %q leaves the source", p.Path)
	}
	var out []fetch.Address
	for _, one := range g.proxies {
		out = append(out, fetch.Address{URL: one.base + "/" + p.Path, Authorization: one.authorization})
	}
	return out, nil
}
