package script

import (
	"bytes"
	"context"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/written/declare"
)

var env = []string{"PATH=/usr/bin:/bin", "LANE=2", "TWO=a b"}

func TestAPlainCommandNeedsNoInterpreter(t *testing.T) {
	cases := []struct {
		source string
		want   []string // nil: it needs the interpreter
	}{
		{"go run ./cmd/lane", []string{"go", "run", "./cmd/lane"}},
		{`lane "a b" 'c d' e\ f`, []string{"lane", "a b", "c d", "e f"}},
		{"lane --number $LANE", []string{"lane", "--number", "2"}},
		{`lane "$TWO" $TWO`, []string{"lane", "a b", "a", "b"}},
		{"lane ${LANE}", []string{"lane", "2"}}, {"exec lane $LANE", []string{"lane", "2"}}, {"exec", nil}, {"exec -a x lane", nil}, {"exec cd /", nil}, {"exec lane > f", nil},
		{"a && b", nil}, {"a; b", nil}, {"a | b", nil}, {"a > f", nil}, {"a &", nil}, {"! a", nil},
		{"X=1 a", nil}, {"a $(b)", nil}, {"a `b`", nil}, {"a *.go", nil}, {"a ~/x", nil}, {`a "$@"`, nil},
		{"a ${X:-y}", nil}, {"a $((1+1))", nil}, {"cd /tmp", nil}, {"exit 3", nil}, {"if a; then b; fi", nil}, {"a $1", nil},
	}
	for _, c := range cases {
		got, err := CommandOf(declare.Run{Script: c.source}, env)
		if err != nil {
			t.Fatal(err)
		}
		if interpreted := got.Path != ""; interpreted != (c.want == nil) {
			t.Errorf("%q is interpreted: %v", c.source, interpreted)
		} else if !interpreted && !slices.Equal(got.Argv, c.want) {
			t.Errorf("%q is %q", c.source, got.Argv)
		}
	}
	array, _ := CommandOf(declare.Run{Argv: []string{"a", "$X"}}, env, "more")
	if !slices.Equal(array.Argv, []string{"a", "$X", "more"}) {
		t.Errorf("an array is %q", array.Argv)
	}
	shell, _ := CommandOf(declare.Run{Script: "x", Shell: []string{"bash", "-c"}}, env, "1")
	if !slices.Equal(shell.Argv, []string{"bash", "-c", "x", "trammel", "1"}) {
		t.Errorf("a shell of its own is %q", shell.Argv)
	}
	if _, err := CommandOf(declare.Run{Script: "a;" + strings.Repeat("#", maxScript)}, env); err == nil {
		t.Error("a script that no system takes is accepted")
	}
}

func TestInterpret(t *testing.T) {
	cases := []struct {
		source, out string
		code        int
	}{
		{`for f in 1 2; do printf '%s\n' "lane-$f"; done`, "lane-1\nlane-2\n", 0},
		{"set -e; false; echo never", "", 1},
		{"no-such-command; echo $?", "127\n", 0},
		{"sh -c 'exit 9'", "", 9},
		{"exit 5", "", 5},
		{"sh -c 'kill -TERM $$'", "", 143},
		{`echo "$# $2"`, "2 b c\n", 0},
		{"unset LANE; sh -c 'echo [$LANE]'", "[]\n", 0},
		{"X=1; export Y=2; sh -c 'echo $X$Y'", "2\n", 0},
		{"pwd", "DIR\n", 0},
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		var out, errs bytes.Buffer
		code, err := Interpret(context.Background(), Call{Source: c.source, Args: []string{"a", "b c"}, Env: env, Dir: dir, Stdout: &out, Stderr: &errs})
		if got := strings.ReplaceAll(out.String(), dir, "DIR"); err != nil || code != c.code || got != c.out {
			t.Errorf("%q: %q, code %d, %v, %s", c.source, got, code, err, &errs)
		}
	}
	if code, err := Interpret(context.Background(), Call{Source: "if", Env: env, Dir: dir}); err == nil || code != 2 {
		t.Errorf("a script that does not parse: %d, %v", code, err)
	}
}

func TestByHand(t *testing.T) {
	for want, run := range map[string]declare.Run{
		"trammel run -- go mod download":                  {Script: "go mod download"},
		`trammel run -- sh -ec 'psql "$URL" -f db/s.sql'`: {Script: `psql "$URL" -f db/s.sql`},
		"trammel run -- sh -ec 'a && b'":                  {Script: "a && b"},
		"trammel run -- bash -c 'a | b'":                  {Script: "a | b", Shell: []string{"bash", "-c"}},
		"trammel run -- echo 'mill trout'":                {Argv: []string{"echo", "mill trout"}},
	} {
		if got := ByHand(run); got != want {
			t.Errorf("%s, not %s", got, want)
		}
	}
}

// The line that ended a script is named, where there is more than one and it did not end
// itself.
func TestTheFailingLineIsNamed(t *testing.T) {
	for source, want := range map[string]string{
		"true\nsh -c 'exit 3'\ntrue":             "line 2 failed: sh -c 'exit 3' (exit code 3)\n",
		"true\n\n  [ -d /nowhere ]":              "line 3 failed: [ -d /nowhere ] (exit code 1)\n",
		"f() {\n  false\n}\ntrue\nf\necho never": "line 2 failed: false (exit code 1)\n",
		"true\nexit 4\n":                         "",
		"false":                                  "",
		"true\nfalse || true\n":                  "",
	} {
		var errs bytes.Buffer
		if _, err := Interpret(context.Background(), Call{Source: Strictly(declare.Run{Script: source}).Script, Env: env, Dir: t.TempDir(), Stdout: io.Discard, Stderr: &errs}); err != nil || errs.String() != want {
			t.Errorf("%q: %q, %v", source, &errs, err)
		}
	}
}

func TestAStrictScriptEndsWithItsFirstFailure(t *testing.T) {
	for _, c := range []struct {
		source, out string
		code        int
	}{
		{"echo one\nfalse\necho never", "one\n", 1},
		{"echo one; cat /nowhere/x; echo never", "one\n", 1},
		{"if false; then :; fi\nfalse || echo two\n! true\nfalse | true\necho three", "two\nthree\n", 0},
		{"trap 'echo bye' EXIT\nfalse\necho never", "bye\n", 1},
		{"set +e\nfalse\necho on", "on\n", 0},
		{"f() { false; echo never; }\nf\necho never", "", 1},
		{"(false; echo never)\necho never", "", 1},
		{"for f in 1 2; do echo $f; false; done", "1\n", 1},
		{"# a remark\nexit 7", "", 7},
	} {
		var out bytes.Buffer
		code, err := Interpret(context.Background(), Call{Source: Strictly(declare.Run{Script: c.source}).Script, Env: env, Dir: t.TempDir(), Stdout: &out, Stderr: io.Discard})
		if err != nil || code != c.code || out.String() != c.out {
			t.Errorf("%q: %q, code %d, %v", c.source, &out, code, err)
		}
	}
	for _, run := range []declare.Run{{Argv: []string{"a"}}, {Script: "x; y", Shell: []string{"bash", "-c"}}, {Script: "go test ./..."}} {
		if got := Strictly(run); got.Script != run.Script {
			t.Errorf("%v became %v", run, got)
		}
	}
}
