// Package cached is the form in which what was decided is kept for the next command: a plan of an
// environment, a shell's start, the text for a shell that comes into a project. Each lies in one
// file with what it rests on, and is believed only while that holds; the roles that are played
// before the libraries (internal/early) and the longer way read it by the same function.
//
// The package imports nothing that is initialised late.
package cached

import (
	"os"
	"slices"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/base/rests"
)

// Format is the first word of each file.
const Format = "trammel cache 2"

// What may be cached.
const (
	OfPlan   = "plan"   // of a bay: Plan
	OfShell  = "shell"  // how `trammel shell` starts one: Plan with a Start
	OfComing = "coming" // what a shell evaluates that comes into a project: Coming
)

// Key says what a file is about. A person's terminals may have several PATHs, of which each finds
// other commands.
type Key struct {
	What string // OfPlan and the like, with the name of a shell behind it
	Dir  string // of the declaration
	Bay  string
	Path string // PATH
}

// Stamp stands in the text of a Coming for the file by whose time the shell tells what changed since.
const Stamp = "\x01stamp of this shell\x01"

// In is the file among those of a person's state.
func (k Key) In(plans string) string {
	return plans + "/" + rests.Sum(k.Dir, true)[:16] + "-" + rests.Sum(k.What+separator+k.Dir+separator+k.Bay+separator+k.Path, true) + End
}

// Of begins the names of all files that are about a checkout.
func Of(dir string) string { return rests.Sum(dir, true)[:16] + "-" }

// End ends the names of the files.
const End = ".cache"

const separator = "\x00"

// Bytes are the words of something with what they rest on, as a file holds them; nil where a word
// has no such form.
func Bytes(k Key, on rests.On, words []string) []byte {
	all := append([]string{Format, k.What, k.Dir, k.Bay, k.Path}, on.Words()...)
	all = append(append(all, words...), "end")
	for _, w := range all {
		if plain.Contains(w, separator) {
			return nil
		}
	}
	return []byte(plain.Join(all, separator))
}

// Words reads the words of a file, if it is about the key and all that they rest on holds.
func Words(k Key, raw []byte, getenv func(string) (string, bool)) (words []string, on rests.On, ok bool) {
	all := plain.Split(string(raw), separator[0])
	if len(all) < 7 || !slices.Equal(all[:5], []string{Format, k.What, k.Dir, k.Bay, k.Path}) || all[len(all)-1] != "end" {
		return nil, on, false
	}
	on, words, ok = rests.Read(all[5 : len(all)-1])
	return words, on, ok && on.Holds(getenv)
}

// Load is Words of a file in a person's state.
func Load(k Key, plans string, getenv func(string) (string, bool)) (words []string, on rests.On, ok bool) {
	raw, err := read(k.In(plans))
	if err != nil {
		return nil, on, false
	}
	return Words(k, raw, getenv)
}

// most is how large a file may be, in bytes.
const most = 64 << 20

// read reads a regular file, and no device or pipe.
func read(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() > most {
		return nil, os.ErrInvalid
	}
	raw := make([]byte, info.Size()) // it is written whole: one that grows is none
	for n := 0; n < len(raw); {
		got, err := f.Read(raw[n:])
		if n += got; err != nil {
			return nil, err
		}
	}
	return raw, nil
}

// Surroundings are what a process of an environment is started with.
type Surroundings struct {
	Open         bool     // the host's variables stay, and its commands behind the environment's
	KeepNames    []string // of the host's variables
	KeepPrefixes []string
	Set          []string // NAME=VALUE, in order
	Path         []string // folders, before any of the host's
	Behind       []string // folders, behind those of the host

	// Sealed isolation alone.
	Order   string   // the view to enter, packed as package within does; "" for another level
	Given   []string // NAME=VALUE that stand among the host's
	Certain []string // names of the host that stay where their file shows in the view
	Hidden  []string // a path that begins so does not
}

// Environ is the environment of a process in a folder, given the host's. shows says of a file of
// the host whether it shows in the view.
func (s Surroundings) Environ(host []string, dir string, shows func(file string) bool) []string {
	set := map[string]bool{"PATH": true, "PWD": true}
	for _, line := range s.Set {
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
		if set[name] || plain.HasPrefix(name, "TRAMMEL_SHELL_") || !s.Open && !s.keeps(name) && !(slices.Contains(s.Certain, name) && s.mayShow(value) && shows(value)) {
			continue
		}
		out = append(out, line)
	}
	out = append(out, s.Given...)
	slices.Sort(out)
	return append(append(out, s.Set...), "PWD="+dir, "PATH="+s.PathOf(hostPath))
}

