package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/standin"
)

func TestLocatorsAreIncludedAtTheirPin(t *testing.T) {
	t.Parallel()
	s := registry(t)
	g := standin.NewGit()
	defer g.Close()
	base := func(lanes string) standin.File {
		return standin.File{Name: "ops/base.toml", Content: "format = 1\ninclude = [\"deep/more.toml\"]\n\n[toolchain]\nnode = \"22\"\n\n[param.lanes]\nkind = \"integer\"\ndefault = " + lanes + "\n"}
	}
	more := standin.File{Name: "ops/deep/more.toml", Content: "format = 1\n\n[variables]\nMORE = \"@{param.lanes}\"\n"}
	one := g.Commit("", base("4"), more)
	h := newHut(t, s, "format  = 1\nproject = \"heronweir\"\ninclude = [\""+g.URL+"#main:ops/base.toml\"]\n")
	h.fails(2, []string{"trammel.toml:3:12", "does not say yet which state", "trammel lock"}, "show")
	if out := h.ok("lock"); !strings.Contains(out, "+ include "+g.URL+"#main:ops/base.toml at "+one[:12]) {
		t.Error(out)
	}
	h.fitted()
	more5 := func(h *hut, want string) {
		t.Helper()
		if got := h.ok("run", "--", "sh", "-c", "echo $MORE"); got != want+"\n" {
			t.Errorf("%q", got)
		}
	}
	more5(h, "4")
	if out := h.ok("show"); !strings.Contains(out, "#main:ops/base.toml") {
		t.Error(out)
	}
	two := g.Commit("", base("5"))
	h.ok("lock") // does not move what is pinned
	more5(h, "4")
	other := h.elsewhere(s)
	other.fitted()
	more5(other, "4")
	if out := h.ok("lock", "--renew"); !strings.Contains(out, one[:12]+" → "+two[:12]) {
		t.Error(out)
	}
	h.ok("fit", "--approve")
	more5(h, "5")
	// The cache may go; the pin brings the same back. Offline it says what is missing.
	if err := os.RemoveAll(filepath.Join(h.home, "cache", "locators")); err != nil {
		t.Fatal(err)
	}
	h.wary = true // a consent that is given beforehand would fetch, too
	h.fails(5, []string{"is not on this machine yet", "with the network"}, "fit", "--offline")
	asked := g.Asked()
	h.ok("fit")
	more5(h, "5")
	if g.Asked() == asked {
		t.Error("it was not fetched anew")
	}
	g.Close()
	h.ok("fit")
	third := h.elsewhere(s)
	third.fails(5, []string{g.URL, "See that the address is right"}, "fit", "--approve")
	// What is wrong in it names it.
	h.write("trammel.toml", h.read("trammel.toml")+"\n[toolchain]\nnode = \"22\"\n")
	h.fails(2, []string{"is declared at " + g.URL + "#main:ops/base.toml:5"}, "lock")
}

