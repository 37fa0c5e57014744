package approval

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/lacks"
	"github.com/pelletier/go-toml/v2"
)

var copies = regexp.MustCompile(`/copies/[0-9a-f]{64}/`)

// folder makes a checkout with files.
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

func binderOf(dir string, makes ...made) *binder {
	return &binder{dir: dir, copies: "/copies", r: reading.New(host.Host{}), makes: makes, vars: map[string]string{"PWD": dir, "TRAMMEL_DIR": dir, "SCRIPTS": "s"}}
}

// bound are the files that a run binds, those that are told loudly with "!" before them.
func bound(t *testing.T, b *binder, runs ...declare.Run) []string {
	t.Helper()
	for _, r := range runs {
		b.run("step a", r)
	}
	var out []string
	for _, f := range b.found {
		if f.loud {
			f.name = "!" + f.name
		}
		out = append(out, f.name)
	}
	for _, x := range b.refused {
		out = append(out, "refused: "+x.why)
	}
	slices.Sort(out)
	return out
}

func script(text string) declare.Run { return declare.Run{Script: text} }

func TestAScriptIsBoundHoweverItIsCalled(t *testing.T) {
	dir := folder(t, "s/a.sh", "s/deep/er/b.sh", "c", "data.csv", "s/x y.sh", "tool.py", "pkg/mod.py", "server.mjs", "Makefile", "s/evil.csv", "load.py", "play.yml",
		"s/x.cmake", "s/x.gp", "s/x.vim", "s/x.gdb", "s/x.ipynb", "s/x.qmd", "s/main.nf", "s/nginx.conf", "s/sup.conf", "s/redis.conf", "s/tmux.conf", "s/x.bats", "s/x.m4",
		"s/x.m", "s/x.exs", "s/x.dll", "s/specs", "s/x.tex", "s/git.conf", "hooks/pre", "hooks/post", "package.json", "s/a\nb.sh", "s/Makefile", "args", "mod/index.js", "test/t1", "docs/d")
	os.Chmod(filepath.Join(dir, "c"), 0o755)
	for _, c := range []struct {
		run  declare.Run
		want string // files, in order
	}{
		{script("sh s/a.sh"), "s/a.sh"},
		{script("bash -e s/a.sh"), "s/a.sh"},
		{script("weir-runner play.yml"), "play.yml"},
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
		{script("d=s; d+=/a; sh $d.sh"), "s/a.sh"},
		{script("sh $(pwd)/s/a.sh"), "s/a.sh"},
		{script("cd s && sh a.sh"), "s/a.sh"},
		{script("cd s/deep/er; sh b.sh"), "s/deep/er/b.sh"},
		{script("cd s/deep && cd er && . ./b.sh"), "s/deep/er/b.sh"},
		{script("(cd s; exec sh a.sh)"), "s/a.sh"},
		{script("pushd s; sh ../s/a.sh"), "s/a.sh"},
		{script("env sh s/a.sh"), "s/a.sh"},
		{script("exec sh s/a.sh"), "s/a.sh"},
		{script("nohup nice -n 5 sh s/a.sh &"), "s/a.sh"},
		{script(". s/a.sh"), "s/a.sh"},
		{script("sh < s/a.sh"), "s/a.sh"},
		{script("cat s/a.sh | sh"), "s/a.sh"},
		{script("sh -c \"$(cat s/a.sh)\""), "s/a.sh"},
		{script("cat s/a.sh > /tmp/x; sh /tmp/x"), "s/a.sh"},
		{script("{ cat s/a.sh; } | sh"), "s/a.sh"},
		{script("f() { cat s/a.sh; }; f | sh"), "s/a.sh"},
		{script("cat s/a.sh | tee /dev/null | sh"), "s/a.sh"},
		{script("sort --compress-program=s/a.sh data.csv"), "data.csv s/a.sh"},
		{script("cp s/a.sh /tmp/x; sh /tmp/x"), "s/a.sh"},
		{script("cp s/a.sh c; mv args data.csv"), "args s/a.sh"},
		{script("cp s/a.sh hooks"), "s/a.sh"},
		{script("cp -t hooks s/a.sh"), "hooks/post hooks/pre s/a.sh"},
		{script("cp args $UNKNOWN"), "args"},
		{script("cp args c; ./c"), "args c"},
		{script("make | tee data.csv"), "Makefile"},
		{script("install -m 755 s/a.sh c"), "s/a.sh"},
		{declare.Run{Argv: []string{"cp", "s/a.sh", "c"}}, "s/a.sh"},
		{script("sh -c 'sh s/a.sh'"), "s/a.sh"},
		{script(`sh -c "cd s && sh -c 'sh a.sh'"`), "s/a.sh"},
		{script(`eval "sh s/a.sh"`), "s/a.sh"},
		{script("sh <<EOF\nsh s/a.sh\nEOF"), "s/a.sh"},
		{script("echo s/a.sh | xargs sh"), "s/a.sh"},
		{script("if true; then for i in 1; do sh s/a.sh; done; fi"), "s/a.sh"},
		{script("f() { sh s/a.sh; }; f"), "s/a.sh"},
		{script("for f in s/a*.sh; do . $f; done"), "s/a\nb.sh s/a.sh"},
		{script("for f in s/a.sh hooks/pre; do sh $f; done"), "hooks/pre s/a.sh"},
		{script("sh s/{a,none}.sh"), "s/a.sh"},
		{script(`sh "s/x y.sh"`), "s/x y.sh"},
		{script("sh \"s/a\nb.sh\""), "s/a\nb.sh"},
		{script("sh $'s/a\\nb.sh'"), "s/a\nb.sh"},
		{script("BASH_ENV=s/a.sh bash -c true"), "s/a.sh"},
		{script("export BASH_ENV=s/a.sh"), "s/a.sh"},
		{script("bash --rcfile=s/a.sh -i"), "s/a.sh"},
		{script("PATH=s/deep/er:$PATH b.sh"), "s/deep/er/b.sh"},
		{script("./c"), "c"},
		{script("c"), "c"},
		{script("python3 tool.py"), "tool.py"},
		{script("python3 -m pkg.mod"), "pkg/mod.py"},
		{script("node server"), "package.json server.mjs"},
		{script("node mod"), "mod/index.js package.json"},
		{script("sh s/evil.csv"), "s/evil.csv"},
		{script("bash -e -- s/evil.csv"), "s/evil.csv"},
		{script("sh -c '. $0' s/evil.csv"), "s/evil.csv"},
		{declare.Run{Argv: []string{"sh", "-e", "s/a.sh"}}, "s/a.sh"},
		{declare.Run{Argv: []string{"sh", "-c", "cd s && sh a.sh"}}, "s/a.sh"},
		{declare.Run{Argv: []string{"./c", "x"}}, "c"},
		{declare.Run{Script: "true", Shell: []string{"s/a.sh", "-c"}}, "s/a.sh"},
		{declare.Run{Script: "import tool", Shell: []string{"python3", "-c"}}, "tool.py"},
		{declare.Run{Script: "source s/a.sh; if test 1 = 1\necho\nend", Shell: []string{"fish", "-c"}}, "s/a.sh"},

		// Commands that nobody has to know as interpreters.
		{script("cmake -P s/x.cmake"), "s/x.cmake"},
		{script("gnuplot s/x.gp"), "s/x.gp"},
		{script("vim -S s/x.vim"), "s/x.vim"},
		{script("gdb -x s/x.gdb"), "s/x.gdb"},
		{script("jupyter execute s/x.ipynb"), "s/x.ipynb"},
		{script("quarto render s/x.qmd"), "s/x.qmd"},
		{script("nextflow run s/main.nf"), "s/main.nf"},
		{script("nginx -c s/nginx.conf"), "s/nginx.conf"},
		{script("nginx -c $PWD/s/nginx.conf"), "s/nginx.conf"},
		{script("haproxy -f s/sup.conf"), "s/sup.conf"},
		{script("redis-server s/redis.conf"), "s/redis.conf"},
		{script("tmux -f s/tmux.conf"), "s/tmux.conf"},
		{script("bats s/x.bats"), "s/x.bats"},
		{script("m4 s/x.m4"), "s/x.m4"},
		{script("octave s/x.m"), "s/x.m"},
		{script("elixir s/x.exs"), "s/x.exs"},
		{script("dotnet s/x.dll"), "s/x.dll"},
		{script("gcc -specs=s/specs a.c"), "s/specs"},
		{script("gcc @args"), "args"},
		{script("awk -fs/x.m"), "s/x.m"},
		{script("pdflatex -shell-escape s/x.tex"), "s/x.tex"},
		{script("git -c include.path=s/git.conf status"), "s/git.conf"},
		{script("git -c include.path=../s/git.conf status"), ""}, // which is another file, or none
		{script("run-parts hooks"), "hooks/post hooks/pre"},
		{script("run-parts --regex . hooks/"), "hooks/post hooks/pre"},
		{script("bats -r hooks"), "hooks/post hooks/pre"},
		{script("find hooks -type f -exec sh {} +"), "hooks/post hooks/pre"},
		{script("make"), "Makefile"},
		{script("make test"), "Makefile"},
		{script("make -C s"), "Makefile s/Makefile"},
		{script("make -f args"), "Makefile args"},
		{script("cd s && make"), "Makefile s/Makefile"},
		{script("npm run docs"), "package.json"},
		{script("npm --prefix . test"), "package.json"},
		{script("env A=b npm test"), "package.json"},
		{script("sluice data.csv"), "data.csv"},
		{script("python3 load.py data.csv"), "data.csv load.py"},
		{script("cat data.csv | psql"), "data.csv"},
		{script("psql < data.csv"), "data.csv"},
		{declare.Run{Argv: []string{"run-parts", "hooks"}}, "hooks/post hooks/pre"},
		{declare.Run{Argv: []string{"ssh", "-F", "data.csv", "hut"}}, "data.csv"},

		// What is read by commands that read alone may be changed all day.
		{script("cut -d, -f3 data.csv | sort | uniq -c > counts"), ""},
		{script("cat data.csv; make"), "Makefile"},
		{script("echo \"$(cat data.csv 2>/dev/null) $1\""), ""},
		{script("x=$(cat data.csv); echo $x"), ""},
		{script("x=$(cat data.csv); sh -c \"$x\""), "data.csv"},
		{script("$(cat data.csv)"), "data.csv"},
		{script("grep silverfin data.csv && make"), "Makefile"},
		{script("test -f data.csv || make"), "Makefile"},
		{script("[ -d docs ] && wc -l < data.csv"), ""},
		{script("cat data.csv >/dev/null; make"), "Makefile"},
		{declare.Run{Argv: []string{"cat", "data.csv"}}, ""},
		{script("go test ./..."), ""},
		{script("case $1 in *.sh|s/a.sh|*) echo x ;; esac"), ""},
		{script("psql -c 'select * from passings'"), ""},
		{script("sqlite3 x.db 'SELECT * FROM passings; .read s/a.sh'"), "s/a.sh"},
		{script(`psql -c '\\! for f in *; do sh $f; done'`), "Makefile args c data.csv load.py package.json play.yml server.mjs tool.py"},
		{script("psql -f *"), "Makefile args c data.csv load.py package.json play.yml server.mjs tool.py"},
		{script("sqlite3 x.db '.sh cat * '"), "Makefile args c data.csv load.py package.json play.yml server.mjs tool.py"},
		{script("sh -c 'cat * ; for f in *; do . $f; done' psql"), "Makefile args c data.csv load.py package.json play.yml server.mjs tool.py"},
		{script("mariadb <<E\ngrant all on \\`x\\`.* to 'y'@'*';\nE"), ""},
		{script("case $1 in *) sh s/a.sh ;; esac"), "s/a.sh"},
		{script("case $1 in $(sh s/a.sh)) echo ;; esac"), "s/a.sh"},
		{script("echo ${f%.*} ${f##*} ${f/*/x}; [[ $f == * ]]"), ""},
		{script("echo ${f:-$(sh s/a.sh)} ${f%$(. args)}"), "args s/a.sh"},
		{script("go test"), ""},
		{script("eslint ."), ""},
		{script("echo done"), ""},
	} {
		if got := strings.Join(bound(t, binderOf(dir), c.run), " "); got != c.want {
			t.Errorf("%q %q %q binds %q, not %q", c.run.Script, c.run.Argv, c.run.Shell, got, c.want)
		}
	}
}

