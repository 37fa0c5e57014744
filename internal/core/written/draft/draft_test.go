package draft

import (
	"strings"
	"testing"
	"testing/fstest"

	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/declare"
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
		{"composer.json", "composer.json", `{"require":{"php":"^8.2","x/y":"*"}}`, "php", ">=8.2, <9"},
		{"CMakeLists.txt", "CMakeLists.txt", "cmake_minimum_required(VERSION 3.20...3.28)\nproject(weir C)\n", "cmake", ">=3.20"},
		{"requirements.txt", "requirements.txt", "numpy\n", "python", "latest"},
		{"imports of DESCRIPTION", "DESCRIPTION", "Package: weir\nImports:\n    tally\n", "r", "latest"},
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
	no := func(string) bool { return false }
	text := f.Text("heron-weir", Means{Can: func(tool string) bool { return tool != "ruby" }, From: no})
	d, err := declare.Parse("trammel.toml", []byte(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if len(d.Toolchains) != 2 || len(d.Steps) != 2 || len(d.Routines) != 1 || !strings.Contains(text, "# ruby = \"=3.2.2\"") {
		t.Errorf("%s", text)
	}
	empty := Look(folder(nil)).Text("x", Means{})
	if _, err := declare.Parse("trammel.toml", []byte(empty)); err != nil {
		t.Errorf("%v\n%s", err, empty)
	}
}

func TestADraftDeclaresTheSourceThatItNeeds(t *testing.T) {
	f := Look(folder(map[string]string{
		"requirements.txt": "tally\n", "Gemfile": "ruby '3.2.2'\n", "DESCRIPTION": "Package: weir\nImports: tally\n",
		"package.json": `{"scripts":{"dev":"vite","build":"vite build","test":"vitest","prebuild":"x","lint:all":"y"}}`,
	}))
	yes := func(string) bool { return true }
	text := f.Text("weir", Means{
		Can: yes, From: func(tool string) bool { return tool != "node" }, Suite: "trixie", Index: func(kind string) bool { return kind == "python" },
		Has: func(tool, ask string) string { return map[string]string{"ruby": "trixie has 3.3.8"}[tool] },
	})
	d, err := declare.Parse("trammel.toml", []byte(strings.Replace(text, `files = ["requirements.txt"]`, `want = ["tally"]`, 1)))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for _, words := range []string{"[source.trixie]", `ruby   = "latest"   # Gemfile says ruby 3.2.2; trixie has 3.3.8`, "[libraries.packages]", "# [libraries.figures]", "[service.dev]", "[routine.build]", `host    = ["git"`} {
		if !strings.Contains(text, words) {
			t.Errorf("it does not say %q:\n%s", words, text)
		}
	}
	if len(d.Routines) != 2 || len(d.Services) != 1 {
		t.Errorf("%s", text)
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
		"/x/Heron Weir": "heron-weir", "/x/2026-survey": "survey", "/x/py313": "py313", "/x/lib2.0": "lib2-0", "/x/...": "project", "/x/été": "t",
		"/x/" + strings.Repeat("ab-", 30): "ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-ab-a",
	} {
		if got := ProjectName(dir); got != want {
			t.Errorf("%q: %q", dir, got)
		}
	}
}
