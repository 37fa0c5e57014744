package main

import (
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"
)

// follower is an interactive shell that follows into one approved project; before stands in
// its start-up file.
func follower(t *testing.T, shell, before, declaration string) *walker {
	t.Helper()
	path, err := exec.LookPath(shell)
	if err != nil {
		lacks.Program(t, shell)
	}
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n"+declaration)
	h.ok("lock")
	h.ok("fit", "--approve")
	h.ok("run", "--", "true")
	w := &walker{shell: shell, weir: h, none: t.TempDir()}
	startUp(t, shell, filepath.Dir(h.home), before)
	host := &hut{t: t, dir: w.none, home: h.home, env: append(slices.Clone(h.env), "TERM=xterm", "HISTFILE=")}
	w.session = host.start(path, "-i")
	return w
}

// What a shell keeps for itself is refused at lock, whoever declares it and in whichever of
// the places that set variables.
func TestNamesThatShellsKeepAreRefusedAtLock(t *testing.T) {
	t.Parallel()
	names := strings.Fields(`UID EUID PPID BASHOPTS SHELLOPTS BASH_VERSINFO PROMPT_COMMAND BASH_COMMAND SECONDS RANDOM LINENO FUNCNAME PIPESTATUS GROUPS DIRSTACK _
		path fpath cdpath argv pipestatus options history precmd_functions preexec_functions chpwd_functions status aliases functions prompt
		fish_pid  __trammel_undo __trammel_x`)
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for _, text := range []string{
				"[variables]\n" + name + " = \"x\"\n",
				"[service.s]\nrun = \"true\"\n[service.s.variables]\nOK = \"1\"\n[variables]\n\"" + name + "\" = { when = \"param.p\", then = \"a\", else = \"b\" }\n[param.p]\nkind = \"yes-no\"\ndefault = true\n",
			} {
				h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+text)
				if o := h.try("lock"); o.code != 2 || !strings.Contains(o.err, name) || h.there("trammel.lock") {
					t.Errorf("%d %s", o.code, o.err)
				}
			}
			own := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n")
			own.write("trammel.local.toml", "[variables]\n"+name+" = \"x\"\n")
			if o := own.try("lock"); o.code != 2 || !strings.Contains(o.err, name) {
				t.Errorf("of a person's own: %d %s", o.code, o.err)
			}
		})
	}
}

// A card's variable is refused like a declared one: it is not the person who wrote it.
func TestACardSetsNoNameThatShellsKeep(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"UID", "PROMPT_COMMAND", "fpath", "PATH", "TRAMMEL_DIR"} {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+catalogOf("keeper"))
		h.publish(tool{"keeper", "echo 1.0", "variables = { " + name + " = \"x\" }\n"})
		if o := h.try("lock"); o.code == 0 || !strings.Contains(o.err, name) {
			t.Errorf("%s: %d %s%s", name, o.code, o.out, o.err)
		}
	}
}

const inAndZ = "[variables]\nAAA = \"in\"\nARR = \"in\"\nINT = \"in\"\nLOW = \"IN\"\nROP = \"in\"\nZZZ = \"in\"\n"

// Leaving gives everything back: arrays, attributes, what was not exported; and what cannot
// be set back hinders nothing behind it.
func TestLeavingGivesEverythingBack(t *testing.T) {
	t.Parallel()
	for shell, c := range map[string]struct{ before, show string }{
		"bash": {"ARR=(1 '2 3' 4)\ndeclare -i INT=5\ndeclare -l LOW=abc\nreadonly ROP=mine\nAAA=$'one\\ndeclare -x ZZZ=\"evil\"'\nexport AAA\n",
			`declare -p ARR INT LOW ROP AAA 2>&1; echo "Z=${ZZZ-unset} P=${TRAMMEL_PROJECT-unset}"; case $PATH in *frames*) echo still;; esac`},
		"zsh": {"ARR=(1 '2 3' 4)\ntypeset -i INT=5\ntypeset -l LOW=abc\ntypeset -r ROP=mine\nexport AAA=$'one\\nexport ZZZ=evil'\n",
			`typeset -p ARR INT LOW ROP AAA 2>&1; echo "Z=${ZZZ-unset} P=${TRAMMEL_PROJECT-unset}"; case $PATH in *frames*) echo still;; esac`},
		"fish": {"set -g ARR 1 '2 3' 4\nset -g INT 5\nset -gx AAA one\\nZZZ\n",
			`count $ARR; echo $ARR $INT; set --show AAA | string match -r 'exported|unexported' | head -1; set -q ZZZ; echo $status; set -q TRAMMEL_PROJECT; echo $status`},
	} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			w := follower(t, shell, c.before, inAndZ)
			first := w.does(c.show)
			for range 2 {
				w.does("cd " + w.weir.dir)
				w.expect("echo $ZZZ", "in")
				w.does("cd " + w.none)
				if last := w.does(c.show); last != first {
					t.Errorf("before:\n%s\nafter:\n%s", first, last)
				}
			}
			w.expect("echo $ZZZ", "")
		})
	}
}