// What names nothing yet is remembered, whether by its name or by a pattern: what was decided ends when
// something comes.
func TestWhatIsMissingIsRemembered(t *testing.T) {
	getenv := func(string) (string, bool) { return "", false }
	for text, comes := range map[string]string{
		"sh s/hook.sh": "s/hook.sh", "if [ -f hook.sh ]; then sh hook.sh; fi": "hook.sh", "for f in checks/*.sh; do sh $f; done": "checks/two.sh", "sh **/x.sh": "deep/er/x.sh",
		"make": "GNUmakefile", "run-parts hooks": "hooks/new", "run-parts later": "later/one", "node server": "server.js", "python3 -m tool": "tool.py", "cd s && sh x.sh": "s/x.sh",
		"sh s/{a,b}.sh": "s/b.sh", "npm test": ".npmrc", "cargo run": "Cargo.toml", "pip install .": "setup.py", "sh gradlew build": "build.gradle.kts", "node .": "index.js",
		"diff <(sh s/x.sh) data": "s/x.sh", "arr=(s/x.sh); sh \"${arr[@]}\"": "s/x.sh", "echo $((`sh s/x.sh`))": "s/x.sh", "cat <<E | sh\n. s/x.sh\nE": "s/x.sh",
	} {
		dir := folder(t, "s/a.sh", "checks/one.sh", "deep/er/a.sh", "hooks/pre", "package.json")
		b := binderOf(dir)
		bound(t, b, script(text))
		on := b.r.On()
		if !slices.ContainsFunc(b.found, func(f boundFile) bool { return f.plain }) && !on.Holds(getenv) {
			t.Errorf("%q: nothing changed, and it does not hold", text)
		}
		os.MkdirAll(filepath.Dir(filepath.Join(dir, comes)), 0o755)
		os.WriteFile(filepath.Join(dir, comes), []byte("evil"), 0o644)
		if on.Holds(getenv) {
			t.Errorf("%q: %s came, and it holds", text, comes)
		}
	}
}

