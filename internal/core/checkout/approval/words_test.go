package approval

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/written/declare"
)

// folder makes a checkout with files; one whose content begins with #! may be started.
func folder(t *testing.T, files ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range files {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte("echo "+name+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// bound are the files that a run binds.
func bound(dir string, runs ...declare.Run) []string {
	b := &binder{dir: dir, seen: map[string]bool{}, vars: map[string]string{"PWD": dir, "TRAMMEL_DIR": dir, "SCRIPTS": "s"}}
	for _, r := range runs {
		b.run(r)
	}
	var out []string
	for _, f := range b.found {
		out = append(out, f.name)
	}
	slices.Sort(out)
	return out
}

func TestAScriptIsBoundHoweverItIsCalled(t *testing.T) {
	dir := folder(t, "s/a.sh", "s/deep/er/b.sh", "c", "data.csv", "s/x y.sh", "tool.py", "pkg/mod.py", "server.mjs", "Makefile", "s/evil.csv", "load.py", "play.yml")
	os.Chmod(filepath.Join(dir, "c"), 0o755)
	script := func(text string) declare.Run { return declare.Run{Script: text} }
	for _, c := range []struct {
		run  declare.Run
		want string // files, in order
	}{
		{script("sh s/a.sh"), "s/a.sh"},
		{script("bash -e s/a.sh"), "s/a.sh"},
		{script("weir-runner play.yml"), "play.yml"}, // such files say what to run as often as not
		{script("bash -eu -o pipefail s/a.sh"), "s/a.sh"},
		{script(`sh "s/a.sh"`), "s/a.sh"},
		{script(`sh 's/a.sh'`), "s/a.sh"},
		{script(`sh s/"a".s'h'`), "s/a.sh"},
		{script(`sh s/a\.sh`), "s/a.sh"},
		{script(`sh $'s/a.sh'`), "s/a.sh"},
		{script("sh ./s/../s/a.sh"), "s/a.sh"},
		{script("sh @{project.dir}/s/a.sh"), "s/a.sh"},
		{script("sh $TRAMMEL_DIR/s/a.sh"), "s/a.sh"},
		{script(`sh "${PWD}/s/a.sh"`), "s/a.sh"},
		{script("sh $SCRIPTS/a.sh"), "s/a.sh"},
		{script("d=s; sh $d/a.sh"), "s/a.sh"},
		{script("sh $(pwd)/s/a.sh"), "s/a.sh"},
		{script("cd s && sh a.sh"), "s/a.sh"},
		{script("cd s/deep/er; sh b.sh"), "s/deep/er/b.sh"},
		{script("cd s/deep && cd er && . ./b.sh"), "s/deep/er/b.sh"},
		{script("(cd s; exec sh a.sh)"), "s/a.sh"},
		{script("pushd s; sh ../s/a.sh"), "s/a.sh"},
		{script("env sh s/a.sh"), "s/a.sh"},
		{script("env -C s sh a.sh"), "s/a.sh"},
		{script("exec sh s/a.sh"), "s/a.sh"},
		{script("nohup nice -n 5 sh s/a.sh &"), "s/a.sh"},
		{script(". s/a.sh"), "s/a.sh"},
		{script("sh < s/a.sh"), "s/a.sh"},
		{script("cat s/a.sh | sh"), "s/a.sh"},
		{script("sh -c 'sh s/a.sh'"), "s/a.sh"},
		{script(`sh -c "cd s && sh -c 'sh a.sh'"`), "s/a.sh"},
		{script(`eval "sh s/a.sh"`), "s/a.sh"},
		{script("sh <<EOF\nsh s/a.sh\nEOF"), "s/a.sh"},
		{script("echo s/a.sh | xargs sh"), "s/a.sh"},
		{script("if true; then for i in 1; do sh s/a.sh; done; fi"), "s/a.sh"},
		{script("f() { sh s/a.sh; }; f"), "s/a.sh"},
		{script("for f in s/*.sh; do . $f; done"), "s/a.sh s/x y.sh"},
		{script("sh s/{a,none}.sh"), "s/a.sh"},
		{script(`sh "s/x y.sh"`), "s/x y.sh"},
		{script("BASH_ENV=s/a.sh bash -c true"), "s/a.sh"},
		{script("bash --rcfile=s/a.sh -i"), "s/a.sh"},
		{script("PATH=s:$PATH a.sh"), "s/a.sh"},
		{script("./c"), "c"},
		{script("c"), "c"},
		{script("python3 tool.py"), "tool.py"},
		{script("python3 -m pkg.mod"), "pkg/mod.py"},
		{script("node server"), "server.mjs"},
		{script("make -f Makefile"), "Makefile"},
		{script("sh s/evil.csv"), "s/evil.csv"},
		{script("bash -e -- s/evil.csv"), "s/evil.csv"},
		{script("sh -c '. $0' s/evil.csv"), "s/evil.csv"},
		{declare.Run{Argv: []string{"sh", "-e", "s/a.sh"}}, "s/a.sh"},
		{declare.Run{Argv: []string{"sh", "-c", "cd s && sh a.sh"}}, "s/a.sh"},
		{declare.Run{Argv: []string{"./c", "x"}}, "c"},
		{declare.Run{Script: "true", Shell: []string{"s/a.sh", "-c"}}, "s/a.sh"},
		{declare.Run{Script: "import tool", Shell: []string{"python3", "-c"}}, "tool.py"},
		{declare.Run{Script: "source s/a.sh; if test 1 = 1\necho\nend", Shell: []string{"fish", "-c"}}, "s/a.sh"},

		// What is nothing but data may be changed all day.
		{script("cut -d, -f3 data.csv | sort | uniq -c > counts"), ""},
		{script("sluice data.csv"), ""},
		{script("python3 load.py data.csv"), "load.py"},
		{script("echo done"), ""},
	} {
		if got := strings.Join(bound(dir, c.run), " "); got != c.want {
			t.Errorf("%q %q %q binds %q, not %q", c.run.Script, c.run.Argv, c.run.Shell, got, c.want)
		}
	}
}

func TestNothingOutsideOfTheCheckoutIsBound(t *testing.T) {
	dir := folder(t, "s/a.sh")
	out := folder(t, "b.sh")
	os.Symlink(out, filepath.Join(dir, "link"))
	os.Symlink(filepath.Join(out, "b.sh"), filepath.Join(dir, "one"))
	for _, text := range []string{"sh link/b.sh", "sh one", "sh ../" + filepath.Base(out) + "/b.sh", "sh " + out + "/b.sh", "sh .trammel/x", "sh /etc/passwd"} {
		if got := bound(dir, declare.Run{Script: text}); len(got) > 0 {
			t.Errorf("%s binds %q", text, got)
		}
	}
}

// What version control does not have, and ignores or a step makes, is not a stranger's.
func TestWhatAStepMakesIsNotTheStrangers(t *testing.T) {
	git, err := exec.LookPath("git")
	if err != nil {
		lacks.Program(t, "git")
	}
	dir := folder(t, "s/a.sh", "s/ignored.sh", "s/tracked-and-ignored.sh", ".venv/bin/pip", "out/made.sh", "out/tracked.sh")
	os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(".venv/\n*ignored.sh\n"), 0o644)
	for _, args := range [][]string{{"init", "-q"}, {"add", "s/a.sh", ".gitignore", "out/tracked.sh"}, {"add", "-f", "s/tracked-and-ignored.sh"}, {"-c", "user.name=a", "-c", "user.email=a@b.example", "commit", "-qm", "x"}} {
		c := exec.Command(git, args...)
		c.Dir = dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	b := &binder{dir: dir, seen: map[string]bool{}, vars: map[string]string{}, makes: []string{"out/*"}}
	b.run(declare.Run{Script: "sh s/a.sh; sh s/ignored.sh; sh s/tracked-and-ignored.sh; .venv/bin/pip install x; sh out/made.sh; sh out/tracked.sh"})
	var got []string
	for _, f := range b.found {
		got = append(got, f.name)
	}
	slices.Sort(got)
	if want := []string{"out/tracked.sh", "s/a.sh", "s/tracked-and-ignored.sh"}; !slices.Equal(got, want) {
		t.Errorf("bound %q, not %q", got, want)
	}
	if len(b.made) != 0 {
		t.Errorf("made: %q", b.made)
	}
	for name, want := range map[string]bool{"s/ignored.sh": true, "s/tracked-and-ignored.sh": false, "s/a.sh": false} {
		if got, known := Ignored(dir, name); !known || got != want {
			t.Errorf("%s ignored: %v", name, got)
		}
	}
	// Below the top of the working tree it is the same.
	sub := &binder{dir: filepath.Join(dir, "s"), seen: map[string]bool{}, vars: map[string]string{}}
	sub.run(declare.Run{Script: "sh a.sh; sh ignored.sh"})
	if len(sub.found) != 1 || sub.found[0].name != "a.sh" {
		t.Errorf("in a folder of it: %+v", sub.found)
	}
}
