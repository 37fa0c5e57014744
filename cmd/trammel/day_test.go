package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"app.example/trammel/internal/core/running/service"
)

// What a newcomer types first, where nothing is there yet and where something is.

func TestTrammelAloneSaysWhatToDoHere(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.wary = true
	empty := t.TempDir()
	if out := h.ok("-C", empty); !strings.Contains(out, "There is no project here") || strings.Index(out, "trammel draft") > strings.Index(out, "trammel demo") {
		t.Errorf("in an empty folder:\n%s", out)
	}
	h.fails(2, []string{"no trammel.toml", "trammel draft"}, "-C", empty, "show")
	h.ok("-C", empty, "find")
	if o := h.try("-C", empty, "sources", "--offline"); o.code == 2 {
		t.Errorf("sources outside of a project: %+v", o)
	}
	if out := h.ok(); !strings.Contains(out, "trammel lock") {
		t.Errorf("without a lock:\n%s", out)
	}
	h.ok("lock")
	if out := h.ok(); !strings.Contains(out, "Not on this machine yet") || !strings.Contains(out, "trammel approve") {
		t.Errorf("before consent:\n%s", out)
	}
	if out := h.ok("show"); !strings.Contains(out, "trammel approve") {
		t.Errorf("show before consent:\n%s", out)
	}
	h.ok("fit", "--approve")
	if out := h.ok(); !strings.Contains(out, "Nothing needs attention") || !strings.Contains(out, "trammel start") {
		t.Errorf("when all is well:\n%s", out)
	}
	help := h.ok("help")
	last := -1
	for _, word := range []string{"First", "draft", "start", "shell", "Declare and lock", "Services", "Prove", "Share", "Keep house"} {
		at := strings.Index(help, word)
		if at <= last {
			t.Errorf("help does not have %q in its place:\n%s", word, help)
		}
		last = at
	}
	if strings.Contains(help, "\nMore\n") {
		t.Errorf("a command has no group in help:\n%s", help)
	}
}

func TestStartFetchesUnlessToldNotTo(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.wary = true
	h.ok("lock")
	h.ok("approve", "--yes")
	for _, command := range []string{"start", "do"} {
		args := []string{command, "--no-fit", "ledger"}
		if command == "do" {
			args[2] = "count"
		}
		if o := h.fails(1, []string{"trammel fit"}, args...); strings.Contains(o.err, "fetch ") {
			t.Errorf("it fetched: %+v", o)
		}
	}
	h.ok("start", "ledger")
}

func TestOptionsOfOneLetter(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	ages := regexp.MustCompile(`\d+ \w+ ago`) // pass meanwhile
	short, long := ages.ReplaceAllString(h.ok("-q", "show"), "ago"), ages.ReplaceAllString(h.ok("--quiet", "show"), "ago")
	if short != long || !strings.Contains(h.ok("-v", "show"), "heronweir") {
		t.Errorf("-q and -v:\n%s\n%s", short, long)
	}
	h.ok("export", "dotenv", "-o", "weir.env")
	if !strings.Contains(h.read("weir.env"), "WEIR_UNITS") {
		t.Error("-o")
	}
	h.ok("start", "ledger")
	if a, b := h.ok("logs", "-n", "1", "ledger"), h.ok("logs", "--lines", "1", "ledger"); a != b || strings.Count(a, "\n") != 1 {
		t.Errorf("-n: %q, %q", a, b)
	}
	if out := h.ok("-C", h.dir, "--version"); !strings.Contains(out, "trammel version") {
		t.Errorf("--version: %s", out)
	}
}

// What the program advises can be typed where it says so.
func TestTrammelIsThereInside(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "trammel", "show"); !strings.Contains(out, "heronweir") {
		t.Errorf("%s", out)
	}
	out := h.ok("run", "--", "sh", "-c", "command -v trammel; command -v git")
	if !strings.Contains(out, "/trammel\n") {
		t.Errorf("%s", out)
	}
	if _, err := os.Stat("/usr/bin/git"); err == nil && !strings.Contains(out, "/git\n") {
		t.Errorf("git is not there: %s", out)
	}
}

func TestWhatIsMeantByACommandThatIsNotThere(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	for command, want := range map[string]string{"slucie": "It has sluice.", "sluice3": "It has sluice.", "cargo": "rust provides it"} {
		o := h.try("run", "--", command)
		if o.code != 127 || !strings.Contains(o.err, want) {
			t.Errorf("%s: %+v", command, o)
		}
	}
	h.wary = true
	h.change("[routine.test]", "[routine.more]\nrun = \"true\"\n\n[routine.test]")
	h.ok("lock")
	h.fails(4, []string{"trammel do --approve test"}, "do", "test", "--approve")
}

