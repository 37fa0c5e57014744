package kept

import (
	"slices"
	"strconv"
	"time"

	"app.example/trammel/internal/core/base/plain"
)

// answerFormat is the first word of a kept answer.
const answerFormat = "trammel answer 3"

// Answer is what a command said, kept with all that it looked at to say so. While each of those
// things is as it was, the same question has the same answer, and it is given before the
// program's libraries are initialised.
type Answer struct {
	Question
	Program   File     // this program's own
	Until     int64    // nanoseconds since 1970: what is said is true no longer; 0: as long as all is as it was
	Variables []string // of the environment, as Variable has them
	Entries   []File   // what was looked at; of a symbolic link, the link
	Targets   []File   // and what the links lead to
	Passed    []File   // folders on the way, of which only counts which ones they are: the inode
	Asked     []Asked  // supervisors, which are asked again
	Reply
}

// Asked is a supervisor that was asked how its services are.
type Asked struct {
	Socket string // that it answers on
	Sum    string // of all that it can say, but for what services use
}

// Reply is what a command does to answer.
type Reply struct {
	Said    []Said
	Becomes []string // then it becomes this command, in the environment of the checkout's plan: its file, or "" for one on the PATH, and its arguments from the zeroth
	Folder  string   // in this folder; "" in that which it was asked in
	Set     []string // with these variables besides, NAME=VALUE
}

// Question is what an answer was to.
type Question struct {
	Words   []string // the command line, without the program
	Dir     string   // where it was given
	User    int      // by whom
	Path    string   // PATH, which terminals often have of their own
	Columns [2]int   // of the terminals that are standard output and standard error; -1 of what is none
}

// In is the file of the answer to the question among the answers in a folder.
func (q Question) In(folder string) string {
	return folder + "/" + short(plain.Join(q.words(), separate))
}

func (q Question) words() []string {
	out := append([]string{strconv.Itoa(len(q.Words))}, q.Words...)
	return append(out, q.Dir, q.Path, strconv.Itoa(q.User), strconv.Itoa(q.Columns[0]), strconv.Itoa(q.Columns[1]))
}

// Said is a piece of what a command printed.
type Said struct {
	To   string // "1" for standard output, "2" for standard error
	Text string
}

// Variable is a variable of the environment as answers keep it: its name, and a sum of the value in
// its place, since a value may be an address with a password in it. One that is not set has no "=".
func Variable(name, value string, set bool) string {
	if !set {
		return name
	}
	return name + "=" + short(value)
}

// Bytes is the answer as it is kept; nil for one that has no such form.
func (a Answer) Bytes() []byte {
	words := append([]string{answerFormat}, a.words()...)
	words = append(append(words, a.Program.words()...), strconv.FormatInt(a.Until, 10), a.Folder)
	for _, list := range [][]string{a.Variables, a.Becomes, a.Set} {
		words = append(append(words, strconv.Itoa(len(list))), list...)
	}
	for _, list := range [][]File{a.Entries, a.Targets, a.Passed} {
		words = append(words, strconv.Itoa(len(list)))
		for _, f := range list {
			words = append(words, f.words()...)
		}
	}
	words = append(words, strconv.Itoa(len(a.Asked)))
	for _, x := range a.Asked {
		words = append(words, x.Socket, x.Sum)
	}
	for _, s := range a.Said {
		words = append(words, s.To, s.Text)
	}
	return joined(words)
}

