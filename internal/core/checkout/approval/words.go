package approval

import (
	"errors"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/declare"
)

// text is one thing that is run, while its words are collected. A word counts however it is
// quoted or reached: `bash -e s/x.sh`, `cd s && sh x.sh`, `env sh s/x.sh`, a script inside quotes,
// behind eval, in an array or a redirection are all words. Only what a command of the table of
// readers is given does not count, where nothing else of the text gets what that prints.
type text struct {
	*binder
	vars  map[string]string // variables whose values are known
	words words
	left  int    // bytes that may still be looked at
	why   string // why the text cannot be read through, or ""
	isSQL bool   // the text that is read now goes to a client of a database
}

func (t *text) add(word string, m meaning) {
	if t.isSQL && strings.Trim(word, "*.") == "" {
		return // all columns, or all tables
	}
	t.words.add(word, m)
}

// meaning is what a word may name.
type meaning int

const (
	aPlace  meaning = iota // a folder that others are meant from
	aFile                  // that, or a file that counts
	aFolder                // that, or a folder all of which counts
)

// words may name something: each has the most that it may mean.
type words map[string]meaning

func (w words) add(word string, m meaning) { w[word] = max(w[word], m) }

// What a text may hold before it is refused. Nothing that people write comes near it.
const (
	mostText  = 1 << 20 // bytes
	mostValue = 4096    // bytes of a variable that is put together in it: no path is longer (PATH_MAX)
	mostDepth = 8       // texts in texts
	perByte   = 24      // bytes that are looked at for each byte of it
	mostBrace = 2000    // words that one word with braces stands for
)

// wordsOf are the words of something to run; why says why they cannot be told.
func (b *binder) wordsOf(r declare.Run) (all words, why string) {
	t := &text{binder: b, vars: map[string]string{}, words: words{}}
	whole := len(r.Script)
	for _, a := range append(slices.Clone(r.Argv), r.Shell...) {
		whole += len(a)
	}
	t.left = 1<<16 + whole*perByte
	for name, value := range b.vars {
		t.vars[name] = value
		if strings.Contains(r.Script, name) && len(value) > mostValue {
			delete(t.vars, name)
			t.read(value, 0) // too long to be a part of a path: its own words are all that it has
		}
	}
	if len(r.Argv) > 0 {
		var argv []string
		for _, a := range r.Argv {
			argv = append(argv, b.here(a))
		}
		t.call(argv, 0, false, written(argv))
	}
	t.read(b.here(r.Script), 0)
	for _, a := range r.Shell {
		t.word(b.here(a), 0, aFolder)
	}
	return t.words, t.why
}

func (b *binder) here(text string) string { return strings.ReplaceAll(text, "@{project.dir}", b.dir) }

// spend tells whether so many bytes more may be looked at.
func (t *text) spend(bytes, depth int) bool {
	if t.left -= bytes; t.left < 0 || depth > mostDepth {
		t.refuse("its variables and nested scripts expand to too much text")
	}
	return t.why == ""
}

func (t *text) refuse(why string) {
	if t.why == "" {
		t.why = why
	}
}

// separators stand between names where no shell says so.
const separators = "=:,;|&()<>\"'`@ \t\r\n"

// word takes one word, what stands in it between signs, and where it is a text itself the words
// of that.
func (t *text) word(w string, depth int, m meaning) {
	if w == "" || !t.spend(len(w), depth) {
		return
	}
	t.add(w, m)
	isText := strings.ContainsAny(w, " \t\n;&|")
	if isText {
		m = min(m, aFile) // what it says of folders, it says as a text
	}
	if strings.ContainsAny(w, separators) {
		for piece := range strings.FieldsFuncSeq(w, func(r rune) bool { return strings.ContainsRune(separators, r) }) {
			t.add(piece, m)
		}
		// What is behind the first sign may have others in its name.
		for _, sign := range []string{"=", ":", "@", ","} {
			if _, rest, ok := strings.Cut(w, sign); ok {
				t.add(rest, m)
			}
		}
	}
	if len(w) > 2 && w[0] == '-' && w[1] != '-' { // an option with its argument behind it
		t.add(w[2:], m)
	}
	if isText && m > aPlace {
		t.read(w, depth+1)
	}
}

// call takes the words of one command, of which the last ones name what is only written.
func (t *text) call(words []string, depth int, exempt bool, into int) {
	if len(words) == 0 {
		return
	}
	t.word(words[0], depth, aFile)
	exempt = exempt || depth == 0 && reads(words) // a command line that is a reader's, and nothing else
	bare := aFolder
	if targeted(words) {
		bare = aFile
	}
	before := t.isSQL
	defer func() { t.isSQL = before }()
	for i, w := range words[1:] {
		t.isSQL = before || isSQL(words[0], w)
		switch {
		case exempt, i+1 >= len(words)-into:
			t.word(w, depth, aPlace)
		case strings.Contains(w, "/"):
			t.word(w, depth, aFolder)
		default:
			t.word(w, depth, bare)
		}
	}
}

