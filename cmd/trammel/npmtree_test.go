package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// fishTool publishes a tool with a tree: two packages need two versions of a
// third, one is for another system, one has an install script.
func fishTool(t *testing.T) *standin.Server {
	t.Helper()
	s := standin.New()
	t.Cleanup(s.Close)
	s.PutNode("22.12.0")
	put := func(name, version string, fields map[string]any, files ...standin.File) {
		s.Describe(name, version, fields)
		if len(files) == 0 {
			files = []standin.File{{Name: "index.js", Content: name + " " + version + "\n"}}
		}
		s.PutNPM(name, version, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), nil, files...)
	}
	deps := func(list map[string]any) map[string]any { return map[string]any{"dependencies": list} }
	put("fishcount", "2.1.0", map[string]any{
		"bin":                  map[string]any{"fishcount": "./cli.js"},
		"dependencies":         map[string]any{"@weir/lanes": "^1.0.0", "tally": "^2.0.0"},
		"optionalDependencies": map[string]any{"lanes-for-mars": "1", "lanes-gone": "1"},
		"peerDependencies":     map[string]any{"weir-core": "*", "never": "1"},
		"peerDependenciesMeta": map[string]any{"never": map[string]any{"optional": true}},
	}, standin.File{Name: "cli.js", Content: "#!/bin/sh\nd=$(dirname \"$(readlink -f \"$0\")\")\ncat \"$d/../tally/index.js\" \"$d/../@weir/lanes/node_modules/tally/index.js\"\ncat \"$d/../native/made\" 2>/dev/null || echo no native part\n"})
	put("fishcount", "3.0.0", deps(map[string]any{"tally": "git+ssh://x/y.git"}))
	put("@weir/lanes", "1.2.0", deps(map[string]any{"tally": "1.x"}))
	put("@weir/lanes", "2.0.0", nil)
	put("tally", "1.9.0", nil)
	put("tally", "2.0.0", deps(map[string]any{"native": "1"}))
	put("tally", "2.4.1", deps(map[string]any{"native": "1"}))
	put("tally", "3.0.0-rc.1", nil)
	put("weir-core", "1.0.0", deps(map[string]any{"fishcount": "2"})) // round in a circle
	put("lanes-for-mars", "1.0.0", map[string]any{"os": []string{"mars"}})
	put("native", "1.0.0", map[string]any{"hasInstallScript": true},
		standin.File{Name: "package.json", Content: `{"scripts":{"install":"echo compiled > made"}}`})
	return s
}

const fishDeclaration = `format = 1
project = "heronweir"
[toolchain]
node      = "22"
fishcount = { version = "2", from = "npm", package = "fishcount" }
`

func TestAnNPMToolComesWithItsWholeLockedTree(t *testing.T) {
	t.Parallel()
	s := fishTool(t)
	h := newHut(t, s, fishDeclaration)
	h.ok("lock")
	lock := h.read("trammel.lock")
	for _, want := range []string{
		`"node_modules/@weir/lanes @weir/lanes/-/lanes-1.2.0.tgz sha512:`, `"node_modules/@weir/lanes/node_modules/tally tally/-/tally-1.9.0.tgz sha512:`,
		`"node_modules/tally tally/-/tally-2.4.1.tgz sha512:`, `"node_modules/weir-core `, `scripts = ["native"]`,
	} {
		if !strings.Contains(lock, want) {
			t.Errorf("the lock lacks %s:\n%s", want, lock)
		}
	}
	for _, never := range []string{"lanes-for-mars", "never", "3.0.0"} {
		if strings.Contains(lock, never) {
			t.Errorf("the lock has %s", never)
		}
	}
	h.ok("fit")
	if out := h.ok("run", "--", "fishcount"); out != "tally 2.4.1\ntally 1.9.0\nno native part\n" {
		t.Errorf("the tool finds %q", out)
	}
	h.ok("verify", "--deep")

	// A later dependency changes nothing that is locked.
	s.PutNPM("tally", "2.9.0", time.Now(), nil, standin.File{Name: "index.js", Content: "later\n"})
	if out := h.ok("lock"); !strings.Contains(out, "nothing changed") {
		t.Errorf("lock:\n%s", out)
	}
	other := h.elsewhere(s)
	other.ok("fit")
	other.ok("verify", "--deep")
	if a, b := h.read("trammel.lock"), other.read("trammel.lock"); a != b {
		t.Errorf("the locks differ:\n%s\n---\n%s", a, b)
	}

	// A package of the tree with other bytes is refused.
	bad := h.elsewhere(s)
	s.Fail("tally-1.9.0", standin.WrongBytes)
	bad.fails(5, []string{"tally-1.9.0.tgz has the wrong bytes"}, "fit")
	if found, _ := filepath.Glob(filepath.Join(bad.home, "data/store/*fishcount*")); len(found) > 0 {
		t.Errorf("an unfinished tree is in the store: %v", found)
	}
	s.Fail("tally-1.9.0", "")
	bad.ok("fit")
}

