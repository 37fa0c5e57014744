package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/standin"
)

const paramsDeclaration = `format  = 1
project = "heronweir"

[variables]
BANNER = { when = "param.spring-run", then = "the spring run is on", else = "-" }
MODE   = "@{param.mode} @@{param.mode} @{param.note}"

[param.lanes]
kind = "integer"
default = 1
min = 1
max = 12
about = "Counting lanes to run"

[param.spring-run]
kind  = "flag"

[param.mode]
kind = "choice"
of   = ["dry", "wet"]

[param.species]
kind = "list"
of   = ["silverfin", "redgill", "weir eel"]
default = ["silverfin"]

[param.note]
default = "@{bay.dir} is text"

[step.count]
run = "echo $BANNER, @{param.species}, $MODE > counted"

[service.lane]
run    = "sh -c 'echo lane @{copy} up; exec sleep 1000'"
copies = "@{param.lanes}"
ready  = { log = "up" }
`

func TestParamsAreChosenOnceAndKeptPerBay(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, paramsDeclaration)
	h.fitted()
	if got := h.read("counted"); got != "-, silverfin, dry @{param.mode} @{bay.dir} is text\n" {
		t.Errorf("by default: %q", got)
	}
	lock := h.read("trammel.lock")
	out := h.ok("fit", "--param", "spring-run=true", "--param", "species=redgill, weir eel")
	if got := h.read("counted"); got != "the spring run is on, redgill,weir eel, dry @{param.mode} @{bay.dir} is text\n" || !strings.Contains(out, "count") {
		t.Errorf("chosen: %q\n%s", got, out)
	}
	if h.ok("lock"); h.read("trammel.lock") != lock {
		t.Error("a param changed the lock")
	}
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Errorf("a chosen param is forgotten:\n%s", out)
	}
	h.ok("start")
	h.ok("start", "--param", "lanes=3")
	if n := len(statuses(t, h)); n != 3 {
		t.Errorf("%d lanes run", n)
	}
	h.write("params.yaml", "lanes: 2\nmode: wet # a comment\nspecies: [silverfin]\nspring-run: false\n")
	h.ok("fit", "--params", "params.yaml", "--param", "mode=dry")
	if out := h.ok("show", "params"); !strings.Contains(out, "lanes       2") || !strings.Contains(out, "bay main") || !strings.Contains(out, "1 to 12") {
		t.Error(out)
	}
	if out := h.ok("--bay", "other", "show", "params"); !strings.Contains(out, "lanes       1") {
		t.Errorf("another bay has\n%s", out)
	}
	for choice, words := range map[string][]string{
		"lanes=13": {`"13" is no value of param lanes`, "1 to 12"}, "lanes=many": {"1 to 12"}, "spring-run=yes": {"true or false"}, "mode=damp": {"dry, wet"},
		"species=redgil": {"silverfin, redgill"}, "lane=2": {"Did you mean", "lanes"}, "lanes": {"NAME=VALUE"},
	} {
		h.fails(2, words, "fit", "--param", choice)
	}
	h.write("params.yaml", "lanes: [[1]]\n")
	h.fails(2, []string{"params.yaml"}, "fit", "--params", "params.yaml")
	h.change("max = 12", "max = 1")
	h.ok("lock")
	if out := h.ok("show", "params"); !strings.Contains(out, "lanes       1") {
		t.Errorf("a choice that is not allowed any more is kept:\n%s", out)
	}
	for old, faulty := range map[string]string{
		`when = "param.spring-run"`: `when = "param.spring"`, `"@{param.lanes}"`: `"@{param.lane}"`, "default = 1\n": "default = 13\n", `"@{param.mode} @@`: `"@{param.mod} @@`,
	} {
		good := h.read("trammel.toml")
		h.change(old, faulty)
		h.fails(2, []string{"trammel.toml:"}, "lock")
		h.write("trammel.toml", good)
	}
}