// What has no bytes to be held to is told, and never left out; of what is gone the entry itself is not
// there.
func TestNothingUnbindsSilently(t *testing.T) {
	out := folder(t, "b.sh", "d/x.sh")
	for name, change := range map[string]func(dir string) error{
		"a link out":        func(dir string) error { return os.Symlink(filepath.Join(out, "b.sh"), filepath.Join(dir, "s/a.sh")) },
		"a link by proc":    func(dir string) error { return os.Symlink("/proc/self/cwd/s/b.sh", filepath.Join(dir, "s/a.sh")) },
		"a link to nothing": func(dir string) error { return os.Symlink("nothing", filepath.Join(dir, "s/a.sh")) },
		"a link to itself":  func(dir string) error { return os.Symlink("a.sh", filepath.Join(dir, "s/a.sh")) },
		"a link to a link out": func(dir string) error {
			os.Symlink(out, filepath.Join(dir, "o"))
			return os.Symlink("../o/b.sh", filepath.Join(dir, "s/a.sh"))
		},
		"a pipe":              func(dir string) error { return syscall.Mkfifo(filepath.Join(dir, "s/a.sh"), 0o600) },
		"a device, by a link": func(dir string) error { return os.Symlink("/dev/zero", filepath.Join(dir, "s/a.sh")) },
		"a folder that leads out": func(dir string) error {
			os.RemoveAll(filepath.Join(dir, "s"))
			return os.Symlink(out, filepath.Join(dir, "s"))
		},
	} {
		for _, text := range []string{"sh s/a.sh", "cd s && sh a.sh", "for f in s/*.sh; do sh $f; done; sh s/a.sh", "sh \"$PWD/s/a.sh\""} {
			dir := folder(t, "s/b.sh")
			if err := change(dir); err != nil {
				t.Fatal(err)
			}
			if got := bound(t, binderOf(dir), script(text)); !slices.Contains(got, "!s/a.sh") && !slices.Contains(got, "!s") {
				t.Errorf("%s, %q: %q", name, text, got)
			}
		}
	}
	// Who is not root cannot read every file.
	if os.Getuid() != 0 {
		dir := folder(t, "s/a.sh")
		os.Chmod(filepath.Join(dir, "s/a.sh"), 0)
		if got := bound(t, binderOf(dir), script("sh s/a.sh")); !slices.Equal(got, []string{"!s/a.sh"}) {
			t.Errorf("a file that cannot be read: %q", got)
		}
	}
	dir := folder(t, "s/b.sh")
	os.Symlink(out, filepath.Join(dir, "link"))
	for text, want := range map[string]string{
		"sh link/b.sh": "!link/b.sh", "run-parts link": "!link", "sh ../" + filepath.Base(out) + "/b.sh": "", "sh " + out + "/b.sh": "", "sh .trammel/x": "", "sh /etc/passwd": "", "sh s/gone.sh": "",
		"sh " + strings.Repeat("x", 300): "", "sh " + strings.Repeat("x/", 2000) + "y": "",
	} {
		if got := strings.Join(bound(t, binderOf(dir), script(text)), " "); got != want {
			t.Errorf("%.40s binds %q, not %q", text, got, want)
		}
	}
}

