package approval

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/bmatcuk/doublestar/v4"
	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/declare"
)

// binder finds the files of a checkout that the words of what is run name, and takes their
// digests. What a name leads to is looked for in the checkout alone (os.Root); a name that leads
// elsewhere, or to something that has no bytes to be held to, is told as that. A name of which
// nothing is there is remembered as missing, a pattern as the folders that it was matched in.
type binder struct {
	dir     string
	copies  string // where approved bytes are kept
	r       *reading.Reader
	vars    map[string]string // variables whose values are known
	makes   []made            // what steps make
	data    []string          // globs of files that nothing runs
	filled  map[string]bool   // files that are filled in from templates: links into a bay
	bays    string            // the folder of bays
	root    *os.Root          // of dir
	kinds   map[string]kind
	done    map[string]bool
	found   []boundFile
	inside  []boundFile // those that one line of found tells of, being many
	refused []refusal
	size    int64                  // of all that was found, in bytes
	trees   map[string][]boundFile // folders of which copies are wanted, see pinned
}

// made is a glob of files that a step makes.
type made struct{ glob, step string }

// boundFile is a file with what it is held to.
type boundFile struct {
	name   string // below the checkout, with slashes
	digest string // of its bytes, or of what is told of it instead; "" of what a step makes and is not there
	made   string // the step that makes it, or "": only by that its bytes may change
	text   string // for people
	loud   bool   // it has no digest: a link that leads out of the checkout, a file that cannot be read, a pipe
	plain  bool   // it can, and has a copy
}

// refusal is an effect that cannot be bound, and why.
type refusal struct{ effect, why string }

// Bounds of what is held to its bytes.
const (
	mostBound  = 256 << 20 // bytes of one file
	mostWhole  = 1 << 30   // bytes of all files
	mostFiles  = 20_000    // in all
	mostListed = 40        // of a folder that stand on the list one by one
	mostWalked = 100_000   // names that patterns and folders go through
)

// kind is what a name of the checkout leads to.
type kind int

const (
	isUnknown kind = iota
	isMissing
	isFile
	isFolder
	isElsewhere // a link that leads out of the checkout, or nowhere; or a name behind one
	isUnreadable
	isSpecial // neither a file nor a folder
)

func newBinder(s *checkout.State, r *reading.Reader) *binder {
	b := &binder{dir: s.Dir(), copies: CopiesOf(s.Places, s.Dir()), r: r, filled: map[string]bool{}, vars: map[string]string{"PWD": s.Dir(), "TRAMMEL_DIR": s.Dir()}}
	for _, v := range append(slices.Clone(s.Declaration.Variables), variablesOf(s)...) {
		b.knows(v.Name, v.Value)
	}
	b.data, b.bays = s.Written.Data, s.Places.Bays()+"/"
	for _, x := range s.Written.Files {
		b.filled[x.Path] = true
	}
	for _, x := range s.Written.Steps {
		for _, glob := range x.Makes {
			b.makes = append(b.makes, made{path.Clean(glob), x.Name})
		}
	}
	return b
}

func variablesOf(s *checkout.State) (out []declare.Variable) {
	for _, x := range s.Declaration.Services {
		out = append(out, x.Variables...)
	}
	if s.Overlay != nil {
		out = append(out, s.Overlay.Variables...)
	}
	return out
}

// knows tells the value of a variable that scripts may use.
func (b *binder) knows(name, value string) {
	b.vars[name] = strings.ReplaceAll(value, "@{project.dir}", b.dir)
}

// close ends the search.
func (b *binder) close() {
	if b.root != nil {
		b.root.Close()
	}
}

func (b *binder) open() error {
	if b.root != nil {
		return nil
	}
	root, err := os.OpenRoot(b.dir)
	b.root, b.kinds, b.done = root, map[string]kind{}, map[string]bool{}
	return err
}

func (b *binder) full(name string) string { return filepath.Join(b.dir, filepath.FromSlash(name)) }

// kind looks what a name leads to.
func (b *binder) kind(name string) kind {
	if !filepath.IsLocal(name) {
		return isMissing // it is no name of the checkout
	}
	if b.open() != nil {
		return isUnreadable
	}
	k, known := b.kinds[name]
	if !known {
		k = b.look(name)
		b.kinds[name] = k
	}
	return k
}