func TestStepsRunWhenTheyShould(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[step.build]
run    = "echo built >> log; mkdir -p out; touch out/board.js"
reads  = ["src/**", "!src/**/*.tmp"]
ignore = [".gitignore"]
makes  = ["out/*.js"]

[step.tables]
run = "echo tables >> log"
per = "bay"

[step.each]
run  = "echo each >> log"
when = "always"

[step.flaky]
run     = "echo try >> tries; [ $(wc -l < tries) -ge 3 ]"
retries = 3

[step.evident]
run      = "cp wanted have"
reads    = ["wanted"]
evidence = "cat have"
`)
	h.write("src/a.js", "1")
	h.write("wanted", "silverfin\nredgill\n")
	h.write(".gitignore", "# made\n/src/gen/\n*.log\n!keep.log\n")
	h.fitted()
	ran := func(what string, want bool, words string) {
		t.Helper()
		os.Remove(filepath.Join(h.dir, "log"))
		out := h.ok("fit")
		raw, _ := os.ReadFile(filepath.Join(h.dir, "log"))
		if got := strings.Contains(string(raw), words); got != want {
			t.Errorf("%s: the log is %q\n%s", what, raw, out)
		}
	}
	ran("nothing changed", false, "built")
	ran("at each fit", true, "each")
	for name, counts := range map[string]bool{
		"src/gen/x.js": false, "src/deep/y.log": false, "src/z.tmp": false, "src/deep/z.tmp": false, "src/b.js": true, "src/keep.log": true,
	} {
		h.write(name, "new")
		ran(name, counts, "built")
	}
	os.RemoveAll(filepath.Join(h.dir, "out"))
	h.fails(3, []string{"out/*.js is missing"}, "verify")
	ran("what it makes is gone", true, "built")
	os.Remove(filepath.Join(h.dir, "log"))
	h.ok("--bay", "other", "fit")
	if raw, _ := os.ReadFile(filepath.Join(h.dir, "log")); !strings.Contains(string(raw), "tables") || strings.Contains(string(raw), "built") {
		t.Errorf("in another bay ran %q", raw)
	}
	if got := h.read("tries"); strings.Count(got, "try") != 3 {
		t.Errorf("the flaky step had %d tries", strings.Count(got, "try"))
	}

	if lock := h.read("trammel.lock"); !strings.Contains(lock, `"silverfin", "redgill"`) {
		t.Errorf("the evidence is not in the lock:\n%s", lock)
	}
	h.ok("verify")
	h.write("have", "silverfin\nmill trout\n")
	h.fails(3, []string{"evidence", "- redgill", "+ mill trout", "trammel fit evident"}, "verify")
	h.ok("fit", "evident")
	h.ok("verify")
	h.write("wanted", "weir eel\n")
	h.ok("fit")
	h.fails(3, []string{"+ weir eel"}, "verify")
	h.ok("fit")
	if out := h.ok("lock"); !strings.Contains(out, "evidence of evident changed") {
		t.Errorf("locking says\n%s", out)
	}
	h.ok("verify")
}

func TestAStepThatTakesTooLongIsEnded(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[step.slow]\nrun = \"(setsid sleep "+seconds(5554)+" &); echo begun; sleep "+seconds(5554)+"\"\nwithin = \"300ms\"\nretries = 1\n\n[step.begets]\nrun = \"(setsid sleep "+seconds(5554)+" &); echo left\"\n\n[step.asks]\nrun = \"read x || echo no answer\"\n")
	h.ok("lock")
	h.fails(1, []string{"step slow failed: it took longer than 300ms, after 2 tries", "begun", "By hand:"}, "fit")
	eventually(t, "nothing is left", func() bool { return len(withArgument(seconds(5554))) == 0 })
	if out := h.ok("show"); !strings.Contains(out, "slow    due") || !strings.Contains(out, "asks    ok") {
		t.Error(out)
	}
}

func TestARoutineBringsUpWhatItNeeds(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[step.tables]
run = "echo made > tables"

[service.ledger]
needs = ["step.tables"]
run   = "sh -c 'echo serving; exec sleep 1000'"
ready = { log = "serving" }

[routine.count]
about = "Counts"
needs = ["service.ledger"]
run   = "cat tables; exit $1"
`)
	h.fitted()
	os.Remove(filepath.Join(h.dir, "tables"))
	o := h.try("do", "count", "4")
	if o.code != 4 || !strings.Contains(o.err, "left running: ledger") {
		t.Errorf("%+v", o)
	}
	if st := find(t, h, "ledger"); st.State != "ready" {
		t.Errorf("ledger is %s", st.State)
	}
	if o := h.try("do", "count", "0"); strings.Contains(o.err, "Started") {
		t.Errorf("it was started twice: %s", o.err)
	}
	h.change(`needs = ["service.ledger"]
run   = "cat`, `needs = ["service.ledgr"]
run   = "cat`)
	h.fails(2, []string{`no service is named "ledgr"`}, "lock")
}

func TestFilesAreRenderedAndNeverReplaceWhatIsTheProjects(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	number := freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf(`format  = 1
project = "heronweir"

[param.lanes]
kind = "integer"
default = 2

[param.spring-run]
kind = "flag"

[file."var/board.json"]
template = "templates/board.tmpl"

[step.publish]
run   = "cp var/board.json published"
needs = ["file.var/board.json"]

[service.board]
run   = "sh -c 'cat var/board.json; echo up; exec sleep 1000'"
needs = ["file.var/board.json"]
ports = { http = %d }
ready = { log = "up" }
`, number))
	h.write("templates/board.tmpl", `{"lanes": {{ .param.lanes }}, "spring": {{ index .param "spring-run" }}, "url": "{{ .service.board.url }}", "port": {{ .service.board.port.http }}, "bay": "{{ .bay.name }}"}`)
	h.fitted()
	if got := h.read("var/board.json"); got != fmt.Sprintf(`{"lanes": 2, "spring": false, "url": "http://127.0.0.1:%d", "port": %[1]d, "bay": "main"}`, number) || h.read("published") != got {
		t.Errorf("%q", got)
	}
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Error(out)
	}
	h.ok("start")
	out := h.ok("fit", "--param", "lanes=3")
	if got := h.read("published"); !strings.Contains(got, `"lanes": 3`) || !strings.Contains(out, "var/board.json") {
		t.Errorf("%q\n%s", got, out)
	}
	h.fails(3, []string{"board", "another configuration"}, "verify")
	h.ok("stop")
	// A port that had to move is in the file, too.
	squatter := strange(t, number)
	h.ok("start")
	moved := portOf(t, h, "board")
	if got := h.read("var/board.json"); moved == number || !strings.Contains(got, fmt.Sprintf(`"port": %d`, moved)) {
		t.Errorf("the port is %d, and the file says %s", moved, got)
	}
	h.ok("fit") // which does the step that reads it
	h.ok("verify")
	h.ok("stop")
	squatter.Close()
	os.WriteFile(filepath.Join(h.dir, "var/board.json"), []byte("mine"), 0o644)
	h.fails(3, []string{"var/board.json", "changed by hand"}, "verify")
	o := h.try("fit")
	if o.code != 0 || !strings.Contains(o.err, "that is kept as") || !strings.Contains(h.read("var/board.json"), `"lanes": 3`) {
		t.Errorf("%+v", o)
	}
	kept, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/files/var/board.json.edited-*"))
	if raw, err := os.ReadFile(append(kept, "")[0]); err != nil || string(raw) != "mine" {
		t.Errorf("%q %v", raw, err)
	}
	h.ok("--bay", "other", "fit")
	if got := h.read("var/board.json"); !strings.Contains(got, `"bay": "other"`) {
		t.Errorf("%q", got)
	}
	h.ok("fit")
	os.Remove(filepath.Join(h.dir, "var/board.json"))
	h.write("var/board.json", "tracked")
	h.fails(2, []string{"var/board.json is a file of the project", "trammel.toml:"}, "fit")
	if h.read("var/board.json") != "tracked" {
		t.Error("a file of the project was replaced")
	}
	os.Remove(filepath.Join(h.dir, "var/board.json"))
	for _, faulty := range []string{"{{ .param.lane }}", "{{ .service.ledger.url }}", "{{ if }}"} {
		h.write("templates/board.tmpl", faulty)
		h.fails(2, []string{"templates/board.tmpl:1"}, "fit")
	}
	os.Remove(filepath.Join(h.dir, "templates/board.tmpl"))
	h.fails(2, []string{"templates/board.tmpl", "is not there"}, "fit")
	h.change("var/board.json\"]\ntem", "../board.json\"]\ntem")
	h.fails(2, []string{"cannot be a file that is rendered"}, "lock")
}

