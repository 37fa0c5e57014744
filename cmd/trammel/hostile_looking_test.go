package main

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// everything is a project in which all that can run would leave a mark.
const everything = `isolation = "clean"

[variables]
TOKEN = "@{secret.KEY}"
BASH_ENV = "@{project.dir}/evil.sh"

[secret.KEY]
from = "command:touch RAN-secret; echo x"

[secret.FROM_FILE]
from = "file:.secrets/key"

[param.lanes]
kind = "integer"
default = 2

[file."var/conf"]
template = "conf.tmpl"

[step.make]
run = "touch RAN-step"
evidence = "touch RAN-evidence"

[step.each]
run = "touch RAN-each"
when = "shell"

[addon.things]
want = ["x"]
list = "touch RAN-list; cat added 2>/dev/null || true"
add = "touch RAN-add; echo x > added"

[service.lane]
run = "touch RAN-service; exec sleep 600"
copies = "@{param.lanes}"
ports = { http = 18590, debug = 18690 }
ready = { command = "touch RAN-probe" }
needs = ["step.make"]

[service.keeper]
tool = "keeper"

[routine.go]
run = "touch RAN-routine"
` + "\n[source.c]\nkind = \"catalog\"\nurl = \"tools\"\n\n[toolchain]\nkeeper = \"1.0\"\n"

// keeper is a tool whose card has a service with a password that each bay makes up.
var keeper = tool{"keeper", "touch RAN-answer; echo 1.0", `answer = { run = "keeper --version", match = '(\d+\.\d+)' }
[service]
once = "touch RAN-once"
run = "touch RAN-run; exec sleep 600"
console = "touch RAN-console"
stale = "lock"
[service.setting]
password = "(random)"
[service.ready]
command = "touch RAN-ready"
`}

// looks are the commands that only look.
func looks(h *hut) [][]string {
	return [][]string{
		{"show"}, {"show", "--json"}, {"show", "make"}, {"show", "lane"}, {"show", "params"}, {"show", "keeper"}, {"show", "KEY"}, {"show", "var/conf"},
		{"verify"}, {"verify", "--deep"}, {"verify", "--json"}, {"fit", "--print"}, {"lock", "--check"}, {"newer"}, {"bays"}, {"bays", "--all"}, {"logs"}, {"logs", "lane"},
		{"do"}, {"do", "--json"}, {"recall", "--list"}, {"approve", "--id"}, {"approve", "--json"}, {"compare", "reports"}, {"export", "cyclonedx"}, {"export", "dotenv"},
		{"follow", "--enter", h.dir, "--of", "1", "bash"}, {"follow", "--enter", h.dir, "--of", "1", "zsh"}, {"follow", "--enter", h.dir, "--of", "1", "fish"}, {"follow", "bash"},
		{"start", "--generate-shell-completion"}, {"do", "--generate-shell-completion"}, {"clear", "--generate-shell-completion"}, {"show", "--generate-shell-completion"},
		{"--bay", "nobodymadeit", "show"}, {"--bay", "nobodymadeit", "verify"}, {"--bay", "nobodymadeit", "fit", "--print"}, {"--bay", "nobodymadeit", "logs"}, {"--bay", "nobodymadeit", "do"},
		{"stop"}, {"sweep", "--print"}, {"--version"}, {"help"},
	}
}

func TestLookingWritesNothingAndRunsNothing(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := stranger(t, everything, keeper)
	h.write("conf.tmpl", "{{ .param.lanes }} {{ .secret.KEY }} {{ range 1000000000000 }}{{ end }}")
	h.write("evil.sh", "touch RAN-evil\n")
	h.write(".secrets/key", "k")
	h.ok("lock")
	h.write("reports/x.json", "{}")

	check := func(when string) {
		t.Helper()
		for _, args := range looks(h) {
			before := picture(t, "cache", h.dir, h.home)
			o := h.try(args...)
			if strings.Contains(o.out+o.err, "goroutine ") {
				t.Errorf("%s, trammel %s crashed:\n%s", when, strings.Join(args, " "), o.err)
			}
			if diff := changed(before, picture(t, "cache", h.dir, h.home)); len(diff) > 0 {
				t.Errorf("%s, trammel %s changed:\n%s\n%s%s", when, strings.Join(args, " "), strings.Join(diff, "\n"), o.out, o.err)
			}
		}
	}
	check("unapproved")
	if ran := h.ran(); len(ran) > 0 {
		t.Fatalf("it ran before consent: %v", ran)
	}
	// Those that act refuse, and have done nothing either.
	before := picture(t, "cache", h.dir, h.home)
	for _, args := range [][]string{{"fit"}, {"start"}, {"run", "--", "true"}, {"shell"}, {"do", "go"}, {"do", "keeper-console"}, {"data", "save", "keeper", "-"}, {"start", "--param", "lanes=3"}, {"fit", "--param", "lanes=3"}, {"export", "bundle", "--output", "x.bundle"}} {
		h.fails(4, []string{"nobody has approved"}, args...)
	}
	if diff := changed(before, picture(t, "cache", h.dir, h.home)); len(diff) > 0 {
		t.Errorf("refused, and it changed:\n%s", strings.Join(diff, "\n"))
	}

	h.write("conf.tmpl", "{{ .param.lanes }} {{ .secret.KEY }}")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.ok("run", "--", "true")
	h.ok("run", "--", "true")
	for _, x := range h.ran() {
		os.Remove(x)
	}
	// verify may start what was consented to: its marks are these tools' own doing.
	all := looks(h)
	for _, args := range all {
		if slices.Contains(args, "verify") || args[0] == "compare" {
			continue
		}
		before := picture(t, "cache", h.dir, h.home)
		o := h.try(args...)
		diff := slices.DeleteFunc(changed(before, picture(t, "cache", h.dir, h.home)), func(x string) bool {
			return strings.HasSuffix(x, "RAN-secret") && args[0] == "follow" // consented to, and its own doing
		})
		if len(diff) > 0 {
			t.Errorf("fitted, trammel %s changed:\n%s\n%s%s", strings.Join(args, " "), strings.Join(diff, "\n"), o.out, o.err)
		}
	}
	before = picture(t, "cache", h.home)
	h.try("verify")
	h.try("--bay", "nobodymadeit", "verify")
	if diff := changed(before, picture(t, "cache", h.home)); len(diff) > 0 {
		t.Errorf("verify changed:\n%s", strings.Join(diff, "\n"))
	}
}

