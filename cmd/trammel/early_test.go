package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The roles that this program is started in most often play before its libraries are
// initialised (internal/early): what came before them is little, and of none that is heavy.
func TestRolesPlayBeforeTheLibraries(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	before := func(name string, args ...string) (out []string) {
		cmd := exec.Command(program)
		cmd.Args = append([]string{name}, args...)
		cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
		said, _ := cmd.CombinedOutput()
		for line := range strings.Lines(string(said)) {
			if rest, ok := strings.CutPrefix(line, "init "); ok {
				pkg, _, _ := strings.Cut(rest, " @")
				out = append(out, pkg)
			}
		}
		return out
	}
	all := len(before("trammel", "help", "version"))
	if all < 100 {
		t.Fatalf("the whole program has %d initialisers: this looks at nothing", all)
	}
	for _, role := range [][]string{{"trammel", "--version"}, {"trammel-init"}, {"trammel-view"}} {
		list := before(role[0], role[1:]...)
		if len(list) == 0 || len(list) > 30 {
			t.Errorf("%s starts after %d of %d initialisers", role[0], len(list), all)
		}
		for _, pkg := range list {
			for _, heavy := range []string{"charm.land/", "mvdan.cc/", "net/http", "encoding/json", "os/exec", "path/filepath", "golang.org/x/crypto", "github.com/go-git/go-git/v5 ", "github.com/ProtonMail", "github.com/klauspost/compress/internal/snapref", "unicode ", "reflect "} {
				if strings.HasPrefix(pkg+" ", heavy) {
					t.Errorf("%s starts after %s", role[0], pkg)
				}
			}
		}
	}
	// What a role imports is of the standard library, but for the module's own.
	out, err := exec.Command("go", "list", "-deps", "app.example/trammel/internal/early").Output()
	if err != nil {
		t.Fatal(err)
	}
	for pkg := range strings.FieldsSeq(string(out)) {
		if first, _, _ := strings.Cut(pkg, "/"); strings.Contains(first, ".") && !strings.HasPrefix(pkg, "app.example/trammel/") {
			t.Errorf("internal/early rests on %s", pkg)
		}
		// With the tables of unicode come half of the libraries that have no other reason to be late.
		if slices.Contains([]string{"unicode", "reflect", "strings", "bytes", "fmt", "encoding/binary"}, pkg) {
			t.Errorf("internal/early rests on %s: package plain has what it needs of strings", pkg)
		}
	}
}

// The shortest way to a command gives it what the longer way does, and takes nothing for valid
// that the longer way would not.
func TestTheShortestWayIsTheSameWay(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for _, isolation := range []string{"open", "clean"} {
		h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = %q\n[variables]\nLANES = \"two, \\\"three\\\"\"\nEMPTY = \"\"\nRUN = \"@{project.dir}/x\"\n", isolation))
		h.env = append(h.env, "LC_ALL=C", "OTHER=of the host", "TRAMMEL_SHELL_X=1", "LANES=the host's", "EMPTY=no")
		h.ok("lock")
		h.ok("fit", "--approve")
		plan := func() string {
			found, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*.cache"))
			return append(found, "")[0]
		}
		eventually(t, "a plan is kept", func() bool { h.ok("run", "--", "true"); return plan() != "" })
		short, long := h.ok("run", "--", "env"), h.ok("--dir", ".", "run", "--", "env")
		if short != long {
			t.Errorf("%s: the short way gives\n%s\nand the long one\n%s", isolation, short, long)
		}
		// That it is the short way: what is in the kept form shows.
		raw, err := os.ReadFile(plan())
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(plan(), bytes.Replace(raw, []byte("LANES=two"), []byte("LANES=six"), 1), 0o600); err != nil {
			t.Fatal(err)
		}
		if out := h.ok("run", "--", "env"); !strings.Contains(out, "LANES=six") {
			t.Errorf("%s: the kept form is not what is gone by:\n%s", isolation, out)
		}
		// A folder below, and one reached by a link, are the same project.
		h.write("below/file", "")
		below := h.command("run", "--", "env")
		below.Dir = filepath.Join(h.dir, "below")
		below.Env = append(below.Env, "PWD="+below.Dir)
		said, _ := below.Output()
		if out := string(said); !strings.Contains(out, "LANES=six") || !strings.Contains(out, "PWD="+filepath.Join(h.dir, "below")) {
			t.Errorf("%s: below:\n%s", isolation, out)
		}
		// Whatever is not as it was goes the longer way: a plan that is cut, a trial, a command
		// that is not there, another consent, a declaration that changed.
		if err := os.WriteFile(plan(), raw[:len(raw)/2], 0o600); err != nil {
			t.Fatal(err)
		}
		if out := h.ok("run", "--", "env"); !strings.Contains(out, "LANES=two") {
			t.Errorf("%s: a plan that is cut was taken:\n%s", isolation, out)
		}
		if err := os.WriteFile(plan(), bytes.Replace(raw, []byte("LANES=two"), []byte("LANES=six"), 1), 0o600); err != nil {
			t.Fatal(err)
		}
		h.fails(127, []string{"nosuch is not part of heronweir"}, "run", "--", "nosuch")
		h.env = append(h.env, "TRAMMEL_APPROVE=0000")
		h.fails(4, nil, "run", "--", "env")
		h.env = h.env[:len(h.env)-1]
		h.change("three", "four")
		if o := h.try("run", "--", "env"); strings.Contains(o.out, "LANES=six") {
			t.Errorf("%s: a changed declaration went by the old plan: %+v", isolation, o)
		}
		// A plan that is a device or a pipe is none.
		pipe := plan()
		os.Remove(pipe)
		if err := syscall.Mkfifo(pipe, 0o600); err != nil {
			t.Fatal(err)
		}
		h.try("run", "--", "true")
	}
}

