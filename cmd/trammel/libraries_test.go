package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trammel.example/trammel/internal/standin"
)

// hostPython is the Python of this machine, as its own file and version; without one the
// stand-in for it only says a version.
func hostPython() (file, version string) {
	for _, name := range []string{"/usr/bin/python3", "python3"} {
		out, err := exec.Command(name, "-c", "import sys; print(sys.executable, '.'.join(map(str, sys.version_info[:3])))").Output()
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
