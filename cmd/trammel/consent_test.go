package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/lacks"
)

// approved is a stranger's project that somebody approved and whose plan is cached.
func approved(t *testing.T, declaration string, files map[string]string, tools ...tool) *hut {
	t.Helper()
	h := stranger(t, "isolation = \"open\"\n"+declaration, tools...)
	for name, text := range files {
		h.write(name, text)
	}
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.keepsPlan()
	return h
}

// git runs git in the project as somebody.
func (h *hut) git(args ...string) string {
	h.t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		lacks.Program(h.t, "git")
	}
	c := exec.Command("git", append([]string{"-c", "user.name=hut", "-c", "user.email=hut@heronweir.example", "-c", "init.defaultBranch=main"}, args...)...)
	c.Dir = h.dir
	out, err := c.CombinedOutput()
	if err != nil {
		h.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// asks tells that commands ask for consent, by the cached plan as without it.
func (h *hut) asksFor(words string, commands ...[]string) {
	h.t.Helper()
	for _, args := range commands {
		h.fails(4, []string{words}, args...)
	}
	h.forget()
	for _, args := range commands {
		h.fails(4, []string{words}, args...)
	}
}

// A file that comes, comes back with other bytes, or is taken into version control under a name or a
// pattern that somebody approved, runs for nobody who was not asked.
func TestACachedPlanSeesFilesThatComeLater(t *testing.T) {
	t.Parallel()
	const declaration = "[routine.lint]\nrun = \"if [ -f hook.sh ]; then sh hook.sh; fi\"\n[routine.all]\nrun = \"for f in checks/*.sh; do sh $f; done\"\n[routine.deep]\nrun = \"for f in **/run.sh; do sh $f; done\"\n[routine.parts]\nrun = [\"run-parts\", \"parts\"]\n[routine.build]\nrun = \"make\"\n"
	for name, c := range map[string]struct {
		file, words string
		do          []string
	}{
		"a name":              {"hook.sh", "file hook.sh is new", []string{"do", "lint"}},
		"a pattern":           {"checks/two.sh", "file checks/two.sh is new", []string{"do", "all"}},
		"a pattern, deeper":   {"a/b/c/run.sh", "file a/b/c/run.sh is new", []string{"do", "deep"}},
		"a folder":            {"parts/10-new", "file parts/10-new is new", []string{"do", "parts"}},
		"what a runner reads": {"GNUmakefile", "file GNUmakefile is new", []string{"do", "build"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := approved(t, declaration, map[string]string{"checks/one.sh": "true\n", "parts/00-one": "#!/bin/sh\n", "Makefile": "all:\n\ttrue\n", ".gitignore": "*.sh\n"})
			h.git("init", "-q")
			h.keepsPlan()
			h.write(c.file, "touch EVIL\nall:\n\ttouch EVIL\n")
			h.asksFor(c.words, c.do, []string{"run", "--", "true"})
			// Approved, and taken away again: nothing of it runs. With other bytes it is another file.
			h.ok("approve", "--yes")
			h.keepsPlan()
			os.Remove(filepath.Join(h.dir, c.file))
			h.keepsPlan()
			h.write(c.file, "touch EVIL; true\n")
			h.asksFor("file "+c.file+" changed", c.do, []string{"run", "--", "true"})
			h.git("add", "-f", ".")
			h.asksFor("file "+c.file+" changed", c.do)
			if h.there("EVIL") {
				t.Error("it ran")
			}
		})
	}
}

// What takes the place of an approved file has to be approved itself, whatever it is.
func TestWhatTakesTheplaceOfAScriptAsks(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(h *hut) error{
		"a link out":        func(h *hut) error { return os.Symlink("/proc/self/cwd/s/evil.sh", filepath.Join(h.dir, "s/x.sh")) },
		"a link to another": func(h *hut) error { return os.Symlink("evil.sh", filepath.Join(h.dir, "s/x.sh")) },
		"a pipe":            func(h *hut) error { return syscall.Mkfifo(filepath.Join(h.dir, "s/x.sh"), 0o600) },
		"a folder that is a link": func(h *hut) error {
			other := h.t.TempDir()
			os.WriteFile(filepath.Join(other, "x.sh"), []byte("touch EVIL\n"), 0o644)
			os.Rename(filepath.Join(h.dir, "s"), filepath.Join(h.dir, "was"))
			return os.Symlink(other, filepath.Join(h.dir, "s"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := approved(t, "[routine.x]\nrun = \"sh s/x.sh\"\n", map[string]string{"s/x.sh": "true\n", "s/evil.sh": "touch EVIL\n"})
			os.Remove(filepath.Join(h.dir, "s/x.sh"))
			h.keepsPlan() // it is gone: what is not there does not run
			if err := change(h); err != nil {
				t.Fatal(err)
			}
			h.asksFor("file s", []string{"do", "x"}, []string{"fit"}, []string{"run", "--", "true"})
			if shown := h.try("approve").out; name != "a link to another" && name != "a pipe" && !strings.Contains(shown, "LEADS OUT") {
				t.Errorf("it is not said loudly:\n%s", shown)
			}
			if h.there("EVIL") {
				t.Error("it ran")
			}
		})
	}
}

// A writer that lives changes bytes under one stamp: what runs is held to its bytes all the same.
func TestBytesAreHeldToThemselvesAndNotToStamps(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := stranger(t, "isolation = \"open\"\n[routine.x]\nrun = \"sh s/x.sh\"\n")
	h.write("s/x.sh", "echo approved      \n")
	f, err := os.OpenFile(filepath.Join(h.dir, "s/x.sh"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	page, err := syscall.Mmap(int(f.Fd()), 0, 20, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		t.Fatal(err)
	}
	defer syscall.Munmap(page)
	page[19] = '\n' // the page is the writer's from here on
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.keepsPlan()
	h.ok("do", "x")
	before, _ := f.Stat()
	copy(page, "touch EVIL; true   \n")
	after, _ := f.Stat()
	if !before.ModTime().Equal(after.ModTime()) {
		t.Log("this file system shows the change in the stamp")
	}
	h.asksFor("file s/x.sh changed", []string{"do", "x"}, []string{"run", "--", "true"})
	if h.there("EVIL") {
		t.Error("it ran")
	}
}

// A trial is for one command, however it is asked for; the project's own environment stays.
func TestATrialIsNeverTheProjects(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[toolchain]\ngo = \"1.24\"\n")
	h.ok("lock")
	h.ok("fit", "--approve")
	h.keepsPlan()
	version := h.ok("run", "--", "go", "version")
	env := h.env
	for _, by := range []string{"variable", "option"} {
		for range 3 {
			c := h.command("shell", "--login", "/bin/sh")
			if by == "option" {
				c = h.command("shell", "--trial", "go=1.22", "--login", "/bin/sh")
			} else {
				c.Args = slices.DeleteFunc(c.Args, func(a string) bool { return a == "--login" || a == "/bin/sh" })
				c.Env = append(slices.Clone(c.Env), "TRAMMEL_TRIAL=go=1.22", "SHELL=/bin/sh")
			}
			c.Stdin = strings.NewReader("go version\nexit\n")
			if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), strings.TrimSpace(version)) {
				t.Fatalf("by %s the trial is not what was asked for: %v\n%s", by, err, out)
			}
			time.Sleep(60 * time.Millisecond)
		}
		h.env = append(slices.Clone(env), "SHELL=/bin/sh")
		for range 3 {
			if now := h.ok("run", "--", "go", "version"); now != version {
				t.Errorf("after a trial by %s the project's is\n%s", by, now)
			}
			c := h.command("shell")
			c.Stdin = strings.NewReader("go version\nexit\n")
			if out, _ := c.CombinedOutput(); !strings.Contains(string(out), strings.TrimSpace(version)) {
				t.Errorf("after a trial by %s the project's shell has\n%s", by, out)
			}
		}
		h.env = env
	}
}

// A policy counts from when it is where policies are looked for, which a repository above the project
// decides.
func TestAPolicyThatComesIsObeyed(t *testing.T) {
	t.Parallel()
	h := approved(t, "[routine.hi]\nrun = \"echo hi\"\n", nil)
	h.ok("do", "hi")
	top := filepath.Dir(h.dir)
	if err := os.WriteFile(filepath.Join(top, "trammel-policy.toml"), []byte("format = 1\nname = \"Heron Weir\"\n[environment]\nisolation = [\"clean\"]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.ok("do", "hi") // it is in no repository of this project
	if err := os.Mkdir(filepath.Join(top, ".git"), 0o755); err != nil {
		t.Fatal(err)
	}
	h.asksFor("refuses open isolation", []string{"do", "hi"}, []string{"run", "--", "true"}, []string{"fit"})
	os.Remove(filepath.Join(top, ".git"))
	h.ok("do", "hi")
	system := t.TempDir()
	os.WriteFile(filepath.Join(system, "policy.toml"), []byte("format = 1\nname = \"Heron Weir\"\n[environment]\nisolation = [\"sealed\"]\n"), 0o644)
	h.env = append(h.env, "TRAMMEL_SYSTEM="+system)
	h.asksFor("refuses open isolation", []string{"do", "hi"}, []string{"run", "--", "true"})
}

// A command of the host that is installed later shows at once, and one that goes is not there.
func TestAHostCommandThatComesShows(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"clean\"\nhost = [\"fishcount\"]\n")
	bin := t.TempDir()
	h.env = append(h.env, "PATH="+os.Getenv("PATH")+":"+bin)
	h.ok("lock")
	h.ok("fit", "--approve")
	h.keepsPlan()
	h.fails(127, []string{"fishcount is not part of heronweir"}, "run", "--", "fishcount")
	if err := os.WriteFile(filepath.Join(bin, "fishcount"), []byte("#!/bin/sh\necho counted\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if out := h.ok("run", "--", "fishcount"); out != "counted\n" {
		t.Errorf("%q", out)
	}
	h.keepsPlan()
	os.Chmod(filepath.Join(bin, "fishcount"), 0o644)
	h.fails(127, []string{"fishcount is not part of heronweir"}, "run", "--", "fishcount")
}

// What cannot be held to bytes within bounds is refused with its place, whoever wrote it, and quickly.
func TestWhatCannotBeReadThroughIsRefused(t *testing.T) {
	t.Parallel()
	grow := "a=xxxxxxxxxx; " + strings.Repeat("a=$a$a$a$a; ", 20) + "echo $a"
	h := stranger(t, fmt.Sprintf("isolation = \"open\"\n[routine.x]\nrun = %q\n", grow))
	h.ok("lock")
	for _, args := range [][]string{{"approve", "--yes"}, {"fit", "--approve"}, {"run", "--", "true"}, {"do", "x"}} {
		h.fails(2, []string{"trammel.toml:4: routine x cannot be approved", "the variable a grows"}, args...)
	}
	// Beside seventy folders and behind two thousand files a script is still held to its bytes.
	var folders []string
	for i := range 70 {
		folders = append(folders, fmt.Sprintf("a%02d", i))
	}
	l := approved(t, fmt.Sprintf("[routine.go]\nrun = %q\n", "for d in "+strings.Join(folders, " ")+"; do test -d $d; done; cd zz && sh x.sh"), map[string]string{"zz/x.sh": "echo approved\n"})
	for _, f := range folders {
		l.write(f+"/keep", "")
	}
	many := approved(t, "[routine.go]\nrun = \"cp many/*.sh /dev/null; sh zz/x.sh\"\n", map[string]string{"zz/x.sh": "echo approved\n", "many/a.sh": ""})
	for i := range 2050 {
		many.write(fmt.Sprintf("many/%04d.sh", i), ":\n")
	}
	for _, h := range []*hut{l, many} {
		h.ok("approve", "--yes")
		h.ok("do", "go")
		h.write("zz/x.sh", "touch EVIL\n")
		h.asksFor("file zz/x.sh changed", []string{"do", "go"})
	}
}

// While a step runs somebody else may write: what the step is not said to make asks, in version control
// or not.
func TestWhatChangesWhileAStepRunsAsks(t *testing.T) {
	t.Parallel()
	for _, versioned := range []bool{false, true} {
		h := approved(t, "[step.slow]\nrun = \"while ! test -e go; do sleep 0.02; done; echo made > made.sh\"\nreads = [\"in\"]\nmakes = [\"made.sh\"]\nwhen = \"due\"\n[routine.go]\nrun = \"sh x.sh; sh made.sh\"\n",
			map[string]string{"x.sh": "echo approved\n", "in": "1", "go": ""})
		if versioned {
			h.git("init", "-q")
			h.git("add", "-A")
			h.git("commit", "-qm", "x")
		}
		h.write("in", "2")
		os.Remove(filepath.Join(h.dir, "go"))
		c := h.command("fit")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, "the step runs", func() bool {
			found, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/logs/step-slow.log"))
			return len(found) > 0
		})
		h.write("x.sh", "touch EVIL\n")
		h.write("go", "")
		if err := c.Wait(); err != nil {
			t.Logf("fit: %v", err)
		}
		h.asksFor("file x.sh changed", []string{"do", "go"})
		h.write("x.sh", "echo approved\n")
		if out := h.try("do", "go"); out.code == 4 || h.there("EVIL") {
			t.Errorf("what the step made asks: %+v", out)
		}
	}
}

// A .trammel that came with a commit or an archive decides nothing, and is kept aside.
func TestACommittedFolderIsPutAside(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"clean\"\n[step.s]\nrun = \"uname > ran; ls >> ran\"\n")
	h.ok("lock")
	h.ok("fit", "--approve")
	homes, _ := filepath.Glob(filepath.Join(h.home, "state/homes/*/clean/of-*"))
	if len(homes) == 0 {
		t.Fatal("there is no home of languages")
	}
	name := filepath.Join(".trammel/home", filepath.Base(homes[0]))
	for _, brings := range []string{"without an id", "with an id of its own"} {
		other := h.elsewhere(nil)
		os.RemoveAll(filepath.Join(other.dir, ".trammel"))
		for _, command := range []string{"uname", "ls", "sh", "date"} {
			other.write(filepath.Join(name, "bin", command), "#!/bin/sh\necho EVIL\n")
			os.Chmod(filepath.Join(other.dir, name, "bin", command), 0o755)
		}
		if brings != "without an id" {
			other.write(".trammel/id", strings.Repeat("A", 26)+"\n")
		}
		other.wary = true
		other.fails(3, []string{"not a folder that Trammel made for you"}, "verify")
		o := other.try("fit", "--approve")
		if o.code != 0 || !strings.Contains(o.err, ".trammel-aside-") {
			t.Errorf("%s: %+v", brings, o)
		}
		if strings.Contains(other.read("ran"), "EVIL") || strings.Contains(other.ok("run", "--", "ls"), "EVIL") || strings.Contains(other.ok("run", "--", "sh", "-c", "date"), "EVIL") {
			t.Errorf("%s: what came with it ran", brings)
		}
		if aside, _ := filepath.Glob(filepath.Join(other.dir, ".trammel-aside-*", "home/of-*/bin/uname")); len(aside) != 1 {
			t.Errorf("%s: what came with it is not aside: %v", brings, aside)
		}
		other.ok("verify")
	}
}

// The tree of a part is bound from when the lock states it: another one under the same version is the
// first and loudest line, whatever a depot has.
func TestAnotherTreeUnderTheSameVersionIsLoud(t *testing.T) {
	t.Parallel()
	h := stranger(t, catalogOf("keeper"), tool{"keeper", "echo 1.0", ""})
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit") // states the tree
	h.ok("run", "--", "true")
	if !strings.Contains(h.read("trammel.lock"), "tree = \"blake3:") {
		t.Fatal("the lock states no tree")
	}
	change := func(tree string) func(l *lock.Lock) {
		return func(l *lock.Lock) {
			for on, parts := range l.Items["keeper"].Platforms {
				p := parts["keeper"]
				p.Tree = canon.TreeDigest(tree)
				l.Items["keeper"].Platforms[on]["keeper"] = p
			}
		}
	}
	good := h.read("trammel.lock")
	relock(t, filepath.Join(h.dir, "trammel.lock"), change("blake3:"+strings.Repeat("ab", 32)))
	h.asksFor("toolchain keeper has OTHER BYTES", []string{"fit"}, []string{"run", "--", "true"})
	shown := h.try("approve").out
	if lines := strings.Split(shown, "\n"); len(lines) < 2 || !strings.Contains(lines[1], "OTHER BYTES") {
		t.Errorf("it is not said first:\n%s", shown)
	}
	// A lock that states no tree, and then another one, asks too.
	h.write("trammel.lock", good)
	h.ok("run", "--", "true")
	relock(t, filepath.Join(h.dir, "trammel.lock"), change(""))
	h.ok("run", "--", "true")
	relock(t, filepath.Join(h.dir, "trammel.lock"), change("blake3:"+strings.Repeat("cd", 32)))
	h.asksFor("toolchain keeper has OTHER BYTES", []string{"fit"})
	h.write("trammel.lock", good)
	// Who has approved nothing of it yet is shown the tree's line as all else; a teammate who unpacked the
	// same archive before the lock stated its tree is not asked.
	mate := h.elsewhere(nil)
	mate.wary = true
	mate.publish(tool{"keeper", "echo 1.0", ""})
	relock(t, filepath.Join(mate.dir, "trammel.lock"), change(""))
	mate.ok("approve", "--yes")
	mate.env = append(mate.env, "CI=1") // the lock stays as it is
	mate.ok("fit")
	mate.write("trammel.lock", good)
	mate.ok("fit")
}

// The command of a secret starts from the bytes that were approved, not from what lies in the checkout
// at that moment.
func TestASecretRunsFromApprovedBytes(t *testing.T) {
	t.Parallel()
	h := approved(t, "[secret.K]\nfrom = \"command:sh s/k.sh\"\n[variables]\nKEY = \"@{secret.K}\"\n[step.each]\nrun = \"sh s/each.sh\"\nwhen = \"shell\"\n[addon.x]\nwant = [\"one\"]\nlist = \"sh s/list.sh\"\nadd = \"true\"\n",
		map[string]string{"s/k.sh": "echo \"$0 in $PWD\"\n", "s/each.sh": "echo \"$0\" > each\n", "s/list.sh": "echo one; echo \"$0\" > list\n"})
	copies := filepath.Join(h.home, "state/approvals") + "/"
	if out := h.ok("run", "--", "sh", "-c", "echo $KEY"); !strings.HasPrefix(out, copies) || !strings.HasSuffix(strings.TrimSpace(out), "/k.sh in "+h.dir) {
		t.Errorf("it runs from %q", out)
	}
	if from := h.read("list"); !strings.HasPrefix(from, copies) {
		t.Errorf("the list of an add-on runs from %q", from)
	}
	c := h.command("shell")
	c.Env = append(slices.Clone(c.Env), "SHELL=/bin/sh")
	c.Stdin = strings.NewReader("exit\n")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if from := h.read("each"); !strings.HasPrefix(from, copies) {
		t.Errorf("a step at a shell's start runs from %q", from)
	}
	// What cannot start from a copy is refused, with the way out.
	h.change("command:sh s/k.sh", "command:sh <<E\\nsh s/k.sh\\nE")
	h.ok("lock")
	h.fails(2, []string{"secret K cannot be approved", "names s/k.sh"}, "approve", "--yes")
}

// A pipe in the place of a repository, or in one, holds nobody up.
func TestAPipeInPlaceOfARepositoryIsSaid(t *testing.T) {
	t.Parallel()
	for _, at := range []string{".git", ".git/HEAD", ".git/index", ".git/config", ".git/refs/heads/main", ".git/info/exclude"} {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[routine.x]\nrun = \"sh x.sh\"\n")
		h.write("x.sh", "echo x\n")
		h.ok("lock")
		h.ok("fit", "--approve")
		os.MkdirAll(filepath.Dir(filepath.Join(h.dir, at)), 0o755)
		if err := syscall.Mkfifo(filepath.Join(h.dir, at), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, args := range [][]string{{"show"}, {"verify"}, {"approve", "--json"}, {"fit"}, {"run", "--", "true"}, {"do", "x"}, {"recall", "--list"}, {"lock"}} {
			c := h.command(args...)
			ended := time.AfterFunc(30*time.Second, func() { c.Process.Kill() })
			if err := c.Run(); c.ProcessState.ExitCode() == -1 {
				t.Errorf("%s is a pipe: %v: %v", at, args, err)
			}
			ended.Stop()
		}
	}
}

// The marks by which a plan has secrets' names are no text of anybody.
func TestNobodyWritesTheMarksOfSecrets(t *testing.T) {
	t.Parallel()
	h := stranger(t, "[secret.K]\nfrom = \"env:HOME\"\n[variables]\nX = \"\\u0002secret:K\\u0003\"\n")
	h.fails(2, []string{"control character"}, "lock")
}

// Going back to what was approved asks nothing; anything else still does.
func TestConsentRemembersWhatWasApproved(t *testing.T) {
	t.Parallel()
	h := approved(t, "[routine.x]\nrun = \"sh x.sh\"\n", map[string]string{"x.sh": "echo one\n"})
	for i := range 5 {
		h.write("x.sh", fmt.Sprintf("echo %d\n", i))
		h.fails(4, []string{"file x.sh changed"}, "do", "x")
		h.ok("approve", "--yes")
	}
	for i := range 5 {
		h.write("x.sh", fmt.Sprintf("echo %d\n", i))
		if out := h.ok("do", "x"); strings.TrimSpace(out) != fmt.Sprint(i) {
			t.Errorf("%q", out)
		}
	}
	h.write("x.sh", "echo other\n")
	h.fails(4, []string{"file x.sh changed"}, "do", "x")
	h.ok("approve", "--revoke")
	h.write("x.sh", "echo 1\n")
	h.fails(4, []string{"nobody has approved"}, "do", "x")
}

// Where that is wanted each tracked file counts: a commit that was made here passes, and what comes from
// others asks, by author.
func TestCommitsOfOthersAskWhereThatIsWanted(t *testing.T) {
	t.Parallel()
	for _, by := range []string{"settings", "machine", "policy"} {
		t.Run(by, func(t *testing.T) {
			t.Parallel()
			h := stranger(t, "isolation = \"open\"\n[routine.x]\nrun = \"sh x.sh\"\n")
			h.write("x.sh", "echo one\n")
			h.write("lib.txt", "a\n")
			switch by {
			case "settings":
				os.MkdirAll(filepath.Join(h.home, "config"), 0o755)
				os.WriteFile(filepath.Join(h.home, "config/settings.toml"), []byte("consent = \"commits\"\n"), 0o600)
			case "machine":
				system := t.TempDir()
				os.WriteFile(filepath.Join(system, "settings.toml"), []byte("consent = \"commits\"\n"), 0o600)
				h.env = append(h.env, "TRAMMEL_SYSTEM="+system)
			case "policy":
				h.write("trammel-policy.toml", "format = 1\nname = \"Heron Weir\"\n[consent]\nto = \"commits\"\n")
			}
			h.ok("lock")
			h.git("init", "-q")
			h.git("add", "-A")
			h.git("commit", "-qm", "begin")
			h.ok("approve", "--yes")
			h.ok("fit")
			h.keepsPlan()
			// One's own.
			h.write("lib.txt", "b\n")
			h.git("commit", "-qam", "mine")
			h.ok("do", "x")
			h.git("commit", "-q", "--amend", "-m", "mine, said better")
			h.ok("do", "x")
			h.keepsPlan()
			// Somebody else's, on a branch that is pulled.
			other := filepath.Join(t.TempDir(), "other")
			h.git("clone", "-q", h.dir, other)
			theirs := *h
			theirs.dir = other
			theirs.write("lib.txt", "c\n")
			theirs.git("-c", "user.name=lab-desk", "commit", "-qam", "theirs")
			h.git("pull", "-q", "--ff-only", other, "main")
			h.asksFor("commits changed", []string{"do", "x"}, []string{"run", "--", "true"}, []string{"fit"})
			if shown := h.try("approve").out; !strings.Contains(shown, "lab-desk  theirs") {
				t.Errorf("it does not say who made what:\n%s", shown)
			}
			h.ok("approve", "--yes")
			h.ok("do", "x")
			// What of it runs is said, and a commit of one's own on top does not hide it.
			theirs.write("x.sh", "touch EVIL\n")
			theirs.git("-c", "user.name=lab-desk", "commit", "-qam", "evil")
			h.git("pull", "-q", "--ff-only", other, "main")
			h.write("lib.txt", "d\n")
			h.git("commit", "-qam", "mine again")
			h.asksFor("commits changed", []string{"do", "x"})
			if shown := h.try("approve").out; !strings.Contains(shown, "changes what is run: x.sh") {
				t.Errorf("it does not say what of it runs:\n%s", shown)
			}
			// Back to what was approved.
			h.git("reset", "-q", "--hard", "HEAD~2")
			h.ok("do", "x")
			if h.there("EVIL") {
				t.Error("it ran")
			}
		})
	}
}

// Data that the declaration calls so changes all day; what could be started by itself does not.
func TestDataAsksNobody(t *testing.T) {
	t.Parallel()
	h := approved(t, "data = [\"data/**\"]\n[routine.x]\nrun = \"python3 -c pass data/a.csv data/run\"\n", map[string]string{"data/a.csv": "1\n", "data/run": "x\n"})
	var out struct {
		Effects []struct{ Does, Name, Text string }
	}
	if err := json.Unmarshal([]byte(h.ok("approve", "--json")), &out); err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(out.Effects, func(e struct{ Does, Name, Text string }) bool {
		return e.Name == "data" && strings.HasPrefix(e.Text, "data/**")
	}) {
		t.Error("what is called data is not on the list")
	}
	h.write("data/a.csv", "2\n")
	h.ok("run", "--", "true")
	h.write("data/run", "#!/bin/sh\ntouch EVIL\n")
	h.asksFor("file data/run is new", []string{"do", "x"})
	h.change("data/**", "../**")
	h.fails(2, []string{"is not a pattern for files of the project"}, "lock")
}

// A lock that a pattern of a step names is written by fit without asking, and by nobody else.
func TestALockThatAPatternNames(t *testing.T) {
	t.Parallel()
	h := stranger(t, catalogOf("keeper")+"\n[step.all]\nrun = \"for f in *.lock; do sh -n $f || true; done\"\n", tool{"keeper", "echo 1.0", ""})
	h.ok("lock")
	h.ok("approve", "--yes")
	if list := h.ok("approve", "--json"); !strings.Contains(list, "file trammel.lock") {
		t.Fatalf("the lock is not on the list:\n%s", list)
	}
	h.ok("fit") // states the tree
	h.ok("run", "--", "true")
	h.ok("fit")
	h.write("trammel.lock", h.read("trammel.lock")+"# $(keeper)\n")
	h.asksFor("file trammel.lock", []string{"fit"}, []string{"run", "--", "true"})
}