// In sealed isolation, too: the environment is the same, and so are exit codes and signals.
func TestTheShortestWayIntoARoot(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", newTally)
	h.ok("lock")
	h.fitted()
	h.env = append(h.env, "SSL_CERT_FILE=/etc/ssl/certs/ca-certificates.crt", "LC_ALL=C", "OTHER=o")
	eventually(t, "a plan is kept", func() bool {
		h.ok("run", "--", "true")
		found, _ := filepath.Glob(filepath.Join(h.home, "state/plans/*.cache"))
		return len(found) == 1
	})
	early := func(args ...string) int {
		c := h.command(append([]string{"run", "--"}, args...)...)
		c.Env = append(slices.Clone(c.Env), "GODEBUG=inittrace=1")
		said, _ := c.CombinedOutput()
		return strings.Count("\n"+string(said), "\ninit ")
	}
	if n := early("true"); n == 0 || n > mostEarly {
		t.Errorf("run starts after %d initialisers", n)
	}
	if short, long := h.ok("run", "--", "env"), h.ok("--dir", ".", "run", "--", "env"); short != long {
		t.Errorf("the short way gives\n%s\nand the long one\n%s", short, long)
	}
	// Whatever the umask, the root is open to its commands, which have it as it was.
	masked := exec.Command("sh", append([]string{"-c", `umask 0777; exec "$0" "$@"`, program, "run", "--"}, "sh", "-c", "ls /var /tmp >/dev/null && umask")...)
	masked.Dir, masked.Env = h.dir, h.command("run", "--", "true").Env
	if out, err := masked.CombinedOutput(); err != nil || strings.TrimSpace(string(out)) != "0777" {
		t.Errorf("with a umask of 0777: %v\n%s", err, out)
	}
	// The process that set the root up has the host's variables in its memory: it shows to nobody.
	if out := h.try("run", "--", "sh", "-c", "cat /proc/[0-9]*/environ /proc/1/maps; head -c 1 /proc/1/mem").out; strings.Contains(out, "OTHER=o") || !strings.Contains(out, "PATH=") {
		t.Errorf("inside, the variables of the host can be read:\n%s", out)
	}
	if o := h.try("run", "--", "sh", "-c", "exit 7"); o.code != 7 {
		t.Errorf("%+v", o)
	}
	h.fails(127, []string{"nosuch is not part of"}, "run", "--", "nosuch")
	// A file of certificates that shows is the longer way's to show.
	cert := filepath.Join(h.dir, "own.pem")
	h.write("own.pem", "x")
	h.env = append(h.env, "SSL_CERT_FILE="+cert)
	if out := h.ok("run", "--", "env"); !strings.Contains(out, "SSL_CERT_FILE="+cert) {
		t.Errorf("a file of certificates is lost:\n%s", out)
	}
	h.env = h.env[:len(h.env)-1]
	// Signals, many of them, reach the command and end nothing else.
	c := h.command("run", "--", "sh", "-c", `n=0; trap 'n=$((n+1))' USR1; trap 'echo counted $n; exit 3' TERM; echo up; while :; do sleep 0.01; done`)
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() && lines.Text() != "up" {
	}
	for range 60 {
		_ = c.Process.Signal(syscall.SIGUSR1)
		time.Sleep(15 * time.Millisecond)
	}
	_ = c.Process.Signal(syscall.SIGTERM)
	counted := 0
	for lines.Scan() {
		_, _ = fmt.Sscanf(lines.Text(), "counted %d", &counted)
	}
	_ = c.Wait()
	if code := c.ProcessState.ExitCode(); code != 3 || counted < 10 { // of one kind, those that wait are one
		t.Errorf("it ended with %d after %d signals", code, counted)
	}
}
