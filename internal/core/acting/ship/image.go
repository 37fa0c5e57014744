// Package ship makes of a fitted checkout what leaves this machine: images.
package ship

import (
	"context"
	"debug/elf"
	"path"
	"path/filepath"
	"slices"
	"strings"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"app.example/trammel/internal/core/acting/apart"
	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/image"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/history"
	"app.example/trammel/internal/core/written/lock"
)

// Order says which image to make.
type Order struct {
	Fit         fit.Options
	Platforms   []platform.Platform
	Programs    []string // files of this program for other platforms
	Project     bool     // with the files that version control tracks
	Compression string
	Hosts       environ.Hosts // where the image's services reach each other; nil: on loopback
}

// Made is an image for one or more platforms.
type Made struct {
	Index       v1.ImageIndex
	Digest      string // of the image, or of the index of several
	Layers      int
	Size        int64 // bytes of all layers, compressed
	Labels      map[string]string
	Environment lock.EnvironmentID
	Files       string             // a digest of the project's files in it, declaration and lock aside
	Apart       *apart.Environment // of this machine's platform, or else of the first
}

// Image makes it. What the parts of other platforms are is fetched into the store, and nothing
// of the checkout is changed.
func Image(ctx context.Context, g approval.Given, o Order) (*Made, error) {
	s := g.State().Shared()
	if err := s.Usable(); err != nil {
		return nil, err
	}
	base, rooted := s.Declaration.Base()
	if !rooted && !alone(s.Lock) {
		return nil, fault.New(fault.ErrUsage, "an image needs a system for its tools to run on, and this project declares no root").
			Advise("Declare one, for example:\n  [source.trixie]\n  kind  = \"debian\"\n  suite = \"trixie\"\n  [toolchain]\n  coreutils = { version = \"latest\", from = \"trixie\", package = \"coreutils\" }\nThen: trammel lock, trammel fit. Projects whose only toolchain is Go do without.")
	}
	out := &Made{}
	m := maker{given: g, shared: s, order: o}
	var err error
	if o.Project {
		if m.commit, err = tracked(ctx, s); err != nil {
			return nil, err
		}
		out.Files = filesDigest(m.commit)
	}
	if rooted {
		m.system = base.Name
	}
	var images []v1.Image
	for _, on := range o.Platforms {
		c, a, err := m.contents(ctx, on)
		if err != nil {
			return nil, err
		}
		img, err := image.Make(ctx, c)
		if err != nil {
			return nil, err
		}
		images = append(images, img)
		if err := out.count(img); err != nil {
			return nil, err
		}
		if out.Apart == nil || on == platform.Here() {
			out.Apart, out.Environment, out.Labels = a, a.Sight.Plan.ID(), c.Labels
		}
	}
	all := labels(s, platform.Platform{}, m.commit)
	if out.Index, err = image.Index(images, o.Platforms, all); err != nil {
		return nil, err
	}
	digest, err := out.Index.Digest()
	if len(images) == 1 {
		digest, err = images[0].Digest()
	}
	out.Digest = digest.String()
	return out, err
}

// count adds the layers of an image to those that are made.
func (m *Made) count(img v1.Image) error {
	layers, err := img.Layers()
	if err != nil {
		return err
	}
	for _, l := range layers {
		size, err := l.Size()
		if err != nil {
			return err
		}
		m.Size += size
		m.Layers++
	}
	return nil
}

// filesDigest is the digest of a commit's files, declaration and lock aside.
func filesDigest(commit *history.Commit) string {
	facts := canon.Map{}
	for _, t := range commit.Files {
		if t.Path != declare.FileName && t.Path != lock.FileName {
			facts[t.Path] = t.Sum
		}
	}
	return canon.Digest(facts)
}

// maker is what the images of all platforms are made from.
type maker struct {
	given  approval.Given
	shared *checkout.State
	order  Order
	commit *history.Commit // of the project's files, when they are in the image
	system string          // the root that is the image's system; "" for none
}

