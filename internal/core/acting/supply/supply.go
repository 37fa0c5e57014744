// Package supply is what the steps of a project will ask registries for: the npm packages of a
// package-lock.json and the Go modules of a go.sum. A bundle carries them, and on a machine
// without a network they are served to the steps from it, over the registries' own protocols.
//
// Promise: what is served has the digest that the checkout's own files state. What those name
// and is not there is said before a step misses it.
//
// Not promised: packages that a step asks for and no such file names.
package supply

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb/dirhash"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/nodejs"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Want is one file of a registry that the checkout names.
type Want struct {
	Kind    string // "npm" or "gomod", as sources have it
	Name    string // of the package or module
	Version string
	Mod     bool         // gomod: its go.mod alone
	Path    string       // below the registry
	Digest  fetch.Digest // as the checkout's file states it
	File    string       // which says so
}

// Label is what it is, for people: "npm left-pad 1.3.0".
func (w Want) Label() string {
	text := w.Name + " " + w.Version
	if w.Mod {
		text += " (go.mod)"
	}
	return text
}

// Archive is the name of its file in the cache.
func (w Want) Archive() string { return fetch.ArchiveName(w.Digest) }

// deepest is how many folders below the project's own are looked into.
const deepest = 3

// Wanted lists what the files of a checkout name for some platforms, each once, and what of
// them cannot be read. A project without steps asks for nothing.
func Wanted(s *checkout.State, platforms []platform.Platform) (out []Want, unread []string) {
	if len(s.Written.Steps) == 0 {
		return nil, nil
	}
	var inSets []string // which the lock names already
	for _, x := range s.Written.Libraries {
		inSets = append(inSets, x.Files...)
	}
	root, err := os.OpenRoot(s.Dir())
	if err != nil {
		return nil, []string{err.Error()}
	}
	defer root.Close()
	seen := map[string]bool{}
	_ = fs.WalkDir(root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be seen, no step will read either
		}
		base := path.Base(name)
		if e.IsDir() {
			if name != "." && (strings.HasPrefix(base, ".") || slices.Contains([]string{"node_modules", "vendor", "testdata"}, base) || strings.Count(name, "/") >= deepest) {
				return fs.SkipDir
			}
			return nil
		}
		var list []Want
		switch {
		case slices.Contains(inSets, name):
		case base == "package-lock.json":
			list, err = packages(s.Dir(), name, platforms)
		case base == "go.sum":
			list, err = modules(s.Dir(), name)
		}
		if err != nil {
			unread = append(unread, err.Error())
		}
		for _, w := range list {
			if !seen[w.Archive()] {
				seen[w.Archive()] = true
				out = append(out, w)
			}
		}
		return nil
	})
	return out, unread
}

// packages are those of a package-lock.json that some platform installs.
func packages(dir, name string, platforms []platform.Platform) (out []Want, err error) {
	raw, err := disk.ReadWithin(dir, name, disk.MostState)
	if err != nil {
		return nil, err
	}
	var asks nodejs.Asks
	if err := asks.AddLock(name, raw); err != nil {
		return nil, err
	}
	for _, x := range asks.Locked {
		if !slices.ContainsFunc(platforms, func(p platform.Platform) bool { return suits(x.OS, p.OS) && suits(x.CPU, cpu(p.Arch)) }) {
			continue
		}
		digest, err := fetch.FromIntegrity(x.Integrity)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", name, x.Name, err)
		}
		out = append(out, Want{Kind: "npm", Name: x.Name, Version: x.Version, Path: x.Path, Digest: digest, File: name})
	}
	return out, nil
}

// suits tells whether a list of package.json (os, cpu) allows a word; one that starts with !
// takes it out.
func suits(list []string, word string) bool {
	allowed := true
	for _, x := range list {
		if x == "!"+word {
			return false
		}
		if !strings.HasPrefix(x, "!") {
			allowed = false
		}
	}
	return allowed || slices.Contains(list, word)
}

func cpu(arch string) string {
	if arch == "amd64" {
		return "x64"
	}
	return arch
}

// modules are those of a go.sum (Go Modules Reference, go.sum files).
func modules(dir, name string) (out []Want, err error) {
	raw, err := disk.ReadWithin(dir, name, disk.MostState)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(raw)) {
		fields := strings.Fields(line)
		if len(fields) != 3 || !strings.HasPrefix(fields[2], "h1:") {
			continue
		}
		v, mod := strings.CutSuffix(fields[1], "/go.mod")
		p, err := module.EscapePath(fields[0])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		escaped, err := module.EscapeVersion(v)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		end := ".zip"
		if mod {
			end = ".mod"
		}
		digest := fetch.Digest(fields[2])
		if err := digest.Check(); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, Want{Kind: "gomod", Name: fields[0], Version: v, Mod: mod, Path: p + "/@v/" + escaped + end, Digest: digest, File: name})
	}
	return out, nil
}

