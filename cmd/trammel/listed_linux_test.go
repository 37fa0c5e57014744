package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"
	"app.example/trammel/internal/standin"
)

// What a project makes a command start, and whom it has it speak to, stands on the list that a person
// approved: every execve(2) of all that is started, and every connect(2) of Trammel itself.
func TestEveryProcessAndContactIsOnTheList(t *testing.T) {
	t.Parallel()
	strace, err := exec.LookPath("strace")
	if err != nil {
		lacks.Program(t, "strace")
	}
	whole := stranger(t, `isolation = "clean"
[secret.K]
from = "command:sh s/secret.sh"
[secret.F]
from = "file:s/key"
[variables]
KEY = "@{secret.K}@{secret.F}"
[step.load]
run = "sh s/load.sh"
needs = ["service.db"]
reads = ["in"]
evidence = "sh s/evidence.sh"
[step.each]
run = "sh s/each.sh"
when = "shell"
[addon.x]
want = ["one"]
list = "cat things 2>/dev/null || true"
add = "echo @{item} >> things"
[service.db]
tool = "keeper"
[service.web]
run = "sh s/web.sh"
ports = { http = 28810 }
ready = { command = "sh s/probe.sh", within = "20s" }
[routine.count]
run = "sh s/count.sh \"$@\""
needs = ["service.db"]
`+catalogOf("keeper"), tool{"keeper", "echo 1.0", `answer = { run = "keeper --version", match = '(\d+\.\d+)' }
[service]
once = "touch once"
run = "sleep 600"
console = "true"
[service.ready]
command = "true"
[service.data]
save = "echo saved"
load = "cat"
`})
	for name, text := range map[string]string{
		"s/secret.sh": "echo key\n", "s/key": "k", "s/load.sh": "true loaded; uname >/dev/null\n", "s/evidence.sh": "echo tables\n", "s/each.sh": "id -u >/dev/null\n", "s/web.sh": "exec sleep 600\n",
		"s/probe.sh": "true\n", "s/count.sh": "wc -c s/count.sh >/dev/null\n", "in": "1",
	} {
		whole.write(name, text)
	}
	projects := map[string]struct {
		h     *hut
		lines []string
	}{
		"all kinds": {whole, []string{"fit", "start", "do count", "data save db dump --force", "data load db dump", "shell", "run -- true", "lend web --yes --to 127.0.0.1 --for 1s", "verify", "stop"}},
	}
	s := fishTool(t)
	npm := newHut(t, s, "format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"22\"\nfishcount = { version = \"2\", from = \"npm\", package = \"fishcount\", scripts = [\"native\"] }\n")
	npm.wary = true
	projects["an npm tool with install scripts"] = struct {
		h     *hut
		lines []string
	}{npm, []string{"fit", "run -- true"}}
	b, golang := builder(t)
	built := newHut(t, b, toolOf(golang, "heronweir.example/tools/cmd/weirstamp"))
	built.sharesCompiled()
	built.wary = true
	projects["a Go tool that is built"] = struct {
		h     *hut
		lines []string
	}{built, []string{"fit", "run -- weirstamp"}}
	if debian, weir, oldweir := archives(t); debian != nil {
		sealed := sealedHut(t, debian, weir, oldweir, "sealed", newTally)
		sealed.wary = true
		projects["a root"] = struct {
			h     *hut
			lines []string
		}{sealed, []string{"fit", "run -- true"}}
	}
	shelf := standin.New()
	t.Cleanup(shelf.Close)
	for name, p := range projects {
		t.Run(name, func(t *testing.T) { p.h.onlyWhatIsListed(t, strace, p.lines) })
	}
}

