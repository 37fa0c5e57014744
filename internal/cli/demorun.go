package cli

import (
	"context"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// demoRun runs the program itself in a folder, on this terminal, and returns its
// exit code: what the demo shows is what a person would see.
func demoRun(ctx context.Context, self, dir string, args []string) int {
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = dir, os.Stdin, os.Stdout, os.Stderr
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGINT) }
	cmd.WaitDelay = 30 * time.Second
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		return 127
	}
	return cmd.ProcessState.ExitCode()
}
