package process

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"
)

func TestACommandIsReadToItsEnd(t *testing.T) {
	const most = 1 << 20
	for name, c := range map[string]struct {
		script    string
		out, errs string
		exit      int
	}{
		"both streams":       {"echo out; echo err >&2; exit 3", "out\n", "err\n", 3},
		"nothing":            {"exit 0", "", "", 0},
		"no end of line":     {"printf out", "out", "", 0},
		"one keeps the pipe": {"echo out; setsid sleep 600 & exit 0", "out\n", "", 0},
		"more than is read":  {"yes weir | head -c 3000000", strings.Repeat("weir\n", 600000)[:most], "", 0},
		"a signal":           {"echo out; kill -KILL $$", "out\n", "", 137},
	} {
		t.Run(name, func(t *testing.T) {
			var out, errs strings.Builder
			exit, err := Read(context.Background(), Spec{Argv: []string{"sh", "-c", c.script}, Env: env, Dir: t.TempDir()},
				Reading{Out: Text(&out, most), Remarks: Text(&errs, most)})
			if err != nil || exit.Code != c.exit || out.String() != c.out || errs.String() != c.errs {
				t.Errorf("%v, %v, %.80q, %.80q", exit, err, out.String(), errs.String())
			}
		})
	}
}

func TestACommandEndsWithItsContext(t *testing.T) {
	over := errors.New("the day is over")
	for name, c := range map[string]struct {
		script string
		grace  time.Duration
		out    string
	}{
		"killed":            {"exec 2>/dev/null; trap 'echo bye; exit 0' TERM; echo up; while :; do sleep 0.01; done", 0, "up\n"},
		"asked":             {"exec 2>/dev/null; trap 'echo bye; exit 0' TERM; echo up; while :; do sleep 0.01; done", time.Minute, "up\nbye\n"},
		"asked in vain":     {"trap '' TERM; echo up; while :; do sleep 0.01; done", 50 * time.Millisecond, "up\n"},
		"keeps the pipe":    {"trap '' TERM; setsid sleep 600 & echo up; sleep 600", 50 * time.Millisecond, "up\n"},
		"prints all it can": {"echo up; yes", 0, "up\n"},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithCancelCause(context.Background())
			var out strings.Builder
			_, err := Read(ctx, Spec{Argv: []string{"sh", "-c", c.script}, Env: env, Dir: t.TempDir()}, Reading{Grace: c.grace, Out: func(r io.Reader) {
				first := make([]byte, 3)
				_, _ = io.ReadFull(r, first)
				out.Write(first)
				cancel(over)
				_, _ = io.Copy(&out, io.LimitReader(r, 4))
			}})
			if !errors.Is(err, over) || name != "prints all it can" && out.String() != c.out {
				t.Errorf("%v, %q", err, out.String())
			}
		})
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Read(gone, Spec{Argv: []string{"true"}, Env: env}, Reading{}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	if _, err := Read(context.Background(), Spec{Argv: []string{"no-such-command"}, Env: env}, Reading{}); err == nil {
		t.Error("what is not there was run")
	}
}