// read takes the words of a text as a shell reads it; where it cannot be read so, as they stand
// between anything that no plain name has.
func (t *text) read(script string, depth int) {
	if script == "" || !t.spend(len(script), depth) {
		return
	}
	if len(script) > mostText {
		t.refuse("it is longer than 1 MiB")
		return
	}
	file, err := shell.Parse(script, syntax.LangBash)
	if err != nil {
		for w := range strings.FieldsFuncSeq(script, func(r rune) bool { return strings.ContainsRune(" \t\r\n;|&()<>\"'`=,:$\\{}!", r) }) {
			if readers[w] || targets[w] {
				t.add(w, aFile)
			} else {
				t.add(w, aFolder)
			}
		}
		return
	}
	exempt := exempted(file)
	taken := map[*syntax.Word]bool{}
	readBy := map[*syntax.Redirect]string{} // the command that reads what is redirected
	syntax.Walk(file, func(n syntax.Node) bool {
		if t.why != "" {
			return false
		}
		for _, w := range patternsOf(n) {
			taken[w] = true
		}
		switch n := n.(type) {
		case *syntax.Assign:
			if n.Name != nil && n.Value != nil {
				taken[n.Value] = true
				for _, value := range t.flat(n.Value) {
					t.assign(n.Name.Value, value, n.Append)
					t.word(value, depth, aFile) // it is a part of a word, or one itself
				}
			}
		case *syntax.Stmt:
			if c, ok := n.Cmd.(*syntax.CallExpr); ok && len(c.Args) > 0 {
				for _, r := range n.Redirs {
					readBy[r] = c.Args[0].Lit()
				}
			}
		case *syntax.Redirect:
			switch n.Op { // what is only written to is not run
			case syntax.RdrOut, syntax.AppOut, syntax.RdrAll, syntax.AppAll, syntax.RdrClob:
				taken[n.Word] = true
			}
			if exempt[n] {
				taken[n.Word] = true
			}
			if n.Hdoc != nil {
				taken[n.Hdoc] = true
				if !exempt[n] {
					before := t.isSQL
					t.isSQL = t.isSQL || readBy[n] != "" && isSQL(readBy[n], script[n.Hdoc.Pos().Offset():n.Hdoc.End().Offset()])
					// Braces and blanks are plain in it, as between double quotes.
					for _, w := range t.flat(&syntax.Word{Parts: []syntax.WordPart{&syntax.DblQuoted{Parts: n.Hdoc.Parts}}}) {
						t.read(w, depth+1)
					}
					t.isSQL = before
				}
			}
		case *syntax.CallExpr:
			var words []string
			into := 0 // of what they come to, how many are only written
			last := len(n.Args) - written(plainWords(n))
			for i, arg := range n.Args {
				fields := t.flat(arg)
				if i > 0 && i >= last {
					into += len(fields)
				}
				words = append(words, fields...)
				taken[arg] = true // its words are taken, but what is inside substitutions comes yet
			}
			t.call(words, depth+1, exempt[n], into)
		case *syntax.Word:
			if !taken[n] {
				for _, w := range t.flat(n) {
					t.word(w, depth, aFolder)
				}
			}
		}
		return true
	})
}

// patternsOf are the words of a part of a text that are compared with other text, and name no file.
func patternsOf(n syntax.Node) []*syntax.Word {
	switch n := n.(type) {
	case *syntax.CaseItem:
		return n.Patterns
	case *syntax.BinaryTest:
		if y, ok := n.Y.(*syntax.Word); ok && slices.Contains([]syntax.BinTestOperator{syntax.TsMatch, syntax.TsMatchShort, syntax.TsNoMatch, syntax.TsReMatch}, n.Op) {
			return []*syntax.Word{y}
		}
	case *syntax.ParamExp:
		switch {
		case n.Repl != nil && n.Repl.Orig != nil:
			return []*syntax.Word{n.Repl.Orig}
		case n.Exp != nil && n.Exp.Word != nil && slices.Contains([]syntax.ParExpOperator{syntax.RemSmallPrefix, syntax.RemLargePrefix, syntax.RemSmallSuffix, syntax.RemLargeSuffix}, n.Exp.Op):
			return []*syntax.Word{n.Exp.Word}
		}
	}
	return nil
}

