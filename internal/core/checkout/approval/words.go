package approval

import (
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"lukechampine.com/blake3"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/seen"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/declare"
)

// binder finds the files of a checkout that the words of what is run name, however they
// are quoted or reached, and takes their digests.
//
// Each word that leads to a regular file of the checkout, from its folder or from any folder
// that another word of the same text names, is bound: `bash -e s/x.sh`, `cd s && sh x.sh`,
// `env sh s/x.sh`, a script inside quotes, behind eval, in an array or a redirection are all
// words. Left out is only what is nothing but data there: a file that cannot be started, has
// no name of a program's, and is either handed to commands that interpret nothing (`cut -f3
// data/passings.csv`), or comes behind the script that a command interprets and has a name
// of data (`python3 load.py data/passings.csv`). People change data all day.
type binder struct {
	dir    string
	vars   map[string]string // variables whose values are known
	makes  []string          // globs of what steps make
	seen   map[string]bool
	found  []boundFile
	made   []string // found, and not the stranger's own
	stamps []checkout.Stamped
	git    *worktree
	root   *os.Root // of dir, once somebody asks
	asked  map[string]fs.FileInfo
}

type boundFile struct{ name, digest string }

// mostBound is up to which size a file is told by its content, in bytes; a larger one is told
// by its size and time.
const mostBound = 256 << 20

// mostFolders is from how many folders the words of one text are looked up.
const mostFolders = 64

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

// stat describes what a name of the checkout leads to, links followed within it.
func (b *binder) stat(name string) (fs.FileInfo, error) {
	if info, known := b.asked[name]; known {
		if info == nil {
			return nil, fs.ErrNotExist
		}
		return info, nil
	}
	if b.root == nil {
		seen.At(b.dir)
		root, err := os.OpenRoot(b.dir)
		if err != nil {
			return nil, err
		}
		b.root, b.asked = root, map[string]fs.FileInfo{}
	}
	seen.At(filepath.Join(b.dir, filepath.FromSlash(name)))
	info, err := b.root.Stat(filepath.FromSlash(name))
	if err != nil {
		info = nil
	}
	b.asked[name] = info
	return info, err
}

// close ends the search.
func (b *binder) close() {
	if b.root != nil {
		b.root.Close()
	}
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
	if info, err := f.Stat(); err == nil && info.Size() > mostBound {
		return fmt.Sprintf("large: %d bytes, of %d", info.Size(), info.ModTime().UnixNano())
	}
	h := blake3.New(32, nil)
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return "blake3:" + hex.EncodeToString(h.Sum(nil))
}

// How a word of something to run is used. A word may be used in several ways.
type use int

const (
	plainly use = 1 << iota // as an argument, a command, or anywhere else
	behind                  // as an argument that comes after a file of the checkout
)

// run binds the files that the words of something to run name.
func (b *binder) run(r declare.Run) {
	uses := map[string]use{}
	if len(r.Argv) > 0 {
		var words []string
		for _, a := range r.Argv {
			words = append(words, b.here(a))
		}
		b.call(words, uses, 0)
	}
	b.words(b.here(r.Script), uses, 0)
	for _, a := range r.Shell {
		b.words(b.here(a), uses, 0)
	}
	interprets := len(r.Shell) > 0
	var names []string
	folders := map[string]bool{".": true}
	for w := range uses {
		interprets = interprets || interpreter(w)
		if _, ok := b.below(w); ok {
			names = append(names, w)
		}
	}
	slices.Sort(names)
	// One may change folder several times, so a folder may be named from another.
	for more := true; more && len(folders) < mostFolders; {
		more = false
		for _, w := range names {
			name, _ := b.below(w)
			for f := range folders {
				full := path.Join(f, name)
				if folders[full] || len(folders) >= mostFolders {
					continue
				}
				if info, err := b.stat(full); err == nil && info.IsDir() {
					for d := full; d != "." && d != ".." && !folders[d]; d = path.Dir(d) {
						folders[d], more = true, true
					}
				}
			}
		}
	}
	for _, w := range names {
		name, _ := b.below(w)
		for folder := range folders {
			b.bind(path.Join(folder, name), interprets, uses[w])
		}
	}
}

