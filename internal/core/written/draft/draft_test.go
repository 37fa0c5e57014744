package draft

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
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

func TestPartsInFoldersAreFound(t *testing.T) {
	f := Look(fstest.MapFS{
		"go.mod":                      {Data: []byte("module lane\n\ngo 1.24.2\n")},
		"web/package.json":            {Data: []byte(`{"engines":{"node":">=22"},"scripts":{"dev":"x","test":"y"}}`)},
		"web/package-lock.json":       {Data: []byte(`{}`)},
		"survey/.python-version":      {Data: []byte("3.12\n")},
		"survey/requirements.txt":     {Data: []byte("numpy\n")},
		"survey/plot.R":               {Data: []byte("plot(1)\n")},
		"node_modules/x/package.json": {Data: []byte(`{"engines":{"bun":"1"}}`)},
		".hidden/Cargo.toml":          {Data: []byte("[package]\n")},
	})
	var wants []string
	for _, w := range f.Wants {
		wants = append(wants, w.Tool+" "+w.Ask)
	}
	if got := strings.Join(wants, ", "); got != "go 1.24, python 3.12, r latest, node >=22" {
		t.Errorf("it wants %s", got)
	}
	text := f.Text("heronweir", Means{Can: func(string) bool { return true }, From: func(string) bool { return false }, Has: func(string, string) string { return "" }, Index: func(string) bool { return true }})
	for _, words := range []string{"[step.modules]", "[step.web-packages]", `run   = "cd web && npm ci"`, `reads = ["web/package.json", "web/package-lock.json"]`, "[service.web-dev]", "[routine.test]", "[routine.web-test]", `files = ["survey/requirements.txt"]`, "# survey/.python-version says 3.12"} {
		if !strings.Contains(text, words) {
			t.Errorf("it does not say %q:\n%s", words, text)
		}
	}
}

func TestEveryStarterIsADeclaration(t *testing.T) {
	names, abouts := Starters()
	for i, name := range names {
		files, ok := Starter(name, "heron-weir", "trixie")
		if !ok || abouts[i] == "" {
			t.Fatal(name)
		}
		has := map[string]bool{}
		for _, f := range files {
			has[f.Path] = true
			if strings.Contains(f.Path, ".starter") || strings.Contains(f.Path, "dot-") || strings.Contains(string(f.Content), "://registry.") {
				t.Errorf("%s has %s", name, f.Path)
			}
			if f.Path != "trammel.toml" {
				continue
			}
			d, err := Declared(files, "/weir")
			if err != nil || d.Project != "heron-weir" || len(d.Toolchains) == 0 || !slices.ContainsFunc(d.Routines, func(r declare.Routine) bool { return r.Name == "test" }) {
				t.Errorf("%s: %v\n%+v", name, err, d)
			}
		}
		if !has["trammel.toml"] || len(files) < 3 {
			t.Errorf("%s is no project: %v", name, has)
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

func TestAFolderOfStrangersHoldsNobodyUp(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"go.mod", "web/package.json", "web/requirements.txt", "plot.R"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mkfifo(path, 0o644); err != nil {
			t.Skip(err)
		}
	}
	if f := Look(os.DirFS(dir)); len(f.Steps)+len(f.Libraries) > 0 {
		t.Errorf("a pipe says %+v", f)
	}
	// What leads git elsewhere is not among a starter's files.
	files, err := Filled(fstest.MapFS{"trammel.toml": {Data: []byte("project = \"PROJECT\"\n")}, ".git": {Data: []byte("gitdir: sub\n")}, "deep/.GIT": {Data: []byte("gitdir: sub\n")}, "deep/.git/config": {Data: []byte("x")}, "deep/x": {Data: []byte("x")}}, "lane", "trixie")
	if err != nil || len(files) != 2 {
		t.Errorf("%v %v", files, err)
	}
}