func TestInstallScriptsRunOnlyWhereTheyAreAllowed(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, fishTool(t), strings.Replace(fishDeclaration, `package = "fishcount"`, `package = "fishcount", scripts = ["native"]`, 1))
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "fishcount"); !strings.HasSuffix(out, "compiled\n") {
		t.Errorf("the script did not run: %q", out)
	}
	h.ok("verify", "--deep")
	h.write("trammel.toml", fishDeclaration)
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "fishcount"); !strings.HasSuffix(out, "no native part\n") {
		t.Errorf("the script's outcome is still there: %q", out)
	}
}

// What install scripts make is made twice before it enters the lock: where it is another each time, the file is
// named, and only a declaration that says so takes it. The next machine is told that a build differs, and not a source.
func TestABuildThatVariesIsFoundByTheFirstMachine(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for name, script := range map[string]string{"chance": "od -An -N8 -tx8 /dev/urandom > made", "time": "date +%N > made", "path": "pwd > made"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := fishTool(t)
			s.PutNPM("native", "1.0.0", hutDay, nil, standin.File{Name: "package.json", Content: `{"name":"native","version":"1.0.0","scripts":{"install":"` + script + `"}}`})
			tool := strings.Replace(fishDeclaration, `package = "fishcount"`, `package = "fishcount", scripts = ["native"]`, 1)
			h := newHut(t, s, tool)
			h.ok("lock")
			h.fails(1, []string{"comes out differently each time it is built", "native/made", "varies = true"}, "fit")
			if left := globs(h.home, "data/store/*fishcount*"); len(left) > 0 {
				t.Errorf("something of it stays: %v", left)
			}
			h.write("trammel.toml", strings.Replace(tool, `scripts = ["native"]`, `scripts = ["native"], varies = true`, 1))
			h.ok("lock")
			h.ok("fit")
			h.ok("verify", "--deep")
			other := h.elsewhere(s)
			other.fails(1, []string{"was built here, and what came of it is not what the lock has", "trammel stock"}, "fit", "--approve")
			// The same in a set of libraries.
			set := newHut(t, s, "format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"22\"\n[libraries.board]\nkind = \"node\"\nwant = [\"native@^1\"]\nscripts = [\"native\"]\n")
			set.ok("lock")
			set.fails(1, []string{"native/made", `varies = ["native"] under [libraries.board]`}, "fit")
			set.write("trammel.toml", set.read("trammel.toml")+"varies = [\"native\"]\n")
			set.ok("lock")
			set.ok("fit")
			set.ok("verify", "--deep")
		})
	}
}

func TestNPMToolsThatCannotBeHad(t *testing.T) {
	t.Parallel()
	s := fishTool(t)
	s.Describe("lost", "1.0.0", map[string]any{"bin": "x.js", "dependencies": map[string]any{"tally": "^9"}})
	s.PutNPM("lost", "1.0.0", time.Now(), nil, standin.File{Name: "x.js", Content: "x"})
	for name, c := range map[string]struct {
		declaration string
		words       []string
	}{
		"a dependency from elsewhere": {strings.Replace(fishDeclaration, `"2", from`, `"3", from`, 1), []string{"git+ssh", "no version of a registry"}},
		"a dependency that is gone":   {strings.ReplaceAll(strings.Replace(fishDeclaration, `"2", from`, `"1", from`, 1), "fishcount", "lost"), []string{`no version of tally satisfies "^9"`, "node_modules/lost needs"}},
		"a library":                   {strings.ReplaceAll(strings.Replace(fishDeclaration, `"2", from`, `"2.4", from`, 1), "fishcount", "tally"), []string{"tally brings no command"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := newHut(t, s, c.declaration)
			h.fails(2, c.words, "lock")
			if _, err := os.Stat(filepath.Join(h.dir, "trammel.lock")); err == nil {
				t.Error("a lock was written")
			}
		})
	}
}
