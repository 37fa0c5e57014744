// Package core_test holds the rules of the house: which package may import which,
// and that the core neither prints nor knows of flags and terminals.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// groups are the core from the top of the walk down: a package imports only from its own
// group, what stands before it there, and the groups before. "." is the package that has
// the group's own name.
var groups = []struct{ name, packages string }{
	{"base", "release shell plain owned rests cached lazy event foreign fault host disk reading place canon mask authority changes version platform page debian python nodejs rlang solve sshsig fetch"},
	{"kernel", "unix peer within process listen network sandbox launch"},
	{"written", "ref declare card lock history draft"},
	{"stored", "tree unpack store merge system libraries frame depot"},
	{"origins", "source locator resolve"},
	{"checkout", "bay policy located . approval"},
	{"running", "environ logbook script render step service gateway supervise lend inside image cluster"},
	{"acting", "locking supply fit setup apart survey ship sweep publish account"},
	{"proven", "proof report export"},
}

// order is the same as a list of import paths below the core.
var order = func() (out []string) {
	for _, g := range groups {
		for p := range strings.FieldsSeq(g.packages) {
			out = append(out, path.Join(g.name, p))
		}
	}
	return out
}()

const (
	module = "app.example/trammel/"
	core   = module + "internal/core/"
)

// forbidden are imports that have no place in the core.
var forbidden = []string{
	module + "internal/cli", module + "internal/demo", module + "internal/standin",
	"github.com/urfave/cli", "golang.org/x/term", "charm.land/", "github.com/creack/pty",
}

func TestImportsGoOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		name, ok := strings.CutPrefix(fields[0], core)
		if !ok {
			continue
		}
		seen++
		own := slices.Index(order, name)
		if own < 0 {
			t.Errorf("package %s has no place in the order", name)
		}
		for _, imported := range fields[1:] {
			if other, ok := strings.CutPrefix(imported, core); ok && slices.Index(order, other) >= own {
				t.Errorf("%s imports %s, which comes after it", name, other)
			}
			for _, bad := range forbidden {
				if strings.HasPrefix(imported, bad) {
					t.Errorf("%s imports %s", name, imported)
				}
			}
		}
	}
	if seen != len(order) {
		t.Errorf("%d packages are there and %d have a place in the order", seen, len(order))
	}
}

func TestTheCoreOnlyReachesTheLightHalf(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for path := range strings.FieldsSeq(string(out)) {
		for _, bad := range forbidden {
			// The interpreter of scripts asks golang.org/x/term whether a file is one.
			if strings.HasPrefix(path, bad) && path != "golang.org/x/term" {
				t.Errorf("the core depends on %s", path)
			}
		}
	}
}

// The core writes to no terminal, except where a process of its own is the whole
// program: the interpreter of scripts, the init of a tree, the supervisor and what enters a root.
func TestTheCoreDoesNotPrint(t *testing.T) {
	own := map[string]bool{"running/script/script.go": true, "kernel/within/tree_linux.go": true, "kernel/within/run_linux.go": true, "running/supervise/supervisor.go": true, "kernel/sandbox/sandbox_linux.go": true, "running/inside/launcher_linux.go": true, "running/cluster/keeper.go": true}
	for _, file := range sources(t) {
		if own[file] {
			continue
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			s, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			x, ok := s.X.(*ast.Ident)
			if ok && (x.Name == "os" && (s.Sel.Name == "Stdout" || s.Sel.Name == "Stderr") ||
				x.Name == "fmt" && strings.HasPrefix(s.Sel.Name, "Print")) {
				t.Errorf("%s uses %s.%s", file, x.Name, s.Sel.Name)
			}
			return true
		})
	}
}

// What the process was given (environment, folder, its own file) is read once, by package
// host, and goes in as a value. Only where a process of its own is the whole program does
// the core ask: the interpreter, the launcher of a frame, the init of a tree, the supervisor, and what
// enters a root, of which each is such a process.
func TestTheCoreAsksTheProcessForNothing(t *testing.T) {
	own := map[string]bool{
		"base/host/host.go": true, "base/cached/cached.go": true, "base/rests/times_darwin.go": true, "running/script/script.go": true, "kernel/launch/launch_linux.go": true,
		"kernel/process/tree_linux.go": true, "kernel/sandbox/sandbox_linux.go": true, "kernel/within/mounts_linux.go": true, "kernel/within/view_linux.go": true, "kernel/within/tree_linux.go": true, "running/gateway/page.go": true, "running/inside/launcher_linux.go": true, "running/cluster/keeper.go": true,
	}
	asks := map[string]bool{
		"os.Getenv": true, "os.LookupEnv": true, "os.Environ": true, "os.ExpandEnv": true, "os.Getwd": true, "os.Chdir": true, "os.Setenv": true, "os.Executable": true,
		"os.UserHomeDir": true, "os.UserCacheDir": true, "os.UserConfigDir": true, "filepath.Abs": true,
	}
	for _, file := range sources(t) {
		if own[file] {
			continue
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && asks[x.Name+"."+s.Sel.Name] {
					t.Errorf("%s asks %s.%s", file, x.Name, s.Sel.Name)
				}
			}
			return true
		})
	}
}

// sources are the files of the core that are no tests.
func sources(t *testing.T) (out []string) {
	t.Helper()
	err := filepath.WalkDir(".", func(file string, e fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go") {
			out = append(out, filepath.ToSlash(file))
		}
		return err
	})
	if err != nil || len(out) == 0 {
		t.Fatal(err, len(out))
	}
	return out
}

func TestEveryPackageSaysWhatItPromises(t *testing.T) {
	for _, name := range order {
		files, _ := filepath.Glob(name + "/*.go")
		found := false
		for _, file := range files {
			parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments|parser.PackageClauseOnly)
			if err != nil {
				t.Fatal(err)
			}
			found = found || parsed.Doc != nil && strings.HasPrefix(parsed.Doc.Text(), "Package "+path.Base(name))
		}
		if !found {
			t.Errorf("package %s has no doc comment", name)
		}
	}
}