// contents is what the image for one platform holds, which is in the store when it comes back.
func (m *maker) contents(ctx context.Context, on platform.Platform) (c image.Contents, a *apart.Environment, err error) {
	program, err := programFor(m.shared.Host.Program, m.order.Programs, on)
	if err != nil {
		return c, nil, err
	}
	here, err := m.stored(ctx, on)
	if err != nil {
		return c, nil, err
	}
	plan, err := environ.Decide(here)
	if err != nil {
		return c, nil, err
	}
	if a, err = apart.Of(&setup.Sight{State: here, Plan: plan}, m.order.Hosts); err != nil {
		return c, nil, err
	}
	c = image.Contents{
		Platform: on, Store: here.Store, Plan: a.Plan, Links: a.Links, Program: program, Compression: m.order.Compression,
		Cache: m.shared.Places.Layers(), Labels: labels(m.shared, on, m.commit), Command: []string{"--", "/bin/sh"},
	}
	parts := append(here.AllParts(), here.Store.Complete(here.Lock.SetsOn(on))...)
	for _, p := range parts {
		switch {
		case p.Format == lock.RootFormat && p.Name == m.system && c.Root == nil:
			c.Root = &p
		case p.Format == lock.RootFormat:
		case !slices.ContainsFunc(c.Parts, func(q lock.PartOn) bool { return store.Name(q) == store.Name(p) }):
			c.Parts = append(c.Parts, p)
		}
	}
	if c.Root == nil {
		c.Command = []string{"list"}
	}
	if m.commit != nil {
		c.Created = m.commit.At
		c.Files = files(m.commit, a, plan.Modules)
	}
	return c, a, nil
}

// stored is the checkout as it is on a platform, with everything of it in the store.
func (m *maker) stored(ctx context.Context, on platform.Platform) (*checkout.State, error) {
	here := m.shared.On(on)
	if i := slices.IndexFunc(here.Parts, func(p lock.PartOn) bool { return p.Build != "" && !here.Store.Has(p) }); i >= 0 && on != platform.Here() {
		if here.Parts[i].Tree == "" || !m.order.Fit.Depot.Holds(ctx, here.Parts[i].Tree) {
			return nil, fault.New(fault.ErrUsage, "%s is built from its source, which is done on %s alone", here.Parts[i].Label(), on).
				Advise("Make the image of %s on such a machine, or have it come from the team's depot.", on)
		}
	}
	return fit.Store(ctx, m.given.For(here), m.order.Fit)
}

// alone tells whether everything of a lock runs on no system at all: Go links its programs
// without one.
func alone(l *lock.Lock) bool {
	for name, item := range l.Items {
		if name != "go" && l.Sources[item.Source].Kind != "gomod" {
			return false
		}
	}
	return len(l.Libraries) == 0
}

// labels say where an image is from (image-spec, "Pre-Defined Annotation Keys").
func labels(s *checkout.State, on platform.Platform, commit *history.Commit) map[string]string {
	out := map[string]string{"org.opencontainers.image.title": s.Declaration.Project, "example.app.trammel.lock": string(s.Lock.ID())}
	if on.OS != "" {
		out["example.app.trammel.environment"] = string(s.Lock.EnvironmentID(on))
	}
	if s.Declaration.About != "" {
		out["org.opencontainers.image.description"] = s.Declaration.About
	}
	if commit != nil && commit.ID != "" {
		out["org.opencontainers.image.revision"] = commit.ID
		if commit.Source != "" {
			out["org.opencontainers.image.source"] = commit.Source
		}
	}
	return out
}

// tracked are the project's files as they are committed, with the declaration and the lock that
// the image is made from.
func tracked(ctx context.Context, s *checkout.State) (*history.Commit, error) {
	h, err := history.Open(s.Dir(), "")
	if err != nil {
		return nil, err
	}
	if !h.Versioned() {
		event.Say(ctx, "The project's files are those of its folder, since it is in no repository.")
		return folder(s)
	}
	commit, err := h.Head()
	if err != nil {
		return nil, err
	}
	if !h.Same(lock.FileName, s.LockText) {
		return nil, fault.New(fault.ErrUsage, "%s is not committed as it is, so that the image would hold another one than it is made from", lock.FileName).
			Advise("Commit it first.")
	}
	if err := inPlace(commit); err != nil {
		return nil, err
	}
	event.Say(ctx, "The project's files are those of commit "+commit.ID[:12]+".")
	return commit, nil
}

