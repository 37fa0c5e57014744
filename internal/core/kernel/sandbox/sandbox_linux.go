package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"app.example/trammel/internal/core/kernel/within"
)

// Command is the command line that does in a view, started by anybody, what path
// and argv would do outside. A path "" looks argv[0] up in the PATH, inside.
func Command(v View, dir, path string, argv []string) (file string, args []string, err error) {
	told, err := json.Marshal(within.Order{View: v, Dir: dir, Path: path})
	if err != nil {
		return "", nil, err
	}
	file, err = os.Executable()
	return file, append([]string{Name, string(told)}, argv...), err
}

// Main is the life of a process that enters a view and runs a command in it. main
// calls it when argv[0] is Name or the name of the process inside; it does not
// return.
func Main() {
	if os.Args[0] == within.ViewName {
		within.Enter()
	}
	var o within.Order
	if len(os.Args) < 3 || json.Unmarshal([]byte(os.Args[1]), &o) != nil {
		fmt.Fprintln(os.Stderr, "trammel: it is started by trammel itself")
		os.Exit(126)
	}
	code, err := run(o, os.Args[2:], os.Environ())
	if err != nil {
		fmt.Fprintf(os.Stderr, "trammel: %v\n", err)
	}
	os.Exit(code)
}

// Inside tells whether argv[0] is that of a process of this package.
func Inside() bool { return os.Args[0] == Name || os.Args[0] == within.ViewName }

// Run runs a command in a view, on this process's terminal and files, and returns
// its exit code, or 128 and the signal's number. An error means that the command
// was not started. Signals that come to this process are the command's from then on.
func Run(v View, dir, path string, argv, env []string) (code int, err error) {
	return run(within.Order{View: v, Dir: dir, Path: path}, argv, env)
}

func run(o within.Order, argv, env []string) (int, error) {
	code, err := within.Run(o, argv, env)
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
	e, err := within.Start(o, argv, []string{"PATH=/usr/sbin:/usr/bin", "LC_ALL=C.UTF-8", "HOME=/"}, [3]*os.File{nothing, write, write}, within.Attributes(true))
	write.Close()
	if err != nil {
		return explained(err)
	}
	defer e.Close()
	defer context.AfterFunc(ctx, func() { _ = e.Process.Kill() })()
	said := make(chan string, 1)
	go func() {
		raw, _ := io.ReadAll(io.LimitReader(read, 1<<20))
		_, _ = io.Copy(io.Discard, read)
		said <- strings.TrimSpace(string(raw))
	}()
	if err := e.Began(); err != nil {
		_, _ = e.Process.Wait()
		return explained(err)
	}
	state, err := e.Process.Wait()
	if err == nil && !state.Success() {
		err = fmt.Errorf("%s: %s: %s", argv[0], state, <-said)
	}
	return err
}

// Available tells why views cannot be entered here; nil when they can.
func Available() error {
	process, err := os.StartProcess("/proc/self/exe", []string{within.ViewName}, &os.ProcAttr{Sys: within.Attributes(true)})
	if errno, refused := within.Refused(err); refused {
		return refusedBy(errno)
	}
	if err != nil {
		return err
	}
	_, _ = process.Wait()
	return nil
}
