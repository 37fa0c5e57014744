package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/standin"
)

// builder is a registry with a real Go and a tool in two versions, which needs
// another module.
func builder(t *testing.T) (s *standin.Server, golang string) {
	t.Helper()
	command, err := exec.LookPath("go")
	if err != nil {
		lacks.Program(t, "go")
	}
	if command, err = filepath.EvalSymlinks(command); err != nil {
		t.Fatal(err)
	}
	golang = strings.TrimPrefix(runtime.Version(), "go")
	s = standin.New()
	t.Cleanup(s.Close)
	s.PutHostGo(golang, command)
	s.PutModule("heronweir.example/fish", "v1.0.0",
		standin.File{Name: "go.mod", Content: "module heronweir.example/fish\n\ngo 1.24\n"},
		standin.File{Name: "fish.go", Content: "package fish\n\nfunc Species() string { return \"silverfin\" }\n"})
	for _, v := range []string{"v0.1.0", "v0.2.0"} {
		s.PutModule("heronweir.example/tools", v,
			standin.File{Name: "go.mod", Content: "module heronweir.example/tools\n\ngo 1.24\n\nrequire heronweir.example/fish v1.0.0\n"},
			standin.File{Name: "cmd/weirstamp/main.go", Content: "package main\n\nimport \"heronweir.example/fish\"\n\nfunc main() { println(\"stamp " + v + "\", fish.Species()) }\n"},
			standin.File{Name: "cmd/broken/main.go", Content: "package main\n\nfunc main() { this does not parse }\n"})
	}
	return s, golang
}

func toolOf(golang, pkg string) string {
	return "format = 1\nproject = \"heronweir\"\n[toolchain]\ngo = \"=" + golang + "\"\n" +
		"weirstamp = { version = \"0.2\", from = \"gomod\", package = \"" + pkg + "\" }\n"
}

func TestAGoToolIsBuiltAndItsBuildIsLocked(t *testing.T) {
	t.Parallel()
	s, golang := builder(t)
	h := newHut(t, s, toolOf(golang, "heronweir.example/tools/cmd/weirstamp"))
	h.sharesCompiled()
	if out := h.ok("lock"); !strings.Contains(out, "+ weirstamp 0.2.0") {
		t.Errorf("lock:\n%s", out)
	}
	h.ok("fit")
	if o := h.try("run", "--", "weirstamp"); o.err != "stamp v0.2.0 silverfin\n" {
		t.Errorf("the tool says %q", o.err)
	}
	lock := h.read("trammel.lock")
	for _, want := range []string{`builder = "go ` + golang, `build = "heronweir.example/tools/cmd/weirstamp"`, `sums = ["heronweir.example/fish v1.0.0 h1:`, `tree = "blake3:`} {
		if !strings.Contains(lock, want) {
			t.Errorf("the lock lacks %s:\n%s", want, lock)
		}
	}
	h.ok("verify", "--deep")
	if out := h.ok("lock"); !strings.Contains(out, "nothing changed") || h.read("trammel.lock") != lock {
		t.Error("a second lock changes something")
	}

	// Elsewhere, in another folder and store, the same bytes come out.
	other := h.elsewhere(s)
	other.ok("fit") // all is compiled anew there
	other.ok("verify", "--deep")
	if environmentID(h) != environmentID(other) {
		t.Error("the ids differ")
	}

	// Another build than the locked one is refused.
	section := strings.Index(lock, "[item.weirstamp.on.")
	at := section + strings.Index(lock[section:], "blake3:") + len("blake3:")
	flipped := "0"
	if lock[at] == '0' {
		flipped = "1"
	}
	victim := h.elsewhere(s)
	victim.sharesCompiled()
	victim.write("trammel.lock", resealed(t, lock[:at]+flipped+lock[at+1:]))
	victim.fails(5, []string{"wrong bytes", "weirstamp"}, "fit")
}

// sharesCompiled lets a machine use what the go command of others here has compiled: the
// standard library takes a while.
func (h *hut) sharesCompiled() {
	h.t.Helper()
	shared, err := runtimeCompiled()
	if err := errors.Join(err, os.MkdirAll(filepath.Join(h.home, "cache/tools"), 0o755),
		os.Symlink(shared, filepath.Join(h.home, "cache/tools/go-build"))); err != nil {
		h.t.Fatal(err)
	}
}

// runtimeCompiled is a cache of the go command with what every program needs, made once.
var runtimeCompiled = sync.OnceValues(func() (string, error) {
	shared := filepath.Join(filepath.Dir(program), "go-build")
	c := exec.Command("go", "build", "runtime")
	c.Env = append(os.Environ(), "GOCACHE="+shared, "GOFLAGS=-trimpath -buildvcs=false", "CGO_ENABLED=0")
	out, err := c.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return shared, err
})

