package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// dated is a registry whose releases came out over the years.
func dated(t *testing.T) *standin.Server {
	t.Helper()
	s := standin.New()
	t.Cleanup(s.Close)
	for _, x := range []struct{ day, golang, node string }{
		{"2025-02-01", "1.24.0", "22.11.0"}, {"2025-08-01", "1.24.6", "22.12.0"},
		{"2026-02-01", "1.24.9", "22.14.0"}, {"2026-03-01", "1.26rc1", "24.0.0-rc.1"}, {"2026-04-01", "1.26.0", "24.1.0"},
	} {
		day, err := time.Parse(time.DateOnly, x.day)
		if err != nil {
			t.Fatal(err)
		}
		s.Day = day
		s.PutGo(x.golang)
		s.PutNode(x.node)
	}
	return s
}

func TestFind(t *testing.T) {
	t.Parallel()
	s := dated(t)
	h := newHut(t, s, goAndNode)
	if out := h.ok("find", "java"); !strings.Contains(out, "node ") || strings.Contains(out, "Go toolchain") {
		t.Errorf("searching for a word:\n%s", out)
	}
	h.ok("lock")
	h.ok("fit")
	out := h.ok("find", "go")
	if want := "go   from gomod\n1.26.0  2026-04-01\n1.24.9  2026-02-01  locked, fitted, newest allowed\n1.24.6  2025-08-01\n1.24.0  2025-02-01\n"; out != want {
		t.Errorf("find go:\n%s", out)
	}
	if out := h.ok("find", "--all", "go"); !strings.Contains(out, "1.26rc1") {
		t.Errorf("find --all:\n%s", out)
	}
	if out := h.ok("find", "--as-of", "2025-12-31", "node", "22"); strings.Contains(out, "22.14.0") || !strings.Contains(out, "22.12.0  2025-08-01") {
		t.Errorf("find --as-of:\n%s", out)
	}
	var sheet struct {
		Things []struct {
			Name, Kind string
			Facts      []struct{ Name, Value string }
		}
	}
	if err := json.Unmarshal([]byte(h.ok("show", "--json", "go")), &sheet); err != nil || len(sheet.Things) != 1 || sheet.Things[0].Kind != "toolchain" || sheet.Things[0].Facts[1].Value != "1.24.9" {
		t.Errorf("show --json go: %+v, %v", sheet, err)
	}
	var parsed struct {
		Tool     string
		Versions []struct {
			Version, Published string
			Marks              []string
		}
	}
	if err := json.Unmarshal([]byte(h.ok("find", "--json", "node", "22")), &parsed); err != nil || len(parsed.Versions) != 3 || parsed.Versions[0].Marks[0] != "locked" {
		t.Errorf("%+v, %v", parsed, err)
	}
	s.Close()
	if h.ok("find", "--offline", "go") != out {
		t.Error("offline find says something else")
	}
	h.fails(2, []string{`no tool and no package is known for "nod-e"`, `Did you mean "node"?`}, "find", "nod-e")
	h.fails(1, []string{"no version of go fits", "trammel find --all go"}, "find", "--offline", "go", "=9.9")

	// Outside of any project too.
	h.dir = t.TempDir()
	if out := h.ok("find"); !strings.Contains(out, "esbuild") {
		t.Errorf("without a project:\n%s", out)
	}
}

func TestSetAndUnsetEditInPlaceAndLock(t *testing.T) {
	t.Parallel()
	s := dated(t)
	const before = "# Heron Weir\nformat = 1\nproject = \"heronweir\"\n\n[toolchain]\ngo   = \"1.24\"   # the lanes\n\n# nothing below\n"
	h := newHut(t, s, before)
	if out := h.ok("set", "node=>=22, <23", "go==1.24.6"); !strings.Contains(out, "+ node 22.14.0") || !strings.Contains(out, "+ go 1.24.6") {
		t.Errorf("set:\n%s", out)
	}
	after := strings.Replace(before, "go   = \"1.24\"   # the lanes\n", "go   = \"=1.24.6\"   # the lanes\nnode = \">=22, <23\"\n", 1)
	if got := h.read("trammel.toml"); got != after {
		t.Errorf("the declaration is now\n%s", got)
	}
	// What does not exist is not written.
	lock := h.read("trammel.lock")
	h.fails(2, []string{`no version of go satisfies "1.99"`}, "set", "go=1.99")
	h.fails(2, []string{"no card is known", `Did you mean "node"?`}, "set", "nodee=22")
	h.fails(2, []string{"go: \"^1\" is not a version"}, "set", "go=^1")
	h.fails(2, []string{"is not TOOL=ASK"}, "set", "go")
	h.fails(2, []string{"no source is named"}, "set", "--from", "hut", "go=1.24")
	h.fails(2, []string{"no toolchain named", `Did you mean "node"?`}, "unset", "nod")
	if h.read("trammel.toml") != after || h.read("trammel.lock") != lock {
		t.Error("a refused change was written")
	}
	if out := h.ok("unset", "node", "go"); !strings.Contains(out, "- node 22.14.0") {
		t.Errorf("unset:\n%s", out)
	}
	if got := h.read("trammel.toml"); got != strings.Replace(before, "go   = \"1.24\"   # the lanes\n", "", 1) {
		t.Errorf("after unset:\n%s", got)
	}
	h.ok("set", "--no-lock", "go=1.26")
	h.fails(3, nil, "lock", "--check")
}