// What a step is said to make is told by the step, whether it is there or not and whatever version
// control has: only the step may change it.
func TestOnlyWhatAStepMakesIsNotHeldToItsBytes(t *testing.T) {
	git, err := exec.LookPath("git")
	if err != nil {
		lacks.Program(t, "git")
	}
	dir := folder(t, "s/a.sh", "s/ignored.sh", ".venv/bin/pip", "out/made.sh")
	os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(".venv/\n*ignored.sh\ns/\n"), 0o644)
	for _, args := range [][]string{{"init", "-q"}, {"add", ".gitignore"}, {"-c", "user.name=a", "-c", "user.email=a@b.example", "commit", "-qm", "x"}} {
		c := exec.Command(git, args...)
		c.Dir = dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	b := binderOf(dir, made{"out/*", "build"}, made{".venv", "env"})
	b.run("step a", script("sh s/a.sh; sh s/ignored.sh; .venv/bin/pip install x; sh out/made.sh; sh out/later.sh; run-parts .venv/hooks"))
	found := map[string]boundFile{}
	for _, f := range b.found {
		found[f.name] = f
	}
	for name, want := range map[string]struct {
		made  string
		there bool
	}{
		"s/a.sh": {"", true}, "s/ignored.sh": {"", true}, ".venv/bin/pip": {"env", true}, "out/made.sh": {"build", true}, "out/later.sh": {"build", false}, ".venv/hooks": {"env", false},
	} {
		if f, ok := found[name]; !ok || f.made != want.made || strings.HasPrefix(f.digest, "blake3:") != want.there {
			t.Errorf("%s: %+v", name, f)
		}
	}
	l := List{files: b.found, dir: dir}
	if remarks := strings.Join(l.Remarks(), "\n"); strings.Count(remarks, "\n") != 1 || !strings.Contains(remarks, `s/ignored.sh runs by your approval, and git ignores it`) || !strings.Contains(remarks, `makes = ["s/**"]`) {
		t.Errorf("remarks:\n%s", remarks)
	}
	for name, want := range map[string]bool{"s/ignored.sh": true, ".gitignore": false} {
		if got, known := Ignored(dir, name); !known || got != want {
			t.Errorf("%s ignored: %v", name, got)
		}
	}
}

