package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/standin"
)

// The weir's own tools as packages: scripts, so that they are small and run only
// where the root has a shell.
func toolDeb(name, version, more string) standin.Deb {
	return standin.Deb{Name: name, Version: version, Arch: "all", Packed: "xz", Files: []standin.File{
		{Name: "./usr/bin/" + name, Content: "#!/bin/sh\n[ \"$1\" = --version ] && echo " + name + " " + debian.Upstream(version) + " && exit\n" + more + "\n", Mode: 0o755},
		{Name: "./usr/share/doc/" + name + "/README", Content: "about\n"},
	}}
}

// archives is a stand-in with two suites, or the test is skipped.
func archives(t *testing.T) (s *standin.Server, weir, oldweir *standin.Archive) {
	t.Helper()
	linuxOnly(t)
	if err := sandbox.Available(); err != nil {
		t.Skip("the kernel gives no namespaces here")
	}
	s = standin.New()
	t.Cleanup(s.Close)
	s.PutNode("22.12.0")
	weir, oldweir = s.Debian("weir", "weir"), s.Debian("oldweir", "oldweir")
	for _, a := range []*standin.Archive{weir, oldweir} {
		if !a.PutHostBase(debian.Base()) {
			t.Skip("a base system cannot be taken from this machine")
		}
	}
	tally := toolDeb("tallydb-17", "17.2-1+weir1", "cat /usr/share/tallydb/species; exec \"$@\"")
	tally.Fields = map[string]string{"Depends": "species (>= 2), bash | zsh, adduser"}
	weir.Put(tally, toolDeb("lure", "1.4.2-1", "echo lured by $(id -u)"),
		standin.Deb{Name: "species", Version: "2.0-1", Arch: "all", Packed: "zst", Files: []standin.File{{Name: "./usr/share/tallydb/species", Content: "silverfin\n"}}})
	old := toolDeb("tallydb-13", "13.5-2", "echo old: \"$@\"")
	oldweir.Put(old)
	weir.Publish()
	oldweir.Publish()
	return s, weir, oldweir
}

// declared is a declaration with the two suites.
func declared(weir, oldweir *standin.Archive, isolation, toolchain string) string {
	return fmt.Sprintf(`format = 1
project = "heronweir"
isolation = %q

[source.weir]
kind = "debian"
suite = "weir"
url = %q
keyring = "keys/weir.asc"

[source.oldweir]
kind = "debian"
suite = "oldweir"
url = %q
keyring = "keys/oldweir.asc"

[toolchain]
%s
`, isolation, weir.URL(), oldweir.URL(), toolchain)
}

const (
	newTally = `tally = { version = "17", from = "weir", package = "tallydb-17" }` + "\n"
	oldTally = `tally-old = { version = "13", from = "oldweir", package = "tallydb-13" }` + "\n"
)

func sealedHut(t *testing.T, s *standin.Server, weir, oldweir *standin.Archive, isolation, toolchain string) *hut {
	t.Helper()
	h := newHut(t, s, declared(weir, oldweir, isolation, toolchain))
	h.write("keys/weir.asc", weir.Keys())
	h.write("keys/oldweir.asc", oldweir.Keys())
	return h
}

// fitted locks and fits.
func (h *hut) fitted() {
	h.t.Helper()
	h.ok("lock")
	h.ok("fit")
}