func (b *binder) here(text string) string { return strings.ReplaceAll(text, "@{project.dir}", b.dir) }

// interpreters are commands that run what a file says, or start what they are told to.
var interpreters = strings.Fields(`sh bash dash ash zsh fish ksh mksh csh tcsh busybox . source eval exec env command builtin
	python pypy node nodejs deno bun tsx ts-node ruby perl php lua luajit awk gawk mawk sed make gmake ninja just R Rscript julia
	java groovy scala tclsh wish expect guile racket sbcl ghci runghc ocaml swift go cargo psql mysql mariadb sqlite sqlite3 redis-cli
	xargs find parallel nohup setsid nice timeout time stdbuf flock sudo doas su ssh chroot unshare nsenter script watch entr ld.so
	npm npx yarn pnpm pip bundle rake gradle mvn kubectl`)

// interpreter tells whether a word can be a command that runs what others say. Numbers of
// versions at its end do not count.
func interpreter(word string) bool {
	base := path.Base(word)
	return slices.Contains(interpreters, base) || slices.Contains(interpreters, strings.TrimRight(base, "0123456789.-"))
}

// dataEnds are the ends of names that nobody gives to a program.
var dataEnds = strings.Fields(".csv .tsv .txt .json .jsonl .ndjson .geojson .md .rst .html .htm .css .svg .png .jpg .jpeg .gif .webp .pdf .xml .toml .ini .parquet .arrow .gz .zst .xz .zip .tar .log .lock .sum .mod .env")

// codeEnds are the ends of names of programs and scripts.
var codeEnds = strings.Fields(".sh .bash .zsh .fish .ksh .js .mjs .cjs .ts .mts .cts .jsx .tsx .py .pyc .pyz .rb .pl .pm .php .phar .lua .awk .sed .mk .r .jl .sql .tcl .exp .go .rs .java .jar .class .kts .groovy .scala .hs .ml .swift .c .cc .cpp .so .dylib .wasm .exe .bin .ps1 .bat .cmd .nu .el .scm .gradle .just .yml .yaml")

// isData tells whether a file is nothing but data to what is run.
func (b *binder) isData(name string, interprets bool, used use) bool {
	info, err := b.stat(name)
	if err != nil || info.Mode()&0o111 != 0 {
		return false
	}
	end := strings.ToLower(path.Ext(name))
	data := slices.Contains(dataEnds, end)
	if interprets && (used != behind || !data) {
		return false
	}
	if !data && (slices.Contains(codeEnds, end) || path.Ext(name) == "" && strings.HasSuffix(strings.ToLower(path.Base(name)), "file")) {
		return false
	}
	f, err := disk.OpenWithin(b.dir, name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4)
	n, _ := io.ReadFull(f, head)
	return !strings.HasPrefix(string(head[:n]), "#!") && string(head[:n]) != "\x7fELF"
}

// suffixes are what interpreters add to a name by themselves.
var suffixes = []string{".sh", ".js", ".mjs", ".cjs", ".ts", ".py", ".rb", ".pl"}

// bind takes the digest of a name when it is a regular file of the checkout, or of the
// files that it stands for as a pattern.
func (b *binder) bind(name string, interprets bool, used use) {
	if !filepath.IsLocal(name) || len(b.found) > mostFiles {
		return
	}
	if name == checkout.LocalName || strings.HasPrefix(name, checkout.LocalName+"/") {
		return // Trammel's own
	}
	if strings.ContainsAny(name, "*?[") {
		_ = doublestar.GlobWalk(os.DirFS(b.dir), name, func(match string, d os.DirEntry) error {
			if len(b.found) > mostFiles {
				return io.EOF
			}
			b.bindFile(match, interprets, used)
			return nil
		}, doublestar.WithNoFollow())
	}
	b.bindFile(name, interprets, used)
	if !interprets {
		return
	}
	for _, suffix := range suffixes {
		b.bindFile(name+suffix, interprets, used)
	}
	if module := strings.ReplaceAll(name, ".", "/"); module != name { // python -m a.b
		b.bindFile(module+".py", interprets, used)
		b.bindFile(module+"/__main__.py", interprets, used)
	}
}

