package system

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/stored/unpack"
)

// parseAlternatives finds what a script would install as alternatives when a package is
// configured. The script is read and never run: what it assigns, the lists that it goes
// through and the functions that it calls are followed, both ways of each condition are, and
// a call whose words depend on anything else is left out.
func parseAlternatives(source string) []alternative {
	if !strings.Contains(source, "update-alternatives") {
		return nil
	}
	file, err := shell.Parse(source, syntax.LangBash)
	if err != nil {
		return nil
	}
	r := &reading{known: map[string]string{"1": "configure", "2": ""}, functions: map[string]*syntax.Stmt{}, left: mostRead}
	r.statements(file.Stmts)
	return r.found
}

// mostRead bounds how many statements are followed, through all loops and calls.
const mostRead = 20_000

// What a script says cannot grow without end: how long a value may be, in bytes, and how many
// variables one command may name.
const (
	mostValue = 4 << 10
	mostNames = 64
)

// reading follows a script.
type reading struct {
	known     map[string]string
	functions map[string]*syntax.Stmt
	found     []alternative
	depth     int
	left      int
}

func (r *reading) statements(list []*syntax.Stmt) {
	for _, s := range list {
		if r.left--; r.left < 0 {
			return
		}
		r.command(s.Cmd)
	}
}

func (r *reading) command(c syntax.Command) {
	switch c := c.(type) {
	case *syntax.CallExpr:
		r.call(c)
	case *syntax.Block:
		r.statements(c.Stmts)
	case *syntax.Subshell:
		r.statements(c.Stmts)
	case *syntax.BinaryCmd:
		r.statements([]*syntax.Stmt{c.X, c.Y})
	case *syntax.IfClause:
		for ; c != nil; c = c.Else {
			r.statements(c.Cond)
			r.statements(c.Then)
		}
	case *syntax.CaseClause:
		for _, item := range c.Items {
			r.statements(item.Stmts)
		}
	case *syntax.WhileClause:
		r.statements(c.Do)
	case *syntax.FuncDecl:
		r.functions[c.Name.Value] = c.Body
	case *syntax.ForClause:
		loop, ok := c.Loop.(*syntax.WordIter)
		if !ok {
			return
		}
		values, ok := r.words(loop.Items)
		if !ok {
			return
		}
		for _, v := range values {
			r.known[loop.Name.Value] = v
			r.statements(c.Do)
		}
	}
}

func (r *reading) call(c *syntax.CallExpr) {
	if len(c.Args) == 0 {
		for _, a := range c.Assigns {
			value := ""
			if a.Value != nil {
				words, ok := r.words([]*syntax.Word{quoted(a.Value)})
				if !ok { // the last value that is known stands
					continue
				}
				value = strings.Join(words, " ")
			}
			if a.Append {
				value = r.known[a.Name.Value] + value
			}
			if len(value) > mostValue {
				continue
			}
			r.known[a.Name.Value] = value
		}
		return
	}
	name, ok := r.words(c.Args[:1])
	if !ok || len(name) == 0 {
		return
	}
	if body := r.functions[name[0]]; body != nil && r.depth < 8 {
		args, ok := r.words(c.Args[1:])
		if !ok {
			return
		}
		before := map[string]string{}
		for i := range 9 {
			key := string(rune('1' + i))
			before[key] = r.known[key]
			delete(r.known, key)
			if i < len(args) {
				r.known[key] = args[i]
			}
		}
		r.depth++
		r.statements([]*syntax.Stmt{body})
		r.depth--
		for key, value := range before {
			r.known[key] = value
		}
		return
	}
	if path.Base(name[0]) != "update-alternatives" {
		return
	}
	if words, ok := r.words(c.Args[1:]); ok {
		if a, ok := alternativeOf(words); ok {
			r.found = append(r.found, a)
		}
	}
}

// quoted is a word as it is assigned: never split.
func quoted(w *syntax.Word) *syntax.Word {
	if len(w.Parts) == 1 {
		if _, already := w.Parts[0].(*syntax.DblQuoted); already {
			return w
		}
	}
	for _, part := range w.Parts {
		switch part.(type) {
		case *syntax.SglQuoted, *syntax.DblQuoted:
			return w
		}
	}
	return &syntax.Word{Parts: []syntax.WordPart{&syntax.DblQuoted{Parts: w.Parts}}}
}

// words expands words by what is known (POSIX, Shell Command Language, 2.6, without command
// substitution, arithmetic and paths); false when that does not suffice.
func (r *reading) words(list []*syntax.Word) ([]string, bool) {
	computed, names := false, 0
	for _, w := range list {
		syntax.Walk(w, func(n syntax.Node) bool {
			switch n := n.(type) {
			case *syntax.CmdSubst, *syntax.ProcSubst, *syntax.ArithmExp:
				computed = true
			case *syntax.ParamExp:
				names++
				computed = computed || n.Repl != nil || n.Slice != nil || n.Index != nil
			case *syntax.Lit: // braces may give any number of words
				computed = computed || strings.Contains(n.Value, "{")
			}
			return !computed
		})
	}
	if computed || names > mostNames {
		return nil, false
	}
	words, err := shell.Fields(expand.Config{Env: known(r.known), NoUnset: true}, list...)
	return words, err == nil
}

// known is what a script has assigned as an environment (expand.Environ).
type known map[string]string

func (k known) Get(name string) expand.Variable {
	value, ok := k[name]
	return expand.Variable{Set: ok, Kind: expand.String, Str: value}
}

func (k known) Each(do func(string, expand.Variable) bool) {
	for name := range k {
		if !do(name, k.Get(name)) {
			return
		}
	}
}

// Alternatives are the paths below a root of the names that an unpacked package installs as
// alternatives, sorted.
func Alternatives(pkg string) []string {
	script := filepath.Join(pkg, unpack.ControlFolder, "postinst")
	raw, err := os.ReadFile(script)
	if err != nil {
		return nil
	}
	return AlternativesOf(string(raw))
}

// AlternativesOf is Alternatives of a script that configures a package.
func AlternativesOf(script string) []string {
	var out []string
	for _, a := range parseAlternatives(script) {
		out = append(out, a.link)
		for _, s := range a.slaves {
			out = append(out, s[0])
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