func (t *text) assign(name, value string, more bool) {
	if more {
		value = t.vars[name] + value
	}
	if len(value) > mostValue && strings.Contains(value, t.vars[name]) && t.vars[name] != "" {
		t.refuse("the variable " + name + " grows longer in it than a path can be (4096 bytes)")
	}
	if len(value) > mostValue {
		delete(t.vars, name)
		return
	}
	t.vars[name] = value
}

// exempted are the commands of a text whose words do not count, and their redirections: of readers
// whose output nobody else of the text gets.
func exempted(file *syntax.File) map[syntax.Node]bool {
	out := map[syntax.Node]bool{}
	only := true // readers are all there is
	functions := map[string]bool{}
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.FuncDecl:
			functions[n.Name.Value] = true
		case *syntax.CallExpr:
			if len(n.Args) > 0 {
				only = only && (functions[n.Args[0].Lit()] || reads(plainWords(n))) && len(n.Assigns) == 0
			}
		}
		return true
	})
	var mark func(stmts []*syntax.Stmt, flows bool)
	var one func(s *syntax.Stmt, flows bool)
	mark = func(stmts []*syntax.Stmt, flows bool) {
		for _, s := range stmts {
			one(s, flows)
		}
	}
	one = func(s *syntax.Stmt, flows bool) {
		for _, r := range s.Redirs {
			switch r.Op {
			case syntax.RdrOut, syntax.AppOut, syntax.RdrAll, syntax.AppAll, syntax.RdrClob:
				flows = flows || !only && r.Word.Lit() != "/dev/null"
			}
		}
		switch c := s.Cmd.(type) {
		case *syntax.CallExpr:
			if !flows && len(c.Args) > 0 && reads(plainWords(c)) && len(c.Assigns) == 0 {
				out[c] = true
				for _, r := range s.Redirs {
					out[r] = true
				}
			}
		case *syntax.BinaryCmd:
			if c.Op == syntax.Pipe || c.Op == syntax.PipeAll {
				one(c.X, flows || !only && !readersOnly(c.Y))
				one(c.Y, flows)
			} else {
				one(c.X, flows)
				one(c.Y, flows)
			}
		case *syntax.Block:
			mark(c.Stmts, flows)
		case *syntax.Subshell:
			mark(c.Stmts, flows)
		case *syntax.IfClause:
			for ; c != nil; c = c.Else {
				mark(c.Cond, flows)
				mark(c.Then, flows)
			}
		case *syntax.WhileClause:
			mark(c.Cond, flows)
			mark(c.Do, flows)
		case *syntax.ForClause:
			mark(c.Do, flows)
		case *syntax.CaseClause:
			for _, item := range c.Items {
				mark(item.Stmts, flows)
			}
		case *syntax.TimeClause:
			if c.Stmt != nil {
				one(c.Stmt, flows)
			}
		case *syntax.FuncDecl:
			one(c.Body, !only) // who calls it may get what it prints
		}
	}
	mark(file.Stmts, false)
	if only { // what they print goes nowhere else
		syntax.Walk(file, func(n syntax.Node) bool {
			switch n.(type) {
			case *syntax.CallExpr, *syntax.Redirect:
				out[n] = true
			}
			return true
		})
	}
	return out
}

// readersOnly tells whether all that a part of a text starts are readers.
func readersOnly(s *syntax.Stmt) bool {
	only := true
	syntax.Walk(s, func(n syntax.Node) bool {
		if c, ok := n.(*syntax.CallExpr); ok && len(c.Args) > 0 {
			only = only && reads(plainWords(c))
		}
		return only
	})
	return only
}

// plainWords are the words of a command as far as they are plain; of others "$" stands.
func plainWords(c *syntax.CallExpr) []string {
	out := make([]string, len(c.Args))
	for i, arg := range c.Args {
		if out[i] = arg.Lit(); out[i] == "" {
			out[i] = "$"
		}
	}
	return out
}

// flat is what a word comes to, as far as it says so itself: with quotes and known variables
// taken away, and the stretches of it that say themselves where something is unknown.
func (t *text) flat(word *syntax.Word) []string {
	var fields []string
	if plain := word.Lit(); plain != "" && !strings.ContainsAny(plain, "\\*?[]{}~$@!+(|)") {
		return []string{plain} // nothing in it means anything else
	}
	if size, few := t.size(word); !few || !t.spend(size, 0) {
		t.refuse("a word with braces, such as {a,b}{c,d}, expands to more than 2000 words")
		return nil
	}
	config := expand.Config{Env: expand.FuncEnviron(func(name string) string { return t.vars[name] })}
	if found, err := shell.Fields(config, word); err == nil {
		fields = found
	}
	for _, l := range literals(word) {
		if !slices.Contains(fields, l) {
			fields = append(fields, l)
		}
	}
	return fields
}

