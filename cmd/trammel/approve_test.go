package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const wild = `format = 1
project = "heronweir"

[toolchain]
go = "1.24"

[variables]
GREETING = "hello"

[step.touch]
run = "touch touched-by-step"

[service.lane]
run = "touch touched-by-service; sleep 1000"

[routine.greet]
run = "touch touched-by-routine"
`

func TestNothingRunsBeforeItIsApproved(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), wild)
	h.wary = true
	h.ok("lock")
	for _, args := range [][]string{{"fit"}, {"start"}, {"--plain", "start", "lane"}, {"run", "--", "true"}, {"shell"}, {"do", "greet"}, {"run", "--trial", "go=1.22", "--", "true"}} {
		h.fails(4, []string{"nobody has approved", "trammel approve"}, args...)
	}
	h.fails(4, []string{"step touch", "touch touched-by-step", "routine greet", "variable GREETING", "toolchain go", "1.24.6 from gomod", "no terminal to ask on"}, "approve")
	if found, _ := filepath.Glob(filepath.Join(h.dir, "touched-*")); len(found) > 0 {
		t.Fatalf("something ran: %v", found)
	}
	h.ok("approve", "--yes")
	h.ok("fit")
	h.ok("do", "greet")
	if found, _ := filepath.Glob(filepath.Join(h.dir, "touched-*")); len(found) != 2 {
		t.Errorf("what was approved did not run: %v", found)
	}
	if out := h.ok("approve"); !strings.Contains(out, "approved as it is") {
		t.Errorf("approving twice: %s", out)
	}

	h.ok("approve", "--revoke")
	h.fails(4, nil, "do", "greet")
	h.fails(3, []string{"versions", "not checked", "nobody has approved", "trammel approve"}, "verify")
}

func TestApprovalIsBoundToTheContent(t *testing.T) {
	t.Parallel()
	s := registry(t)
	cases := []struct {
		name  string
		harm  func(h *hut)
		words []string
	}{
		{"a step", func(h *hut) { h.change("touch touched-by-step", "touch something-else") }, []string{"step touch changed", "- step touch", "touch touched-by-step", "+ step touch", "touch something-else"}},
		{"a new step", func(h *hut) { h.write("trammel.toml", h.read("trammel.toml")+"\n[step.more]\nrun = \"touch more\"\n") }, []string{"step more is new", "+ step more"}},
		{"a service", func(h *hut) { h.change("sleep 1000", "sleep 2000") }, []string{"service lane changed"}},
		{"a variable", func(h *hut) { h.change(`"hello"`, `"goodbye"`) }, []string{"variable GREETING changed"}},
		{"a toolchain", func(h *hut) { h.change(`"1.24"`, `"=1.24.5"`) }, []string{"toolchain go changed", "1.24.6 from gomod", "1.24.5 from gomod"}},
		{"a script that is named", func(h *hut) { h.write("scripts/setup.sh", "#!/bin/sh\necho worse\n") }, []string{"file scripts/setup.sh changed"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			h := newHut(t, s, wild+"\n[step.setup]\nrun = \"true && sh scripts/setup.sh\"\n")
			h.write("scripts/setup.sh", "#!/bin/sh\n")
			h.wary = true
			h.ok("lock")
			h.ok("fit", "--approve")
			c.harm(h)
			h.ok("lock")
			o := h.fails(4, []string{"this project changed since you approved it"}, "fit")
			shown := h.try("approve")
			for _, w := range c.words {
				if !strings.Contains(o.err+shown.out, w) {
					t.Errorf("it does not say %q:\n%s%s", w, o.err, shown.out)
				}
			}
		})
	}
	t.Run("somebody's local additions", func(t *testing.T) {
		h := newHut(t, s, wild)
		h.wary = true
		h.ok("lock")
		h.ok("fit", "--approve")
		h.write("trammel.local.toml", "[variables]\nLD_PRELOAD = \"./evil.so\"\n")
		h.ok("lock")
		h.fails(4, []string{"variable LD_PRELOAD (local) is new"}, "run", "--", "true")
	})
	t.Run("words do not count", func(t *testing.T) {
		h := newHut(t, s, wild)
		h.wary = true
		h.ok("lock")
		h.ok("fit", "--approve")
		h.write("trammel.toml", "# a comment\n"+h.read("trammel.toml"))
		h.ok("fit")
	})
}

func (h *hut) change(old, new string) {
	h.t.Helper()
	text := h.read("trammel.toml")
	if !strings.Contains(text, old) {
		h.t.Fatalf("the declaration has no %q", old)
	}
	h.write("trammel.toml", strings.Replace(text, old, new, 1))
}

func TestAMachineWithoutAPersonApprovesALock(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), wild)
	h.wary = true
	h.ok("lock")
	id := strings.TrimSpace(h.ok("approve", "--id"))
	env := h.env
	h.env = append(env, "TRAMMEL_APPROVE=sha256:"+strings.Repeat("0", 64))
	h.fails(4, []string{"another approval id", "trammel approve --id"}, "fit")
	h.env = append(env, "TRAMMEL_APPROVE="+id)
	h.ok("fit")
	h.ok("verify")
	h.ok("run", "--", "true")
	h.env = env
	h.fails(4, nil, "do", "greet") // it was for those runs alone
	h.fails(4, nil, "run", "--", "true")
}

func TestApprovalAsksOnATerminal(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), wild)
	h.wary = true
	h.ok("lock")
	no := h.session("fit")
	no.hears("touch touched-by-step")
	no.hears("Approve? [y/N]")
	no.say("n")
	no.cmd.Wait()
	if code := no.cmd.ProcessState.ExitCode(); code != 4 {
		t.Errorf("saying no: exit code %d", code)
	}
	yes := h.session("fit")
	yes.hears("Approve? [y/N]")
	yes.say("y")
	yes.cmd.Wait()
	if _, err := os.Stat(filepath.Join(h.dir, "touched-by-step")); err != nil || yes.cmd.ProcessState.ExitCode() != 0 {
		t.Errorf("saying yes: %v\n%s", err, yes.text())
	}
}
