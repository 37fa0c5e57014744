package main

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// lived is a project with everything that is written down somewhere: it was fitted, its
// services ran, and it is stopped again.
func lived(t *testing.T, isolation string, mask ...string) *hut {
	t.Helper()
	h := stranger(t, `isolation = "`+isolation+`"

[param.lanes]
kind = "integer"
default = 1

[variables]
LANES = "@{param.lanes}"

[secret.K]
from = "file:.secrets/k"

[file."var/conf"]
template = "conf.tmpl"

[step.a]
run = "true"
evidence = "true"

[routine.r]
run = "true"

[service.db]
tool = "keeper"
ports = { one = 18790, two = 18791 }
`+catalogOf("keeper"), tool{"keeper", "echo 1.0", "[service]\nonce = \"echo precious > @{data}/precious\"\nrun = \"exec sleep 600\"\n[service.ready]\ncommand = \"true\"\n"})
	h.mask = strings.Join(mask, "")
	h.write("conf.tmpl", "{{ .param.lanes }} {{ .secret.K }}\n")
	h.write(".secrets/k", "sekret")
	os.Chmod(filepath.Join(h.dir, ".secrets/k"), 0o600)
	h.ok("lock")
	h.ok("fit", "--approve", "--param", "lanes=2")
	h.ok("start")
	h.ok("do", "r")
	h.ok("run", "--", "true")
	h.ok("stop")
	return h
}

// precious counts the data that the service made once, wherever it lies now.
func (h *hut) precious() int {
	n := 0
	_ = filepath.WalkDir(h.home, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Name() == "precious" {
			n++
		}
		return nil
	})
	return n
}

// Any file that this program keeps may be cut, empty, full of something else, gone or no
// file at all. Nothing crashes, no data of a service goes, and what is asked for next works
// or says which file it is.
func TestEveryRecordMayBeDamaged(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	damages := map[string]func(path string, raw []byte) error{
		"cut":     func(p string, raw []byte) error { return os.WriteFile(p, raw[:len(raw)/2], 0o600) },
		"garbage": func(p string, raw []byte) error { return os.WriteFile(p, []byte("\x00\xff[}{]garbage"), 0o600) },
		"gone":    func(p string, raw []byte) error { return os.Remove(p) },
		"a folder": func(p string, raw []byte) error {
			os.Remove(p)
			return os.MkdirAll(filepath.Join(p, "x"), 0o700)
		},
		"an endless device": func(p string, raw []byte) error { os.Remove(p); return os.Symlink("/dev/zero", p) },
	}
	for name, damage := range damages {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := lived(t, "clean")
			var files []string
			for _, dir := range []string{filepath.Join(h.home, "state"), filepath.Join(h.dir, ".trammel")} {
				_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
					if err == nil && d.Type().IsRegular() && d.Name() != "precious" {
						files = append(files, path)
					}
					return nil
				})
			}
			if len(files) < 15 {
				t.Fatalf("only %v", files)
			}
			for _, path := range files {
				raw, err := os.ReadFile(path)
				if err != nil {
					continue // a damage before took it along
				}
				short := strings.TrimPrefix(strings.TrimPrefix(path, h.home), h.dir)
				before := h.precious()
				if err := damage(path, bytes.Clone(raw)); err != nil {
					t.Fatal(err)
				}
				said := ""
				all := func(rows ...[]string) {
					for _, args := range rows {
						o := h.try(args...)
						if strings.Contains(o.err, "goroutine ") {
							t.Errorf("%s: trammel %s crashed:\n%s", short, strings.Join(args, " "), o.err)
						}
						if o.code != 0 {
							said += o.err
						}
						if h.precious() < before {
							t.Fatalf("%s: data of the service is gone after trammel %s", short, strings.Join(args, " "))
						}
					}
				}
				all([]string{"show"}, []string{"run", "--", "true"}, []string{"fit"}, []string{"start"}, []string{"stop"})
				// What people do then brings everything back, or they were told the file.
				if said != "" {
					all([]string{"lock"}, []string{"approve", "--yes"})
					earlier := said
					said = ""
					all([]string{"fit"}, []string{"start"}, []string{"stop"}, []string{"verify"})
					if said != "" {
						if !strings.Contains(earlier+said, filepath.Base(path)) {
							t.Errorf("%s: the file is not named:\n%s%s", short, earlier, said)
						}
						os.RemoveAll(path) // as they are told
						h.try("lock")
						h.try("approve", "--yes")
						h.ok("fit")
					}
				}
				if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
					os.RemoveAll(path) // nothing needed it
				}
			}
		})
	}
}

