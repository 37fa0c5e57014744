// Package publish makes and keeps a catalog: what a team publishes itself (docs/catalog.md).
//
// Promise: an archive that is in a catalog keeps its bytes; another one under the same
// version and platform is refused. Each file is written whole, the first page last, so that
// whoever reads meanwhile sees the catalog as it was or as it is.
package publish

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/core/written/card"
)

// Added is what Add did with one archive.
type Added struct {
	Named
	Drafted bool // its tool had no card, and has a drafted one now
	Same    bool // it was there already
}

type part struct {
	Name     string `toml:"name,omitempty"`
	Version  string `toml:"version,omitempty"`
	Platform string `toml:"platform"`
	Path     string `toml:"path"`
	Format   string `toml:"format,omitempty"`
	Size     int64  `toml:"size,omitempty"`
	SHA256   string `toml:"sha256"`
}

type release struct {
	Version   string `toml:"version"`
	Published any    `toml:"published,omitempty"`
	Parts     []part `toml:"part"`
}

type releases struct {
	Releases []release `toml:"release"`
}

type tool struct {
	Card        string `toml:"card"`
	CardSHA     string `toml:"card-sha256"`
	Releases    string `toml:"releases"`
	ReleasesSHA string `toml:"releases-sha256"`
}

type first struct {
	Format int             `toml:"format"`
	Serial int64           `toml:"serial"`
	About  string          `toml:"about,omitempty"`
	Tools  map[string]tool `toml:"tool"`
}

func read(folder, name string, into any) error {
	raw, err := disk.ReadWithin(folder, name, disk.MostText)
	if err != nil {
		return err
	}
	if err := toml.Unmarshal(raw, into); err != nil {
		return fault.New(fault.ErrUsage, "%s: %v", filepath.Join(folder, name), err)
	}
	return nil
}

func write(folder, name string, content []byte) (sum string, err error) {
	return fmt.Sprintf("%x", sha256.Sum256(content)), disk.WriteWithin(folder, name, content, 0o644)
}

// Add puts an archive into a catalog, which is made when it is not there. What its name does
// not say, given does.
func Add(ctx context.Context, folder, archive string, given Named) (a Added, err error) {
	n, err := named(archive, given)
	if err != nil {
		return a, err
	}
	a.Named = n
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return a, err
	}
	unlock, err := disk.Lock(ctx, filepath.Join(folder, ".lock"))
	if err != nil {
		return a, err
	}
	defer unlock()
	top := first{Format: 1, Tools: map[string]tool{}}
	if err := read(folder, "catalog.toml", &top); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return a, err
	}
	if top.Tools == nil {
		top.Tools = map[string]tool{}
	}
	t, known := top.Tools[n.Tool]
	if !known {
		t = tool{Card: "cards/" + n.Tool + ".toml", Releases: "releases/" + n.Tool + ".toml"}
	}
	var list releases
	if err := read(folder, t.Releases, &list); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return a, err
	}
	in, err := disk.OpenRegular(archive)
	if err != nil {
		return a, fault.New(fault.ErrUsage, "the archive cannot be read: %v", err)
	}
	defer in.Close()
	h := sha256.New()
	size, err := io.Copy(h, in)
	if err != nil {
		return a, err
	}
	p := part{Platform: n.Platform, Path: "files/" + filepath.Base(archive), Size: size, SHA256: fmt.Sprintf("%x", h.Sum(nil))}
	if n.Format != "tar.gz" {
		p.Format = n.Format
	}
	if a.Same, err = list.add(n, p); err != nil || a.Same {
		return a, err
	}
	if _, err := disk.StatWithin(folder, t.Card); errors.Is(err, fs.ErrNotExist) {
		text, err := draftCard(ctx, archive, n)
		if err != nil {
			return a, err
		}
		if t.CardSHA, err = write(folder, t.Card, []byte(text)); err != nil {
			return a, err
		}
		a.Drafted = true
	} else if err != nil {
		return a, err
	}
	// The archive first, then what names it, the first page last.
	if err := copyIn(folder, p.Path, in, p.SHA256); err != nil {
		return a, err
	}
	raw, err := toml.Marshal(list)
	if err != nil {
		return a, err
	}
	if t.ReleasesSHA, err = write(folder, t.Releases, append([]byte("# Kept by: trammel catalog add\n"), raw...)); err != nil {
		return a, err
	}
	top.Tools[n.Tool] = t
	return a, writeFirst(folder, top)
}

