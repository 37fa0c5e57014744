package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"

	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/lacks"
)

// besides is a second project of the same person.
func (h *hut) besides(name, declaration string) *hut {
	h.t.Helper()
	other := *h
	other.dir, other.approved = filepath.Join(h.t.TempDir(), name), ""
	other.write("trammel.toml", declaration)
	return &other
}

// probe puts a program with a habit into a project: ./probe METHOD ADDRESS [HEADER…], or ./probe THING….
func (h *hut) probe(habit string) {
	h.t.Helper()
	raw, err := os.ReadFile(serverFile(h.t))
	if err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(h.dir, "probe"), raw, 0o755); err != nil {
		h.t.Fatal(err)
	}
	h.write("trammel.toml", h.read("trammel.toml")+"\n[variables]\n"+serverHabit+" = \""+habit+"\"\n")
}

// walled are two projects of one person: heronweir runs, in open isolation, and sealed is opened in a
// sealed root of this machine's own system.
func walled(t *testing.T, who, more string) (open, sealed *hut, port int) {
	t.Helper()
	s, weir, oldweir := archives(t)
	sealed = sealedHut(t, s, weir, oldweir, "sealed", newTally+more)
	sealed.probe("ask")
	sealed.change(`project = "heronweir"`, `project = "sealed"`)
	open = sealed.besides("heronweir", "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[param.x]\nkind = \"text\"\ndefault = \"none\"\n[service.lane]\n"+
		serves(t, "web", `, WEIR_PORT = "@{port.http}"`)+"ports = { http = 8600 }\nready = { http = \"/health\" }\n[routine.hi]\nrun = \"echo hi > HI-RAN\"\n")
	if who == "ordinary" {
		if os.Getuid() != 0 {
			t.Skip("the tests run as one already")
		}
		asOrdinaryUser(t, sealed)
		open.env = sealed.env
		asOrdinaryUser(t, open)
	}
	sealed.fitted()
	open.fitted()
	t.Cleanup(func() { open.try("--quiet", "stop") })
	open.ok("start")
	return open, sealed, gateway.RouterPort(sealed.home + "/state")
}

// A sealed program has the user's id and the machine's network, and reaches no page by them, in whatever
// way it asks; services by name only where its declaration says so.
func TestASealedProgramReachesNoPage(t *testing.T) {
	t.Parallel()
	for _, who := range []string{"root", "ordinary"} {
		t.Run(who, func(t *testing.T) {
			open, sealed, port := walled(t, who, "")
			ask := func(method, host, path string, more ...string) string {
				t.Helper()
				args := append([]string{"run", "--", "./probe", method, fmt.Sprintf("http://127.0.0.1:%d%s", port, path), fmt.Sprintf("Host: %s:%d", host, port)}, more...)
				o := sealed.try(args...)
				if o.code != 0 {
					t.Fatalf("%+v", o)
				}
				return o.out
			}
			own := fmt.Sprintf("http://heronweir.localhost:%d", port)
			_, key, _ := strings.Cut(strings.TrimSpace(open.ok("open", "--print")), "/?")
			code, text := open.seenBy("heronweir.localhost", "/?"+key)
			_, pass, ok := strings.Cut(text, "cookie ")
			if code != 303 || !ok {
				t.Fatalf("%d %s", code, text)
			}
			walls := func() {
				t.Helper()
				for _, path := range []string{"/", "/state", "/logs", "/?invitation=x"} {
					if out := ask("GET", "heronweir.localhost", path); !strings.HasPrefix(out, "403") || strings.Contains(out, "lane") {
						t.Errorf("GET %s: %s", path, out)
					}
				}
				for body, path := range map[string]string{`{"What":"do","Name":"hi"}`: "/act", `{"What":"param","Name":"x","Value":"$(touch PARAM-RAN)"}`: "/act", `{"What":"stop","Name":"lane"}`: "/act", `{"What":"save","Name":"lane"}`: "/save"} {
					for _, head := range [][]string{{}, {"Origin: " + own}, {"Origin: " + own, "Cookie: " + pass, "Sec-Fetch-Site: same-origin"}} {
						if out := ask("POST", "heronweir.localhost", path, append(head, "Body: "+body)...); !strings.HasPrefix(out, "403") {
							t.Errorf("POST %s %s with %v: %s", path, body, head, out)
						}
					}
				}
				for _, host := range []string{"localhost", "nobody.localhost"} {
					if out := ask("GET", host, "/"); strings.HasPrefix(out, "200") || strings.Contains(out, "heronweir") {
						t.Errorf("%s tells of others: %s", host, out)
					}
				}
			}
			walls()
			if out := ask("GET", "lane.heronweir.localhost", "/"); !strings.HasPrefix(out, "403") || !strings.Contains(out, "names = true") {
				t.Errorf("a service by name: %s", out)
			}
			sealed.change(`isolation = "sealed"`, "isolation = \"sealed\"\nnames = true")
			sealed.fitted()
			if out := ask("GET", "lane.heronweir.localhost", "/"); !strings.HasPrefix(out, "200") {
				t.Errorf("a service by name, as is declared: %s", out)
			}
			walls()
			// What it holds open it does not hold for others: another sealed program, started by it, is sealed too.
			if out := sealed.ok("run", "--", "bash", "-c", fmt.Sprintf("./probe GET http://127.0.0.1:%d/ 'Host: heronweir.localhost:%d'", port, port)); !strings.HasPrefix(out, "403") {
				t.Errorf("one that it starts: %s", out)
			}
			for _, left := range []string{"HI-RAN", "PARAM-RAN"} {
				if _, err := os.Lstat(filepath.Join(open.dir, left)); err == nil {
					t.Errorf("%s was made", left)
				}
			}
			if find(t, open, "lane").State != "ready" {
				t.Error("the service of the other project was stopped")
			}
			// The person's own programs reach all of it.
			if code, text := open.seenBy("heronweir.localhost", "/state"); code != 200 || !strings.Contains(text, "lane") {
				t.Errorf("a login: %d %s", code, text)
			}
		})
	}
}