// Holds reads a kept answer to the question and tells whether it is one that still holds: now is
// the time in nanoseconds since 1970, getenv the environment's. program is the stamp of the file
// that asks. What it rests on is looked at, and the supervisors are asked, those last.
func (q Question) Holds(raw []byte, program File, now int64, getenv func(string) (string, bool)) (r Reply, ok bool) {
	words := plain.Split(string(raw), separate[0])
	if len(words) < 2 || words[0] != answerFormat || words[len(words)-1] != "end" {
		return r, false
	}
	words = words[1 : len(words)-1]
	take := func(n int) (out []string) {
		if n < 0 || n > len(words) {
			words = nil
			return nil
		}
		out, words = words[:n], words[n:]
		return out
	}
	count := func() int {
		if len(words) == 0 {
			return -1
		}
		n, err := strconv.Atoi(take(1)[0])
		if err != nil {
			return -1
		}
		return n
	}
	asked := q.words()
	if !slices.Equal(take(len(asked)), asked) || !slices.Equal(take(5), program.words()) {
		return r, false
	}
	if until := count(); until < 0 || until > 0 && now >= int64(until) || len(words) == 0 {
		return r, false
	}
	r.Folder = take(1)[0]
	for _, v := range take(count()) {
		name, _, _ := plain.Cut(v, "=")
		if value, set := getenv(name); Variable(name, value, set) != v {
			return r, false
		}
	}
	r.Becomes, r.Set = take(count()), take(count())
	for _, now := range []func(string) File{entry, Target, PassedStamp} {
		n := count()
		if n < 0 || len(words) < 5*n {
			return r, false
		}
		for ; n > 0; n-- {
			f, err := fileOf(take(5))
			if err != nil {
				return r, false
			}
			if now(f.Path) != f {
				return r, false
			}
		}
	}
	n := count()
	if n < 0 || len(words) < 2*n || len(words)%2 != 0 {
		return r, false
	}
	for ; n > 0; n-- {
		if x := take(2); x[1] == "" || SumOf(x[0]) != x[1] {
			return r, false
		}
	}
	for ; len(words) > 0; words = words[2:] {
		r.Said = append(r.Said, Said{words[0], words[1]})
	}
	return r, true
}

// grain is how far apart two changes of a file may be and still get one time from the clock of
// the kernel, with room to spare (CONFIG_HZ=100), and coarse the same for file systems that keep
// whole seconds.
const grain, coarse = int64(50 * time.Millisecond), int64(2 * time.Second)

// Settled tells whether a change of the file after a moment would show in its stamp.
func (f File) Settled(at int64) bool {
	margin := grain
	if f.Mod%int64(time.Second) == 0 && f.Change%int64(time.Second) == 0 {
		margin = coarse
	}
	return f == File{Path: f.Path} || f.Mod < at-margin && f.Change < at-margin
}

func entry(path string) File { f, _ := Entry(path); return f }

// PassedStamp is what tells whether a folder on the way to something is the same one, whatever comes
// and goes in it.
func PassedStamp(path string) File {
	f, link := Entry(path)
	if link { // which leads elsewhere when it is made anew
		return f
	}
	return File{Path: path, Inode: f.Inode}
}

// Self is this program's own file (proc_pid_exe(5)).
const Self = "/proc/self/exe"

// Stamps are what tells whether a thing that is looked at is as it was: the entry, and, where
// that is a symbolic link, what it leads to.
func Stamps(path string) (entry File, target *File) {
	entry, link := Entry(path)
	if link {
		to := Target(path)
		target = &to
	}
	return entry, target
}

// Stamp is where a piece goes that is not printed: the file by whose time the shell that asked
// tells what changed since, as it stands in the text.
const Stamp = "stamp"

// Answerable tells whether the answers to a command line are kept: of what a person waits for
// many times a day, and that nothing but files decides while nothing is to be done.
func Answerable(words []string) bool {
	switch {
	case len(words) == 1 && words[0] == "shell":
		return true
	case len(words) > 1 && words[0] == "do": // which reads no options behind the name
		return !plain.HasPrefix(words[1], "-") && (len(words) == 2 || words[2] != "--" && words[len(words)-1] != Completing)
	}
	if len(words) > 1 && (words[0] == "--dir" || words[0] == "-C") {
		words = words[2:]
	}
	if len(words) > 1 && words[0] == "find" && slices.Contains(words, "--offline") {
		return true
	}
	return slices.ContainsFunc([][]string{{}, {"fit"}, {"show"}, {"show", "--json"}}, func(known []string) bool { return slices.Equal(words, known) })
}

// Completing is the last word of a shell's question for what could stand next.
const Completing = "--generate-shell-completion"

// Handed splits a command line into the question, and what is handed on to the command that it
// becomes: it stands behind that command's own arguments, and is kept nowhere.
func Handed(words []string) (question, handed []string) {
	if len(words) > 2 && words[0] == "do" {
		return words[:2], words[2:]
	}
	return words, nil
}

// Coming is the question of a shell that came into a project.
func Coming(root, shell string) []string { return []string{"follow", "--enter", root, shell} }
