package debian

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/version"
)

// Package is one binary package of an index.
type Package struct {
	Name      string
	Version   string
	Arch      string
	Path      string // below the archive's address
	SHA256    string // hex
	Size      int64  // bytes of the .deb
	Priority  string
	Essential bool

	PreDepends, Depends, Provides, Conflicts, Breaks string

	About string // its description in one line
}

// The fields of a Packages file that the compact index keeps, in its order.
var keptFields = []string{
	"Package", "Version", "Architecture", "Filename", "SHA256", "Size", "Priority", "Essential",
	"Pre-Depends", "Depends", "Provides", "Conflicts", "Breaks", "Description",
}

func (p *Package) fields() []string {
	essential := ""
	if p.Essential {
		essential = "yes"
	}
	return []string{
		p.Name, p.Version, p.Arch, p.Path, p.SHA256, strconv.FormatInt(p.Size, 10), p.Priority, essential,
		p.PreDepends, p.Depends, p.Provides, p.Conflicts, p.Breaks, p.About,
	}
}

func packageOf(f []string) (*Package, error) {
	if len(f) != len(keptFields) {
		return nil, errDamaged
	}
	size, err := strconv.ParseInt(f[5], 10, 64)
	if err != nil {
		return nil, errDamaged
	}
	return &Package{f[0], f[1], f[2], f[3], f[4], size, f[6], f[7] == "yes", f[8], f[9], f[10], f[11], f[12], f[13]}, nil
}

// maxPackage is how large a package may say it is, in bytes: an ar archive cannot hold more
// than ten digits (deb(5)).
const maxPackage = 9_999_999_999

// ParsePackages reads a Packages file for one architecture (Policy 5.3 and the
// repository format) and calls each with every package.
func ParsePackages(r io.Reader, each func(*Package) error) error {
	wanted := map[string]bool{}
	for _, f := range keptFields {
		wanted[f] = true
	}
	return Paragraphs(r, wanted, func(fields map[string]string) error {
		values := make([]string, len(keptFields))
		for i, f := range keptFields {
			values[i] = strings.ReplaceAll(fields[f], "\n", " ")
		}
		p, err := packageOf(values)
		if err == nil && (p.Size <= 0 || p.Size > maxPackage) {
			return fmt.Errorf("the package %q of the index has the size %s", p.Name, fields["Size"])
		}
		if err != nil || p.Name == "" || p.Path == "" || len(p.SHA256) != 64 || !version.Debian.Valid(p.Version) ||
			strings.Contains(p.Path, "..") || strings.HasPrefix(p.Path, "/") || strings.ContainsAny(p.Name+p.Version+p.Path, " \x00") || strings.Contains(p.Name, "/") {
			return fmt.Errorf("the package %q of the index lacks its version, size, path or digest", p.nameOr(fields["Package"]))
		}
		return each(p)
	})
}

func (p *Package) nameOr(name string) string {
	if p == nil || p.Name == "" {
		return name
	}
	return p.Name
}

// The compact index is one file: a heading, the count of packages and of provided
// names, the offsets of the packages sorted by name and falling version, pairs of
// offset and package number of the provided names sorted by name, and then the
// records, each a length and its fields with a zero byte between.
const indexMagic = "trammel debian index 2\n"

var (
	order      = binary.LittleEndian
	errDamaged = errors.New("the compact index is damaged")
)

// WriteIndex writes the compact index of packages.
func WriteIndex(w io.Writer, list []*Package) error {
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b *Package) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return version.Debian.Compare(b.Version, a.Version)
	})
	for i := 1; i < len(list); i++ {
		if a, b := list[i-1], list[i]; a.Name == b.Name && a.Version == b.Version && a.Arch == b.Arch && a.SHA256 != b.SHA256 {
			return fmt.Errorf("the package %s %s stands in the index twice, with other bytes each time", a.Name, a.Version)
		}
	}
	type provided struct {
		name, version string
		number        int
	}
	var provides []provided
	for i, p := range list {
		groups, err := ParseRelations(p.Provides, p.Arch)
		if err != nil {
			return fmt.Errorf("%s provides %w", p.Name, err)
		}
		for _, g := range groups {
			provides = append(provides, provided{g[0].Name, g[0].Version, i})
		}
	}
	slices.SortStableFunc(provides, func(a, b provided) int { return strings.Compare(a.name, b.name) })

	head := []byte(indexMagic)
	head = order.AppendUint32(head, uint32(len(list)))
	head = order.AppendUint32(head, uint32(len(provides)))
	at := len(head) + 4*len(list) + 8*len(provides)
	var records []byte
	record := func(fields ...string) {
		text := strings.Join(fields, "\x00")
		records = order.AppendUint32(records, uint32(len(text)))
		records = append(records, text...)
	}
	for _, p := range list {
		head = order.AppendUint32(head, uint32(at+len(records)))
		record(p.fields()...)
	}
	for _, p := range provides {
		head = order.AppendUint32(head, uint32(at+len(records)))
		head = order.AppendUint32(head, uint32(p.number))
		record(p.name, p.version)
	}
	if at+len(records) > 1<<31 {
		return errors.New("the index has more than 2 GiB")
	}
	if _, err := w.Write(head); err != nil {
		return err
	}
	_, err := w.Write(records)
	return err
}

