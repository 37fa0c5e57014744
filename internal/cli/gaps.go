package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

// gapsLog is the variable that holds the file in which commands of the host are
// noted while `run --gaps` runs something.
const gapsLog = "TRAMMEL_GAPS"

// Gap is the life of this program under the name of a host command, behind the
// end of the PATH of `run --gaps`: it notes that the command was wanted and then
// becomes it, so that one run finds every gap. It returns when argv[0] is no such
// name.
func Gap(args []string) {
	log := os.Getenv(gapsLog)
	name := filepath.Base(args[0])
	if log == "" || name == "trammel" {
		return
	}
	f, err := os.OpenFile(log, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return
	}
	fmt.Fprintln(f, name)
	f.Close()
	file := environ.FindHost(name, os.Getenv(gapsLog+"_PATH"))
	if file != "" {
		err = syscall.Exec(file, args, os.Environ())
	}
	fmt.Fprintf(os.Stderr, "%s: cannot be started: %v\n", name, err)
	os.Exit(126)
}

// runGaps runs a command in clean isolation with the rest of the host's commands
// behind it, and lists those that it used.
func runGaps(ctx context.Context, c *cli.Command, plan *environ.Compiled, dir string, args []string) error {
	if err := plan.Isolate(declare.Clean, hostNow()); err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "trammel-gaps-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	log := filepath.Join(folder, "log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	host := os.Getenv("PATH")
	bin := filepath.Join(folder, "bin")
	if err := os.Mkdir(bin, 0o755); err != nil {
		return err
	}
	for _, name := range environ.HostCommands(host) {
		if err := os.Symlink(self, filepath.Join(bin, name)); err != nil {
			return err
		}
	}
	plan.Environment.Path = append(plan.Environment.Path, bin)
	plan.Environment.Variables = append(plan.Environment.Variables,
		environ.Variable{Name: gapsLog, Value: log}, environ.Variable{Name: gapsLog + "_PATH", Value: host})
	env := plan.Ready(hostNow()).Environ(dir)
	file, err := lookIn(plan, args[0], env, dir)
	if err != nil {
		return err
	}
	// The terminal sends its signals to the command itself.
	signal.Ignore(os.Interrupt, syscall.SIGQUIT)
	cmd := &exec.Cmd{Path: file, Args: args, Env: env, Dir: dir, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	runErr := cmd.Run()
	raw, err := disk.Read(log, disk.MostState)
	if err != nil {
		return err
	}
	reportGaps(screen(c), plan, string(raw))
	var exit *exec.ExitError
	if errors.As(runErr, &exit) {
		return exitCode(max(exit.ExitCode(), 1))
	}
	return runErr
}

// reportGaps lists the commands that came from the host, with what provides each.
func reportGaps(s *ui.Screen, plan *environ.Compiled, log string) {
	names := strings.Fields(log)
	slices.Sort(names)
	names = slices.Compact(names)
	if len(names) == 0 {
		s.Say("\nNo gap: everything it ran is part of %s.", plan.Project)
		return
	}
	s.Say("\nFrom the host, and not from %s:", plan.Project)
	for _, name := range names {
		advice := "add it to host, or declare what provides it"
		if tool := provider(name); tool != "" {
			advice = "trammel set " + shell.Typed(tool) + "=latest"
		}
		s.Say("  %-16s  %-28s  %s", name, environ.FindHost(name, os.Getenv("PATH")), advice)
	}
	var quoted []string
	for _, name := range append(slices.Clone(plan.Host), names...) {
		quoted = append(quoted, fmt.Sprintf("%q", name))
	}
	s.Say("To let all of them show: host = [%s]", strings.Join(quoted, ", "))
}

// provider is the built-in card that brings a command, or "".
func provider(command string) string {
	for _, name := range card.BuiltinNames() {
		c, _ := card.Builtin(name)
		for _, from := range c.From {
			if _, ok := from.Bin[command]; ok || slices.Contains(from.Offers, command) || from.Kind == "debian" && named(from.Commands, command) {
				return name
			}
			for _, part := range from.Parts {
				if _, ok := part.Bin[command]; ok {
					return name
				}
			}
		}
	}
	return ""
}

// named tells whether one of some globs of files ends in a pattern that is more
// than "anything" and fits a command.
func named(globs []string, command string) bool {
	return slices.ContainsFunc(globs, func(glob string) bool {
		pattern := filepath.Base(glob)
		ok, _ := filepath.Match(pattern, command)
		return ok && pattern != "*"
	})
}

// errGapsIsolation says that --gaps is about clean isolation.
var errGapsIsolation = fault.New(fault.ErrUsage, "--gaps looks for what clean isolation hides, so it goes with no other")
