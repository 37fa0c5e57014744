package sandbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/kernel/within"
)

// Command is the command line that does in a view, started by anybody, what path
// and argv would do outside. A path "" looks argv[0] up in the PATH, inside.
func Command(v View, dir, path string, argv []string) (file string, args []string, err error) {
	file, err = os.Executable()
	return file, append([]string{within.ViewName, string(within.Order{View: v, Dir: dir, Path: path}.Pack())}, argv...), err
}

// Run runs a command in a view, on this process's terminal and files, and returns
// its exit code, or 128 and the signal's number. An error means that the command
// was not started. Signals that come to this process are the command's from then on.
func Run(v View, dir, path string, argv, env []string) (code int, err error) {
	code, err = within.Run(within.Order{View: v, Dir: dir, Path: path}, argv, env)
	return code, explained(err)
}

// explained is an error with what to do about it where the kernel gives no namespaces.
func explained(err error) error {
	var no *within.NotGiven
	if errors.As(err, &no) {
		return refusedBy(no.Reason)
	}
	return err
}

// Make runs a command in a root that is being made, where it may write, with
// nothing of the host.
func Make(ctx context.Context, root string, argv []string) error {
	nothing, err := os.Open(os.DevNull)
	if err != nil {
		return err
	}
	defer nothing.Close()
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer read.Close()
	o := within.Order{View: View{Root: root, Closed: true, Work: "/"}, Dir: "/", Making: true}
	e, err := within.Start(o, argv, []string{"PATH=/usr/sbin:/usr/bin", "LC_ALL=C.UTF-8", "HOME=/"}, [3]*os.File{nothing, write, write})
	write.Close()
	if err != nil {
		return explained(err)
	}
	defer e.Close()
	defer context.AfterFunc(ctx, func() { e.Signal(syscall.SIGKILL) })()
	said := make(chan string, 1)
	go func() {
		raw, _ := io.ReadAll(io.LimitReader(read, 1<<20))
		_, _ = io.Copy(io.Discard, read)
		said <- strings.TrimSpace(string(raw))
	}()
	if err := e.Began(); err != nil {
		_, _ = e.Wait()
		return explained(err)
	}
	status, err := e.Wait()
	switch {
	case err == nil && status.Signaled():
		err = fmt.Errorf("%s: %s: %s", argv[0], status.Signal(), <-said)
	case err == nil && status.ExitStatus() != 0:
		err = fmt.Errorf("%s: exit status %d: %s", argv[0], status.ExitStatus(), <-said)
	}
	return err
}

// Available tells why views cannot be entered here; nil when they can.
func Available() error { return explained(within.Given()) }