// A repository's special files are an error at once, for whatever reads them.
func TestSpecialFilesOfARepositoryAreRefusedAtOnce(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	self := serverFile(t)
	const plain = "\n[step.a]\nrun = \"true\"\nignore = [\"ig\"]\nreads = [\"**\"]\n\n[file.\"out\"]\ntemplate = \"tmpl\"\n"
	kinds := map[string]func(path string) error{
		"an endless device": func(p string) error { return os.Symlink("/dev/zero", p) },
		"a pipe":            func(p string) error { return unix.Mkfifo(p, 0o644) },
		"a link to a pipe": func(p string) error {
			if err := unix.Mkfifo(p+"-pipe", 0o644); err != nil {
				return err
			}
			return os.Symlink(filepath.Base(p)+"-pipe", p)
		},
		"a folder": func(p string) error { return os.Mkdir(p, 0o755) },
		"a file of a hundred gigabytes": func(p string) error {
			f, err := os.Create(p)
			if err == nil {
				err = f.Truncate(100 << 30)
				f.Close()
			}
			return err
		},
		"a link out of the project": func(p string) error { return os.Symlink("/etc/passwd", p) },
	}
	for name, put := range kinds {
		for _, file := range []string{"trammel.toml", "trammel.lock", "trammel.local.toml", "trammel.local.lock", "part.toml", "tmpl", "tools/catalog.toml", ".npmrc"} {
			if file != "trammel.toml" && file != "trammel.lock" && name != "an endless device" && name != "a pipe" {
				continue
			}
			t.Run(name+" as "+file, func(t *testing.T) {
				t.Parallel()
				h := stranger(t, "include = [\"part.toml\"]\n"+plain+"\n[source.c]\nkind = \"catalog\"\nurl = \"tools\"\n")
				h.write("part.toml", "format = 1\n")
				h.write("tmpl", "x")
				h.write("trammel.local.toml", "[variables]\nA = \"b\"\n")
				h.ok("lock")
				path := filepath.Join(h.dir, file)
				os.RemoveAll(path)
				if err := put(path); err != nil {
					t.Fatal(err)
				}
				for _, args := range [][]string{{"show"}, {"verify"}, {"fit", "--print"}, {"approve", "--id"}, {"lock", "--check"}, {"follow", "--enter", h.dir, "--of", "1", "bash"}, {"bays"}, {"stop"}, {"run", "--", "true"}, {"lock"}} {
					// The system counts what the one who started it had, and these tests have much.
					most := filepath.Join(t.TempDir(), "most")
					c := h.command(args...)
					c.Path, c.Args = self, append([]string{self}, c.Args...)
					c.Env = append(slices.Clone(c.Env), serverHabit+"=measured", "WEIR_MOST="+most)
					c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
					out := strings.Builder{}
					c.Stdout, c.Stderr = &out, &out
					if err := c.Start(); err != nil {
						t.Fatal(err)
					}
					ended := make(chan struct{})
					go func() { c.Wait(); close(ended) }()
					// Endless reading shows as memory, and a pipe as waiting.
					eventually(t, "trammel "+strings.Join(args, " ")+" ends", func() bool {
						select {
						case <-ended:
							return true
						default:
							return false
						}
					})
					raw, err := os.ReadFile(most)
					if use, bad := strconv.Atoi(string(raw)); err != nil || bad != nil || use > 600<<10 {
						t.Errorf("trammel %s took %d MiB: %v", strings.Join(args, " "), use>>10, err)
					}
					if strings.Contains(out.String(), "goroutine ") || strings.Contains(out.String(), "root:x:0") {
						t.Errorf("trammel %s:\n%.2000s", strings.Join(args, " "), out.String())
					}
				}
			})
		}
	}
}

// What a file outside of the project says is in no message.
func TestAFileOutsideIsNotShownByItsFaults(t *testing.T) {
	t.Parallel()
	h := stranger(t, "")
	secret := filepath.Join(filepath.Dir(h.home), "secret")
	if err := os.WriteFile(secret, []byte("hunter2 = the line\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	up := "../../../../../../../../.."
	h.write("sub/inner/x", "")
	for _, include := range []string{up + secret, secret, "sub/inner/../../../" + filepath.Base(filepath.Dir(h.home)) + "/secret", "linked", "sub/linked/secret"} {
		h.link("linked", secret)
		h.link("sub/linked", filepath.Dir(secret))
		h.write("trammel.toml", "format = 1\nproject = \"heronweir\"\ninclude = [\""+include+"\"]\n")
		for _, args := range [][]string{{"show"}, {"lock"}, {"approve"}} {
			if o := h.try(args...); o.code != 2 || strings.Contains(o.out+o.err, "hunter2") {
				t.Errorf("include %s, %s: %d %s%s", include, args[0], o.code, o.out, o.err)
			}
		}
	}
}