// seenBy is seen by a program of the hut's own user.
func (h *hut) seenBy(name, path string) (int, string) {
	h.t.Helper()
	port := gateway.RouterPort(h.home + "/state")
	c := h.command("run", "--isolation", "open", "--", serverFile(h.t), "GET", fmt.Sprintf("http://127.0.0.1:%d%s", port, path), fmt.Sprintf("Host: %s:%d", name, port))
	c.Env = append(c.Env, serverHabit+"=ask")
	out, err := c.Output()
	if err != nil {
		h.t.Fatal(err)
	}
	code, text, _ := strings.Cut(string(out), " ")
	n := 0
	fmt.Sscan(code, &n)
	return n, text
}

// Services and steps run in namespaces of their own in every isolation. They reach services by name, and
// neither a page nor the control socket.
func TestAServiceReachesNoPage(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.probe("ask")
	port := gateway.RouterPort(h.home + "/state")
	records, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/control"))
	if len(records) != 1 {
		t.Fatal(records)
	}
	ask := func(host string) string {
		return fmt.Sprintf("./probe GET http://127.0.0.1:%d/ 'Host: %s:%d' | head -n 1\n", port, host, port)
	}
	h.write("trammel.toml", h.read("trammel.toml")+"\n[step.peek]\nrun = '''\n"+ask("heronweir.localhost")+ask("localhost")+ask("lane.heronweir.localhost")+ask("nobody.localhost")+
		"./probe GET http://supervisor/status 'Unix: "+records[0]+"'\n./probe POST http://supervisor/invite 'Unix: "+records[0]+"'\n'''\n")
	h.ok("lock")
	h.ok("fit", "--verbose")
	text := ""
	for _, f := range globs(h.home, "state/records/*/main/logs/step-peek.log") {
		raw, _ := os.ReadFile(f)
		text += string(raw)
	}
	for _, want := range []string{"403 This page is for programs of your own login", "200 lane", "404 ", "403 it answers only programs of your own login"} {
		if !strings.Contains(text, want) {
			t.Errorf("the step did not get %q:\n%s", want, text)
		}
	}
	if strings.Count(text, "403 it answers only") != 2 || strings.Count(text, "403 This page") != 2 {
		t.Errorf("not everything is closed to a step:\n%s", text)
	}
}

