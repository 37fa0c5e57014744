package step

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/stored/tree"
)

// files looks at the files of a checkout for all steps of one plan: a folder is walked once
// however many globs lie in it, and a file whose stamp is the one that its sum was taken at
// is not read again.
type files struct {
	r      *reading.Reader
	dir    string
	record string // where sums are kept beside stamps; "" keeps none
	kept   []summed
	begun  bool              // kept was read
	next   int               // the one of kept after the last that was found
	taken  map[string]summed // sums that are not kept
	walked map[string]tree.Manifest
	lists  map[string]list
	since  time.Time
}

// summed is the sum of a file and the stamp that it had then.
type summed struct {
	name  string // below the checkout
	stamp disk.Stamp
	sum   string
}

// list are the files that a step reads, in the order of their names, and a digest of it.
type list struct {
	files  []named
	digest string
}

// named is the sum of one of them.
type named struct{ name, sum string }

func look(r *reading.Reader, dir string, marks Marks) *files {
	f := &files{r: r, dir: dir, taken: map[string]summed{}, walked: map[string]tree.Manifest{}, lists: map[string]list{}, since: time.Now()}
	if marks.Checkout != "" {
		f.record = filepath.Join(marks.Checkout, "sums")
	}
	return f
}

// read gives a digest for each file that the globs name. A folder counts with all that is in
// it; version control's own and Trammel's folder never count.
func (f *files) read(globs, ignore []string) (list, error) {
	key := fmt.Sprintf("%q %q", globs, ignore)
	if known, ok := f.lists[key]; ok {
		return known, nil
	}
	ignoring, err := readIgnored(f.r, f.dir, ignore)
	if err != nil {
		return list{}, err
	}
	for _, glob := range globs {
		if out, negated := strings.CutPrefix(glob, "!"); negated {
			ignoring = append(ignoring, ignorePattern{glob: out})
		}
	}
	f.begin()
	skip := &skipper{list: ignoring, folders: map[string][]bool{}}
	var all []named
	for _, glob := range globs {
		if strings.HasPrefix(glob, "!") {
			continue
		}
		found, err := f.glob(glob, skip, &all)
		if err != nil {
			return list{}, err
		}
		if !found {
			all = append(all, named{glob, "nothing"})
		}
	}
	slices.SortFunc(all, func(a, b named) int { return strings.Compare(a.name, b.name) })
	all = slices.CompactFunc(all, func(a, b named) bool { return a.name == b.name })
	x := list{all, string(tree.DigestOf(listBytes(all)))}
	f.lists[key] = x
	return x, nil
}

