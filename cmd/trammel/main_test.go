package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// program is the built program that all tests drive.
var program string

// raced is how the files begin into which programs write the races that they find, "" where none looks.
var raced string

// engine is that of the demo's tools, which is the program itself in the demo.
var engine string

func TestMain(m *testing.M) {
	if habit := os.Getenv(serverHabit); habit != "" {
		server(habit)
	}
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "trammel-test-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		defer func() { // all tests that share it have ended
			if sharedHome != "" {
				writable(sharedHome)
			}
		}()
		if err := os.Chmod(dir, 0o755); err != nil { // an ordinary user runs it too
			return 1
		}
		program = filepath.Join(dir, "trammel")
		engine = filepath.Join(dir, "engine")
		build := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags=-s -w", "-o", dir+"/", ".", "../../internal/demo/engine") // as .ci/release does, so that both compile once
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if os.Getenv("TRAMMEL_RACE") != "" { // a stage of the gate: every program that is driven looks for races
			raced = filepath.Join(dir, "race")
			build.Args = slices.Insert(build.Args, 2, "-race")
			build.Env = append(build.Env, "CGO_ENABLED=1")
		}
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
			return 1
		}
		// The tests wait for processes more than they compute.
		flag.Parse()
		if parallel := flag.Lookup("test.parallel"); parallel.Value.String() == parallel.DefValue {
			_ = parallel.Value.Set(itoa(5 * runtime.GOMAXPROCS(0)))
		}
		code := m.Run()
		if raced != "" {
			reports, _ := filepath.Glob(raced + "*")
			for _, file := range reports {
				text, _ := os.ReadFile(file)
				fmt.Fprintf(os.Stderr, "%s\n", text)
				code = 1
			}
		}
		return code
	}())
}

// hut is a person at a machine: a project folder, a TRAMMEL_HOME and settings
// that point at stand-in registries.
type hut struct {
	t        *testing.T
	dir      string // the project
	home     string // TRAMMEL_HOME
	env      []string
	user     *syscall.Credential // nil: the user who runs the tests
	wary     bool                // approves nothing by itself
	mask     string              // the file mode mask; empty: that of the tests
	approved string              // what the project looked like when it was approved last
}

// newHut makes a machine with a project. s may be nil.
func newHut(t *testing.T, s *standin.Server, declaration string) *hut {
	t.Helper()
	h := &hut{t: t, dir: filepath.Join(t.TempDir(), "heronweir"), home: filepath.Join(t.TempDir(), "home")}
	h.settings(s)
	if err := os.MkdirAll(filepath.Join(filepath.Dir(h.home), "run"), 0o700); err != nil {
		t.Fatal(err)
	}
	h.write("trammel.toml", declaration)
	// Without it a first fish fills it in the background, longer than a test lasts.
	if err := os.MkdirAll(filepath.Join(filepath.Dir(h.home), ".local/share/fish/generated_completions"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if bays, _ := os.ReadDir(filepath.Join(h.home, "state", "bays")); len(bays) > 0 {
			h.try("--quiet", "stop")
			h.try("--quiet", "clear", "--yes", "--all") // other bays
		}
		if h.home != sharedHome { // in which others have data
			writable(h.home)
		}
	})
	return h
}

// writable lets t.TempDir remove the read-only folders of a store.
func writable(root string) {
	filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			os.Chmod(path, 0o755)
		}
		return nil
	})
}

func (h *hut) settings(s *standin.Server) {
	h.env = []string{
		"PATH=" + os.Getenv("PATH"), "HOME=" + filepath.Dir(h.home), "TRAMMEL_HOME=" + h.home, "TERM=dumb", "SHELL=/bin/bash",
		"XDG_RUNTIME_DIR=" + filepath.Join(filepath.Dir(h.home), "run"),
	}
	if raced != "" {
		h.env = append(h.env, "GORACE=log_path="+raced+" halt_on_error=0 atexit_sleep_ms=0")
	}
	if s != nil {
		h.env = append(h.env, "npm_config_registry="+s.NPM(), "GOPROXY="+s.Proxy(), "GOSUMDB="+s.SumDB())
	}
}

// elsewhere is another machine with the same project folder's committed files.
func (h *hut) elsewhere(s *standin.Server) *hut {
	h.t.Helper()
	other := newHut(h.t, s, h.read("trammel.toml"))
	if lock, err := os.ReadFile(filepath.Join(h.dir, "trammel.lock")); err == nil {
		other.write("trammel.lock", string(lock))
	}
	return other
}

func (h *hut) write(name, content string) {
	h.t.Helper()
	path := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		h.t.Fatal(err)
	}
}

func (h *hut) read(name string) string {
	h.t.Helper()
	b, err := os.ReadFile(filepath.Join(h.dir, name))
	if err != nil {
		h.t.Fatal(err)
	}
	return string(b)
}

// outcome is what a run of the program left.
type outcome struct {
	out, err string
	code     int
}

