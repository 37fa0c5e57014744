package changes_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/changes"
)

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	full := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// reported waits for a report; where none is to come it waits as long as one that is made
// after a change that counts, which is made last.
func reported(t *testing.T, c <-chan struct{}) {
	t.Helper()
	select {
	case <-c:
	case <-time.After(time.Minute):
		t.Fatal("no report")
	}
}

func TestWhatTheGlobsNameIsReported(t *testing.T) {
	for name, c := range map[string]struct {
		globs  []string
		change func(dir string)
		counts bool
	}{
		"a file":          {[]string{"src/**/*.js"}, func(dir string) { put(t, dir, "src/a.js", "2") }, true},
		"a new file":      {[]string{"src/**/*.js"}, func(dir string) { put(t, dir, "src/b.js", "2") }, true},
		"in a new folder": {[]string{"src/**/*.js"}, func(dir string) { put(t, dir, "src/new/deep/b.js", "2") }, true},
		"one that goes":   {[]string{"src/**/*.js"}, func(dir string) { os.Remove(filepath.Join(dir, "src/a.js")) }, true},
		"replaced by a name": {[]string{"src/**/*.js"}, func(dir string) {
			put(t, dir, "x", "2")
			os.Rename(filepath.Join(dir, "x"), filepath.Join(dir, "src/a.js"))
		}, true},
		"a folder that names":  {[]string{"src"}, func(dir string) { put(t, dir, "src/sub/x.txt", "2") }, true},
		"another end":          {[]string{"src/**/*.js"}, func(dir string) { put(t, dir, "src/a.css", "2") }, false},
		"another folder":       {[]string{"src/**/*.js"}, func(dir string) { put(t, dir, "docs/a.js", "2") }, false},
		"one that is left out": {[]string{"src/**/*.js", "!src/vendor/**"}, func(dir string) { put(t, dir, "src/vendor/a.js", "2") }, false},
		"version control":      {[]string{"**", "!zz/**"}, func(dir string) { put(t, dir, ".git/HEAD", "2") }, false},
		"Trammel's own":        {[]string{"**", "!zz/**"}, func(dir string) { put(t, dir, ".trammel/x", "2") }, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			for _, f := range []string{"src/a.js", "src/vendor/a.js", "src/sub/x.txt", "docs/a.js", ".git/HEAD", ".trammel/x", "zz/last.end"} {
				put(t, dir, f, "1")
			}
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			seen, err := changes.Watch(ctx, dir, c.globs)
			if err != nil {
				t.Fatal(err)
			}
			last, err := changes.Watch(ctx, dir, []string{"zz/**"})
			if err != nil {
				t.Fatal(err)
			}
			c.change(dir)
			if c.counts {
				reported(t, seen)
				return
			}
			put(t, dir, "zz/last.end", "2")
			reported(t, last) // a report of the change before would have been made by now
			select {
			case <-seen:
				t.Error("what nobody named is reported")
			default:
			}
			cancel()
			if _, open := <-seen; open {
				t.Error("it goes on")
			}
		})
	}
}

// Another branch is one change, however many files come one after another.
func TestManyChangesAreOneReport(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "src/a", "1")
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	seen, err := changes.Watch(ctx, dir, []string{"src/**"})
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, ".git/index.lock", "")
	for i := range 20 {
		put(t, dir, fmt.Sprintf("src/%d", i), "2")
		time.Sleep(changes.Quiet / 10)
	}
	time.Sleep(2 * changes.Quiet) // version control thinks before it goes on
	select {
	case <-seen:
		t.Error("reported while version control was at work")
	default:
	}
	put(t, dir, "src/a", "2")
	os.Remove(filepath.Join(dir, ".git/index.lock"))
	reported(t, seen)
	put(t, dir, "src/a", "3")
	reported(t, seen)
	select {
	case <-seen:
		t.Error("reported twice")
	default:
	}
}