// Nobody else reads or writes what a bay keeps, whatever the person's file mode mask is.
func TestRecordsAreThePersonsAlone(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := lived(t, "clean", "0")
	h.try("verify", "--report", "r.json")
	for _, dir := range []string{h.home, filepath.Join(h.dir, ".trammel")} {
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.Type()&os.ModeSymlink != 0 {
				return nil
			}
			info, _ := d.Info()
			mode := info.Mode().Perm()
			if mode&0o022 != 0 {
				t.Errorf("others may write %s: %v", path, info.Mode())
			}
			if mode&0o077 != 0 && (strings.HasSuffix(path, "/home/state") || strings.Contains(path, "/state/records/") && d.Type().IsRegular()) {
				t.Errorf("others may read %s: %v", path, info.Mode())
			}
			return nil
		})
	}
	if info, err := os.Stat(filepath.Join(h.dir, "var/conf")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("a file with a secret: %v %v", info, err)
	}
}

// A program in a sealed shell writes what it likes in the folder of the project, and is
// sealed the next time all the same; so is what a stranger commits there.
func TestAProgramInASealedShellStaysThere(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", "")
	h.fitted()
	outside := filepath.Join(t.TempDir(), "outside")
	if err := os.WriteFile(outside, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	sealed := func(after string) {
		t.Helper()
		if o := h.try("run", "--", "sh", "-c", "cat "+outside+"; echo LD=$LD_PRELOAD"); strings.Contains(o.out, "x") && !strings.Contains(o.out, "LD=\n") {
			t.Errorf("after %s: %d %s%s", after, o.code, o.out, o.err)
		} else if strings.HasPrefix(o.out, "x") {
			t.Errorf("after %s it is outside: %s", after, o.out)
		}
	}
	sealed("nothing")
	h.keepsPlan()
	plan, err := filepath.Glob(filepath.Join(h.home, "state/plans/*"))
	if err != nil || len(plan) == 0 {
		t.Fatalf("no plan is kept: %v %v", plan, err)
	}
	for _, do := range []string{
		"for f in $(find . -type f -path '*trammel*'); do sed -i 's/sealed/open/g' $f; done",
		"rm -rf .trammel", "mv .trammel was", "mkdir -p .trammel/steps; echo '{}' > .trammel/steps/a.json", "echo x > .trammel/id", "ln -sfn /etc .trammel/frame", "ln -sfn /etc .trammel/home",
		"ls " + h.home + "/state", "echo '{\"isolation\":\"open\"}' > " + plan[0], "echo x > " + filepath.Join(h.home, "state", "x"),
	} {
		o := h.try("run", "--", "sh", "-c", do)
		if strings.HasPrefix(do, "ls ") && o.out != "bays\nhomes\n" && o.out != "" { // its own bay and home lie below
			t.Errorf("the state is seen:\n%s", o.out)
		}
		if o := h.try("run", "--", "true"); o.code != 0 && o.code != 4 && o.code != 2 {
			t.Errorf("%s: %d %s", do, o.code, o.err)
		}
		h.write("trammel.toml", strings.ReplaceAll(h.read("trammel.toml"), `"open"`, `"sealed"`))
		h.try("fit")
		sealed(do)
	}
	if _, err := os.Lstat(filepath.Join(h.home, "state", "x")); err == nil {
		t.Error("it wrote into the state")
	}
}

// Marks that a stranger commits count for nothing.
func TestCommittedMarksCountForNothing(t *testing.T) {
	t.Parallel()
	author := stranger(t, "[step.a]\nrun = \"touch RAN-a\"\n")
	author.ok("lock")
	author.ok("fit", "--approve")
	h := stranger(t, "[step.a]\nrun = \"touch RAN-a\"\n")
	for _, from := range []string{filepath.Join(author.dir, ".trammel"), filepath.Join(author.home, "state")} {
		_ = filepath.WalkDir(from, func(path string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				raw, _ := os.ReadFile(path)
				rel, _ := filepath.Rel(from, path)
				h.write(filepath.Join(".trammel", rel), string(raw))
				h.write(filepath.Join(".trammel/steps", filepath.Base(rel)), string(raw))
			}
			return nil
		})
	}
	h.write("trammel.lock", author.read("trammel.lock"))
	h.fails(4, []string{"nobody has approved"}, "fit")
	h.ok("fit", "--approve")
	if len(h.ran()) != 1 {
		t.Error("the step did not run: somebody else's mark counted")
	}
}

// While a person reads, nothing changes behind what is read.
func TestWhatIsAgreedToIsWhatWasRead(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(h *hut){
		"the declaration": func(h *hut) { h.change("touch RAN-good", "touch RAN-evil"); h.ok("lock") },
		"a script":        func(h *hut) { h.write("s.sh", "touch RAN-evil\n") },
		"the additions":   func(h *hut) { h.write("trammel.local.toml", "[variables]\nBASH_ENV = \"/evil\"\n"); h.ok("lock") },
	} {
		for _, args := range [][]string{{"approve"}, {"fit"}, {"run", "--", "true"}, {"do", "r"}} {
			t.Run(name+", "+args[0], func(t *testing.T) {
				t.Parallel()
				h := stranger(t, "[step.a]\nrun = \"touch RAN-good\"\n[routine.r]\nrun = \"sh s.sh\"\n")
				h.write("s.sh", "true\n")
				h.ok("lock")
				on := h.session(args...)
				on.hears("[y/N]")
				change(h)
				on.say("y")
				on.cmd.Wait()
				// What was read may happen, and nothing else; the new asks anew.
				h.fails(4, nil, "fit")
				h.fails(4, nil, "do", "r")
				if ran := h.ran(); slices.ContainsFunc(ran, func(x string) bool { return strings.Contains(x, "evil") }) {
					t.Errorf("%v", ran)
				}
			})
		}
	}
}

