package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// The tests in this file use the registries that this machine's own settings name.
// They run when TRAMMEL_LIVE=1.

const liveDeclaration = `format  = 1
project = "heronweir"

[toolchain]
go   = "1.24"
node = "22"

[step.modules]
run   = "go mod download"
reads = ["go.mod", "go.sum"]

[service.lane]
run   = "go run ./cmd/lane"
needs = ["step.modules"]
ports = { http = 28800 }
ready = { http = "/health", within = "450s" }
variables = { LANE_LISTEN = "127.0.0.1:@{port.http}" }

[service.board]
run   = "node board/server.mjs"
needs = ["service.lane"]
ports = { http = 28810 }
ready = { http = "/" }
variables = { LANE = "@{service.lane.address}", BOARD_PORT = "@{port.http}" }
`

const liveLane = `package main

import (
	"fmt"
	"net/http"
	"os"
	"runtime"

	"golang.org/x/mod/semver"
)

func main() {
	http.HandleFunc("/health", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	http.HandleFunc("/count", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "7 silverfin, counted by %s (%v)", runtime.Version(), semver.IsValid("v1.0.0"))
	})
	panic(http.ListenAndServe(os.Getenv("LANE_LISTEN"), nil))
}
`

const liveBoard = `import http from "node:http";
http.createServer(async (_, res) => {
  const answer = await fetch("http://" + process.env.LANE + "/count");
  res.end("board on node " + process.version + ": " + await answer.text() + "\n");
}).listen(Number(process.env.BOARD_PORT), "127.0.0.1");
`

// liveHut is a machine with the real settings of this one and a project in Go and
// Node. The step's checksums come from the project's own first go mod tidy.
// liveRegistries skips where nobody asked for the registries of this machine.
func liveRegistries(t *testing.T) {
	t.Helper()
	if live := os.Getenv("TRAMMEL_LIVE"); live != "1" && live != "all" {
		t.Skip("set TRAMMEL_LIVE=1 to use the registries that this machine reaches")
	}
}

// ownMachine is the environment of these tests as a person's machine has it: where a build
// machine runs them, CI is set, and there a fit leaves what it learned out of the lock.
func ownMachine() []string {
	return slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "CI=") })
}

func liveHut(t *testing.T) *hut {
	t.Helper()
	liveRegistries(t)
	linuxOnly(t)
	h := newHut(t, nil, liveDeclaration)
	h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home)
	h.write("go.mod", "module heronweir.example/weir\n\ngo 1.24\n\nrequire golang.org/x/mod v0.20.0\n")
	h.write("cmd/lane/main.go", liveLane)
	h.write("board/server.mjs", liveBoard)
	return h
}

func TestLiveGoAndNodeServeEachOther(t *testing.T) {
	t.Parallel()
	h := liveHut(t)
	h.ok("lock")
	h.try("fit") // the step asks for a go.sum that is not there yet
	h.ok("run", "--", "go", "mod", "tidy")
	h.ok("fit")
	if out := h.ok("run", "--", "go", "version"); !strings.Contains(out, "go1.24.") {
		t.Errorf("go version: %s", out)
	}
	if out := h.ok("run", "--", "node", "--version"); !strings.HasPrefix(out, "v22.") {
		t.Errorf("node --version: %s", out)
	}
	if out := h.ok("run", "--", "npm", "--version"); strings.Count(out, ".") != 2 {
		t.Errorf("npm --version: %s", out)
	}
	h.ok("start")
	board := find(t, h, "board")
	if answer := get(t, fmt.Sprintf("http://127.0.0.1:%d/", board.Ports["http"])); !strings.Contains(answer, "node v22.") || !strings.Contains(answer, "counted by go1.24.") {
		t.Errorf("the board answers %q", answer)
	}
	pids := tree(statuses(t, h))
	h.ok("verify", "--deep")
	h.ok("stop")
	gone(t, pids)

	if os.Getenv("TRAMMEL_LIVE") != "all" {
		return // compiling all of it anew takes a minute
	}
	// The same project on another machine, as an ordinary user.
	other := liveHut(t)
	for _, file := range []string{"trammel.lock", "go.mod", "go.sum"} {
		other.write(file, h.read(file))
	}
	if os.Getuid() == 0 {
		other.env = append(other.env, settingsOf(t)...)
		asOrdinaryUser(t, other)
	}
	other.ok("fit")
	if a, b := environmentID(h), environmentID(other); a != b {
		t.Errorf("the ids are %s and %s", a, b)
	}
	other.ok("start")
	pids = tree(statuses(t, other))
	other.ok("verify", "--deep")
	other.ok("stop")
	gone(t, pids)
}

// settingsOf reads the settings of the user who runs the tests, for another user.
func settingsOf(t *testing.T) (env []string) {
	t.Helper()
	for name, ask := range map[string][]string{"npm_config_registry": {"npm", "config", "get", "registry"}, "GOPROXY": {"go", "env", "GOPROXY"}} {
		out, err := exec.Command(ask[0], ask[1:]...).Output()
		if err != nil {
			t.Fatal(err)
		}
		env = append(env, name+"="+string(bytes.TrimSpace(out)))
	}
	return env
}

