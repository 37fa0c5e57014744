package declare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestSetAndUnset(t *testing.T) {
	const head = "format = 1\nproject = \"w\"\n"
	cases := []struct{ name, before, tool, ask, from, after string }{
		{"a new ask", "[toolchain]\ngo   = \"1.23\"  # why\nnode = \"22\"\n", "go", "1.24", "", "[toolchain]\ngo   = \"1.24\"  # why\nnode = \"22\"\n"},
		{"single quotes", "[toolchain]\ngo = '1.23'\n", "go", "1.24", "", "[toolchain]\ngo = \"1.24\"\n"},
		{"a new line below the others", "[toolchain]\nnode   = \"22\" # x\n\n# steps\n[step.a]\nrun = \"a\"\n", "go", "1.24", "", "[toolchain]\nnode   = \"22\" # x\ngo     = \"1.24\"\n\n# steps\n[step.a]\nrun = \"a\"\n"},
		{"an empty table", "[toolchain]\n# none yet\n", "go", "1.24", "", "[toolchain]\ngo = \"1.24\"\n# none yet\n"},
		{"no table", "", "go", "1.24", "", "\n[toolchain]\ngo = \"1.24\"\n"},
		{"indented", "[toolchain]\n  node = \"22\"\n", "go", "1.24", "", "[toolchain]\n  node = \"22\"\n  go   = \"1.24\"\n"},
		{"an inline table", "[toolchain]\nnode = { version = \"22\", from = \"npm\" }\n", "node", "24", "", "[toolchain]\nnode = { version = \"24\", from = \"npm\" }\n"},
		{"another source", "[toolchain]\nnode = { from = \"npm\", version = \"22\" }\n", "node", "24", "npm", "[toolchain]\nnode = { from = \"npm\", version = \"24\" }\n"},
		{"a source where there was none", "[toolchain]\nnode = \"22\"\n", "node", "24", "npm", "[toolchain]\nnode = { version = \"24\", from = \"npm\" }\n"},
		{"a table of its own", "[toolchain.node]\n# pinned\nversion = \"22\"\n", "node", "24", "npm", "[toolchain.node]\n# pinned\nversion = \"24\"\nfrom = \"npm\"\n"},
		{"dotted keys", "toolchain.node = \"22\"\n", "node", "24", "", "toolchain.node = \"24\"\n"},
		{"no line feed at the end", "[toolchain]\nnode = \"22\"", "go", "1.24", "", "[toolchain]\nnode = \"22\"\ngo   = \"1.24\""},
		{"windows line ends", "[toolchain]\r\nnode = \"22\"\r\n", "node", "24", "", "[toolchain]\r\nnode = \"24\"\r\n"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, err := SetToolchain("trammel.toml", []byte(head+c.before), c.tool, c.ask, c.from, "")
			if err != nil || string(got) != head+c.after {
				t.Errorf("%v\n%s", err, got)
			}
			d, err := Parse("trammel.toml", got)
			if err != nil {
				t.Fatal(err)
			}
			if x, _ := byName(d.Toolchains, c.tool); x.Ask.String() != c.ask || x.From != c.from && c.from != "" {
				t.Errorf("it reads as %+v", x)
			}
		})
	}
	unset := []struct{ before, after string }{
		{"[toolchain]\ngo = \"1.24\" # why\nnode = \"22\"\n", "[toolchain]\nnode = \"22\"\n"},
		{"# a\n[toolchain.go]\n# pinned\nversion = \"1\"\n\n[step.a]\nrun = \"a\"\n", "# a\n# pinned\n\n[step.a]\nrun = \"a\"\n"},
	}
	for _, c := range unset {
		got, err := UnsetToolchain("trammel.toml", []byte(head+c.before), "go")
		if err != nil || string(got) != head+c.after {
			t.Errorf("%v\n%s", err, got)
		}
	}
	if _, err := UnsetToolchain("trammel.toml", []byte(head+"[toolchain]\nnode = \"22\"\n"), "nod"); err == nil || !strings.Contains(err.Error(), `Did you mean "node"?`) {
		t.Errorf("%v", err)
	}
	if _, err := SetToolchain("trammel.toml", []byte(head+"toolchain = { go = \"1\" }\n"), "node", "22", "", ""); err == nil || !strings.Contains(err.Error(), "by hand") {
		t.Errorf("%v", err)
	}
}

// Whatever a declaration looks like, setting one toolchain touches one line.
func TestSettingTouchesOneLine(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	names := []string{"go", "node", "sluice", "tallydb", "ladderweb"}
	for range 2000 {
		lines := []string{"format = 1", `project = "w"`}
		noise := func() {
			for range r.IntN(3) {
				lines = append(lines, []string{"", "# a [toolchain] comment = \"x\"", "   ", "#"}[r.IntN(4)])
			}
		}
		noise()
		have := names[:r.IntN(len(names))]
		if len(have) > 0 || r.IntN(2) == 0 {
			lines = append(lines, "[toolchain]"+[]string{"", " # tools"}[r.IntN(2)])
			for _, n := range have {
				noise()
				value := fmt.Sprintf("%q", "1."+fmt.Sprint(r.IntN(9)))
				if r.IntN(3) == 0 {
					value = "{ version = " + value + " }"
				}
				lines = append(lines, strings.Repeat(" ", r.IntN(3))+n+strings.Repeat(" ", r.IntN(6))+"= "+value+[]string{"", "   # = \"why\""}[r.IntN(2)])
			}
		}
		noise()
		lines = append(lines, "[step.a]", `run = "a"`)
		noise()
		before := strings.Join(lines, "\n") + "\n"
		name := names[r.IntN(len(names))]
		after, err := SetToolchain("trammel.toml", []byte(before), name, ">=2, <3", "", "")
		if err != nil {
			t.Fatalf("%v\n%s", err, before)
		}
		d, err := Parse("trammel.toml", after)
		if err != nil {
			t.Fatalf("%v\n%s", err, after)
		}
		if x, _ := byName(d.Toolchains, name); x.Ask.String() != ">=2, <3" {
			t.Fatalf("%s is %+v in\n%s", name, x, after)
		}
		old, now := strings.Split(before, "\n"), strings.Split(string(after), "\n")
		touched := 0
		for _, line := range now {
			if i := slices.Index(old, line); i >= 0 {
				old = slices.Delete(old, i, i+1)
			} else {
				touched++
			}
		}
		// One line changed, or one came; where there was no table, its header came too.
		if limit := 1; touched > limit+boolInt(!strings.Contains(before, "\n[toolchain]")) || len(old) > 1 {
			t.Fatalf("%d lines are new and %d gone:\n%s---\n%s", touched, len(old), before, after)
		}
		if slices.Contains(have, name) {
			removed, err := UnsetToolchain("trammel.toml", after, name)
			if err != nil || strings.Count(string(removed), "\n") != strings.Count(before, "\n")-1 {
				t.Fatalf("unset: %v\n%s", err, removed)
			}
		}
	}
}

func boolInt(b bool) int {
	if b {
		return 2 // the header, and a blank line before it
	}
	return 0
}