func TestALocatorOpensAnEnvironmentOfItsOwn(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := registry(t)
	g := standin.NewGit()
	defer g.Close()
	h := newHut(t, s, `format  = 1
project = "heronweir"

[toolchain]
node = "22"

[step.table]
run = "echo passings > table"

[service.lane]
run   = "sh -c 'cat table; exec sleep 1000'"
needs = ["step.table"]
`)
	h.ok("lock")
	declaration, lock := h.read("trammel.toml"), h.read("trammel.lock")
	id := g.Commit("", standin.File{Name: "weir/trammel.toml", Content: declaration}, standin.File{Name: "weir/trammel.lock", Content: lock})
	away := t.TempDir()
	here := &hut{t: t, dir: away, home: h.home, env: h.env}
	at := g.URL + "#main:weir"
	here.fails(2, []string{"has no trammel.toml", "#main:FOLDER"}, "run", g.URL+"#main", "--", "true")
	here.fails(4, []string{id[:12], "nobody has approved", "trammel --bay "}, "run", at, "--", "node", "--version")
	if out := here.ok("run", "--approve", at, "--", "sh", "-c", "node --version; basename $PWD; cat table"); !strings.HasPrefix(out, "v22.") || !strings.HasSuffix(out, "passings\n") {
		t.Error(out)
	}
	out := here.ok("bays", "--all")
	if !strings.Contains(out, at) {
		t.Fatal(out)
	}
	name := ""
	for f := range strings.FieldsSeq(out) {
		if strings.Count(f, "-") == 1 && !strings.Contains(f, ":") {
			name = f
		}
	}
	g.Commit("", standin.File{Name: "weir/trammel.toml", Content: "nonsense"}) // what was opened stays
	here.ok("start", at)
	if out := here.ok("--bay", name, "logs"); !strings.Contains(out, "passings") {
		t.Error(out)
	}
	if out := here.ok("bays", "--all"); !strings.Contains(out, "lane") {
		t.Error(out)
	}
	here.fails(2, []string{"a locator says itself"}, "--dir", here.dir, "start", at)
	if out := here.ok("clear", "--yes", name); !strings.Contains(out, "stopped lane") || !strings.Contains(out, "checkout") {
		t.Error(out)
	}
	for _, left := range []string{"bays", "checkouts", "approvals"} {
		filepath.WalkDir(filepath.Join(h.home, "state", left), func(path string, d os.DirEntry, err error) error {
			if err == nil && (strings.Contains(path, name) || strings.HasPrefix(d.Name(), ".gone") || strings.HasPrefix(d.Name(), ".new")) {
				t.Errorf("%s is left", path)
			}
			return nil
		})
	}
	here.fails(2, []string{"no trammel.toml"}, "--bay", name, "show")

	// A folder is used where it is, an archive from a copy.
	if out := here.ok("run", "--approve", h.dir, "--", "node", "--version"); !strings.HasPrefix(out, "v22.") {
		t.Error(out)
	}
	archive := filepath.Join(away, "weir.tar.gz")
	if err := os.WriteFile(archive, standin.TarGz(standin.File{Name: "w/trammel.toml", Content: declaration}, standin.File{Name: "w/trammel.lock", Content: lock}), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := here.ok("run", "--approve", archive, "--", "cat", "table"); out != "passings\n" {
		t.Error(out)
	}
	here.fails(2, []string{"is no folder"}, "shell", "./nowhere")
}

func TestBaysAreListedAndClearedOneByOne(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"
isolation = "open"

[param.lanes]
kind = "integer"
default = 1

[file."var/lanes"]
template = "lanes.tmpl"

[service.lane]
run = "echo lane; mkdir -p @{bay.dir}/data; echo kept > @{bay.dir}/data/rows; exec sleep 1000"
ready = { log = "lane" }
`)
	h.write("lanes.tmpl", "lanes")
	h.ok("lock")
	if o := h.try("bays"); !strings.Contains(o.err, "There are no bays yet") {
		t.Error(o)
	}
	h.ok("start", "--approve")
	h.ok("--bay", "trial", "start", "--param", "lanes=4")
	if out := h.ok("bays"); !strings.Contains(out, "main") || !strings.Contains(out, "lanes=4") || strings.Count(out, "  lane") != 3 {
		t.Error(out)
	}
	h.fails(2, []string{"say which bay"}, "clear")
	h.fails(2, []string{`no bay "trail"`, `"trial"`}, "clear", "trail")
	out := h.ok("clear", "--yes", "trial")
	for _, word := range []string{"cleared bay trial", "stopped lane", "data", "logs"} {
		if !strings.Contains(out, word) {
			t.Errorf("%s is missing in %s", word, out)
		}
	}
	if out := h.ok("bays"); strings.Contains(out, "trial") || !strings.Contains(out, "main") {
		t.Error(out)
	}
	if out := h.ok("logs"); !strings.Contains(out, "lane") {
		t.Error("the other bay goes on", out)
	}
	h.ok("clear", "--yes", "--all")
	for _, path := range []string{"state/bays"} {
		if left, _ := filepath.Glob(filepath.Join(h.home, path, "*", "*")); len(left) > 0 {
			t.Errorf("%v is left", left)
		}
	}
	if _, err := os.Lstat(filepath.Join(h.dir, "var/lanes")); err == nil {
		t.Error("the link into the bay is left")
	}
}

// One address may have several bays, each with its params and ports; a choice that stays is said.
func TestAnAddressMayHaveSeveralBays(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	g := standin.NewGit()
	defer g.Close()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[param.lanes]\nkind = \"integer\"\ndefault = 3\n\n[service.lane]\nrun = '''\necho lanes $LANES\nexec sleep 300'''\nvariables = { LANES = \"@{param.lanes}\" }\n")
	h.ok("lock")
	g.Commit("", standin.File{Name: "trammel.toml", Content: h.read("trammel.toml")}, standin.File{Name: "trammel.lock", Content: h.read("trammel.lock")})
	hut := &hut{t: t, dir: t.TempDir(), home: h.home, env: h.env}
	address := g.URL + "#main"
	hut.ok("start", "--approve", "--param", "lanes=4", address)
	again := hut.try("start", "--approve", address)
	if again.code != 0 || !strings.Contains(again.out+again.err, "It has lanes = 4, as chosen for this bay") {
		t.Errorf("%+v", again)
	}
	hut.ok("--bay", "storm", "start", "--approve", "--param", "lanes=5", address)
	hut.ok("start", "--approve", "--new", address)
	var bays []string
	for line := range strings.Lines(hut.ok("bays", "--all")) {
		bays = append(bays, strings.Join(strings.Fields(line), " "))
	}
	text := strings.Join(bays, "\n")
	if !strings.Contains(text, "storm") || strings.Count(text, "heronweir") < 3 {
		t.Errorf("the bays:\n%s", text)
	}
	if out := hut.ok("--bay", "storm", "logs", "lane"); !strings.Contains(out, "lanes 5") {
		t.Errorf("of storm: %s", out)
	}
	hut.ok("--bay", "storm", "start", "--approve", address) // the same again
	hut.fails(2, []string{"there is a bay storm already", "trammel clear storm"}, "--bay", "storm", "start", "--new", address)
	hut.fails(2, []string{"main is the bay of a checkout of your own"}, "--bay", "main", "start", address)
	for f := range strings.FieldsSeq(text) {
		if strings.Count(f, "-") == 1 && !strings.ContainsAny(f, ":/") || f == "storm" {
			hut.ok("--bay", f, "clear", "--yes", f)
		}
	}
	if left := hut.try("bays", "--all"); strings.Contains(left.out, "storm") {
		t.Errorf("left: %s", left.out)
	}
}
