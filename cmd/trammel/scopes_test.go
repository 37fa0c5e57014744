package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestATrialChangesNothing(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("lock")
	h.ok("fit")
	toml, lock, plan := h.read("trammel.toml"), h.read("trammel.lock"), planOf(t, h)
	version := []string{"--", "sh", "-c", "go version; node --version; bun --version 2>/dev/null || true"}
	if out := h.ok(append([]string{"run", "--trial", "go=1.22"}, version...)...); !strings.Contains(out, "go1.22.9") || !strings.Contains(out, "v22.12.0") {
		t.Errorf("run --trial:\n%s", out)
	}
	env := h.env
	h.env = append(env, "TRAMMEL_TRIAL=node=18,go=1.26")
	if out := h.ok(append([]string{"run"}, version...)...); !strings.Contains(out, "go1.26.0") || !strings.Contains(out, "v18.20.4") {
		t.Errorf("TRAMMEL_TRIAL:\n%s", out)
	}
	h.env = env
	if out := h.ok(append([]string{"run"}, version...)...); !strings.Contains(out, "go1.24.6") {
		t.Errorf("after the trials:\n%s", out)
	}
	if h.read("trammel.toml") != toml || h.read("trammel.lock") != lock || plan != "" && planOf(t, h) != plan {
		t.Error("a trial changed the checkout")
	}
	h.fails(2, []string{`no version of go satisfies "9"`}, "run", "--trial", "go=9", "--", "true")
	h.fails(2, []string{`"=1" is not TOOL=ASK`}, "run", "--trial", "=1", "--", "true")
	h.fails(2, []string{"no card is known", `Did you mean "node"?`}, "run", "--trial", "nodee=1", "--", "true")
}

func TestPersonalAdditionsAreKeptApart(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, strings.Replace(goAndNode, "node = \"22\"\n", "", 1))
	h.ok("lock")
	h.ok("fit")
	shared, id := h.read("trammel.lock"), environmentID(h)

	if o := h.try("set", "--local", "node=22"); o.code != 0 || !strings.Contains(o.out, "+ node 22.12.0   (yours)") || !strings.Contains(o.err, "keep it out of version control") {
		t.Errorf("set --local:\n%s%s", o.out, o.err)
	}
	h.write("trammel.local.toml", h.read("trammel.local.toml")+"\n[variables]\nMY_EDITOR = \"vi\"\n")
	h.fails(2, []string{"trammel.local.toml changed after"}, "run", "--", "true")
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "sh", "-c", "node --version; go version; echo $MY_EDITOR"); !strings.Contains(out, "v22.12.0\ngo version go1.24.6") || !strings.Contains(out, "\nvi\n") {
		t.Errorf("run:\n%s", out)
	}
	if h.read("trammel.lock") != shared || environmentID(h) != id {
		t.Error("somebody's additions changed what the team has")
	}
	if out := h.ok("show"); !strings.Contains(out, "node  22.12.0") || !strings.Contains(out, "local  npm") {
		t.Errorf("show:\n%s", out)
	}
	if out := h.ok("verify", "--deep"); !strings.Contains(out, "your own tools  ok  yours, not the team's: node 22.12.0") || !strings.Contains(out, "All 8 hold.") {
		t.Errorf("verify:\n%s", out)
	}

	// They cannot change what is shared.
	local := h.read("trammel.local.toml")
	h.fails(2, []string{"go is declared at trammel.toml:5", "--trial go=1.22"}, "set", "--local", "go=1.22")
	h.write("trammel.local.toml", "[variables]\nWEIR_UNITS = \"mine\"\n")
	h.fails(2, []string{"trammel.local.toml:2:1", "WEIR_UNITS is declared in trammel.toml already"}, "run", "--", "true")
	h.write("trammel.local.toml", "isolation = \"open\"\n")
	h.fails(2, []string{`no key "isolation"`}, "show")
	h.write("trammel.local.toml", local)

	h.ok("unset", "--local", "node")
	h.ok("fit")
	h.fails(127, []string{"node is not part of heronweir"}, "run", "--isolation", "clean", "--", "node")
}

func TestThePersonsDefaultIsInForceWhereNothingIsDeclared(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("set", "--default", "node=18")
	project := h.dir
	h.dir = t.TempDir()
	h.wary = true
	h.ok("fit") // one's own word needs no consent
	if out := h.ok("run", "--", "node", "--version"); out != "v18.20.4\n" {
		t.Errorf("in an empty folder: %s", out)
	}
	if out := h.ok("show"); !strings.Contains(out, "your default  npm") {
		t.Errorf("show:\n%s", out)
	}
	h.dir = project
	h.wary = false
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "node", "--version"); out != "v22.12.0\n" {
		t.Errorf("in a project: %s", out)
	}
}

