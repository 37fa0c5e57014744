package draft

import (
	"strings"
	"testing"
	"testing/fstest"

	"trammel.example/trammel/internal/core/base/version"
	"trammel.example/trammel/internal/core/written/declare"
)

func folder(files map[string]string) fstest.MapFS {
	out := fstest.MapFS{}
	for name, content := range files {
		out[name] = &fstest.MapFile{Data: []byte(content)}
	}
	return out
}

func TestLookFindsWhatFilesAskFor(t *testing.T) {
	cases := []struct {
		name, file, content string
		tool, ask           string // "" when nothing is found
	}{
		{"go.mod", "go.mod", "module weir\n\ngo 1.24.3\n\ntoolchain go1.24.6\n", "go", "1.24"},
		{"engines", "package.json", `{"engines":{"node":">=22.5 <23"}}`, "node", ">=22.5, <23"},
		{"alternatives", "package.json", `{"engines":{"node":"^18.17.0 || ^20.3.0"}}`, "node", ">=20.3.0, <21"},
		{"a line", "package.json", `{"engines":{"node":"20.x"}}`, "node", "20"},
		{"spaces", "package.json", `{"engines":{"node":">= 18"}}`, "node", ">=18"},
		{"a tilde", "package.json", `{"engines":{"node":"~20.3.1"}}`, "node", ">=20.3.1, <20.4"},
		{"no engines", "package.json", `{"name":"weir"}`, "node", "latest"},
		{"a package manager", "package.json", `{"packageManager":"bun@1.1.20+sha.1"}`, "bun", "=1.1.20"},
		{"requires-python", "pyproject.toml", "[project]\nrequires-python = \">=3.9,<3.13\"\n", "python", ">=3.9, <3.13"},
		{"rust-version", "Cargo.toml", "[package]\nname = \"weir\"\nrust-version = \"1.75\"\n", "rust", ">=1.75"},
		{"a workspace", "Cargo.toml", "[workspace.package]\nrust-version = \"1.75\"\n", "rust", ">=1.75"},
		{"pom.xml", "pom.xml", "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>", "openjdk", "17"},
		{"an old pom.xml", "pom.xml", "<project><properties><maven.compiler.source>1.8</maven.compiler.source></properties></project>", "openjdk", "8"},
		{"Gemfile", "Gemfile", "source 'x'\nruby '3.2.2'\n", "ruby", "=3.2.2"},
		{"Gemfile with a range", "Gemfile", "ruby \"~> 3.2\"\n", "ruby", ">=3.2, <3.3"},
		{"DESCRIPTION", "DESCRIPTION", "Package: weir\nDepends: R (>= 4.1.0), stats\n", "r", ">=4.1.0"},
		{"no JSON", "package.json", "{", "", ""},
		{"no go line", "go.mod", "module weir\n", "", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := Look(folder(map[string]string{c.file: c.content}))
			if c.tool == "" {
				if len(f.Wants) != 0 {
					t.Errorf("%+v", f.Wants)
				}
				return
			}
			if len(f.Wants) == 0 || f.Wants[0].Tool != c.tool || f.Wants[0].Ask != c.ask {
				t.Fatalf("%+v", f.Wants)
			}
			if _, err := version.ParseAsk(f.Wants[0].Ask); err != nil {
				t.Error(err)
			}
		})
	}
}

func TestWhatIsWrittenIsADeclaration(t *testing.T) {
	f := Look(folder(map[string]string{
		"go.mod": "module weir\n\ngo 1.24\n", "package.json": `{"engines":{"node":"22"},"scripts":{"test":"x"}}`,
		"package-lock.json": "{}", "Gemfile": "ruby '3.2.2'\n",
	}))
	text := f.Text("heron-weir", func(tool string) bool { return tool != "ruby" })
	d, err := declare.Parse("trammel.toml", []byte(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if len(d.Toolchains) != 2 || len(d.Steps) != 2 || len(d.Routines) != 1 || !strings.Contains(text, "# ruby = \"=3.2.2\"") {
		t.Errorf("%s", text)
	}
	empty := Look(folder(nil)).Text("x", nil)
	if _, err := declare.Parse("trammel.toml", []byte(empty)); err != nil {
		t.Errorf("%v\n%s", err, empty)
	}
}

func TestEveryStarterIsADeclaration(t *testing.T) {
	names, abouts := Starters()
	for i, name := range names {
		text, ok := Starter(name, "heron-weir")
		if !ok || abouts[i] == "" {
			t.Fatal(name)
		}
		d, err := declare.Parse("trammel.toml", []byte(text))
		if err != nil || d.Project != "heron-weir" || len(d.Toolchains) == 0 || len(d.Services) == 0 {
			t.Errorf("%s: %v\n%+v", name, err, d)
		}
	}
}

func TestProjectNames(t *testing.T) {
	for dir, want := range map[string]string{
		"/x/Heron Weir": "heron-weir", "/x/2026-survey": "survey", "/x/...": "project", "/x/été": "t",
		"/x/" + strings.Repeat("ab-", 30): "ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-a",
	} {
		if got := ProjectName(dir); got != want {
			t.Errorf("%q: %q", dir, got)
		}
	}
}
