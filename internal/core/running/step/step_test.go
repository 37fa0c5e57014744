package step

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// tried is a project with three steps, of which two are a chain.
type tried struct {
	t     *testing.T
	d     *declare.Declaration
	parts []lock.PartOn
	env   environ.Environment
	marks string
}

func newCheckout(t *testing.T) *tried {
	t.Helper()
	c := &tried{t: t, marks: t.TempDir()}
	c.d = &declare.Declaration{Dir: t.TempDir(), Steps: []declare.Step{
		{Name: "modules", Run: declare.Run{Script: "go mod download"}, Reads: []string{"go.mod", "db/**"}},
		{Name: "schema", Run: declare.Run{Script: `psql "$LEDGER_URL"`}, Needs: []string{"step.modules"}},
		{Name: "free", Run: declare.Run{Argv: []string{"true"}}},
	}}
	c.parts = []lock.PartOn{{Item: "go", Name: "go", Part: lock.Part{Tree: "blake3:aa"}}}
	c.env = environ.Environment{Variables: []environ.Variable{
		{Name: "LEDGER_URL", Value: "a", From: "declaration"}, {Name: "LEDGER", Value: "b", From: "declaration"}, {Name: "GOPATH", Value: "/x", From: "card of go"},
	}}
	c.write("go.mod", "module weir")
	c.write("db/schema.sql", "create table passings ();")
	return c
}

func (c *tried) write(name, content string) {
	c.t.Helper()
	path := filepath.Join(c.d.Dir, name)
	os.MkdirAll(filepath.Dir(path), 0o755)
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		c.t.Fatal(err)
	}
}

// why gives, for each step, why it is due; "" when it is not.
func (c *tried) why() [3]string {
	c.t.Helper()
	list, err := Plan(nil, c.d, nil, c.parts, c.env, Marks{c.marks, c.marks}, nil)
	if err != nil {
		c.t.Fatal(err)
	}
	var out [3]string
	for i, s := range list {
		out[i] = s.Why
	}
	return out
}

// finish marks all steps as done.
func (c *tried) finish() {
	c.t.Helper()
	list, err := Plan(nil, c.d, nil, c.parts, c.env, Marks{c.marks, c.marks}, nil)
	if err != nil {
		c.t.Fatal(err)
	}
	for _, s := range list {
		if err := succeed(s, time.Second, nil); err != nil {
			c.t.Fatal(err)
		}
	}
}

func TestWhatMakesAStepDue(t *testing.T) {
	cases := []struct {
		name   string
		change func(c *tried)
		want   [3]string // modules, schema, free
	}{
		{"nothing", func(*tried) {}, [3]string{}},
		{"a file", func(c *tried) { c.write("go.mod", "module other") }, [3]string{"go.mod changed", "step modules changed", ""}},
		{"a file below a glob", func(c *tried) { c.write("db/more/x.sql", "") }, [3]string{"db/more/x.sql is new", "step modules changed", ""}},
		{"a file that goes", func(c *tried) { os.Remove(c.d.Dir + "/db/schema.sql") }, [3]string{"db/schema.sql is gone", "step modules changed", ""}},
		{"a file that no step reads", func(c *tried) { c.write("README.md", "x") }, [3]string{}},
		{"its script", func(c *tried) { c.d.Steps[1].Run.Script += " -q" }, [3]string{"", "script changed", ""}},
		{"a tool", func(c *tried) { c.parts[0].Tree = "blake3:bb" }, [3]string{"go changed", "go changed and 1 more", "go changed"}},
		{"a variable that it names", func(c *tried) { c.env.Variables[0].Value = "z" }, [3]string{"", "$LEDGER_URL changed", ""}},
		{"a variable whose name is the beginning of one", func(c *tried) { c.env.Variables[1].Value = "z" }, [3]string{}},
		{"what the step before needs", func(c *tried) { c.d.Steps[0].Run.Script = "go mod verify" }, [3]string{"script changed", "step modules changed", ""}},
		{"words about it", func(c *tried) { c.d.Steps[0].About = "new" }, [3]string{}},
		{"a mark that is gone", func(c *tried) { os.Remove(markFile(c.marks, "free")) }, [3]string{"", "", "never done here"}},
		{"a damaged mark", func(c *tried) { os.WriteFile(markFile(c.marks, "free"), []byte("{"), 0o644) }, [3]string{"", "", "never done here"}},
		{"a step that was begun", func(c *tried) { begin(c.marks, "schema") }, [3]string{"", "never done here", ""}},
		{"a folder of Trammel's own", func(c *tried) {
			c.d.Steps[2].Reads = []string{"**"}
			c.finish()
			c.write(".trammel/x", "")
			c.write(".git/x", "")
		}, [3]string{}},
	}
	for _, x := range cases {
		t.Run(x.name, func(t *testing.T) {
			c := newCheckout(t)
			if got := c.why(); got != [3]string{"never done here", "never done here", "never done here"} {
				t.Errorf("at first: %q", got)
			}
			c.finish()
			x.change(c)
			if got := c.why(); got != x.want {
				t.Errorf("%q, not %q", got, x.want)
			}
		})
	}
}