// A file of a tool that is gone is named by who needs it, and fit brings it back without
// being told where.
func TestAFileOfAToolThatIsGoneComesBack(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := stranger(t, catalogOf("keeper"), tool{"keeper", "echo 1.0", ""})
	h.ok("lock")
	h.ok("fit", "--approve")
	parts, _ := filepath.Glob(filepath.Join(h.home, "data/store/*keeper-1.0"))
	if len(parts) != 1 {
		t.Fatal(parts)
	}
	for name, harm := range map[string]func(file string) error{
		"gone":    os.Remove,
		"a link":  func(f string) error { os.Remove(f); return os.Symlink("/bin/true", f) },
		"no x":    func(f string) error { return os.Chmod(f, 0o644) },
		"no more": func(f string) error { return os.RemoveAll(filepath.Dir(f)) },
	} {
		file := filepath.Join(parts[0], "bin/keeper")
		writable(parts[0])
		if err := harm(file); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if name != "a link" { // which is for verify to find: it runs
			if o := h.try("run", "--", "keeper"); o.code == 0 || !strings.Contains(o.err, "trammel fit") {
				t.Errorf("%s: %d %s%s", name, o.code, o.out, o.err)
			}
		} else if o := h.try("verify"); o.code == 0 {
			t.Errorf("%s: verify holds", name)
		}
		h.ok("fit")
		if out := h.ok("run", "--", "keeper"); out != "1.0\n" {
			t.Errorf("%s: %q", name, out)
		}
		h.ok("verify")
	}
}

// Who cannot be read is not taken for who uses nothing.
func TestSweepKeepsWhatAnUnreadableProjectMayUse(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for name, harm := range map[string]func(h *hut){
		"a lock that is no lock": func(h *hut) { h.write("trammel.lock", "garbage") },
		"a lock of others":       func(h *hut) { os.Remove(filepath.Join(h.dir, "trammel.lock")); h.link("trammel.lock", "/dev/zero") },
		"a changed lock":         func(h *hut) { h.write("trammel.lock", strings.Replace(h.read("trammel.lock"), "1.0", "1.1", 1)) },
		"additions":              func(h *hut) { h.write("trammel.local.lock", "garbage") },
	} {
		t.Run(name, func(t *testing.T) {
			h := stranger(t, catalogOf("keeper"), tool{"keeper", "echo 1.0", ""})
			h.ok("lock")
			h.ok("fit", "--approve")
			other := newHut(t, nil, "format = 1\nproject = \"other\"\n")
			other.home, other.env = h.home, h.env
			other.ok("lock")
			harm(h)
			kept := stored(other)
			o := other.try("sweep")
			if stored(other) != kept {
				t.Errorf("it removed what somebody may use:\n%s", o.out)
			}
			if !strings.Contains(o.out+o.err, h.dir) {
				t.Errorf("it does not say who cannot be read:\n%s%s", o.out, o.err)
			}
		})
	}
}

// A recall that is killed at any instant is done or not done.
func TestARecallThatIsKilledIsDoneOrNot(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[variables]\nA = \"one\"\n")
	h.ok("lock")
	h.change("one", "two")
	h.ok("lock")
	seen := map[string]int{}
	for round := range 40 {
		c := h.command("recall", "1", "--declaration")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.IntN(25000)) * time.Microsecond)
		_ = c.Process.Kill()
		_ = c.Wait()
		if o := h.try("lock", "--check"); o.code != 0 {
			t.Fatalf("round %d: declaration and lock are not of one revision: %s%s", round, o.out, o.err)
		}
		h.ok("fit", "--approve")
		seen[h.read("trammel.toml")]++
		if o := h.try("lock", "--check"); o.code != 0 {
			t.Fatalf("round %d, afterwards: %s%s", round, o.out, o.err)
		}
		// What had no name yet when it was killed is removed when nobody can be writing it any more.
		unnamed := func() (out []string) {
			left, _ := filepath.Glob(filepath.Join(h.dir, ".new-*"))
			return left
		}
		for _, file := range unnamed() {
			old := time.Now().Add(-time.Hour)
			if err := os.Chtimes(file, old, old); err != nil {
				t.Fatal(err)
			}
		}
		if h.ok("fit"); len(unnamed()) > 0 {
			t.Fatalf("round %d left %v", round, unnamed())
		}
	}
	if len(seen) != 2 && len(seen) != 1 {
		t.Errorf("there are states that nobody wrote: %v", seen)
	}
}