func (b *binder) bindFile(name string, interprets bool, used use) {
	if b.seen[name] {
		return
	}
	info, err := b.stat(name)
	if err != nil || !info.Mode().IsRegular() || b.isData(name, interprets, used) {
		return
	}
	b.seen[name] = true
	if !b.strangers(name) {
		return
	}
	if digest := b.digest(name); digest != "" {
		b.found = append(b.found, boundFile{name, digest})
		if !b.git.tracks(name) {
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

// call collects the words of one command.
func (b *binder) call(words []string, into map[string]use, depth int) {
	used := plainly
	for _, w := range words {
		b.word(w, into, used, depth)
		if name, ok := b.below(w); ok && used == plainly {
			if info, err := b.stat(name); err == nil && info.Mode().IsRegular() {
				used = behind
			}
		}
	}
}

// word takes one word, what stands in it behind = or between colons, and where it is a text
// itself the words of that.
func (b *binder) word(w string, into map[string]use, used use, depth int) {
	if w == "" {
		return
	}
	into[w] |= used
	for _, piece := range strings.FieldsFunc(w, func(r rune) bool { return strings.ContainsRune("=:,;|&()<>\"'` \t\r\n", r) }) {
		if piece != w {
			into[piece] |= used
		}
	}
	if strings.ContainsAny(w, " \t\n;&|") {
		b.words(w, into, depth+1)
	}
}

// words collects the words of a text as a shell reads it; where it cannot be read so, as they
// stand between anything that no plain name has.
func (b *binder) words(text string, into map[string]use, depth int) {
	if text == "" || depth > 6 || len(text) > 1<<20 {
		return
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	if err != nil {
		for _, w := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t\r\n;|&()<>\"'`=,:$\\{}!", r) }) {
			into[w] |= plainly
		}
		return
	}
	written := map[*syntax.Word]bool{}
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Assign:
			if n.Name != nil && n.Value != nil {
				for _, value := range b.flat(n.Value) {
					b.vars[n.Name.Value] = value
					b.word(value, into, plainly, depth)
				}
			}
		case *syntax.Redirect:
			switch n.Op { // what is only written to is not run
			case syntax.RdrOut, syntax.AppOut, syntax.RdrAll, syntax.AppAll, syntax.RdrClob:
				written[n.Word] = true
			}
			if n.Hdoc != nil {
				for _, w := range b.flat(n.Hdoc) {
					b.words(w, into, depth+1)
				}
			}
		case *syntax.CallExpr:
			var words []string
			for _, arg := range n.Args {
				words = append(words, b.flat(arg)...)
			}
			b.call(words, into, depth)
			for _, arg := range n.Args {
				written[arg] = true // its words are taken, but what is inside substitutions comes yet
			}
		case *syntax.Word:
			if !written[n] {
				for _, w := range b.flat(n) {
					b.word(w, into, plainly, depth)
				}
			}
		}
		return true
	})
}

// flat is what a word comes to, as far as it says so itself: with quotes and known variables
// taken away, and the stretches of it that say themselves where something is unknown.
func (b *binder) flat(word *syntax.Word) []string {
	var fields []string
	if plain := word.Lit(); plain != "" && !strings.ContainsAny(plain, "\\*?[]{}~$@!+(|)") {
		fields = []string{plain} // nothing in it means anything else
	} else {
		config := &expand.Config{Env: expand.FuncEnviron(func(name string) string { return b.vars[name] })}
		if found, err := expand.Fields(config, word); err == nil {
			fields = found
		}
	}
	for _, l := range literals(word) {
		if !slices.Contains(fields, l) {
			fields = append(fields, l)
		}
	}
	return fields
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