// inPlace refuses a commit whose files would not lie where they say: git's objects hold any name,
// and a folder that is a link as well leads elsewhere.
func inPlace(commit *history.Commit) error {
	links := map[string]bool{}
	for _, t := range commit.Files {
		links[t.Path] = t.Link != ""
	}
	for _, t := range commit.Files {
		bad := !filepath.IsLocal(t.Path) || path.Clean(t.Path) != t.Path
		for up := path.Dir(t.Path); !bad && up != "."; up = path.Dir(up) {
			_, file := links[up]
			bad = file
		}
		if bad {
			return fault.New(fault.ErrUsage, "the commit %.12s has a file %q, which would lie outside of the project", commit.ID, t.Path).Advise("No image is made of it.")
		}
	}
	return nil
}

// folder are the files of a project that version control does not know, such as one that a
// locator brought, without those that hold secrets.
func folder(s *checkout.State) (*history.Commit, error) {
	list, err := tree.List(s.Dir(), func(name string) bool { return name == checkout.LocalName || path.Base(name) == ".git" })
	if err != nil {
		return nil, err
	}
	secret := map[string]bool{}
	for _, x := range s.Declaration.Secrets {
		if file, ok := strings.CutPrefix(x.From, "file:"); ok {
			secret[path.Clean(file)] = true
		}
	}
	out := &history.Commit{}
	for _, e := range list {
		if e.Type == tree.EmptyDir || secret[e.Path] || e.Type == '?' {
			continue
		}
		t := history.Tracked{Path: e.Path, Executable: e.Type == tree.Executable, Link: e.Target, At: filepath.Join(s.Dir(), filepath.FromSlash(e.Path))}
		t.Sum = e.Target
		if e.Type != tree.Link {
			if t.Sum, err = tree.SumOf(t.At); err != nil {
				return nil, err
			}
		}
		out.Files = append(out.Files, t)
	}
	return out, nil
}

// files are those of a commit, and what a checkout shows of library sets.
func files(commit *history.Commit, a *apart.Environment, modules []libraries.Modules) []image.File {
	var out []image.File
	for _, t := range commit.Files {
		if t.Path == declare.OverlayName || t.Path == lock.OverlayName || strings.HasPrefix(t.Path, checkout.LocalName+"/") {
			continue // a person's own, and what tells the launcher that something was done
		}
		out = append(out, image.File{Path: t.Path, Executable: t.Executable, Link: t.Link, Content: t.Content})
	}
	for _, m := range modules {
		for name, target := range m.Links {
			out = append(out, image.File{Path: path.Join(m.Folder, name), Link: a.Moved(target)})
		}
	}
	return out
}

// programFor is this program's file for a platform.
func programFor(self string, others []string, on platform.Platform) (string, error) {
	for _, file := range append([]string{self}, others...) {
		f, err := elf.Open(file)
		if err != nil {
			return "", fault.New(fault.ErrUsage, "%s is no program for Linux: %v", file, err).Advise("Name one that was built for %s: --program FILE", on)
		}
		machine := f.Machine
		dynamic, _ := f.ImportedLibraries()
		f.Close()
		if want := map[string]elf.Machine{"amd64": elf.EM_X86_64, "arm64": elf.EM_AARCH64}[on.Arch]; machine == want {
			if len(dynamic) > 0 {
				return "", fault.New(fault.ErrUsage, "%s is linked against %s, which an image need not have", file, dynamic[0]).
					Advise("Build it with CGO_ENABLED=0, or name one that was: --program FILE")
			}
			return file, nil
		}
	}
	return "", fault.New(fault.ErrUsage, "the image of %s holds this program as its launcher, and no file of it for %s is named", on, on).
		Advise("Build or fetch one and name it: trammel export oci --program FILE …")
}
