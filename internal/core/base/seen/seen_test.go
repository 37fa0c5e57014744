package seen_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/seen"
)

// What is missing and links need no look of their own where their folder has one; and the answer
// does not outlive either.
func TestAFolderTellsOfLinksAndOfWhatIsMissing(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, err := range []error{
		os.Mkdir(at("noted"), 0o700), os.Mkdir(at("other"), 0o700), os.Symlink("noted", at("way")),
		os.WriteFile(at("noted/file"), nil, 0o600), os.Symlink("file", at("noted/link")), os.Symlink("nothing", at("other/link")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	q := kept.Question{Words: []string{"show"}, Dir: dir, Columns: [2]int{-1, -1}}
	getenv := func(string) (string, bool) { return "", false }
	ask := func() (a kept.Answer, ok bool) {
		n := seen.Begin()
		for _, name := range []string{"noted", "way", "noted/file", "noted/link", "noted/missing", "way/missing", "other/link", "other/missing", "gone", "gone/missing"} {
			seen.At(at(name))
		}
		return n.Answer(q, kept.File{}, kept.Reply{})
	}
	a, ok := ask()
	for try := 0; !ok && try < 100; try++ { // what was made just now may change unseen
		time.Sleep(50 * time.Millisecond)
		a, ok = ask()
	}
	if !ok {
		t.Fatal("there is a doubt")
	}
	var entries []string
	for _, f := range a.Entries {
		name, _ := filepath.Rel(dir, f.Path)
		entries = append(entries, name)
	}
	if want := []string{"gone", "noted", "noted/file", "other/link", "other/missing", "way"}; !slices.Equal(entries, want) {
		t.Errorf("looked at anew are %q, not %q", entries, want)
	}
	if _, holds := q.Holds(a.Bytes(), kept.File{}, 0, getenv); !holds {
		t.Fatal("nothing changed, and it does not hold")
	}
	for name, change := range map[string]func() error{
		"a file comes where it was missing":         func() error { return os.WriteFile(at("noted/missing"), nil, 0o600) },
		"a link leads elsewhere":                    func() error { _ = os.Remove(at("noted/link")); return os.Symlink("missing", at("noted/link")) },
		"a file comes below what was missing":       func() error { return os.MkdirAll(at("gone/missing"), 0o700) },
		"what a link leads to is another file":      func() error { return os.WriteFile(at("noted/file"), []byte("x"), 0o600) },
		"a file comes in a folder that is not told": func() error { return os.WriteFile(at("other/missing"), nil, 0o600) },
	} {
		a, ok := ask()
		for try := 0; !ok && try < 100; try++ {
			time.Sleep(50 * time.Millisecond)
			a, ok = ask()
		}
		if err := change(); err != nil || !ok {
			t.Fatal(err, ok)
		}
		if _, holds := q.Holds(a.Bytes(), kept.File{}, 0, getenv); holds {
			t.Errorf("%s, and it holds", name)
		}
		for _, undo := range []string{"noted/missing", "gone/missing", "gone", "other/missing"} {
			_ = os.Remove(at(undo))
		}
	}
}
