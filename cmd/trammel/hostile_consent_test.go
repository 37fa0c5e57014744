package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// Whatever takes effect stands in what approve shows, with the words that take effect.
func TestApproveShowsAllThatTakesEffect(t *testing.T) {
	t.Parallel()
	s := standin.New()
	t.Cleanup(s.Close)
	h := stranger(t, `isolation = "clean"
host = ["weird-host-tool"]

[source.deb]
kind = "debian"
url = "http://archive.example"
suite = "trixie"
keyring = "keys/own.gpg"
expired = true

[source.mods]
kind = "gomod"
url = "http://proxy.example"
sumdb = "off"

[param.task]
kind = "text"
default = "touch PARAM-DEFAULT"

[param.which]
kind = "choice"
of = ["dry", "touch PARAM-CHOICE"]

[variables]
IF = { when = "param.which", is = "dry", then = "then-value", else = "else-value" }

[secret.K]
from = "command:touch SECRET-COMMAND"
[secret.F]
from = "file:/home/somebody/.ssh/id_rsa"

[file."sub/authorized_keys"]
template = "t"

[step.par]
run = "echo @{param.task}; echo @{param.which}"

[service.db]
tool = "keeper"
settings = { extensions = "'; touch SETTING-VALUE; true '" }

[addon.x]
want = ["ITEM-WANTED"]
list = "touch ADDON-LIST"
add = "touch ADDON-ADD"
remove = "touch ADDON-REMOVE"

[routine.r]
run = ["touch", "ROUTINE"]
`+catalogOf("keeper"), tool{"keeper", "echo 1.0", `answer = { run = "touch ANSWER", match = '(\d+\.\d+)' }
variables = { CARD_VARIABLE = "card-value" }
[service]
once = "init \"$SETTING_EXTENSIONS\" CARD-ONCE"
run = "touch CARD-RUN"
console = "touch CARD-CONSOLE"
stale = "../../CARD-STALE"
[service.ready]
command = "touch CARD-READY"
[service.data]
save = "touch CARD-SAVE"
load = "touch CARD-LOAD"
[service.setting]
extensions = "SETTING-DEFAULT"
other = "OTHER-DEFAULT"
[service.publish]
url = "CARD-PUBLISH"
`})
	h.write("t", "x")
	h.write("keys/own.gpg", "key")
	h.write(".npmrc", "registry=http://registry-of-the-checkout.example/\n")
	// The lock is the stranger's too.
	h.write("trammel.local.toml", "[variables]\nLOCAL_VARIABLE = \"local-value\"\n")
	h.ok("lock")
	shown := h.try("approve").out
	for _, word := range []string{
		"weird-host-tool", "http://archive.example", "trixie", "keys/own.gpg", "EXPIRED", "http://proxy.example", "NO CHECKSUM DATABASE",
		"touch PARAM-DEFAULT", "touch PARAM-CHOICE", "then-value", "else-value", "touch SECRET-COMMAND", "/home/somebody/.ssh/id_rsa", "sub/authorized_keys", "SETTING-VALUE",
		"ITEM-WANTED", "ADDON-LIST", "ADDON-ADD", "ADDON-REMOVE", "ROUTINE", "touch ANSWER", "CARD_VARIABLE", "card-value", "CARD-ONCE", "CARD-RUN", "CARD-CONSOLE", "CARD-STALE", "CARD-READY",
		"CARD-SAVE", "CARD-LOAD", "OTHER-DEFAULT", "CARD-PUBLISH", "LOCAL_VARIABLE", "local-value", "registry-of-the-checkout.example", "isolation", "clean", "keeper", "1.0 from c",
	} {
		if !strings.Contains(shown, word) {
			t.Errorf("approve does not show %q:\n%s", word, shown)
		}
	}
	var out struct {
		ID      string
		Effects []struct{ Does, Name, Text, From, Digest string }
	}
	if err := json.Unmarshal([]byte(h.ok("approve", "--json")), &out); err != nil {
		t.Fatal(err)
	}
	if id := strings.TrimSpace(h.ok("approve", "--id")); id != out.ID || !strings.HasPrefix(id, "sha256:") || len(out.Effects) < 30 {
		t.Errorf("the id is %q and %q, of %d effects", id, out.ID, len(out.Effects))
	}
	seen := map[string]bool{}
	for _, e := range out.Effects {
		if seen[e.Does+e.Name] || e.From == "" || e.Digest == "" {
			t.Errorf("twice, or from nowhere: %+v", e)
		}
		seen[e.Does+e.Name] = true
	}
}

