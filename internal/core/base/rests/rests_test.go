package rests_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
)

// scene is a folder with a thing of each kind.
func scene(t *testing.T) (dir string, at func(string) string) {
	t.Helper()
	dir = t.TempDir()
	at = func(name string) string { return filepath.Join(dir, name) }
	for _, err := range []error{
		os.Mkdir(at("folder"), 0o755), os.WriteFile(at("file"), []byte("a\n"), 0o644), os.WriteFile(at("copy"), []byte("a\n"), 0o644), os.WriteFile(at("program"), nil, 0o755),
		os.Symlink("file", at("link")), os.Symlink("nothing", at("dangling")), os.WriteFile(at("folder/in"), nil, 0o644), os.Symlink("folder", at("way")), os.Mkdir(at("parent"), 0o755), os.WriteFile(at("parent/x"), nil, 0o644),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir, at
}

// Each kind of look ends with the change that it is there for, and with none that decides nothing.
func TestEachLookEndsWithItsChange(t *testing.T) {
	write := func(name, text string) func(at func(string) string) error {
		return func(at func(string) string) error { return os.WriteFile(at(name), []byte(text), 0o644) }
	}
	for name, c := range map[string]struct {
		look   func(r *reading.Reader, at func(string) string)
		change func(at func(string) string) error
		ends   bool
	}{
		"a file changes":                     {func(r *reading.Reader, at func(string) string) { r.File(at("file")) }, write("file", "other"), true},
		"a file is gone":                     {func(r *reading.Reader, at func(string) string) { r.File(at("file")) }, func(at func(string) string) error { return os.Remove(at("file")) }, true},
		"a file has another mode":            {func(r *reading.Reader, at func(string) string) { r.File(at("file")) }, func(at func(string) string) error { return os.Chmod(at("file"), 0o600) }, true},
		"what a link leads to changes":       {func(r *reading.Reader, at func(string) string) { r.File(at("link")) }, write("file", "other"), true},
		"a link leads to the same elsewhere": {func(r *reading.Reader, at func(string) string) { r.File(at("link")) }, func(at func(string) string) error { os.Remove(at("link")); return os.Symlink("./file", at("link")) }, true},
		"of an entry, what it leads to":      {func(r *reading.Reader, at func(string) string) { r.Entry(at("link")) }, write("file", "other"), false},
		"an entry is another link":           {func(r *reading.Reader, at func(string) string) { r.Entry(at("link")) }, func(at func(string) string) error { os.Remove(at("link")); return os.Symlink("copy", at("link")) }, true},
		"what a dangling link leads to":      {func(r *reading.Reader, at func(string) string) { r.File(at("dangling")) }, write("nothing", "now"), true},
		"a name comes":                       {func(r *reading.Reader, at func(string) string) { r.Absent(at("later")) }, write("later", ""), true},
		"another name comes":                 {func(r *reading.Reader, at func(string) string) { r.Absent(at("later")) }, write("other", ""), false},
		"one of several names comes": {func(r *reading.Reader, at func(string) string) {
			r.Absent(at("one"))
			r.Absent(at("two"))
			r.File(at("three"))
		}, write("two", ""), true},
		"a name comes as a link":             {func(r *reading.Reader, at func(string) string) { r.Absent(at("later")) }, func(at func(string) string) error { return os.Symlink("nowhere", at("later")) }, true},
		"a name comes below what is missing": {func(r *reading.Reader, at func(string) string) { r.Absent(at("a/b/c")) }, func(at func(string) string) error { return os.MkdirAll(at("a/b/c"), 0o755) }, true},
		"a folder has a name more":           {func(r *reading.Reader, at func(string) string) { r.Folder(at("folder")) }, write("folder/new", ""), true},
		"a folder has a name less":           {func(r *reading.Reader, at func(string) string) { r.Folder(at("folder")) }, func(at func(string) string) error { return os.Remove(at("folder/in")) }, true},
		"of a folder on the way, what is in": {func(r *reading.Reader, at func(string) string) { r.Identity(at("folder")) }, write("folder/new", ""), false},
		"a folder on the way is another": {func(r *reading.Reader, at func(string) string) { r.Identity(at("folder")) }, func(at func(string) string) error {
			os.Rename(at("folder"), at("was"))
			return os.Mkdir(at("folder"), 0o755)
		}, true},
		"a way leads elsewhere":            {func(r *reading.Reader, at func(string) string) { r.Passing(filepath.Dir(at("way")), at("way/in")) }, func(at func(string) string) error { os.Remove(at("way")); return os.Symlink("parent", at("way")) }, true},
		"bytes change":                     {func(r *reading.Reader, at func(string) string) { r.Bytes(at("file"), at("copy")) }, write("file", "b\n"), true},
		"bytes are written again":          {func(r *reading.Reader, at func(string) string) { r.Bytes(at("file"), at("copy")) }, write("file", "a\n"), false},
		"bytes have more behind them":      {func(r *reading.Reader, at func(string) string) { r.Bytes(at("file"), at("copy")) }, write("file", "a\n\n"), true},
		"the copy of bytes is gone":        {func(r *reading.Reader, at func(string) string) { r.Bytes(at("file"), at("copy")) }, func(at func(string) string) error { return os.Remove(at("copy")) }, true},
		"a pipe in place of bytes":         {func(r *reading.Reader, at func(string) string) { r.Bytes(at("file"), at("copy")) }, func(at func(string) string) error { os.Remove(at("file")); return syscall.Mkfifo(at("file"), 0o600) }, true},
		"a program can be started no more": {func(r *reading.Reader, at func(string) string) { r.Command(at("program")) }, func(at func(string) string) error { return os.Chmod(at("program"), 0o644) }, true},
		"a program has other bytes":        {func(r *reading.Reader, at func(string) string) { r.Command(at("program")) }, write("program", "x"), false},
		"a program comes":                  {func(r *reading.Reader, at func(string) string) { r.Command(at("fishcount")) }, func(at func(string) string) error { return os.WriteFile(at("fishcount"), nil, 0o755) }, true},
		"of many programs, one is gone":    {func(r *reading.Reader, at func(string) string) { r.CommandOf(at("program")) }, func(at func(string) string) error { return os.Remove(at("program")) }, true},
		"of many programs, another comes":  {func(r *reading.Reader, at func(string) string) { r.CommandOf(at("program")) }, func(at func(string) string) error { return os.WriteFile(at("fishcount"), nil, 0o755) }, false},
		"of many programs, one comes":      {func(r *reading.Reader, at func(string) string) { r.CommandOf(at("fishcount")) }, func(at func(string) string) error { return os.WriteFile(at("fishcount"), nil, 0o755) }, true},
		"all in a tree, one changes":       {func(r *reading.Reader, at func(string) string) { r.Tree(at("."), func(string) bool { return false }) }, write("parent/x", "y"), true},
		"all in a tree, but what is left": {func(r *reading.Reader, at func(string) string) {
			r.Tree(at("."), func(f string) bool { return f == "parent" })
		}, write("parent/x", "y"), false},
	} {
		t.Run(name, func(t *testing.T) {
			_, at := scene(t)
			r := reading.New(host.Host{})
			c.look(r, at)
			on := r.On()
			getenv := func(string) (string, bool) { return "", false }
			words := on.Words()
			if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "\x00") }) {
				t.Fatalf("a word has a separator: %q", words)
			}
			read, rest, ok := rests.Read(append(words, "behind"))
			if !ok || len(rest) != 1 || len(read.Looks()) != len(on.Looks()) || !on.Holds(getenv) || !read.Holds(getenv) {
				t.Fatalf("%v, %q: nothing changed, and it does not hold: %q", ok, rest, words)
			}
			if err := c.change(at); err != nil {
				t.Fatal(err)
			}
			if on.Holds(getenv) == c.ends || read.Holds(getenv) == c.ends {
				t.Errorf("it holds: %v, and read back: %v", on.Holds(getenv), read.Holds(getenv))
			}
		})
	}
}