func TestSecretsAreSeenByNobody(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[secret.WEIR_TOKEN]
from = "file:.secrets/token"

[secret.BOARD_KEY]
from = "env:HUT_KEY"

[secret.LANE_WORD]
from = "command:echo mill-trout-$(expr 40 + 2)"

[variables]
TOKEN = "@{secret.WEIR_TOKEN}"
ALL   = "@{secret.BOARD_KEY}/@{secret.LANE_WORD}"

[step.show]
run = "echo token $TOKEN; echo $ALL; printf heron-; sleep 0.2; echo secret; exit 3"

[service.lane]
run   = "sh -c 'echo lane has $TOKEN and $ALL; printf heron-sec; sleep 0.1; echo ret; exec sleep 1000'"
ready = { log = "lane has" }

[routine.tell]
run = "echo $TOKEN; echo $ALL"

[file."var/token"]
template = "token.tmpl"
`)
	h.env = append(h.env, "HUT_KEY=redgill-key")
	h.write("token.tmpl", "token={{ .secret.WEIR_TOKEN }}\n")
	h.ok("lock")
	h.fails(2, []string{"the secret WEIR_TOKEN cannot be had", ".secrets/token"}, "fit")
	h.write(".secrets/token", "heron-secret\n")
	o := h.fails(1, []string{"token (secret)", "(secret)/(secret)", "chmod 600 .secrets/token"}, "fit")
	_ = o
	h.change("; exit 3", "")
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	if got := h.ok("do", "tell"); got != "heron-secret\nredgill-key/mill-trout-42\n" {
		t.Errorf("the routine gets %q", got)
	}
	if got := h.read("var/token"); got != "token=heron-secret\n" {
		t.Errorf("the file has %q", got)
	}
	h.ok("verify")
	h.ok("run", "--", "true")
	eventually(t, "the lane has spoken", func() bool { return strings.Count(h.ok("logs", "lane"), "(secret)") >= 4 })
	for _, root := range []string{h.home, h.dir} {
		filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, ".secrets/token") || strings.HasSuffix(path, "files/var/token") || d.Type()&os.ModeSymlink != 0 {
				return err
			}
			raw, _ := os.ReadFile(path)
			for _, secret := range []string{"heron-secret", "redgill-key", "mill-trout-42"} {
				if strings.Contains(string(raw), secret) {
					t.Errorf("%s holds %s", path, secret)
				}
			}
			return nil
		})
	}
	if info, err := os.Stat(filepath.Join(h.dir, "var/token")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the rendered secret: %v %v", info, err)
	}
	for old, faulty := range map[string]string{
		`"echo token $TOKEN;`: `"echo @{secret.WEIR_TOKEN};`, `TOKEN = "@{secret.WEIR_TOKEN}"`: `TOKEN = "@{secret.WEIR_TOKE}"`, `"env:HUT_KEY"`: `"vault:x"`,
	} {
		good := h.read("trammel.toml")
		h.change(old, faulty)
		h.fails(2, []string{"trammel.toml:"}, "lock")
		h.write("trammel.toml", good)
	}
}

func TestDeclarationsIncludeOthers(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, registry(t), `format  = 1
project = "heronweir"
include = ["ops/base.toml", "ops/steps.toml"]

[variables]
OWN = "@{param.lanes} @{project.name}"
`)
	h.write("ops/base.toml", "format = 1\nisolation = \"open\"\nhost = [\"git\"]\ninclude = [\"../deep/params.toml\"]\n\n[toolchain]\nnode = \"22\"\n")
	h.write("ops/steps.toml", "format = 1\nisolation = \"clean\"\ninclude = [\"../deep/params.toml\"]\n\n[step.count]\nrun = \"echo $OWN > counted\"\n")
	h.write("deep/params.toml", "format = 1\n\n[param.lanes]\nkind = \"integer\"\ndefault = 4\n")
	h.fitted()
	if got := h.read("counted"); got != "4 heronweir\n" {
		t.Errorf("%q", got)
	}
	if out := h.ok("show"); !strings.Contains(out, "ops/base.toml") || !strings.Contains(out, "   open   ") {
		t.Error(out)
	}
	if lock := h.read("trammel.lock"); !strings.Contains(lock, `"deep/params.toml sha256:`) || !strings.Contains(lock, `"ops/steps.toml sha256:`) {
		t.Error(lock)
	}
	h.ok("run", "--", "true")
	h.write("deep/params.toml", "format = 1\n\n[param.lanes]\nkind = \"integer\"\ndefault = 5\n")
	h.fails(2, []string{"trammel lock"}, "run", "--", "true")
	h.ok("lock")
	h.ok("fit")
	if got := h.read("counted"); got != "5 heronweir\n" {
		t.Errorf("%q", got)
	}
	good := map[string]string{}
	for _, name := range []string{"trammel.toml", "ops/base.toml", "ops/steps.toml", "deep/params.toml"} {
		good[name] = h.read(name)
	}
	for name, x := range map[string]struct {
		file, add string
		words     []string
	}{
		"twice":         {"trammel.toml", "\n[toolchain]\nnode = \"24\"\n", []string{"trammel.toml:9", "the toolchain node is declared at ops/base.toml:7", "already"}},
		"a circle":      {"deep/params.toml", "", []string{"deep/params.toml:2", "include each other", "ops/base.toml → deep/params.toml → ops/base.toml"}},
		"a project":     {"ops/base.toml", "", []string{"names no project"}},
		"an unknown":    {"ops/steps.toml", "needs = [\"step.nothing\"]\n", []string{"ops/steps.toml:7", `no step is named "nothing"`}},
		"a typing slip": {"ops/steps.toml", "raeds = []\n", []string{"ops/steps.toml:7", "raeds"}},
		"not there":     {"trammel.toml", "", []string{"trammel.toml:3", "cannot be included"}},
	} {
		text := good[x.file] + x.add
		switch name {
		case "a circle":
			text = strings.Replace(text, "format = 1\n", "format = 1\ninclude = [\"../ops/base.toml\"]\n", 1)
		case "a project":
			text = strings.Replace(text, "format = 1\n", "format = 1\nproject = \"other\"\n", 1)
		case "not there":
			text = strings.Replace(text, "ops/steps.toml", "ops/gone.toml", 1)
		}
		h.write(x.file, text)
		h.fails(2, x.words, "lock")
		h.write(x.file, good[x.file])
	}
}

func TestAddonsOfAnEditorAreAddedComparedAndRemoved(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[addon.editor]
want   = ["weir.ladder@1.2", "weir.trout"]
list   = "./hut-editor --list"
add    = "./hut-editor --add @{item}"
remove = "./hut-editor --remove @{item}"
`)
	h.write("hut-editor", `#!/bin/sh
case $1 in
--list) cat extensions 2>/dev/null; true ;;
--add) case $2 in *@*) one=$2 ;; *) one=$2@3.1 ;; esac
  touch extensions; grep -v "^${one%@*}@" extensions > rest; { cat rest; echo "$one"; } > extensions ;;
--remove) grep -v -x "$2" extensions > rest; cp rest extensions ;;
esac
`)
	os.Chmod(filepath.Join(h.dir, "hut-editor"), 0o755)
	h.write("extensions", "other.theme@9\n")
	h.ok("lock")
	if out := h.ok("fit"); !strings.Contains(out, "editor weir.ladder@1.2, editor weir.trout") {
		t.Error(out)
	}
	if lock := h.read("trammel.lock"); !strings.Contains(lock, `["other.theme@9", "weir.ladder@1.2", "weir.trout@3.1"]`) {
		t.Errorf("the picture is not in the lock:\n%s", lock)
	}
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Error(out)
	}
	first := h.read("trammel.lock")
	h.write("extensions", "weir.ladder@1.3\nweir.trout@3.1\nstray@1\n")
	h.fails(3, []string{"- other.theme@9", "- weir.ladder@1.2", "+ stray@1", "+ weir.ladder@1.3", "trammel fit --exact"}, "verify")
	if out := h.ok("fit", "--exact"); !strings.Contains(out, "removed") || !strings.Contains(out, "stray@1") {
		t.Error(out)
	}
	h.ok("verify")
	declared := h.read("trammel.toml")
	h.change("ladder@1.2", "ladder@2.0")
	if out := h.ok("lock"); !strings.Contains(out, "add-on editor changed") {
		t.Error(out)
	}
	h.ok("fit")
	if got := h.read("extensions"); !strings.Contains(got, "weir.ladder@2.0") {
		t.Errorf("%q", got)
	}
	h.ok("verify")
	// The way back: the earlier declaration and lock, as version control has them.
	h.write("trammel.toml", declared)
	h.write("trammel.lock", first)
	h.fails(3, []string{"- weir.ladder@1.2", "+ weir.ladder@2.0"}, "verify")
	h.ok("fit")
	if got := h.read("extensions"); !strings.Contains(got, "weir.ladder@1.2") || strings.Contains(got, "@2.0") {
		t.Errorf("%q", got)
	}
	h.ok("verify")
	for old, faulty := range map[string]string{"add    =": "added =", "@{item}\"\nremove": "@{itm}\"\nremove", `want   = [`: `kind = "pipp"` + "\nwant = ["} {
		good := h.read("trammel.toml")
		h.change(old, faulty)
		h.fails(2, []string{"trammel.toml:"}, "lock")
		h.write("trammel.toml", good)
	}
	h.change("--add @{item}", "--nothing @{item}")
	os.Remove(filepath.Join(h.dir, "extensions"))
	h.ok("lock")
	h.fails(1, []string{"its list does not have that"}, "fit")
}