// What a sealed program can reach of what decides on the host: a line each. It is tried as root and as an
// ordinary user, on a terminal.
func TestASealedProgramDecidesNothingOnTheHost(t *testing.T) {
	t.Parallel()
	for _, who := range []string{"root", "ordinary"} {
		t.Run(who, func(t *testing.T) {
			s, weir, oldweir := archives(t)
			h := sealedHut(t, s, weir, oldweir, "sealed", newTally+`
[step.gen]
run = "mkdir -p gen && echo echo made > gen/made.sh"
makes = ["gen/**"]
[routine.hi]
run = "sh s/k.sh; sh tools/deep/x.sh; sh gen/made.sh"
[routine.all]
run = "bash lib/all lib"
`)
			h.probe("try")
			for _, name := range []string{"s/k.sh", "tools/deep/x.sh", "lib/all", "lib/one/two.sh"} {
				h.write(name, "echo host\n")
			}
			h.write("trammel.local.toml", "[variables]\nOWN = \"1\"\n")
			for _, line := range []string{"init -q", "-C nested/deep init -q", "-c protocol.file.allow=always submodule --quiet add ./nested/deep sub"} {
				_ = os.MkdirAll(filepath.Join(h.dir, "nested/deep"), 0o755)
				if strings.HasPrefix(line, "-c ") {
					gitIn(t, filepath.Join(h.dir, "nested/deep"), "-c", "user.name=a", "-c", "user.email=a@weir.example", "commit", "-q", "--allow-empty", "-m", "x")
				}
				gitIn(t, h.dir, strings.Fields(line)...)
			}
			if who == "ordinary" {
				if os.Getuid() != 0 {
					t.Skip("the tests run as one already")
				}
				asOrdinaryUser(t, h)
			}
			h.fitted()
			h.ok("lock") // of the person's own additions
			h.fitted()
			abstract := "weir-" + filepath.Base(filepath.Dir(h.home))
			l, err := net.Listen("unix", "@"+abstract)
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			never := []string{
				"write .git/hooks/pre-commit", "write .git/config", "append .git/config", "replace .git/config", "write .git/config.worktree", "write .git/info/attributes", "write .git/commondir", "write .git/HEAD",
				"write .git/worktrees", "move .git", "remove .git/hooks", "move .git/hooks", "write sub/.git", "replace sub/.git", "remove sub/.git", "move sub", "write .git/modules/sub/hooks/post-checkout", "write .git/modules/sub/config",
				"write nested/deep/.git/hooks/pre-commit", "move nested/deep/.git", "move nested/deep", "move nested", "write .gitmodules", "replace .gitmodules",
				"write s/k.sh", "append s/k.sh", "replace s/k.sh", "remove s/k.sh", "move s/k.sh", "move s", "chmod s/k.sh", "link s/k.sh", "write tools/deep/x.sh", "move tools/deep", "move tools", "replace lib/one/two.sh", "move lib/one",
				"write trammel.toml", "append trammel.toml", "replace trammel.toml", "remove trammel.toml", "replace trammel.lock", "append trammel.lock", "replace trammel.local.toml",
				"write .trammel/bin/ls", "move .trammel", "write .trammel/clock/x", "write " + h.home + "/data/x", "write " + h.home + "/cache/builds/x", "write /usr/x", "write /etc/x",
				"ioctl 0x5412", "ioctl 0x541c", "ioctl 0x100005412", "abstract " + abstract, "key weir:day", "descriptor 9", "descriptor 10",
			}
			home := globs(h.home, "state/homes/*/sealed")[0]
			may := []string{"write made", "write s/new.sh", "write gen/other", "write " + home + "/x", "write /tmp/x"}
			hidden := []string{h.home + "/state/x", h.home + "/cache/tools/x", h.home + "/state/routes/x"} // what is written there is in the view's own memory
			c := h.command(slices.Concat([]string{"run", "--", "./probe"}, never, may, []string{"write " + hidden[0], "write " + hidden[1], "write " + hidden[2]})...)
			open, err := os.Open(h.home)
			if err != nil {
				t.Fatal(err)
			}
			defer open.Close()
			for range 8 { // what a program of the person's has open
				c.ExtraFiles = append(c.ExtraFiles, open)
			}
			out := onTerminal(t, c)
			for _, file := range hidden {
				if _, err := os.Lstat(file); err == nil {
					t.Errorf("%s was written", file)
				}
			}
			for _, thing := range never {
				if !strings.Contains(out, "no "+thing+":") {
					t.Errorf("%s was done, or not tried:\n%s", thing, out)
				}
			}
			for _, thing := range may {
				if !strings.Contains(out, "DONE "+thing) {
					t.Errorf("%s cannot be done:\n%s", thing, out)
				}
			}
			// Homes of one isolation are not those of another, and what is installed there takes no command's place.
			for _, bin := range globs(home, "of-*/bin") {
				for _, name := range []string{"ls", "uname", "git"} {
					if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\necho EVIL\n"), 0o755); err != nil {
						t.Fatal(err)
					}
				}
			}
			for _, args := range [][]string{{"run", "--isolation", "clean", "--", "ls"}, {"run", "--isolation", "open", "--", "uname"}, {"run", "--", "ls"}, {"run", "--isolation", "clean", "--", "env"}} {
				if o := h.try(args...); strings.Contains(o.out, "EVIL") || strings.Contains(o.out, home) && args[2] == "clean" || o.code != 0 {
					t.Errorf("%v: %+v", args, o)
				}
			}
		})
	}
}

