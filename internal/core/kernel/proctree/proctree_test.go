package proctree

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The test program stands in for trammel as the init of its trees.
func TestMain(m *testing.M) {
	if os.Args[0] == InitName {
		Init()
	}
	os.Exit(m.Run())
}

var env = []string{"PATH=/usr/bin:/bin", "LANE=2"}

func start(t *testing.T, script string) (*Tree, *os.File) {
	t.Helper()
	out, err := os.CreateTemp(t.TempDir(), "out")
	if err != nil {
		t.Fatal(err)
	}
	tree, err := Start(Spec{Argv: []string{"sh", "-c", script}, Env: env, Dir: t.TempDir(), Stdout: out, Stderr: out})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(tree.Kill)
	return tree, out
}

func said(t *testing.T, out *os.File) string {
	t.Helper()
	b, err := os.ReadFile(out.Name())
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// await waits for something that a tree prints.
func await(t *testing.T, out *os.File, text string) {
	t.Helper()
	for range 1000 {
		if strings.Contains(said(t, out), text) {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("it never said %q: %q", text, said(t, out))
}

func TestExits(t *testing.T) {
	for script, want := range map[string]Exit{
		"exit 0": {}, "exit 7": {Code: 7}, "kill -TERM $$": {Code: 143, Signal: syscall.SIGTERM}, "kill -KILL $$": {Code: 137, Signal: syscall.SIGKILL},
	} {
		tree, _ := start(t, script)
		if got := tree.Wait(); got != want {
			t.Errorf("%q ended with %v, not %v", script, got, want)
		}
	}
	tree, out := start(t, "echo out; echo err >&2; echo $LANE; env | wc -l")
	tree.Wait()
	if got := said(t, out); !strings.HasPrefix(got, "out\nerr\n2\n") {
		t.Errorf("it said %q", got)
	}
}

func TestWhatCannotBeStartedIsAnError(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "plain"), []byte("x"), 0o644)
	os.WriteFile(filepath.Join(dir, "nonsense"), []byte("\x00\x01"), 0o755)
	for command, missing := range map[string]bool{"no-such-command": true, dir: true, "./plain": false, "./nonsense": false, "./gone": true} {
		_, err := Start(Spec{Argv: []string{command}, Env: env, Dir: dir})
		var notFound *NotFound
		if err == nil || errors.As(err, &notFound) != missing {
			t.Errorf("%s: %v", command, err)
		}
	}
	tree, _ := start(t, "exit 3") // after a failure the next start works
	if tree.Wait().Code != 3 {
		t.Error("a start after failures")
	}
}

// pids lists the processes whose arguments hold a mark.
func pids(mark string) []int {
	var out []int
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range all {
		if b, err := os.ReadFile(f); err == nil && strings.Contains(string(b), mark) {
			var pid int
			fmt.Sscanf(f, "/proc/%d/", &pid)
			out = append(out, pid)
		}
	}
	return out
}

func TestNothingOutlivesATree(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("needs namespaces")
	}
	hostile := map[string]string{
		"ignores signals":    "trap '' TERM INT HUP; echo up; while :; do sleep 1000; done",
		"forks twice":        "(setsid sh -c 'setsid sleep 1000 &' &); sleep 0.1; echo up; sleep 1000",
		"leaves and ends":    "(setsid sleep 1000 &); echo up",
		"a bounded outburst": "i=0; while [ $i -lt 60 ]; do (setsid sleep 1000 &); i=$((i+1)); done; echo up; sleep 1000",
	}
	for name, script := range hostile {
		t.Run(name, func(t *testing.T) {
			mark := fmt.Sprintf("10%d%d", os.Getpid(), time.Now().UnixNano()%1e6)
			tree, out := start(t, strings.ReplaceAll(script, "1000", mark))
			if tree.Weak {
				t.Skip("the kernel gives no namespaces here")
			}
			await(t, out, "up")
			if name != "leaves and ends" {
				tree.Kill()
			}
			tree.Wait()
			if left := pids(mark); len(left) > 0 {
				t.Errorf("%d processes are left", len(left))
			}
		})
	}
}

func TestSignalsReachTheCommandsGroup(t *testing.T) {
	tree, out := start(t, "trap 'echo asked to end; exit 5' TERM; echo up; while :; do sleep 0.05; done")
	await(t, out, "up")
	tree.Signal(syscall.SIGTERM)
	if e := tree.Wait(); e.Code != 5 || !strings.Contains(said(t, out), "asked to end") {
		t.Errorf("%v: %q", e, said(t, out))
	}
	tree.Signal(syscall.SIGTERM) // after the end these do nothing
	tree.Kill()
}

func TestATreeSeesItselfAlone(t *testing.T) {
	tree, out := start(t, "ls -d /proc/[0-9]* | wc -l; cat /proc/self/status | grep -E '^(CapEff|CapAmb)'")
	tree.Wait()
	if tree.Weak {
		t.Skip("the kernel gives no namespaces here")
	}
	var count int
	fmt.Sscan(said(t, out), &count)
	if count == 0 || count > 6 {
		t.Errorf("it sees %d processes", count)
	}
	if os.Getuid() != 0 && !strings.Contains(said(t, out), "CapEff:\t0000000000000000") {
		t.Errorf("it keeps rights that it does not need: %s", said(t, out))
	}
}
