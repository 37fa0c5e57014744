// Package changes tells when files of a project have changed, as the system reports it
// (inotify(7) and its like), without asking again and again.
//
// It promises one report for many changes that come together: a report is made when nothing
// has changed for a moment, and not while version control is at work on the tree, so that
// another branch is one change. A report says that something may have changed; whoever gets
// it looks what.
package changes

import (
	"context"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"
)

// Quiet is how long nothing must change until a report is made.
const Quiet = 300 * time.Millisecond

// mostFolders is how many folders are watched at most. A person has some ten thousand watches
// on most systems, for all programs together.
const mostFolders = 4000

// Watch reports changes of files below dir that globs name, where those that start with ! are
// left out, until ctx ends; then the channel is closed. What is in folders of version control
// and of Trammel never counts.
func Watch(ctx context.Context, dir string, globs []string) (<-chan struct{}, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	v := &view{dir: dir, globs: globs, w: w}
	if err := v.add("."); err != nil {
		w.Close()
		return nil, err
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		defer w.Close()
		v.run(ctx, out)
	}()
	return out, nil
}

type view struct {
	dir   string
	globs []string
	w     *fsnotify.Watcher
	count int
}

func (v *view) run(ctx context.Context, out chan<- struct{}) {
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e, ok := <-v.w.Events:
			if !ok {
				return
			}
			below, err := filepath.Rel(v.dir, e.Name)
			if err != nil || own(filepath.ToSlash(below)) {
				continue
			}
			below = filepath.ToSlash(below)
			if info, err := os.Lstat(e.Name); err == nil && info.IsDir() && e.Has(fsnotify.Create) {
				_ = v.add(below)
				quiet.Reset(Quiet) // it may have come with files in it
			}
			if v.named(below) {
				quiet.Reset(Quiet)
			}
		case _, ok := <-v.w.Errors:
			if !ok {
				return
			}
			quiet.Reset(Quiet) // events were lost: whoever gets the report looks
		case <-quiet.C:
			if _, err := os.Lstat(filepath.Join(v.dir, ".git", "index.lock")); err == nil {
				quiet.Reset(Quiet)
				continue
			}
			select {
			case out <- struct{}{}:
			default: // one is waiting
			}
		}
	}
}

// own tells whether a path is version control's or Trammel's.
func own(below string) bool {
	words := strings.Split(below, "/")
	return slices.Contains(words, ".git") || slices.Contains(words, ".trammel")
}

// named tells whether a path is one that the globs name, or lies in a folder that they name.
func (v *view) named(below string) bool {
	in := func(glob string) bool {
		for p := below; p != "."; p = path.Dir(p) {
			if ok, _ := doublestar.Match(glob, p); ok {
				return true
			}
		}
		return false
	}
	return slices.ContainsFunc(v.globs, func(g string) bool { return !strings.HasPrefix(g, "!") && in(g) }) &&
		!slices.ContainsFunc(v.globs, func(g string) bool { out, negated := strings.CutPrefix(g, "!"); return negated && in(out) })
}

// reaches tells whether a folder may hold, at any depth, what the globs name.
func (v *view) reaches(folder string) bool {
	if folder == "." || v.named(folder) {
		return true
	}
	return slices.ContainsFunc(v.globs, func(glob string) bool {
		if strings.HasPrefix(glob, "!") {
			return false
		}
		words, parts := strings.Split(folder, "/"), strings.Split(glob, "/")
		for i, word := range words {
			if i >= len(parts) {
				return false
			}
			if parts[i] == "**" {
				return true
			}
			if ok, _ := doublestar.Match(parts[i], word); !ok {
				return false
			}
		}
		return true
	})
}

// add watches a folder and those in it that matter.
func (v *view) add(below string) error {
	return filepath.WalkDir(filepath.Join(v.dir, filepath.FromSlash(below)), func(full string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil // it has just gone, or it is a file
		}
		name, err := filepath.Rel(v.dir, full)
		if err != nil {
			return err
		}
		name = filepath.ToSlash(name)
		if own(name) || !v.reaches(name) {
			return filepath.SkipDir
		}
		if v.count++; v.count > mostFolders {
			return fs.SkipAll
		}
		return v.w.Add(full)
	})
}
