package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"

	"app.example/trammel/internal/core/running/gateway"
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

// globs are the files of a pattern below a folder.
func globs(dir, pattern string) []string {
	out, _ := filepath.Glob(filepath.Join(dir, pattern))
	return out
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
