package main

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// hostPython is the Python of this machine, as its own file and version, but none of a virtual
// environment, which sees no user's libraries; without one the stand-in for it only says a version.
func hostPython() (file, version string) {
	for _, name := range []string{"/usr/bin/python3", "python3"} {
		out, err := exec.Command(name, "-c", "import sys; sys.prefix == sys.base_prefix and print(sys.executable, '.'.join(map(str, sys.version_info[:3])))").Output()
		if f := strings.Fields(string(out)); err == nil && len(f) == 2 {
			return f[0], f[1]
		}
	}
	return "", "3.13.5"
}

// pythonHut is a project with a Python that starts this machine's, and an index.
func pythonHut(t *testing.T, s *standin.Server, more string) *hut {
	t.Helper()
	file, version := hostPython()
	minor := version[:strings.LastIndexByte(version, '.')]
	script := "#!/bin/sh\nexec " + file + " \"$@\"\n"
	if file == "" {
		script = "#!/bin/sh\necho Python " + version + "\n"
	}
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[source.c]
kind = "catalog"
url  = "tools"

[source.shelf]
kind = "wheel"
url  = "`+s.Python("shelf")+`"

[toolchain]
python = "=`+version+`"
`+more)
	card := "answer = { run = \"python --version\", match = 'Python (\\S+)' }\n"
	archive := standin.TarGz(standin.File{Name: "bin/python", Content: script, Mode: 0o755}, standin.File{Name: "bin/python" + minor, Content: script, Mode: 0o755})
	tool := standin.Tool{Name: "python", Archives: [][]byte{archive}, Versions: []string{version}, Card: card}
	if err := standin.Publish(filepath.Join(h.dir, "tools"), []standin.Tool{tool}); err != nil {
		t.Fatal(err)
	}
	// A card of a test names one command; the other is by its minor version.
	text := h.read("tools/cards/python.toml")
	h.write("tools/cards/python.toml", strings.Replace(text, "bin = {", "bin = { \"python"+minor+"\" = \"bin/python"+minor+"\",", 1))
	resum(t, h, "python")
	return h
}

// resum puts the digest of an edited card into the catalog's index.
func resum(t *testing.T, h *hut, tool string) {
	t.Helper()
	index := h.read("tools/catalog.toml")
	lines := strings.Split(index, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, "card-sha256") {
			lines[i] = fmt.Sprintf("card-sha256 = %q", sha256Of(t, filepath.Join(h.dir, "tools/cards", tool+".toml")))
		}
	}
	h.write("tools/catalog.toml", strings.Join(lines, "\n"))
}

func sha256Of(t *testing.T, file string) string {
	t.Helper()
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("%x", sha256.Sum256(raw))
}

// copyFrom brings a folder of another checkout here.
func (h *hut) copyFrom(from *hut, folder string) {
	h.t.Helper()
	if err := os.CopyFS(filepath.Join(h.dir, folder), os.DirFS(filepath.Join(from.dir, folder))); err != nil {
		h.t.Fatal(err)
	}
}

// module is a wheel with one module of its name that says its version.
func module(name, version string, requires ...string) standin.Wheel {
	return standin.Wheel{Name: name, Version: version, Requires: requires, Files: []standin.File{{Name: name + ".py", Content: "version = " + fmt.Sprintf("%q", version) + "\n"}}}
}

func TestLibrariesOfAPythonProjectAreLockedMadeAndProven(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	for _, w := range []standin.Wheel{module("tally", "1.0"), module("tally", "1.1", "grid >=2"), module("grid", "1.0"), module("grid", "2.0"), module("grid", "2.1rc1")} {
		s.PutWheel("shelf", w)
	}
	board := module("board", "3.0", "tally; extra == 'counts'")
	board.Extras = []string{"counts"}
	board.Scripts = "[console_scripts]\nboard-count = board:main\n"
	board.Files[0].Content += "def main():\n    import tally, sys\n    print('tally', tally.version, sys.argv[1:])\n"
	s.PutWheel("shelf", board)
	h := pythonHut(t, s, `
[libraries.survey]
kind  = "python"
files = ["requirements.txt"]
want  = ["board[counts] >=3"]
`)
	h.write("requirements.txt", "# what the survey needs\ngrid  # any\n")
	out := h.ok("lock")
	for _, words := range []string{"+ survey: board 3.0", "+ survey: grid 2.0", "+ survey: tally 1.1"} {
		if !strings.Contains(out, words) {
			t.Errorf("lock does not say %q:\n%s", words, out)
		}
	}
	h.fitted()
	h.ok("verify", "--deep")
	if file, _ := hostPython(); file != "" {
		if got := h.ok("run", "--", "python", "-c", "import board, grid; print(grid.version)"); got != "2.0\n" {
			t.Errorf("imported %q", got)
		}
		if got := h.ok("run", "--", "board-count", "a"); got != "tally 1.1 ['a']\n" {
			t.Errorf("the console script says %q", got)
		}
		h.fails(1, []string{"trammel set survey/NAME=latest"}, "run", "--", "pip", "install", "nosuch")
	}
	for _, c := range []struct {
		args  string
		words []string
	}{
		{"show", []string{"libraries", "survey", "3 packages", "for python"}}, {"show survey", []string{"requirements.txt", "board[counts] >=3", "grid 2.0", "board-count"}},
		{"show survey/grid", []string{"grid-2.0-py3-none-any.whl", "sha256:"}}, {"find survey/grid", []string{"2.0", "locked", "1.0"}}, {"find board", []string{"board", "3.0", "shelf", "trammel set survey/board=latest"}},
		{"export cyclonedx", []string{"pkg:pypi/tally@1.1"}}, {"approve --json", []string{"libraries survey", "3 packages for python"}},
	} {
		out := h.ok(strings.Fields(c.args)...)
		for _, words := range c.words {
			if !strings.Contains(out, words) {
				t.Errorf("%s does not say %q:\n%s", c.args, words, out)
			}
		}
	}
	// A comment in the file of asks changes nothing; another ask does.
	h.write("requirements.txt", "grid\n# said otherwise\n")
	h.ok("lock", "--check")
	h.write("requirements.txt", "grid\ntally <1.1\n")
	h.fails(3, []string{"trammel lock"}, "lock", "--check")
	if out := h.ok("lock"); !strings.Contains(out, "survey: tally 1.1 → 1.0") || strings.Contains(out, "grid") {
		t.Errorf("one library moves alone:\n%s", out)
	}
	h.ok("approve", "--yes")
	h.ok("fit")
	h.ok("verify")
	// Back, and one at a time by name.
	h.write("requirements.txt", "grid\n")
	h.ok("lock")
	if out := h.ok("newer"); !strings.Contains(out, "survey/tally") || !strings.Contains(out, "newer") || strings.Contains(out, "survey/board") {
		t.Errorf("newer says\n%s", out)
	}
	if out := h.ok("lock", "--renew", "survey/tally"); !strings.Contains(out, "survey: tally 1.0 → 1.1") {
		t.Errorf("renewing one library:\n%s", out)
	}
	if out := h.ok("set", "survey/grid=1.0", "survey/tally=1.0"); !strings.Contains(out, "survey: grid 2.0 → 1.0") {
		t.Errorf("setting two libraries:\n%s", out)
	}
	if !strings.Contains(h.read("trammel.toml"), `want  = ["board[counts] >=3", "grid ==1.0.*", "tally ==1.0.*"]`) {
		t.Error(h.read("trammel.toml"))
	}
	h.ok("unset", "survey/grid", "survey/tally")
	h.fails(2, []string{"no package \"tallly\"", "tally"}, "lock", "--renew", "survey/tallly")
	h.fails(2, []string{"surve"}, "set", "surve/tally=1")
}

func TestAChangedByteInALibraryIsNamed(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutWheel("shelf", module("tally", "1.0"))
	h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nwant = [\"tally\"]\n")
	h.ok("lock")
	h.fitted()
	other := h.elsewhere(nil)
	other.copyFrom(h, "tools")
	other.fitted()
	// One byte in the folder of the set.
	found, _ := filepath.Glob(filepath.Join(other.home, "data/store/*-survey-python/lib/python*/site-packages/tally.py"))
	if len(found) != 1 {
		t.Fatal(found)
	}
	os.Chmod(found[0], 0o644)
	raw, _ := os.ReadFile(found[0])
	raw[0] ^= 1
	os.WriteFile(found[0], raw, 0o644)
	other.fails(3, []string{"site-packages/tally.py", "changed", "trammel fit survey"}, "verify", "--deep")
	h.ok("verify", "--report", filepath.Join(h.dir, "a.json"), "--machine", "hut-laptop")
	other.try("verify", "--deep", "--report", filepath.Join(h.dir, "b.json"), "--machine", "lab-desk")
	out := h.try("compare", filepath.Join(h.dir, "a.json"), filepath.Join(h.dir, "b.json"))
	if out.code != 3 || !strings.Contains(out.out, "site-packages/tally.py") {
		t.Errorf("compare: %d %s%s", out.code, out.out, out.err)
	}
	other.ok("fit")
	other.ok("verify", "--deep")
	// Other bytes under the same version are told, loudest.
	evil := module("tally", "1.0")
	evil.Files[0].Content = "version = \"1.O\"\n"
	s.PutWheel("shelf", evil)
	third := h.elsewhere(nil)
	third.copyFrom(h, "tools")
	third.fails(5, []string{"tally", "wrong bytes"}, "fit", "--approve")
	if out := third.ok("lock", "--renew"); !strings.Contains(out, "survey: tally 1.0 HAS OTHER BYTES") {
		t.Errorf("lock says\n%s", out)
	}
}

func TestWhatDoesNotFitIsExplainedByWhoAsks(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutWheel("shelf", module("board", "1.0", "grid <2"))
	s.PutWheel("shelf", module("tally", "1.0", "grid >=2"))
	s.PutWheel("shelf", module("grid", "1.0"))
	s.PutWheel("shelf", module("grid", "2.0"))
	late := module("late", "1.0")
	late.RequiresPython = ">=4"
	s.PutWheel("shelf", late)
	yanked := module("flume", "2.0")
	yanked.Yanked = "counts twice"
	s.PutWheel("shelf", yanked)
	s.PutWheel("shelf", module("flume", "1.0"))
	binary := module("sonar", "1.0")
	binary.Tag = "cp313-cp313-win_amd64"
	s.PutWheel("shelf", binary)
	none := module("plain", "1.0")
	none.NoDigest = true
	s.PutWheel("shelf", none)
	for _, c := range []struct {
		want  string
		words []string
	}{
		{`"board", "tally"`, []string{"no choice of libraries survey fits together", "board 1.0 needs grid <2", "tally 1.0 needs grid >=2", "trammel.toml:"}},
		{`"nosuch"`, []string{"nosuch, which no source has"}},
		{`"late"`, []string{"late 1.0 needs Python >=4"}},
		{`"sonar"`, []string{"sonar 1.0 has no wheel for Python"}},
		{`"flume ==2.*"`, []string{"flume 2.0 was yanked", "counts twice"}},
		{`"tally >=5"`, []string{"asks for tally >=5, and there is only 1.0"}},
		{`"plain"`, []string{"states no digest of plain-1.0"}},
	} {
		h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nwant = ["+c.want+"]\n")
		if o := h.try("lock"); o.code == 0 {
			t.Errorf("%s was locked:\n%s", c.want, o.out)
		} else {
			for _, words := range c.words {
				if !strings.Contains(o.err, words) {
					t.Errorf("%s: it does not say %q:\n%s", c.want, words, o.err)
				}
			}
		}
	}
	// A yanked file that is asked for exactly is had (PEP 592).
	h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nwant = [\"flume ==2.0\"]\n")
	if out := h.ok("lock"); !strings.Contains(out, "flume 2.0") {
		t.Error(out)
	}
}

func TestIndexesThatAreSlowCutOrLying(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	hidden := module("grid", "1.0")
	hidden.Hidden = true // its metadata is read out of the wheel
	s.PutWheel("shelf", hidden)
	s.PutWheel("shelf", module("tally", "1.0", "grid"))
	const set = "\n[libraries.survey]\nkind = \"python\"\nwant = [\"tally\"]\n"
	want := func(h *hut) {
		t.Helper()
		if out := h.ok("lock"); !strings.Contains(out, "grid 1.0") || !strings.Contains(out, "tally 1.0") {
			t.Error(out)
		}
		h.fitted()
	}
	want(pythonHut(t, s, set))
	s.PythonHTML("shelf")
	want(pythonHut(t, s, set))
	s.Whole = true // and by fetching the whole of it
	want(pythonHut(t, s, set))
	s.Fail("/simple/", standin.Slow)
	want(pythonHut(t, s, set))
	s.Fail("/simple/", "")
	s.Fail("/files/", standin.CutOnce)
	want(pythonHut(t, s, set))
	for part, c := range map[string]struct {
		fault standin.Fault
		words string
	}{
		"/simple/tally": {standin.NotJSON, "tally"},
		"/simple/grid":  {standin.Broken, "500"},
		".whl.metadata": {standin.WrongBytes, "other bytes than the index states"},
	} {
		s.Fail("/files/", "")
		s.Fail(part, c.fault)
		h := pythonHut(t, s, set)
		if o := h.try("lock"); o.code == 0 || !strings.Contains(o.err, c.words) {
			t.Errorf("%s %s: %d\n%s", part, c.fault, o.code, o.err)
		}
		s.Fail(part, "")
	}
	s.Fail("/files/tally", standin.WrongBytes)
	h := pythonHut(t, s, set)
	s.Fail(".metadata", "")
	lies := module("tally", "1.0", "grid")
	lies.Lies = true
	s.Fail("/files/tally", "")
	s.PutWheel("shelf", lies)
	h.fails(5, []string{"other bytes than the index states"}, "lock")
}

func TestADateBoundsLibraries(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	for i, v := range []string{"1.0", "1.1"} {
		w := module("tally", v)
		w.Uploaded = time.Date(2026, time.Month(2+i), 1, 0, 0, 0, 0, time.UTC)
		s.PutWheel("shelf", w)
	}
	h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nwant = [\"tally\"]\n")
	if out := h.ok("lock", "--as-of", "2026-02-20"); !strings.Contains(out, "tally 1.0") {
		t.Error(out)
	}
	s.PutWheel("shelf", module("grid", "1.0"))
	h.ok("set", "survey/tally=1.1")
	h.ok("set", "survey/grid=latest")
	h.fails(2, []string{"grid 1.0 has no date in the index"}, "lock", "--as-of", "2026-03-20")
}

// nodeHut is a project with a Node that says its version and runs nothing, and npm packages.
func nodeHut(t *testing.T, s *standin.Server, more string) *hut {
	t.Helper()
	s.PutNode("22.11.0")
	return newHut(t, s, `format  = 1
project = "heronweir"

[toolchain]
node = "22"
`+more)
}

func putNPM(s *standin.Server, name, version string, fields map[string]any, files ...standin.File) {
	if fields != nil {
		s.Describe(name, version, fields)
	}
	raw, _ := json.Marshal(map[string]any{"name": name, "version": version, "bin": fields["bin"]})
	s.PutNPM(name, version, hutDay, nil, append(files, standin.File{Name: "package.json", Content: string(raw)})...)
}

func TestLibrariesOfANodeProjectAreShownInItsFolder(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	putNPM(s, "grid", "1.2.0", nil, standin.File{Name: "index.js", Content: "grid 1"})
	putNPM(s, "grid", "2.0.0", nil, standin.File{Name: "index.js", Content: "grid 2"})
	putNPM(s, "@weir/tables", "3.1.0", map[string]any{"dependencies": map[string]string{"grid": "^1.0.0"}}, standin.File{Name: "t.js"})
	putNPM(s, "charts", "1.0.0", map[string]any{"bin": map[string]string{"charts": "bin/charts.sh"}, "dependencies": map[string]string{"grid": "2"}},
		standin.File{Name: "bin/charts.sh", Content: "#!/bin/sh\necho charts of $1\n"})
	h := nodeHut(t, s, "\n[libraries.board]\nkind = \"node\"\nfiles = [\"board/package.json\"]\n")
	h.write("board/package.json", `{"name": "board", "dependencies": {"@weir/tables": "^3"}, "devDependencies": {"charts": "1.x"}}`)
	out := h.ok("lock")
	for _, words := range []string{"+ board: charts 1.0.0", "+ board: @weir/tables 3.1.0"} {
		if !strings.Contains(out, words) {
			t.Errorf("lock does not say %q:\n%s", words, out)
		}
	}
	h.fitted()
	h.ok("verify", "--deep")
	if got := h.read("board/node_modules/@weir/tables/../../grid/index.js"); !strings.HasPrefix(got, "grid") {
		t.Error(got)
	}
	if got := h.ok("run", "--", "charts", "silverfin"); got != "charts of silverfin\n" {
		t.Errorf("the command says %q", got)
	}
	// A cache of a tool is its own business; what somebody puts there is told, and mended.
	h.write("board/node_modules/.cache/x", "x")
	h.ok("verify")
	os.Symlink("/etc", filepath.Join(h.dir, "board/node_modules/stranger"))
	os.Remove(filepath.Join(h.dir, "board/node_modules/charts"))
	h.fails(3, []string{"board/node_modules/stranger", "is of no set", "board/node_modules/charts", "is missing"}, "verify")
	h.ok("fit")
	h.ok("verify")
	if h.read("board/node_modules/.cache/x") != "x" {
		t.Error("a cache was taken away")
	}
	// A real folder there is somebody's work.
	h.write("board/node_modules/mine/index.js", "mine")
	h.fails(3, []string{"board/node_modules/mine"}, "verify")
	h.fails(2, []string{"board/node_modules/mine is there, and is of no set"}, "fit")
	if h.read("board/node_modules/mine/index.js") != "mine" {
		t.Error("somebody's work is gone")
	}
	os.RemoveAll(filepath.Join(h.dir, "board/node_modules"))
	h.write("board/node_modules/mine/index.js", "mine")
	h.fails(2, []string{"Trammel did not make it"}, "fit")
	os.RemoveAll(filepath.Join(h.dir, "board/node_modules"))
	// A folder above it that is a link leads nowhere else.
	outside := t.TempDir()
	os.Rename(filepath.Join(h.dir, "board"), filepath.Join(h.dir, "real"))
	h.link("board", outside)
	if o := h.try("fit"); o.code == 0 {
		t.Error("a link was followed")
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("outside: %v", left)
	}
}

func TestWhatPackageLockSaysIsWhatIsLocked(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	for _, v := range []string{"1.0.0", "1.1.0"} {
		putNPM(s, "grid", v, nil, standin.File{Name: "index.js", Content: "grid " + v})
	}
	putNPM(s, "seine", "1.0.0", nil, standin.File{Name: "index.js"})
	entry := func(name, v string) map[string]any {
		return map[string]any{"version": v, "resolved": s.NPM() + name + "/-/" + name + "-" + v + ".tgz", "integrity": integrityOf(t, s, name, v)}
	}
	packages := map[string]any{
		"": map[string]any{"name": "weir"}, "packages/tables": map[string]any{"name": "tables", "version": "0.0.0"},
		"node_modules/tables": map[string]any{"resolved": "packages/tables", "link": true},
		"node_modules/grid":   entry("grid", "1.0.0"), "packages/tables/node_modules/grid": entry("grid", "1.1.0"),
	}
	elsewhere := entry("seine", "1.0.0")
	elsewhere["os"], elsewhere["optional"] = []string{"win32"}, true
	packages["node_modules/seine"] = elsewhere
	raw, _ := json.Marshal(map[string]any{"lockfileVersion": 3, "packages": packages})
	h := nodeHut(t, s, "\n[libraries.board]\nkind = \"node\"\nfiles = [\"package.json\", \"package-lock.json\"]\n")
	h.write("package.json", `{"dependencies": {"grid": "^1"}, "workspaces": ["packages/*"]}`)
	h.write("package-lock.json", string(raw))
	h.write("packages/tables/index.js", "tables")
	h.ok("lock")
	h.fitted()
	h.ok("verify", "--deep")
	for file, want := range map[string]string{"node_modules/grid/index.js": "grid 1.0.0", "packages/tables/node_modules/grid/index.js": "grid 1.1.0", "node_modules/tables/index.js": "tables"} {
		if got := h.read(file); got != want {
			t.Errorf("%s is %q", file, got)
		}
	}
	if _, err := os.Lstat(filepath.Join(h.dir, "node_modules/seine")); err == nil {
		t.Error("a package of another system is there")
	}
	for change, words := range map[string]string{
		`"lockfileVersion":1`: "lockfileVersion 1", `"resolved":"git+ssh://git.example/x"`: "at an address of its own", `"resolved":"../../etc"`: "not in the project",
	} {
		text := strings.Replace(string(raw), `"lockfileVersion":3`, change, 1)
		if strings.HasPrefix(change, `"resolved":"git`) {
			text = strings.Replace(string(raw), `"resolved":"`+s.NPM()+`grid/-/grid-1.0.0.tgz"`, change, 1)
		} else if strings.HasPrefix(change, `"resolved"`) {
			text = strings.Replace(string(raw), `"resolved":"packages/tables"`, change, 1)
		}
		h.write("package-lock.json", text)
		h.fails(2, []string{words}, "lock")
	}
}

