package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/written/lock"
)

const sealedDeclaration = `format    = 1
project   = "heronweir-survey"
isolation = "sealed"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
r              = "latest"
r-cran-ggplot2 = "latest"
r-cran-dplyr   = "latest"
`

// archive are the rows of roots. They need the Debian archive that apt's settings on
// this machine name, and are left out where it does not answer. It is one piece, since each
// row needs what those before it made.
func (b *workshop) archive() ([]row, error) {
	home, project := b.path("archive-home"), b.path("survey")
	if err := put(filepath.Join(project, "trammel.toml"), []byte(sealedDeclaration)); err != nil {
		return nil, err
	}
	at := func(home string, args ...string) func() error {
		return func() error {
			cmd := exec.Command(b.program, args...)
			cmd.Dir, cmd.Env = project, append(os.Environ(), "TRAMMEL_HOME="+home, "TRAMMEL_APPROVE=")
			if out, err := cmd.CombinedOutput(); err != nil {
				return fmt.Errorf("trammel %s: %w\n%s", strings.Join(args, " "), err, out)
			}
			return nil
		}
	}
	if err := both(at(home, "lock"), at(home, "fit", "--approve"))(); err != nil {
		fmt.Fprintln(os.Stderr, "bench: no Debian archive here, so its rows are left out:", strings.SplitN(err.Error(), "\n", 2)[0])
		return nil, nil
	}
	l, err := lock.Read(project)
	if err != nil {
		return nil, err
	}
	hello, lookUps := b.run(b.hello), 0
	rows := []row{
		{"run -- true, sealed", "unshare -Urmpf true", 3, 40, at(home, "run", "--", "true"), b.run("unshare", "-Urmpf", "true")},
		{"look-up in a warm Debian index", "Go hello", 3, 40, at(home, "find", "--offline", "redis"), hello},
		{"look-up that was not asked before", "Go hello", 3, 40, func() error {
			lookUps++
			return at(home, "find", "--offline", "--as-of", time.Unix(1_800_000_000, 0).AddDate(0, 0, lookUps).Format(time.DateOnly), "redis")()
		}, hello},
		{"look-up with the index read anew", "the same, warm", 0, 5, func() error {
			found, _ := filepath.Glob(filepath.Join(home, "cache/indexes/debian-*.index"))
			for _, f := range found {
				os.Remove(f)
			}
			return at(home, "find", "redis")()
		}, at(home, "find", "redis")},
	}
	// The same packages, from the disk, into fresh folders.
	packages := l.Roots["trixie"][platform.Here().String()].List()
	var archives []string
	for _, p := range packages {
		found, _ := filepath.Glob(filepath.Join(home, "cache/archives/*"+p.SHA256+"*"))
		for _, f := range found {
			if !strings.HasSuffix(f, ".lock") {
				archives = append(archives, f)
			}
		}
	}
	if len(archives) != len(packages) {
		return nil, fmt.Errorf("%d archives of %d packages are there", len(archives), len(packages))
	}
	ours := func() error {
		fresh := b.next()
		if err := exec.Command("sh", "-c", `mkdir -p "$1/cache" && cp -al "$0/cache/archives" "$1/cache/archives"`, home, fresh).Run(); err != nil {
			return err
		}
		return at(fresh, "fit", "--offline", "--approve")()
	}
	dpkg := func() error {
		into := b.next()
		script := `mkdir "$0" && printf '%s\n' "$@" | xargs -P 2 -I{} sh -c 'dpkg-deb -x "$1" "$0/$(basename "$1")"' "$0" {}`
		return exec.Command("sh", append([]string{"-c", script, into}, archives...)...).Run()
	}
	closure := compare(fmt.Sprintf("unpack, hash, keep and merge %d packages", len(packages)), "dpkg-deb -x, two at a time", 1.1, 3, ours, dpkg)
	fresh := b.next()
	fitting := b.memory(fmt.Sprintf("fit of %d packages", len(packages)), 120, fresh, project, func() error {
		return exec.Command("sh", "-c", `mkdir -p "$1/cache" && cp -al "$0/cache/archives" "$1/cache/archives"`, home, fresh).Run()
	}, "fit", "--offline", "--approve")
	// A lock of another checkout, which reads the index anew.
	other := b.path("survey-2")
	if err := put(filepath.Join(other, "trammel.toml"), []byte(sealedDeclaration)); err != nil {
		return nil, err
	}
	locking := b.memory(fmt.Sprintf("lock of %d packages", len(packages)), 120, b.next(), other, nil, "lock")
	// One root more of the same parts, against copying hard links of as many files.
	var trees []string
	for _, p := range packages {
		found, _ := filepath.Glob(filepath.Join(home, "data/store/*-"+p.Name+"-"+p.Version))
		trees = append(trees, found...)
	}
	remake := func() error {
		roots, _ := filepath.Glob(filepath.Join(home, "data/store/*-trixie-*"))
		for _, r := range roots {
			if err := os.Rename(r, b.next()); err != nil {
				return err
			}
		}
		return at(home, "fit", "--offline", "--approve")()
	}
	// Of trees of its own: a link more to a file of the store moves its time of change, and the next
	// root would read it, to see whether it is as it was.
	own := b.path("trees")
	if err := exec.Command("sh", append([]string{"-c", `mkdir "$0" && cp -a "$@" "$0/"`, own}, trees...)...).Run(); err != nil {
		return nil, err
	}
	linked := func() error {
		return exec.Command("sh", "-c", `mkdir "$1" && for t in "$0"/*; do cp -al "$t" "$1/"; done`, own, b.next()).Run()
	}
	root := compare(fmt.Sprintf("make a root of %d packages", len(packages)), "cp -al of the same trees", 0.6, 10, remake, linked)
	more, err := b.shipped(home, project, at)
	// Those that leave many trees behind come last: in a file system full of them a new one is slower.
	return slices.Concat(rows, more[:1], rowsOf(root), more[1:], rowsOf(locking, fitting, closure)), err
}