func TestVariablesAreHeldToTheirValues(t *testing.T) {
	r := reading.New(host.Host{Environ: []string{"SET=one", "EMPTY="}})
	for _, name := range []string{"SET", "EMPTY", "UNSET"} {
		r.Getenv(name)
	}
	on := r.On()
	now := map[string]string{"SET": "one", "EMPTY": ""}
	getenv := func(name string) (string, bool) { value, set := now[name]; return value, set }
	if !on.Holds(getenv) {
		t.Fatal("nothing changed")
	}
	if strings.Contains(strings.Join(on.Words(), " "), "one") {
		t.Error("the value itself is kept")
	}
	for _, change := range []func(){func() { now["SET"] = "two" }, func() { delete(now, "EMPTY") }, func() { now["UNSET"] = "" }, func() { delete(now, "SET") }} {
		before := map[string]string{}
		for k, v := range now {
			before[k] = v
		}
		if change(); on.Holds(getenv) {
			t.Errorf("it holds with %v", now)
		}
		now = before
	}
}

// What was learnt from two things that saw a third one differently is believed no later; nor is what says
// so itself, whatever it is joined with.
func TestWhatChangedMeanwhileIsNotBelieved(t *testing.T) {
	_, at := scene(t)
	getenv := func(string) (string, bool) { return "", false }
	one := reading.New(host.Host{})
	one.File(at("file"))
	os.WriteFile(at("file"), []byte("other"), 0o644)
	two := reading.New(host.Host{})
	two.File(at("file"))
	if both := one.On().Join(two.On()); both.Holds(getenv) || both.Lasting() {
		t.Error("two looks that differ hold together")
	}
	if !two.On().Join(two.On(), rests.On{}).Holds(getenv) {
		t.Error("joined with itself it does not hold")
	}
	if two.On().Join(rests.Never("a trial")).Lasting() || rests.Never("a trial").Join(two.On()).Holds(getenv) {
		t.Error("what never holds does, joined")
	}
	// Names that are missing in one folder are joined, too.
	a, b := reading.New(host.Host{}), reading.New(host.Host{})
	a.Absent(at("x"))
	b.Absent(at("y"))
	joined := a.On().Join(b.On())
	os.WriteFile(at("y"), nil, 0o644)
	if joined.Holds(getenv) {
		t.Error("a name of the second came")
	}
}

