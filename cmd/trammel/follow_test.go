package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/standin"
)

// walker is a shell that follows folders, with two projects and a folder with none.
type walker struct {
	*session
	shell string
	weir  *hut   // go 1.24, node 22
	old   *hut   // go 1.22, node 18, in a folder with a space and a quote
	none  string // no project
	count int
}

func newWalker(t *testing.T, shell, before string) *walker {
	t.Helper()
	path, err := exec.LookPath(shell)
	if err != nil {
		lacks.Program(t, shell)
	}
	return walkerOn(t, shell, path, before, registry(t), nil)
}

// walkerOn is a walker whose projects get their tools from a stand-in, or from the
// registries of the machine when there is none; home shares what is fitted.
func walkerOn(t *testing.T, shell, path, before string, s *standin.Server, home *hut) *walker {
	t.Helper()
	weir := newHut(t, s, goAndNode)
	if home != nil {
		weir.home, weir.env = home.home, home.env
	}
	old := newHut(t, s, strings.NewReplacer(`"1.24"`, `"1.22"`, `"22"`, `"18"`, `"heronweir"`, `"heronweir-archive"`, "fish-per-hour", "it's \\\"two\\\"  words $HOME").Replace(goAndNode))
	odd := filepath.Join(filepath.Dir(old.dir), "the weir's archive")
	if err := os.Rename(old.dir, odd); err != nil {
		t.Fatal(err)
	}
	old.dir = odd
	old.home, old.env = weir.home, weir.env
	for _, h := range []*hut{weir, old} {
		h.ok("lock")
		h.ok("fit")
	}
	w := &walker{shell: shell, weir: weir, old: old, none: t.TempDir()}
	startUp(t, shell, filepath.Dir(weir.home), before)
	host := &hut{t: t, dir: w.none, home: weir.home, env: append(slices.Clone(weir.env), "TERM=xterm", "GOBIN=/host/bin", "HISTFILE=")}
	w.session = host.start(path, "-i")
	return w
}

