// Package process runs a command so that nothing of it is left behind.
//
// On Linux every tree has a pid namespace of its own with a tiny init (this
// program, re-executed): when the init goes, the kernel ends everything in the
// namespace, double-forkers included. The init goes when it is told to, when the
// command ends, and when the process that started it dies, which it learns from
// the parent-death signal and from the end of a control pipe. Where the kernel
// refuses namespaces the init adopts what the command leaves behind (PR_SET_CHILD_SUBREAPER
// in prctl(2)) and ends it by itself, which one that is killed cannot; on other systems a
// tree is a process group, and a process that leaves its group outlives the tree. Tree.Weak
// says so.
package process

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"app.example/trammel/internal/core/kernel/within"
)

// Spec is what to run.
type Spec struct {
	Path   string // the file to run; "" looks Argv[0] up in the PATH of Env
	Argv   []string
	Env    []string
	Dir    string
	Stdin  *os.File // nil: nothing
	Stdout *os.File
	Stderr *os.File

	// On runs the fork on a thread that lives as long as this process, and that decides
	// which network the tree is in. nil: this process's own.
	On func(fork func())

	// Born is told the pid of the tree's init before anything of the command runs; an error
	// ends the start. On systems without such an init it is told when the command runs.
	Born func(pid int) error
}

// Exit is how a command ended.
type Exit struct {
	Code   int            // exit code, or 128 + the signal's number
	Signal syscall.Signal // 0 when it ended by itself
	Left   string         // a process that the command left behind, by its name, and that was ended; "" when there was none
}

// OK tells whether the command ended well.
func (e Exit) OK() bool { return e.Code == 0 }

func (e Exit) String() string {
	if e.Signal != 0 {
		return "ended by signal " + strings.ToUpper(e.Signal.String())
	}
	return "exit code " + strconv.Itoa(e.Code)
}

// Tree is a running command and all that it started.
type Tree struct {
	Pid  int  // of the init, or of the command itself when Weak
	Weak bool // without a namespace

	control *os.File
	done    chan struct{}
	exit    Exit
	mu      sync.Mutex
}

// Start runs a command in a tree of its own.
func Start(spec Spec) (*Tree, error) {
	path := spec.Path
	if path == "" {
		var err error
		if path, err = LookPath(spec.Argv[0], spec.Env, spec.Dir); err != nil {
			return nil, err
		}
	}
	if spec.On == nil {
		spec.On = onStarter
	}
	return startTree(spec, path)
}

// onStarter forks on one thread that lives as long as this process: the parent-death
// signal follows the thread that forked, not the process (prctl(2), PR_SET_PDEATHSIG).
// Only the fork is made there; what follows it is the caller's, so that many trees
// start at once.
func onStarter(fork func()) {
	done := make(chan struct{})
	starter() <- func() { fork(); close(done) }
	<-done
}

var starter = sync.OnceValue(func() chan<- func() {
	forks := make(chan func())
	go func() {
		runtime.LockOSThread()
		for f := range forks {
			f()
		}
	}()
	return forks
})

// Wait blocks until the command has ended and its tree is gone.
func (t *Tree) Wait() Exit {
	<-t.done
	return t.exit
}

// Done is closed when the command has ended and its tree is gone.
func (t *Tree) Done() <-chan struct{} { return t.done }

// Program is the pid of the program that the tree is there for, as this process sees it:
// the first below the init that is not this program under one of its other names.
func (t *Tree) Program() int { return programBelow(t.Pid) }

// Signal sends a signal to the command's process group.
func (t *Tree) Signal(s syscall.Signal) {
	t.mu.Lock()
	defer t.mu.Unlock()
	select {
	case <-t.done:
		return
	default:
	}
	if t.control != nil {
		_, _ = t.control.Write([]byte{byte(s)})
		return
	}
	_ = syscall.Kill(-t.Pid, s)
}

// Kill ends the whole tree at once.
func (t *Tree) Kill() {
	t.mu.Lock()
	defer t.mu.Unlock()
	select {
	case <-t.done:
		return
	default:
	}
	switch {
	case !t.Weak:
		_ = syscall.Kill(t.Pid, syscall.SIGKILL) // and the kernel ends its namespace
	case t.control != nil:
		_, _ = t.control.Write([]byte{within.KillAll}) // its init ends all that it has
	default:
		_ = syscall.Kill(-t.Pid, syscall.SIGKILL)
	}
}

func exitOf(state *os.ProcessState, err error) Exit {
	if state == nil {
		return Exit{Code: 127}
	}
	status, ok := state.Sys().(syscall.WaitStatus)
	if ok && status.Signaled() {
		return Exit{Code: 128 + int(status.Signal()), Signal: status.Signal()}
	}
	return Exit{Code: state.ExitCode()}
}

// parseExit reads the init's last line: "exit CODE SIGNAL LEFT".
func parseExit(line string) (Exit, bool) {
	var e Exit
	var signal int
	if _, err := fmt.Sscanf(line, "exit %d %d %q", &e.Code, &signal, &e.Left); err != nil {
		return e, false
	}
	if signal != 0 {
		e.Signal, e.Code = syscall.Signal(signal), 128+signal
	}
	return e, true
}

// NotFound is a command that is not on its environment's PATH.
type NotFound struct{ Command string }

func (e *NotFound) Error() string { return fmt.Sprintf("there is no command %q", e.Command) }

// LookPath finds the file of a command in the PATH of an environment, which is
// not this process's own.
func LookPath(command string, env []string, dir string) (string, error) {
	if strings.Contains(command, "/") {
		full := command
		if !filepath.IsAbs(full) {
			full = filepath.Join(dir, full)
		}
		return full, runnable(full)
	}
	path := ""
	for _, line := range env {
		if value, ok := strings.CutPrefix(line, "PATH="); ok {
			path = value
		}
	}
	var refused error
	for _, folder := range filepath.SplitList(path) {
		full := filepath.Join(folder, command)
		err := runnable(full)
		if err == nil {
			return full, nil
		}
		if refused == nil && !errors.Is(err, os.ErrNotExist) && !errors.As(err, new(*NotFound)) {
			refused = err
		}
	}
	if refused != nil {
		return "", refused
	}
	return "", &NotFound{command}
}

func runnable(path string) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return &NotFound{path}
	case err != nil:
		return err
	case info.IsDir():
		return &NotFound{path}
	case info.Mode()&0o111 == 0:
		return fmt.Errorf("%s may not be executed: %w", path, os.ErrPermission)
	}
	return nil
}

// readAll is what an init wrote before it ended.
func readAll(r io.Reader) string {
	b, _ := io.ReadAll(io.LimitReader(r, 64<<10))
	return string(b)
}