func TestASealedShellHasTheRootAndNothingOfTheHost(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	if out := h.ok("lock"); !strings.Contains(out, "+ tally 17.2") || !strings.Contains(out, "+ root weir:") {
		t.Errorf("%s", out)
	}
	h.ok("fit")
	if got := h.ok("run", "--", "tallydb-17", "echo", "ran"); got != "silverfin\nran\n" {
		t.Errorf("the tool says %q", got)
	}
	onlyHost := filepath.Join(t.TempDir(), "only-the-host-has-this")
	os.WriteFile(onlyHost, []byte("#!/bin/sh\necho visible\n"), 0o755)
	inside := h.ok("run", "--", "bash", "-c", `ls -d /usr/bin/tallydb-17; ls `+onlyHost+` /usr/bin/dpkg /usr/bin/env-that-is-not 2>&1 | grep -c "cannot access"
		touch /usr/x /etc/x /x 2>&1 | grep -c -i read-only; echo kept > made; pwd; id -u; echo "$HOME"; echo ${SECRET-hidden}; ls / | head -20; ls /proc | grep -c '^[0-9]'`)
	lines := strings.Split(inside, "\n")
	uid := os.Getuid()
	if uid == 0 {
		uid = 1000
	}
	home := globs(h.home, "state/homes/*/sealed")[0]
	if want := []string{"/usr/bin/tallydb-17", "3", "3", h.dir, fmt.Sprint(uid), home, "hidden"}; !slices.Equal(lines[:7], want) {
		t.Errorf("inside: %q, not %q", lines, want)
	}
	if strings.TrimSpace(h.read("made")) != "kept" {
		t.Error("what was written into the project is not there")
	}
	if info, err := os.Stat(filepath.Join(h.dir, "made")); err != nil || int(info.Sys().(*syscall.Stat_t).Uid) != os.Getuid() {
		t.Errorf("it belongs to somebody else: %v", err)
	}
	for script, code := range map[string]int{"exit 7": 7, "kill -TERM $$": 143, "kill -KILL $$": 137, "true": 0} {
		if o := h.try("run", "--", "sh", "-c", script); o.code != code {
			t.Errorf("%s: exit code %d\n%s", script, o.code, o.err)
		}
	}
	h.fails(127, []string{"no-such-tool is not part of heronweir"}, "run", "--", "no-such-tool")
	h.fails(126, nil, "run", "--", "/etc/passwd")
	if out := h.ok("verify", "--deep"); !strings.Contains(out, "All 7 hold") {
		t.Error(out)
	}
	if out := h.ok("show"); !strings.Contains(out, "sealed") || !strings.Contains(out, "packages") {
		t.Error(out)
	}
	if out := h.ok("show", "weir"); !strings.Contains(out, "tallydb-17 17.2-1+weir1") || !strings.Contains(out, "takes") {
		t.Error(out)
	}
}

func TestAnOrdinaryUserAndAnotherMachineGetTheSameRoot(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	locked := h.read("trammel.lock")
	other := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	other.write("trammel.lock", locked)
	if os.Getuid() == 0 {
		asOrdinaryUser(t, other)
	}
	other.ok("fit")
	if other.read("trammel.lock") != locked {
		t.Error("the lock changed on another machine")
	}
	if got := other.ok("run", "--", "tallydb-17", "true"); got != "silverfin\n" {
		t.Errorf("%q", got)
	}
	// With the archive gone the locked root is still there for whoever has it.
	s.Fail("/weir/", standin.NotFound)
	h.ok("fit")
	h.ok("run", "--", "true")
}