func TestLiveShellsFollowFolders(t *testing.T) {
	home := liveHut(t)
	user := filepath.Dir(home.home)
	home.env = append(append(home.env, settingsOf(t)...), "HOME="+user, "TERM=xterm", "HISTFILE=")
	for _, shell := range []string{"bash", "zsh", "fish"} {
		path, err := exec.LookPath(shell)
		if err != nil {
			t.Logf("%s is not installed", shell)
			continue
		}
		w := walkerOn(t, shell, path, "", nil, home)
		quoted := "'" + strings.ReplaceAll(w.old.dir, "'", `'\''`) + "'"
		if shell == "fish" {
			quoted = "'" + strings.ReplaceAll(w.old.dir, "'", `\'`) + "'"
		}
		snapshot := "env | grep -v -e '^_=' -e '^OLDPWD=' -e '^PWD=' | sort > "
		first, last := filepath.Join(w.none, "first"), filepath.Join(w.none, "last")
		w.does(snapshot + first)
		w.does("cd " + w.weir.dir)
		w.matches("go version; node --version", "go1.24.", "v22.")
		w.does("cd " + quoted)
		w.matches("go version; node --version", "go1.22.", "v18.")
		w.does("cd " + w.weir.dir)
		w.matches("go version; node --version", "go1.24.", "v22.")
		w.does("cd " + w.none)
		w.does(snapshot + last)
		a, _ := os.ReadFile(first)
		b, err := os.ReadFile(last)
		if err != nil || !bytes.Equal(a, b) || len(a) == 0 {
			t.Errorf("%s: the environment is not what it was:\n%s\n---\n%s", shell, a, b)
		}
	}
}

func (w *walker) matches(command string, words ...string) {
	w.t.Helper()
	out := w.does(command)
	for _, word := range words {
		if !strings.Contains(out, word) {
			w.t.Errorf("%s: %s prints %q, without %q", w.shell, command, out, word)
		}
	}
}

func TestLiveToolsFromSourceAndWithTrees(t *testing.T) {
	long(t)
	t.Parallel()
	h := liveHut(t)
	h.write("trammel.toml", `format = 1
project = "heronweir"
[toolchain]
go       = "1.24"
node     = "22"
stringer = { version = "0.30", from = "gomod", package = "golang.org/x/tools/cmd/stringer" }
eslint   = { version = "9", from = "npm", package = "eslint" }
`)
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "eslint", "--version"); !strings.HasPrefix(out, "v9.") {
		t.Errorf("eslint: %s", out)
	}
	if o := h.try("run", "--", "stringer", "-help"); !strings.Contains(o.err, "Usage of stringer") {
		t.Errorf("stringer: %s%s", o.out, o.err)
	}
	h.ok("verify", "--deep")
	lock := h.read("trammel.lock")
	if !strings.Contains(lock, "golang.org/x/mod v") || strings.Count(lock, "node_modules/") < 50 {
		t.Errorf("the lock does not hold what went in:\n%s", lock)
	}
	// The tree of npm packages is found by the real node, from another folder.
	h.write("lane.js", "const unused = 1\n")
	h.write("eslint.config.mjs", "export default [{ rules: { 'no-unused-vars': 'error' } }]\n")
	if o := h.try("run", "--", "eslint", "lane.js"); o.code != 1 || !strings.Contains(o.out, "no-unused-vars") {
		t.Errorf("eslint finds nothing: %d\n%s%s", o.code, o.out, o.err)
	}
}

func TestLiveOtherBuiltinCards(t *testing.T) {
	h := liveHut(t)
	h.write("trammel.toml", `format = 1
project = "heronweir"
platforms = ["linux/amd64", "linux/arm64", "darwin/arm64"]
[toolchain]
bun     = "latest"
deno    = "latest"
esbuild = "latest"
`)
	h.ok("lock")
	if lock := h.read("trammel.lock"); strings.Count(lock, `on."darwin/arm64"`) < 3 {
		t.Errorf("the lock does not hold the other platforms:\n%s", lock)
	}
	h.ok("fit")
	if out := h.ok("verify", "--deep"); !strings.Contains(out, "All 7 hold.") {
		t.Error(out)
	}
}

// A Go of a time before it found its own files has them named: it compiles with its own library, whatever the host
// has, and verify asks each where it stands.
func TestLiveAnOldGoUsesItsOwnFiles(t *testing.T) {
	liveRegistries(t)
	h := liveHut(t)
	h.write("trammel.toml", "format = 1\nproject = \"heronweir\"\n[toolchain]\ngo = \"=1.5.4\"\n")
	if o := h.try("lock"); o.code != 0 {
		t.Skipf("the proxy has no Go 1.5.4: %s", o.err)
	}
	h.ok("fit")
	root := strings.TrimSpace(h.ok("run", "--", "go", "env", "GOROOT"))
	if !strings.HasPrefix(root, filepath.Join(h.home, "data/store")+"/") {
		t.Errorf("GOROOT is %s", root)
	}
	h.write("m/m.go", "package main\n\nimport (\n\t\"fmt\"\n\t\"runtime\"\n)\n\nfunc main() { fmt.Println(runtime.Version()) }\n")
	if out := h.ok("run", "--", "go", "run", "m/m.go"); strings.TrimSpace(out) != "go1.5.4" {
		t.Errorf("it says %q", out)
	}
	h.ok("verify")
	// One that leans on the host all the same is named.
	host, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Skip("this machine has no Go")
	}
	h.write("trammel.toml", h.read("trammel.toml")+"[variables]\nGOROOT = \""+strings.TrimSpace(string(host))+"\"\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.fails(3, []string{"versions", "which is not of this environment"}, "verify")
}