// The npm package behind a tool's name, and the install scripts that would run.
func TestApproveShowsTheNPMPackageAndItsScripts(t *testing.T) {
	t.Parallel()
	h := newHut(t, fishTool(t), "format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"22\"\ncounter = { version = \"2\", from = \"npm\", package = \"fishcount\", scripts = [\"native\"] }\n")
	h.wary = true
	h.ok("lock")
	for _, word := range []string{"fishcount", "native", "install script"} {
		if shown := h.try("approve").out; !strings.Contains(shown, word) {
			t.Errorf("approve does not show %q:\n%s", word, shown)
		}
	}
}

// Nothing that somebody wrote moves the cursor, hides itself or turns the direction, on any
// way to a terminal.
func TestForeignTextIsSeenAndSteersNothing(t *testing.T) {
	t.Parallel()
	h := stranger(t, `about = "\u001b]0;TITLE\u0007about \u202e"

[step.hide]
about = "\u001b[2Jabout"
run = "touch pwned\u001b[1A\u001b[2K\r"

[step.far]
run = "true                                                                                                                    ; touch FAR"

[step.below]
run = "true\n\n\n\n\n\n\n\n\n\n\n\ntouch BELOW"

[step.behind]
run = "true `+strings.Repeat("x", 9000)+`; touch BEHIND"

[step.under]
run = "`+strings.Repeat("true\\n", 5000)+`touch UNDER"

[step.bidi]
run = "echo \u202e\u2066 evil \u009b31m"

[step.fails]
run = "printf '\u001b]0;T\\007\\033[2J\\n'; exit 1"

[routine.r]
about = "\u001b[31mred"
run = "true"

[variables]
V = "\u001b[5m"
`)
	h.ok("lock")
	check := func(what string, text string) {
		t.Helper()
		for _, r := range text {
			if r == 0x1b || r == 0x07 || r == 0x0d || r >= 0x80 && r <= 0x9f || r == 0x202e || r == 0x2066 {
				t.Errorf("%s: %q is printed as it is:\n%q", what, r, text)
				return
			}
		}
	}
	for _, args := range [][]string{{"approve"}, {"show"}, {"show", "hide"}, {"show", "bidi"}, {"do"}, {"approve", "--yes"}, {"fit"}, {"show"}, {"verify"}, {"fit", "--print"}, {"lock", "--renew"}} {
		o := h.try(args...)
		check(strings.Join(args, " "), o.out+o.err)
	}
	h.ok("approve", "--revoke")
	shown := h.try("approve").out
	for _, word := range []string{`touch pwned\x1b[1A\x1b[2K`, "touch FAR", "touch BELOW", "touch BEHIND", "touch UNDER", "blanks]", "empty lines]", `\u202e`} {
		if !strings.Contains(shown, word) {
			t.Errorf("approve does not show %q:\n%s", word, shown)
		}
	}
	// On a terminal our own colours are the only escapes.
	on := h.session("approve")
	on.hears("touch FAR")
	on.hears("[y/N]")
	on.say("n")
	on.cmd.Wait()
	text := on.text()
	for _, word := range []string{"\x1b]0;", "\x1b[2J", "\x1b[1A", "\u202e", "\x07"} {
		if strings.Contains(text, word) {
			t.Errorf("the terminal got %q:\n%q", word, text)
		}
	}
}

// relock changes a lock as somebody would who can compute its digest.
func relock(t *testing.T, path string, change func(l *lock.Lock)) {
	t.Helper()
	l, err := lock.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	change(l)
	if err := l.WriteFile(path); err != nil {
		t.Fatal(err)
	}
}

