package shell

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"mvdan.cc/sh/v3/syntax"
)

// Context is how a shell reads a stretch of its text.
type Context int

// Contexts.
const (
	Code   Context = iota // a name, a pattern or whatever else is not a value
	Bare                  // a part of a word, unquoted
	Double                // in double quotes
	Single                // in single quotes
	Dollar                // in $'…'
	Here                  // in a here-document that is expanded
	Raw                   // in a here-document that is not, or in a comment
	Number                // in arithmetic
)

// Place is where something stands in a text.
type Place struct {
	Context
	Command bool   // in the word that names a command
	By      string // the command that takes the word, or what is in it, for a program
	Ticks   bool   // in `…`, where characters are read twice
	End     string // the line that ends the here-document which it may complete, "" where it cannot
}

// Takes tells whether any value can stand there, quoted. Elsewhere only one can in which no character
// means anything.
func (p Place) Takes() bool {
	return p.Context != Code && p.Context != Number && p.By == "" && !p.Ticks
}

// Plain tells whether no character of a value means anything to a shell, wherever it stands in a word.
func Plain(value string) bool {
	return strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./:@%+,-") == ""
}

// Quote writes a value as one word that means nothing but itself (POSIX.1-2017, XCU 2.2.2).
func Quote(value string) string {
	if value != "" && Plain(value) {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
}

// Typed writes a value as one word of a command line that a person may paste, in any of bash, zsh and
// fish: nothing in it means anything, and no character of it is hidden. One with control characters or
// marks that cannot be seen is written as bash and zsh have it.
func Typed(value string) string {
	if !strings.ContainsFunc(value, func(r rune) bool { return !unicode.IsPrint(r) || r == utf8.RuneError }) {
		if strings.HasPrefix(value, "-") && strings.Contains(value, "/") {
			value = "./" + value // a file, and no option
		}
		if !strings.Contains(value, `\`) {
			return Quote(value)
		}
		var out strings.Builder
		for i, run := range strings.Split(value, `\`) { // which means something to fish between single quotes
			if i > 0 {
				out.WriteString(`\\`)
			}
			if run != "" {
				out.WriteString(Quote(run))
			}
		}
		return out.String()
	}
	var b strings.Builder
	b.WriteString("$'")
	for i := 0; i < len(value); {
		r, size := utf8.DecodeRuneInString(value[i:])
		switch {
		case r == '\'' || r == '\\':
			b.WriteString("\\" + string(r))
		case unicode.IsPrint(r) && r != utf8.RuneError:
			b.WriteRune(r)
		default:
			for _, c := range []byte(value[i : i+size]) {
				fmt.Fprintf(&b, "\\x%02x", c)
			}
			if next, _ := utf8.DecodeRuneInString(value[i+size:]); strings.ContainsRune("0123456789abcdefABCDEF", next) && i+size < len(value) {
				b.WriteString("'$'") // which would be read as more of the number
			}
		}
		i += size
	}
	return b.String() + "'"
}

// Words writes such a command line.
func Words(words ...string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = Typed(w)
	}
	return strings.Join(out, " ")
}

// Written is a value as it is written in a place. ok is false where it cannot stand there.
func (p Place) Written(value string) (text string, ok bool) {
	if p.End != "" && strings.Contains(p.End, value) && value != "" {
		return "", false
	}
	if Plain(value) {
		_, err := strconv.ParseInt(value, 10, 64)
		return value, p.Context != Number || err == nil
	}
	if !p.Takes() || strings.ContainsRune(value, 0) {
		return "", false
	}
	switch p.Context {
	case Bare:
		return Quote(value), true
	case Double:
		return escaped(value, "\\\"$`"), true
	case Here:
		return escaped(value, "\\$`"), true
	case Single:
		return strings.ReplaceAll(value, "'", `'\''`), true
	case Dollar:
		return escaped(value, `\'`), true
	}
	return value, !strings.ContainsAny(value, "\n\r")
}

func escaped(value, special string) string {
	var b strings.Builder
	for i := range len(value) {
		if strings.IndexByte(special, value[i]) >= 0 {
			b.WriteByte('\\')
		}
		b.WriteByte(value[i])
	}
	return b.String()
}

// Places finds where marks stand in a text, each of which occurs once in it and is a word of letters and
// digits. A mark that is not found is in no place that takes a value.
func Places(text string, lang syntax.LangVariant, marks []string) (map[string]Place, error) {
	file, err := parse(text, lang, syntax.KeepComments(true))
	if err != nil {
		return nil, err
	}
	f := finder{found: map[string]Place{}, marks: marks}
	syntax.Walk(file, f.visit)
	return f.found, nil
}

// finder goes through a text with what it is in.
type finder struct {
	marks []string
	found map[string]Place
	in    []syntax.Node
}

func (f *finder) visit(n syntax.Node) bool {
	if n == nil {
		f.in = f.in[:len(f.in)-1]
		return true
	}
	switch x := n.(type) {
	case *syntax.Lit:
		f.see(x.Value, f.context())
	case *syntax.SglQuoted:
		p := f.context()
		if p.Context == Bare {
			if p.Context = Single; x.Dollar {
				p.Context = Dollar
			}
		}
		f.see(x.Value, p)
	case *syntax.Comment:
		f.see(x.Text, Place{Context: Raw})
	}
	f.in = append(f.in, n)
	return true
}

func (f *finder) see(text string, p Place) {
	for _, m := range f.marks {
		before, after, ok := strings.Cut(text, m)
		if !ok {
			continue
		}
		own := p
		if own.End != "" { // what else is in its line may be of the end's letters alone
			after, _, _ = strings.Cut(after, "\n")
			line := before[strings.LastIndexByte(before, '\n')+1:] + after
			for _, other := range f.marks {
				line = strings.ReplaceAll(line, other, "")
			}
			if strings.Trim(line, p.End+"\t") != "" {
				own.End = ""
			}
		}
		f.found[m] = own
	}
}

// context is how what is found next is read: from the innermost of what it is in outwards.
func (f *finder) context() Place {
	p := Place{Context: Bare}
	var word, apart, within bool // in a word; in a substitution, inside which quoting begins anew; in what "${a:-b}" has for b
	for i := len(f.in) - 1; i >= 0; i-- {
		number := false
		switch x := f.in[i].(type) {
		case *syntax.Word:
			if i > 0 {
				number = p.inWord(f.in[i-1], x, !word)
			}
			word = true
		case *syntax.DblQuoted:
			if !apart && p.Context == Bare {
				p.Context = Double
			}
			if !apart && within { // where shells differ in how they read it
				p.Context = Code
			}
		case *syntax.CmdSubst:
			apart = true
			p.Ticks = p.Ticks || x.Backquotes
		case *syntax.ProcSubst:
			apart = true
		case *syntax.ArithmExp, *syntax.ArithmCmd, *syntax.LetClause, *syntax.BinaryArithm, *syntax.UnaryArithm, *syntax.ParenArithm, *syntax.CStyleLoop:
			number = true
		case *syntax.BinaryTest:
			number = x.Op == syntax.TsEql || x.Op == syntax.TsNeq || x.Op == syntax.TsLeq || x.Op == syntax.TsGeq || x.Op == syntax.TsLss || x.Op == syntax.TsGtr
		case *syntax.ExtGlob:
			if !apart {
				p.Context = Code
			}
		case *syntax.ParamExp:
			if !apart && (!word || x.Exp == nil) { // a name, an index, or a part of it
				p.Context = Code
			}
			within = within || !apart
		case *syntax.Block, *syntax.Subshell, *syntax.Stmt:
			// A loop's arithmetic is not that of its body.
			if _, ok := f.in[i].(*syntax.Stmt); ok && !apart {
				apart, within = true, false
			}
		}
		if number && !apart {
			p.Context = Number
		} else if number && p.By == "" {
			if _, loop := f.in[i].(*syntax.CStyleLoop); !loop {
				p.By = "arithmetic"
			}
		}
	}
	if !word {
		p.Context = Code
	}
	return p
}

// inWord says what a word is to what it is a part of; arithmetic tells whether that is arithmetic.
func (p *Place) inWord(in syntax.Node, w *syntax.Word, innermost bool) (arithmetic bool) {
	switch x := in.(type) {
	case *syntax.Redirect:
		if innermost {
			p.here(x, w)
		}
	case *syntax.CallExpr:
		p.command(x, w)
	case *syntax.Assign:
		return x.Index == syntax.ArithmExpr(w)
	case *syntax.ArrayElem:
		return x.Index == syntax.ArithmExpr(w)
	case *syntax.ParamExp:
		if innermost && x.Index == syntax.ArithmExpr(w) {
			p.Context = Code
		}
	}
	return false
}

// here tells what a here-document is, whose body is a word of its redirection.
func (p *Place) here(r *syntax.Redirect, w *syntax.Word) {
	if r.Hdoc != w {
		return
	}
	p.Context = Here
	var end strings.Builder
	for _, part := range r.Word.Parts {
		switch x := part.(type) {
		case *syntax.Lit:
			end.WriteString(x.Value)
			if strings.Contains(x.Value, `\`) {
				p.Context = Raw
			}
		case *syntax.SglQuoted:
			end.WriteString(x.Value)
			p.Context = Raw
		case *syntax.DblQuoted:
			p.Context = Raw
			for _, inner := range x.Parts {
				if lit, ok := inner.(*syntax.Lit); ok {
					end.WriteString(lit.Value)
				}
			}
		}
	}
	if p.Context == Raw || p.Context == Here {
		p.End = strings.ReplaceAll(end.String(), `\`, "")
	}
}

// command tells what a word is to the command that it stands in.
func (p *Place) command(call *syntax.CallExpr, w *syntax.Word) {
	at := slices.Index(call.Args, w)
	if at == 0 {
		p.Command = true
	}
	if at <= 0 {
		return
	}
	words := make([]string, len(call.Args))
	for i, a := range call.Args {
		words[i] = literal(a.Parts)
	}
	if by := Program(words, at); by != "" {
		p.By = by
	}
}

// literal is a word without its quotes; what is not literal in it is left out.
func literal(parts []syntax.WordPart) string {
	out := ""
	for _, part := range parts {
		switch x := part.(type) {
		case *syntax.Lit:
			out += strings.ReplaceAll(x.Value, `\`, "")
		case *syntax.SglQuoted:
			out += x.Value
		case *syntax.DblQuoted:
			out += literal(x.Parts)
		}
	}
	return out
}

// withOption are interpreters that take a program behind an option, and what the letters of that are.
var withOption = map[string]string{
	"sh": "c", "bash": "c", "dash": "c", "ksh": "c", "mksh": "c", "zsh": "c", "ash": "c", "fish": "c", "su": "c", "script": "c", "flock": "c", "env": "S",
	"python": "c", "python2": "c", "python3": "c", "pypy": "c", "pypy3": "c", "perl": "eE", "ruby": "e", "node": "ep", "nodejs": "ep", "deno": "e", "bun": "e", "php": "rBRE", "lua": "e", "luajit": "e",
	"Rscript": "e", "R": "e", "julia": "eE", "elixir": "e", "erl": "", "guile": "c", "emacs": "", "vim": "c", "vi": "c", "nvim": "c", "gdb": "x", "find": "", "osascript": "e", "ghc": "e", "scala": "e", "groovy": "e", "octave": "", "make": "", "gmake": "",
}

// withWord are commands of which each word, or the first that is no option, is a program.
var withWord = []string{"eval", "trap", "ssh", "watch", "awk", "gawk", "mawk", "nawk", "sed", "gsed", "parallel", "rsh", "tclsh", "expect", "m4", "dc", "bc", "entr"}

// longOptions are those that a program comes behind, in any interpreter.
var longOptions = []string{"--eval", "--command", "--exec", "--execute", "--print", "-eval", "--init-command", "-ex", "-cmd", "--expression"}

// Program is the command among words that takes the word at an index for a program; "" for none.
func Program(words []string, at int) string {
	for i := range at {
		name := path.Base(words[i])
		if slices.Contains(withWord, name) {
			return name
		}
		letters, ok := withOption[name]
		if !ok && strings.HasPrefix(name, "python3.") {
			letters, ok = "c", true
		}
		if !ok {
			continue
		}
		behind := false // the next word that is no option is the program
		for k, w := range words[i+1 : at+1] {
			option, value, given := strings.Cut(w, "=")
			switch long := slices.Contains(longOptions, option); {
			case long && given && value != "" && i+1+k == at:
				return name
			case long && !given:
				behind = true
				continue
			case len(w) > 1 && w[0] == '-' && w[1] != '-' && strings.ContainsAny(w[len(w)-1:], letters) && i+1+k < at:
				behind = true
				continue
			}
			if behind && i+1+k == at {
				return name
			}
			if !strings.HasPrefix(w, "-") {
				behind = false
			}
		}
	}
	return ""
}