// gitIn runs git in a folder.
func gitIn(t *testing.T, dir string, args ...string) {
	t.Helper()
	c := exec.Command("git", args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "HOME="+t.TempDir(), "GIT_CONFIG_NOSYSTEM=1")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("git %s: %v %s", strings.Join(args, " "), err, out)
	}
}

// onTerminal runs a command on a terminal of its own, and gives what it shows.
func onTerminal(t *testing.T, c *exec.Cmd) string {
	t.Helper()
	tty, err := pty.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	defer tty.Close()
	guard := time.AfterFunc(2*time.Minute, func() { _ = c.Process.Kill() })
	defer guard.Stop()
	var out strings.Builder
	_, _ = io.Copy(&out, tty)
	_ = c.Wait()
	return strings.ReplaceAll(out.String(), "\r\n", "\n")
}

// A home that another user made, or may write, is refused by every command, the shortest ways too: who
// writes there decides what runs.
func TestAHomeOfSomebodyElseIsRefused(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root gives folders away")
	}
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"clean\"\n[routine.hi]\nrun = \"echo hi\"\n[step.s]\nrun = \"true\"\n")
	h.fitted()
	eventually(t, "a plan is cached", func() bool { h.ok("run", "--", "true"); return len(globs(h.home, "state/plans/*.cache")) > 0 })
	commands := [][]string{{"run", "--", "true"}, {"do", "hi"}, {"show"}, {"fit"}, {"verify"}, {"lock"}, {"approve"}, {"start"}, {"shell"}, {"bays"}, {"sweep"}, {"follow", "--enter", "bash", "--of", h.dir, "x"}}
	for name, spoil := range map[string]func(path string) error{
		"is another user's": func(path string) error { return os.Chown(path, 12345, 12345) },
		"is open to all":    func(path string) error { return os.Chmod(path, 0o777) },
		"is a group's":      func(path string) error { return os.Chmod(path, 0o775) },
	} {
		for _, below := range []string{"", "data", "state", "cache", "config"} {
			path := filepath.Join(h.home, below)
			_ = os.MkdirAll(path, 0o755)
			if name == "is a group's" {
				if err := os.Chown(path, 0, 12345); err != nil {
					t.Fatal(err)
				}
			}
			if err := spoil(path); err != nil {
				t.Fatal(err)
			}
			for _, args := range commands {
				h.wary = true
				o := h.try(args...)
				if args[0] == "follow" {
					if strings.Contains(o.out, "TRAMMEL_PROJECT") {
						t.Errorf("%s %s: coming in goes on:\n%s", path, name, o.out)
					}
					continue
				}
				if o.code == 0 || !strings.Contains(o.err, "could have you run their programs") || !strings.Contains(o.err, path) {
					t.Errorf("%s %s: %v goes on: %+v", path, name, args, o)
				}
			}
			if err := os.Chown(path, 0, 0); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(path, 0o700); err != nil {
				t.Fatal(err)
			}
		}
	}
	h.ok("run", "--", "true")
}