func integrityOf(t *testing.T, s *standin.Server, name, version string) string {
	t.Helper()
	var doc struct {
		Versions map[string]struct{ Dist struct{ Integrity string } }
	}
	if err := json.Unmarshal([]byte(get(t, s.NPM()+name)), &doc); err != nil {
		t.Fatal(err)
	}
	return doc.Versions[version].Dist.Integrity
}

func TestASetTravelsInABundleABillAndAnOpenLock(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutWheel("shelf", module("tally", "1.0", "grid; sys_platform == 'linux'"))
	s.PutWheel("shelf", module("grid", "2.0"))
	h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nwant = [\"tally\"]\n")
	h.ok("lock")
	h.fitted()
	if bill := h.ok("export", "cyclonedx"); !strings.Contains(bill, "pkg:pypi/tally@1.0") || !strings.Contains(bill, "pkg:pypi/grid@2.0") {
		t.Errorf("the bill:\n%s", bill)
	}
	pylock := h.ok("export", "pylock")
	for _, words := range []string{"lock-version = \"1.0\"", "name = \"tally\"", "hashes = { sha256 = ", "tally-1.0-py3-none-any.whl"} {
		if !strings.Contains(pylock, words) {
			t.Errorf("pylock.toml does not say %q:\n%s", words, pylock)
		}
	}
	h.ok("export", "bundle", "--output", "hut.bundle")
	// Read back it locks the same, by its hashes alone.
	other := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nfiles = [\"pylock.toml\"]\n")
	other.write("pylock.toml", pylock)
	other.ok("lock")
	section := func(h *hut) string {
		lock := h.read("trammel.lock")
		lock = lock[strings.Index(lock, "packages = "):]
		return lock[:strings.Index(lock, "]")]
	}
	if section(other) != section(h) {
		t.Errorf("%s\nand\n%s", section(other), section(h))
	}
	evil := module("tally", "1.0", "grid; sys_platform == 'linux'")
	evil.Files[0].Content = "version = 'x'\n"
	s.PutWheel("shelf", evil)
	fresh := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nfiles = [\"pylock.toml\"]\n")
	fresh.write("pylock.toml", pylock)
	fresh.fails(2, []string{"tally 1.0 has no file with a hash that the asks name"}, "lock")
	// The bundle alone is enough on a machine without a network; a changed byte in it is found.
	third := h.elsewhere(nil)
	third.copyFrom(h, "tools")
	raw, err := os.ReadFile(filepath.Join(h.dir, "hut.bundle"))
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	at := strings.Index(string(raw), "tally.py")
	bad := append([]byte(nil), raw...)
	bad[at] ^= 1
	os.WriteFile(filepath.Join(third.dir, "bad.bundle"), bad, 0o644)
	digest := h.read("trammel.lock")
	digest = digest[strings.Index(digest, "tally 1.0 "):]
	digest = strings.Fields(digest)[4][len("sha256:"):][:16]
	third.fails(5, []string{"survey tally (sha256-" + digest, "its bytes are not those that the lock names"}, "fit", "--approve", "--bundle", "bad.bundle")
	os.WriteFile(filepath.Join(third.dir, "hut.bundle"), raw, 0o644)
	third.ok("fit", "--approve", "--bundle", "hut.bundle")
	third.ok("verify", "--deep")
	// What no lock names any more is freed, and what one does is kept.
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), `want = ["tally"]`, `want = ["grid"]`, 1))
	if file, _ := hostPython(); file != "" {
		if got := third.ok("run", "--", "python", "-c", "import tally, grid; print(grid.version)"); got != "2.0\n" {
			t.Errorf("%q", got)
		}
	}
	third.ok("sweep")
	third.ok("verify", "--deep")
}