// shipped are the rows of what leaves the machine: an image of the root, and the root copied
// from a depot.
func (b *workshop) shipped(home, project string, at func(home string, args ...string) func() error) ([]row, error) {
	roots, _ := filepath.Glob(filepath.Join(home, "data/store/*-trixie-*"))
	var root string
	for _, r := range roots {
		if info, err := os.Stat(r); err == nil && info.IsDir() {
			root = r
		}
	}
	image := func() error {
		if err := os.RemoveAll(filepath.Join(home, "cache/layers")); err != nil {
			return err
		}
		return at(home, "export", "oci", b.next(), "--compression", "none")()
	}
	summed := func() error {
		return exec.Command("sh", "-c", `tar c -C "$0" . | tee "$1" | sha256sum`, root, b.next()).Run()
	}
	depot := b.path("depot")
	settings := filepath.Join(home, "config/sources.toml")
	if err := put(settings, fmt.Appendf(nil, "[depot]\nurl = %q\n", depot)); err != nil {
		return nil, err
	}
	if err := errors.Join(at(home, "stock")(), os.Remove(settings)); err != nil { // the other rows know no depot
		return nil, err
	}
	plain := b.path("root.tar")
	if err := exec.Command("tar", "cf", plain, "-C", root, ".").Run(); err != nil {
		return nil, err
	}
	copied := func() error {
		fresh := b.next()
		if err := put(filepath.Join(fresh, "config/sources.toml"), fmt.Appendf(nil, "[depot]\nurl = %q\n", depot)); err != nil {
			return err
		}
		return at(fresh, "fit", "--approve")()
	}
	untarred := func() error {
		return exec.Command("sh", "-c", `mkdir "$0" && tar xf "$1" -C "$0" && sync -f "$0"`, b.next(), plain).Run()
	}
	return []row{
		compare("fit from a depot", "tar x of the same root", 1.5, 5, copied, untarred),
		compare("image of an environment", "tar c of its root, kept, through sha256sum", 1.5, 5, image, summed),
	}, nil
}
