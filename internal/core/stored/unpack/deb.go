package unpack

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// ControlFolder is where the control files of a .deb lie in its tree: the name
// that dpkg-deb(1) gives the folder.
const ControlFolder = "DEBIAN"

// deb reads a Debian binary package (deb(5)): an ar archive of debian-binary,
// control.tar and data.tar. The tree has the data with bin, sbin and lib* moved
// below usr (the merged /usr of Debian 12, which all suites unpack to), links
// rewritten to be relative, and without setuid bits; nothing in it is executed.
func (w *writer) deb(archivePath string) error {
	f, err := os.Open(archivePath)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := members(counted{f, w}, w.debMember); err != nil {
		return err
	}
	if _, ok := w.names[key(ControlFolder+"/control")]; !ok {
		return errors.New("the archive is no Debian package: it has no file control that says what it is")
	}
	return nil
}

// members calls do with the members control.tar and data.tar of a package, in that order.
func members(f io.Reader, do func(body io.Reader, base, suffix string) error) error {
	r, done := buffered(f)
	defer done()
	magic := make([]byte, 8)
	if _, err := io.ReadFull(r, magic); err != nil || string(magic) != "!<arch>\n" {
		return errors.New("the archive is no Debian package: it does not start as ar does")
	}
	seen := map[string]bool{}
	for first := true; ; first = false {
		name, size, err := arHeader(r)
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		body := &io.LimitedReader{R: r, N: size}
		if first { // deb(5): the first member says which format this is
			text, err := io.ReadAll(io.LimitReader(body, 64))
			if name != "debian-binary" || err != nil || !strings.HasPrefix(string(text), "2.") {
				return errors.New("the archive is no Debian package of format 2: its first member is to be debian-binary, with 2.0")
			}
		}
		base, suffix, _ := strings.Cut(name, ".tar")
		if base == "data" && !seen["control"] {
			return &Refused{name, "comes before the control files"}
		}
		if base == "control" || base == "data" {
			if seen[base] {
				return &Refused{name, "appears twice"}
			}
			seen[base] = true
			if err := do(body, base, suffix); err != nil {
				return err
			}
		}
		if _, err := io.Copy(io.Discard, body); err != nil {
			return damaged(err)
		}
		if body.N > 0 {
			return damaged(io.ErrUnexpectedEOF)
		}
		if size%2 == 1 { // members start at even places
			if _, err := r.Discard(1); err != nil && err != io.EOF {
				return damaged(err)
			}
		}
	}
	if !seen["control"] || !seen["data"] {
		return errors.New("the archive is cut off: a Debian package has control.tar and data.tar")
	}
	return nil
}

// Listed is what a Debian package has, without unpacking it.
type Listed struct {
	Files    []string // files and links, with a merged /usr
	Postinst string   // the script that configures it; "" without one
}

// List reads what a Debian package has.
func List(archivePath string) (Listed, error) {
	var out Listed
	f, err := os.Open(archivePath)
	if err != nil {
		return out, err
	}
	defer f.Close()
	err = members(f, func(body io.Reader, base, suffix string) error {
		plain, done, err := decompressed(body, base, suffix)
		if err != nil {
			return err
		}
		defer done()
		ahead, over := buffered(plain)
		defer over()
		return eachEntry(tar.NewReader(ahead), func(t *tar.Reader, h *tar.Header) error {
			name := path.Clean(strings.TrimPrefix(strings.TrimPrefix(h.Name, "."), "/"))
			switch {
			case base == "control" && name == "postinst":
				raw, err := io.ReadAll(io.LimitReader(t, 1<<20))
				out.Postinst = string(raw)
				return err
			case base == "data" && (h.Typeflag == tar.TypeReg || h.Typeflag == tar.TypeSymlink || h.Typeflag == tar.TypeLink) && len(out.Files) < mostListed:
				out.Files = append(out.Files, Merge(name))
			}
			return nil
		})
	})
	return out, err
}

// mostListed bounds how many names of a package are kept.
const mostListed = 1 << 20

// arHeader reads the 60 bytes before a member (deb(5)): name, size in decimal.
func arHeader(r io.Reader) (name string, size int64, err error) {
	var h [60]byte
	if n, err := io.ReadFull(r, h[:]); err == io.EOF && n == 0 {
		return "", 0, io.EOF
	} else if err != nil {
		return "", 0, damaged(err)
	}
	size, err = strconv.ParseInt(strings.TrimSpace(string(h[48:58])), 10, 64)
	if err != nil || size < 0 || string(h[58:]) != "`\n" {
		return "", 0, errors.New("the archive is damaged: it has no ar header where one should be")
	}
	return strings.TrimSuffix(strings.TrimSpace(string(h[:16])), "/"), size, nil
}