func TestGoToolsThatCannotBeHad(t *testing.T) {
	t.Parallel()
	s, golang := builder(t)
	cases := []struct {
		name, declaration string
		command           string
		code              int
		words             []string
	}{
		{"a build that fails", toolOf(golang, "heronweir.example/tools/cmd/broken"), "fit", 5, []string{"could not be built", "syntax error"}},
		{"no such module", toolOf(golang, "heronweir.example/nothing/cmd/x"), "lock", 5, []string{"no module on the proxy holds"}},
		{"not a path", toolOf(golang, "../x"), "lock", 2, []string{"is not the path of a Go package"}},
		{"no go to build it", strings.Replace(toolOf(golang, "heronweir.example/tools/cmd/weirstamp"), "go = ", "# go = ", 1), "lock", 2, []string{"no go toolchain is declared", "trammel set go=latest"}},
		{"no source", strings.Replace(toolOf(golang, "heronweir.example/tools/cmd/weirstamp"), `from = "gomod", `, "", 1), "lock", 2, []string{"a package needs from"}},
		{"a version that is not there", strings.Replace(toolOf(golang, "heronweir.example/tools/cmd/weirstamp"), `"0.2"`, `"9"`, 1), "lock", 2, []string{"no version of weirstamp satisfies", "0.2.0"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			h := newHut(t, s, c.declaration)
			h.sharesCompiled()
			if c.command == "fit" {
				h.ok("lock")
			}
			h.fails(c.code, c.words, c.command)
		})
	}
}

// A tool may be built by a Go that the project does not use, which nothing else sees.
func TestAGoToolMayHaveAGoOfItsOwn(t *testing.T) {
	t.Parallel()
	s, golang := builder(t)
	s.PutGo("1.15.2")
	s.PutGo("1.22.0")
	tool := func(project, more string) string {
		return "format = 1\nproject = \"heronweir\"\n[toolchain]\n" + project + "weirstamp = { version = \"0.2\", from = \"gomod\", package = \"heronweir.example/tools/cmd/weirstamp\"" + more + " }\n"
	}
	// What the module says it needs is looked at before anything is fetched.
	h := newHut(t, s, tool("go = \"=1.22.0\"\n", ""))
	h.sharesCompiled()
	h.fails(2, []string{"trammel.toml:5", "weirstamp 0.2.0 needs Go 1.24, as its module says, and the project's go is 1.22.0", `go = "1.24" in the table of weirstamp`}, "lock")
	h.write("trammel.toml", tool("go = \"=1.15.2\"\n", ""))
	h.fails(2, []string{"tools are built by Go 1.16 and newer"}, "lock")
	h.write("trammel.toml", tool("go = \"=1.22.0\"\n", ", go = \"=1.15.2\""))
	h.fails(2, []string{"its own go 1.15.2"}, "lock")
	h.write("trammel.toml", strings.Replace(tool("go = \"="+golang+"\"\n", ""), "cmd/weirstamp", "cmd/weirstam", 1))
	h.fails(2, []string{"trammel.toml:5", "has no package heronweir.example/tools/cmd/weirstam", `Did you mean "weirstamp"?`}, "lock")
	h.write("trammel.toml", tool("", ""))
	h.fails(2, []string{"no go toolchain is declared", `go = "latest" in the table of weirstamp`}, "lock")
	h.write("trammel.toml", "format = 1\nproject = \"heronweir\"\n[toolchain]\njq = { version = \"1\", go = \"1.24\" }\n")
	h.fails(2, []string{"a Go of its own is for a tool that is built"}, "lock")

	h.write("trammel.toml", tool("go = \"=1.22.0\"\n", ", go = \"="+golang+"\""))
	h.ok("lock")
	h.fitted()
	if o := h.try("run", "--", "weirstamp"); o.err != "stamp v0.2.0 silverfin\n" {
		t.Errorf("the tool says %q", o.err)
	}
	if out := h.ok("run", "--", "go", "version"); !strings.Contains(out, "1.22.0") {
		t.Errorf("the project's go is not the one that shows: %s", out)
	}
	h.ok("verify")
	lock := h.read("trammel.lock")
	if !strings.Contains(lock, `builder = "go `+golang) || !strings.Contains(lock, `for = "weirstamp"`) {
		t.Error(lock)
	}
	if h.ok("lock"); h.read("trammel.lock") != lock {
		t.Error("a second lock changes something")
	}
	// Without a go of the project there is none to see.
	h.write("trammel.toml", tool("", ", go = \"="+golang+"\""))
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.fails(127, []string{"go is not part of"}, "run", "--isolation", "clean", "--", "go", "version")
	h.ok("verify")
}
