package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// typed is the beginning of a command line in a message that a person may paste into a shell.
var typed = regexp.MustCompile("(?:^|[\\s(:,])(?:trammel (?:--bay|--dir|approve|bays|catalog|clear|compare|data|demo|do|draft|export|find|fit|follow|install|lend|lock|logs|newer|open|recall|remove|run|set|shell|show|start|stock|stop|sweep|unset|verify|watch)|rm|mv|cd|kill|git (?:checkout|rm|add|commit)|ssh|chmod|chown|rmdir|cp|mkdir|sh) ")

var (
	formatted = regexp.MustCompile(`%[-+# 0-9.*]*(?:\[\d+\])?[a-zA-Z%]`)
	lineEnds  = regexp.MustCompile(`\. |\.$|\n|; |· | \(|\), |, then|: |  |$`)
)

// Names of services, files, packages and bays come from others. In each command line that a message
// shows they are quoted by one function, so that nothing in them means anything to a shell.
func TestWhatPeopleMayTypeIsQuoted(t *testing.T) {
	found := 0
	quotes := func(e ast.Expr) bool {
		call, ok := e.(*ast.CallExpr)
		if !ok {
			return false
		}
		if own, ok := call.Fun.(*ast.Ident); ok {
			return own.Name == "quoted"
		}
		s, ok := call.Fun.(*ast.SelectorExpr)
		if !ok {
			return false
		}
		x, ok := s.X.(*ast.Ident)
		return ok && x.Name == "shell" && (s.Sel.Name == "Typed" || s.Sel.Name == "Words")
	}
	look := func(file string) {
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.CallExpr:
				for i, a := range x.Args {
					text, ok := literalText(a)
					if !ok {
						continue
					}
					for k, verb := range verbsOfCommands(text) {
						if i+1+k >= len(x.Args) || !verb {
							continue
						}
						if found++; !quotes(x.Args[i+1+k]) {
							t.Errorf("%s: %q shows a command with a part that is not quoted", set.Position(x.Args[i+1+k].Pos()), text)
						}
					}
				}
			case *ast.BinaryExpr:
				text, ok := literalText(x.X)
				if inner, isAdd := x.X.(*ast.BinaryExpr); isAdd && !ok {
					text, ok = literalText(inner.Y)
				}
				if x.Op != token.ADD || !ok || !inCommand(text, len(text)) {
					return true
				}
				if _, literal := literalText(x.Y); literal {
					return true
				}
				if found++; !quotes(x.Y) {
					t.Errorf("%s: %q begins a command, and what follows is not quoted", set.Position(x.Y.Pos()), text)
				}
			}
			return true
		})
	}
	for _, file := range sources(t) {
		look(file)
	}
	err := filepath.WalkDir("../cli", func(file string, e fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go") {
			look(file)
		}
		return err
	})
	if err != nil || found < 60 {
		t.Errorf("%d commands were found: this looks at nothing, %v", found, err)
	}
}

func literalText(e ast.Expr) (string, bool) {
	lit, ok := e.(*ast.BasicLit)
	if !ok || lit.Kind != token.STRING {
		return "", false
	}
	text, err := strconv.Unquote(lit.Value)
	return text, err == nil
}

// inCommand tells whether a place in a text is in a command line that began before it.
func inCommand(text string, at int) bool {
	for _, c := range typed.FindAllStringIndex(text, -1) {
		if c[1] <= at {
			if end := lineEnds.FindStringIndex(text[c[1]:]); c[1]+end[0] >= at {
				return true
			}
		}
	}
	return false
}

// verbsOfCommands tells of each verb of a format whether it is a word of a command.
func verbsOfCommands(text string) (out []bool) {
	for _, v := range formatted.FindAllStringIndex(text, -1) {
		if last := text[v[1]-1]; last != '%' {
			out = append(out, last != 'd' && inCommand(text, v[0]))
		}
	}
	return out
}
