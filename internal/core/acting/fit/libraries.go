package fit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// finder is a source whose files are found by what a lock says of a library.
type finder interface {
	Find(ctx context.Context, l lock.LibraryOf) ([]fetch.Address, error)
}

// find is where the archive of a library can be had now, in the order to try.
func find(ctx context.Context, from source.Source, l lock.LibraryOf) ([]fetch.Address, error) {
	if f, ok := from.(finder); ok {
		return f.Find(ctx, l)
	}
	return from.Where(l.Part().Part)
}

// makeSet brings the packages of a set into the store and makes the set of them.
func (b bringing) makeSet(ctx context.Context, w work) error {
	list := lock.Set{Packages: w.part.Packages}.List()
	library := b.state.Lock.Libraries[w.part.Item]
	_, tool, _ := strings.Cut(library.On[b.state.Platform.String()].For, " ")
	if library.Kind == lock.Node {
		return b.makeNodeSet(ctx, w, list)
	}
	if err := b.addLibraries(ctx, w, library.Kind, list); err != nil {
		return err
	}
	_, err := b.state.Store.Merge(ctx, w.part, w.mend, func(_ context.Context, fresh string) (tree.Manifest, error) {
		var pieces []merge.Piece
		for _, l := range list {
			p := b.state.Store.Complete([]lock.PartOn{partOfLibrary(b.state, w, library.Kind, list, l)})[0]
			m, err := b.state.Store.Manifest(p)
			if err != nil {
				return nil, fmt.Errorf("the list of files of %s: %w", l.Name, err)
			}
			pieces = append(pieces, merge.Piece{Name: l.Name, Version: l.Version, Dir: b.state.Store.Path(p), Manifest: m})
		}
		if library.Kind == lock.R {
			return libraries.R(ctx, fresh, pieces)
		}
		return libraries.Python(ctx, fresh, w.part.Item, pieces, tool)
	})
	return err
}

// partOfLibrary is one package of a set as a part of the store. What is built from source
// is decided by the toolchain and by what it was built with, too.
func partOfLibrary(s *checkout.State, w work, kind string, list []lock.LibraryOf, l lock.LibraryOf) lock.PartOn {
	p := l.Part()
	if kind == lock.Python && l.Wheel() {
		return p
	}
	p.Build = kind + ":" + l.Name
	p.Builder = builtWith(s, w, list, l)
	for _, line := range w.part.Sums {
		if name, sum, ok := strings.Cut(line, " "); ok && name == l.Name {
			p.Tree = canon.TreeDigest(sum)
		}
	}
	return p
}

// builtWith is a digest of the system, the toolchain and the other packages of a set that a
// package of it is built with.
func builtWith(s *checkout.State, w work, list []lock.LibraryOf, l lock.LibraryOf) string {
	set := s.Lock.Libraries[w.part.Item].On[s.Platform.String()]
	facts := canon.List{set.For, store.SetRecipe}
	if root, ok := rootOf(s, set); ok {
		facts = append(facts, string(root.Digest))
	}
	for _, d := range needed(s, list, l.Name) {
		facts = append(facts, d.String())
	}
	return canon.Digest(facts)
}

// rootOf is the root that a set's toolchain comes from.
func rootOf(s *checkout.State, set lock.Set) (lock.PartOn, bool) {
	tool, _, _ := strings.Cut(set.For, " ")
	for _, p := range s.Parts {
		if p.Item == tool && p.Format == lock.RootFormat {
			return p, true
		}
	}
	return lock.PartOn{}, false
}

// needed are the packages of an R set that one of them needs, all the way down, in the
// order to build them.
func needed(s *checkout.State, list []lock.LibraryOf, name string) []lock.LibraryOf {
	var out []lock.LibraryOf
	var visit func(name string)
	seen := map[string]bool{name: true}
	visit = func(name string) {
		i := slices.IndexFunc(list, func(l lock.LibraryOf) bool { return l.Name == name })
		if i < 0 {
			return
		}
		for _, n := range needsOfR(s, list[i]) {
			if !seen[n] {
				seen[n] = true
				visit(n)
				if k := slices.IndexFunc(list, func(l lock.LibraryOf) bool { return l.Name == n }); k >= 0 {
					out = append(out, list[k])
				}
			}
		}
	}
	visit(name)
	return out
}

