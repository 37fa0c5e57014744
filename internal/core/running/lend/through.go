package lend

import (
	"bufio"
	"context"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
)

// allocated is what ssh(1) says of a port that the server chose (-R with port 0).
var allocated = lazy.Regexp(`Allocated port (\d+) for remote forward`)

// Through has an SSH server ("[USER@]HOST[:PORT]") forward to a port of this machine, by the person's
// own ssh with its settings, keys and known hosts; what ssh asks is answered on stdin. port is the one
// that the server listens on, and ended is closed when it no longer does. The way ends with ctx, and
// with this process, however that ends. An error is fault.ErrUsage where there is no ssh, and
// fault.ErrSource where the server does not forward, with ssh's last words.
func Through(ctx context.Context, through string, local int, stdin io.Reader) (ended <-chan struct{}, port int, err error) {
	path, err := exec.LookPath("ssh")
	if err != nil {
		return nil, 0, fault.New(fault.ErrUsage, "there is no ssh on this machine").Advise("Install OpenSSH's client, or lend on the local network: without --through")
	}
	target, number := through, ""
	if h, n, err := net.SplitHostPort(through[strings.LastIndex(through, "@")+1:]); err == nil {
		target, number = through[:strings.LastIndex(through, "@")+1]+h, n
	}
	// The server's own rules say whether others reach the port (GatewayPorts in sshd_config(5)).
	args := []string{"-N", "-T", "-o", "ExitOnForwardFailure=yes", "-o", "ServerAliveInterval=15", "-R", "*:0:127.0.0.1:" + strconv.Itoa(local)}
	if number != "" {
		args = append(args, "-p", number)
	}
	cmd := exec.CommandContext(ctx, path, append(args, "--", target)...)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 2 * time.Second
	cmd.Stdin = stdin
	said, saying := io.Pipe()
	cmd.Stderr = saying
	started := make(chan error, 1)
	over := make(chan struct{})
	go func() {
		defer close(over)
		// It ends with this process, even with one that is killed: the kernel sees to that by
		// the thread that started it, which is kept for as long.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		process.DieWithThread(cmd)
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
		}
		saying.Close()
	}()
	if err := <-started; err != nil {
		return nil, 0, err
	}
	found := make(chan int, 1)
	lines := make(chan string, 64)
	go func() {
		defer close(lines)
		scan := bufio.NewScanner(said)
		for scan.Scan() {
			if m := allocated().FindStringSubmatch(scan.Text()); m != nil {
				n, _ := strconv.Atoi(m[1])
				found <- n
				continue
			}
			select {
			case lines <- scan.Text():
			default:
			}
		}
	}()
	select {
	case n := <-found:
		return over, n, nil
	case <-over:
	case <-ctx.Done():
		return nil, 0, context.Cause(ctx)
	}
	var last string
	for line := range lines {
		if line != "" {
			last = line
		}
	}
	return nil, 0, fault.New(fault.ErrSource, "%s does not forward: %s", through, strings.TrimSpace(last)).Advise("Try it by hand: ssh %s", shell.Typed(through))
}
