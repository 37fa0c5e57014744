package main

import (
	"os"
	"path/filepath"
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

func TestOptionsOfOneLetter(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	if h.ok("-q", "show") != h.ok("--quiet", "show") || !strings.Contains(h.ok("-v", "show"), "heronweir") {
		t.Error("-q and -v")
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