func (h *hut) command(args ...string) *exec.Cmd {
	// This person approves whatever they start; a faulty project has nothing to approve.
	if !h.wary && slices.Contains([]string{"fit", "start", "do", "verify"}, args[0]) {
		if now := h.looks(); now != h.approved {
			h.wary = true
			h.try("approve", "--yes")
			h.wary = false
			h.approved = h.looks()
		}
	}
	c := exec.Command(program, args...)
	if h.mask != "" { // the tests beside this one keep theirs
		c = exec.Command("sh", slices.Concat([]string{"-c", `umask "$0" && exec "$@"`, h.mask, program}, args)...)
	}
	c.Dir, c.Env = h.dir, h.env
	if h.user != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: h.user}
	}
	return c
}

// looks is a text that is another one when a file of the project, or of what a person has
// approved, was written, came or went.
func (h *hut) looks() string {
	var b strings.Builder
	for _, dir := range []string{h.dir, filepath.Join(h.home, "state", "approvals"), filepath.Join(h.home, "config")} {
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if d.IsDir() && (d.Name() == ".trammel" || d.Name() == ".git") {
				return filepath.SkipDir
			}
			if info, err := d.Info(); err == nil && !d.IsDir() {
				fmt.Fprintln(&b, path, info.Size(), info.ModTime().UnixNano())
			}
			return nil
		})
	}
	return b.String()
}

// try runs the program and reports whatever came of it.
func (h *hut) try(args ...string) outcome {
	h.t.Helper()
	c := h.command(args...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Start(); err != nil {
		h.t.Fatal(err)
	}
	guard := time.AfterFunc(8*time.Minute, func() { c.Process.Kill() })
	defer guard.Stop()
	err := c.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return outcome{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

// ok runs the program, which must end well, and returns its output.
func (h *hut) ok(args ...string) string {
	h.t.Helper()
	o := h.try(args...)
	if o.code != 0 {
		h.t.Fatalf("trammel %s: exit code %d\n%s%s", strings.Join(args, " "), o.code, o.out, o.err)
	}
	return o.out
}

// fails runs the program, which must end with a code and say each of the words.
func (h *hut) fails(code int, words []string, args ...string) outcome {
	h.t.Helper()
	o := h.try(args...)
	all := o.out + o.err
	if o.code != code {
		h.t.Errorf("trammel %s: exit code %d, not %d\n%s", strings.Join(args, " "), o.code, code, all)
	}
	for _, w := range words {
		if !strings.Contains(all, w) {
			h.t.Errorf("trammel %s does not say %q:\n%s", strings.Join(args, " "), w, all)
		}
	}
	if strings.Contains(all, "goroutine ") {
		h.t.Errorf("trammel %s crashed:\n%s", strings.Join(args, " "), all)
	}
	return o
}

// registry is a stand-in with Go and Node in several versions.
func registry(t *testing.T) *standin.Server {
	t.Helper()
	s := standin.New()
	t.Cleanup(s.Close)
	for _, v := range []string{"1.22.9", "1.24.5", "1.24.6", "1.25rc1", "1.26.0"} {
		s.PutGo(v)
	}
	for _, v := range []string{"18.20.4", "22.11.0", "22.12.0", "24.1.0"} {
		s.PutNode(v)
	}
	return s
}

const goAndNode = `format = 1
project = "heronweir"

[toolchain]
go   = "1.24"
node = "22"

[variables]
WEIR_UNITS = "fish-per-hour"
`

func linuxOnly(t *testing.T) {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("process trees need Linux namespaces")
	}
}

// alive tells whether a process is there and no zombie.
func alive(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	return fields[0] != "Z" && fields[0] != "X"
}

// eventually waits for a condition, for at most half a minute: a bound for a
// machine that is busy, not a measurement.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for range 3000 {
		if holds() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("never came true: %s", what)
}

// globs are the files of a pattern below a folder.
func globs(dir, pattern string) []string {
	out, _ := filepath.Glob(filepath.Join(dir, pattern))
	return out
}

func itoa(n int) string { return fmt.Sprint(n) }

// asOrdinaryUser hands a machine to a user without any rights.
func asOrdinaryUser(t *testing.T, h *hut) {
	t.Helper()
	h.user = &syscall.Credential{Uid: 65534, Gid: 65534}
	home := filepath.Dir(h.home)
	h.env = append(h.env, "HOME="+home)
	for _, dir := range []string{filepath.Dir(h.dir), home} {
		for d := dir; strings.HasPrefix(d, os.TempDir()) && d != os.TempDir(); d = filepath.Dir(d) {
			os.Chmod(d, 0o755)
		}
		filepath.WalkDir(dir, func(path string, _ os.DirEntry, _ error) error { return os.Lchown(path, 65534, 65534) })
	}
}

// serveFolder publishes all files of a folder on a stand-in.
func serveFolder(t *testing.T, s *standin.Server, dir, under string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(dir, path)
		s.PutFile(under+filepath.ToSlash(below), content)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