// wheel is a Python library of one module (PEP 427).
func wheel(name, version, source string) []byte {
	info := name + "-" + version + ".dist-info/"
	return standin.Zip(
		standin.File{Name: name + ".py", Content: source},
		standin.File{Name: info + "METADATA", Content: "Metadata-Version: 2.1\nName: " + name + "\nVersion: " + version + "\n"},
		standin.File{Name: info + "WHEEL", Content: "Wheel-Version: 1.0\nGenerator: weir\nRoot-Is-Purelib: true\nTag: py3-none-any\n"},
		standin.File{Name: info + "RECORD", Content: name + ".py,,\n" + info + "METADATA,,\n" + info + "WHEEL,,\n" + info + "RECORD,,\n"},
	)
}

func TestAPythonLibraryThatBreaksIsTakenBack(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	if err := exec.Command("python3", "-m", "pip", "--version").Run(); err != nil {
		t.Skip("this machine has no Python with pip")
	}
	s := standin.New()
	t.Cleanup(s.Close)
	page := ""
	for v, source := range map[string]string{"1.0": "def count(fish):\n    return len(fish)\n", "2.0": "def count_all(fish):\n    return len(fish)\n"} {
		file := "ladder-" + v + "-py3-none-any.whl"
		s.PutFile("wheels/"+file, wheel("ladder", v, source))
		page += "<a href=\"" + s.Files() + "wheels/" + file + "\">" + file + "</a>\n"
	}
	s.PutFile("simple/ladder/", []byte("<!DOCTYPE html><html><body>"+page+"</body></html>"))
	h := newHut(t, s, `format    = 1
project   = "heronweir-survey"
isolation = "open"

[variables]
PYTHONUSERBASE  = "@{project.dir}/.python"
PIP_INDEX_URL   = "`+s.Files()+`simple/"
PIP_CONFIG_FILE = "/dev/null"
PIP_TRUSTED_HOST = "127.0.0.1"

[addon.libraries]
kind = "pip"
want = ["ladder==1.0"]

[routine.survey]
run = "python3 survey.py"
`)
	h.write("survey.py", "import ladder\nprint(ladder.count(['silverfin', 'redgill']), 'passings')\n")
	h.fitted()
	if got := h.ok("do", "survey"); got != "2 passings\n" {
		t.Errorf("%q", got)
	}
	before, declared := h.read("trammel.lock"), h.read("trammel.toml")
	if !strings.Contains(before, `"ladder==1.0"`) {
		t.Error(before)
	}
	h.change("ladder==1.0", "ladder==2.0")
	h.fitted()
	if o := h.try("do", "survey"); o.code == 0 {
		t.Errorf("the upgrade broke nothing: %s", o.out)
	}
	h.ok("verify")
	h.write("trammel.toml", declared)
	h.write("trammel.lock", before)
	h.fails(3, []string{"- ladder==1.0", "+ ladder==2.0"}, "verify")
	h.ok("fit")
	if got := h.ok("do", "survey"); got != "2 passings\n" {
		t.Errorf("after the way back: %q", got)
	}
	h.ok("verify")
}

