package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/demo"
	"app.example/trammel/internal/standin"
)

// world is a machine with one project, in a folder of its own.
type world struct {
	root    string
	program string
	dir     string // the project
	env     []string
	user    *syscall.Credential // who runs the program; nil: the caller
}

// declaration has something of everything that leaves a trace on the disk: tools of
// many files, steps that need one another, a rendered file, services.
const declaration = `format    = 1
project   = "heronweir"
isolation = "open"

[source.hut]
kind = "catalog"
url  = "../tools"

[source.team]
kind = "catalog"
url  = "../catalog"

[toolchain]
weirs   = { version = "1", from = "hut" }
fry     = { version = "1", from = "hut" }
tallydb = { version = "2", from = "team" }

[variables]
LEDGER = "@{service.ledger.address}"

[param.lanes]
kind    = "integer"
default = 3

[file."lanes.conf"]
template = "lanes.tmpl"

[step.load]
run   = "mkdir -p out && echo begin > out/load && sleep 0.03 && cat in/count > out/count && echo end >> out/load"
makes = ["out/load", "out/count"]
reads = ["in/*"]

[step.sum]
needs = ["step.load"]
run   = "tail -n 1 out/load | grep -q end && sleep 0.02 && cp out/count out/sum"
makes = ["out/sum"]
reads = ["in/*"]

[service.ledger]
run   = "tallydb serve --listen 127.0.0.1:@{port.main} --file @{bay.dir}/data/ledger.tally"
ports = { main = 18590 }

[service.lane]
run    = "tallydb lane --listen 127.0.0.1:@{port.http} --lane @{copy}"
copies = 2
needs  = ["service.ledger"]
ports  = { http = 18600 }
ready  = { http = "/health", within = "20s" }
`

// build builds the program from this module.
func build(root string) (string, error) {
	program := filepath.Join(root, "trammel")
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags=-s -w", "-o", root+"/", "app.example/trammel/cmd/trammel", "app.example/trammel/internal/demo/engine")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return program, os.Chmod(root, 0o755)
}