// size is about how many bytes a word comes to; few is false where its braces stand for too many
// words.
func (t *text) size(word *syntax.Word) (bytes int, few bool) {
	groups, commas := 0, 0
	syntax.Walk(word, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.DblQuoted: // no braces stand for words in it
			for _, p := range n.Parts {
				if l, ok := p.(*syntax.Lit); ok {
					bytes += len(l.Value)
					continue
				}
				size, _ := t.size(&syntax.Word{Parts: []syntax.WordPart{p}})
				bytes += size
			}
			return false
		case *syntax.Lit:
			bytes += len(n.Value)
			groups += strings.Count(n.Value, "{")
			commas += strings.Count(n.Value, ",")
			if groups > 0 && strings.Contains(n.Value, "..") {
				commas += mostBrace // a sequence of how many, only its numbers tell
			}
		case *syntax.SglQuoted:
			bytes += len(n.Value)
		case *syntax.ParamExp:
			size := len(t.vars[n.Param.Value])
			if n.Repl != nil { // each of its bytes may become another text
				size *= 1 + len(t.vars[n.Param.Value])
			}
			bytes += size
		}
		return true
	})
	count := 1
	for range groups {
		if count *= commas/max(groups, 1) + 2; count > mostBrace {
			return bytes, false
		}
	}
	return bytes * count, true
}

// literals are the stretches of a word that say themselves, however they are quoted.
func literals(word *syntax.Word) []string {
	var out []string
	last := ""
	end := func() {
		if last != "" {
			out = append(out, last)
			if rest := strings.TrimPrefix(last, "/"); rest != last && rest != "" {
				out = append(out, rest)
			}
		}
		last = ""
	}
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
				end()
			}
		}
	}
	walk(word.Parts)
	end()
	return out
}

// run binds what the words of something to run name. name is that of its effect.
func (b *binder) run(name string, r declare.Run) {
	words, why := b.wordsOf(r)
	if why == "" {
		why = b.bindAll(words)
	}
	if why != "" {
		b.refused = append(b.refused, refusal{name, why})
	}
}

// errMany ends a search that found more than may be bound.
var errMany = errors.New("its names and patterns match more files than approval can check")

// bindAll binds what words name, from the folder of the checkout and from any folder that another
// of the words names; why says why that cannot be done.
func (b *binder) bindAll(all words) (why string) {
	family := map[string]bool{}
	var names, known []string
	for _, w := range slices.Sorted(keysOf(all)) {
		if f := familyOf(w); f != "" {
			family[f] = true
		}
		known = append(known, runnerOf(w)...)
		if _, ok := b.below(w); ok {
			names = append(names, w)
		}
	}
	budget := mostLookups
	folders := b.foldersOf(names, &budget)
	for _, w := range names {
		name, _ := b.below(w)
		if all[w] == aPlace {
			if b.kind(name) == isElsewhere { // whoever goes there may run what is there
				_ = b.bindFile(name)
			}
			continue
		}
		for _, folder := range folders {
			if budget--; budget < 0 {
				return "it has too many words, from too many folders"
			}
			if folder != "." && b.kind(path.Join(folder, name)) == isMissing && !strings.ContainsAny(name, "*?[") {
				continue // it is meant from another folder
			}
			if err := b.bind(path.Join(folder, name), all[w] == aFolder); err != nil {
				return err.Error()
			}
			for _, f := range slices.Sorted(keysOf(family)) {
				base := name
				if f == "python" {
					base = strings.ReplaceAll(name, ".", "/") // python -m a.b
				}
				for _, end := range endings[f] {
					budget--
					if err := b.bindFile(path.Clean(path.Join(folder, base) + end)); err != nil {
						return err.Error()
					}
				}
			}
		}
	}
	for _, folder := range folders {
		for _, name := range known {
			if err := b.bindFile(path.Join(folder, name)); err != nil {
				return err.Error()
			}
		}
	}
	return ""
}

// mostLookups is how many names of one text are looked for.
const mostLookups = 20_000

// foldersOf are the folders that words may be meant from: one may change folder several times, so
// that one may be named from another.
func (b *binder) foldersOf(names []string, budget *int) []string {
	folders := []string{"."}
	known := map[string]bool{".": true}
	for i := 0; i < len(folders); i++ {
		for _, w := range names {
			name, _ := b.below(w)
			full := path.Join(folders[i], name)
			if *budget--; *budget < 0 {
				return folders // what is left of the budget says that
			}
			if known[full] || b.kind(full) != isFolder {
				continue
			}
			for d := full; d != "." && d != ".." && !known[d]; d = path.Dir(d) {
				known[d] = true
				folders = append(folders, d)
			}
		}
	}
	return folders
}
