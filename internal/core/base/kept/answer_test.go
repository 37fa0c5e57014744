package kept_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/kept"
)

// answered is an answer that rests on a file, a folder, a link and what is not there, in a folder.
func answered(t *testing.T, dir string) kept.Answer {
	t.Helper()
	for _, err := range []error{
		os.WriteFile(filepath.Join(dir, "file"), []byte("x"), 0o600), os.Mkdir(filepath.Join(dir, "folder"), 0o700),
		os.Symlink("file", filepath.Join(dir, "link")), os.Mkdir(filepath.Join(dir, "way"), 0o700),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	a := kept.Answer{
		Question:  kept.Question{Words: []string{"show"}, Dir: dir, User: 7, Path: "/bin", Columns: [2]int{-1, 80}},
		Program:   kept.File{Path: kept.Self, Size: 1, Mod: 2, Change: 3, Inode: 4},
		Variables: []string{kept.Variable("SET", "1", true), kept.Variable("UNSET", "", false)},
		Passed:    []kept.File{kept.PassedStamp(filepath.Join(dir, "way"))},
		Reply:     kept.Reply{Said: []kept.Said{{To: "1", Text: "ready\n"}, {To: "2", Text: ""}}, Becomes: []string{"/bin/sh", "sh"}, Set: []string{"A=b"}},
	}
	for _, name := range []string{"file", "folder", "link", "missing"} {
		entry, target := kept.Stamps(filepath.Join(dir, name))
		a.Entries = append(a.Entries, entry)
		if target != nil {
			a.Targets = append(a.Targets, *target)
		}
	}
	return a
}

func environment(name string) (string, bool) {
	return map[string]string{"SET": "1"}[name], name == "SET"
}

func TestAnAnswerHoldsForItsQuestionWhileAllIsAsItWas(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(dir string, q *kept.Question, program *kept.File, now *int64) error
		holds  bool
	}{
		{"nothing", func(string, *kept.Question, *kept.File, *int64) error { return nil }, true},
		{"a file on the way to something", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return os.WriteFile(filepath.Join(dir, "way", "more"), nil, 0o600)
		}, true},
		{"another folder on the way", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return errors.Join(os.Mkdir(filepath.Join(dir, "other"), 0o700), os.Remove(filepath.Join(dir, "way")), os.Rename(filepath.Join(dir, "other"), filepath.Join(dir, "way")))
		}, false},
		{"content", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return os.WriteFile(filepath.Join(dir, "file"), []byte("yy"), 0o600)
		}, false},
		{"time", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return os.Chtimes(filepath.Join(dir, "file"), time.Now(), time.Now().Add(time.Hour))
		}, false},
		{"rights", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			time.Sleep(20 * time.Millisecond) // longer than the grain of the clock
			return os.Chmod(filepath.Join(dir, "file"), 0o640)
		}, false},
		{"a name in a folder", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			time.Sleep(20 * time.Millisecond)
			return os.WriteFile(filepath.Join(dir, "folder", "new"), nil, 0o600)
		}, false},
		{"a link", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			time.Sleep(20 * time.Millisecond)
			if err := os.Remove(filepath.Join(dir, "link")); err != nil {
				return err
			}
			return os.Symlink("fold", filepath.Join(dir, "link"))
		}, false},
		{"what was not there", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return os.WriteFile(filepath.Join(dir, "missing"), nil, 0o600)
		}, false},
		{"what is gone", func(dir string, _ *kept.Question, _ *kept.File, _ *int64) error {
			return os.Remove(filepath.Join(dir, "file"))
		}, false},
		{"the hour", func(_ string, _ *kept.Question, _ *kept.File, now *int64) error { *now = 1001; return nil }, false},
		{"the width", func(_ string, q *kept.Question, _ *kept.File, _ *int64) error { q.Columns[1] = 100; return nil }, false},
		{"the user", func(_ string, q *kept.Question, _ *kept.File, _ *int64) error { q.User = 8; return nil }, false},
		{"the folder", func(_ string, q *kept.Question, _ *kept.File, _ *int64) error { q.Dir = "/"; return nil }, false},
		{"the words", func(_ string, q *kept.Question, _ *kept.File, _ *int64) error { q.Words = []string{"fit"}; return nil }, false},
		{"a word more", func(_ string, q *kept.Question, _ *kept.File, _ *int64) error {
			q.Words = []string{"show", q.Dir}
			return nil
		}, false},
		{"the program", func(_ string, _ *kept.Question, program *kept.File, _ *int64) error { program.Inode = 5; return nil }, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			a := answered(t, dir)
			a.Until = 1000
			raw := a.Bytes()
			q, program, now := a.Question, a.Program, int64(999)
			if err := c.change(dir, &q, &program, &now); err != nil {
				t.Fatal(err)
			}
			r, holds := q.Holds(raw, program, now, environment)
			if holds != c.holds {
				t.Errorf("it holds: %v", holds)
			}
			if holds && (!slices.Equal(r.Said, a.Said) || !slices.Equal(r.Becomes, a.Becomes) || !slices.Equal(r.Set, a.Set)) {
				t.Errorf("%+v came back as %+v", a.Reply, r)
			}
		})
	}
	dir := t.TempDir()
	a := answered(t, dir)
	for name, getenv := range map[string]func(string) (string, bool){
		"another value": func(name string) (string, bool) { return "2", name == "SET" },
		"none":          func(string) (string, bool) { return "", false },
		"one more":      func(string) (string, bool) { return "1", true },
	} {
		if _, holds := a.Question.Holds(a.Bytes(), a.Program, 0, getenv); holds {
			t.Errorf("variables: %s, and it holds", name)
		}
	}
	a.Said[0].Text = "with a \x00"
	if a.Bytes() != nil {
		t.Error("what has no form was kept")
	}
}

// Whatever lies where an answer should, it is one that holds or none.
func FuzzAnswer(f *testing.F) {
	q := kept.Question{Words: []string{"show"}, Dir: "/nowhere", Columns: [2]int{-1, -1}}
	a := kept.Answer{Question: q, Variables: []string{"A"}, Entries: []kept.File{{Path: "/nowhere/at/all"}}, Reply: kept.Reply{Said: []kept.Said{{To: "1", Text: "x"}}}}
	raw := a.Bytes()
	f.Add(raw)
	f.Add(bytes.Replace(raw, []byte("1\x00"), []byte("-7\x00"), 3))
	f.Add([]byte(strings.Repeat("9\x00", 40) + "end"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if r, holds := q.Holds(raw, a.Program, 0, func(string) (string, bool) { return "", false }); holds && len(raw) < len("trammel answer 1") {
			t.Errorf("%q holds: %+v", raw, r)
		}
	})
}