// fakeDatabase is a package with the commands that the card of postgresql uses: it
// keeps its settings in files, and serves by sleeping.
func fakeDatabase() standin.Deb {
	bin := "./usr/lib/postgresql/17/bin/"
	return standin.Deb{Name: "postgresql-17", Version: "17.2-1", Files: []standin.File{
		{Name: bin + "initdb", Mode: 0o755, Content: "#!/bin/sh\n[ -e fail-once ] && echo no room >&2 && rm fail-once && exit 1\nwhile [ $# -gt 0 ]; do case $1 in --pgdata) d=$2 ;; --username) u=$2 ;; --pwfile) p=$2 ;; esac; shift; done\necho $u > $d/user; cat $p > $d/password\n"},
		{Name: bin + "postgres", Mode: 0o755, Content: "#!/bin/sh\n[ \"$1\" = --version ] && echo postgres 17.2 && exit\n[ \"$1\" = --single ] && cat > $3/created && exit\necho serving \"$@\"; trap 'echo fast shutdown; exit 0' INT; while :; do sleep 0.05; done\n"},
		{Name: bin + "pg_isready", Mode: 0o755, Content: "#!/bin/sh\necho \"$@\" > asked\n"},
		{Name: bin + "pg_dump", Mode: 0o755, Content: "#!/bin/sh\n[ -e dump-fails ] && echo no such table >&2 && exit 3\necho dump with $PGPASSWORD; cat loaded 2>/dev/null; exit 0\n"},
		{Name: bin + "psql", Mode: 0o755, Content: "#!/bin/sh\n[ $# -gt 10 ] && cat > loaded || echo client \"$@\"\n"},
	}}
}