func (b *binder) look(name string) kind {
	full := b.full(name)
	info, err := b.root.Lstat(filepath.FromSlash(name))
	if disk.Gone(err) || errors.Is(err, syscall.ENAMETOOLONG) || errors.Is(err, fs.ErrInvalid) {
		b.r.Absent(full)
		return isMissing
	}
	b.r.Passing(b.dir, full)
	if err == nil && info.IsDir() {
		b.r.Identity(full)
		return isFolder
	}
	b.r.Entry(full)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		b.r.File(full)
		info, err = b.root.Stat(filepath.FromSlash(name))
		if err != nil {
			return isElsewhere
		}
	}
	switch {
	case err != nil && errors.Is(err, fs.ErrPermission):
		return isUnreadable
	case err != nil: // a folder on the way is a link that leaves
		return isElsewhere
	case info.IsDir():
		return isFolder
	case info.Mode().IsRegular():
		return isFile
	}
	return isSpecial
}

// below is a word as a path below the checkout; ok is false for what cannot be one.
func (b *binder) below(word string) (string, bool) {
	if word == "" || len(word) > mostValue || strings.Contains(word, "\x00") {
		return "", false
	}
	if filepath.IsAbs(word) {
		rel, err := filepath.Rel(b.dir, word)
		if err != nil || !filepath.IsLocal(rel) {
			return "", false
		}
		return filepath.ToSlash(rel), true
	}
	return path.Clean(word), true
}

// own tells whether a name is Trammel's own folder, or is no name of the checkout at all.
func own(name string) bool {
	return !filepath.IsLocal(name) || name == checkout.LocalName || strings.HasPrefix(name, checkout.LocalName+"/")
}

// bind holds what a name stands for to its bytes: a file, what is in a folder, what a pattern
// matches. The checkout's folder itself stands for nothing: whoever is given all of it is given
// the project's code. folder is false for a word that means no folder.
func (b *binder) bind(name string, folder bool) error {
	if own(name) || name == "." {
		return nil
	}
	if strings.ContainsAny(name, "*?[") {
		if err := b.pattern(name); err != nil {
			return err
		}
	}
	if folder && b.kind(name) == isFolder {
		return b.folder(name)
	}
	return b.bindFile(name)
}

// pattern binds the files that a pattern matches.
func (b *binder) pattern(name string) error {
	if b.done["pattern "+name] {
		return nil
	}
	b.done["pattern "+name] = true
	if !doublestar.ValidatePattern(name) || b.open() != nil {
		return nil
	}
	walked := 0
	err := doublestar.GlobWalk(counted{b.r.DirFS(b.dir), &walked}, name, func(match string, d fs.DirEntry) error {
		if own(match) {
			return nil
		}
		if b.kind(match) == isFolder {
			return nil // its files are matched by themselves
		}
		return b.bindFile(match)
	}, doublestar.WithNoFollow())
	if errors.Is(err, errMany) {
		return err
	}
	return nil
}

// counted is a file system that ends a search which goes through too many names. A pattern does not go
// into what is git's or Trammel's own.
type counted struct {
	fs.FS
	walked *int
}

func (c counted) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := fs.ReadDir(c.FS, name)
	list = slices.DeleteFunc(list, func(e fs.DirEntry) bool { return e.Name() == ".git" || own(path.Join(name, e.Name())) })
	if *c.walked += len(list); *c.walked > mostWalked {
		return nil, errMany
	}
	return list, err
}

// folder binds what is in a folder, at any depth. Many files are told by one line.
func (b *binder) folder(name string) error {
	if b.done["folder "+name] {
		return nil
	}
	b.done["folder "+name] = true
	before := len(b.found)
	walked := 0
	err := fs.WalkDir(b.root.FS(), name, func(at string, d fs.DirEntry, err error) error {
		if walked++; walked > mostWalked {
			return errMany
		}
		switch {
		case err != nil && disk.Gone(err):
			return nil
		case err != nil:
			b.loudly(at, "a folder that cannot be read")
			return nil
		case d.IsDir():
			if d.Name() == ".git" || own(at) {
				return fs.SkipDir
			}
			b.r.Folder(b.full(at))
			return nil
		}
		return b.bindFile(at)
	})
	if err != nil {
		return errMany
	}
	if more := b.found[before:]; len(more) > mostListed {
		h := blake3.New(32, nil)
		step := more[0].made
		for _, f := range more {
			fmt.Fprintf(h, "%q %s\n", f.name, f.digest)
			if f.made != step {
				step = ""
			}
		}
		loud := slices.DeleteFunc(slices.Clone(more), func(f boundFile) bool { return !f.loud })
		b.found = append(b.found[:before:before], loud...)
		b.found = append(b.found, boundFile{name: name + "/", made: step, digest: "blake3:" + hex.EncodeToString(h.Sum(nil)), text: fmt.Sprintf("the bytes of %d files in %s", len(more), name)})
		b.inside = append(b.inside, slices.DeleteFunc(more, func(f boundFile) bool { return f.loud })...)
	}
	return nil
}

