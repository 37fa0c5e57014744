package main

import (
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/standin"
)

func TestEveryDeclaredSourceIsLookedAt(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[source.near]
kind = "catalog"
url  = "near"

[source.far]
kind = "catalog"
url  = "far"

[toolchain]
tally = "1.1"
`)
	archive := func(says string) []byte {
		return standin.TarGz(standin.File{Name: "bin/tally", Content: "#!/bin/sh\necho " + says + "\n", Mode: 0o755})
	}
	for dir, archives := range map[string][][]byte{"near": {archive("near 1.0")}, "far": {archive("far 1.0"), archive("far 1.1")}} {
		if err := standin.Publish(filepath.Join(h.dir, dir), []standin.Tool{{Name: "tally", Archives: archives}}); err != nil {
			t.Fatal(err)
		}
	}
	h.ok("lock")
	h.fitted()
	if got := h.ok("run", "--", "tally"); got != "far 1.1\n" {
		t.Errorf("%q", got)
	}
	// The first in the order of the declaration that has it, and what is locked stays.
	h.ok("set", "tally=1.0")
	h.ok("approve", "--yes")
	h.ok("fit")
	if got := h.ok("run", "--", "tally"); got != "far 1.0\n" {
		t.Errorf("the locked source does not stay: %q", got)
	}
	h.ok("lock", "--renew", "tally")
	h.ok("approve", "--yes")
	h.ok("fit")
	if got := h.ok("run", "--", "tally"); got != "near 1.0\n" {
		t.Errorf("%q", got)
	}
	o := h.fails(2, []string{`no version of tally satisfies "2", in any of 2 sources`, "near: The nearest there are: 1.0.", "far: The nearest there are: 1.1."}, "set", "tally=2")
	_ = o
	if out := h.ok("find", "tally"); strings.Index(out, "from near") > strings.Index(out, "from far") || !strings.Contains(out, "1.1") {
		t.Errorf("find says\n%s", out)
	}
	h.ok("set", "tally=1.0 || >=1.1")
	if !strings.Contains(h.read("trammel.lock"), `source = "near"`) {
		t.Error(h.read("trammel.lock"))
	}
}

func TestLinesThatAreSupportedForLong(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	for _, v := range []string{"20.18.0", "22.11.0", "23.1.0"} {
		s.PutNode(v)
	}
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"lts\"\n")
	if out := h.ok("lock"); !strings.Contains(out, "+ node 22.11.0") {
		t.Error(out)
	}
	h.ok("lock") // and it stays
	if out := h.ok("newer"); strings.Contains(out, "newer") && !strings.Contains(out, "23.1.0") {
		t.Error(out)
	}
	h.fails(2, []string{"esbuild has no lines that are called lts"}, "set", "esbuild=lts")
	h.ok("set", "node=20 || 23")
	if !strings.Contains(h.read("trammel.lock"), `version = "23.1.0"`) {
		t.Error("the newest of the alternatives was not taken")
	}
}

func TestTheDateThatWasAskedForIsInTheLock(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[toolchain]\nnode = \"22\"\n")
	h.ok("lock", "--as-of", "2026-12-01")
	if !strings.Contains(h.read("trammel.lock"), `as-of = "2026-12-01T23:59:59Z"`) {
		t.Error(h.read("trammel.lock"))
	}
	first := h.read("trammel.lock")
	h.ok("lock")
	if h.read("trammel.lock") != first {
		t.Error("locking again forgot the date")
	}
}

func TestWhatAProxySaysIsShown(t *testing.T) {
	t.Parallel()
	s := standin.New()
	defer s.Close()
	s.PutGo("1.24.1")
	s.Fail("/proxy/golang.org/toolchain/@v/list", standin.Refused)
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\ngo = \"1.24\"\n")
	h.fails(5, []string{"403 forbidden: this version is not available", "the source's own words"}, "lock")
}

func TestTwoVersionsOfOneToolHaveNamesOfTheirOwn(t *testing.T) {
	t.Parallel()
	declaration := func(old string) string {
		return "format  = 1\nproject = \"heronweir\"\n\n[source.c]\nkind = \"catalog\"\nurl  = \"tools\"\n\n[toolchain]\ntally = \"1.1\"\n" + old
	}
	h := newHut(t, nil, declaration(`old   = { version = "1.0", tool = "tally" }`+"\n"))
	archive := func(v string) []byte {
		return standin.TarGz(standin.File{Name: "bin/tally", Content: "#!/bin/sh\necho tally " + v + "\n", Mode: 0o755})
	}
	tool := standin.Tool{Name: "tally", Archives: [][]byte{archive("1.0"), archive("1.1")}, Card: "answer = { run = \"tally --version\", match = 'tally (\\S+)' }\n"}
	if err := standin.Publish(filepath.Join(h.dir, "tools"), []standin.Tool{tool}); err != nil {
		t.Fatal(err)
	}
	h.fails(2, []string{"the command tally comes from both", "trammel.toml:9:", "prefix = "}, "lock")
	for old, command := range map[string]string{`old = { version = "1.0", tool = "tally", prefix = "old-" }`: "old-tally", `old = { version = "1.0", tool = "tally", commands = { tally = "tally1" } }`: "tally1"} {
		h.write("trammel.toml", declaration(old+"\n"))
		h.ok("lock")
		h.ok("approve", "--yes")
		h.fitted()
		if got := h.ok("run", "--", command) + h.ok("run", "--", "tally"); got != "tally 1.0\ntally 1.1\n" {
			t.Errorf("%s: %q", old, got)
		}
		h.ok("verify")
		if out := h.ok("show", "old"); !strings.Contains(out, command) {
			t.Errorf("show old says\n%s", out)
		}
	}
	h.write("trammel.toml", declaration(`old = { version = "1.0", tool = "tally", prefix = "../" }`))
	h.fails(2, []string{"cannot stand before the name of a command"}, "lock")
}