func TestTwoSuitesLiveInOneProjectEachToolInItsOwnRoot(t *testing.T) {
	s, weir, oldweir := archives(t)
	for _, isolation := range []string{"open", "clean", "sealed"} {
		h := sealedHut(t, s, weir, oldweir, isolation, newTally+oldTally+"node = \"22\"\n")
		h.fitted()
		if got := h.ok("run", "--", "tallydb-17", "tallydb-13", "from within"); got != "silverfin\nold: from within\n" {
			t.Errorf("%s: %q", isolation, got)
		}
		if got := h.ok("run", "--", "tallydb-13", "alone"); got != "old: alone\n" {
			t.Errorf("%s: %q", isolation, got)
		}
		if got := h.ok("run", "--", "node", "--version"); got != "v22.12.0\n" {
			t.Errorf("%s: node says %q", isolation, got)
		}
		if isolation == "sealed" {
			continue
		}
		// The host is around the tool, and its own tools beside it.
		beside := filepath.Join(t.TempDir(), "of-the-host")
		os.WriteFile(beside, []byte("seen\n"), 0o644)
		if got := h.ok("run", "--", "tallydb-17", "sh", "-c", "cat "+beside+"; node --version; echo in > here"); got != "silverfin\nseen\nv22.12.0\n" {
			t.Errorf("%s: %q", isolation, got)
		}
		if h.read("here") != "in\n" {
			t.Error("it wrote nothing")
		}
		if o := h.try("run", "--", "tallydb-17", "sh", "-c", "exit 9"); o.code != 9 {
			t.Errorf("%s: exit code %d", isolation, o.code)
		}
		if out, err := exec.Command(filepath.Join(h.dir, ".trammel/bin/tallydb-13"), "by path").Output(); err != nil || string(out) != "old: by path\n" {
			t.Errorf("%s: from outside %q %v", isolation, out, err)
		}
	}
	h := sealedHut(t, s, weir, oldweir, "clean", newTally)
	h.fitted()
	if got := h.ok("run", "--isolation", "sealed", "--", "sh", "-c", "ls /home | wc -l"); !strings.HasPrefix(got, "0") && strings.HasPrefix(h.dir, "/tmp") {
		t.Errorf("a sealed run shows homes: %q", got)
	}
	h = newHut(t, s, "format = 1\nproject = \"heronweir\"\n")
	h.fitted()
	h.fails(2, []string{"no root to be sealed in"}, "run", "--isolation", "sealed", "--", "true")
	h.write("trammel.toml", "format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n")
	h.fails(2, []string{"needs a source of kind debian", "trammel.toml:3"}, "lock")
}

func TestStepsServicesAndRoutinesRunSealed(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally+`
[step.tables]
run = """
tallydb-17 true > @{bay.dir}/tables
for n in 1 2; do echo lane $n >> @{bay.dir}/tables; done
ls /usr/bin/dpkg || echo sealed >> @{bay.dir}/tables
"""

[service.lane]
needs = ["step.tables"]
run   = "bash -c 'trap \"echo stopping; exit 0\" TERM; cat @{bay.dir}/tables > served; echo serving; while :; do sleep 0.05; done'"
ready = { log = "serving" }

[service.stubborn]
run   = "bash -c 'trap \"\" TERM; (setsid sleep `+seconds(7777)+` &) ; echo up; while :; do sleep 0.05; done'"
ready = { log = "up" }
stop  = { within = "200ms" }

[routine.species]
run = "tallydb-17 echo counted"
`)
	h.fitted()
	h.ok("start")
	if got := h.read("served"); got != "silverfin\nlane 1\nlane 2\nsealed\n" {
		t.Errorf("the step made %q", got)
	}
	if got := h.ok("do", "species", "twice"); got != "silverfin\ncounted twice\n" {
		t.Errorf("the routine says %q", got)
	}
	if out := h.ok("verify"); !strings.Contains(out, "2 run the locked build") {
		t.Error(out)
	}
	h.ok("stop")
	if out := h.ok("logs", "lane"); strings.Count(out, "stopping") != 1 {
		t.Errorf("it was told to stop otherwise than once:\n%s", out)
	}
	eventually(t, "nothing is left", func() bool { return len(withArgument(seconds(7777))) == 0 })
}

// withArgument lists processes that have an argument.
func withArgument(argument string) []string {
	var out []string
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range all {
		if b, err := os.ReadFile(f); err == nil && slices.Contains(strings.Split(string(b), "\x00"), argument) {
			out = append(out, f)
		}
	}
	return out
}

// seconds is how long something sleeps that is looked for by that number: longer than any test,
// and another number for each run of the tests that goes on at the same time.
func seconds(n int) string { return fmt.Sprintf("%d%07d", n, os.Getpid()) }

// stateOf is the state of the last process with an argument, as ps(1) has it.
func stateOf(argument string) string {
	found := withArgument(argument)
	if len(found) == 0 {
		return ""
	}
	state := ""
	for _, f := range found {
		raw, _ := os.ReadFile(filepath.Join(filepath.Dir(f), "stat"))
		_, rest, _ := strings.Cut(string(raw), "(sleep) ")
		if rest != "" {
			state = rest[:1]
		}
	}
	return state
}

