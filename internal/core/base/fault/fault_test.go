package fault

import (
	"context"
	"errors"
	"fmt"
	"testing"
)

func TestExitCodes(t *testing.T) {
	cause := errors.New("cause")
	for want, err := range map[int]error{
		0: nil, 1: cause, 2: Findings{{What: "x"}}, 3: fmt.Errorf("a: %w", New(ErrDrift, "x")), 4: New(ErrNotApproved, "x"), 5: New(ErrSource, "x %v", cause),
		6: errors.Join(New(ErrNotReady, "a"), New(ErrFailed, "b")), 130: New(ErrInterrupted, "x"),
	} {
		if got := ExitCode(err); got != want {
			t.Errorf("%v: %d, not %d", err, got, want)
		}
	}
	if e := New(ErrSource, "reading: %v", cause); !errors.Is(e, cause) || errors.Is(e, context.Canceled) {
		t.Error("the cause is lost")
	}
}

func TestFindingsShowTheLine(t *testing.T) {
	f := Findings{{Place{"trammel.toml", 14, 12, 12, "tool     = \"postgresq1\""}, `no toolchain is named "postgresq1"`, "Did you mean \"postgresql\"?"}}
	const want = "trammel.toml:14:12: no toolchain is named \"postgresq1\"\n" +
		"   14 | tool     = \"postgresq1\"\n" +
		"      |            ^^^^^^^^^^^^\n" +
		"  Did you mean \"postgresql\"?"
	if got := f.Error(); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
	// Marks stand below characters, whatever bytes they take.
	wide := Findings{{Place{"f", 1, 11, 3, "é = \"ö\" ♦"}, "x", ""}}
	if got := wide.Error(); got != "f:1:11: x\n    1 | é = \"ö\" ♦\n      |         ^" {
		t.Errorf("%q", got)
	}
}

func TestNearestNames(t *testing.T) {
	known := []string{"isolation", "platforms", "toolchain", "go", "node", "ledger"}
	for slip, want := range map[string]string{
		"isolaton": "isolation", "toolchian": "toolchain", "nod": "node", "ledgr": "ledger", "xyz": "", "og": "go", "platform": "platforms", "": "",
	} {
		if got := Nearest(slip, known); got != want {
			t.Errorf("%q: %q, not %q", slip, got, want)
		}
	}
}