// A file whose stamp is the one that its sum was taken at is not read again, and one that
// changed is, whatever the record says.
func TestAFileThatDidNotChangeIsNotReadAgain(t *testing.T) {
	c := newCheckout(t)
	old := time.Now().Add(-time.Hour)
	for _, name := range []string{"go.mod", "db/schema.sql"} {
		if err := os.Chtimes(filepath.Join(c.d.Dir, name), old, old); err != nil {
			t.Fatal(err)
		}
	}
	marks := Marks{c.marks, c.marks}
	plan := func(after time.Duration) []Status {
		t.Helper()
		list, err := Plan(nil, c.d, nil, c.parts, c.env, marks, nil)
		if err != nil {
			t.Fatal(err)
		}
		list[0].files.since = time.Now().Add(after)
		if err := Keep(list); err != nil {
			t.Fatal(err)
		}
		return list
	}
	record := filepath.Join(c.marks, "sums")
	plan(0) // the files were written just now: their stamps do not tell yet
	if _, err := os.Stat(record); !os.IsNotExist(err) {
		t.Errorf("sums of young files were kept: %v", err)
	}
	plan(time.Hour)
	raw, err := os.ReadFile(record)
	if err != nil || strings.Count(string(raw), "\n") != 3 {
		t.Fatalf("%s %v", raw, err)
	}
	c.finish()
	// What the record says is believed only of a file that is as it was.
	lie := regexp.MustCompile(`[0-9a-f]{64}`).ReplaceAllString(string(raw), strings.Repeat("0", 64))
	if err := os.WriteFile(record, []byte(lie), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := c.why()[0]; got != "db/schema.sql changed and 1 more" {
		t.Errorf("the record was not asked: %q", got)
	}
	c.write("go.mod", "module weir")
	c.write("db/schema.sql", "create table passings ();")
	if got := c.why()[0]; got != "" {
		t.Errorf("files written anew were not read: %q", got)
	}
	for _, damage := range []string{"", "x", lie[:len(lie)/2], strings.ReplaceAll(lie, "\t", " ")} {
		if err := os.WriteFile(record, []byte(damage), 0o600); err != nil {
			t.Fatal(err)
		}
		if got := c.why()[0]; got != "" {
			t.Errorf("a damaged record was believed: %q", got)
		}
	}
}

// What a pattern names is the same however the folder is walked.
func TestGlobsNameWhatTheyAlwaysNamed(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"go.mod", "api/main.go", "api/lane/lane.go", "api/lane/day.csv", "web/out/x.js", "web/app.js", ".git/x", "api/.trammel/y", "web/node_modules/a/b.js"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("node_modules/\nout\n!out/keep\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for link, to := range map[string]string{"api/link": "lane", "outside": os.TempDir(), "web/gone": "nowhere"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	cases := []struct {
		globs, ignore []string
		want          string
	}{
		{[]string{"go.mod"}, nil, "go.mod"},
		{[]string{"api"}, nil, "api/lane/day.csv api/lane/lane.go api/link api/main.go"},
		{[]string{"api/**/*.go"}, nil, "api/lane/lane.go api/main.go"},
		{[]string{"a*/l*"}, nil, "api/lane/day.csv api/lane/lane.go api/link"},
		{[]string{"**/lane"}, nil, "api/lane/day.csv api/lane/lane.go"},
		{[]string{"api/**", "!api/lane/**"}, nil, "api/link api/main.go"},
		{[]string{"web/**"}, []string{".gitignore"}, "web/app.js web/gone"},
		{[]string{"api/{lane,none}/*.csv", "go.*"}, nil, "api/lane/day.csv go.mod"},
		{[]string{"none/**", "*.none"}, nil, "*.none none/**"},
		{[]string{"outside/**"}, nil, "outside/**"},
		{[]string{"../**"}, nil, "../**"},
		{[]string{".git/**", "api/.trammel"}, nil, ".git/** api/.trammel"},
		{[]string{"**/*"}, []string{".gitignore"}, ".gitignore api/lane/day.csv api/lane/lane.go api/link api/main.go go.mod outside web/app.js web/gone"},
	}
	for _, x := range cases {
		got, err := Reads(nil, dir, x.globs, x.ignore, Marks{})
		if names := strings.Join(slices.Sorted(maps.Keys(got)), " "); err != nil || names != x.want {
			t.Errorf("%q: %s, not %s (%v)", x.globs, names, x.want, err)
		}
	}
}
