package main

import (
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/written/lock"
)

// The tests in this file use the Debian archive that apt's settings on this machine
// name. They run when TRAMMEL_LIVE=1.

func liveArchive(t *testing.T) {
	t.Helper()
	linuxOnly(t)
	if live := os.Getenv("TRAMMEL_LIVE"); live != "1" && live != "all" {
		t.Skip("needs the Debian archive: TRAMMEL_LIVE=1")
	}
	if err := sandbox.Available(); err != nil {
		t.Skip("the kernel gives no namespaces here")
	}
	t.Parallel() // most of the time goes into fetching and waiting
	shareHome()
}

// long skips what the gate has no time for: it runs with TRAMMEL_LIVE=all.
func long(t *testing.T) {
	t.Helper()
	if os.Getenv("TRAMMEL_LIVE") != "all" {
		t.Skip("takes long: TRAMMEL_LIVE=all")
	}
}

// sharedHome lets the live tests fetch each package once.
var sharedHome string

var shareHome = sync.OnceFunc(func() { sharedHome = filepath.Join(filepath.Dir(program), "live-home") })

func archiveHut(t *testing.T, declaration string) *hut {
	t.Helper()
	h := newHut(t, nil, declaration)
	h.home = sharedHome
	h.env = append(h.env, "TRAMMEL_HOME="+sharedHome)
	return h
}

func database(project, suite, major string) string {
	return fmt.Sprintf(`format    = 1
project   = %q
isolation = "sealed"

[source.%s]
kind  = "debian"
suite = %q

[toolchain]
postgresql = %q

[variables]
PGHOST     = "127.0.0.1"
PGPORT     = "@{service.ledger.port.main}"
PGUSER     = "weir"
PGDATABASE = "postgres"

[step.cluster]
run = "initdb --pgdata @{bay.dir}/cluster --username weir --auth trust"

[service.ledger]
needs = ["step.cluster"]
run   = "postgres -D @{bay.dir}/cluster -k @{bay.dir} -h 127.0.0.1 -p @{port.main}"
ports = { main = 25432 }
ready = { command = "pg_isready -h 127.0.0.1 -p @{port.main}", within = "60s" }
stop  = { signal = "INT", within = "15s" }
`, project, suite, suite, major)
}

func TestLiveTwoMajorVersionsOfADatabaseRunAtOnce(t *testing.T) {
	long(t)
	liveArchive(t)
	huts := map[string]*hut{"17": archiveHut(t, database("heronweir", "trixie", "17")), "13": archiveHut(t, database("heronweir-archive", "bullseye", "13"))}
	for major, h := range huts {
		h.fitted()
		h.ok("start")
		if major == "17" {
			h.ok("run", "--", "psql", "-c", "create table passings (species text, lane int)")
		}
	}
	for major, h := range huts {
		if got := h.ok("run", "--", "psql", "-Atc", "show server_version"); !strings.HasPrefix(got, major+".") {
			t.Errorf("psql of %s reached %q", major, got)
		}
		if got := h.ok("run", "--", "psql", "--version"); !strings.Contains(got, " "+major+".") {
			t.Errorf("psql of %s is %q", major, got)
		}
		tables := strings.TrimSpace(h.ok("run", "--", "psql", "-Atc", "select count(*) from pg_tables where tablename = 'passings'"))
		if want := map[string]string{"17": "1", "13": "0"}[major]; tables != want {
			t.Errorf("%s has %s tables of passings", major, tables)
		}
		h.ok("verify")
		h.ok("stop")
		if out := h.ok("logs", "ledger"); !strings.Contains(out, "database system is shut down") {
			t.Errorf("%s was killed, not stopped:\n%s", major, out)
		}
	}
}

const survey = `format    = 1
project   = "heronweir-survey"
isolation = "sealed"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
r              = "4.5"
r-cran-ggplot2 = "latest"
r-cran-dplyr   = "latest"
python         = "3.13"
gcc            = "14"
`

