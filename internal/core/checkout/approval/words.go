package approval

import (
	"encoding/hex"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"lukechampine.com/blake3"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/written/declare"
)

// binder finds the files of a checkout that the words of what is run name, however they
// are quoted or reached, and takes their digests.
//
// It does not judge which word a program would execute: `bash -e s/x.sh`, `cd s && sh x.sh`,
// `env sh s/x.sh`, a script inside quotes, behind eval, in an array, or handed to an
// interpreter are all words. Each word that leads to a regular file of the checkout, from
// its folder or from any folder that another word of the same text names, is bound.
type binder struct {
	dir    string
	vars   map[string]string // variables whose values are known
	makes  []string          // globs of what steps make
	seen   map[string]bool
	found  []boundFile
	made   []string // found, and not the stranger's own
	stamps []checkout.Stamped
	git    *worktree
}

type boundFile struct{ name, digest string }

// mostFiles ends the search in a text that names thousands.
const mostFiles = 2000

func (b *binder) begin(s *checkout.State) {
	b.seen = map[string]bool{}
	b.vars = map[string]string{"PWD": s.Dir(), "TRAMMEL_DIR": s.Dir()}
	for _, v := range append(slices.Clone(s.Declaration.Variables), variablesOf(s)...) {
		b.knows(v.Name, v.Value)
	}
	for _, x := range s.Written.Steps {
		b.makes = append(b.makes, x.Makes...)
	}
}

func variablesOf(s *checkout.State) (out []declare.Variable) {
	for _, x := range s.Declaration.Services {
		out = append(out, x.Variables...)
	}
	if s.Overlay != nil {
		out = append(out, s.Overlay.Variables...)
	}
	return out
}

// knows tells the value of a variable that scripts may use.
func (b *binder) knows(name, value string) {
	b.vars[name] = strings.ReplaceAll(value, "@{project.dir}", b.dir)
}

// note stamps a file, before it is read.
func (b *binder) note(file string) {
	for _, s := range b.stamps {
		if s.File == file {
			return
		}
	}
	b.stamps = append(b.stamps, checkout.Stamp(file))
}

// digest is that of a regular file below the checkout, or "".
func (b *binder) digest(name string) string {
	if name == "" {
		return ""
	}
	if filepath.IsAbs(name) {
		below, err := filepath.Rel(b.dir, name)
		if err != nil || !filepath.IsLocal(below) {
			return ""
		}
		name = below
	}
	b.note(filepath.Join(b.dir, name))
	f, err := disk.OpenWithin(b.dir, name)
	if err != nil {
		return ""
	}
	defer f.Close()
	h := blake3.New(32, nil)
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return "blake3:" + hex.EncodeToString(h.Sum(nil))
}

// run binds the files that the words of something to run name.
func (b *binder) run(r declare.Run) {
	words := map[string]bool{}
	texts := append([]string{r.Script}, append(slices.Clone(r.Argv), r.Shell...)...)
	for _, text := range texts {
		b.words(strings.ReplaceAll(text, "@{project.dir}", b.dir), words, 0)
	}
	var names []string
	folders := map[string]bool{".": true}
	for w := range words {
		name, ok := b.below(w)
		if !ok {
			continue
		}
		names = append(names, name)
		if info, err := disk.StatWithin(b.dir, name); err == nil && info.IsDir() {
			for d := name; d != "." && d != ".." && !folders[d]; d = path.Dir(d) {
				folders[d] = true
			}
		}
	}
	slices.Sort(names)
	for _, name := range names {
		for folder := range folders {
			b.bind(path.Join(folder, name))
		}
	}
}

// suffixes are what interpreters add to a name by themselves.
var suffixes = []string{"", ".sh", ".js", ".mjs", ".cjs", ".ts", ".py", ".rb", ".pl"}

