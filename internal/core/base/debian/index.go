package debian

import (
	"bufio"
	"cmp"
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
// names and the place of the tables; the records, each a length and its fields with a zero byte
// between; and the tables: the offsets of the packages sorted by name and falling version, and pairs of
// offset and package number of the provided names sorted by name.
const (
	indexMagic = "trammel debian index 3\n"
	indexHead  = len(indexMagic) + 3*4
)

var (
	order      = binary.LittleEndian
	errDamaged = errors.New("the compact index is damaged")
)

// IndexWriter writes a compact index. It holds no package, only what the tables are sorted by.
type IndexWriter struct {
	file     io.WriteSeeker
	out      *bufio.Writer
	at       int64 // where the next record goes
	arches   map[string]string
	packages []indexed
	provides []provided
}

// indexed is a package whose record is written.
type indexed struct {
	name, version, arch string
	sum                 string // SHA-256, hex
	offset              uint32
}

type provided struct {
	name, version string
	of            int // which package, in the order in which they came
	offset        uint32
}

// NewIndexWriter begins a compact index at the start of a file.
func NewIndexWriter(f io.WriteSeeker) *IndexWriter {
	w := &IndexWriter{file: f, out: bufio.NewWriterSize(f, 256<<10), arches: map[string]string{}, at: int64(indexHead)}
	_, _ = w.out.Write(make([]byte, indexHead)) // Finish says what goes wrong with the file
	return w
}

// Add adds a package. It returns an error for one whose relations cannot be read.
func (w *IndexWriter) Add(p *Package) error {
	groups, err := ParseRelations(p.Provides, p.Arch)
	if err != nil {
		return fmt.Errorf("%s provides %w", p.Name, err)
	}
	arch, known := w.arches[p.Arch]
	if !known {
		arch = p.Arch
		w.arches[arch] = arch
	}
	for _, g := range groups {
		w.provides = append(w.provides, provided{g[0].Name, g[0].Version, len(w.packages), uint32(w.at)})
		w.record(g[0].Name, g[0].Version)
	}
	w.packages = append(w.packages, indexed{p.Name, p.Version, arch, p.SHA256, uint32(w.at)})
	w.record(p.fields()...)
	if w.at > 1<<31 {
		return errors.New("the index has more than 2 GiB")
	}
	return nil
}

func (w *IndexWriter) record(fields ...string) {
	text := strings.Join(fields, "\x00")
	_, _ = w.out.Write(order.AppendUint32(nil, uint32(len(text))))
	_, _ = w.out.WriteString(text)
	w.at += 4 + int64(len(text))
}

// Finish writes the tables, and then the heading. It returns an error for a package that stands
// there twice with other bytes each time.
func (w *IndexWriter) Finish() error {
	sorted := make([]int, len(w.packages))
	for i := range sorted {
		sorted[i] = i
	}
	slices.SortStableFunc(sorted, func(i, j int) int {
		a, b := w.packages[i], w.packages[j]
		if c := strings.Compare(a.name, b.name); c != 0 {
			return c
		}
		return version.Debian.Compare(b.version, a.version)
	})
	numbers := make([]uint32, len(sorted))
	for n, i := range sorted {
		numbers[i] = uint32(n)
		if n == 0 {
			continue
		}
		if a, b := w.packages[sorted[n-1]], w.packages[i]; a.name == b.name && a.version == b.version && a.arch == b.arch && a.sum != b.sum {
			return fmt.Errorf("the package %s %s stands in the index twice, with other bytes each time", a.name, a.version)
		}
	}
	slices.SortStableFunc(w.provides, func(a, b provided) int {
		return cmp.Or(strings.Compare(a.name, b.name), cmp.Compare(numbers[a.of], numbers[b.of]))
	})
	for _, i := range sorted {
		_, _ = w.out.Write(order.AppendUint32(nil, w.packages[i].offset))
	}
	for _, p := range w.provides {
		_, _ = w.out.Write(order.AppendUint32(order.AppendUint32(nil, p.offset), numbers[p.of]))
	}
	if err := w.out.Flush(); err != nil { // with what went wrong before
		return err
	}
	if _, err := w.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	head := order.AppendUint32([]byte(indexMagic), uint32(len(sorted)))
	head = order.AppendUint32(order.AppendUint32(head, uint32(len(w.provides))), uint32(w.at))
	_, err := w.file.Write(head)
	return err
}

// Index is a compact index, opened. It may be used by several goroutines.
type Index struct {
	file     *os.File
	packages int
	provides int
	tables   int64
	read     sync.Map // package number → *Package
}

// OpenIndex opens a compact index.
func OpenIndex(path string) (*Index, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	head := make([]byte, indexHead)
	if _, err := f.ReadAt(head, 0); err != nil || string(head[:len(indexMagic)]) != indexMagic {
		f.Close()
		return nil, errDamaged
	}
	n := head[len(indexMagic):]
	x := &Index{file: f, packages: int(order.Uint32(n)), provides: int(order.Uint32(n[4:])), tables: int64(order.Uint32(n[8:]))}
	if info, err := f.Stat(); err != nil || info.Size() != x.tables+int64(4*x.packages+8*x.provides) {
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
	p, err := x.packageAt(i)
	if err == nil {
		x.read.Store(i, p)
	}
	return p, err
}

func (x *Index) packageAt(i int) (*Package, error) {
	fields, err := x.record(x.tables + int64(4*i))
	if err != nil {
		return nil, err
	}
	return packageOf(fields)
}

func (x *Index) provided(i int) (name, version_ string, number int, err error) {
	at := x.tables + int64(4*x.packages+8*i)
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

// Each hands on every package, by name, and keeps none.
func (x *Index) Each(visit func(*Package)) error {
	for i := range x.packages {
		p, err := x.packageAt(i)
		if err != nil {
			return err
		}
		visit(p)
	}
	return nil
}

// Len is the count of packages.
func (x *Index) Len() int { return x.packages }