func TestLockAsOfADate(t *testing.T) {
	t.Parallel()
	s := dated(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	if out := h.ok("lock", "--as-of", "2025-09-01"); !strings.Contains(out, "go 1.24.9 → 1.24.6") || !strings.Contains(out, "node 22.14.0 → 22.12.0") {
		t.Errorf("lock --as-of:\n%s", out)
	}
	// What comes with a tool is of that time too: npm 11 is of 2026.
	if lock := h.read("trammel.lock"); !strings.Contains(lock, "npm-10.9.0.tgz") {
		t.Errorf("a later npm came along:\n%s", lock)
	}
	h.fails(2, []string{`no version of go satisfies "1.24"`, "was there on 2025-01-01", "1.24.0"}, "lock", "--as-of", "2025-01-01")
	h.fails(2, []string{"is not a date"}, "lock", "--as-of", "last month")

	// One old tool among new ones.
	h.write("trammel.toml", strings.Replace(goAndNode, `go   = "1.24"`, `go   = { version = "1.24", as-of = 2025-03-01 }`, 1))
	if out := h.ok("lock", "--renew"); !strings.Contains(out, "go 1.24.6 → 1.24.0") || !strings.Contains(out, "node 22.12.0 → 22.14.0") {
		t.Errorf("as-of on one toolchain:\n%s", out)
	}
	h.fails(2, []string{"as-of must be a date"}, "--dir", mutated(h, `2025-03-01`, `"soon"`), "lock")
}

// mutated is a copy of the project with a change in its declaration.
func mutated(h *hut, old, new string) string {
	other := newHut(h.t, nil, strings.Replace(h.read("trammel.toml"), old, new, 1))
	return other.dir
}

func TestNewerTellsWhatCouldBeRenewed(t *testing.T) {
	t.Parallel()
	s := dated(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock", "--as-of", "2025-09-01")
	var out struct {
		Tools []struct{ Tool, Locked, Allowed, Newest, State string }
	}
	if err := json.Unmarshal([]byte(h.ok("newer", "--json")), &out); err != nil || len(out.Tools) != 2 {
		t.Fatal(out, err)
	}
	if x := out.Tools[0]; x.Locked != "1.24.6" || x.Allowed != "1.24.9" || x.Newest != "1.26.0" || x.State != "newer" {
		t.Errorf("%+v", x)
	}
	if text := h.ok("newer"); !strings.Contains(text, "1.24.9 (2026-02-01)") || !strings.Contains(text, "days old") {
		t.Errorf("newer:\n%s", text)
	}
	h.ok("lock", "--renew")
	if text := h.ok("newer"); strings.Contains(text, "1.24.6") || !strings.Contains(text, "  ok") {
		t.Errorf("after renewing:\n%s", text)
	}
}

func TestACatalogOverHTTPWorksLikeAFolder(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	folder := demoHut(t)
	folder.ok("lock")
	s := standin.New()
	t.Cleanup(s.Close)
	serveFolder(t, s, folder.dir+"/../catalog", "catalog/")
	h := newHut(t, nil, strings.Replace(folder.read("trammel.toml"), `"../catalog"`, `"`+s.Files()+`catalog/"`, 1))
	h.write("data/passings.csv", folder.read("data/passings.csv"))
	h.write("trammel.lock", folder.read("trammel.lock"))
	if out := h.ok("lock"); !strings.Contains(out, "nothing changed") {
		t.Errorf("the same catalog elsewhere gives another lock:\n%s", out)
	}
	s.Fail("sluice-1.4.2", standin.Truncate)
	h.fails(5, []string{"cannot be read"}, "fit")
	s.Fail("sluice-1.4.2", "")
	h.ok("fit")
	h.ok("verify", "--deep")

	os.RemoveAll(filepath.Join(h.home, "cache/indexes")) // else the good page is still known
	s.Fail("cards/sluice.toml", standin.WrongBytes)
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), `"1.4"`, `"1.3"`, 1))
	h.fails(5, []string{"cards/sluice.toml has the wrong bytes", "catalog.toml states"}, "lock")
	s.Fail("cards/sluice.toml", "")
	h.ok("lock")
	s.Fail("catalog.toml", standin.NotFound)
	h.fails(5, []string{"404"}, "lock", "--renew")
}