func TestKillingASealedRunLeavesNothing(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	mark := seconds(8888)
	for _, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGTERM} {
		c := h.command("run", "--", "bash", "-c", "(setsid sleep "+mark+" &); sleep "+mark)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, "it sleeps", func() bool { return len(withArgument(mark)) >= 2 })
		c.Process.Signal(signal)
		c.Wait()
		eventually(t, "nothing is left", func() bool { return len(withArgument(mark)) == 0 })
	}
}

func TestAnArchiveThatLiesIsNotBelieved(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.write("keys/weir.asc", oldweir.Keys())
	h.fails(5, []string{"is not to be trusted", "[source.weir]"}, "lock")
	h.write("keys/weir.asc", "")
	h.fails(5, []string{"keys", "weir"}, "lock")
	os.Remove(filepath.Join(h.dir, "keys/weir.asc"))
	h.fails(5, []string{"there are no keys"}, "lock")
	h.write("keys/weir.asc", weir.Keys())
	for _, part := range []string{"InRelease", "by-hash"} {
		for _, f := range []standin.Fault{standin.WrongBytes, standin.Broken, standin.NotFound, standin.Empty, standin.Endless} {
			s.Fail(part, f)
			h.fails(5, nil, "lock")
			s.Fail(part, "")
		}
	}
	h.ok("lock")
	h.change("suite = \"weir\"", "suite = \"trout\"")
	h.fails(5, []string{`has no suite "trout"`}, "lock")
	h.change("suite = \"trout\"", "suite = \"weir\"")
	os.Remove(filepath.Join(h.dir, "trammel.lock"))
	weir.Until = time.Now().Add(-time.Hour)
	weir.Publish()
	h.fails(5, []string{"was valid until", "expired = true"}, "lock")
	h.change("suite = \"weir\"", "suite = \"weir\"\nexpired = true")
	h.ok("lock")
	for _, f := range []standin.Fault{standin.WrongBytes, standin.NotFound, standin.Endless, standin.Broken} {
		words := []string{}
		if f == standin.NotFound {
			words = []string{"does not have tallydb-17 17.2-1+weir1 any more", "lock --renew"}
		}
		s.Fail("tallydb-17", f)
		os.RemoveAll(filepath.Join(h.home, "cache/archives")) // what lock looked into
		h.fails(5, words, "fit")
		s.Fail("tallydb-17", "")
		if left, _ := filepath.Glob(filepath.Join(h.home, "data/store/*weir*")); len(left) > 0 {
			t.Errorf("%s left %q", f, left)
		}
	}
	h.ok("fit")
}

func TestAByteThatChangedInARootIsFoundAndMended(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	found, _ := filepath.Glob(filepath.Join(h.home, "data/store/*-weir-*/usr/share/tallydb/species"))
	if len(found) != 1 {
		t.Fatalf("%q", found)
	}
	info, _ := os.Stat(found[0])
	os.Chmod(found[0], 0o644)
	os.WriteFile(found[0], []byte("silverfiX\n"), 0o644)
	os.Chtimes(found[0], info.ModTime(), info.ModTime()) // stamps alone would not see it
	o := h.fails(3, []string{"usr/share/tallydb/species", "changed", "trammel fit"}, "verify", "--deep")
	if strings.Contains(o.out, "fit tally") {
		t.Errorf("a root is no tool's own:\n%s", o.out)
	}
	if out := h.ok("fit"); !strings.Contains(out, "mended") {
		t.Error(out)
	}
	h.ok("verify", "--deep")
	if got := h.ok("run", "--", "tallydb-17", "true"); got != "silverfin\n" {
		t.Errorf("%q", got)
	}
	// The host's part of the root is seen by its stamps alone.
	os.Chmod(filepath.Dir(found[0]), 0o755)
	os.WriteFile(filepath.Join(filepath.Dir(found[0]), "extra"), nil, 0o644)
	h.fails(3, []string{"usr/share/tallydb/extra", "extra"}, "verify")
	h.ok("fit")
	h.ok("verify")
}

