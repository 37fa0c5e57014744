package main

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"app.example/trammel/internal/standin"
)

// What the scripts of packages would have done decides whether tools are of use: each is used,
// and not only asked for its version.
func TestLiveToolsWhoseScriptsDecideAreOfUse(t *testing.T) {
	long(t)
	liveArchive(t)
	tools := map[string]string{ // toolchain → what uses it
		"php":        `php -r 'exit(function_exists("ctype_alpha") && function_exists("mb_strlen") && function_exists("curl_init") && class_exists("SQLite3") ? 0 : 1);' && phar version`,
		"composer":   `composer --version`,
		"graphviz":   `printf 'digraph { heron -> weir }' | dot -Tpng -o d.png && test -s d.png`,
		"python":     `rm -rf .venv && python3 -m venv .venv && python3 -m venv .venv && .venv/bin/python -c 'import ssl'`,
		"ninja":      `cd "$(mktemp -d)" && printf 'rule t\n command = touch $out\nbuild made: t\n' > build.ninja && ninja -f build.ninja && test -e made`,
		"pkg-config": `pkg-config --version`,
	}
	if os.Getenv("TRAMMEL_SWEEP") == "1" {
		for name, use := range map[string]string{
			"openjdk":     `test -x $JAVA_HOME/bin/java && java -version`,
			"maven":       `mvn --version`,
			"gradle":      `gradle --version`,
			"gfortran":    `printf 'program a\nend\n' > a.f90 && gfortran -c a.f90`,
			"protobuf":    `printf 'syntax = "proto3";\nmessage Fish { string kind = 1; }\n' > f.proto && protoc --python_out=. f.proto`,
			"kubectl":     `kubectl version --client`,
			"pandoc":      `echo '# Weir' | pandoc -t html | grep -q '<h1'`,
			"ffmpeg":      `ffmpeg -v error -y -f lavfi -i testsrc=duration=1:size=32x32 t.mp4 && ffprobe -v error t.mp4`,
			"imagemagick": `convert -size 8x8 xc:blue b.png && identify b.png`,
			"tex":         `printf '\\documentclass{article}\\begin{document}Weir $x^2$\\end{document}' > h.tex && pdflatex -interaction=batchmode h.tex && test -s h.pdf`,
		} {
			tools[name] = use
		}
	}
	names := []string{}
	for name := range tools {
		names = append(names, name)
	}
	sort.Strings(names)
	declaration := "format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.trixie]\nkind = \"debian\"\nsuite = \"trixie\"\n\n[toolchain]\n"
	for _, name := range names {
		declaration += name + " = \"latest\"\n"
	}
	h := archiveHut(t, declaration)
	h.ok("lock")
	h.fitted()
	h.ok("verify")
	for _, isolation := range []string{"sealed", "clean"} {
		for _, name := range names {
			if o := h.try("run", "--isolation", isolation, "--", "sh", "-c", tools[name]); o.code != 0 {
				t.Errorf("%s, %s: %s%s", name, isolation, o.out, o.err)
			}
		}
	}
}

// The npm that a Node.js comes with, another that is asked for, and two other package managers.
func TestLivePackageManagersOfNode(t *testing.T) {
	long(t)
	liveArchive(t)
	for _, c := range []struct{ toolchain, command, start string }{
		{"node = \"20\"\n", "npm", "10."},
		{"node = \"20\"\nnpm = \"11\"\n", "npm", "11."},
		{"node = \"20\"\npnpm = \"9\"\n", "pnpm", "9."},
		{"node = \"20\"\npnpm = \"latest\"\n", "pnpm", ""},
		{"node = \"20\"\nyarn = \"latest\"\n", "yarn", "1."},
	} {
		h := archiveHut(t, "format = 1\nproject = \"heronweir\"\n[toolchain]\n"+c.toolchain)
		h.ok("lock")
		h.fitted()
		if out := h.ok("run", "--", c.command, "--version"); !strings.HasPrefix(out, c.start) {
			t.Errorf("%s%s says %q", c.toolchain, c.command, out)
		}
		h.ok("verify")
	}
	h := archiveHut(t, "format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"16\"\npnpm = \"11\"\n")
	h.fails(2, []string{"pnpm 11", "needs Node.js"}, "lock")
	h = archiveHut(t, "format = 1\nproject = \"heronweir\"\n[toolchain]\nyarn = \"1\"\n")
	h.fails(2, []string{"no node toolchain is declared"}, "lock")
}

