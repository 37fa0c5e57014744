package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

var verbs = regexp.MustCompile(`%[-+# 0]*\d*(\.\d+)?[a-zA-Z]|@\{[^}]*\}`)

// spoken are the texts of the program, with what is filled in left out.
func spoken(t *testing.T) []string {
	t.Helper()
	var out []string
	err := filepath.WalkDir("../../internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || !strings.HasSuffix(path, ".go") || strings.Contains(path, "standin") || strings.Contains(path, "campaign") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				if text, err := strconv.Unquote(lit.Value); err == nil {
					out = append(out, verbs.ReplaceAllString(text, "…"))
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// says tells whether a text has the words in their order; "…" in them stands for anything.
func says(text, words string) bool {
	for part := range strings.SplitSeq(words, "…") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		i := strings.Index(text, part)
		if i < 0 {
			return false
		}
		text = text[i+len(part):]
	}
	return true
}

// People search the page by what is on their screen: every row begins with words that the
// program has.
func TestThePageOfTroublesHasTheWordsOfTheProgram(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../../docs/troubleshooting.md")
	if err != nil {
		t.Fatal(err)
	}
	texts := spoken(t)
	rows := 0
	quoted := regexp.MustCompile("`([^`]+)`")
	for line := range strings.Lines(string(raw)) {
		if !strings.HasPrefix(line, "| `") {
			continue
		}
		rows++
		cell, _, _ := strings.Cut(strings.TrimPrefix(line, "|"), "|")
		for _, m := range quoted.FindAllStringSubmatch(cell, -1) {
			found := false
			for _, text := range texts {
				if found = says(text, m[1]); found {
					break
				}
			}
			if !found {
				t.Errorf("nothing in the program says %q", m[1])
			}
		}
	}
	if rows < 20 {
		t.Errorf("%d rows", rows)
	}
}

// The walk through the code names what is there.
func TestThePageForNewcomersNamesWhatIsThere(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../../docs/hour.md")
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	err = filepath.WalkDir("../../internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, d := range file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Recv == nil {
					there[file.Name.Name+"."+d.Name.Name] = true
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					if ts, ok := s.(*ast.TypeSpec); ok {
						there[file.Name.Name+"."+ts.Name.Name] = true
					}
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	names := regexp.MustCompile("`([a-z]+\\.[A-Za-z]\\w+)`").FindAllStringSubmatch(string(raw), -1)
	for _, m := range names {
		if !there[m[1]] && !strings.HasSuffix(m[1], ".toml") && !strings.HasSuffix(m[1], ".lock") {
			t.Errorf("there is no %s", m[1])
		}
	}
	if len(names) < 40 {
		t.Errorf("only %d names", len(names))
	}
}
