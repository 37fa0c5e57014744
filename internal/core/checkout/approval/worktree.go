package approval

import (
	"os"
	"path/filepath"
	"strings"

	"github.com/go-git/go-git/v5/plumbing/format/gitignore"
	"github.com/go-git/go-git/v5/plumbing/format/index"

	"app.example/trammel/internal/core/base/disk"
)

// worktree is the working tree of git that a checkout lies in, as far as it tells which
// files came with it. Only git's own files are read, and nothing of git is run.
type worktree struct {
	root    string // "" where there is none
	gitDir  string
	below   string          // of the checkout, from root, with slashes
	tracked map[string]bool // nil until somebody asks
	broken  bool            // the index cannot be read: every file may be the stranger's
}

// openWorktree looks for git's folder at or above a folder (gitrepository-layout(5)).
func openWorktree(dir string) *worktree {
	w := &worktree{}
	for d := dir; ; d = filepath.Dir(d) {
		at := filepath.Join(d, ".git")
		if info, err := os.Lstat(at); err == nil {
			w.root, w.gitDir = d, at
			if !info.IsDir() && !info.Mode().IsRegular() { // a pipe, say: it is no repository
				w.broken = true
				return w
			}
			if info.Mode().IsRegular() { // a linked working tree
				raw, err := disk.Read(at, 4096)
				to, ok := strings.CutPrefix(strings.TrimSpace(string(raw)), "gitdir: ")
				if err != nil || !ok {
					w.broken = true
				} else if w.gitDir = to; !filepath.IsAbs(to) {
					w.gitDir = filepath.Join(d, to)
				}
			}
			if at, err := os.Stat(w.gitDir); err != nil || !at.IsDir() { // nothing there is opened: it may wait for a writer
				w.broken = true
				return w
			}
			below, err := filepath.Rel(d, dir)
			if err != nil {
				w.broken = true
			}
			w.below = filepath.ToSlash(below)
			return w
		}
		if d == filepath.Dir(d) {
			return w
		}
	}
}

// Ignored tells whether version control is told to leave a file of a checkout alone, and
// does not have it; known is false where there is no version control.
func Ignored(dir, name string) (ignored, known bool) {
	w := openWorktree(dir)
	return w.found() && !w.tracks(name) && w.ignores(name), w.found()
}

func (w *worktree) found() bool { return w.root != "" && !w.broken }

// path is a name of the checkout as the whole tree has it.
func (w *worktree) path(name string) string {
	if w.below == "." {
		return name
	}
	return w.below + "/" + name
}

// tracks tells whether version control has the file, or a repository in the tree might.
func (w *worktree) tracks(name string) bool {
	if w.root == "" {
		return false
	}
	if w.tracked == nil {
		w.tracked = map[string]bool{}
		f, err := disk.OpenWithin(w.gitDir, "index")
		if err != nil {
			w.broken = !os.IsNotExist(err) // a repository without a commit has none
		} else {
			var list index.Index
			if index.NewDecoder(f).Decode(&list) != nil {
				w.broken = true
			}
			f.Close()
			for _, e := range list.Entries {
				w.tracked[e.Name] = true
			}
		}
	}
	for p := w.path(name); p != "."; p = filepath.ToSlash(filepath.Dir(p)) {
		if w.broken || w.tracked[p] { // a folder that is in the index is a repository of its own
			return true
		}
	}
	return false
}

// ignores tells whether version control is told to leave the file alone (gitignore(5)).
func (w *worktree) ignores(name string) bool {
	whole := strings.Split(w.path(name), "/")
	var patterns []gitignore.Pattern
	read := func(dir, file string, domain []string) {
		raw, err := disk.ReadWithin(dir, file, 1<<20)
		if err != nil {
			return
		}
		for line := range strings.Lines(string(raw)) {
			line = strings.TrimRight(line, "\r\n")
			if line != "" && line[0] != '#' {
				patterns = append(patterns, gitignore.ParsePattern(line, domain))
			}
		}
	}
	read(w.gitDir, "info/exclude", nil)
	for i := range whole {
		domain := whole[:i]
		read(w.root, filepath.Join(filepath.Join(domain...), ".gitignore"), domain)
	}
	return gitignore.NewMatcher(patterns).Match(whole, false)
}
