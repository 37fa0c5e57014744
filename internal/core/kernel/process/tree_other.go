//go:build !linux

package process

import (
	"os/exec"
	"syscall"
)

func groupAttributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

func startTree(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }

// Init is never played where there are no namespaces.
func Init() {}

func programBelow(pid int) int { return pid }

func startWeak(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }

// DieWithThread does nothing here: there is no such promise of the kernel.
func DieWithThread(*exec.Cmd) {}

// startGroup is the fallback: the command in a process group of its own.
func startGroup(spec Spec, path string) (*Tree, error) {
	cmd := &exec.Cmd{Path: path, Args: spec.Argv, Env: spec.Env, Dir: spec.Dir, Stdout: spec.Stdout, Stderr: spec.Stderr}
	if spec.Stdin != nil {
		cmd.Stdin = spec.Stdin
	}
	cmd.SysProcAttr = groupAttributes()
	var err error
	if spec.On(func() { err = cmd.Start() }); err != nil {
		return nil, err
	}
	t := &Tree{Pid: cmd.Process.Pid, Weak: true, done: make(chan struct{})}
	if spec.Born != nil {
		if err := spec.Born(t.Pid); err != nil {
			_ = syscall.Kill(-t.Pid, syscall.SIGKILL)
			_ = cmd.Wait()
			return nil, err
		}
	}
	go func() {
		err := cmd.Wait()
		t.mu.Lock()
		defer t.mu.Unlock()
		_ = syscall.Kill(-t.Pid, syscall.SIGKILL) // what it left in its group
		t.exit = exitOf(cmd.ProcessState, err)
		close(t.done)
	}()
	return t, nil
}