func TestACardRunsAServiceWithItsOwnDataAndPassword(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	weir.Put(fakeDatabase(), standin.Deb{Name: "postgresql-client-17", Version: "17.2-1", Arch: "all"})
	weir.Publish()
	h := sealedHut(t, s, weir, oldweir, "clean", `postgresql = { version = "17", from = "weir" }

[variables]
LEDGER_URL = "@{service.ledger.url}"

[service.ledger]
tool     = "postgresql"
settings = { database = "weir" }

[routine.url]
run = "echo $LEDGER_URL @{service.ledger.user}"
`)
	h.ok("lock")
	h.write("fail-once", "")
	h.ok("fit")
	h.fails(1, []string{"the data of service ledger cannot be made: exit code 1", "no room"}, "start")
	h.ok("start")
	st := find(t, h, "ledger")
	if st.State != "ready" || st.Ports["main"] == 0 {
		t.Errorf("%+v", st)
	}
	data, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/data/ledger"))
	if len(data) != 1 {
		t.Fatalf("%q", data)
	}
	read := func(name string) string {
		raw, _ := os.ReadFile(filepath.Join(data[0], name))
		return strings.TrimSpace(string(raw))
	}
	password := read("password")
	if read("user") != "heronweir" || len(password) != 24 || read("created") != `create database "weir"` {
		t.Errorf("made with user %q, password %q, %q", read("user"), password, read("created"))
	}
	// A dump goes out and in, compressed or not; a failure leaves no half of one.
	h.ok("data", "save", "ledger", "day.sql.gz")
	h.ok("data", "load", "ledger", "day.sql.gz")
	if got := h.read("loaded"); got != "dump with "+password+"\n" {
		t.Errorf("loaded %q", got)
	}
	if got := h.ok("data", "save", "ledger", "-"); got != "dump with "+password+"\ndump with "+password+"\n" {
		t.Errorf("saved %q", got)
	}
	before := h.read("day.sql.gz")
	h.write("dump-fails", "")
	h.fails(1, []string{"cannot be saved: exit code 3", "no such table"}, "data", "save", "ledger", "day.sql.gz")
	if left, _ := filepath.Glob(filepath.Join(h.dir, ".new-*")); len(left) > 0 || h.read("day.sql.gz") != before {
		t.Errorf("a failed dump left %v", left)
	}
	os.WriteFile(filepath.Join(h.dir, "cut.gz"), []byte(before[:len(before)-9]), 0o600)
	h.fails(2, []string{"cannot be read to its end", "Nothing was changed"}, "data", "load", "ledger", "cut.gz")
	h.fails(2, []string{`no service is named "leger"`, `"ledger"`}, "data", "save", "leger", "x")
	h.fails(2, []string{"the dump cannot be read"}, "data", "load", "ledger", "nowhere")
	if out := h.ok("do", "ledger-console", "-c", "select 1"); !strings.Contains(out, "client") || !strings.Contains(out, "weir -c select 1") {
		t.Errorf("the console is %q", out)
	}
	// How to get there is shown, but for the password itself.
	out := h.ok("show", "ledger")
	for _, want := range []string{"database      weir", "user          heronweir", "secrets/ledger-password", "psql -h 127.0.0.1 -p " + itoa(st.Ports["main"]) + " -U heronweir weir", "postgres://heronweir@127.0.0.1:", "trammel open ledger"} {
		if !strings.Contains(out, want) || strings.Contains(out, password) {
			t.Errorf("show does not say %q, or says the password:\n%s", want, out)
		}
	}
	if out := h.ok("open", "ledger", "--print"); out != "trammel do ledger-console\n" {
		t.Errorf("to open it: %q", out)
	}
	url := "postgres://heronweir:" + password + "@127.0.0.1:" + itoa(st.Ports["main"]) + "/weir heronweir\n"
	if got := h.ok("do", "url"); got != url {
		t.Errorf("%q, not %q", got, url)
	}
	if !strings.Contains(h.read("asked"), "-d weir") {
		t.Errorf("the probe asked %q", h.read("asked"))
	}
	if lock := h.read("trammel.lock"); strings.Contains(lock, password) || !strings.Contains(lock, `"setting.password" = "(random)"`) {
		t.Error("the lock has the password, or not the card's words")
	}
	h.ok("stop")
	if out := h.ok("logs", "ledger"); !strings.Contains(out, "fast shutdown") || strings.Contains(out, password) {
		t.Error(out)
	}
	h.ok("start") // the data stays; the number may be another's by now
	moved := strings.Replace(url, ":"+itoa(st.Ports["main"])+"/", ":"+itoa(find(t, h, "ledger").Ports["main"])+"/", 1)
	if got := h.ok("do", "url"); got != moved {
		t.Errorf("%q", got)
	}
	h.ok("--bay", "other", "start")
	if got := h.ok("--bay", "other", "do", "url"); got == url || strings.Contains(got, password) {
		t.Errorf("another bay has the same: %q", got)
	}
	h.ok("--bay", "other", "stop")
	for old, words := range map[string][]string{
		`{ database = "weir" }`: {"has no setting", `"databse"`, `Did you mean "database"`}, `tool     = "postgresql"`: {`no toolchain is named "postgresq1"`},
	} {
		good := h.read("trammel.toml")
		h.change(old, strings.NewReplacer("database", "databse", "postgresql", "postgresq1").Replace(old))
		if o := h.try("lock"); o.code == 0 {
			h.fails(2, words, "fit")
		} else {
			h.fails(2, words, "lock")
		}
		h.write("trammel.toml", good)
	}
}

