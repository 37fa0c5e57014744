package source

import (
	"archive/zip"
	"context"
	"path"
	"strings"
	"time"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/lock"
)

// Commands that are built from their module. The tool's version is the module's
// without the v.

// moduleOf finds the module of a package: the longest path that the proxy has
// versions of (Go Modules Reference, "Resolving a package to a module").
func (g *gomod) moduleOf(ctx context.Context, pkg string) (string, error) {
	if err := module.CheckImportPath(pkg); err != nil {
		return "", fault.New(fault.ErrUsage, "%q is not the path of a Go package: %v", pkg, err)
	}
	for p := pkg; p != "." && p != "/"; p = path.Dir(p) {
		list, err := g.versions(ctx, p)
		if err == nil && len(list) > 0 {
			return p, nil
		}
		if err != nil && !fetch.NotFound(err) {
			return "", err
		}
	}
	return "", fault.New(fault.ErrSource, "no module on the proxy holds the package %s", pkg)
}

// versions lists the tagged versions of a module.
func (g *gomod) versions(ctx context.Context, modulePath string) ([]string, error) {
	dir, err := escaped(modulePath)
	if err != nil {
		return nil, err
	}
	raw, err := g.get(ctx, dir+"list", func([]byte) error { return nil })
	return strings.Fields(string(raw)), err
}

func (g *gomod) moduleReleases(ctx context.Context, pkg string) ([]Release, error) {
	modulePath, err := g.moduleOf(ctx, pkg)
	if err != nil {
		return nil, err
	}
	list, err := g.versions(ctx, modulePath)
	return moduleVersions(list), err
}

// moduleVersions are the releases among the words of a proxy's list.
func moduleVersions(list []string) []Release {
	var out []Release
	for _, v := range list {
		if bare, ok := strings.CutPrefix(v, "v"); ok && version.Semver.Valid(bare) {
			out = append(out, Release{Version: bare})
		}
	}
	return sortReleases(version.Semver, out)
}

func (g *gomod) moduleParts(ctx context.Context, from card.From, v string) (map[string]lock.Part, time.Time, error) {
	modulePath, err := g.moduleOf(ctx, from.Package)
	if err != nil {
		return nil, time.Time{}, err
	}
	dir, err := escaped(modulePath)
	if err != nil {
		return nil, time.Time{}, err
	}
	published, err := g.info(ctx, dir, "v"+v)
	if err != nil {
		return nil, time.Time{}, err
	}
	rule := from.Parts[0]
	part := lock.Part{
		Path: strings.TrimPrefix(dir, "/") + "v" + v + ".zip", Version: v, Format: "zip",
		Build: from.Package, Bin: rule.Bin,
	}
	if part.Digest, err = g.sums.lookup(ctx, modulePath, "v"+v); err != nil {
		return nil, time.Time{}, err
	}
	if part.Digest == "" {
		return nil, time.Time{}, fault.New(fault.ErrSource, "there is no checksum for %s@v%s: GOSUMDB is off and the declaration names no other", modulePath, v)
	}
	return map[string]lock.Part{rule.Name: part}, published, nil
}

// GoNeed is the oldest Go that a version of a package's module says it is for; "" where its
// go.mod has no go line.
func (g *gomod) GoNeed(ctx context.Context, pkg, v string) (string, error) {
	modulePath, err := g.moduleOf(ctx, pkg)
	if err != nil {
		return "", err
	}
	dir, err := escaped(modulePath)
	if err != nil {
		return "", err
	}
	need := ""
	_, err = g.get(ctx, dir+"v"+v+".mod", func(raw []byte) error {
		file, err := modfile.ParseLax("go.mod", raw, nil)
		if err != nil {
			return fault.New(fault.ErrSource, "the proxy's go.mod of %s v%s cannot be read: %v", modulePath, v, err)
		}
		if file.Go != nil {
			need = file.Go.Version
		}
		return nil
	})
	return need, err
}

// GoPackages are the commands' folders of a version of a package's module, by their import paths:
// those that have Go files. The list stands at the end of the module's zip, which is read by
// ranges; nothing, where the proxy gives none (Go Modules Reference, "Module zip files").
func (g *gomod) GoPackages(ctx context.Context, pkg, v string) []string {
	modulePath, err := g.moduleOf(ctx, pkg)
	if err != nil {
		return nil
	}
	dir, err := escaped(modulePath)
	if err != nil {
		return nil
	}
	for _, p := range g.proxies {
		ranged, err := g.client.Ranges(ctx, fetch.Address{URL: p.base + dir + "v" + v + ".zip", Authorization: p.authorization})
		if err != nil {
			continue
		}
		z, err := zip.NewReader(ranged, ranged.Size)
		if err != nil {
			continue
		}
		var out []string
		for _, f := range z.File {
			below, ok := strings.CutPrefix(f.Name, modulePath+"@v"+v+"/")
			if !ok || !strings.HasSuffix(below, ".go") || strings.HasSuffix(below, "_test.go") {
				continue
			}
			if name := path.Join(modulePath, path.Dir(below)); len(out) == 0 || out[len(out)-1] != name {
				out = append(out, name)
			}
		}
		return out
	}
	return nil
}

// GoSettings are what the go command needs to read the same source: GOPROXY and
// GOSUMDB.
func (g *gomod) GoSettings() []string {
	sumdb := g.sums.key
	if sumdb == "" {
		sumdb = g.sums.name
	}
	if sumdb == "" {
		sumdb = "off"
	}
	var bases []string
	for _, p := range g.proxies {
		bases = append(bases, p.base)
	}
	return []string{"GOPROXY=" + strings.Join(bases, ","), "GOSUMDB=" + sumdb}
}

// GoBuilder is a source whose modules the go command can build.
type GoBuilder interface{ GoSettings() []string }