// PathOf is the PATH of a process, given the host's.
func (s Surroundings) PathOf(hostPath string) string {
	path := plain.Join(s.Path, ":")
	if s.Open && hostPath != "" {
		path += ":" + hostPath
	}
	for _, folder := range s.Behind {
		path += ":" + folder
	}
	return path
}

func (s Surroundings) keeps(name string) bool {
	return slices.Contains(s.KeepNames, name) || slices.ContainsFunc(s.KeepPrefixes, func(prefix string) bool { return plain.HasPrefix(name, prefix) })
}

// mayShow tells whether a file of the host lies where a view shows none of its own.
func (s Surroundings) mayShow(file string) bool {
	return plain.HasPrefix(file, "/") && !slices.ContainsFunc(s.Hidden, func(prefix string) bool { return plain.HasPrefix(file, prefix) })
}

// Asks tells whether a variable of the host names a file that may show, which the longer way puts
// into the view.
func (s Surroundings) Asks(getenv func(string) (string, bool)) bool {
	return slices.ContainsFunc(s.Certain, func(name string) bool {
		value, set := getenv(name)
		return set && s.mayShow(value)
	})
}

// Command is what a process becomes: a file, "" for one on the PATH, and its arguments from the
// zeroth.
type Command struct {
	Name string // of a routine
	File string
	Argv []string
}

// Plan is what the shortest way to an environment needs, with the whole plan behind it.
type Plan struct {
	Surroundings
	Startable bool      // nothing of it needs anybody else: no secret, and a view where it is sealed
	Routines  []Command // those that the plan alone decides
	Shell     Command   // of OfShell
	Said      string    // what is said first, to standard error, of OfShell
	Whole     string    // the plan as the longer way reads it, in JSON; "" of OfShell
}

// Words are a plan as it is cached.
func (p Plan) Words() []string {
	words := []string{strconv.FormatBool(p.Open), strconv.FormatBool(p.Startable), p.Order, p.Said, p.Whole}
	for _, list := range [][]string{p.KeepNames, p.KeepPrefixes, p.Set, p.Path, p.Behind, p.Given, p.Certain, p.Hidden} {
		words = append(append(words, strconv.Itoa(len(list))), list...)
	}
	for _, c := range append([]Command{p.Shell}, p.Routines...) {
		words = append(append(words, c.Name, c.File, strconv.Itoa(len(c.Argv))), c.Argv...)
	}
	return words
}

// PlanOf reads what Words gave.
func PlanOf(words []string) (p Plan, ok bool) {
	take := func(n int) []string {
		if n < 0 || n > len(words) {
			words, ok = nil, false
			return nil
		}
		out := words[:n:n] // who appends to it has a copy
		words = words[n:]
		return out
	}
	one := func() string {
		if w := take(1); len(w) == 1 {
			return w[0]
		}
		return ""
	}
	list := func() []string {
		n, err := strconv.Atoi(one())
		if err != nil {
			n = -1
		}
		return take(n)
	}
	ok = true
	p.Open, p.Startable, p.Order, p.Said, p.Whole = one() == "true", one() == "true", one(), one(), one()
	for _, into := range []*[]string{&p.KeepNames, &p.KeepPrefixes, &p.Set, &p.Path, &p.Behind, &p.Given, &p.Certain, &p.Hidden} {
		*into = list()
	}
	p.Shell = Command{one(), one(), list()}
	for ok && len(words) > 0 {
		p.Routines = append(p.Routines, Command{one(), one(), list()})
	}
	return p, ok
}

// Routine is the command of a routine that the plan alone decides.
func (p Plan) Routine(name string) (Command, bool) {
	for _, c := range p.Routines {
		if c.Name == name {
			return c, true
		}
	}
	return Command{}, false
}

// Session is the folder for what ends with a person's session, the stamps of shells that follow:
// where XDG_RUNTIME_DIR says (XDG Base Directory Specification), or among the temporary files. It
// need not be there; whoever uses it sees to it that it is Own.
func Session(getenv func(string) string) string {
	base := getenv("XDG_RUNTIME_DIR")
	if info, err := os.Stat(base); base == "" || err != nil || !info.IsDir() {
		if base = getenv("TMPDIR"); base == "" {
			base = "/tmp"
		}
	}
	return base + "/trammel-following-" + strconv.Itoa(os.Getuid())
}

// Own tells whether a folder is this user's, and nobody else's to look into.
func Own(folder string) bool {
	info, err := os.Lstat(folder)
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Getuid() && info.IsDir() && info.Mode().Perm() == 0o700
}