// bindFile takes the digest of a name when something of the checkout has it.
func (b *binder) bindFile(name string) error {
	if own(name) || name == "." {
		return nil
	}
	k := b.kind(name)
	if b.done["file "+name] || k == isFolder {
		return nil
	}
	b.done["file "+name] = true
	step := b.madeBy(name)
	if step != "" && k == isMissing {
		b.found = append(b.found, boundFile{name: name, made: step, text: "as step " + step + " makes it"})
		return nil
	}
	if (k == isMissing || k == isFile && b.inert(name)) && slices.ContainsFunc(b.data, func(glob string) bool { return isWithin(glob, name) }) {
		return nil
	}
	switch k {
	case isMissing:
		return nil
	case isElsewhere:
		target, _ := b.root.Readlink(filepath.FromSlash(name))
		if b.filled[name] && strings.HasPrefix(target, b.bays) {
			return nil // its template is on the list
		}
		if target == "" {
			b.loudly(name, "LIES BEHIND A LINK THAT LEADS OUT OF THE CHECKOUT: what it says may change unseen")
		} else {
			b.loudly(name, "IS A LINK THAT LEADS OUT OF THE CHECKOUT, OR NOWHERE, to "+target+": what it says may change unseen")
		}
		return nil
	case isUnreadable:
		b.loudly(name, "CANNOT BE READ: what it says is not known")
		return nil
	case isSpecial:
		b.loudly(name, "IS NO REGULAR FILE: whoever writes to it decides what it says")
		return nil
	}
	if len(b.found) > mostFiles {
		return errMany
	}
	digest, err := b.digest(name)
	if err != nil {
		return err
	}
	if digest == "" {
		b.loudly(name, "CANNOT BE READ: what it says is not known")
		return nil
	}
	b.r.Bytes(b.full(name), copyOf(b.copies, strings.TrimPrefix(digest, "blake3:"), name))
	f := boundFile{name: name, digest: digest, made: step, text: "the bytes of " + name, plain: true}
	if step != "" {
		f.text = "as step " + step + " makes it"
	}
	b.found = append(b.found, f)
	return nil
}

// inert tells whether a file cannot be started by itself.
func (b *binder) inert(name string) bool {
	f, err := disk.OpenWithin(b.dir, name)
	if err != nil {
		return false
	}
	defer f.Close()
	info, err := f.Stat()
	head := make([]byte, 4)
	n, _ := io.ReadFull(f, head)
	return err == nil && info.Mode()&0o111 == 0 && !strings.HasPrefix(string(head[:n]), "#!") && string(head[:n]) != "\x7fELF"
}

// loudly tells of what cannot be held to bytes.
func (b *binder) loudly(name, what string) {
	b.found = append(b.found, boundFile{name: name, digest: "not bytes: " + what, text: name + " " + what, loud: true})
}

// madeBy is the step that makes what has a name, "" for none. A name that is somewhere between the
// folder of a glob and what it matches is none.
func (b *binder) madeBy(name string) string {
	for _, m := range b.makes {
		if isWithin(m.glob, name) {
			return m.step
		}
	}
	return ""
}

// digest is that of a regular file below the checkout, "" where it cannot be read.
func (b *binder) digest(name string) (string, error) {
	f, err := disk.OpenWithin(b.dir, name)
	if err != nil {
		return "", nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", nil
	}
	if b.size += info.Size(); info.Size() > mostBound || b.size > mostWhole {
		return "", fmt.Errorf("approval can check files of 256 MiB each and 1 GiB together, and %s goes beyond that", name)
	}
	h := blake3.New(32, nil)
	if _, err := io.Copy(h, f); err != nil {
		return "", nil
	}
	if info.Size() > rests.MostBytes {
		b.r.Never(name + " is too large to be compared with a copy")
	}
	return "blake3:" + hex.EncodeToString(h.Sum(nil)), nil
}

// whole is the digest of a file that is read and not run, a template or a keyring: "" where there is
// none.
func (b *binder) whole(name string) string {
	name, ok := b.below(name)
	if !ok || own(name) || b.kind(name) != isFile {
		return ""
	}
	digest, err := b.digest(name)
	if err != nil {
		b.refused = append(b.refused, refusal{"file " + name, err.Error()})
	}
	return digest
}

// isWithin tells whether a glob matches a name, or a folder that it lies in.
func isWithin(glob, name string) bool { return matches(glob, name) || matches(glob+"/**", name) }

func keysOf[V any](m map[string]V) iter.Seq[string] { return maps.Keys(m) }

func digestOf(raw []byte) string {
	sum := blake3.Sum256(raw)
	return "blake3:" + hex.EncodeToString(sum[:])
}

// matches tells whether a pattern matches a name.
func matches(pattern, name string) bool {
	ok, err := doublestar.Match(pattern, name)
	return ok && err == nil
}