// Every change of anything that takes effect asks again, and says what changed.
func TestEveryChangeAsksAgain(t *testing.T) {
	t.Parallel()
	const declaration = `isolation = "clean"

[param.p]
kind = "text"
default = "true"

[variables]
SHARED = "a"

[secret.S]
from = "file:s/key"

[file."out"]
template = "t"

[step.a]
run = "sh s/a.sh; echo @{param.p}"
needs = []

[service.db]
tool = "keeper"

[addon.x]
want = ["one"]
list = "cat things 2>/dev/null || true"
add = "echo @{item} >> things"
`
	tools := []tool{{"keeper", "echo 1.0", "variables = { CARD = \"1\" }\n[service]\nrun = \"sleep 600\"\n"}, {"own", "echo 1.0", ""}}
	in := func(h *hut, name string) string { return filepath.Join(h.dir, name) }
	item := func(name string, change func(i *lock.Item)) func(l *lock.Lock) {
		return func(l *lock.Lock) {
			i := l.Items[name]
			change(&i)
			l.Items[name] = i
		}
	}
	part := func(name string, change func(p *lock.Part)) func(l *lock.Lock) {
		return item(name, func(i *lock.Item) {
			for on, parts := range i.Platforms {
				p := parts[name]
				change(&p)
				i.Platforms[on][name] = p
			}
		})
	}
	for _, c := range []struct {
		name   string
		change func(t *testing.T, h *hut)
		lock   bool // lock again, as an author would
		words  string
	}{
		{"a step", func(t *testing.T, h *hut) { h.change("sh s/a.sh;", "sh s/a.sh; touch x;") }, true, "step a changed"},
		{"a script", func(t *testing.T, h *hut) { h.write("s/a.sh", "touch EVIL\n") }, false, "file s/a.sh changed"},
		{"a script that is a link now", func(t *testing.T, h *hut) {
			h.write("s/other", "touch EVIL\n")
			h.link("s/a.sh", "other")
		}, false, "file s/a.sh changed"},
		{"a default of a param", func(t *testing.T, h *hut) { h.change(`default = "true"`, `default = "touch x"`) }, true, "param p changed"},
		{"a variable", func(t *testing.T, h *hut) { h.change(`SHARED = "a"`, `SHARED = "b"`) }, true, "variable SHARED changed"},
		{"where a secret comes from", func(t *testing.T, h *hut) { h.change("file:s/key", "env:AWS_SECRET_ACCESS_KEY") }, true, "secret S changed"},
		{"a template", func(t *testing.T, h *hut) { h.write("t", "other") }, false, "file out changed"},
		{"where a file goes", func(t *testing.T, h *hut) { h.change(`[file."out"]`, `[file."out2"]`) }, true, "file out2 is new"},
		{"an add-on's item", func(t *testing.T, h *hut) { h.change(`want = ["one"]`, `want = ["two"]`) }, true, "add-on x wants changed"},
		{"a setting", func(t *testing.T, h *hut) {
			h.change(`tool = "keeper"`, "tool = \"keeper\"\nstop = { signal = \"KILL\" }")
		}, true, "service db"},
		{"the isolation", func(t *testing.T, h *hut) { h.change(`isolation = "clean"`, `isolation = "open"`) }, true, "isolation changed"},
		{"a host command", func(t *testing.T, h *hut) {
			h.change(`isolation = "clean"`, "isolation = \"clean\"\nhost = [\"curl\"]")
		}, true, "host command curl is new"},
		{"a source's address", func(t *testing.T, h *hut) {
			os.Rename(in(h, "tools"), in(h, "tools2"))
			h.change(`url = "tools"`, `url = "tools2"`)
		}, true, "source c changed"},
		{"the registry of a file", func(t *testing.T, h *hut) { h.write(".npmrc", "registry=http://evil.example/\n") }, false, "registry of npm packages"},

		// Edits of locks alone, whose digests anybody can compute.
		{"a lock's variable", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), item("keeper", func(i *lock.Item) { i.Variables = map[string]string{"CARD": "1", "BASH_ENV": "/evil"} }))
		}, false, "BASH_ENV"},
		{"a lock's service", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), item("keeper", func(i *lock.Item) { i.Service = map[string]string{"run": "touch EVIL"} }))
		}, false, "service db changed"},
		{"a lock's answer", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), item("keeper", func(i *lock.Item) { i.Answer, i.Match = "touch EVIL", "(.)" }))
		}, false, "answer of keeper is new"},
		{"a lock's archive", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), part("keeper", func(p *lock.Part) { p.Digest = fetch.Digest("sha256:" + strings.Repeat("0", 64)) }))
		}, false, "toolchain keeper has OTHER BYTES"},
		{"a lock's path", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), part("keeper", func(p *lock.Part) { p.Path = "files/own-1.0.tar.gz" }))
		}, false, "toolchain keeper"},
		{"a lock's commands", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), part("keeper", func(p *lock.Part) { p.Bin = map[string]string{"git": "bin/keeper"} }))
		}, false, "toolchain keeper"},
		{"a lock's picture", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), func(l *lock.Lock) { l.Pictures = map[string][]string{"x": {"evil==1"}} })
		}, false, "add-on x holds"},
		{"a tool that a lock has more", func(t *testing.T, h *hut) {
			relock(t, in(h, "trammel.lock"), func(l *lock.Lock) { l.Items["more"] = l.Items["keeper"] })
		}, false, "toolchain more "},

		// A person's own additions, which a checkout may bring.
		{"additions", func(t *testing.T, h *hut) {
			h.write("trammel.local.toml", "[variables]\nLD_PRELOAD = \"./evil.so\"\n")
		}, true, "variable LD_PRELOAD (local) is new"},
		{"the additions' lock", func(t *testing.T, h *hut) {
			h.write("trammel.local.toml", "[toolchain]\nown = \"1.0\"\n")
			h.ok("lock")
			h.ok("approve", "--yes")
			h.ok("fit")
			relock(t, in(h, "trammel.local.lock"), item("own", func(i *lock.Item) { i.Variables = map[string]string{"BASH_ENV": "/evil"} }))
		}, false, "variable BASH_ENV by the card of own (local) is new"},
		{"the additions' archive", func(t *testing.T, h *hut) {
			h.write("trammel.local.toml", "[toolchain]\nown = \"1.0\"\n")
			h.ok("lock")
			h.ok("approve", "--yes")
			h.ok("fit")
			relock(t, in(h, "trammel.local.lock"), part("own", func(p *lock.Part) { p.Digest = fetch.Digest("sha256:" + strings.Repeat("1", 64)) }))
		}, false, "toolchain own (local) has OTHER BYTES"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := stranger(t, declaration+catalogOf("keeper"), tools...)
			h.write("s/a.sh", "true\n")
			h.write("s/key", "k")
			h.write("t", "x")
			h.ok("lock")
			h.ok("approve", "--yes")
			h.ok("fit")
			h.keepsPlan()
			id := strings.TrimSpace(h.ok("approve", "--id"))
			c.change(t, h)
			if c.lock {
				h.ok("lock")
			}
			for _, args := range [][]string{{"fit"}, {"run", "--", "true"}, {"start"}, {"shell"}, {"do", "none"}, {"data", "save", "db", "-"}} {
				h.fails(4, []string{"changed since you approved it"}, args...)
			}
			// Nothing of the project: only what the host has is hidden, as it was before the change.
			hidden := "__trammel_set PATH " + filepath.Join(h.home, "data/host") + "/"
			o := h.try("follow", "--enter", h.dir, "--of", "1", "bash")
			o.out = regexp.MustCompile(`(?m)^__trammel_changed.*$`).ReplaceAllString(o.out, "") // what is watched is set nowhere
			if strings.Count(o.out, "__trammel_set") != strings.Count(o.out, hidden) || strings.Contains(o.out, h.dir+"/.trammel") || strings.Contains(o.out, "/frames/") {
				t.Errorf("a shell that follows gets it:\n%s", o.out)
			}
			if o = h.try("approve"); !strings.Contains(o.out+h.try("fit").err, c.words) {
				t.Errorf("it does not say %q:\n%s%s", c.words, o.out, h.try("fit").err)
			}
			env := h.env
			h.env = append(slices.Clone(env), "TRAMMEL_APPROVE="+id)
			for _, args := range [][]string{{"fit"}, {"run", "--", "true"}} {
				h.fails(4, []string{"another approval id"}, args...)
			}
			h.env = env
			if ran := h.ran(); len(ran) > 0 || h.there("EVIL") {
				t.Errorf("it ran: %v", ran)
			}
		})
	}
}