// onlyWhatIsListed runs command lines under a tracer, all of which a person approved, and compares.
func (h *hut) onlyWhatIsListed(t *testing.T, strace string, lines []string) {
	h.ok("lock")
	h.ok("approve", "--yes")
	var out struct {
		Effects []struct{ Does, Name, Text string }
	}
	if err := json.Unmarshal([]byte(h.ok("approve", "--json")), &out); err != nil {
		t.Fatal(err)
	}
	// The words of what runs, in the list and in the files that it binds.
	listed := map[string]bool{}
	words := func(text string) {
		for w := range strings.FieldsFuncSeq(text, func(r rune) bool { return strings.ContainsRune(" \t\n;|&()<>\"'`=,:$\\{}", r) }) {
			listed[filepath.Base(w)] = true
		}
	}
	scripts, builds := false, false
	for _, e := range out.Effects {
		switch {
		case e.Does != "runs" && e.Does != "fetches":
			continue
		case strings.HasPrefix(e.Name, "file "):
			words(h.read(strings.TrimPrefix(e.Name, "file ")))
		}
		if e.Does == "runs" {
			words(e.Text)
		}
		words(e.Name)
		scripts = scripts || strings.HasPrefix(e.Name, "install scripts")
		builds = builds || strings.HasPrefix(e.Name, "build of ")
	}
	trace := filepath.Join(t.TempDir(), "trace")
	text := ""
	for _, line := range lines {
		words(line) // what a person types
		text += fmt.Sprintf("echo exit | %s --plain %s || echo FAILED %s\n", program, strings.ReplaceAll(line, "--force", ""), line)
	}
	c := h.command("help")
	c.Path, c.Args = strace, []string{"strace", "-f", "-y", "-s", "4096", "-e", "signal=none", "-e", "trace=execve,execveat,connect,clone,fork,vfork,clone3", "-o", trace, "sh", "-c", text}
	c.Env = append(slices.Clone(c.Env), "SHELL=/bin/sh")
	said, err := c.CombinedOutput()
	if err != nil || strings.Contains(string(said), "FAILED") {
		t.Fatalf("%v\n%s", err, said)
	}
	raw, err := os.ReadFile(trace)
	if err != nil {
		t.Fatal(err)
	}
	call := regexp.MustCompile(`^(\d+) +(execve|execveat)\((?:[^"]*)"([^"]*)", \[(.*)`)
	contact := regexp.MustCompile(`^(\d+) +connect\(.*sin6?_port=htons\((\d+)\).*`)
	local := regexp.MustCompile(`^(\d+) +connect\(.*sun_path=@?"([^"]*)"`)
	runs := map[string]string{} // process → file
	parent := regexp.MustCompile(`^(\d+) +(?:clone|clone3|fork|vfork)\(.*= (\d+)`)
	executed, contacts := 0, 0
	ours := func(file string) bool {
		return file == program || strings.HasPrefix(file, filepath.Join(h.home, "data/programs")+"/") || file == "/proc/self/exe" || strings.HasPrefix(file, "/proc/self/fd/")
	}
	// Where Trammel may call: what the list and the machine's settings name, and the services' own ports.
	ports := map[string]bool{}
	all := strings.Join(append(h.env, string(said)), " ")
	for _, e := range out.Effects {
		all += " " + e.Text
	}
	for _, m := range regexp.MustCompile(`(?:127\.0\.0\.1|localhost):(\d+)`).FindAllStringSubmatch(all, -1) {
		ports[m[1]] = true
	}
	records, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/*/ports.json"))
	for _, file := range records {
		var numbers map[string]int
		raw, _ := os.ReadFile(file)
		if json.Unmarshal(raw, &numbers) == nil {
			for _, n := range numbers {
				ports[strconv.Itoa(n)] = true
			}
		}
	}
	for _, line := range wholeCalls(string(raw)) {
		if m := parent.FindStringSubmatch(line); m != nil && runs[m[2]] == "" {
			runs[m[2]] = runs[m[1]]
		}
		if m := call.FindStringSubmatch(line); m != nil && strings.HasSuffix(line, " = 0") {
			file := m[3]
			from := runs[m[1]]
			runs[m[1]] = file
			if file == "/usr/bin/sh" && from == "" || ours(file) {
				continue // the test's own shell
			}
			executed++
			base := filepath.Base(file)
			switch {
			case listed[base], strings.HasPrefix(file, filepath.Join(h.home, "data/host")+"/") && listed[base]:
			case file == "/bin/sh" || strings.HasSuffix(file, "/bin/sh"): // that scripts on the list are read by, and the person's own shell
			case builds && (strings.Contains(file, "/go-") || strings.Contains(from, "/go-") || base == "go" || strings.Contains(file, "/pkg/tool/")):
			case scripts && strings.Contains(file, "/node"):
			case strings.HasPrefix(file, filepath.Join(h.home, "state/approvals")+"/"):
			default:
				t.Errorf("%s was started, by %s, and the list does not say so:\n%s", file, from, line)
			}
		}
		if m := contact.FindStringSubmatch(line); m != nil && ours(runs[m[1]]) {
			if contacts++; !ports[m[2]] && m[2] != "0" && m[2] != "53" {
				t.Errorf("a connection to port %s, which the list does not name:\n%s", m[2], line)
			}
		}
		if m := local.FindStringSubmatch(line); m != nil && ours(runs[m[1]]) {
			if path := m[2]; !strings.HasPrefix(path, "/proc/self/fd/") && !strings.HasPrefix(path, filepath.Dir(h.home)) && path != "" {
				t.Errorf("a connection to the socket %s:\n%s", path, line)
			}
		}
	}
	if executed+contacts < 1 {
		t.Errorf("nothing was started and nobody asked: this looks at nothing\n%s", said)
	}
	t.Logf("%d programs were started, %d connections made", executed, contacts)
}