func TestAddingAToolMovesNoOtherAndRenewingDoes(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "clean", newTally)
	h.fitted()
	first := h.read("trammel.lock")
	weir.Put(standin.Deb{Name: "species", Version: "3.0-1", Arch: "all", Files: []standin.File{{Name: "./usr/share/tallydb/species", Content: "mill trout\n"}}})
	weir.At = weir.At.Add(24 * time.Hour)
	weir.Publish()
	h.ok("lock")
	if h.read("trammel.lock") != first {
		t.Error("the lock moved with the archive")
	}
	out := h.ok("lock", "--renew", "tally")
	if !strings.Contains(out, "weir: species 2.0-1 → 3.0-1") || strings.Contains(out, "bash") {
		t.Errorf("renewing says\n%s", out)
	}
	// A new tool takes what is locked as it is, though the archive has newer.
	weir.Put(standin.Deb{Name: "sed", Version: "9-1", Files: []standin.File{{Name: "./usr/share/sed/new"}}})
	weir.Publish()
	h.change(newTally, newTally+"lure = { version = \"1\", from = \"weir\", package = \"lure\" }\n")
	if out := h.ok("lock"); !strings.Contains(out, "+ lure 1.4.2") || !strings.Contains(out, "weir: sed 1.0-1 → 9-1") || strings.Contains(out, "species") {
		t.Errorf("adding says\n%s", out)
	}
}

func TestToolsOfAnArchiveAreDeclaredAndFound(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	lib := toolDeb("python3-trout", "0.3-1", "")
	lib.Files = []standin.File{{Name: "./usr/lib/python3/dist-packages/trout.py", Content: "x = 1\n"}}
	weir.Put(lib, toolDeb("jq", "1.7.1-3", "echo '{}'"), toolDeb("clashes", "1-1", ""), toolDeb("needy", "1-1", ""))
	weir.Publish()
	h := sealedHut(t, s, weir, oldweir, "clean", newTally+"python3-trout = \"latest\"\njq = \"1.7\"\n")
	h.fitted()
	if got := h.ok("run", "--", "jq"); got != "{}\n" {
		t.Errorf("%q", got)
	}
	if out := h.ok("find", "jq"); !strings.Contains(out, "1.7.1") || !strings.Contains(out, "weir") {
		t.Error(out)
	}
	if out := h.ok("sources"); !strings.Contains(out, "oldweir  debian  ok") {
		t.Error(out)
	}
	h.fails(2, []string{"no version of jq satisfies", "1.7.1"}, "run", "--trial", "jq=2", "--", "jq")
	h.change(`jq = "1.7"`, `nginx = "1"`)
	h.fails(2, nil, "lock") // the archive has no such package
	h.change(`nginx = "1"`, `redis = { version = "7", from = "npm" }`)
	h.fails(2, []string{"redis is not to be had from"}, "lock")
	other := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nredis = \"7\"\n")
	other.fails(2, []string{"redis comes from a Debian archive", "kind  = \"debian\"", "trammel.toml:5"}, "lock")
	// A root that cannot be says why.
	needy := toolDeb("needy", "1-1", "")
	needy.Fields = map[string]string{"Depends": "eel (>= 9)"}
	clashes := toolDeb("clashes", "1-1", "")
	clashes.Fields = map[string]string{"Conflicts": "species"}
	weir.Put(needy, clashes)
	weir.Publish()
	h.change(`redis = { version = "7", from = "npm" }`, `needy = { version = "1", from = "weir", package = "needy" }`)
	h.fails(2, []string{"needy needs eel (>= 9)"}, "lock")
	h.change(`"needy" }`, `"clashes" }`)
	h.fails(2, []string{"clashes conflicts with species"}, "lock")
}

