package system

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/stored/tree"
)

// derivation is a file that a program of the root makes of what is there, as it would have been
// made when its package was configured. The program runs in a sealed view of the root with
// nothing of the host, and gives the same bytes each time.
type derivation struct {
	program string   // where it must be
	needs   string   // a glob of what it works on; "" where it works without any
	run     []string // "/bin/sh -c" for a script of ours
	made    []string // globs of what is kept of what it leaves
}

// texScript makes what updating TeX's configuration makes (fmtutil(1), updmap(1), mktexlsr(1)):
// the lists of languages, formats and font maps that packages contribute to, the two formats
// that LaTeX is used by, font maps and the lists of files. Other formats are made when first used.
const texScript = `set -e
umask 022
export SOURCE_DATE_EPOCH=1000000000 FORCE_SOURCE_DATE=1
texmf=/usr/share/texmf-made
export TEXMFSYSVAR=$texmf TEXMFVAR=/tmp/var TEXMFCONFIG=/tmp/config
mkdir -p $texmf/tex/generic/config $texmf/web2c
printf 'english hyphen.tex\n=usenglish\n=USenglish\n=american\n' > $texmf/tex/generic/config/language.dat
cat /var/lib/tex-common/fmtutil-cnf/*/*.cnf > $texmf/web2c/fmtutil.cnf
cat /var/lib/tex-common/fontmap-cfg/*/*.cfg > $texmf/web2c/updmap.cfg
rm -f /usr/share/texmf/ls-R /usr/share/texlive/texmf-dist/ls-R # links to what is not everywhere
mktexlsr /usr/share/texmf /usr/share/texlive/texmf-dist $texmf
for format in pdflatex latex; do fmtutil-sys --cnffile $texmf/web2c/fmtutil.cnf --byfmt $format; done
updmap-sys --cnffile $texmf/web2c/updmap.cfg
mktexlsr /usr/share/texmf /usr/share/texlive/texmf-dist $texmf
find $texmf -name '*.log' -delete`

var derivations = []derivation{
	{program: "usr/sbin/ldconfig", run: []string{"/usr/sbin/ldconfig", "-X"}, made: []string{"etc/ld.so.cache"}},
	{program: "usr/bin/glib-compile-schemas", needs: "usr/share/glib-2.0/schemas/*.xml", run: []string{"/usr/bin/glib-compile-schemas", "/usr/share/glib-2.0/schemas"}, made: []string{"usr/share/glib-2.0/schemas/gschemas.compiled"}},
	{program: "usr/lib/*/gdk-pixbuf-2.0/gdk-pixbuf-query-loaders", run: []string{"/bin/sh", "-c", "for d in /usr/lib/*/gdk-pixbuf-2.0; do $d/gdk-pixbuf-query-loaders > $d/2.10.0/loaders.cache; done"}, made: []string{"usr/lib/*/gdk-pixbuf-2.0/2.10.0/loaders.cache"}},
	{program: "usr/sbin/dot", run: []string{"/usr/sbin/dot", "-c"}, made: []string{"usr/lib/*/graphviz/config*"}},
	{program: "usr/bin/dot", run: []string{"/usr/bin/dot", "-c"}, made: []string{"usr/lib/*/graphviz/config*"}},
	{program: "usr/bin/fmtutil-sys", needs: "var/lib/tex-common/fmtutil-cnf/*/*.cnf", run: []string{"/bin/sh", "-c", texScript}, made: []string{"usr/share/texmf-made/**", "usr/share/texmf/ls-R", "usr/share/texlive/texmf-dist/ls-R"}},
}

// Programs are the names of the root's own programs that take part in making it, as far as it has
// them.
func Programs() []string {
	var out []string
	for _, d := range derivations {
		if name := path.Base(d.program); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// derive has the root's own programs make what they make of it.
func (b *builder) derive(ctx context.Context) error {
	since, err := b.moment()
	if err != nil {
		return err
	}
	err = b.derived(ctx)
	if t := b.untouched(since); t != nil { // also of a program that failed
		return t
	}
	return err
}

func (b *builder) derived(ctx context.Context) error {
	for _, d := range derivations {
		if !b.hasAny(d.program) || d.needs != "" && !b.hasAny(d.needs) {
			continue
		}
		if err := sandbox.Make(ctx, b.Dir, d.run); err != nil {
			return err
		}
		below := os.DirFS(b.Dir)
		for _, glob := range d.made {
			found, err := doublestar.Glob(below, glob)
			if err != nil {
				return err
			}
			slices.Sort(found)
			for _, name := range found {
				info, err := os.Lstat(filepath.Join(b.Dir, filepath.FromSlash(name)))
				if err != nil || !info.Mode().IsRegular() {
					continue
				}
				if x, there := b.Placed[name]; there && x.Piece >= 0 {
					if x.Type != tree.Link { // a package's own
						continue
					}
					delete(b.Placed, name) // a link is a file now
				}
				raw, err := fs.ReadFile(below, name)
				if err != nil {
					return err
				}
				if err := b.Make(name, raw); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Tampered says that a program of a root changed files of packages while it made what it makes
// of them: the packages share these files with the store.
type Tampered struct {
	Packages []string // whose files they are
	File     string   // the first of them
}

func (t *Tampered) Error() string {
	return fmt.Sprintf("a program of the root changed /%s while the root was made", t.File)
}

// moment is now by the clock that the times of changes go by, in nanoseconds since 1970: whatever
// changes from here on is no older.
func (b *builder) moment() (int64, error) {
	f, err := os.CreateTemp(b.Dir, ".moment-")
	if err != nil {
		return 0, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	return disk.LinkStampOf(f.Name()).Change, nil
}

// same tells whether a package's file was not changed since a moment, or has the content that it had.
func (b *builder) same(name string, was tree.Entry, since int64) bool {
	full := filepath.Join(b.Dir, filepath.FromSlash(name))
	if changed := disk.LinkStampOf(full).Change; changed < since && changed != 0 {
		return true
	}
	info, err := os.Lstat(full)
	if err != nil || !info.Mode().IsRegular() || (info.Mode()&0o111 != 0) != (was.Type == tree.Executable) {
		return false
	}
	sum, err := tree.SumOf(full)
	return err == nil && sum == was.Sum
}

// untouched makes sure that the packages' own files are what they were. Nobody but root can set
// the time of a file's last change of any kind (inode(7), ctime), so that only files are read
// which changed since a moment; of those that others just linked the content is as it was.
func (b *builder) untouched(since int64) error {
	var t Tampered
	var mu sync.Mutex
	_ = b.Each(context.Background(), func(names []string) error {
		for _, name := range names {
			x := b.Placed[name]
			if x.Piece < 0 || x.Type != tree.File && x.Type != tree.Executable || b.same(name, x.Entry, since) {
				continue
			}
			mu.Lock()
			t.Packages = append(t.Packages, b.pieces[x.Piece].Name)
			if t.File == "" || name < t.File {
				t.File = name
			}
			mu.Unlock()
		}
		return nil
	})
	if len(t.Packages) == 0 {
		return nil
	}
	slices.Sort(t.Packages)
	t.Packages = slices.Compact(t.Packages)
	return &t
}

// hasAny tells whether a file of the root has a path that a glob describes.
func (b *builder) hasAny(glob string) bool {
	if !strings.Contains(glob, "*") {
		return b.has(glob)
	}
	for name := range b.Placed {
		if ok, _ := path.Match(glob, name); ok {
			return true
		}
	}
	return false
}