func TestTheNearestDeclarationWins(t *testing.T) {
	t.Parallel()
	s := registry(t)
	outer := newHut(t, s, goAndNode)
	outer.ok("lock")
	outer.ok("fit")
	inner := &hut{t: t, dir: filepath.Join(outer.dir, "parts/archive"), home: outer.home, env: outer.env}
	inner.write("trammel.toml", "format = 1\nproject = \"heronweir-archive\"\n[toolchain]\ngo = \"1.22\"\n")
	inner.ok("lock")
	inner.ok("fit")
	below := filepath.Join(inner.dir, "deep/er")
	if err := os.MkdirAll(below, 0o755); err != nil {
		t.Fatal(err)
	}
	for dir, want := range map[string]string{below: "go1.22.9", inner.dir: "go1.22.9", filepath.Dir(inner.dir): "go1.24.6"} {
		here := &hut{t: t, dir: dir, home: outer.home, env: outer.env}
		if out := here.ok("run", "--", "go", "version"); !strings.Contains(out, want) {
			t.Errorf("in %s: %s", dir, out)
		}
		// A command runs where the person is, not where the declaration lies.
		if out := here.ok("run", "--", "pwd"); strings.TrimSpace(out) != dir {
			t.Errorf("in %s a command runs in %s", dir, out)
		}
	}
	inner.fails(127, nil, "run", "--isolation", "clean", "--", "node") // nothing is merged from above
	// Which file decided is said, and which ones would have.
	inner.write("trammel.local.toml", "[variables]\nMINE = \"1\"\n")
	inner.ok("lock")
	in := func(h *hut) string { return filepath.Join(h.dir, "trammel.toml") }
	if out := inner.ok("show"); !strings.Contains(out, "declared by "+in(inner)+", with "+filepath.Join(inner.dir, "trammel.local.toml")) || !strings.Contains(out, "not in force (a nearer one is): "+in(outer)+"\n") {
		t.Errorf("show:\n%s", out)
	}
	if out := inner.ok("show", "go"); !strings.Contains(out, "("+in(inner)+":4)") {
		t.Errorf("show go:\n%s", out)
	}
	var shown struct {
		By    []struct{ File, Use string } `json:"declared_by"`
		Tools []struct{ File string }      `json:"toolchain"`
	}
	if err := json.Unmarshal([]byte(inner.ok("show", "--json")), &shown); err != nil || len(shown.By) != 3 || shown.By[0].File != in(inner) || shown.By[0].Use != "in force" || shown.By[2].Use != "not in force" || shown.Tools[0].File != in(inner) {
		t.Errorf("%+v, %v", shown, err)
	}
}

func TestGapsListsWhatComesFromTheHost(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("lock")
	h.ok("fit")
	linuxOnly(t)
	fake := t.TempDir()
	for _, name := range []string{"cc-of-the-host", "bun"} {
		if err := os.WriteFile(filepath.Join(fake, name), []byte("#!/bin/sh\necho \"$0 ran with $*\"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for i, v := range h.env {
		if strings.HasPrefix(v, "PATH=") {
			h.env[i] = v + ":" + fake
		}
	}
	o := h.try("run", "--gaps", "--", "sh", "-c", "go version; cc-of-the-host -c x; cc-of-the-host; bun install; exit 5")
	if o.code != 5 || !strings.Contains(o.out, "go1.24.6") || !strings.Contains(o.out, "cc-of-the-host ran with -c x") {
		t.Errorf("the command itself: %d\n%s%s", o.code, o.out, o.err)
	}
	for _, want := range []string{"From the host, and not from heronweir:", "cc-of-the-host    " + fake, "trammel set bun=latest", `host = ["bun", "cc-of-the-host"]`} {
		if !strings.Contains(o.err, want) {
			t.Errorf("the report does not say %q:\n%s", want, o.err)
		}
	}
	if strings.Contains(o.err, "  go ") || strings.Contains(o.err, "  sh ") {
		t.Errorf("what is part of the environment is a gap:\n%s", o.err)
	}
	if o := h.try("run", "--gaps", "--", "go", "version"); !strings.Contains(o.err, "No gap") || o.code != 0 {
		t.Errorf("no gap:\n%s%s", o.out, o.err)
	}
	// What is executed counts, by whatever way: an interpreter that a script of the project names, a link in the
	// project, a program that is named outright.
	sleep, err := exec.LookPath("perl")
	if err != nil {
		t.Skip("there is no perl here")
	}
	h.write("s.pl", "#!"+sleep+"\nprint 'ran';\n")
	os.Chmod(filepath.Join(h.dir, "s.pl"), 0o755)
	h.link("v/python", sleep)
	for _, args := range [][]string{{"./s.pl"}, {"v/python", "-e", "1"}, {sleep, "-e", "1"}, {"sh", "-c", "(exec ./s.pl) & wait"}} {
		if o := h.try(append([]string{"run", "--gaps", "--"}, args...)...); o.code != 0 || !strings.Contains(o.err, "From the host") || !strings.Contains(o.err, "perl") {
			t.Errorf("%q: %d\n%s%s", args, o.code, o.out, o.err)
		}
	}
	if o := h.try("run", "--gaps", "--", "sh", "-c", "kill -TERM $$"); o.code != 143 {
		t.Errorf("a signal: %d", o.code)
	}
	h.fails(127, []string{"bun is not part of heronweir.", "bun provides it: trammel set bun=latest", "This host has " + fake + "/bun"}, "run", "--", "bun")
}