// glob adds the files that one glob names, and says whether it names anything.
func (f *files) glob(glob string, skip *skipper, all *[]named) (found bool, err error) {
	base, pattern := doublestar.SplitPattern(glob)
	if neverRead(base) {
		return false, nil
	}
	root, err := os.OpenRoot(f.dir)
	if err != nil {
		return false, err
	}
	defer root.Close()
	// What lies outside of the checkout, by links too, is not there.
	f.r.File(filepath.Join(f.dir, base))
	if info, err := root.Stat(base); err != nil || !info.IsDir() {
		return false, nil
	}
	if !strings.ContainsAny(pattern, `*?[{\`) {
		f.r.Entry(filepath.Join(f.dir, base, pattern))
		info, err := root.Lstat(path.Join(base, pattern))
		if err != nil || neverRead(pattern) {
			return false, nil
		}
		if !info.IsDir() {
			return true, f.add(path.Join(base, pattern), disk.LinkStampOf(filepath.Join(f.dir, base, pattern)), info.Mode().Type(), skip, all)
		}
		base, pattern = path.Join(base, pattern), "**"
	}
	list, err := f.walk(base, skip)
	if err != nil {
		return false, err
	}
	found = pattern == "**"    // which names the folder itself, too
	whole := map[string]bool{} // folders that the pattern names, with all that is in them
	var named func(folder string) bool
	named = func(folder string) bool {
		if folder == "." {
			return false
		}
		yes, known := whole[folder]
		if !known {
			yes = named(path.Dir(folder)) || doublestar.MatchUnvalidated(pattern, folder)
			whole[folder] = yes
		}
		return yes
	}
	for _, e := range list {
		if pattern != "**" && pattern != "**/*" && !named(path.Dir(e.Path)) && !doublestar.MatchUnvalidated(pattern, e.Path) {
			continue
		}
		found = true
		if e.Type == tree.EmptyDir {
			continue
		}
		mode := fs.FileMode(0)
		switch e.Type {
		case tree.Link:
			mode = fs.ModeSymlink
		case tree.File, tree.Executable:
		default:
			mode = fs.ModeIrregular
		}
		if err := f.add(path.Join(base, e.Path), e.Stamp, mode, skip, all); err != nil {
			return found, err
		}
	}
	return found, nil
}

// walk lists a folder below the checkout.
func (f *files) walk(base string, skip *skipper) (tree.Manifest, error) {
	key := base + "\x00" + skip.key()
	if list, ok := f.walked[key]; ok {
		return list, nil
	}
	prefix := base + "/"
	if base == "." {
		prefix = ""
	}
	f.r.Tree(filepath.Join(f.dir, filepath.FromSlash(base)), func(folder string) bool {
		return neverRead(path.Base(folder)) || skip.prunes(prefix+folder)
	})
	list, err := tree.List(filepath.Join(f.dir, filepath.FromSlash(base)), func(folder string) bool {
		return neverRead(path.Base(folder)) || skip.prunes(prefix+folder)
	})
	if err == nil {
		f.walked[key] = list
	}
	return list, err
}

// add takes the sum of one file.
func (f *files) add(name string, stamp disk.Stamp, mode fs.FileMode, skip *skipper, all *[]named) error {
	if skip.skips(name) {
		return nil
	}
	x, ok := f.known(name)
	if !ok || x.stamp != stamp || mode != x.mode() {
		if x, ok = f.taken[name]; !ok {
			s, err := sum(filepath.Join(f.dir, filepath.FromSlash(name)))
			if errors.Is(err, fs.ErrNotExist) { // it went while it was looked at
				return nil
			}
			if err != nil {
				return err
			}
			x = summed{name, stamp, s}
			f.taken[name] = x
		}
	}
	*all = append(*all, named{name, x.sum})
	return nil
}

// mode is the kind of file that a sum was taken of.
func (x summed) mode() fs.FileMode {
	switch {
	case strings.HasPrefix(x.sum, "L"): // as fs.ModeSymlink is written, and no digest
		return fs.ModeSymlink
	case strings.Contains(x.sum, "-"):
		return fs.ModeIrregular
	}
	return 0
}

// begin reads the record, once. One that is damaged counts for nothing: the files are read.
func (f *files) begin() {
	if !f.begun {
		f.begun = true
		if f.record != "" {
			f.kept = readSums(f.r, f.record)
		}
	}
}

// known is what the record says of a file.
func (f *files) known(name string) (summed, bool) {
	f.begin()
	// Both are sorted by name, so that it mostly is the one after the last that was found.
	if f.next < len(f.kept) && f.kept[f.next].name == name {
		f.next++
		return f.kept[f.next-1], true
	}
	i, ok := slices.BinarySearchFunc(f.kept, name, func(x summed, name string) int { return strings.Compare(x.name, name) })
	if !ok {
		return summed{}, false
	}
	f.next = i + 1
	return f.kept[i], true
}

func readSums(r *reading.Reader, file string) []summed {
	raw, err := r.Read(file, disk.MostLock)
	if err != nil {
		return nil
	}
	text, whole := strings.CutSuffix(string(raw), sumsEnd)
	if !whole {
		return nil
	}
	out := make([]summed, 0, strings.Count(text, "\n"))
	for text != "" {
		var line string
		line, text, _ = strings.Cut(text, "\n")
		var n [4]int64
		for i := range n {
			var word string
			word, line, _ = strings.Cut(line, " ")
			n[i], _ = strconv.ParseInt(word, 10, 64)
		}
		if sum, name, ok := strings.Cut(line, "\t"); ok {
			out = append(out, summed{name, disk.Stamp{Size: n[0], Mod: n[1], Change: n[2], Inode: uint64(n[3])}, sum})
		}
	}
	return out
}

const sumsEnd = "end of sums\n"

// keep writes the record of sums down, when there is something new in it.
func (f *files) keep() error {
	if f.record == "" || len(f.taken) == 0 {
		return nil
	}
	var all []summed
	clock := reading.ClockOf(filepath.Dir(f.record), checkout.Clock(f.dir))
	for _, x := range f.taken {
		path := filepath.Join(f.dir, x.name)
		told := rests.Of([]rests.Look{{Kind: rests.Entry, Path: path, Found: rests.EntryStamp(path)}}, f.since.UnixNano())
		if told.Settled(clock) && disk.LinkStampOf(path) == x.stamp && !strings.ContainsAny(x.name+x.sum, "\n\t") {
			all = append(all, x)
		}
	}
	if len(all) == 0 {
		return nil
	}
	for _, x := range f.kept { // what other steps read stays, as long as it is there
		if _, anew := f.taken[x.name]; !anew && disk.LinkStampOf(filepath.Join(f.dir, x.name)) == x.stamp {
			all = append(all, x)
		}
	}
	slices.SortFunc(all, func(a, b summed) int { return strings.Compare(a.name, b.name) })
	var b []byte
	for _, x := range all {
		for _, n := range []int64{x.stamp.Size, x.stamp.Mod, x.stamp.Change, int64(x.stamp.Inode)} {
			b = append(strconv.AppendInt(b, n, 10), ' ')
		}
		b = append(append(append(append(b, x.sum...), '\t'), x.name...), '\n')
	}
	f.kept, f.taken = all, map[string]summed{}
	return disk.Write(f.record, append(b, sumsEnd...), 0o600)
}

// Keep writes down what a plan read of files, beside their stamps, so that the next one need
// not read them again. A plan that only looks at a machine does not call it.
func Keep(plan []Status) error {
	for _, st := range plan {
		if st.files != nil {
			return st.files.keep()
		}
	}
	return nil
}

// Reads are the digests of the files below a folder that globs name, as steps have them.
func Reads(r *reading.Reader, dir string, globs, ignore []string, marks Marks) (map[string]string, error) {
	list, err := look(r, dir, marks).read(globs, ignore)
	out := make(map[string]string, len(list.files))
	for _, x := range list.files {
		out[x.name] = x.sum
	}
	return out, err
}

// listBytes is a list as it is kept beside a mark; its digest stands in the mark.
func listBytes(list []named) []byte {
	size := 0
	for _, x := range list {
		size += len(x.sum) + len(x.name) + len("\t\"\"\n")
	}
	b := make([]byte, 0, size)
	for _, x := range list {
		b = append(append(b, x.sum...), '\t')
		if strings.IndexFunc(x.name, func(r rune) bool { return r < ' ' || r > '~' || r == '"' || r == '\\' }) < 0 {
			b = append(append(append(b, '"'), x.name...), '"')
		} else {
			b = strconv.AppendQuote(b, x.name)
		}
		b = append(b, '\n')
	}
	return b
}

// readList reads a list that was kept; what is not as the mark says is none.
func readList(r *reading.Reader, file, digest string) map[string]string {
	raw, err := r.Read(file, disk.MostLock)
	if err != nil || string(tree.DigestOf(raw)) != digest {
		return nil
	}
	out := map[string]string{}
	for line := range strings.Lines(string(raw)) {
		sum, quoted, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if name, err := strconv.Unquote(quoted); err == nil {
			out[name] = sum
		}
	}
	return out
}

// fileInput is the input of a step that stands for all files which it reads.
const fileInput = "what it reads"

// why says what is not as it was when the step was done last: of files, which.
func (st Status) why(r *reading.Reader, marks string) string {
	old, now := map[string]string(st.Mark.Inputs), map[string]string(st.inputs)
	if old[fileInput] == now[fileInput] {
		return canon.Changed(old, now)
	}
	old, now = plain(old), plain(now)
	was := readList(r, listFile(marks, st.Step.Name), st.Mark.Inputs[fileInput])
	if was == nil && st.Mark.Inputs[fileInput] != "" {
		return fileInput + " changed"
	}
	for name, sum := range was {
		old[name] = sum
	}
	for _, x := range st.reads.files {
		now[x.name] = x.sum
	}
	return canon.Changed(old, now)
}

// plain are inputs without the one that stands for files.
func plain(inputs map[string]string) map[string]string {
	out := map[string]string{}
	for name, digest := range inputs {
		if name != fileInput {
			out[name] = digest
		}
	}
	return out
}

func listFile(marks, name string) string { return filepath.Join(marks, name+".reads") }

// neverRead tells whether a path is version control's or Trammel's own.
func neverRead(path string) bool {
	for word := range strings.SplitSeq(path, "/") {
		if word == ".git" || word == ".trammel" {
			return true
		}
	}
	return false
}

// mostHashed is up to which size a file is told by its content, in bytes; a larger one is told
// by its size and time, so that looking whether a step is due takes no minutes.
const mostHashed = 1 << 30

func sum(path string) (string, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	if info.Size() > mostHashed {
		return fmt.Sprintf("large: %d bytes, of %d", info.Size(), info.ModTime().UnixNano()), nil
	}
	if !info.Mode().IsRegular() {
		target, _ := os.Readlink(path)
		return info.Mode().Type().String() + target, nil
	}
	return tree.SumOf(path)
}
