package approval

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/storer"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/base/reading"
)

// A stricter consent, for those who want it: every tracked file counts as it is committed. A commit
// that somebody made here is their own; whatever else moves the branch (a pull, a merge, a rebase,
// another branch) asks, with the authors and what of it is run.

// commitsName is the name of the effect.
const commitsName = "commits"

// commit is the commit that is checked out; "" where there is no repository, or nothing in it.
func (w *worktree) commit(r *reading.Reader) string {
	if !w.found() {
		return ""
	}
	text := func(dir, name string) string {
		raw, _ := r.ReadWithin(dir, name, 4096)
		return strings.TrimSpace(string(raw))
	}
	head := text(w.gitDir, "HEAD")
	ref, symbolic := strings.CutPrefix(head, "ref: ")
	if !symbolic {
		return objectID(head)
	}
	common := w.gitDir // of a linked working tree, the repository's own
	if to := text(w.gitDir, "commondir"); to != "" {
		if common = to; !filepath.IsAbs(to) {
			common = filepath.Join(w.gitDir, to)
		}
	}
	if id := objectID(text(common, ref)); id != "" {
		return id
	}
	raw, _ := r.ReadWithin(common, "packed-refs", disk.MostText)
	for line := range strings.Lines(string(raw)) {
		if id, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok && name == ref {
			return objectID(id)
		}
	}
	return ""
}

// objectID is a text that is the name of an object, else "".
func objectID(text string) string {
	if (len(text) == 40 || len(text) == 64) && strings.Trim(text, "0123456789abcdef") == "" {
		return text
	}
	return ""
}

// madeHere tells whether somebody at this machine made each commit that led from one to another
// (gitrepository-layout(5), logs: OLD NEW NAME <MAIL> TIME ZONE, a tab, what was done).
func (w *worktree) madeHere(from, to string) bool {
	raw, err := disk.ReadWithin(w.gitDir, "logs/HEAD", disk.MostText)
	if err != nil || from == "" {
		return false
	}
	did := map[string][2]string{} // new → old and what was done, the last time
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		head, what, _ := strings.Cut(lines.Text(), "\t")
		if words := strings.Fields(head); len(words) > 2 {
			did[words[1]] = [2]string{words[0], what}
		}
	}
	for range len(did) {
		if to == from {
			return true
		}
		step, known := did[to]
		own := strings.HasPrefix(step[1], "commit: ") || strings.HasPrefix(step[1], "commit (amend): ") || strings.HasPrefix(step[1], "commit (initial): ")
		if !known || !own {
			return false
		}
		to = step[0]
	}
	return to == from
}

// mostCommits is how many commits are named.
const mostCommits = 20

// commits adds that consent is to all that is tracked.
func (c *collector) commits() {
	w := openWorktree(c.s.Dir())
	id := w.commit(c.bound.r)
	text := "every tracked file, as committed in " + id
	if id == "" {
		text = "there is no commit here: what is on this list is all that counts"
	}
	c.add(Runs, commitsName, text, "settings or a policy: consent = \"commits\"", id)
}

// Since says for people which commits of others came between two effects of that name: who made them,
// and what they changed of the files that are run.
func (l List) Since(old, now Effect) []string {
	from, to := commitIn(old), commitIn(now)
	r, err := git.PlainOpenWithOptions(l.dir, &git.PlainOpenOptions{DetectDotGit: true, EnableDotGitCommonDir: true})
	if err != nil || to == "" {
		return nil
	}
	log, err := r.Log(&git.LogOptions{From: plumbing.NewHash(to)})
	if err != nil {
		return nil
	}
	before := map[plumbing.Hash]bool{}
	if earlier, err := r.Log(&git.LogOptions{From: plumbing.NewHash(from)}); err == nil && from != "" {
		_ = earlier.ForEach(func(c *object.Commit) error {
			before[c.Hash] = true
			if len(before) > 1000 {
				return storer.ErrStop
			}
			return nil
		})
	}
	var out []string
	more := 0
	err = log.ForEach(func(c *object.Commit) error {
		switch {
		case before[c.Hash]:
			return nil
		case len(out) >= mostCommits:
			if more++; more > 1000 {
				return storer.ErrStop
			}
			return nil
		}
		subject, _, _ := strings.Cut(c.Message, "\n")
		line := fmt.Sprintf("%s  %s  %s", c.Hash.String()[:10], foreign.Line(c.Author.Name), foreign.Line(subject))
		if run := l.runIn(c); len(run) > 0 {
			line += "   changes what is run: " + strings.Join(run, ", ")
		}
		out = append(out, line)
		return nil
	})
	if more > 0 {
		out = append(out, fmt.Sprintf("and %d more", more))
	}
	if err != nil && !errors.Is(err, storer.ErrStop) {
		out = append(out, "the rest cannot be read: "+err.Error())
	}
	return out
}

// runIn are the files of a list that a commit changed.
func (l List) runIn(c *object.Commit) (out []string) {
	stats, err := c.Stats()
	if err != nil {
		return nil
	}
	w := openWorktree(l.dir)
	for _, s := range stats {
		for _, f := range l.files {
			if name := w.path(f.name); name == s.Name || strings.HasSuffix(name, "/") && strings.HasPrefix(s.Name, name) {
				out = append(out, f.name)
			}
		}
		if base := path.Base(s.Name); slices.Contains([]string{"trammel.toml", "trammel.lock"}, base) {
			out = append(out, base)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// commitIn is the commit that an effect speaks of.
func commitIn(e Effect) string {
	words := strings.Fields(e.Text)
	if len(words) == 0 {
		return ""
	}
	return objectID(words[len(words)-1])
}