func TestWithinMayStandAlone(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nhost = [\"sleep\"]\n[service.lane]\nrun = \"sleep 600\"\nports = { http = "+itoa(freeNumber(t))+" }\nready = { within = \"1s\" }\n")
	h.ok("lock")
	h.fails(6, []string{"not ready within 1s", `within = "3s"`}, "start")
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), `{ within = "1s" }`, "{ }", 1))
	h.fails(2, []string{"ready has 0 probes"}, "lock")
}

// A service that works all the time has not had its time yet.
func TestAServiceThatCompilesIsNotCalledDead(t *testing.T) {
	t.Parallel()
	number := freeNumber(t)
	busy := filepath.Join(t.TempDir(), "busy.sh")
	script := "i=0; end=$(($(date +%s) + 5)); while [ $(date +%s) -lt $end ]; do i=$((i+1)); done\n"
	if err := os.WriteFile(busy, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[service.lane]\nrun = \"sh "+busy+" && touch made && sleep 600\"\nready = { file = \"@{project.dir}/made\", within = \"2s\" }\nports = { http = "+itoa(number)+" }\n")
	h.ok("lock")
	h.ok("start")
	if st := find(t, h, "lane"); st.State != service.Ready {
		t.Errorf("%+v", st)
	}
}

// byPath runs a command of .trammel/bin as an editor does: with an environment of its own, from
// anywhere.
func (h *hut) byPath(dir, name string, args ...string) outcome {
	h.t.Helper()
	c := exec.Command(filepath.Join(h.dir, ".trammel/bin", name), args...)
	c.Dir, c.Env = dir, []string{"PATH=/usr/bin:/bin", "HOME=" + filepath.Dir(h.home)}
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return outcome{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

func TestCommandsByPathHaveTheirVariablesAndSayWhenTheyAreStale(t *testing.T) {
	t.Parallel()
	for _, isolation := range []string{"clean", "open"} {
		t.Run(isolation, func(t *testing.T) {
			h := newHut(t, registry(t), "isolation = \""+isolation+"\"\n"+goAndNode)
			h.wary = true
			h.ok("lock")
			h.ok("fit", "--approve")
			elsewhere := t.TempDir()
			want := h.ok("run", "--", "go", "env", "GOTOOLCHAIN")
			if got := h.byPath(elsewhere, "go", "env", "GOTOOLCHAIN"); got.out != want || got.code != 0 || got.err != "" {
				t.Errorf("go by its path has %+v, and %q in run", got, want)
			}
			if got := h.byPath(elsewhere, "node", "--version"); got.out != "v22.12.0\n" {
				t.Errorf("node: %+v", got)
			}
			// The long way, where no plan is kept, comes to the same.
			plans, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*"))
			for _, p := range plans {
				os.Remove(p)
			}
			if got := h.byPath(h.dir, "go", "env", "GOTOOLCHAIN"); got.out != want {
				t.Errorf("without a plan: %+v", got)
			}
			// What is written behind -- is the command's own.
			if got := h.byPath(h.dir, "node", "--", "--version"); got.code == 2 && strings.Contains(got.err, "trammel") {
				t.Errorf("with --: %+v", got)
			}

			h.change("22", "18")
			if got := h.byPath(elsewhere, "node", "--version"); got.code != 2 || !strings.Contains(got.err, "trammel lock") || got.out != "" {
				t.Errorf("before lock: %+v", got)
			}
			h.ok("lock")
			if got := h.byPath(elsewhere, "node", "--version"); got.code != 4 || !strings.Contains(got.err, "trammel approve") || got.out != "" {
				t.Errorf("before consent: %+v", got)
			}
			h.ok("approve", "--yes")
			if got := h.byPath(elsewhere, "node", "--version"); got.code != 1 || !strings.Contains(got.err, "trammel fit") || strings.Contains(got.err, "fetch node") {
				t.Errorf("before fit: %+v", got)
			}
			for _, args := range [][]string{{"run", "--no-fit", "--", "node", "--version"}, {"shell", "--no-fit"}} {
				h.fails(1, []string{"trammel fit"}, args...)
			}
			h.ok("fit")
			if got := h.byPath(elsewhere, "node", "--version"); got.out != "v18.20.4\n" {
				t.Errorf("after fit: %+v", got)
			}
			// A command that went away says so, also where the folder is on the PATH itself.
			old := filepath.Join(h.dir, ".trammel/bin/gone")
			if err := os.Symlink("../command", old); err != nil {
				t.Fatal(err)
			}
			h.env = append(h.env, "PATH="+filepath.Dir(old)+":/usr/bin:/bin")
			h.fails(127, []string{"gone is not part of heronweir"}, "run", "--", "gone")
			h.ok("fit")
			if _, err := os.Lstat(old); err == nil {
				t.Error("fit left a command that is none")
			}
		})
	}
}

func TestWhoTypesAVersionIsNotAskedForIt(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.wary = true
	h.ok("lock")
	h.ok("fit", "--approve")
	if o := h.try("set", "node=18"); o.code != 0 || !strings.Contains(o.err, "your approval goes on") {
		t.Errorf("%+v", o)
	}
	h.ok("fit")
	h.ok("unset", "node")
	h.ok("fit")
	h.ok("set", "node=22")
	h.ok("fit")
	// What somebody else changed meanwhile is asked for.
	h.change("fish-per-hour", "fish-per-day")
	h.ok("set", "node=18")
	h.fails(4, []string{"variable WEIR_UNITS"}, "fit")
	h.ok("approve", "--yes")
	h.ok("fit")
	for name, by := range map[string]func(){
		"a variable":  func() { h.change("fish-per-day", "fish-per-minute") },
		"a step":      func() { h.write("trammel.toml", h.read("trammel.toml")+"\n[step.more]\nrun = \"true\"\n") },
		"another one": func() { h.change(`"1.24"`, `"1.22"`) },
	} {
		t.Run(name, func(t *testing.T) {
			before := h.read("trammel.toml")
			by()
			if o := h.try("set", "node=22"); strings.Contains(o.err, "goes on") {
				t.Errorf("%+v", o)
			}
			h.fails(4, nil, "fit")
			h.write("trammel.toml", before)
			h.ok("lock")
			h.ok("fit")
		})
	}
	// Who never approved is asked for all of it.
	h.ok("approve", "--revoke")
	if o := h.try("set", "node=22"); strings.Contains(o.err, "goes on") {
		t.Errorf("%+v", o)
	}
	h.fails(4, nil, "fit")
}

// How much comes is said before it comes; what is in the cache does not come again.
func TestWhatIsFetchedIsSaidBefore(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("lock")
	o := h.try("fit")
	to, fetch := strings.Index(o.err, "To fetch: "), strings.Index(o.err, "fetch node")
	if o.code != 0 || to < 0 || fetch < to || !strings.Contains(o.err, "node 22.12.0") || !strings.Contains(o.err, "That is ") {
		t.Errorf("%+v", o)
	}
	if o := h.try("fit"); strings.Contains(o.err, "To fetch") {
		t.Errorf("again: %+v", o)
	}
	data := filepath.Join(h.home, "data")
	writable(data)
	if err := os.RemoveAll(data); err != nil {
		t.Fatal(err)
	}
	if o := h.try("fit"); o.code != 0 || strings.Contains(o.err, "To fetch") {
		t.Errorf("from the cache: %+v", o)
	}
}

func TestADeclarationMaySayWhichTrammelItNeeds(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	good := h.read("trammel.toml")
	own, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(h.ok("--version")), "trammel version "), "-")
	if out := h.ok("version"); !strings.Contains(out, own) || !strings.Contains(out, "go1.") {
		t.Errorf("version says %s", out)
	}
	for ask, fits := range map[string]bool{">=0.1": true, "<99": true, "=" + own: true, ">=99": false, "<0.1": false, "0.0": false} {
		h.write("trammel.toml", "needs-trammel = \""+ask+"\"\n"+good)
		if fits {
			h.ok("lock")
			continue
		}
		// A newer file may say what this program has never heard of: that is not what it is told.
		h.write("trammel.toml", "needs-trammel = \""+ask+"\"\nsome-day = true\n"+good)
		o := h.fails(2, []string{"trammel.toml:1:17", "this project needs Trammel " + ask, own}, "show")
		if strings.Contains(o.err, "some-day") {
			t.Errorf("%s", o.err)
		}
	}
	h.write("trammel.toml", "needs-trammel = \"soon\"\n"+good)
	h.fails(2, []string{"says no version of Trammel"}, "lock")
}

func TestTheSchemaIsExported(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("export", "schema", "-o", "trammel.schema.json")
	var schema struct {
		Schema     string `json:"$schema"`
		Properties map[string]any
	}
	if err := json.Unmarshal([]byte(h.read("trammel.schema.json")), &schema); err != nil || !strings.Contains(schema.Schema, "2020-12") || schema.Properties["service"] == nil {
		t.Errorf("%+v, %v", schema, err)
	}
	if h.ok("export", "schema") != h.read("trammel.schema.json") {
		t.Error("standard output has something else")
	}
}