// named is what an archive is of: what is given, and else what its name says.
func named(archive string, given Named) (Named, error) {
	n, nameErr := NameOf(archive)
	for _, x := range []struct {
		into *string
		said string
	}{{&n.Tool, given.Tool}, {&n.Version, given.Version}, {&n.Platform, given.Platform}} {
		if x.said != "" {
			*x.into = x.said
		}
	}
	if nameErr != nil && (n.Format == "" || n.Tool == "" || n.Version == "" || n.Platform == "") {
		return n, nameErr
	}
	if !toolName().MatchString(n.Tool) || !version.Dotted.Valid(n.Version) || strings.ContainsAny(n.Version, "/\\ ") {
		return n, fault.New(fault.ErrUsage, "%s would be %q %q, which no tool can be called", filepath.Base(archive), n.Tool, n.Version).Advise("Say it: --tool NAME --version V")
	}
	return n, nil
}

// add puts an archive into the list. same tells that it was there with the same bytes; with
// others it is refused.
func (l *releases) add(n Named, p part) (same bool, err error) {
	i := slices.IndexFunc(l.Releases, func(r release) bool { return r.Version == n.Version })
	if i < 0 {
		year, month, day := time.Now().UTC().Date()
		l.Releases = append(l.Releases, release{Version: n.Version, Published: toml.LocalDate{Year: year, Month: int(month), Day: day}})
		i = len(l.Releases) - 1
	}
	for _, old := range l.Releases[i].Parts {
		if old.Platform != p.Platform || old.Name != "" && old.Name != n.Tool {
			continue
		}
		if old.SHA256 != p.SHA256 {
			return false, fault.New(fault.ErrUsage, "the catalog has %s %s for %s already, with other bytes", n.Tool, n.Version, n.Platform).
				Advise("Whoever locked that version would get an error. Publish this one under a new version.")
		}
		return true, nil
	}
	l.Releases[i].Parts = append(l.Releases[i].Parts, p)
	slices.SortStableFunc(l.Releases, func(x, y release) int { return version.Dotted.Compare(y.Version, x.Version) })
	return false, nil
}

// next is the number of the next state of a catalog: the seconds since 1970, so that one which is made anew
// elsewhere goes on, and more than the number before in any case.
func next(before int64) int64 { return max(before+1, time.Now().Unix()) }

// writeFirst writes the first page with the digests of what is there. An older signature of it
// holds no more, and goes.
func writeFirst(folder string, top first) error {
	for name, t := range top.Tools {
		raw, err := disk.ReadWithin(folder, t.Card, disk.MostText)
		if err != nil {
			return err
		}
		t.CardSHA = fmt.Sprintf("%x", sha256.Sum256(raw))
		top.Tools[name] = t
	}
	top.Serial = next(top.Serial)
	raw, err := toml.Marshal(top)
	if err != nil {
		return err
	}
	if err := disk.RemoveWithin(folder, source.CatalogSignature); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	_, err = write(folder, "catalog.toml", raw)
	return err
}

// copyIn copies an archive into the catalog, unless it lies there already.
func copyIn(folder, name string, in *os.File, sum string) error {
	full := filepath.Join(folder, filepath.FromSlash(name))
	if here, err := os.Stat(full); err == nil {
		if there, err := in.Stat(); err == nil && os.SameFile(here, there) {
			return nil
		}
	}
	if err := disk.MkdirWithin(folder, filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return err
	}
	out, err := disk.Create(full)
	if err != nil {
		return err
	}
	defer out.Drop()
	h := sha256.New()
	if _, err := io.Copy(io.MultiWriter(out, h), in); err != nil {
		return err
	}
	if fmt.Sprintf("%x", h.Sum(nil)) != sum {
		return fault.New(fault.ErrFailed, "%s changed while it was read", filepath.Base(name))
	}
	return out.Commit(0o644)
}