// A machine without a person: the id covers all of it, on every path.
func TestTheApprovalIDIsCheckedOnEveryPath(t *testing.T) {
	t.Parallel()
	h := stranger(t, "\n[step.a]\nrun = \"sh s/a.sh\"\n\n[routine.r]\nrun = \"sh s/a.sh\"\n")
	h.write("s/a.sh", "echo ran >> ran\n")
	h.ok("lock")
	id := strings.TrimSpace(h.ok("approve", "--id"))
	env := h.env
	with := func(id string) { h.env = append(slices.Clone(env), "TRAMMEL_APPROVE="+id) }
	with(id)
	h.ok("fit")
	h.keepsPlan()
	with(strings.TrimPrefix(id, "sha256:"))
	h.ok("run", "--", "true")
	for _, wrong := range []string{"wrong", strings.Repeat("0", 64), id + "0", "sha256:"} {
		with(wrong)
		for _, args := range [][]string{{"run", "--", "true"}, {"do", "r"}, {"fit"}, {"shell"}} {
			h.fails(4, []string{"another approval id"}, args...)
		}
	}
	h.env = env
	h.fails(4, nil, "run", "--", "true") // consent was the variable's, and goes with it
	with(id)
	h.write("s/a.sh", "touch EVIL\n")
	for _, args := range [][]string{{"do", "r"}, {"fit"}, {"run", "--", "true"}} {
		h.fails(4, []string{"another approval id"}, args...)
	}
	if h.there("EVIL") {
		t.Error("the other script ran")
	}
}