// needsOfR are the packages that one needs, as its archive says, which must be in the cache.
func needsOfR(s *checkout.State, l lock.LibraryOf) []string {
	raw, err := source.RDescription(filepath.Join(s.Places.Archives(), fetch.ArchiveName(l.Digest)), l.Name)
	if err != nil {
		return nil
	}
	var out []string
	for _, n := range raw.Needs {
		out = append(out, n.Name)
	}
	return out
}

// addLibraries fetches the packages of a set and brings them into the store: wheels side by
// side, what is built from source each after what it needs. They count as one task.
func (b bringing) addLibraries(ctx context.Context, w work, kind string, list []lock.LibraryOf) (err error) {
	var bytes, have int64
	for _, l := range list {
		bytes += l.Size
	}
	task := fmt.Sprintf("fetch and unpack %d packages of %s", len(list), w.part.Name)
	done := event.Task(ctx, task)
	defer func() { done("", err) }()
	quiet, cancel := context.WithCancelCause(event.With(ctx, func(event.Event) {}))
	defer cancel(nil)
	slots := make(chan struct{}, runtime.GOMAXPROCS(0)+2)
	var wait sync.WaitGroup
	var built []lock.LibraryOf
	for _, l := range list {
		build := kind == lock.R || !l.Wheel()
		if build {
			built = append(built, l)
		}
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if quiet.Err() != nil {
				return
			}
			var err error
			if build {
				_, err = b.archiveOf(quiet, l)
			} else {
				err = b.addWheel(quiet, w, l)
			}
			if err != nil {
				cancel(err)
				return
			}
			event.Send(ctx, event.Event{Phase: event.Progress, Task: task, Unit: event.Bytes, Current: atomic.AddInt64(&have, l.Size), Total: bytes})
		})
	}
	wait.Wait()
	if err := context.Cause(quiet); err != nil {
		return err
	}
	for len(built) > 0 { // each after those that it needs
		i := slices.IndexFunc(built, func(l lock.LibraryOf) bool {
			return kind != lock.R || !slices.ContainsFunc(needsOfR(b.state, l), func(n string) bool {
				return n != l.Name && slices.ContainsFunc(built, func(o lock.LibraryOf) bool { return o.Name == n })
			})
		})
		if i < 0 {
			return fault.New(fault.ErrSource, "the packages of %s need each other in a circle: %s", w.part.Name, built[0].Name)
		}
		if err := b.buildLibrary(ctx, w, kind, list, built[i]); err != nil {
			return err
		}
		built = slices.Delete(built, i, i+1)
	}
	return nil
}

// archiveOf gets the archive of a package.
func (b bringing) archiveOf(ctx context.Context, l lock.LibraryOf) (string, error) {
	folder := b.state.Places.Archives()
	kept := filepath.Join(folder, fetch.ArchiveName(l.Digest))
	if info, err := os.Stat(kept); err == nil && (l.Size == 0 || info.Size() == l.Size) {
		return kept, nil
	}
	addresses, err := find(ctx, b.from, l)
	if err != nil {
		return "", err
	}
	err = fault.New(fault.ErrSource, "%s %s is nowhere to be had", l.Name, l.Version)
	for _, address := range addresses {
		var file string
		file, err = b.client.Archive(ctx, folder, fetch.Download{Name: l.Name + " " + l.Version, From: address, Size: l.Size, Digest: l.Digest})
		if err == nil || ctx.Err() != nil {
			return file, err
		}
		if !fetch.NotFound(err) {
			break
		}
	}
	return "", err
}

// addWheel brings one wheel into the store. One that is there is looked at before a set is made of it, with
// mend to the byte.
func (b bringing) addWheel(ctx context.Context, w work, l lock.LibraryOf) error {
	p := b.state.Store.Complete([]lock.PartOn{l.Part()})[0]
	mend, err := b.damaged(w, p)
	if err != nil {
		return err
	}
	archive := ""
	_, err = b.state.Store.Add(ctx, p, mend, func() (_ string, err error) {
		archive, err = b.archiveOf(ctx, l)
		return archive, err
	})
	if errors.Is(err, store.ErrWrongBytes) && archive != "" {
		fetch.Forget(archive)
	}
	return err
}

// rScript builds one R package as everywhere: in a folder of always one name, without what
// says when and where it was done.
const rScript = `set -e
mkdir -p /tmp/build/library
cd /tmp/build
tar -xzf "$1" --no-same-owner
R CMD INSTALL --no-test-load --no-docs --no-multiarch --built-timestamp=19700101 --library=/tmp/build/library "/tmp/build/$3"
cp -R "/tmp/build/library/$3" "$4/$3"`

