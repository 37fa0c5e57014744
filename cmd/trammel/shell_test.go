package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"

	"app.example/trammel/internal/lacks"
)

// session is a shell under a pseudo-terminal.
type session struct {
	t    *testing.T
	tty  *os.File
	cmd  *exec.Cmd
	mu   sync.Mutex
	seen bytes.Buffer
}

func (h *hut) session(args ...string) *session {
	h.t.Helper()
	return h.attach(h.command(args...))
}

// start opens a pseudo-terminal on any program.
func (h *hut) start(path string, args ...string) *session {
	h.t.Helper()
	c := exec.Command(path, args...)
	c.Dir, c.Env = h.dir, h.env
	return h.attach(c)
}

func (h *hut) attach(c *exec.Cmd) *session {
	h.t.Helper()
	s := &session{t: h.t, cmd: c}
	tty, err := pty.StartWithSize(s.cmd, &pty.Winsize{Rows: 24, Cols: 100})
	if err != nil {
		h.t.Fatal(err)
	}
	s.tty = tty
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := tty.Read(b)
			s.mu.Lock()
			s.seen.Write(b[:n])
			// fish asks the terminal what it is and waits for an answer.
			if bytes.Contains(b[:n], []byte("\x1b[c")) || bytes.Contains(b[:n], []byte("\x1b[0c")) {
				tty.Write([]byte("\x1b[?62c"))
			}
			s.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	h.t.Cleanup(func() { s.cmd.Process.Kill(); s.cmd.Wait(); tty.Close() })
	return s
}

func (s *session) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen.String()
}

// say types a line.
func (s *session) say(line string) {
	s.t.Helper()
	if _, err := s.tty.Write([]byte(line + "\n")); err != nil {
		s.t.Fatal(err)
	}
}

// hears waits for a text on the screen.
func (s *session) hears(want string) {
	s.t.Helper()
	for range 3000 {
		if strings.Contains(s.text(), want) {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	text := s.text()
	s.t.Fatalf("the screen never shows %q; it ends with\n%q", want, text[max(0, len(text)-800):])
}

func TestShellsKeepTheirToolsWhateverStartUpFilesDo(t *testing.T) {
	t.Parallel()
	s := registry(t)
	for _, c := range []struct{ shell, file, shadow, expand string }{
		{"bash", ".bashrc", "alias weir='echo my own alias'\nexport PATH=/decoy:$PATH GOTOOLCHAIN=auto\n", "$GOTOOLCHAIN"},
		{"zsh", ".zshrc", "alias weir='echo my own alias'\nexport PATH=/decoy:$PATH GOTOOLCHAIN=auto\n", "$GOTOOLCHAIN"},
		{"fish", ".config/fish/config.fish", "alias weir='echo my own alias'\nset -gx PATH /decoy $PATH\nset -gx GOTOOLCHAIN auto\n", "$GOTOOLCHAIN"},
	} {
		t.Run(c.shell, func(t *testing.T) {
			path, err := exec.LookPath(c.shell)
			if err != nil {
				lacks.Program(t, c.shell)
			}
			h := newHut(t, s, goAndNode)
			h.ok("lock")
			h.ok("fit")
			home := filepath.Dir(h.home)
			file := filepath.Join(home, c.file)
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			decoy := strings.ReplaceAll(c.shadow, "/decoy", filepath.Join(home, "decoy"))
			if err := os.WriteFile(file, []byte(decoy), 0o644); err != nil {
				t.Fatal(err)
			}
			if err := os.MkdirAll(filepath.Join(home, "decoy"), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(home, "decoy/go"), []byte("#!/bin/sh\necho decoy\n"), 0o755); err != nil {
				t.Fatal(err)
			}
			h.env = append(h.env, "TERM=xterm")
			sh := h.session("shell", "--login", path)
			sh.hears("heronweir | ")
			sh.say("go version")
			sh.hears("go version go1.24.6")
			sh.say("weir")
			sh.hears("my own alias")
			sh.say("echo chain-" + c.expand + "-")
			sh.hears("chain-local-")
			sh.say("command -v go; echo in:$TRAMMEL_PROJECT")
			sh.hears("in:heronweir")
			sh.say(program + " shell")
			sh.hears("this is a shell of heronweir already")
			sh.say(program + " verify")
			sh.hears("and this shell has them")
			sh.say("exit 7")
			sh.cmd.Wait()
			if code := sh.cmd.ProcessState.ExitCode(); code != 7 {
				t.Errorf("exit code %d, not 7", code)
			}
			if strings.Contains(sh.text(), "decoy\r\n") {
				t.Error("a start-up file shadowed a tool")
			}
		})
	}
}

func TestVerifyFindsWhatShadowsAToolInALivingShell(t *testing.T) {
	t.Parallel()
	h := newHut(t, registry(t), goAndNode)
	h.ok("lock")
	h.ok("fit")
	decoy := filepath.Join(h.dir, "decoy")
	h.write("decoy/go", "#!/bin/sh\n")
	os.Chmod(filepath.Join(decoy, "go"), 0o755)
	h.fails(3, []string{"go ", "is shadowed by " + decoy + "/go", "WEIR_UNITS", "has another value"},
		"run", "--", "sh", "-c", "PATH="+decoy+":$PATH WEIR_UNITS=x "+program+" verify")
}

func TestAnOrdinaryUserCanDoEverything(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	if os.Getuid() != 0 {
		t.Skip("the tests run as an ordinary user already")
	}
	h := demoHut(t)
	asOrdinaryUser(t, h)
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	pids := tree(statuses(t, h))
	h.ok("verify", "--deep")
	if out := h.ok("do", "count", "silverfin"); !strings.Contains(out, "lane-1/silverfin") {
		t.Errorf("do:\n%s", out)
	}
	for _, st := range statuses(t, h) {
		if st.Weak {
			t.Skip("the kernel gives an ordinary user no namespaces here")
		}
	}
	h.ok("stop")
	gone(t, pids)
}
