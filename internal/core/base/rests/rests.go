// Package rests says what a thing was learnt from.
//
// Whatever is decided once and believed later (a cached plan, a shell's environment, consent that
// was given) rests on looks at the world: files, names that were missing, folders that were listed,
// variables. On is all of them as one value. Each is noted by the function that reads
// (package reading), values are joined where what was learnt is joined, and On alone decides
// whether it may still be believed, whether a change could have been missed, and what to watch.
//
// Not promised: that a file whose writer still holds it mapped has another stamp after a change
// (mmap(2), msync(2)). What runs by consent is therefore held to its bytes.
//
// The package imports nothing that is initialised late, since roles that are played before the
// libraries judge by it (internal/early).
package rests

import (
	"hash/fnv"
	"os"
	"slices"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// Kind is what was looked at.
type Kind byte

// The kinds of looks, with what is remembered of each.
const (
	File     Kind = 'f' // what a path leads to, links followed: its stamp
	Entry    Kind = 'e' // the entry itself: its stamp, that of the link where it is one
	Identity Kind = 'i' // a folder on the way to something: which folder it is, whatever is in it
	Missing  Kind = 'm' // names that were missing in a folder: the folder's stamp, and the names
	Commands Kind = 'c' // programs in a folder that can be started: the folder's stamp, "" where each counts by itself, and their names
	Bytes    Kind = 'b' // the bytes of a file: the path of a copy that has them
	Variable Kind = 'v' // a variable of the environment: a sum of its value
	Program  Kind = 'p' // this program's own file: its stamp
)

// Look is one look at the world, and what it found.
type Look struct {
	Kind  Kind
	Path  string // absolute; the name of a variable
	Found string // "" where nothing was there
}

// On is what something was learnt from. The zero value rests on nothing. It never changes.
type On struct {
	looks []Look
	began int64  // before the first look, in nanoseconds since 1970 by the local clock; 0 with no looks
	never string // why it cannot be believed later at all; "" where it can
}

// Of makes the value of looks that were begun at a moment, in nanoseconds since 1970. Two looks
// at one thing that found something else are a change that happened meanwhile: what was learnt is
// then believed no later.
func Of(looks []Look, began int64) On {
	if len(looks) == 0 {
		return On{}
	}
	out := On{began: began}
	sorted := slices.Clone(looks)
	slices.SortFunc(sorted, func(a, b Look) int {
		if a.Kind != b.Kind {
			return int(a.Kind) - int(b.Kind)
		}
		if a.Path != b.Path {
			return compare(a.Path, b.Path)
		}
		return compare(a.Found, b.Found)
	})
	for _, x := range sorted {
		if n := len(out.looks); n > 0 && out.looks[n-1].Kind == x.Kind && out.looks[n-1].Path == x.Path {
			found, same := both(x.Kind, out.looks[n-1].Found, x.Found)
			if !same {
				out.never = "it changed meanwhile: " + x.Path
			}
			out.looks[n-1].Found = found
			continue
		}
		out.looks = append(out.looks, x)
	}
	return out
}

// both joins what two looks of a kind at one path found.
func both(kind Kind, a, b string) (found string, same bool) {
	if a == b || kind != Missing && kind != Commands {
		return a, a == b
	}
	stamp, a, _ := plain.Cut(a, between)
	other, b, _ := plain.Cut(b, between)
	all := append(plain.Split(a, between[0]), plain.Split(b, between[0])...)
	slices.Sort(all)
	if stamp != other && kind == Commands { // each counts by itself
		return NamesIn("", slices.Compact(all)), true
	}
	return NamesIn(stamp, slices.Compact(all)), stamp == other
}

func compare(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// Never is what is not to be believed later at all.
func Never(why string) On { return On{never: why} }

// Join is what two things together were learnt from.
func (on On) Join(others ...On) On {
	looks, began, never := on.looks, on.began, on.never
	for _, o := range others {
		looks = append(looks[:len(looks):len(looks)], o.looks...)
		if began == 0 || o.began != 0 && o.began < began {
			began = o.began
		}
		if never == "" {
			never = o.never
		}
	}
	out := Of(looks, began)
	if never != "" {
		out.never = never
	}
	return out
}

// Looks are the single looks, sorted.
func (on On) Looks() []Look { return slices.Clone(on.looks) }

// Holds tells whether every look would find what it found. getenv is the environment's.
func (on On) Holds(getenv func(string) (string, bool)) bool {
	return on.never == "" && !slices.ContainsFunc(on.looks, func(x Look) bool { return !x.holds(getenv) })
}

func (x Look) holds(getenv func(string) (string, bool)) bool {
	switch x.Kind {
	case File:
		return FileStamp(x.Path) == x.Found
	case Entry:
		return EntryStamp(x.Path) == x.Found
	case Identity:
		return IdentityOf(x.Path) == x.Found
	case Commands:
		stamp, names, _ := plain.Cut(x.Found, between)
		if stamp != "" && FileStamp(x.Path) == stamp {
			return true
		}
		return !anyNamed(x.Path, names, func(path string) bool { return !IsCommand(path) })
	case Program:
		return FileStamp(Self) == x.Found
	case Bytes:
		return SameBytes(x.Path, x.Found)
	case Variable:
		value, set := getenv(x.Path)
		return Sum(value, set) == x.Found
	case Missing:
		stamp, names, _ := plain.Cut(x.Found, between)
		if FileStamp(x.Path) == stamp {
			return true
		}
		return !anyNamed(x.Path, names, func(path string) bool { return EntryStamp(path) != "" }) // other names may come and go
	}
	return false
}

// anyNamed tells whether something is so of one of the names in a folder.
func anyNamed(folder, names string, is func(path string) bool) bool {
	begin := 0
	for i := 0; i <= len(names); i++ {
		if i == len(names) || names[i] == between[0] {
			if is(folder + "/" + names[begin:i]) {
				return true
			}
			begin = i + 1
		}
	}
	return false
}

// Clock says how the clock of the file system with a device number stands: by how many nanoseconds
// it is ahead of the local one, and how far apart two changes may be and still get one time from
// it. ok is false where that is not known. path lies on it.
type Clock func(device uint64, path string) (ahead, grain int64, ok bool)

// Settled tells whether a change after the looks would show in each of them: none is younger than
// the grain of its clock was when it was taken.
func (on On) Settled(clock Clock) bool {
	return on.never == "" && !slices.ContainsFunc(on.looks, func(x Look) bool { return !x.settled(on.began, clock) })
}

func (x Look) settled(began int64, clock Clock) bool {
	if x.Kind != File && x.Kind != Entry && x.Kind != Missing && x.Kind != Commands {
		return true
	}
	stamp, _, _ := plain.Cut(x.Found, between)
	if stamp == "" {
		return true // whatever appears has a stamp
	}
	words := plain.Split(stamp, '.')
	if len(words) != stampWords {
		return false
	}
	mod, _ := strconv.ParseInt(words[1], base, 64)
	change, _ := strconv.ParseInt(words[2], base, 64)
	device, _ := strconv.ParseUint(words[4], base, 64)
	ahead, grain, ok := clock(device, x.Path)
	if second := int64(1_000_000_000); mod%second == 0 && change%second == 0 {
		grain = max(grain, 2*second) // a file system that keeps whole seconds, and some keep even ones
	}
	before := began + ahead - grain
	return ok && mod < before && change < before
}

// Watched is a path whose change ends what was learnt.
type Watched struct {
	Path  string
	There bool // false: nothing was there
}

// Watch lists what to watch, for who cannot ask Holds as often: a change of any look shows as a
// path that is newer, that came, or that is gone.
func (on On) Watch() []Watched {
	known := map[string]bool{}
	var out []Watched
	for _, x := range on.looks {
		paths, there := []string{x.Path}, x.Found != ""
		switch x.Kind {
		case Missing:
			stamp, names, _ := plain.Cut(x.Found, between)
			if list := plain.Split(names, between[0]); len(list) <= fewNames {
				there, paths = false, nil
				for _, name := range list {
					paths = append(paths, x.Path+"/"+name)
				}
			} else {
				there = stamp != "" // the folder is newer when a name came
			}
		case Commands: // which do not come or go without their folder
		case Variable, Program, Identity:
			continue
		}
		for _, path := range paths {
			if !known[path] {
				known[path] = true
				out = append(out, Watched{path, there})
			}
		}
	}
	return out
}

// fewNames is up to how many missing names of a folder are watched one by one: a folder that is busy
// with others is none to watch.
const fewNames = 2

// between stands between the words of what a look found; no name has it.
const between = "/"

// Words are the looks as they are cached.
func (on On) Words() []string {
	out := []string{strconv.Itoa(len(on.looks))}
	for _, x := range on.looks {
		out = append(out, string(rune(x.Kind))+x.Path, x.Found)
	}
	return out
}

// Read reads what Words gave, and returns the words behind it.
func Read(words []string) (on On, rest []string, ok bool) {
	if len(words) == 0 {
		return on, nil, false
	}
	n, err := strconv.Atoi(words[0])
	if words = words[1:]; err != nil || n < 0 || n > len(words)/2 {
		return on, nil, false
	}
	on.looks = make([]Look, n)
	for i := range on.looks {
		if words[0] == "" {
			return on, nil, false
		}
		on.looks[i], words = Look{Kind(words[0][0]), words[0][1:], words[1]}, words[2:]
	}
	return on, words[:len(words):len(words)], true
}

// Lasting tells whether the value can be believed later at all.
func (on On) Lasting() bool { return on.never == "" }

// base is that of the numbers in a stamp, and stampWords how many there are.
const (
	base       = 36
	stampWords = 7
)

// FileStamp is the stamp of what a path leads to: size, times of the last change of the content
// and of the entry, inode, device, mode and owner (stat(2)). It is "" where nothing is there, and
// names the error where that is not known.
func FileStamp(path string) string {
	var st syscall.Stat_t
	if err := syscall.Stat(path, &st); err != nil {
		return unknown(err)
	}
	return stamp(&st)
}

// EntryStamp is FileStamp of the entry itself, where it is a symbolic link.
func EntryStamp(path string) string {
	var st syscall.Stat_t
	if err := syscall.Lstat(path, &st); err != nil {
		return unknown(err)
	}
	return stamp(&st)
}

func unknown(err error) string {
	if err == syscall.ENOENT || err == syscall.ENOTDIR {
		return ""
	}
	if errno, ok := err.(syscall.Errno); ok {
		return "?" + strconv.Itoa(int(errno))
	}
	return "?"
}

func stamp(st *syscall.Stat_t) string {
	mod, change := times(st)
	b := make([]byte, 0, 64)
	b = append(strconv.AppendInt(b, st.Size, base), '.')
	b = append(strconv.AppendInt(b, mod, base), '.')
	b = append(strconv.AppendInt(b, change, base), '.')
	b = append(strconv.AppendUint(b, st.Ino, base), '.')
	b = append(strconv.AppendUint(b, uint64(st.Dev), base), '.')
	b = append(strconv.AppendUint(b, uint64(st.Mode), base), '.')
	return string(strconv.AppendUint(b, uint64(st.Uid), base))
}

// IdentityOf says which folder a path is: device, inode and, of a link, when it was made.
func IdentityOf(path string) string {
	var st syscall.Stat_t
	if err := syscall.Lstat(path, &st); err != nil {
		return unknown(err)
	}
	if st.Mode&syscall.S_IFMT == syscall.S_IFLNK {
		return stamp(&st)
	}
	return strconv.FormatUint(uint64(st.Dev), base) + "." + strconv.FormatUint(st.Ino, base)
}

// IsCommand tells whether a path leads to a file that can be started.
func IsCommand(path string) bool {
	var st syscall.Stat_t
	return syscall.Stat(path, &st) == nil && st.Mode&syscall.S_IFMT != syscall.S_IFDIR && st.Mode&0o111 != 0
}

// NamesIn is what a look for names in a folder with a stamp found: those that are missing, or are
// commands.
func NamesIn(stamp string, names []string) string {
	return stamp + between + plain.Join(names, between)
}

// Sum stands for the value of a variable, which may be an address with a password in it.
func Sum(value string, set bool) string {
	if !set {
		return ""
	}
	h := fnv.New128a()
	_, _ = h.Write([]byte(value))
	const digits = "0123456789abcdef"
	out := make([]byte, 0, 32)
	for _, b := range h.Sum(nil) {
		out = append(out, digits[b>>4], digits[b&15])
	}
	return string(out)
}

// MostBytes is how large a file may be that is held to a copy of it, in bytes.
const MostBytes = 64 << 20

// SameBytes tells whether two paths lead to regular files with the same bytes.
func SameBytes(a, b string) bool {
	one, ok := regular(a)
	if !ok {
		return false
	}
	other, ok := regular(b)
	return ok && string(one) == string(other)
}

// regular reads a file that is one, and no device or pipe.
func regular(path string) ([]byte, bool) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() > MostBytes {
		return nil, false
	}
	raw := make([]byte, info.Size()+1) // one more, to see that it does not grow
	n := 0
	for {
		got, err := f.Read(raw[n:])
		n += got
		if n == len(raw) {
			return nil, false
		}
		if got == 0 || err != nil {
			return raw[:n], int64(n) == info.Size()
		}
	}
}