// A text that cannot be read through within bounds is refused, with what it is; none takes long.
func TestHostileTextsAreRefused(t *testing.T) {
	dir := folder(t, "zz/x.sh")
	grow := "a=xxxxxxxxxx; "
	for range 20 {
		grow += "a=$a$a$a$a; "
	}
	var folders, many []string
	for _, x := range strings.Split(strings.Repeat("a ", 3000), " ") {
		many = append(many, x+strings.Repeat("b", len(many)%50)+string(rune('a'+len(many)%26)))
	}
	for i := range 300 {
		name := "f" + strings.Repeat("x", i%7) + string(rune('a'+i%26)) + strings.Repeat("y", i/26)
		os.Mkdir(filepath.Join(dir, name), 0o755)
		folders = append(folders, name)
	}
	for name, text := range map[string]string{
		"a variable that grows":     grow + "echo $a",
		"a variable in a word":      "a=" + strings.Repeat("x", 4000) + "; echo " + strings.Repeat("$a", 20_000),
		"braces":                    "echo " + strings.Repeat("{a,b}", 30),
		"a sequence":                "echo {1..100000000}",
		"texts in texts":            nested(9),
		"folders and words":         "cd " + strings.Join(folders, "; cd ") + "; sh " + strings.Join(many, " "),
		"a megabyte of words":       "echo x | sh; : " + strings.Repeat("word ", 210_000),
		"replacing":                 "a=" + strings.Repeat("x", 4000) + "; b=${a//x/$a}; c=${b//x/$b}; echo $c$c$c$c$c$c",
		"a variable added to":       "a=x; " + strings.Repeat("a+=$a; ", 40) + "echo $a",
		"more than what is allowed": strings.Repeat("#", mostText+1) + "\necho",
	} {
		began := time.Now()
		got := bound(t, binderOf(dir), script(text))
		t.Logf("%s: %v", name, time.Since(began))
		if name != "a megabyte of words" && !slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, "refused: ") }) {
			t.Errorf("%s: %.200q", name, got)
		}
	}
	// Beside many folders the script is still bound, or the whole is refused: never left out.
	for _, n := range []int{1, 64, 70, 250} {
		text := "for d in " + strings.Join(folders[:n], " ") + "; do test -d $d; done; cd zz && sh x.sh"
		got := bound(t, binderOf(dir), script(text))
		if !slices.Contains(got, "zz/x.sh") && !slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, "refused: ") }) {
			t.Errorf("with %d folders: %q", n, got)
		}
	}
}

