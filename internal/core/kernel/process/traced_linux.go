package process

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// Executed is a program that a process became.
type Executed struct {
	File      string // of the program, or of the interpreter of a script
	Started   string // the path that was asked for: of a script, the script's
	Elsewhere bool   // it sees other folders than this process, so that File is of those
}

// Traced runs a command and tells of every program that it and its descendants become (PTRACE_O_TRACEEXEC in
// ptrace(2)). It needs no rights: a process may trace its own children. What outlives the command goes on, and
// is told of no more. Stopping it from a terminal does not work meanwhile.
// Errors: it cannot be started, or this kernel lets nobody trace.
func Traced(spec Spec, told func(Executed)) (Exit, error) {
	runtime.LockOSThread() // who traces is a thread
	defer runtime.UnlockOSThread()
	cmd := &exec.Cmd{
		Path: spec.Path, Args: spec.Argv, Env: spec.Env, Dir: spec.Dir,
		SysProcAttr: &syscall.SysProcAttr{Ptrace: true},
	}
	if spec.Stdin != nil {
		cmd.Stdin = spec.Stdin
	}
	if spec.Stdout != nil {
		cmd.Stdout = spec.Stdout
	}
	if spec.Stderr != nil {
		cmd.Stderr = spec.Stderr
	}
	if err := cmd.Start(); err != nil {
		return Exit{}, err
	}
	main := cmd.Process.Pid
	var status unix.WaitStatus
	if _, err := unix.Wait4(main, &status, unix.WALL, nil); err != nil || !status.Stopped() {
		return Exit{}, fmt.Errorf("%s cannot be watched: %w", spec.Path, errors.Join(err, errNotStopped))
	}
	const options = unix.PTRACE_O_TRACEEXEC | unix.PTRACE_O_TRACEFORK | unix.PTRACE_O_TRACEVFORK | unix.PTRACE_O_TRACECLONE
	if err := unix.PtraceSetOptions(main, options); err != nil {
		return Exit{}, fmt.Errorf("%s cannot be watched: %w", spec.Path, err)
	}
	here, _ := os.Readlink("/proc/self/ns/mnt")
	told(executed(main, here))
	known := map[int]bool{main: true}
	if err := unix.PtraceCont(main, 0); err != nil {
		return Exit{}, err
	}
	for {
		pid, err := unix.Wait4(-1, &status, unix.WALL, nil)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return Exit{}, err
		}
		switch {
		case pid == main && status.Exited():
			return Exit{Code: status.ExitStatus()}, nil
		case pid == main && status.Signaled():
			return Exit{Code: 128 + int(status.Signal())}, nil
		case !status.Stopped():
			continue
		}
		pass := 0
		switch signal := status.StopSignal(); {
		case signal == unix.SIGTRAP && status.TrapCause() == unix.PTRACE_EVENT_EXEC:
			told(executed(pid, here))
		case signal == unix.SIGTRAP && status.TrapCause() > 0, signal == unix.SIGSTOP && !known[pid]: // one that is new stops first
		case signal != unix.SIGTRAP:
			pass = int(signal)
		}
		known[pid] = true
		_ = unix.PtraceCont(pid, pass) // it may have been killed meanwhile
	}
}

var errNotStopped = errors.New("it did not stop")

func executed(pid int, here string) Executed {
	dir := fmt.Sprintf("/proc/%d", pid)
	var e Executed
	e.File, _ = os.Readlink(dir + "/exe")
	there, err := os.Readlink(dir + "/ns/mnt")
	e.Elsewhere = err == nil && there != here
	e.Started = e.File
	if name := startedAs(dir); name != "" {
		if !filepath.IsAbs(name) {
			at, _ := os.Readlink(dir + "/cwd")
			name = filepath.Join(at, name)
		}
		e.Started = name
	}
	return e
}

// startedAs is the path by which the kernel was asked to start a process: the entry AT_EXECFN of its auxiliary
// vector is the address of it in its memory (getauxval(3)).
func startedAs(dir string) string {
	const execFn = 31
	vector, err := os.ReadFile(dir + "/auxv")
	if err != nil {
		return ""
	}
	for ; len(vector) >= 16; vector = vector[16:] { // two words; all platforms of this program have 64 bits
		if binary.NativeEndian.Uint64(vector) != execFn {
			continue
		}
		memory, err := os.Open(dir + "/mem")
		if err != nil {
			return ""
		}
		defer memory.Close()
		text := make([]byte, unix.PathMax)
		n, _ := memory.ReadAt(text, int64(binary.NativeEndian.Uint64(vector[8:])))
		if end := bytes.IndexByte(text[:n], 0); end > 0 {
			return string(text[:end])
		}
		return ""
	}
	return ""
}