// Whether a change could be missed is told by the clock of the file system that a file lies on.
func TestOnlyWhatIsOldEnoughByItsOwnClockIsSettled(t *testing.T) {
	_, at := scene(t)
	r := reading.New(host.Host{})
	r.File(at("file"))
	r.Absent(at("later"))
	for name, c := range map[string]struct {
		ahead, grain time.Duration
		ok, settled  bool
	}{
		"now":                           {0, 50 * time.Millisecond, true, false},
		"a clock that is an hour ahead": {time.Hour, 50 * time.Millisecond, true, true},
		"a clock that is an hour late":  {-time.Hour, 50 * time.Millisecond, true, false},
		"a coarse clock":                {time.Hour, 2 * time.Hour, true, false},
		"a clock that nobody knows":     {time.Hour, 0, false, false},
	} {
		got := r.On().Settled(func(uint64, string) (int64, int64, bool) { return int64(c.ahead), int64(c.grain), c.ok })
		if got != c.settled {
			t.Errorf("%s: settled is %v", name, got)
		}
	}
	// A file system that keeps whole seconds may give two changes one time.
	second := time.Now().Add(-time.Second).Truncate(time.Second)
	os.Chtimes(at("file"), second, second)
	clock := reading.ClockOf(t.TempDir())
	old := reading.New(host.Host{})
	old.Entry("/")
	if !old.On().Settled(clock) {
		t.Error("the top folder is not settled")
	}
	if left, _ := filepath.Glob(filepath.Join(t.TempDir(), "*")); len(left) > 0 {
		t.Errorf("the clock left %v", left)
	}
	if r.On().Settled(reading.ClockOf("/no/such/folder")) {
		t.Error("what was made a moment ago is settled")
	}
}

// What a prompt watches shows each change by a path that is newer, that came, or that is gone.
func TestEachChangeShowsInWhatIsWatched(t *testing.T) {
	_, at := scene(t)
	r := reading.New(host.Host{})
	r.File(at("file"))
	r.Absent(at("later"))
	r.Command(at("program"))
	for _, name := range strings.Fields("a b c d e f g h i j k l") {
		r.Absent(at("folder/" + name))
	}
	watched := map[string]bool{}
	for _, w := range r.On().Watch() {
		watched[w.Path] = w.There
	}
	for path, there := range map[string]bool{at("file"): true, at("later"): false, at("folder"): true, filepath.Dir(at("program")): true} {
		if got, ok := watched[path]; !ok || got != there {
			t.Errorf("%s: %v %v", path, ok, got)
		}
	}
}

// A list of what is read back is nobody else's to write over: who appends to one has a copy.
func TestListsOfACachedPlanAreTheirOwn(t *testing.T) {
	p := cached.Plan{Surroundings: cached.Surroundings{Set: []string{"A=1"}, Path: []string{"/frame", "/host"}, Given: []string{"HOME=/x"}}, Startable: true, Whole: "{}",
		Routines: []cached.Command{{Name: "x", File: "/bin/sh", Argv: []string{"sh", "x"}}, {Name: "y", Argv: []string{"y"}}}}
	got, ok := cached.PlanOf(p.Words())
	if !ok || len(got.Routines) != 2 || got.Routines[1].Name != "y" || got.Path[0] != "/frame" {
		t.Fatalf("%v %+v", ok, got)
	}
	_ = append(got.Set, "ZDOTDIR=/y", "B=2", "C=3")
	_ = append(got.Routines[0].Argv, "more", "and more")
	if got.Path[0] != "/frame" || got.Routines[1].Name != "y" || got.Given[0] != "HOME=/x" {
		t.Errorf("what follows was written over: %+v", got)
	}
	raw := cached.Bytes(cached.Key{What: cached.OfPlan, Dir: "/d", Bay: "main", Path: "/bin"}, rests.On{}, p.Words())
	getenv := func(string) (string, bool) { return "", false }
	if _, _, ok := cached.Words(cached.Key{What: cached.OfPlan, Dir: "/d", Bay: "main", Path: "/bin"}, raw, getenv); !ok {
		t.Error("it is not read back")
	}
	for _, other := range []cached.Key{{What: cached.OfShell, Dir: "/d", Bay: "main", Path: "/bin"}, {What: cached.OfPlan, Dir: "/e", Bay: "main", Path: "/bin"}, {What: cached.OfPlan, Dir: "/d", Bay: "b", Path: "/bin"}, {What: cached.OfPlan, Dir: "/d", Bay: "main", Path: "/sbin"}} {
		if _, _, ok := cached.Words(other, raw, getenv); ok {
			t.Errorf("it is taken for %+v", other)
		}
	}
	for cut := range len(raw) {
		if _, _, ok := cached.Words(cached.Key{What: cached.OfPlan, Dir: "/d", Bay: "main", Path: "/bin"}, raw[:cut], getenv); ok {
			t.Fatalf("cut at %d it is taken", cut)
		}
	}
}