// pythonScript makes a wheel of a source distribution and unpacks it.
//
// It is unpacked here, in a folder of always one name: the installer would choose one by chance, and compilers write
// the folders of their sources into what they make.
const pythonScript = `set -e
mkdir -p /tmp/build/wheel /tmp/build/src
cp "$1" "/tmp/build/$2"
cd /tmp/build/src
case $2 in
*.zip) python3 -m zipfile -e "/tmp/build/$2" /tmp/build/src ;;
*) python3 -m tarfile -e "/tmp/build/$2" /tmp/build/src ;;
esac
cd /tmp/build/src/*
python3 -m pip wheel --no-deps --no-index --no-build-isolation --no-cache-dir --disable-pip-version-check --wheel-dir /tmp/build/wheel .
python3 -m zipfile -e /tmp/build/wheel/*.whl "$4"`

// buildLibrary builds a package from its source in a sealed view of the root that its
// toolchain comes from: what the declaration names is there, and nothing else.
func (b bringing) buildLibrary(ctx context.Context, w work, kind string, list []lock.LibraryOf, l lock.LibraryOf) error {
	s := b.state
	part := s.Store.Complete([]lock.PartOn{partOfLibrary(s, w, kind, list, l)})[0]
	set := s.Lock.Libraries[w.part.Item].On[s.Platform.String()]
	root, ok := rootOf(s, set)
	if !ok {
		return fault.New(fault.ErrUsage, "%s is built from its source, and its toolchain is of no root to build in", l.Name).
			Advise("Declare %s from a source of kind debian.", strings.Fields(set.For)[0])
	}
	if err := sandbox.Available(); err != nil {
		return err
	}
	program, err := s.Places.KeepProgram(s.Host.Program)
	if err != nil {
		return err
	}
	var path []string // of R libraries that it needs
	for _, d := range needed(s, list, l.Name) {
		p := s.Store.Complete([]lock.PartOn{partOfLibrary(s, w, kind, list, d)})[0]
		if p.Tree != "" {
			path = append(path, s.Store.Path(p))
		}
	}
	mend, err := b.damaged(w, part)
	if err != nil {
		return err
	}
	varies := variesIn(s, w.part.Item, l.Name)
	accept := fmt.Sprintf("varies = [%q] under [libraries.%s]", l.Name, w.part.Item)
	_, err = s.Store.Make(ctx, part, mend, twice(part, l.Name+" "+l.Version, varies, accept, func(fresh string) error {
		home, err := os.MkdirTemp("", "trammel-build-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(home)
		said, err := os.Create(filepath.Join(home, "said"))
		if err != nil {
			return err
		}
		defer said.Close()
		commands := filepath.Join(home, "bin")
		if err := commandsIn(s, root, commands); err != nil {
			return err
		}
		archive := filepath.Join(s.Places.Archives(), fetch.ArchiveName(l.Digest))
		script := pythonScript
		if kind == lock.R {
			script = rScript
		}
		view := sandbox.View{Root: s.Store.Path(root), Closed: true, Work: home, Self: program, Read: []string{s.Places.Data, archive, commands}, Write: []string{fresh}}
		file, argv, err := sandbox.Command(view, "/", "/usr/bin/sh", []string{"sh", "-c", script, "sh", archive, l.Path, l.Name, fresh})
		if err != nil {
			return err
		}
		exit, err := process.Read(ctx, process.Spec{
			Path: file, Argv: argv, Dir: home, Stdout: said, Stderr: said,
			Env: []string{
				"PATH=" + commands + ":/usr/bin:/usr/sbin", "HOME=/tmp", "TMPDIR=/tmp", "LANG=C.UTF-8", "LC_ALL=C.UTF-8", "TZ=UTC", "SOURCE_DATE_EPOCH=315532800",
				"PYTHONHASHSEED=0", "PYTHONDONTWRITEBYTECODE=1", "R_LIBS=" + strings.Join(path, ":"), "R_LIBS_USER=", "R_LIBS_SITE=", "_R_CHECK_COMPILATION_FLAGS_=false",
			},
		}, process.Reading{})
		if err != nil {
			return err
		}
		if !exit.OK() {
			kept := filepath.Join(s.Bay.Records, "logs", "libraries-"+w.part.Name+".log")
			keepLog(said.Name(), kept)
			return fault.New(fault.ErrFailed, "%s %s could not be built from its source: %s", l.Name, l.Version, exit).
				Advise("| %s\nLog: %s\nWhat it needs to be built (a compiler, a library with its headers) is declared as toolchains of the source %q.", lastLines(said.Name(), 12), kept, root.Name)
		}
		return withoutEmptyBuild(fresh)
	}))
	return err
}

// variesIn tells whether a declaration accepts that the build of a library comes out differently each time.
func variesIn(s *checkout.State, set, name string) bool {
	i := slices.IndexFunc(s.Declaration.Libraries, func(x declare.Library) bool { return x.Name == set })
	return i >= 0 && slices.Contains(s.Declaration.Libraries[i].Varies, name)
}

// commandsIn makes a folder with the commands of toolchains as their root has them: gcc for
// what the root calls gcc-14.
func commandsIn(s *checkout.State, root lock.PartOn, dir string) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	for _, p := range s.Parts {
		if p.Format != lock.RootFormat || p.Name != root.Name {
			continue
		}
		for command, file := range p.Bin {
			names := []string{command}
			if slices.Contains(tripled, command) { // as Debian's Python and R call their compiler
				names = append(names, map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[s.Platform.Arch]+"-linux-gnu-"+command)
			}
			for _, name := range names {
				if err := os.Symlink("/"+file, filepath.Join(dir, name)); err != nil && !errors.Is(err, fs.ErrExist) {
					return err
				}
			}
		}
	}
	return nil
}