const surveyScript = `suppressMessages({library(ggplot2); library(dplyr)})
p <- data.frame(hour = c(6, 6, 7, 8, 8, 8, 9, 11), species = rep(c("silverfin", "redgill"), 4))
n <- p |> group_by(hour, species) |> summarise(passings = n(), .groups = "drop")
ggsave("passings.png", ggplot(n, aes(hour, passings, fill = species)) + geom_col(), width = 6, height = 4, dpi = 80)
`

func TestLiveASurveyInASealedRoot(t *testing.T) {
	long(t)
	liveArchive(t)
	h := archiveHut(t, survey)
	h.write("passings.R", surveyScript)
	h.write("count.c", "#include <stdio.h>\n#include <math.h>\nint main(void) { printf(\"%.0f silverfin\\n\", sqrt(49)); }\n")
	h.fitted()
	h.ok("run", "--", "Rscript", "passings.R")
	f, err := os.Open(filepath.Join(h.dir, "passings.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if picture, err := png.Decode(f); err != nil || picture.Bounds().Dx() != 480 {
		t.Errorf("the picture: %v", err)
	}
	if got := h.ok("run", "--", "sh", "-c", "gcc -O2 -o count count.c -lm && ./count"); got != "7 silverfin\n" {
		t.Errorf("gcc: %q", got)
	}
	if got := h.ok("run", "--", "sh", "-c", "echo 'int main(){throw 1;}' | g++ -x c++ -o throw - && ./throw; echo $?"); !strings.HasSuffix(got, "134\n") {
		t.Errorf("g++: %q", got)
	}
	if got := h.ok("run", "--", "python3", "-c", "import ssl, sqlite3, sys; print(sys.version.split()[0])"); !strings.HasPrefix(got, "3.13.") {
		t.Errorf("python3: %q", got)
	}
	host := filepath.Join(filepath.Dir(h.dir), "only-the-host-has-this")
	os.WriteFile(host, []byte("#!/bin/sh\necho visible\n"), 0o755)
	if out, err := exec.Command(host).Output(); err != nil || string(out) != "visible\n" {
		t.Fatal("the host's own program does not run on the host")
	}
	h.fails(127, nil, "run", "--", host)
	if got := h.ok("run", "--", "sh", "-c", "ls /usr/bin/apt-get /usr/bin/dpkg 2>/dev/null | wc -l"); strings.TrimSpace(got) != "0" {
		t.Errorf("the host's /usr/bin shows: %s", got)
	}
	h.ok("verify", "--deep")
	// A file of this very root, not of the packages that it shares with others.
	root, err := filepath.EvalSymlinks(filepath.Join(strings.TrimSpace(h.read(".trammel/frame/path")), "roots/trixie"))
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(root, "usr/lib/R/library/stats/DESCRIPTION")
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	raw[3] ^= 1
	os.Chmod(filepath.Dir(file), 0o755)
	os.Remove(file)
	if err := os.WriteFile(file, raw, 0o444); err != nil {
		t.Fatal(err)
	}
	h.fails(3, []string{"usr/lib/R/library/stats/DESCRIPTION", "changed"}, "verify", "--deep")
	h.ok("fit")
	h.ok("verify", "--deep")
}

func TestLiveTwoPythonsAndANodeSideBySide(t *testing.T) {
	long(t)
	liveArchive(t)
	declaration := `format = 1
project = "heronweir"
isolation = "clean"

[source.trixie]
kind  = "debian"
suite = "trixie"

[source.bullseye]
kind  = "debian"
suite = "bullseye"

[toolchain]
python = { version = "3.9", from = "bullseye" }
node   = "22"
hello  = { version = "latest", from = "trixie", package = "hello" }
`
	h := newHut(t, nil, declaration) // a home of its own: of an ordinary user
	if os.Getuid() == 0 {
		asOrdinaryUser(t, h)
	}
	h.fitted()
	if got := h.ok("run", "--", "python3", "-c", "import ssl, sqlite3, sys, subprocess; print(sys.version.split()[0]); subprocess.run(['node', '--version'])"); !strings.Contains(got, "3.9.") || !strings.Contains(got, "v22.") {
		t.Errorf("%q", got)
	}
	if got := h.ok("run", "--", "hello"); !strings.Contains(got, "Hello") {
		t.Errorf("%q", got)
	}
	h.ok("verify")
}

// What is left out of roots is told apt as installed; then its own resolver, with
// nothing else installed, must want the same packages.
func TestLiveClosuresAreApts(t *testing.T) {
	long(t)
	liveArchive(t)
	apt, err := exec.LookPath("apt-get")
	if err != nil {
		t.Skip("there is no apt here")
	}
	for _, c := range []struct {
		suite, toolchain string
		packages         []string
	}{
		{"trixie", `postgresql = "17"`, []string{"postgresql-17", "postgresql-client-17"}},
		{"bullseye", `postgresql = "13"`, []string{"postgresql-13", "postgresql-client-13"}},
		{"trixie", "r = \"4.5\"\nr-cran-ggplot2 = \"latest\"\nr-cran-dplyr = \"latest\"", []string{"r-base-core", "r-cran-ggplot2", "r-cran-dplyr"}},
	} {
		h := archiveHut(t, "format = 1\nproject = \"heronweir\"\n\n[source."+c.suite+"]\nkind = \"debian\"\nsuite = \""+c.suite+"\"\n\n[toolchain]\n"+c.toolchain+"\n")
		h.ok("lock")
		l, err := lock.Read(h.dir)
		if err != nil {
			t.Fatal(err)
		}
		var ours []string
		for _, p := range l.Roots[c.suite]["linux/"+runtime.GOARCH].List() {
			ours = append(ours, p.Name)
		}
		var sources struct {
			Sources []struct{ Name, Address string }
		}
		if err := json.Unmarshal([]byte(h.ok("sources", "--json")), &sources); err != nil {
			t.Fatal(err)
		}
		theirs := aptWants(t, apt, sources.Sources[0].Address, c.suite, append(debian.Base(), c.packages...))
		for _, name := range ours {
			if !slices.Contains(theirs, name) {
				t.Errorf("%s: %s is not in apt's set", c.packages[0], name)
			}
		}
		for _, name := range theirs {
			if _, pruned := debian.Pruned(name); !pruned && !slices.Contains(ours, name) {
				t.Errorf("%s: apt wants %s", c.packages[0], name)
			}
		}
	}
}

// aptWants is what apt would install, on a machine that has only what roots leave
// out.
func aptWants(t *testing.T, apt, url, suite string, wishes []string) []string {
	t.Helper()
	dir := t.TempDir()
	os.Chmod(dir, 0o755)
	for _, d := range []string{"etc/preferences.d", "etc/apt.conf.d", "state/lists/partial", "cache/archives/partial"} {
		os.MkdirAll(filepath.Join(dir, d), 0o755)
	}
	var status strings.Builder
	for _, name := range debian.LeftOut() {
		fmt.Fprintf(&status, "Package: %s\nStatus: install ok installed\nArchitecture: %s\nMulti-Arch: foreign\nMaintainer: x\nVersion: 99:9999\nProvides: debconf-2.0\nDescription: x\n\n", name, runtime.GOARCH)
	}
	os.WriteFile(filepath.Join(dir, "status"), []byte(status.String()), 0o644)
	os.WriteFile(filepath.Join(dir, "etc/sources.list"), []byte("deb "+url+" "+suite+" main\n"), 0o644)
	run := func(args ...string) string {
		options := []string{
			"-o", "Dir::Etc=" + dir + "/etc", "-o", "Dir::Etc::SourceParts=/dev/null", "-o", "Dir::Etc::Trusted=/etc/apt/trusted.gpg", "-o", "Dir::Etc::TrustedParts=/etc/apt/trusted.gpg.d",
			"-o", "Dir::State=" + dir + "/state", "-o", "Dir::State::status=" + dir + "/status", "-o", "Dir::Cache=" + dir + "/cache",
			"-o", "APT::Architecture=" + runtime.GOARCH, "-o", "APT::Architectures=" + runtime.GOARCH, "-o", "APT::Install-Recommends=false", "-o", "APT::Sandbox::User=root",
			"-o", "Acquire::Languages=none", "-q",
		}
		out, err := exec.Command(apt, append(options, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("apt-get %q: %v\n%s", args, err, out)
		}
		return string(out)
	}
	run("update")
	var out []string
	for line := range strings.Lines(run(append([]string{"--simulate", "install"}, wishes...)...)) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "Inst" {
			out = append(out, f[1])
		}
	}
	if len(out) < len(debian.Base()) {
		t.Fatalf("apt wants only %q", out)
	}
	return out
}

// A virtual environment of the locked Python runs that Python: started by Trammel and from outside, from within
// another one, after later locks and a sweep; in sealed isolation by the system's own paths.
func TestLiveAVirtualEnvironmentIsOfTheLockedPython(t *testing.T) {
	long(t)
	liveArchive(t)
	for _, isolation := range []string{"clean", "open", "sealed"} {
		t.Run(isolation, func(t *testing.T) {
			if isolation == "open" { // whose launchers are those of clean
				long(t)
			}
			t.Parallel()
			h := archiveHut(t, "format = 1\nproject = \"venv-"+isolation+"\"\nisolation = \""+isolation+"\"\n[source.trixie]\nkind = \"debian\"\nsuite = \"trixie\"\n[toolchain]\npython = \"3.13\"\ngcc = \"14\"\n")
			if out := h.try("lock"); out.code != 0 || strings.Contains(out.err, "builds programs for the system") == (isolation == "sealed") {
				t.Errorf("lock: %+v", out)
			}
			h.fitted()
			h.ok("run", "--", "python3", "-m", "venv", "v")
			h.ok("run", "--", "v/bin/python", "-m", "venv", "w")
			h.write("s.py", "#!/usr/bin/python3\nimport sys\nprint(sys.version_info[:2])\n")
			if err := os.Chmod(filepath.Join(h.dir, "s.py"), 0o755); err != nil {
				t.Fatal(err)
			}
			look := func() {
				t.Helper()
				for _, venv := range []string{"v", "w"} {
					for _, args := range [][]string{{venv + "/bin/python", "-c", "import sys; print(sys.version_info[:2], sys.prefix)"}, {venv + "/bin/python3", "-c", "import sys, subprocess; print(subprocess.run([sys.executable, '-c', 'import sys; print(sys.version_info[:2], sys.prefix)'], capture_output=True, text=True).stdout)"}} {
						if out := h.ok(append([]string{"run", "--"}, args...)...); !strings.Contains(out, "(3, 13) "+filepath.Join(h.dir, venv)) {
							t.Errorf("%q says %q", args, out)
						}
						if isolation == "sealed" {
							continue
						}
						c := exec.Command(filepath.Join(h.dir, args[0]), args[1:]...) // from outside, as an editor does
						if out, err := c.CombinedOutput(); !strings.Contains(string(out), "(3, 13) "+filepath.Join(h.dir, venv)) {
							t.Errorf("from outside %q says %q, %v", args, out, err)
						}
					}
					if out := h.ok("run", "--", venv+"/bin/pip", "--version"); !strings.Contains(out, filepath.Join(h.dir, venv)) {
						t.Errorf("pip says %q", out)
					}
				}
				if out := h.ok("run", "--", "./s.py"); out != "(3, 13)\n" {
					t.Errorf("the script says %q", out)
				}
			}
			look()
			h.write("trammel.toml", h.read("trammel.toml")+"hello = { version = \"latest\", from = \"trixie\", package = \"hello\" }\n")
			h.ok("lock")
			h.ok("approve", "--yes")
			h.ok("fit")
			h.ok("sweep", "--older-than", "0s")
			look()
			h.ok("verify")
			// What the root's compiler makes needs the root's libraries.
			h.write("a.cpp", "#include <string>\n#include <iostream>\nint main() { std::cout << std::stoi(\"4\") << std::string(\"2\") << \"\\n\"; }\n")
			h.ok("run", "--", "g++", "a.cpp", "-o", "a.out")
			o := h.try("run", "--", "./a.out")
			if o.code == 0 && o.out != "42\n" || o.code != 0 && !strings.Contains(o.err, "isolation = \"sealed\"") {
				t.Errorf("%+v", o)
			}
			if isolation == "sealed" {
				if out := h.ok("run", "--", "sh", "-c", "command -v python3; readlink v/bin/python3; echo $PATH"); !strings.HasPrefix(out, "/usr/bin/python3\n/usr/bin/python3\n/run/trammel/") || strings.Contains(out, "/frames/") {
					t.Errorf("paths: %q", out)
				}
			}
		})
	}
}

// Twenty tools of a project and twenty of a person's own, of one suite and with packages in common: each starts in the
// root that it was locked for, beside any of the others.
func TestLiveTwentyToolsOfAProjectAndTwentyOfAPersonsOwn(t *testing.T) {
	liveArchive(t)
	long(t)
	type tool struct{ pack, run string }
	shared := []tool{
		{"jq", "jq --version"}, {"bc", "bc --version"}, {"tree", "tree --version"}, {"file", "file --version"}, {"figlet", "figlet weir"},
		{"hello", "hello"}, {"nano", "nano --version"}, {"less", "less --version"}, {"patch", "patch --version"}, {"gawk", "gawk --version"},
		{"ed", "ed --version"}, {"dc", "dc --version"}, {"zstd", "zstd --version"}, {"lz4", "lz4 --version"}, {"pigz", "pigz --version"},
		{"sqlite3", "sqlite3 --version"}, {"rsync", "rsync --version"}, {"m4", "m4 --version"}, {"xxd", "xxd --version"}, {"pv", "pv --version"},
	}
	own := []tool{
		{"qrencode", "qrencode --version"}, {"htop", "htop --version"}, {"curl", "curl --version"}, {"wget", "wget --version"}, {"ripgrep", "rg --version"},
		{"fd-find", "fdfind --version"}, {"hyperfine", "hyperfine --version"}, {"tmux", "tmux -V"}, {"jo", "jo -V"}, {"units", "units --version"},
		{"socat", "socat -V"}, {"ncdu", "ncdu --version"}, {"dos2unix", "dos2unix --version"}, {"bat", "batcat --version"}, {"moreutils", "sponge -h"},
		{"shellcheck", "shellcheck --version"}, {"datamash", "datamash --version"}, {"aria2", "aria2c --version"}, {"graphviz", "dot -V"}, {"indent", "indent --version"},
	}
	table := func(list []tool) string {
		var b strings.Builder
		b.WriteString("[toolchain]\n")
		for _, x := range list {
			fmt.Fprintf(&b, "%s-tool = { version = \"latest\", from = \"trixie\", package = %q }\n", x.pack, x.pack)
		}
		return b.String()
	}
	for _, isolation := range []string{"clean", "sealed"} {
		t.Run(isolation, func(t *testing.T) {
			t.Parallel()
			h := archiveHut(t, "format = 1\nproject = \"own-"+isolation+"\"\nisolation = \""+isolation+"\"\n[source.trixie]\nkind = \"debian\"\nsuite = \"trixie\"\n"+table(shared))
			h.fitted()
			said := map[string]string{}
			for _, x := range shared {
				said[x.run] = h.ok(append([]string{"run", "--"}, strings.Fields(x.run)...)...)
			}
			before := h.read("trammel.lock")
			h.write("trammel.local.toml", table(own))
			h.ok("lock")
			h.ok("fit", "--approve")
			if h.read("trammel.lock") != before {
				t.Error("the team's lock moved")
			}
			for _, x := range shared {
				if out := h.ok(append([]string{"run", "--"}, strings.Fields(x.run)...)...); out != said[x.run] {
					t.Errorf("%s says %q beside one's own tools, and %q without", x.run, out, said[x.run])
				}
			}
			for _, x := range own {
				if o := h.try(append([]string{"run", "--"}, strings.Fields(x.run)...)...); o.code == 126 || o.code == 127 || strings.Contains(o.err, "error while loading") || strings.Contains(o.err, "not part of") {
					t.Errorf("%s: %d %s%s", x.run, o.code, o.out, o.err)
				}
			}
			if out := h.ok("verify"); !strings.Contains(out, "yours, not the team's: ") {
				t.Errorf("verify:\n%s", out)
			}
		})
	}
}