func TestDocumentationComesWhenItIsAskedFor(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	ls := []string{"run", "--", "sh", "-c", "ls /usr/share/doc/tallydb-17 2>/dev/null; true"}
	if got := h.ok(ls...); got != "" {
		t.Errorf("there is %q", got)
	}
	h.change("suite = \"weir\"", "suite = \"weir\"\ndocs = true")
	h.fails(2, []string{"trammel lock"}, "fit")
	h.ok("lock")
	h.ok("fit")
	if got := h.ok(ls...); got != "README\n" {
		t.Errorf("there is %q", got)
	}
}

func TestSweepingKeepsRootsInUseAndTheirPackages(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	store := func(pattern string) int {
		found, _ := filepath.Glob(filepath.Join(h.home, "data/store", pattern))
		return len(found)
	}
	h.ok("sweep")
	if store("*-species-2.0-1") != 1 || store("*-weir-2026-02-03") != 1 {
		t.Error("a sweep took what is in use")
	}
	h.ok("run", "--", "tallydb-17", "true")
	// Away from the archive, the old root goes with the second lock after it.
	h.change(newTally, "")
	h.change(`isolation = "sealed"`, `isolation = "clean"`)
	h.ok("lock")
	h.ok("fit")
	h.ok("sweep")
	if store("*-species-2.0-1") != 1 {
		t.Error("the way back is lost")
	}
	h.write("trammel.toml", h.read("trammel.toml")+"\n[variables]\nWEIR_UNITS = \"fish\"\n")
	h.ok("lock")
	out := h.ok("sweep")
	if store("*-species-2.0-1") != 0 || store("*-weir-2026-02-03") != 0 || !strings.Contains(out, "MiB freed") {
		t.Errorf("it kept what nobody uses:\n%s", out)
	}
}

func TestASealedShellIsAWholeTerminal(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	w := h.start("bash", "--norc", "-i")
	w.say("echo up$((1+1))")
	w.hears("up2")
	w.say(program + " shell")
	w.hears("heronweir | ")
	w.say("stty size; tty")
	w.hears("24 100")
	w.hears("/dev/console")
	w.say("sleep " + seconds(6666))
	eventually(t, "it sleeps", func() bool { return stateOf(seconds(6666)) == "S" })
	w.say("\x03")
	w.say("echo after $?")
	w.hears("after 130")
	w.say("exit 5")
	w.say("echo code $?")
	w.hears("code 5")
	// A single command is one job of the shell outside.
	w.say(program + " run -- sleep " + seconds(6665))
	eventually(t, "it sleeps", func() bool { return stateOf(seconds(6665)) == "S" })
	w.say("\x1a")
	w.hears("Stopped")
	eventually(t, "it is stopped", func() bool { return stateOf(seconds(6665)) == "T" })
	w.say("fg")
	eventually(t, "it goes on", func() bool { return stateOf(seconds(6665)) == "S" })
	w.say("\x03")
	w.say("echo code $?")
	w.hears("code 130")
	eventually(t, "it is gone", func() bool { return len(withArgument(seconds(6665))) == 0 })
}

func TestWithoutNamespacesNothingRunsLessIsolated(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	unshare, err := exec.LookPath("unshare")
	if err != nil {
		lacks.Program(t, "unshare")
	}
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.fitted()
	// A user namespace may lie in 32 others; in the last the kernel refuses one more
	// (user_namespaces(7)).
	var nested []string
	for range 33 {
		nested = append(nested, unshare, "-r")
	}
	for _, args := range [][]string{{"run", "--", "touch", "ran"}, {"shell"}} {
		c := exec.Command(nested[0], append(append(nested[1:], program), args...)...)
		c.Dir, c.Env = h.dir, h.env
		out, err := c.CombinedOutput()
		if err == nil || !strings.Contains(string(out), "sealed isolation needs user namespaces") || !strings.Contains(string(out), "max_user_namespaces") {
			t.Errorf("%q: %v\n%s", args, err, out)
		}
	}
	if _, err := os.Stat(filepath.Join(h.dir, "ran")); err == nil {
		t.Error("it ran all the same")
	}
}