// hostileWords would do something if a shell read them; none has a control character, with which a
// declaration is refused.
var hostileWords = []string{"a$(touch RAN1)", "b`touch RAN2`", "d;touch RAN3", "e|touch RAN4", "f&touch RAN5", "g>RAN6", "h'; touch RAN7; '", `i"; touch RAN8; "`, "j$(touch${IFS}RAN9)", "k{touch,RAN10}", "l\\;touch RAN11", "m #", "~", "*", "-n", "ok"}

// A key on the keyboard puts words into a command line that mean themselves alone, and before consent
// only plain ones: by each shell, on a terminal, and by what it asks the program.
func TestCompletionPutsNothingInThatRuns(t *testing.T) {
	t.Parallel()
	declaration := "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[param.x]\nkind = \"choice\"\nof = ["
	for _, w := range hostileWords {
		declaration += strconv.Quote(w) + ", "
	}
	declaration += "]\n[service.board]\nrun = \"true\"\n"
	for _, approved := range []bool{false, true} {
		h := newHut(t, nil, declaration)
		h.wary = true
		h.ok("lock")
		if approved {
			h.ok("approve", "--yes")
		}
		out := h.ok("fit", "--param", "--generate-shell-completion")
		if !strings.Contains(out, "x=ok\n") || strings.Contains(out, "$(") != approved {
			t.Errorf("approved %v: it offers\n%s", approved, out)
		}
		h.write("$(touch RAN20)", "")
		h.write("x; touch RAN21", "")
		for shell, setup := range map[string]string{
			"bash": "PS1='> '; source <(trammel completion bash)", "zsh": "PS1='> '; autoload -Uz compinit; compinit -u -D; source <(trammel completion zsh)",
			"fish": "function fish_prompt; echo -n '> '; end; trammel completion fish | source",
		} {
			path, err := exec.LookPath(shell)
			if err != nil {
				lacks.Program(t, shell)
			}
			args := map[string][]string{"bash": {"--norc", "-i"}, "zsh": {"-f", "-i"}, "fish": {"--no-config", "-i"}}[shell]
			person := *h
			person.env = append(slices.Clone(h.env), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "TERM=xterm", "HISTFILE=")
			s := person.start(path, args...)
			s.say(setup)
			time.Sleep(500 * time.Millisecond)
			for _, typed := range []string{"x=a", "x=b", "x=d", "x=e", "x=f", "x=g", "x=h", "x=i", "x=j", "x=k", "x=l", "x=m", "x=~", "x=*", "x="} {
				_, _ = s.tty.Write([]byte("trammel fit --print --param " + typed + "\t\t"))
				time.Sleep(150 * time.Millisecond)
				_, _ = s.tty.Write([]byte("\n"))
				time.Sleep(150 * time.Millisecond)
				_, _ = s.tty.Write([]byte{3}) // whatever is left of the line
				time.Sleep(150 * time.Millisecond)
			}
			for _, typed := range []string{"trammel data load board '$", "trammel data load board x", "trammel --dir "} {
				_, _ = s.tty.Write([]byte(typed + "\t\t"))
				time.Sleep(150 * time.Millisecond)
				_, _ = s.tty.Write([]byte("\n"))
				time.Sleep(100 * time.Millisecond)
				_, _ = s.tty.Write([]byte{3})
				time.Sleep(150 * time.Millisecond)
			}
			s.say("")
			s.say("echo SO''FAR")
			s.hears("SOFAR")
			if ran := globs(h.dir, "RAN*"); len(ran) > 0 {
				t.Errorf("%s, approved %v: %v were made:\n%.3000s", shell, approved, ran, s.text())
			}
			_ = s.cmd.Process.Kill()
		}
	}
	// Values that nobody could see are refused where they are declared, and where they are chosen.
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[param.x]\nkind = \"choice\"\nof = [\"a\\u001b]0;OWN\\u0007\", \"b\"]\n")
	h.fails(2, []string{"control characters"}, "lock")
	h = newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[param.x]\nkind = \"text\"\n")
	h.ok("lock")
	h.fails(2, []string{"control characters"}, "fit", "--param", "x=a\nb")
}