func TestAToolOfNpmNeedsTheNodeThatItSays(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutNode("22.11.0")
	s.Describe("charts", "1.0.0", map[string]any{"bin": "c.js", "engines": map[string]string{"node": ">=23"}})
	s.PutNPM("charts", "1.0.0", hutDay, map[string]string{"node": ">=23"}, standin.File{Name: "package.json", Content: `{"name": "charts"}`}, standin.File{Name: "c.js"})
	const tool = "\ncharts = { version = \"latest\", from = \"npm\", package = \"charts\" }\n"
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]"+tool)
	h.fails(2, []string{"charts 1.0.0 runs on Node.js (>=23), and no node toolchain is declared", "trammel set node=latest"}, "lock")
	h = newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\""+tool)
	h.fails(2, []string{"needs Node.js >=23, and node 22.11.0 is locked"}, "lock")
	// What is not there is said, with the way to what it may be.
	h = newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\n")
	h.fails(2, []string{`It is called "go": trammel set go=1.24`}, "set", "golang=1.24")
	h.fails(2, []string{`The source "npm" has a package of that name: trammel set charts=1 --from npm --package charts`}, "set", "charts=1")
	h.fails(2, []string{`the source "npm" has no package chartz`}, "set", "chartz=1", "--from", "npm", "--package", "chartz")
	if out := h.ok("find", "charts"); !strings.Contains(out, "trammel set charts=latest --from npm --package charts") {
		t.Error(out)
	}
	if out := h.ok("find", "golang"); !strings.Contains(out, "Go") {
		t.Error(out)
	}
}