// tripled are commands of a compiler that are also called by the system that they compile for.
var tripled = []string{"gcc", "g++", "cpp", "gfortran", "ar", "ld", "nm", "strip", "ranlib", "objdump"}

// withoutEmptyBuild makes sure that a build left something.
func withoutEmptyBuild(fresh string) error {
	entries, err := os.ReadDir(fresh)
	if err == nil && len(entries) == 0 {
		err = errors.New("the build left nothing")
	}
	return err
}

// keepLog copies what a build printed to where logs are.
func keepLog(from, to string) {
	if os.MkdirAll(filepath.Dir(to), 0o700) != nil {
		return
	}
	in, err := os.Open(from)
	if err != nil {
		return
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, fs.FileMode(0o600))
	if err != nil {
		return
	}
	defer out.Close()
	_, _ = io.Copy(out, io.LimitReader(in, 16<<20))
}

// makeNodeSet unpacks the packages of a Node.js set in their places, with the commands that
// they bring. Install scripts run only where the declaration allows them by name.
func (b bringing) makeNodeSet(ctx context.Context, w work, list []lock.LibraryOf) error {
	var packages []npmPackage
	var places []string
	for _, l := range list {
		packages = append(packages, npmPackage{l.Place, l.Path, l.Digest})
		places = append(places, l.Place)
	}
	slices.SortFunc(packages, func(a, b npmPackage) int { return strings.Compare(a.place, b.place) })
	make := func(fresh string) error {
		if err := b.placePackages(ctx, w.part, packages, fresh, func(string) []string { return nil }); err != nil {
			return err
		}
		for _, root := range libraries.NodeRoots(places) {
			if err := libraries.NodeCommands(fresh, root, places); err != nil {
				return fault.New(fault.ErrSource, "%s: %v", w.part.Label(), err)
			}
		}
		return installScripts(ctx, b.state, w.part, packages, fresh)
	}
	if scripts, ok := strings.CutPrefix(w.part.Builder, "scripts "); ok { // what is only unpacked is proven by its digests
		varies := !slices.ContainsFunc(strings.Fields(scripts), func(name string) bool { return !variesIn(b.state, w.part.Item, name) })
		accept := fmt.Sprintf("varies = [%s] under [libraries.%s], with the packages whose install scripts do that", quotedList(strings.Fields(scripts)), w.part.Item)
		make = twice(w.part, w.part.Label(), varies, accept, make)
	}
	_, err := b.state.Store.Make(ctx, w.part, w.mend, make)
	return err
}

func quotedList(list []string) string {
	var out []string
	for _, x := range list {
		out = append(out, strconv.Quote(x))
	}
	return strings.Join(out, ", ")
}

// sumsOf are the trees of what a set built from source, for the lock.
func sumsOf(s *checkout.State, part lock.PartOn) []string {
	library := s.Lock.Libraries[part.Item]
	if library.Kind == lock.Node {
		return nil
	}
	list := lock.Set{Packages: part.Packages}.List()
	var out []string
	for _, l := range list {
		p := partOfLibrary(s, work{part, false}, library.Kind, list, l)
		if p.Build == "" {
			continue
		}
		if tree := s.Store.Tree(p); tree != "" {
			out = append(out, l.Name+" "+string(tree))
		}
	}
	return out
}