// All packages of a list, each in a project of its own: its commands are started with the
// options that programs state their version by. It takes long, so it runs for TRAMMEL_SWEEP=1.
func TestLiveCommandsOfPackagesAnswer(t *testing.T) {
	liveArchive(t)
	if os.Getenv("TRAMMEL_SWEEP") != "1" {
		t.Skip("takes half an hour: TRAMMEL_SWEEP=1")
	}
	list, err := os.ReadFile("testdata/packages.txt")
	if err != nil {
		t.Fatal(err)
	}
	const ask = `for c in $(ls "$1"); do
	[ "$c" = launch ] && continue
	ok=
	for o in --version -V -v version --help -h -help; do
		timeout 10 "$c" $o </dev/null >out.txt 2>&1; r=$?
		if [ $r -eq 126 ] || [ $r -eq 127 ] || grep -q "error while loading\|No such file or directory$\|not found" out.txt; then continue; fi
		if [ $r -lt 126 ] && [ -s out.txt ]; then ok=yes; break; fi
	done
	[ -n "$ok" ] || { printf '%s: %s\n' "$c" "$(head -c 160 out.txt | tr '\n' ' ')"; }
done`
	var rows []string
	for _, name := range strings.Fields(string(list)) {
		tool := "t-" + strings.NewReplacer(".", "-", "+", "x").Replace(name)
		h := archiveHut(t, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.trixie]\nkind = \"debian\"\nsuite = \"trixie\"\n\n[toolchain]\n%s = { version = \"latest\", from = \"trixie\", package = %q }\n", tool, name))
		h.write("ask.sh", ask)
		if o := h.try("lock"); o.code != 0 {
			rows = append(rows, fmt.Sprintf("%s | lock | %s", name, strings.TrimSpace(o.err)))
			continue
		} else if strings.Contains(o.err, "brings no command") {
			rows = append(rows, fmt.Sprintf("%s | lock | it says that the package brings no command", name))
		}
		if o := h.try("fit", "--approve"); o.code != 0 {
			rows = append(rows, fmt.Sprintf("%s | fit | %s", name, strings.TrimSpace(o.err)))
			continue
		}
		raw, err := os.ReadFile(filepath.Join(h.dir, ".trammel/frame/path"))
		frame := strings.TrimSpace(string(raw))
		if err != nil {
			t.Fatal(err)
		}
		for _, isolation := range []string{"sealed", "clean"} {
			o := h.try("run", "--isolation", isolation, "--", "sh", "ask.sh", filepath.Join(frame, "bin"))
			for line := range strings.Lines(o.out) {
				rows = append(rows, fmt.Sprintf("%s | %s | %s", name, isolation, strings.TrimSpace(line)))
			}
			if o.code != 0 && o.code != 1 {
				rows = append(rows, fmt.Sprintf("%s | %s | ended with %d: %s", name, isolation, o.code, strings.TrimSpace(o.err)))
			}
		}
		if entries, _ := os.ReadDir(filepath.Join(frame, "bin")); len(entries) == 0 {
			rows = append(rows, name+" | frame | no command")
		}
	}
	t.Logf("%d rows\n%s", len(rows), strings.Join(rows, "\n"))
	if file := os.Getenv("TRAMMEL_SWEEP_TABLE"); file != "" {
		if err := os.WriteFile(file, []byte(strings.Join(rows, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// Two versions of one tool in one project: services and libraries say which they run on, and
// have its commands by their own names.
func TestLiveServicesAndLibrariesSayWhichVersion(t *testing.T) {
	long(t)
	liveArchive(t)
	s := standin.New()
	defer s.Close()
	s.PutWheel("shelf", standin.Wheel{Name: "tally", Version: "1.0", Files: []standin.File{{Name: "tally.py", Content: "import sys\ndef says():\n    print('tally on', sys.version_info[1])\n"}}, Scripts: "[console_scripts]\ntally = tally:says\n"})
	for _, isolation := range []string{"sealed", "clean"} {
		h := archiveHut(t, fmt.Sprintf(`format    = 1
project   = "heronweir-both"
isolation = %q

[source.trixie]
kind  = "debian"
suite = "trixie"

[source.bullseye]
kind  = "debian"
suite = "bullseye"

[source.shelf]
kind = "wheel"
url  = %q

[toolchain]
postgresql  = { version = "17", from = "trixie" }
old-ledger  = { version = "13", from = "bullseye", tool = "postgresql", prefix = "old-" }
python      = { version = "3.13", from = "trixie" }
old-python  = { version = "3.9", from = "bullseye", tool = "python", prefix = "old-" }

[libraries.counts]
kind = "python"
want = ["tally"]
from = "shelf"
tool = "old-python"

[service.ledger]
tool = "postgresql"

[service.ledger-before]
tool = "old-ledger"
`, isolation, s.Python("shelf")))
		h.ok("lock")
		h.fitted()
		h.ok("start")
		for name, want := range map[string]string{"ledger": "17.", "ledger-before": "13."} {
			if out := h.ok("do", name+"-console", "--", "-Atc", "show server_version"); !strings.HasPrefix(out, want) {
				t.Errorf("%s, %s says %q", isolation, name, out)
			}
			h.ok("data", "save", name, "dump-"+name+".sql.gz")
			h.ok("data", "load", name, "dump-"+name+".sql.gz")
		}
		for command, want := range map[string]string{"old-psql --version": "(PostgreSQL) 13.", "psql --version": "(PostgreSQL) 17.", "tally": "tally on 9", "old-python3 -m tally": "", "python3 --version": "Python 3.13"} {
			if out := h.ok(append([]string{"run", "--"}, strings.Fields(command)...)...); !strings.Contains(out, want) {
				t.Errorf("%s: %s says %q", isolation, command, out)
			}
		}
		h.fails(1, []string{"No module named 'tally'"}, "run", "--", "python3", "-c", "import tally")
		h.ok("verify")
		h.ok("stop")
	}
}