// A value that somebody chooses is an argument of the scripts that have it, and a text that would be a part
// of one is refused at lock with the way out; whichever way it is chosen.
func TestAParamIsNeverCode(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[param.x]\nkind = \"text\"\ndefault = \"none\"\n[routine.hi]\nrun = \"printf '<%s>' @{param.x} \\\"@{param.x}\\\" '@{param.x}'; cat <<END\\n@{param.x}\\nEND\\n\"\n"+
		"[routine.words]\nrun = [\"printf\", \"<%s>\", \"@{param.x}\"]\n[routine.bash]\nrun = \"printf '<%s>' @{param.x}\"\nshell = [\"bash\", \"-c\"]\n[service.s]\nrun = \"echo @{param.x} > said; exec sleep 600\"\n")
	h.fitted()
	h.ok("start")
	for i, value := range []string{"$(touch PARAM-RAN)", "`touch PARAM-RAN`", "'; touch PARAM-RAN; '", "a b; touch PARAM-RAN", "\"; touch PARAM-RAN; \"", "-n", "a\\", "$HOME"} {
		if i%2 == 0 {
			h.ok("fit", "--param", "x="+value)
		} else {
			h.write("params.json", "{\"x\": "+strconv.Quote(value)+"}")
			h.ok("fit", "--params", "params.json")
		}
		if got, want := h.ok("do", "hi"), strings.Repeat("<"+value+">", 3)+value+"\n"; got != want {
			t.Errorf("%q: a routine has %q", value, got)
		}
		for _, routine := range []string{"words", "bash"} {
			if got := h.ok("do", routine); got != "<"+value+">" {
				t.Errorf("%q: routine %s has %q", value, routine, got)
			}
		}
		h.ok("start", "s")
		eventually(t, "the service has it", func() bool {
			raw, _ := os.ReadFile(filepath.Join(h.dir, "said"))
			return strings.TrimRight(string(raw), "\n") == value || value == "-n"
		})
		if _, err := os.Lstat(filepath.Join(h.dir, "PARAM-RAN")); err == nil {
			t.Fatalf("%q was run", value)
		}
	}
	for script, risk := range map[string]string{
		`sh -c 'echo @{param.x}'`: "a program of sh", `eval @{param.x}`: "a program of eval", `@{param.x}`: "the name of a command", `echo $((@{param.x}+1))`: "arithmetic", "echo `echo @{param.x}`": "read twice",
		`python3 -c 'print("@{param.x}")'`: "a program of python3", `ssh hut ls @{param.x}`: "a program of ssh",
	} {
		other := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n[param.x]\nkind = \"text\"\n[routine.hi]\nrun = "+strconv.Quote(script)+"\n")
		other.fails(2, []string{"@{param.x}", risk, "under [variables]", "trammel.toml:6"}, "lock")
	}
}