func TestAStepThatPrintsAGigabyteFillsNoDisk(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[step.loud]\nrun = \"yes 'silverfin and mill trout, counted at the ladder' | head -c 1073741824; echo the end; exit 1\"\n")
	h.ok("lock")
	h.fails(1, []string{"the end", "step-loud.log"}, "fit")
	logs, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/logs/step-loud.log*"))
	size := int64(0)
	for _, path := range logs {
		if info, err := os.Stat(path); err == nil {
			size += info.Size()
		}
	}
	if size > 33<<20 || size < 20<<20 {
		t.Errorf("its logs %v have %d bytes", logs, size)
	}
}

func TestAnAddonSaysWhatItRestsOnAndWhatItsInstallerSaid(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[addon.editor]
want   = ["weir.ladder@1.2"]
list   = "cat extensions 2>/dev/null; true"
add    = "./hut-editor @{item}"
`)
	h.write("hut-editor", `#!/bin/sh
case $1 in *trout*) echo "the market is closed on Sundays"; echo "no trout for you" >&2; exit 0 ;; esac
mkdir -p left; echo "$1" >> extensions; echo "bytes of $1" > left/$1
`)
	os.Chmod(filepath.Join(h.dir, "hut-editor"), 0o755)
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("verify"); !strings.Contains(out, "1 by name and version") {
		t.Errorf("verify does not say what it rests on:\n%s", out)
	}
	for _, who := range []string{"hut-laptop", "lab-desk"} {
		h.ok("verify", "--report", "reports/"+who+".json", "--machine", who)
	}
	if out := h.ok("compare", "reports"); !strings.Contains(out, "2 machines hold the identical environment, but for add-ons, known by name and version only.") {
		t.Errorf("compare says\n%s", out)
	}
	// With files every byte counts.
	h.change(`list   =`, "files  = [\"left/**\"]\nlist   =")
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("approve", "--json"); !strings.Contains(out, "add-on editor leaves") {
		t.Error("what is read of an add-on is not on the list of effects")
	}
	if out := h.ok("verify"); !strings.Contains(out, "every byte that files names") {
		t.Error(out)
	}
	for _, who := range []string{"hut-laptop", "lab-desk"} {
		h.ok("verify", "--report", "reports/"+who+".json", "--machine", who)
	}
	if out := h.ok("compare", "reports"); !strings.Contains(out, "2 machines hold the identical environment.") {
		t.Errorf("compare says\n%s", out)
	}
	h.write("left/weir.ladder@1.2", "other bytes\n")
	h.fails(3, []string{"- (files) 1, sha256:", "+ (files) 1, sha256:"}, "verify")
	h.ok("fit")
	h.ok("verify")
	// What an installer printed is shown where its list has not what was added, and kept.
	h.change(`"weir.ladder@1.2"`, `"weir.ladder@1.2", "weir.trout"`)
	h.ok("lock")
	h.fails(1, []string{"its installer ended well", "the market is closed on Sundays", "no trout for you", "Log: "}, "fit")
}

func TestARangeThatAKindCanExpressIsMet(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind, have, want string
		met              bool
	}{
		{"pip", "tinywheel==1.1", "tinywheel>=1.0", true}, {"pip", "tinywheel==1.1", "TinyWheel ~=1.1", true}, {"pip", "tinywheel==0.9", "tinywheel>=1.0", false},
		{"npm", "vite@5.2.0", "vite@^5", true}, {"npm", "vite@4.0.0", "vite@^5", false}, {"r", "tally@1.1", "tally >= 1.0", true}, {"r", "tally@0.9", "tally (>= 1.0)", false},
		{"codium", "weir.ladder@1.2.0", "weir.ladder", true}, {"codium", "weir.ladder@1.2.0", "weir.ladder@1.3.0", false},
	} {
		if got := (declare.Addon{Kind: c.kind}).Satisfied(c.have, c.want); got != c.met {
			t.Errorf("%s: %s for %s: %v", c.kind, c.have, c.want, got)
		}
	}
}

const torture = `format  = 1
project = "heronweir"

[param.lanes]
kind = "integer"
default = 1

[file."var/board.json"]
template = "board.tmpl"

[addon.editor]
want = ["weir.ladder@1.2", "weir.trout@1"]
list = "cat extensions 2>/dev/null; true"
add  = "sleep 0.02; echo @{item} >> extensions"

[step.a]
run = "echo begun >> a; sleep 0.05; (setsid sleep 4441 &); echo done >> a"