func newWorld(root, program string) (*world, error) {
	w := &world{root: root, program: program, dir: filepath.Join(root, "heronweir")}
	w.env = []string{"PATH=" + os.Getenv("PATH"), "TRAMMEL_HOME=" + w.home(), "HOME=" + root, "CI=true", "TRAMMEL_CAMPAIGN=" + root}
	if err := os.MkdirAll(root, 0o755); err != nil {
		return nil, err
	}
	if err := demo.WriteCatalog(filepath.Join(root, "catalog"), filepath.Join(filepath.Dir(program), "engine")); err != nil {
		return nil, err
	}
	var tools []standin.Tool
	for _, name := range []string{"weirs", "fry"} {
		t := standin.Tool{Name: name}
		for v := range 2 {
			entries := []standin.File{{Name: "bin/" + name, Mode: 0o755, Content: fmt.Sprintf("#!/bin/sh\necho %s 1.%d\n", name, v)}}
			for i := range 300 {
				entries = append(entries, standin.File{Name: fmt.Sprintf("share/%02d/%03d.txt", i%20, i), Content: strings.Repeat(fmt.Sprintf("%s %d %d\n", name, v, i), 200)})
			}
			t.Archives = append(t.Archives, standin.TarGz(entries...))
		}
		tools = append(tools, t)
	}
	if err := standin.Publish(filepath.Join(root, "tools"), tools); err != nil {
		return nil, err
	}
	for name, text := range map[string]string{"trammel.toml": declaration, "in/count": "silverfin 212\n", "lanes.tmpl": "lanes = {{ .param.lanes }}\n"} {
		if err := w.put(name, text); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func (w *world) home() string  { return filepath.Join(w.root, "home") }
func (w *world) store() string { return filepath.Join(w.home(), "data/store") }

func (w *world) put(name, text string) error {
	path := filepath.Join(w.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o644)
}

// outcome is how a command ended.
type outcome struct {
	args []string
	code int
	said string
}

func (w *world) command(args ...string) (*exec.Cmd, *bytes.Buffer) {
	cmd := exec.Command(w.program, args...)
	cmd.Dir, cmd.Env = w.dir, w.env
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: w.user}
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	// What a killed command started may hold its pipes for a moment.
	cmd.WaitDelay = 10 * time.Second
	return cmd, &said
}

// try runs the program to its end, which it must find within two minutes.
func (w *world) try(args ...string) (outcome, error) {
	cmd, said := w.command(args...)
	if err := cmd.Start(); err != nil {
		return outcome{}, err
	}
	late := time.AfterFunc(2*time.Minute, func() { _ = cmd.Process.Kill() })
	err := cmd.Wait()
	if !late.Stop() {
		return outcome{}, fmt.Errorf("trammel %s does not end:\n%s", strings.Join(args, " "), said)
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return outcome{}, err
	}
	o := outcome{args, cmd.ProcessState.ExitCode(), said.String()}
	if strings.Contains(o.said, "goroutine ") {
		return o, o.wrong("crashed")
	}
	return o, nil
}

func (o outcome) wrong(what string) error {
	return fmt.Errorf("trammel %s %s, exit code %d:\n%s", strings.Join(o.args, " "), what, o.code, o.said)
}

// must runs commands that end well.
func (w *world) must(commands ...[]string) error {
	for _, args := range commands {
		o, err := w.try(args...)
		if err != nil {
			return err
		}
		if o.code != 0 {
			return o.wrong("failed")
		}
	}
	return nil
}

// refuses runs a command that must fail and say something.
func (w *world) refuses(words []string, args ...string) error {
	o, err := w.try(args...)
	if err != nil {
		return err
	}
	if o.code == 0 {
		return o.wrong("ended well, which it cannot")
	}
	for _, word := range words {
		if !strings.Contains(strings.ToLower(o.said), strings.ToLower(word)) {
			return o.wrong(fmt.Sprintf("does not say %q", word))
		}
	}
	return nil
}

// end stops what still runs.
func (w *world) end() {
	_, _ = w.try("stop")
	for _, pid := range w.processes() {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// processes are those that work in this world: started from it, or in it.
func (w *world) processes() []int {
	var out []int
	all, _ := filepath.Glob("/proc/[0-9]*")
	for _, proc := range all {
		exe, _ := os.Readlink(proc + "/exe")
		cwd, _ := os.Readlink(proc + "/cwd")
		if strings.HasPrefix(exe, w.root+"/") || strings.HasPrefix(cwd, w.root+"/") || w.marked(proc) {
			var pid int
			if _, err := fmt.Sscanf(proc, "/proc/%d", &pid); err == nil && pid != os.Getpid() && alive(pid) {
				out = append(out, pid)
			}
		}
	}
	return out
}

func (w *world) marked(proc string) bool {
	raw, err := os.ReadFile(proc + "/environ")
	return err == nil && bytes.Contains(raw, []byte("TRAMMEL_CAMPAIGN="+w.root+"\x00"))
}

// alive tells whether a process runs: a zombie waits for nobody but its parent.
func alive(pid int) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	text := string(raw)
	after := text[strings.LastIndexByte(text, ')')+1:]
	return len(after) > 1 && after[1] != 'Z' && after[1] != 'X'
}

func parentOf(pid int) int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	text := string(raw)
	fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:])
	parent := 0
	if len(fields) > 1 {
		_, _ = fmt.Sscan(fields[1], &parent)
	}
	return parent
}

// eventually waits for something to hold; what it says last is the error.
func eventually(holds func() error) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for {
		err := holds()
		if err == nil || ctx.Err() != nil {
			return err
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func removeAll(path string) { _ = disk.RemoveAll(path) }

// remove takes a tree away that is closed for writing.
func (w *world) remove(path string) error {
	_ = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			return os.Chmod(p, 0o755)
		}
		return nil
	})
	return os.RemoveAll(path)
}
