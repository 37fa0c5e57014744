// Package kept is an approved plan in the form that the shortest way goes by: `trammel run --
// COMMAND` reads it before the program's libraries are initialised (internal/early), and becomes
// the command. Only what needs nobody else has that form: open and clean isolation, no secret.
//
// A plan is believed only while every file that it was made of is as its stamp says, as the
// longer way believes it; whatever is not as it should be, the longer way decides and explains.
// The package imports nothing outside of the standard library, and of that nothing that is
// initialised late.
package kept

import (
	"errors"
	"hash/fnv"
	"os"
	"slices"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// Format is the first word of the form.
const Format = "trammel plan 3"

// File is one of what a plan was made of.
type File struct {
	Path              string
	Size, Mod, Change int64 // bytes; nanoseconds since 1970
	Inode             uint64
}

// Plan is what the shortest way needs.
type Plan struct {
	Places       []string // data, cache, state, config
	Declaration  string   // its file
	Approved     string   // the approval id
	Named        bool     // consent was TRAMMEL_APPROVE's, and ends with it
	Open         bool     // open isolation: the host's variables and commands stay
	There        []string // folders that must be there
	Files        []File
	KeepNames    []string // of the host's variables
	KeepPrefixes []string
	Set          []string // NAME=VALUE, in order
	Path         []string // folders

	// Sealed isolation alone.
	Order   string   // the view to enter, packed as package within does; "" for another level
	Given   []string // NAME=VALUE that stand among the host's
	Unknown []string // names of the host that the longer way must look at, where they are set
	Hidden  []string // but not to a path that begins so: that does not show in the view
}

// In is the file of a checkout's plan among the plans of a person's state.
func In(plans, dir string) string {
	return plans + "/" + short(dir) + ".plan"
}

// short is a name for a text.
func short(text string) string {
	h := fnv.New128a()
	_, _ = h.Write([]byte(text))
	const digits = "0123456789abcdef"
	var name []byte
	for _, b := range h.Sum(nil) {
		name = append(name, digits[b>>4], digits[b&15])
	}
	return string(name)
}

// separate ends each word of the form; no path, variable or number has it.
const separate = "\x00"

// Bytes is the plan as it is kept; nil for one that has no such form.
func (p Plan) Bytes() []byte {
	words := []string{Format}
	words = append(words, p.Places...)
	words = append(words, p.Declaration, p.Approved, strconv.FormatBool(p.Named), strconv.FormatBool(p.Open), p.Order)
	for _, list := range [][]string{p.There, p.KeepNames, p.KeepPrefixes, p.Set, p.Path, p.Given, p.Unknown, p.Hidden} {
		words = append(append(words, strconv.Itoa(len(list))), list...)
	}
	for _, f := range p.Files {
		words = append(words, f.words()...)
	}
	return joined(words)
}

// joined is words as they are kept; nil where one cannot be.
func joined(words []string) []byte {
	for _, w := range words {
		if plain.Contains(w, separate) {
			return nil
		}
	}
	return []byte(plain.Join(words, separate) + separate + "end")
}

// words are the five that a file is kept as.
func (f File) words() []string {
	return []string{f.Path, strconv.FormatInt(f.Size, 10), strconv.FormatInt(f.Mod, 10), strconv.FormatInt(f.Change, 10), strconv.FormatUint(f.Inode, 10)}
}

// fileOf reads what File.words wrote.
func fileOf(words []string) (f File, err error) {
	var errs [4]error
	f.Path = words[0]
	f.Size, errs[0] = strconv.ParseInt(words[1], 10, 64)
	f.Mod, errs[1] = strconv.ParseInt(words[2], 10, 64)
	f.Change, errs[2] = strconv.ParseInt(words[3], 10, 64)
	f.Inode, errs[3] = strconv.ParseUint(words[4], 10, 64)
	if errs != [4]error{} {
		return f, errForm
	}
	return f, nil
}

var errForm = errors.New("it is no kept plan")

// Read reads what Bytes wrote.
func Read(raw []byte) (p Plan, err error) {
	words := plain.Split(string(raw), separate[0])
	if len(words) < 19 || words[0] != Format || words[len(words)-1] != "end" {
		return p, errForm
	}
	words = words[1 : len(words)-1]
	p.Places, p.Declaration, p.Approved, p.Named, p.Open = words[:4], words[4], words[5], words[6] == "true", words[7] == "true"
	p.Order, words = words[8], words[9:]
	for _, list := range []*[]string{&p.There, &p.KeepNames, &p.KeepPrefixes, &p.Set, &p.Path, &p.Given, &p.Unknown, &p.Hidden} {
		if len(words) == 0 {
			return p, errForm
		}
		n, err := strconv.Atoi(words[0])
		if err != nil || n < 0 || n >= len(words) {
			return p, errForm
		}
		*list, words = words[1:1+n], words[1+n:]
	}
	if len(words)%5 != 0 {
		return p, errForm
	}
	for ; len(words) > 0; words = words[5:] {
		f, err := fileOf(words)
		if err != nil {
			return p, err
		}
		p.Files = append(p.Files, f)
	}
	return p, nil
}

// Valid tells whether all that the plan was made of is as it was, and who may say so has said
// it: getenv is the environment's.
func (p Plan) Valid(getenv func(string) (string, bool)) bool {
	named, ok := getenv("TRAMMEL_APPROVE")
	if ok && named != "" && "sha256:"+plain.TrimPrefix(named, "sha256:") != p.Approved || p.Named && named == "" {
		return false
	}
	for _, name := range p.Unknown {
		value, ok := getenv(name)
		if ok && value != "" && !slices.ContainsFunc(p.Hidden, func(prefix string) bool { return plain.HasPrefix(value, prefix) }) {
			return false
		}
	}
	for _, f := range p.Files {
		if Target(f.Path) != f {
			return false
		}
	}
	for _, dir := range p.There {
		if _, err := os.Stat(dir); err != nil {
			return false
		}
	}
	return true
}

// Target is a file as it is now, by way of symbolic links; one that is not there has no stamp.
func Target(path string) File {
	var st syscall.Stat_t
	if err := syscall.Stat(path, &st); err != nil {
		return File{Path: path}
	}
	return stamped(path, &st)
}

// Entry is Target of the entry itself, where it is a symbolic link; link says that it is one.
func Entry(path string) (f File, link bool) {
	var st syscall.Stat_t
	if err := syscall.Lstat(path, &st); err != nil {
		return File{Path: path}, false
	}
	return stamped(path, &st), st.Mode&syscall.S_IFMT == syscall.S_IFLNK
}

func stamped(path string, st *syscall.Stat_t) File {
	mod, change := times(st)
	return File{path, st.Size, mod, change, st.Ino}
}

// Environ is the environment of a process in a folder, given the host's.
func (p Plan) Environ(host []string, dir string) []string {
	set := map[string]bool{"PATH": true, "PWD": true}
	for _, line := range p.Set {
		name, _, _ := plain.Cut(line, "=")
		set[name] = true
	}
	var out []string
	hostPath := ""
	for _, line := range host {
		name, value, ok := plain.Cut(line, "=")
		if !ok || name == "" {
			continue
		}
		if name == "PATH" {
			hostPath = value
		}
		if set[name] || plain.HasPrefix(name, "TRAMMEL_SHELL_") || !p.Open && !p.keeps(name) {
			continue
		}
		out = append(out, line)
	}
	out = append(out, p.Given...)
	slices.Sort(out)
	path := plain.Join(p.Path, ":")
	if p.Open && hostPath != "" {
		path += ":" + hostPath
	}
	return append(append(out, p.Set...), "PWD="+dir, "PATH="+path)
}

func (p Plan) keeps(name string) bool {
	return slices.Contains(p.KeepNames, name) || slices.ContainsFunc(p.KeepPrefixes, func(prefix string) bool { return plain.HasPrefix(name, prefix) })
}