// decompressed opens the plain tar of a member.
func decompressed(body io.Reader, base, suffix string) (plain io.Reader, done func(), err error) {
	done = func() {}
	switch suffix {
	case "":
		plain = body
	case ".gz":
		plain, err = gzip.NewReader(body)
	case ".xz":
		var packed *bufio.Reader
		var over, end func()
		packed, over = buffered(body)
		plain, end, err = plainOf(packed)
		done = func() { end(); over() }
	case ".zst":
		var z *zstd.Decoder // several packages are read at once, so that one needs no helpers
		if z, err = zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true)); err == nil {
			plain, done = z, z.Close
		}
	default:
		return nil, done, fmt.Errorf("its %s is compressed as %q, which is not known", base, suffix)
	}
	if err != nil {
		return nil, done, damaged(err)
	}
	return plain, done, nil
}

func (w *writer) debMember(body io.Reader, base, suffix string) error {
	unpacked, done, err := decompressed(body, base, suffix)
	if err != nil {
		return err
	}
	defer done()
	ahead, over := buffered(unpacked)
	defer over()
	entry := w.dataEntry
	if base == "control" {
		entry = w.controlEntry
	}
	if err := eachEntry(tar.NewReader(ahead), entry); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(ahead, freeBytes)); err != nil {
		return damaged(err)
	}
	return nil
}

// controlFiles are those of a package's control files that say something about
// its tree.
var controlFiles = []string{"control", "preinst", "postinst", "triggers"}

func (w *writer) controlEntry(t *tar.Reader, h *tar.Header) error {
	name := path.Clean(h.Name)
	if h.Typeflag != tar.TypeReg || !slices.Contains(controlFiles, name) {
		return nil
	}
	h.Name, h.Mode = ControlFolder+"/"+name, 0o644
	return w.tarEntry(t, h)
}

// Debian's folders of documentation and translations, which a tree has only when
// it is asked for them.
var docFolders = []string{
	"usr/share/doc/", "usr/share/doc-base/", "usr/share/man/", "usr/share/info/", "usr/share/locale/", "usr/share/lintian/",
	"usr/share/bug/", "usr/share/linda/", "usr/share/gtk-doc/", "usr/share/help/", "usr/share/reportbug/",
}

// merged are the top-level folders that lie below usr.
var merged = []string{"bin", "sbin", "lib", "lib64", "lib32", "libx32"}

// Merge gives a path of a package its place with a merged /usr.
func Merge(name string) string {
	first, _, _ := strings.Cut(name, "/")
	if slices.Contains(merged, first) {
		return "usr/" + name
	}
	return name
}

func (w *writer) dataEntry(t *tar.Reader, h *tar.Header) error {
	raw := strings.TrimPrefix(strings.TrimPrefix(h.Name, "."), "/")
	name := path.Clean(raw)
	for word := range strings.SplitSeq(raw, "/") {
		if word == ".." {
			return &Refused{h.Name, "leaves the tree"}
		}
	}
	if name == "." || raw == "" {
		return nil
	}
	place := Merge(name)
	if place == ControlFolder || strings.HasPrefix(place, ControlFolder+"/") {
		return &Refused{h.Name, "has the name of the control files"}
	}
	if !w.rules.Docs && slices.ContainsFunc(docFolders, func(d string) bool { return strings.HasPrefix(place+"/", d) }) {
		return nil
	}
	h.Name = place
	h.Mode &^= 0o7000
	switch h.Typeflag {
	case tar.TypeDir:
		if _, made := w.dirs[place]; made || w.names[key(place)] != 0 {
			return nil
		}
		return w.mkdir(place, false)
	case tar.TypeSymlink:
		if !strings.Contains(name, "/") && slices.Contains(merged, name) {
			return nil // the four links of a merged /usr are made with the root
		}
		target, err := rootLink(name, place, h.Linkname)
		if err != nil {
			return err
		}
		if path.Join(path.Dir(place), target) == place || w.names[key(place)] != 0 {
			return nil // merged with what it points to
		}
		return w.symlink(place, target)
	case tar.TypeLink:
		h.Linkname = Merge(path.Clean(strings.TrimPrefix(strings.TrimPrefix(h.Linkname, "."), "/")))
	}
	return w.tarEntry(t, h)
}

// rootLink is the target of a link, relative to its new place. What it points to
// is decided where the package has it, then moved as everything is.
func rootLink(name, place, target string) (string, error) {
	if target == "" || strings.ContainsRune(target, 0) {
		return "", &Refused{name, "is a link to nothing"}
	}
	to := target
	if !path.IsAbs(target) {
		to = path.Join("/", path.Dir(name), target) // ".." of the root is the root
	}
	to = Merge(strings.TrimPrefix(path.Clean(to), "/"))
	if to == "" {
		to = "."
	}
	return Relative(path.Dir(place), to), nil
}

// Relative is the way from a folder to a path, both of one tree.
func Relative(dir, to string) string {
	var from []string
	if dir != "." {
		from = strings.Split(dir, "/")
	}
	words := strings.Split(to, "/")
	i := 0
	for i < len(from) && i < len(words)-1 && from[i] == words[i] {
		i++
	}
	return strings.Repeat("../", len(from)-i) + strings.Join(words[i:], "/")
}
