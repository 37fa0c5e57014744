package approval

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/declare"
)

// What runs without being asked by name (commands of secrets, steps at a shell's start, lists of
// add-ons, probes) is started from copies of the files that were approved, which lie in the person's
// state: between the look at a file of the checkout and its start, whoever may write there could
// put another in its place.

// CopiesOf is the folder of the approved bytes of a checkout.
func CopiesOf(p place.Places, dir string) string {
	return strings.TrimSuffix(checkout.ConsentFile(p, dir), ".json") + ".files"
}

// copyOf is the copy of a file with a digest, in hex. It has the file's own last name, by whose end
// interpreters know what it is.
func copyOf(copies, sum, name string) string { return filepath.Join(copies, sum, path.Base(name)) }

// copyFiles makes the copies of the files that a list holds to their bytes.
func copyFiles(s *checkout.State, files []boundFile) error {
	copies := CopiesOf(s.Places, s.Dir())
	for _, f := range files {
		sum, ok := strings.CutPrefix(f.digest, "blake3:")
		if !ok || !f.plain {
			continue
		}
		to := copyOf(copies, sum, f.name)
		if _, err := os.Lstat(to); err == nil {
			continue
		}
		raw, err := disk.ReadWithin(s.Dir(), f.name, rests.MostBytes)
		if errors.Is(err, disk.ErrTooLarge) {
			continue // it is read anew each time
		}
		if err != nil || digestOf(raw) != f.digest {
			return changedSince(f.name)
		}
		if err := disk.Private(copies); err != nil {
			return err
		}
		mode := fs.FileMode(0o400)
		if info, err := disk.StatWithin(s.Dir(), f.name); err == nil && info.Mode()&0o111 != 0 {
			mode = 0o500
		}
		if err := disk.Write(to, raw, mode); err != nil {
			return err
		}
	}
	return nil
}

// dropCopies removes the copies of bytes that no list has any more.
func dropCopies(s *checkout.State, used map[string]bool) {
	copies := CopiesOf(s.Places, s.Dir())
	entries, _ := os.ReadDir(copies)
	for _, e := range entries {
		if !used[e.Name()] {
			_ = disk.RemoveAll(filepath.Join(copies, e.Name()))
		}
	}
}

func changedSince(name string) error {
	return fault.New(fault.ErrNotApproved, "this project changed since you approved it: file %s changed", name).Advise("Read it and decide: trammel approve")
}

// Pinned is what does the same as a run, started from copies of the files that were consented to.
func (g Given) Pinned(run declare.Run) (declare.Run, error) {
	if !g.Holds() {
		return run, fault.New(fault.ErrNotApproved, "nobody has approved what this project would run")
	}
	b := newBinder(g.state, nil)
	defer b.close()
	pinned, used, err := b.pinned(run)
	if err != nil || len(used) == 0 {
		return pinned, err
	}
	approved := map[string]string{}
	for _, f := range g.list.files {
		approved[f.name] = f.digest
	}
	for _, f := range used {
		if approved[f.name] != f.digest {
			return run, changedSince(f.name)
		}
	}
	if err := copyFiles(g.state, used); err != nil {
		return run, err
	}
	return pinned, b.copyFolders(g.state)
}

// pin puts copies in the place of what the words of a text name.
type pin struct {
	*binder
	folders []string
	files   map[string]boundFile
	used    map[string]boundFile
	inText  bool                   // a here-document names a file
	trees   map[string][]boundFile // folders that were named, with what is in them
}

// pinned is a run with copies in the place of the files that its words name, and those files. The
// copies need not be there. An error says what cannot be put in their place.
func (b *binder) pinned(run declare.Run) (out declare.Run, used []boundFile, err error) {
	words, why := b.wordsOf(run)
	if why == "" {
		why = b.bindAll(words)
	}
	if why != "" {
		return run, nil, errors.New(why)
	}
	p := &pin{binder: b, files: map[string]boundFile{}, used: map[string]boundFile{}, trees: map[string][]boundFile{}}
	told := map[string]bool{} // by the names of runners, which look for them by themselves
	for w, m := range words {
		if m == aFile && !strings.Contains(w, "/") {
			told[w] = true // a command, which PATH says, or a target
		}
		for _, name := range runnerOf(w) {
			told[name] = true
		}
	}
	for _, f := range b.found {
		if f.plain && !told[path.Base(f.name)] {
			p.files[f.name] = f
		}
	}
	if len(p.files) == 0 {
		return run, nil, nil
	}
	var names []string
	for w := range words {
		if _, ok := b.below(w); ok {
			names = append(names, w)
		}
	}
	budget := mostLookups
	p.folders = b.foldersOf(names, &budget)
	out = declare.Run{Script: b.here(run.Script)}
	for _, a := range run.Argv {
		a, _ = p.word(b.here(a), 0)
		out.Argv = append(out.Argv, a)
	}
	for _, a := range run.Shell {
		a, _ = p.word(b.here(a), 0)
		out.Shell = append(out.Shell, a)
	}
	if len(run.Shell) == 0 {
		out.Script, _ = p.text(out.Script, 0)
	}
	for _, name := range slices.Sorted(keysOf(p.files)) {
		if _, ok := p.used[name]; !ok || p.inText {
			return run, nil, fmt.Errorf("it starts without being asked for, and it names %s in a way that the approved copy cannot replace. Name the file as one plain word", name)
		}
		used = append(used, p.files[name])
	}
	b.trees = p.trees
	return out, used, nil
}