[step.b]
needs = ["step.a", "file.var/board.json"]
run   = "cp var/board.json b.new; sleep 0.05; mv b.new b"
evidence = "cat b"
`

func TestAFitThatIsKilledAtAnyInstantIsCarriedOn(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for i := range 12 {
		h := newHut(t, nil, strings.ReplaceAll(torture, "4441", seconds(4441)))
		h.write("board.tmpl", `{"lanes": {{ .param.lanes }}}`)
		h.ok("lock")
		c := h.command("fit")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i) * 25 * time.Millisecond)
		c.Process.Kill()
		c.Wait()
		eventually(t, "nothing is left", func() bool { return len(withArgument(seconds(4441))) == 0 })
		h.ok("fit")
		if got := h.read("b"); got != `{"lanes": 1}` {
			t.Errorf("after %d: %q", i, got)
		}
		if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
			t.Errorf("after %d:\n%s", i, out)
		}
		h.ok("verify")
		if left, _ := filepath.Glob(filepath.Join(h.dir, "var/*.new-*")); len(left) > 0 {
			t.Errorf("left: %q", left)
		}
	}
}

func TestTwoFitsAtOnceDoNotClash(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, torture)
	h.write("board.tmpl", `{"lanes": {{ .param.lanes }}}`)
	h.ok("lock")
	h.ok("approve", "--yes")
	h.wary = true
	done := make(chan outcome)
	for range 3 {
		go func() { done <- h.try("fit") }()
	}
	for range 3 {
		if o := <-done; o.code != 0 {
			t.Errorf("%+v", o)
		}
	}
	if got := h.read("b"); got != `{"lanes": 1}` {
		t.Errorf("%q", got)
	}
	if got := h.read("a"); strings.Count(got, "begun") != 1 {
		t.Errorf("the step ran %d times at once:\n%s", strings.Count(got, "begun"), got)
	}
	h.ok("verify")
}

func TestAnEditorsExtensionsNeedNoCommandsOfTheirOwn(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[addon.editor]\nkind = \"codium\"\nwant = [\"weir.ladder@1.2.0\"]\n")
	bin := filepath.Join(filepath.Dir(h.dir), "bin")
	os.MkdirAll(bin, 0o755)
	os.WriteFile(filepath.Join(bin, "codium"), []byte(`#!/bin/sh
have=$(dirname "$0")/extensions
case $1 in
--list-extensions) echo a remark >&2; cat "$have" 2>/dev/null; true ;;
--install-extension) touch "$have"; grep -v "^${2%@*}@" "$have" > "$have.new"; echo "$2" >> "$have.new"; mv "$have.new" "$have" ;;
--uninstall-extension) grep -v "^$2@" "$have" > "$have.new"; mv "$have.new" "$have" ;;
esac
`), 0o755)
	h.env = append(h.env, "PATH="+bin+":"+os.Getenv("PATH"))
	os.WriteFile(filepath.Join(bin, "extensions"), []byte("weir.ladder@1.1.0\n"), 0o644)
	h.fitted()
	if raw, _ := os.ReadFile(filepath.Join(bin, "extensions")); string(raw) != "weir.ladder@1.2.0\n" {
		t.Errorf("%q", raw)
	}
	os.WriteFile(filepath.Join(bin, "extensions"), []byte("weir.ladder@1.2.0\nstray.theme@3\n"), 0o644)
	h.fails(3, []string{"+ stray.theme@3"}, "verify")
	h.ok("fit", "--exact")
	h.ok("verify")
}

func TestAStepRunsAtEachShellAndDueOnesAreNamed(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[step.greet]\nrun = \"echo again >> greeted\"\nwhen = \"shell\"\n\n[step.count]\nrun = \"true\"\nreads = [\"passings.csv\"]\n")
	h.write("passings.csv", "361,silverfin\n")
	h.fitted()
	if _, err := os.Stat(filepath.Join(h.dir, "greeted")); err == nil {
		t.Error("a fit ran what is for shells")
	}
	h.write("passings.csv", "362,redgill\n")
	for range 2 {
		w := h.session("shell", "--login", "/bin/bash")
		w.hears("Due: count (passings.csv changed). Run: trammel fit")
		w.say("exit")
		w.cmd.Wait()
	}
	if got := h.read("greeted"); strings.Count(got, "again") != 2 {
		t.Errorf("%q", got)
	}
}

func TestShowAndCompletionKnowWhatIsDeclared(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, paramsDeclaration+"\n[secret.KEY]\nfrom = \"env:HUT_KEY\"\n\n[file.\"var/board.json\"]\ntemplate = \"board.tmpl\"\n\n[addon.editor]\nkind = \"codium\"\nwant = [\"weir.ladder@1\"]\n")
	for name, words := range map[string]string{"lanes": "1 to 12", "KEY": "env:HUT_KEY", "var/board.json": "board.tmpl", "editor": "codium --list-extensions"} {
		if out := h.ok("show", name); !strings.Contains(out, words) || !strings.Contains(out, "trammel.toml:") {
			t.Errorf("show %s:\n%s", name, out)
		}
	}
	h.fails(2, []string{"lanes", "Did you mean"}, "show", "lane-s")
	if out := h.ok("fit", "--param", "--generate-shell-completion"); !strings.Contains(out, "mode=dry\nmode=wet\n") || !strings.Contains(out, "spring-run=true") || !strings.Contains(out, "lanes=") {
		t.Errorf("completion gives\n%s", out)
	}
}

func TestBashCompletesWithNothingInstalled(t *testing.T) {
	t.Parallel()
	bash, err := exec.LookPath("bash")
	if err != nil {
		lacks.Program(t, "bash")
	}
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\n\n[service.board]\nrun = \"true\"\n\n[service.ledger]\nrun = \"true\"\n")
	script := `PATH=` + filepath.Dir(program) + `:$PATH; source <(trammel completion bash)
f=$(complete -p trammel | sed 's/.*-F \([^ ]*\).*/\1/')
try() { COMP_WORDS=("$@"); COMP_CWORD=$(($#-1)); COMPREPLY=(); $f; echo "${COMPREPLY[@]}"; }
try trammel start ""; try trammel start bo; try trammel cle; try trammel start --par`
	c := exec.Command(bash, "--norc", "-c", script)
	c.Dir, c.Env = h.dir, h.env
	out, err := c.CombinedOutput()
	if want := "board ledger\nboard\nclear\n--param --params\n"; string(out) != want {
		t.Errorf("%q, %v", out, err)
	}
}