// startUp makes the start-up file of a shell that follows folders; before stands first in it.
func startUp(t *testing.T, shell, home, before string) {
	t.Helper()
	file, hook := ".bashrc", fmt.Sprintf("eval \"$(%s follow bash)\"\n", program)
	switch shell {
	case "zsh":
		file, hook = ".zshrc", fmt.Sprintf("eval \"$(%s follow zsh)\"\n", program)
	case "fish":
		file, hook = ".config/fish/config.fish", fmt.Sprintf("%s follow fish | source\n", program)
	}
	rc := filepath.Join(home, file)
	if err := os.MkdirAll(filepath.Dir(rc), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(rc, []byte(before+hook), 0o644); err != nil {
		t.Fatal(err)
	}
}

// does types a command and returns what it prints.
func (w *walker) does(command string) string {
	w.t.Helper()
	w.count++
	mark := fmt.Sprintf("<%d>", w.count)
	// The marks are written so that the echo of the command line has none.
	w.say(fmt.Sprintf("printf '%%s' '<' '%d>'; %s; printf '%%s' '<' '/%d>'", w.count, command, w.count))
	w.hears(fmt.Sprintf("</%d>", w.count))
	_, rest, _ := strings.Cut(w.text(), mark)
	out, _, _ := strings.Cut(rest, fmt.Sprintf("</%d>", w.count))
	return strings.TrimSpace(strings.ReplaceAll(out, "\r", ""))
}

func (w *walker) expect(command, want string) {
	w.t.Helper()
	if got := w.does(command); got != want {
		w.t.Errorf("%s: %s prints %q, not %q", w.shell, command, got, want)
	}
}

func TestAShellFollowsItsFolders(t *testing.T) {
	t.Parallel()
	for _, shell := range []string{"bash", "zsh", "fish"} {
		t.Run(shell, func(t *testing.T) {
			before := "MINE=own\n"
			environment := "env | grep -v -e '^_=' -e '^OLDPWD=' -e '^PWD=' | sort > "
			switch shell {
			case "bash":
				before = "set -u\nPROMPT_COMMAND='SEEN=$?'\nWEIR_UNITS='not exported'\n"
			case "zsh":
				before = "setopt nounset\nprecmd() { SEEN=$? }\nWEIR_UNITS='not exported'\n"
			case "fish":
				before = "function seen --on-event fish_postexec; set -g SEEN $status; end\nset -g WEIR_UNITS 'not exported'\n"
			}
			w := newWalker(t, shell, before)
			quoted := "'" + strings.ReplaceAll(w.old.dir, "'", `'\''`) + "'"
			if shell == "fish" {
				quoted = "'" + strings.ReplaceAll(w.old.dir, "'", `\'`) + "'"
			}
			first, last := filepath.Join(w.none, "first"), filepath.Join(w.none, "last")
			w.does(environment + first)
			w.does("cd " + w.weir.dir)
			w.expect("go version | cut -d' ' -f3", "go1.24.6")
			w.expect("node --version", "v22.12.0")
			w.expect("echo $WEIR_UNITS", "fish-per-hour")
			w.does("mkdir -p deep/down; cd deep/down")
			w.expect("go version | cut -d' ' -f3", "go1.24.6")
			w.does("cd " + quoted)
			w.expect("go version | cut -d' ' -f3", "go1.22.9")
			w.expect("node --version", "v18.20.4")
			w.expect(`echo "$WEIR_UNITS"`, `it's "two"  words $HOME`)

			// A folder that goes away under the shell's feet, and one behind a link.
			w.does("mkdir gone; cd gone; rmdir ../gone")
			w.expect("go version 2>/dev/null | cut -d' ' -f3", "go1.22.9")
			link := filepath.Join(w.none, "link")
			if err := os.Symlink(w.weir.dir, link); err != nil {
				t.Fatal(err)
			}
			w.does("cd " + link)
			w.expect("go version | cut -d' ' -f3", "go1.24.6")

			// Another person's hook still sees the exit code of commands.
			w.does("true")
			w.say("sh -c 'exit 3'")
			w.expect("echo $SEEN", "3")

			// A declaration that comes or goes where the shell already is.
			w.does("mkdir " + w.none + "/new; cd " + w.none + "/new")
			w.does("cp " + w.weir.dir + "/trammel.toml .")
			w.hears("heronweir: there is no trammel.lock yet. Make it: trammel lock")
			w.does("rm trammel.toml")

			w.does("cd " + w.none)
			w.expect("echo $WEIR_UNITS", "not exported")
			w.expect("echo $GOBIN", "/host/bin")
			w.does(environment + last)
			a, _ := os.ReadFile(first)
			b, err := os.ReadFile(last)
			if err != nil || string(a) != string(b) || len(a) == 0 {
				t.Errorf("the environment is not what it was:\n%s\n---\n%s", a, b)
			}
		})
	}
}

func TestFollowingTellsInOneLineWhatIsToDo(t *testing.T) {
	t.Parallel()
	for _, shell := range []string{"bash", "zsh", "fish"} {
		t.Run(shell, func(t *testing.T) {
			w := newWalker(t, shell, "")
			w.does("cd " + w.weir.dir)
			w.expect("echo $WEIR_UNITS", "fish-per-hour")
			w.does("cargo")
			w.hears("cargo is not part of heronweir.")
			w.hears("rust provides it: trammel set rust=latest")

			// Each change is noticed at the next prompt, and so is its mending.
			tick(w.weir)
			w.weir.change("fish-per-hour", "fish-per-day")
			w.does("true")
			w.hears("heronweir: trammel.toml changed after trammel.lock was made. Bring the lock up to date: trammel lock")
			w.hears("heronweir: until then only the base commands of this machine are found here")
			w.expect("command -v sluice | grep -c /", "0")
			w.expect("command -v sh | grep -c /data/host/", "1")
			w.does("sluice")
			w.hears("sluice is not to be had here: trammel.toml changed after trammel.lock was made")
			w.expect(`echo "x$WEIR_UNITS"`, "x")
			tick(w.weir)
			w.weir.ok("lock")
			w.does("true")
			w.hears("heronweir: this project changed since you approved it")
			w.does("cargo") // a mistyped word asks nobody
			w.hears("cargo is not to be had here: this project changed since you approved it")
			tick(w.weir)
			w.weir.ok("approve", "--yes")
			w.does("true")
			w.expect("echo $WEIR_UNITS", "fish-per-day")

			tick(w.weir)
			w.weir.write("trammel.toml", w.weir.read("trammel.toml")+"\n[step.modules]\nrun = \"true\"\n")
			w.weir.ok("lock")
			w.weir.ok("approve", "--yes")
			w.does("true")
			w.does("true")
			w.hears("heronweir: due: modules. Run: trammel fit")

			tick(w.weir)
			w.weir.write("trammel.local.toml", "[variables]\nMINE = \"own\"\n")
			w.does("true")
			w.hears("there is no trammel.local.lock yet")

			tick(w.weir)
			w.weir.ok("lock")
			w.does("true")
			w.hears("variable MINE (local) is new")

			tick(w.weir)
			w.weir.write("trammel.toml", "format = 1\nprojct = \"x\"\n")
			w.does("true")
			w.hears("trammel: trammel.toml:1:1: the project has no name")
			w.expect("command -v sh | grep -c /data/host/", "1")
		})
	}
}

// tick waits until a file made now is newer than what the shell has seen: stamps
// have the grain of the kernel's clock.
func tick(h *hut) {
	seen := filepath.Join(h.dir, "tick-before")
	os.WriteFile(seen, nil, 0o644)
	before, _ := os.Stat(seen)
	eventually(h.t, "the clock of the file system ticks", func() bool {
		now := filepath.Join(h.dir, "tick-now")
		os.WriteFile(now, []byte("x"), 0o644)
		info, err := os.Stat(now)
		os.Remove(now)
		return err == nil && info.ModTime().After(before.ModTime())
	})
	os.Remove(seen)
}

// At a prompt where nothing changed no process is started.
func TestFollowingStartsNoProcessAtAPrompt(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for _, shell := range []string{"bash", "zsh", "fish"} {
		t.Run(shell, func(t *testing.T) {
			w := newWalker(t, shell, "")
			w.does("cd " + w.weir.dir)
			w.expect("echo $WEIR_UNITS", "fish-per-hour")
			// Pids of the whole machine move on, so the shell's own children are
			// counted: the stamp of this shell is made by each process it starts.
			stamps, _ := filepath.Glob(filepath.Join(filepath.Dir(w.weir.home), "run/trammel-following-*/*"))
			if len(stamps) == 0 {
				t.Fatal("no stamp was made")
			}
			before, err := os.Stat(stamps[len(stamps)-1])
			if err != nil {
				t.Fatal(err)
			}
			for range 20 {
				w.does("true")
			}
			after, err := os.Stat(stamps[len(stamps)-1])
			if err != nil || !after.ModTime().Equal(before.ModTime()) || !os.SameFile(before, after) {
				t.Errorf("the program ran at a prompt though nothing had changed: %v", err)
			}
		})
	}
}