// Check makes sure that a file has the digest that is stated of it, and drops it otherwise.
func (w Want) Check(file string) error {
	got, err := w.digest(file)
	if err == nil && got == w.Digest {
		return nil
	}
	fetch.Forget(file)
	if err != nil {
		return err
	}
	return fmt.Errorf("its bytes are not those that %s names", w.File)
}

func (w Want) digest(file string) (fetch.Digest, error) {
	open := func(string) (io.ReadCloser, error) { return os.Open(file) }
	switch {
	case w.Mod:
		sum, err := dirhash.Hash1([]string{"go.mod"}, open)
		return fetch.Digest(sum), err
	case w.Kind == "gomod":
		if err := modest(file); err != nil {
			return "", err
		}
		sum, err := dirhash.HashZip(file, dirhash.Hash1)
		if errors.Is(err, zip.ErrFormat) {
			err = errors.New("it is no zip")
		}
		return fetch.Digest(sum), err
	}
	h, _ := w.Digest.Hasher()
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	algorithm, _ := w.Digest.Cut()
	return fetch.Digest(fmt.Sprintf("%s:%x", algorithm, h.Sum(nil))), nil
}

// modest refuses a zip whose files are larger than those of any module may be (Go Modules
// Reference, Module zip files: 500 MiB).
func modest(file string) error {
	z, err := zip.OpenReader(file)
	if err != nil {
		return err
	}
	defer z.Close()
	sum := uint64(0)
	for _, f := range z.File {
		if sum += f.UncompressedSize64; sum > 500<<20 || f.UncompressedSize64 > 500<<20 {
			return errors.New("its files are larger than those of any module may be")
		}
	}
	return nil
}

// private tells whether a module's name is not to be sent to a proxy, by the machine's own Go
// settings in the environment.
func private(s *checkout.State, w Want) bool {
	patterns := s.Host.Getenv("GONOPROXY")
	if patterns == "" {
		patterns = s.Host.Getenv("GOPRIVATE")
	}
	return w.Kind == "gomod" && module.MatchPrefixPatterns(patterns, w.Name)
}

// sourceOf is where wants are fetched from: a source that is declared of a kind, or the
// machine's own.
func sourceOf(s *checkout.State, kind string) declare.Source {
	for _, x := range s.Written.Sources {
		if x.Kind == kind {
			return x
		}
	}
	return source.Implied(kind)
}

// Fetch gets what is wanted into the cache, and says of what it could not have why.
// Errors: the context ended.
func Fetch(ctx context.Context, s *checkout.State, m *source.Machine, c *fetch.Client, wants []Want) (missing []string, err error) {
	opened := map[string]source.Source{}
	failed := map[string]error{}
	for _, w := range wants {
		from, ok := opened[w.Kind]
		if !ok && failed[w.Kind] == nil {
			if from, _, failed[w.Kind] = source.Open(sourceOf(s, w.Kind), m, c); failed[w.Kind] == nil {
				opened[w.Kind] = from
			}
		}
		why := failed[w.Kind]
		if private(s, w) {
			why = errors.New("it is private (GOPRIVATE), and no proxy is asked for it")
		}
		if why == nil {
			why = w.fetch(ctx, s, c, from)
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if why != nil {
			line, _, _ := strings.Cut(why.Error(), "\n")
			missing = append(missing, w.Label()+": "+line)
		}
	}
	return missing, nil
}

func (w Want) fetch(ctx context.Context, s *checkout.State, c *fetch.Client, from source.Source) error {
	addresses, err := from.Where(lock.Part{Path: w.Path})
	if err != nil {
		return err
	}
	for _, at := range addresses {
		var file string
		if file, err = c.Archive(ctx, s.Places.Archives(), fetch.Download{Name: w.Label(), From: at, Digest: w.Digest, Said: w.File}); err == nil {
			return w.Check(file)
		}
		if ctx.Err() != nil {
			break
		}
	}
	return err
}

// Absent are the wants whose files are not in the cache.
func Absent(archives string, wants []Want) (out []Want) {
	for _, w := range wants {
		if _, err := os.Stat(filepath.Join(archives, w.Archive())); err != nil {
			out = append(out, w)
		}
	}
	return out
}