// What verify and find print for people to type holds names of files and packages that others chose.
func TestPrintedCommandsAreSafeToPaste(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := registry(t)
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\nisolation = \"clean\"\n[toolchain]\nnode = \"22\"\n")
	h.fitted()
	bin := globs(h.home, "state/homes/*/clean/of-*/bin")[0]
	for _, name := range []string{"$(touch MEND1)", "x;touch MEND2;", "a b", "-rf", "`touch MEND3`", "c\nd; touch MEND4", "e'f; touch MEND5; '", "\x1b]0;x\x07"} {
		if err := os.WriteFile(filepath.Join(bin, name), nil, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	var out struct{ Mend []string }
	if err := json.Unmarshal([]byte(h.try("verify", "--json").out), &out); err != nil || len(out.Mend) < 8 {
		t.Fatalf("%v %+v", err, out)
	}
	for _, mend := range out.Mend {
		c := exec.Command("bash", "-c", mend)
		c.Dir, c.Env = h.dir, h.env
		if said, err := c.CombinedOutput(); err != nil && strings.HasPrefix(mend, "rm ") {
			t.Errorf("%s: %v %s", mend, err, said)
		}
	}
	if left := globs(bin, "*"); len(left) > 0 {
		t.Errorf("pasted, the mends leave %q", left)
	}
	if ran := append(globs(h.dir, "MEND*"), globs(bin, "MEND*")...); len(ran) > 0 {
		t.Errorf("pasted, they ran %v", ran)
	}
	h.ok("verify")
}

// A private network reaches other machines only. Two bays of it, a page, a service of the host and another
// segment are out of reach by its proxy too; services by name are where that is declared.
func TestAPrivateNetworkReachesNothingOfThisMachine(t *testing.T) {
	t.Parallel()
	for _, who := range []string{"root", "ordinary"} {
		t.Run(who, func(t *testing.T) {
			linuxOnly(t)
			world, err := net.Listen("tcp4", "0.0.0.0:0")
			if err != nil {
				t.Fatal(err)
			}
			defer world.Close()
			go http.Serve(world, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "the host's") }))
			port := world.Addr().(*net.TCPAddr).Port
			self := serverFile(t)
			web := func(name, more string) string {
				return "[service." + name + "]\n" + serves(t, "web", `, WEIR_PORT = "@{port.http}"`) + "ports = { http = 8600 }\nready = { http = \"/health\" }\n" + more
			}
			h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\nnetwork = \"private\"\n"+web("lane", "segment = \"front\"\n")+"[service.peek]\nsegment = \"back\"\nrun = \"sh ./peek; echo over; exec sleep 1000\"\nready = { log = \"over\" }\nvariables = { "+serverHabit+" = \"ask\" }\n")
			if who == "ordinary" {
				if os.Getuid() != 0 {
					t.Skip("the tests run as one already")
				}
				asOrdinaryUser(t, h)
			}
			h.write("peek", "true\n")
			h.fitted()
			if o := h.try("start"); strings.Contains(o.err, "gives no private networks") {
				t.Skip("no namespaces of users here")
			} else if o.code != 0 {
				t.Fatal(o)
			}
			h.ok("--bay", "trial", "start", "--approve")
			router := gateway.RouterPort(h.home + "/state")
			outer := find(t, h, "lane").Ports["http"]
			other := 0
			for _, st := range statusesIn(t, h, "trial") {
				if st.Name == "lane" {
					other = st.Ports["http"]
				}
			}
			if outer == 0 || other == 0 {
				t.Fatal(outer, other)
			}
			var script strings.Builder
			for _, there := range []int{port, outer, other, router} { // the host's, another segment's, another bay's, and the router's
				fmt.Fprintf(&script, "%s GET http://127.0.0.1:%d/ 'Proxy: http://127.0.0.1:43128'\n", self, there)
			}
			fmt.Fprintf(&script, "%s GET http://localhost:%d/ 'Proxy: http://127.0.0.1:43128'\n", self, router)
			fmt.Fprintf(&script, "echo direct; %s GET http://127.0.0.1:8600/; echo name; %s GET http://127.0.0.1:%d/ 'Host: lane.heronweir.localhost:%d'; echo page; %s GET http://127.0.0.1:%d/ 'Host: heronweir.localhost:%d'\n", self, self, router, router, self, router, router)
			h.write("peek", script.String())
			h.ok("approve", "--yes")
			h.ok("start", "--again", "peek")
			out := h.ok("logs", "peek", "--lines", "100")
			if strings.Count(out, "a private network does not reach it: 127.0.0.1 is this machine itself") != 5 || strings.Contains(out, "the host's") || strings.Contains(out, "200 ") {
				t.Errorf("without a word in the declaration:\n%s", out)
			}
			h.change("network = \"private\"\n", "network = [\"weir.example:443\"]\nnames = true\n")
			h.ok("lock")
			h.ok("approve", "--yes")
			h.ok("start")
			h.ok("start", "--again", "peek") // which needs nobody, and may have asked before lane was ready
			out = h.ok("logs", "peek", "--lines", "13")
			if strings.Count(out, "is not among the hosts that network names") != 5 || !strings.Contains(out, "200 lane") || !strings.Contains(out, "403 This page is") {
				t.Errorf("with names = true:\n%s", out)
			}
		})
	}
}