func TestSeveralSuitesOfOneArchiveAreOneSource(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	updates := weir.Also("weir-updates")
	updates.Put(standin.Deb{Name: "species", Version: "2.1-1", Arch: "all", Files: []standin.File{{Name: "./usr/share/tallydb/species", Content: "redgill\n"}}})
	updates.Publish()
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.ok("lock")
	h.change(`suite = "weir"`, `suite = ["weir", "weir-updates"]`)
	if out := h.ok("lock"); !strings.Contains(out, "weir: species 2.0-1 → 2.1-1") {
		t.Error(out)
	}
	h.ok("fit")
	if got := h.ok("run", "--", "tallydb-17", "true"); got != "redgill\n" {
		t.Errorf("%q", got)
	}
	h.change(`"weir-updates"]`, `"weir-updates"]`+"\ncomponents = [\"contrib\"]")
	h.fails(5, []string{`has no component "contrib"`}, "lock")
}

// A script whose interpreter is not in the root says so, and not that it is not there itself.
func TestAScriptWithoutItsInterpreter(t *testing.T) {
	t.Parallel()
	_, weir, _ := archives(t)
	odd := toolDeb("lure", "1.0-1", "")
	for i, f := range odd.Files {
		if strings.HasSuffix(f.Name, "bin/lure") {
			odd.Files[i].Content = "#!/usr/bin/fishing --fast\ncast\n"
		}
	}
	weir.Put(odd)
	weir.Publish()
	for _, isolation := range []string{"sealed", "clean"} {
		h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = %q\n\n[source.weir]\nkind = \"debian\"\nsuite = \"weir\"\nurl = %q\nkeyring = \"keys/weir.asc\"\n\n[toolchain]\nlure = { version = \"1\", from = \"weir\", package = \"lure\" }\n", isolation, weir.URL()))
		h.write("keys/weir.asc", weir.Keys())
		h.ok("lock")
		h.fitted()
		h.fails(126, []string{"it is a script for /usr/bin/fishing, which is not in this root"}, "run", "--", "lure")
	}
}

// A program of a package runs while a root is made, and the root's files are the store's, too:
// what it changes of them is found, and nobody else gets it.
func TestAProgramThatChangesARootWhileItIsMade(t *testing.T) {
	t.Parallel()
	s, weir, _ := archives(t)
	evil := map[string]string{
		"appended":  `echo 'echo evil' >> /usr/bin/gaff`,
		"emptied":   `: > /usr/bin/gaff`,
		"and fails": `echo 'echo evil' >> /usr/bin/gaff; exit 3`,
	}
	for name, script := range evil {
		weir.Put(toolDeb("gaff", "1.0-1", "echo gaffed"), toolDeb("dot", "1.0-1", "[ \"$1\" = -c ] || exit 0\n"+script))
		weir.Publish()
		declaration := func(tools string) string {
			return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.weir]\nkind = \"debian\"\nsuite = \"weir\"\nurl = %q\nkeyring = \"keys/weir.asc\"\n\n[toolchain]\ngaff = { version = \"1\", from = \"weir\", package = \"gaff\" }\n%s", weir.URL(), tools)
		}
		h := newHut(t, nil, declaration("dot = { version = \"1\", from = \"weir\", package = \"dot\" }\n"))
		h.write("keys/weir.asc", weir.Keys())
		h.ok("lock")
		h.fails(5, []string{"is not to be trusted", "/usr/bin/gaff", "Nothing of it was kept"}, "fit", "--approve")
		// Another project of the same person has the package as it is published.
		other := newHut(t, nil, declaration(""))
		other.home, other.env = h.home, h.env
		other.write("keys/weir.asc", weir.Keys())
		other.ok("lock")
		other.fitted()
		if got := other.ok("run", "--", "gaff"); got != "gaffed\n" {
			t.Errorf("%s: %q", name, got)
		}
		other.ok("verify", "--deep")
	}
	_ = s
}