// Index is a compact index, opened. It may be used by several goroutines.
type Index struct {
	file     *os.File
	packages int
	provides int
	read     sync.Map // package number → *Package
}

// OpenIndex opens a compact index.
func OpenIndex(path string) (*Index, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	head := make([]byte, len(indexMagic)+8)
	if _, err := f.ReadAt(head, 0); err != nil || string(head[:len(indexMagic)]) != indexMagic {
		f.Close()
		return nil, errDamaged
	}
	n := head[len(indexMagic):]
	x := &Index{file: f, packages: int(order.Uint32(n)), provides: int(order.Uint32(n[4:]))}
	if info, err := f.Stat(); err != nil || info.Size() < int64(len(head)+4*x.packages+8*x.provides) {
		f.Close()
		return nil, errDamaged
	}
	return x, nil
}

// Close gives the file back.
func (x *Index) Close() error { return x.file.Close() }

// record reads the fields of the record whose offset stands at a place. Most
// records are short, so one read of a guess usually has all.
func (x *Index) record(at int64) ([]string, error) {
	var place [4]byte
	if _, err := x.file.ReadAt(place[:], at); err != nil {
		return nil, errDamaged
	}
	offset := int64(order.Uint32(place[:]))
	guess := make([]byte, 1024)
	n, _ := x.file.ReadAt(guess, offset)
	if n < 4 {
		return nil, errDamaged
	}
	length := int(order.Uint32(guess))
	if length > maxParagraph {
		return nil, errDamaged
	}
	text := guess[4:n]
	if len(text) < length {
		text = make([]byte, length)
		if _, err := x.file.ReadAt(text, offset+4); err != nil {
			return nil, errDamaged
		}
	}
	return strings.Split(string(text[:length]), "\x00"), nil
}

func (x *Index) packageNumber(i int) (*Package, error) {
	if p, ok := x.read.Load(i); ok {
		return p.(*Package), nil
	}
	fields, err := x.record(int64(len(indexMagic) + 8 + 4*i))
	if err != nil {
		return nil, err
	}
	p, err := packageOf(fields)
	if err == nil {
		x.read.Store(i, p)
	}
	return p, err
}

func (x *Index) provided(i int) (name, version_ string, number int, err error) {
	at := int64(len(indexMagic) + 8 + 4*x.packages + 8*i)
	fields, err := x.record(at)
	if err != nil {
		return "", "", 0, err
	}
	var place [4]byte
	if _, err := x.file.ReadAt(place[:], at+4); err != nil || len(fields) != 2 {
		return "", "", 0, errDamaged
	}
	number = int(order.Uint32(place[:]))
	if number >= x.packages {
		return "", "", 0, errDamaged
	}
	return fields[0], fields[1], number, nil
}

// search is a binary search for the first of n entries whose name is not before
// the wanted one.
func search(n int, want string, name func(i int) (string, error)) (int, error) {
	low, high := 0, n
	for low < high {
		middle := (low + high) / 2
		got, err := name(middle)
		if err != nil {
			return 0, err
		}
		if got < want {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low, nil
}

// Named lists the packages of a name, the newest version first.
func (x *Index) Named(name string) ([]*Package, error) {
	return x.from(name, func(p *Package) bool { return p.Name == name })
}

// Starting lists the packages whose names start with a text, sorted by name.
func (x *Index) Starting(prefix string) ([]*Package, error) {
	return x.from(prefix, func(p *Package) bool { return strings.HasPrefix(p.Name, prefix) })
}

func (x *Index) from(name string, goOn func(*Package) bool) ([]*Package, error) {
	i, err := search(x.packages, name, func(i int) (string, error) {
		p, err := x.packageNumber(i)
		if err != nil {
			return "", err
		}
		return p.Name, nil
	})
	if err != nil {
		return nil, err
	}
	var out []*Package
	for ; i < x.packages; i++ {
		p, err := x.packageNumber(i)
		if err != nil {
			return nil, err
		}
		if !goOn(p) {
			break
		}
		out = append(out, p)
	}
	return out, nil
}

// Provider is a package that provides a name, and the version that it provides.
type Provider struct {
	*Package
	As string // "" where the provided name has no version
}

// Providers lists what provides a name.
func (x *Index) Providers(name string) ([]Provider, error) {
	i, err := search(x.provides, name, func(i int) (string, error) {
		got, _, _, err := x.provided(i)
		return got, err
	})
	if err != nil {
		return nil, err
	}
	var out []Provider
	for ; i < x.provides; i++ {
		got, as, number, err := x.provided(i)
		if err != nil {
			return nil, err
		}
		if got != name {
			break
		}
		p, err := x.packageNumber(number)
		if err != nil {
			return nil, err
		}
		out = append(out, Provider{p, as})
	}
	return out, nil
}

// Each hands on every package, by name.
func (x *Index) Each(visit func(*Package)) error {
	for i := range x.packages {
		p, err := x.packageNumber(i)
		if err != nil {
			return err
		}
		visit(p)
	}
	return nil
}

// Len is the count of packages.
func (x *Index) Len() int { return x.packages }