// draftCard writes a first card of a tool from what is in its archive: the commands in bin, or
// else those that lie at the top.
func draftCard(ctx context.Context, archive string, n Named) (string, error) {
	into, err := os.MkdirTemp("", "trammel-catalog-")
	if err != nil {
		return "", err
	}
	defer disk.RemoveAll(into)
	r, err := unpack.Archive(ctx, archive, n.Format, into, unpack.Rules{})
	if err != nil {
		return "", fault.New(fault.ErrUsage, "%s: %v", filepath.Base(archive), err)
	}
	strip := 0
	if folder, _, ok := strings.Cut(r.Manifest[0].Path, "/"); ok && folder != "bin" && !slices.ContainsFunc(r.Manifest, func(e tree.Entry) bool { return !strings.HasPrefix(e.Path, folder+"/") }) {
		strip = 1
	}
	bin := map[string]string{}
	for _, inBin := range []bool{true, false} {
		for _, e := range r.Manifest {
			file := e.Path
			if strip == 1 {
				_, file, _ = strings.Cut(file, "/")
			}
			dir, name := filepath.Split(file)
			if e.Type == tree.Executable && (inBin && dir == "bin/" || !inBin && dir == "") {
				bin[name] = file
			}
		}
		if len(bin) > 0 {
			break
		}
	}
	if len(bin) == 0 {
		return "", fault.New(fault.ErrUsage, "%s has no command, neither in bin nor at its top", filepath.Base(archive)).
			Advise("Write the card yourself, as cards/%s.toml in the catalog (docs/catalog.md), and add the archive again.", n.Tool)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "about = %s\n", canon.JSON("The tool "+n.Tool))
	fmt.Fprintf(&b, "# answer = { run = \"%s --version\", match = '(\\d+(?:\\.\\d+)+)' }   # how verify asks for the version\n\n[[from]]\nkind = \"catalog\"\n\n[[from.part]]\n", slices.Sorted(maps.Keys(bin))[0])
	if strip > 0 {
		b.WriteString("strip = 1\n")
	}
	b.WriteString("bin   = { ")
	for i, name := range slices.Sorted(maps.Keys(bin)) {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "%s = %s", canon.JSON(name), canon.JSON(bin[name]))
	}
	b.WriteString(" }\n")
	_, err = card.Parse(n.Tool+".toml", n.Tool, []byte(b.String()))
	return b.String(), err
}

// none says that a folder is no catalog, or what is wrong with its first page.
func none(folder string, err error) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return fault.New(fault.ErrUsage, "there is no catalog in %s", folder).Advise("Make one: trammel catalog add %s ARCHIVE", shell.Typed(folder))
}

// Renew writes the first page anew after cards were edited by hand.
func Renew(ctx context.Context, folder string) error {
	if _, err := os.Stat(filepath.Join(folder, "catalog.toml")); err != nil {
		return none(folder, err) // before a lock makes the folder
	}
	unlock, err := disk.Lock(ctx, filepath.Join(folder, ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	var top first
	if err := read(folder, "catalog.toml", &top); err != nil {
		return none(folder, err)
	}
	for name, t := range top.Tools {
		raw, err := disk.ReadWithin(folder, t.Releases, disk.MostText)
		if err != nil {
			return err
		}
		t.ReleasesSHA = fmt.Sprintf("%x", sha256.Sum256(raw))
		top.Tools[name] = t
	}
	return writeFirst(folder, top)
}

// Sign signs the first page, which holds the digests of all others.
func Sign(folder string, signer ssh.Signer) error {
	raw, err := disk.ReadWithin(folder, "catalog.toml", disk.MostText)
	if err != nil {
		return fault.New(fault.ErrUsage, "there is no catalog in %s", folder).Advise("Make one: trammel catalog add %s ARCHIVE", shell.Typed(folder))
	}
	var top first
	if err := toml.Unmarshal(raw, &top); err != nil {
		return fault.New(fault.ErrUsage, "%s: %v", filepath.Join(folder, "catalog.toml"), err)
	}
	if top.Serial == 0 { // a page that was written by hand: its text stays
		raw = append(fmt.Appendf(nil, "serial = %d\n", next(0)), raw...)
		if err := disk.WriteWithin(folder, "catalog.toml", raw, 0o644); err != nil {
			return err
		}
	}
	signature, err := sshsig.Sign(raw, source.CatalogNamespace, signer)
	if err != nil {
		return err
	}
	return disk.WriteWithin(folder, source.CatalogSignature, signature, 0o644)
}
