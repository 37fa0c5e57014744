package lock

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/declare"
)

// Path is where the lock of a project is.
func Path(dir string) string { return filepath.Join(dir, FileName) }

// OverlayName is the name of the lock of a person's own additions.
const OverlayName = "trammel.local.lock"

// OverlayPath is where that lock is.
func OverlayPath(dir string) string { return filepath.Join(dir, OverlayName) }

// ErrNone is what Read wraps when there is no lock yet.
var ErrNone = errors.New("there is no lock")

// Read reads and checks the lock of a project's folder.
func Read(dir string) (*Lock, error) { return ReadFile(Path(dir)) }

// ReadFile reads and checks a lock.
func ReadFile(path string) (*Lock, error) {
	source, err := ReadBytes(filepath.Dir(path), filepath.Base(path))
	if err != nil {
		return nil, err
	}
	return Parse(source)
}

// ReadBytes reads the file of a lock below a folder without looking at what it says.
func ReadBytes(dir, name string) ([]byte, error) {
	source, err := disk.ReadWithin(dir, name, disk.MostLock)
	return source, unread(name, err)
}

func unread(name string, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		e := fault.New(fault.ErrUsage, "there is no %s yet", name)
		e.Cause = ErrNone
		return e.Advise("Make it: trammel lock")
	}
	return fault.New(fault.ErrUsage, "%s %s", name, disk.InWords(err)).Advise("A lock is a regular file in the project's own folder. Bring back the committed one, or write it anew: trammel lock")
}

// Parse reads a lock from memory and checks its digest.
func Parse(source []byte) (*Lock, error) { return parse(source, true) }

func parse(source []byte, whole bool) (*Lock, error) {
	l, err := decode(source)
	if err != nil {
		return nil, unreadable(source, err)
	}
	if l.Format != Format {
		return nil, fault.New(fault.ErrUsage, "%s has format %d, and this program reads format %d", FileName, l.Format, Format).
			Advise("Use the Trammel that your team uses, or lock again.")
	}
	if digest := canon.Digest(l.facts()); whole && digest != l.Digest {
		return nil, fault.New(fault.ErrUsage, "%s was changed by hand or by a merge: its digest is %s and its content has %s", FileName, canon.Short(l.Digest), canon.Short(digest)).
			Advise("Bring back the committed one (git checkout %s), or write it anew: trammel lock", shell.Typed(FileName))
	}
	if err := l.check(); err != nil {
		return nil, err
	}
	return l, nil
}

// itemsAtOnce is how many tables of items are decoded together: the decoder compares each
// table with those before it, which takes seconds for thousands.
const itemsAtOnce = 32

// decode reads the tables of a lock, a chunk after the other. A table that stands in
// two chunks makes the digest wrong.
func decode(source []byte) (*Lock, error) {
	into := func(l *Lock, text string) error {
		return toml.NewDecoder(strings.NewReader(text)).DisallowUnknownFields().Decode(l)
	}
	var l Lock
	var chunk strings.Builder
	items := 0
	for line := range strings.Lines(string(source)) {
		name, isItem := strings.CutPrefix(line, "[item.")
		if isItem && strings.IndexByte(name, ']') == len(name)-2 && !strings.ContainsAny(name, ".\"") {
			if items++; items%itemsAtOnce == 0 {
				if into(&l, chunk.String()) != nil {
					break
				}
				chunk.Reset()
			}
		}
		chunk.WriteString(line)
	}
	if items < itemsAtOnce || into(&l, chunk.String()) != nil {
		l = Lock{} // few, or something wrong: the whole says where
		return &l, into(&l, string(source))
	}
	return &l, nil
}

func unreadable(source []byte, err error) error {
	e := fault.New(fault.ErrUsage, "%s cannot be read: %v", FileName, err)
	for i, line := range strings.Split(string(source), "\n") {
		if strings.HasPrefix(line, "<<<<<<< ") {
			e.What = fmt.Sprintf("%s:%d: the lock holds the marks of a merge that was not finished", FileName, i+1)
			break
		}
	}
	return e.Advise("Take one side (git checkout --ours %s), then: trammel lock", shell.Typed(FileName))
}

// check refuses what a lock with a right digest could still say to reach outside
// the store: a forger can compute digests too.
func (l *Lock) check() error {
	for _, item := range Sorted(l.Items) {
		for _, name := range Sorted(l.Items[item].Variables) {
			if why := declare.NoVariable(name); why != "" {
				return fault.New(fault.ErrUsage, "%s: the card of %s: %s", FileName, item, why).Advise("Have the tool from another source, or tell who wrote its card.")
			}
		}
		for _, as := range append(slices.Collect(maps.Values(l.Items[item].Shown)), l.Items[item].Prefix) {
			if strings.ContainsAny(as, "/\\\x00") {
				return fault.New(fault.ErrUsage, "%s: %s shows a command as %q, which is no name", FileName, item, as).Advise("Write the lock anew: trammel lock")
			}
		}
		for _, parts := range l.Items[item].Platforms {
			for name, p := range parts {
				bad := ""
				if err := p.Digest.Check(); err != nil && p.Format != RootFormat {
					bad = err.Error()
				}
				if p.Format == RootFormat && !l.hasRoot(l.Items[item].Source) {
					bad = "it comes from a root that the lock does not have"
				}
				for to, from := range p.Files {
					if leaves(to) || leaves(from) {
						bad = fmt.Sprintf("the file %q = %q leaves the root", to, from)
					}
				}
				if tree := strings.TrimPrefix(string(p.Tree), "blake3:"); p.Tree != "" && (len(tree) != 64 || strings.Trim(tree, "0123456789abcdef") != "") {
					bad = fmt.Sprintf("%q is not a tree digest", p.Tree)
				}
				if strings.ContainsAny(item+name+l.Items[item].Version, "/\\\x00") || p.Size < 0 {
					bad = "a name or size that no lock has"
				}
				for command, file := range p.Bin {
					if strings.ContainsAny(command, "/\\\x00") || leaves(file) {
						bad = fmt.Sprintf("the command %q = %q leaves the part", command, file)
					}
				}
				if bad != "" {
					return fault.New(fault.ErrUsage, "%s: part %s of %s: %s", FileName, name, item, bad).Advise("Write the lock anew: trammel lock")
				}
			}
		}
	}
	if err := l.checkRoots(); err != nil {
		return err
	}
	return l.checkLibraries()
}

// leaves tells whether a path of a part points out of it.
func leaves(file string) bool {
	return path.IsAbs(file) || strings.HasPrefix(path.Clean(file), "..")
}