func TestIndexesInOrderGroupsConstraintsAndPlatforms(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutWheel("shelf", module("tally", "1.0"))
	s.PutWheel("wide", module("tally", "9.0")) // somebody else's, under a name of ours
	s.PutWheel("wide", module("grid", "1.0"))
	s.PutWheel("wide", module("grid", "2.0"))
	s.PutWheel("wide", module("probe", "1.0", "grid", "plots; sys_platform == 'darwin'"))
	s.PutWheel("wide", module("plots", "1.0"))
	for _, x := range []struct{ tag string }{{"cp311-abi3-manylinux2014_x86_64"}, {"cp311-abi3-manylinux2014_aarch64"}, {"cp311-abi3-macosx_11_0_arm64"}} {
		w := module("native", "1.0")
		w.Tag = strings.Replace(x.tag, "cp311", "cp32", 1)
		s.PutWheel("wide", w)
	}
	h := pythonHut(t, s, "\n[libraries.survey]\nkind = \"python\"\nfiles = [\"pyproject.toml\", \"more.txt\"]\ngroups = [\"test\"]\nwant = [\"tally\", \"native\"]\n")
	text := strings.Replace(h.read("trammel.toml"), s.Python("shelf")+`"`, s.Python("shelf")+","+s.Python("wide")+`"`, 1)
	text = strings.Replace(text, `project = "heronweir"`, "project = \"heronweir\"\nplatforms = [\"linux/amd64\", \"linux/arm64\", \"darwin/arm64\"]", 1)
	h.write("trammel.toml", text)
	h.write("pyproject.toml", "[project]\nname = \"weir\"\ndependencies = []\n[dependency-groups]\ntest = [\"probe\"]\n")
	h.write("more.txt", "-c held.txt\n")
	h.write("held.txt", "grid <2\n")
	h.ok("lock")
	lock := h.read("trammel.lock")
	section := func(on string) string {
		at := lock[strings.Index(lock, "[library.survey.on.\""+on+"\"]"):]
		end := strings.Index(at[1:], "\n[")
		return at[:end+1]
	}
	for on, words := range map[string][]string{
		"linux/amd64": {"tally 1.0", "grid 1.0", "probe 1.0", "native-1.0-cp32-abi3-manylinux2014_x86_64.whl"}, "linux/arm64": {"native-1.0-cp32-abi3-manylinux2014_aarch64.whl"},
		"darwin/arm64": {"plots 1.0", "native-1.0-cp32-abi3-macosx_11_0_arm64.whl"},
	} {
		for _, w := range words {
			if !strings.Contains(section(on), w) {
				t.Errorf("%s has no %s:\n%s", on, w, section(on))
			}
		}
	}
	if strings.Contains(section("linux/amd64"), "plots") {
		t.Error("a package of another system is on linux")
	}
	// Mixed, when that is said, the newest of all is taken.
	h.write("trammel.toml", strings.Replace(text, "kind = \"wheel\"", "kind = \"wheel\"\nmix  = true", 1))
	if out := h.ok("lock", "--renew"); !strings.Contains(out, "survey: tally 1.0 → 9.0") {
		t.Error(out)
	}
	h.write("held.txt", "grid <2\nprobe <1\n")
	h.fails(2, []string{"probe 1.0 is ruled out by probe <1 (held.txt:2)"}, "lock")
	h.write("held.txt", "grid <2\n")
	h.write("pyproject.toml", "[project]\nname = \"weir\"\nrequires-python = \">=4\"\n[dependency-groups]\ntest = [\"probe\"]\n")
	h.fails(2, []string{"requires Python >=4"}, "lock")
}