// bind takes the digest of a name when it is a regular file of the checkout, or of the
// files that it stands for as a pattern.
func (b *binder) bind(name string) {
	if b.seen[name] || !filepath.IsLocal(name) || len(b.found) > mostFiles {
		return
	}
	b.seen[name] = true
	if name == checkout.LocalName || strings.HasPrefix(name, checkout.LocalName+"/") {
		return // Trammel's own
	}
	if strings.ContainsAny(name, "*?[") {
		_ = doublestar.GlobWalk(os.DirFS(b.dir), name, func(match string, d os.DirEntry) error {
			if len(b.found) > mostFiles {
				return io.EOF
			}
			b.bind(match)
			return nil
		}, doublestar.WithNoFollow())
	}
	for _, suffix := range suffixes {
		b.bindFile(name + suffix)
	}
	if module := strings.ReplaceAll(name, ".", "/"); module != name { // python -m a.b
		b.bindFile(module + ".py")
		b.bindFile(module + "/__main__.py")
	}
}

func (b *binder) bindFile(name string) {
	info, err := disk.StatWithin(b.dir, name)
	if err != nil || !info.Mode().IsRegular() || slices.ContainsFunc(b.found, func(f boundFile) bool { return f.name == name }) {
		return
	}
	if !b.strangers(name) {
		return
	}
	if digest := b.digest(name); digest != "" {
		b.found = append(b.found, boundFile{name, digest})
		if b.git != nil && !b.git.tracks(name) || b.git == nil {
			b.made = append(b.made, name)
		}
	}
}

// strangers tells whether a file is one that whoever gave the checkout may have sent: all
// are, but what version control does not have and that it ignores, or that a step makes.
func (b *binder) strangers(name string) bool {
	if b.git == nil {
		b.git = openWorktree(b.dir)
	}
	if !b.git.found() || b.git.tracks(name) {
		return true
	}
	return !b.git.ignores(name) && !slices.ContainsFunc(b.makes, func(glob string) bool {
		ok, _ := doublestar.Match(glob, name)
		below, _ := doublestar.Match(glob+"/**", name)
		return ok || below
	})
}

// below is a word as a path below the checkout; ok is false for what cannot be one.
func (b *binder) below(word string) (string, bool) {
	if word == "" || len(word) > 4096 || strings.ContainsAny(word, "\x00\n") {
		return "", false
	}
	if filepath.IsAbs(word) {
		rel, err := filepath.Rel(b.dir, word)
		if err != nil || !filepath.IsLocal(rel) {
			return "", false
		}
		return filepath.ToSlash(rel), true
	}
	return path.Clean(word), true
}

// words collects the words of a text: as a shell reads it, and as they stand between
// anything that no plain name has. A word that is a text itself is taken apart too.
func (b *binder) words(text string, into map[string]bool, depth int) {
	if text == "" || depth > 5 || len(text) > 1<<20 {
		return
	}
	into[text] = true
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t\r\n;|&()<>\"'`=,:$\\{}!", r) }) {
		into[w] = true
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash), syntax.RecoverErrors(5)).Parse(strings.NewReader(text), "")
	if err != nil && file == nil {
		return
	}
	config := &expand.Config{Env: expand.FuncEnviron(func(name string) string { return b.vars[name] })}
	syntax.Walk(file, func(n syntax.Node) bool {
		if assign, ok := n.(*syntax.Assign); ok && assign.Name != nil && assign.Value != nil {
			if value, err := expand.Literal(config, assign.Value); err == nil {
				b.vars[assign.Name.Value] = value
			}
		}
		word, ok := n.(*syntax.Word)
		if !ok {
			return true
		}
		fields, err := expand.Fields(config, word)
		if err != nil {
			fields = literals(word)
		}
		for _, f := range append(fields, literals(word)...) {
			if f != text && !into[f] {
				if into[f] = true; strings.ContainsAny(f, " \t\n;&|=:,") {
					b.words(f, into, depth+1)
				}
			}
		}
		return true
	})
}

// literals are the stretches of a word that say themselves, however they are quoted.
func literals(word *syntax.Word) []string {
	var out []string
	last := ""
	var walk func(parts []syntax.WordPart)
	walk = func(parts []syntax.WordPart) {
		for _, p := range parts {
			switch p := p.(type) {
			case *syntax.Lit:
				last += strings.ReplaceAll(p.Value, "\\", "")
			case *syntax.SglQuoted:
				last += p.Value
			case *syntax.DblQuoted:
				walk(p.Parts)
			default:
				if last != "" {
					out = append(out, strings.TrimPrefix(last, "/"))
				}
				last = ""
			}
		}
	}
	walk(word.Parts)
	if last != "" {
		out = append(out, last, strings.TrimPrefix(last, "/"))
	}
	return out
}