// Other bytes under the same version are the loudest line there is.
func TestOtherBytesUnderTheSameVersionAreSaidFirst(t *testing.T) {
	t.Parallel()
	h := stranger(t, "\n[variables]\nA = \"1\"\n"+catalogOf("keeper"), tool{"keeper", "echo good", ""})
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.publish(tool{"keeper", "echo BACKDOOR", ""})
	h.change(`A = "1"`, `A = "2"`)
	out := h.ok("lock", "--renew")
	if !strings.Contains(out, "HAS OTHER BYTES") || strings.Contains(out, "nothing changed") || strings.Index(out, "HAS OTHER BYTES") > strings.Index(out, "variable A") {
		t.Errorf("lock:\n%s", out)
	}
	var list struct{ Changes []string }
	if err := json.Unmarshal([]byte(h.ok("recall", "--against", "1", "--json")), &list); err != nil || len(list.Changes) == 0 || !strings.Contains(list.Changes[0], "HAS OTHER BYTES") {
		t.Errorf("recall --against: %v %q", err, list.Changes)
	}
	o := h.fails(4, []string{"OTHER BYTES"}, "fit")
	if !strings.Contains(strings.SplitN(o.err, "\n", 2)[0], "OTHER BYTES") {
		t.Errorf("it is not said first: %s", o.err)
	}
	shown := h.try("approve").out
	if lines := strings.Split(shown, "\n"); !strings.Contains(lines[1], "OTHER BYTES") {
		t.Errorf("approve:\n%s", shown)
	}
	h.fails(4, nil, "run", "--", "keeper")
}

// A step that makes the script it runs keeps its consent: a fresh clone is one go.
func TestAStepThatMakesWhatItRunsKeepsConsent(t *testing.T) {
	t.Parallel()
	h := stranger(t, "\n[step.env]\nrun = \"\"\"\nmkdir -p .venv/bin\nprintf '#!/bin/sh\\necho it installs\\n' > .venv/bin/installer\nchmod +x .venv/bin/installer\n.venv/bin/installer\n\"\"\"\nreads = [\"want\"]\nmakes = [\".venv\"]\n\n[routine.again]\nrun = \".venv/bin/installer\"\n")
	h.write("want", "1")
	h.ok("lock")
	h.ok("fit", "--approve")
	h.ok("run", "--", "true")
	h.ok("do", "again")
	if out := h.ok("approve"); !strings.Contains(out, "approved as it is") {
		t.Errorf("after its own step it asks again:\n%s", out)
	}
	h.write("want", "2")
	h.ok("fit")
	h.ok("do", "again")

	// The same on a machine without a person.
	ci := h.elsewhere(nil)
	ci.wary = true
	ci.write("want", "1")
	ci.env = append(ci.env, "TRAMMEL_APPROVE="+strings.TrimSpace(ci.ok("approve", "--id")))
	ci.ok("fit")
	ci.ok("do", "again")
	ci.ok("verify")

	// The id is that of the declaration, whether the step was run or not.
	if a, b := h.ok("approve", "--id"), ci.ok("approve", "--id"); a != b || ci.ok("approve", "--id") != a {
		t.Errorf("the ids are %s and %s", a, b)
	}

	// But what somebody else puts in its place does ask.
	h.write(".venv/bin/installer", "#!/bin/sh\ntouch EVIL\n")
	h.fails(4, []string{".venv/bin/installer changed"}, "do", "again")
}