// nested is a text in texts, each quoted for the next.
func nested(depth int) string {
	text := "sh zz/x.sh"
	for range depth {
		text = "sh -c '" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	return text
}

// What runs without being asked starts from copies, however its files are named; what cannot is said.
func TestWhatRunsUnaskedStartsFromCopies(t *testing.T) {
	dir := folder(t, "s/k.sh", "k.sh", "tool.py", "hooks/a", "hooks/b", "Makefile", "cat")
	for text, want := range map[string]string{
		"sh s/k.sh": "sh /copies/*/k.sh", "sh 's/k.sh' a b": "sh /copies/*/k.sh a b", "sh \"$PWD/s/k.sh\"": "sh /copies/*/k.sh", "cd s && sh ./k.sh": "", "./k.sh": "/copies/*/k.sh",
		"K=s/k.sh; sh $K": "K=/copies/*/k.sh; sh $K", "sh -c 'sh s/k.sh'": "sh -c 'sh /copies/*/k.sh'", "bash --rcfile=s/k.sh": "bash '--rcfile=/copies/*/k.sh'", "sh < s/k.sh": "sh < /copies/*/k.sh",
		"for f in s/*.sh; do sh $f; done": "for f in /copies/*/k.sh; do sh $f; done", "run-parts hooks": "run-parts /copies/*/hooks", "python3 tool.py": "python3 /copies/*/tool.py",
		"make -s key": "make -s key", "echo plain": "echo plain", "cat notes": "cat notes", "sh <<E\nsh s/k.sh\nE": "refused", "echo s/k.sh | xargs sh": "echo /copies/*/k.sh | xargs sh",
		"exec sh s/k.sh >/dev/null 2>&1": "exec sh /copies/*/k.sh >/dev/null 2>&1", "if true; then . s/k.sh; fi": "if true; then . /copies/*/k.sh; fi",
	} {
		out, _, err := binderOf(dir).pinned(script(text))
		got := copies.ReplaceAllString(out.Script, "/copies/*/")
		if err != nil {
			got = "refused"
		}
		if want == "" { // either is right, but never the checkout's own
			if err == nil && got == text {
				t.Errorf("%q stays", text)
			}
			continue
		}
		if got != want {
			t.Errorf("%q starts as %q (%v), not %q", text, got, err, want)
		}
	}
	argv, used, err := binderOf(dir).pinned(declare.Run{Argv: []string{"sh", "-e", "s/k.sh", "--in=k.sh"}})
	if err != nil || len(used) != 2 || !strings.HasPrefix(argv.Argv[2], "/copies/") || !strings.HasPrefix(argv.Argv[3], "--in=/copies/") {
		t.Errorf("%v %v %v", argv, used, err)
	}
	if _, _, err := binderOf(dir).pinned(declare.Run{Script: "import tool", Shell: []string{"python3", "-c"}}); err == nil {
		t.Error("a text of another language names a file, and is said to start from a copy")
	}
}

// The scripts of Trammel's own cards name no file of a project.
func TestCardsNameNoFileOfTheProject(t *testing.T) {
	files, err := filepath.Glob("../../written/card/builtin/*.toml")
	addons, _ := filepath.Glob("../../written/declare/addons/*.toml")
	files = append(files, addons...)
	if err != nil || len(files) < 20 || len(addons) < 3 {
		t.Fatalf("%d cards: %v", len(files), err)
	}
	scripts := 0
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var all any
		if err := toml.Unmarshal(raw, &all); err != nil {
			t.Fatal(err)
		}
		var walk func(v any)
		walk = func(v any) {
			switch v := v.(type) {
			case map[string]any:
				for key, x := range v {
					if !slices.Contains([]string{"match", "begins", "ends", "about", "executable"}, key) { // no shell reads those
						walk(x)
					}
				}
			case []any:
				for _, x := range v {
					walk(x)
				}
			case string:
				if !strings.ContainsAny(v, " \n") {
					return
				}
				scripts++
				dir := folder(t, "README.md", "ledger.dump.gz", ".env", "hosts", "x/y")
				if got := bound(t, binderOf(dir), script(v)); len(got) > 0 {
					t.Errorf("%s binds %q:\n%s", filepath.Base(file), got, v)
				}
			}
		}
		walk(all)
	}
	if scripts < 50 {
		t.Errorf("%d scripts were looked at", scripts)
	}
}