// copy is what takes the place of a word; ok is false where the word names nothing that is held to
// its bytes.
func (p *pin) copy(word string) (to []string, ok bool) {
	name, may := p.below(word)
	if !may {
		return nil, false
	}
	for _, folder := range p.folders {
		full := path.Join(folder, name)
		if f, known := p.files[full]; known {
			p.used[full] = f
			return []string{p.copyOf(f)}, true
		}
		var inside []boundFile
		for _, other := range slices.Sorted(keysOf(p.files)) {
			f := p.files[other]
			if rest, below := strings.CutPrefix(other, full+"/"); below && p.kind(full) == isFolder && full != "." && !own(full) {
				inside = append(inside, f)
				_ = rest
			}
		}
		if len(inside) > 0 && p.handed(full) {
			for _, f := range inside {
				p.used[f.name] = f
			}
			p.trees[full] = inside
			return []string{treeOf(p.copies, full, inside)}, true
		}
		if strings.ContainsAny(name, "*?[") {
			for _, other := range slices.Sorted(keysOf(p.files)) {
				if matches(full, other) {
					p.used[other] = p.files[other]
					to = append(to, p.copyOf(p.files[other]))
				}
			}
			if len(to) > 0 {
				return to, true
			}
		}
	}
	return nil, false
}

// handed tells whether a folder itself is bound, and not only a file in it.
func (p *pin) handed(name string) bool { return p.done["folder "+name] }

func (p *pin) copyOf(f boundFile) string {
	return copyOf(p.copies, strings.TrimPrefix(f.digest, "blake3:"), f.name)
}

// treeOf is where a copy of a folder lies.
func treeOf(copies, name string, inside []boundFile) string {
	facts := canon.Map{}
	for _, f := range inside {
		facts[f.name] = f.digest
	}
	return filepath.Join(copies, strings.TrimPrefix(canon.Digest(facts), "sha256:"), path.Base(name))
}

// copyFolders makes the copies of folders.
func (b *binder) copyFolders(s *checkout.State) error {
	for name, inside := range b.trees {
		to := treeOf(b.copies, name, inside)
		for _, f := range inside {
			raw, err := disk.Read(copyOf(b.copies, strings.TrimPrefix(f.digest, "blake3:"), f.name), rests.MostBytes)
			if err != nil || digestOf(raw) != f.digest {
				return changedSince(f.name)
			}
			mode := fs.FileMode(0o400)
			if info, err := disk.StatWithin(s.Dir(), f.name); err == nil && info.Mode()&0o111 != 0 {
				mode = 0o500
			}
			at := filepath.Join(to, strings.TrimPrefix(f.name, name+"/"))
			if old, err := os.ReadFile(at); err == nil && digestOf(old) == f.digest {
				continue
			}
			if err := disk.Write(at, raw, mode); err != nil {
				return err
			}
		}
	}
	return nil
}

// word is a whole word with copies in it; changed is false where there is nothing to change.
func (p *pin) word(w string, depth int) (out string, changed bool) {
	if to, ok := p.copy(w); ok && len(to) == 1 {
		return to[0], true
	}
	for _, sign := range []string{"=", ":", "@"} {
		before, rest, ok := strings.Cut(w, sign)
		if to, named := p.copy(rest); ok && named && len(to) == 1 {
			return before + sign + to[0], true
		}
	}
	if depth < mostDepth && strings.ContainsAny(w, " \t\n;&|") {
		return p.text(w, depth+1)
	}
	return w, false
}

// text is a shell's text with copies in it.
func (p *pin) text(script string, depth int) (out string, changed bool) {
	file, err := shell.Parse(script, syntax.LangBash)
	if err != nil {
		return script, false
	}
	type edit struct {
		from, to uint
		text     string
	}
	var edits []edit
	compared := map[*syntax.Word]bool{}
	config := expand.Config{Env: expand.FuncEnviron(func(name string) string { return p.vars[name] })}
	syntax.Walk(file, func(n syntax.Node) bool {
		if r, ok := n.(*syntax.Redirect); ok && r.Hdoc != nil {
			q := *p
			q.used, q.trees = map[string]boundFile{}, map[string][]boundFile{}
			for _, l := range literals(r.Hdoc) {
				q.word(l, depth+1)
			}
			p.inText = p.inText || len(q.used) > 0
			return false
		}
		for _, w := range patternsOf(n) {
			compared[w] = true
		}
		word, ok := n.(*syntax.Word)
		if !ok || word == nil || compared[word] {
			return true
		}
		fields, err := shell.Fields(config, word)
		if err != nil {
			return true
		}
		var texts []string
		any := false
		for _, f := range fields {
			to, ok := p.copy(f)
			if !ok {
				if one, changed := p.word(f, depth); changed {
					to, ok = []string{one}, true
				} else {
					to = []string{f}
				}
			}
			any = any || ok
			for _, t := range to {
				quoted, err := syntax.Quote(t, syntax.LangBash)
				if err != nil {
					return true
				}
				texts = append(texts, quoted)
			}
		}
		if any {
			edits = append(edits, edit{word.Pos().Offset(), word.End().Offset(), strings.Join(texts, " ")})
		}
		return !any
	})
	slices.SortFunc(edits, func(a, b edit) int { return int(b.from) - int(a.from) })
	for _, e := range edits {
		script = script[:e.from] + e.text + script[e.to:]
	}
	return script, len(edits) > 0
}
