package process

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
	Init()
	os.Exit(m.Run())
}

var env = []string{"PATH=/usr/bin:/bin", "LANE=2"}

func start(t *testing.T, script string) (*Tree, *os.File) {
	t.Helper()
	return startIn(t, Start, script)
}

func startIn(t *testing.T, begin func(Spec) (*Tree, error), script string) (*Tree, *os.File) {
	t.Helper()
	out, err := os.CreateTemp(t.TempDir(), "out")
	if err != nil {
		t.Fatal(err)
	}
	tree, err := begin(Spec{Argv: []string{"sh", "-c", script}, Env: env, Dir: t.TempDir(), Stdout: out, Stderr: out})
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
		for form, begin := range forms() {
			t.Run(name+", "+form, func(t *testing.T) {
				mark := fmt.Sprintf("10%d%d", os.Getpid(), time.Now().UnixNano()%1e6)
				tree, out := startIn(t, begin, strings.ReplaceAll(script, "1000", mark))
				if tree.Weak != (form == "adopted") {
					t.Skip("the kernel gives no namespaces here")
				}
				await(t, out, "up")
				if name != "leaves and ends" {
					tree.Kill()
				}
				exit := tree.Wait()
				if name == "leaves and ends" && exit.Left == "" {
					t.Errorf("it does not say what was left: %+v", exit)
				}
				if left := pids(mark); len(left) > 0 {
					t.Errorf("%d processes are left", len(left))
				}
			})
		}
	}
}

// forms are the ways in which a tree may be started.
func forms() map[string]func(Spec) (*Tree, error) {
	return map[string]func(Spec) (*Tree, error){
		"in a namespace": Start,
		"adopted": func(s Spec) (*Tree, error) {
			path, err := LookPath(s.Argv[0], s.Env, s.Dir)
			if err != nil {
				return nil, err
			}
			s.On = onStarter
			return startWeak(s, path)
		},
	}
}

// Nothing of a command runs before its tree was noted, and where that fails nothing runs.
func TestATreeIsToldBeforeItRuns(t *testing.T) {
	for form, begin := range forms() {
		file := filepath.Join(t.TempDir(), "ran")
		spec := Spec{Argv: []string{"touch", file}, Env: env, Dir: t.TempDir()}
		spec.Born = func(pid int) error {
			time.Sleep(20 * time.Millisecond) // time enough to touch it
			if _, err := os.Stat(file); err == nil || !ProcessOf(pid).Alive() {
				t.Errorf("%s: it ran already, or is not there", form)
			}
			return errors.New("the disk is full")
		}
		if _, err := begin(spec); err == nil || err.Error() != "the disk is full" {
			t.Errorf("%s: %v", form, err)
		}
		if _, err := os.Stat(file); err == nil {
			t.Errorf("%s: it ran though it could not be noted", form)
		}
	}
}

func TestAProcessIsNotAnotherWithItsNumber(t *testing.T) {
	tree, _ := start(t, "sleep 60")
	p := ProcessOf(tree.Pid)
	other := Process{p.Pid, p.Started + 1}
	if !p.Alive() || other.Alive() || other.Signal(syscall.SIGKILL) == nil || !other.WaitGone(0) || p.WaitGone(time.Millisecond) {
		t.Error("a process and one that had its number are not told apart")
	}
	p.Kill()
	if !p.WaitGone(0) || p.Alive() {
		t.Error("it is not gone")
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
