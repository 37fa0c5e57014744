package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

// gap is a command that came from the host.
type gap struct{ name, file string }

// runGaps runs a command in clean isolation with the rest of the host's commands behind it, watches what it and
// all that it starts execute, and lists what came from the host.
func runGaps(ctx context.Context, c *cli.Command, plan *environ.Compiled, dir string, args []string) error {
	h := hostNow()
	if err := plan.Isolate(declare.Clean, h); err != nil {
		return err
	}
	allowed := allowedOf(plan, h)
	plan.Environment.Path = append(plan.Environment.Path, filepath.SplitList(os.Getenv("PATH"))...)
	env := plan.Ready(h).Environ(dir)
	file, err := lookIn(plan, args[0], env, dir)
	if err != nil {
		return err
	}
	if file, args, err = script.Through(file, args, env); err != nil {
		return err
	}
	// The terminal sends its signals to the command itself.
	signal.Ignore(os.Interrupt, syscall.SIGQUIT)
	var found []gap
	exit, err := process.Traced(process.Spec{Path: file, Argv: args, Env: env, Dir: dir, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}, func(e process.Executed) {
		if g, is := allowed.gap(e); is && !slices.Contains(found, g) {
			found = append(found, g)
		}
	})
	if err != nil {
		return fault.New(fault.ErrFailed, "what it executes cannot be watched: %v", err).
			Advise("Where tracing is switched off (kernel.yama.ptrace_scope = 3, or a container), run it elsewhere, or without --gaps.")
	}
	reportGaps(screen(c), plan, found)
	if !exit.OK() {
		return exitCode(max(exit.Code, 1))
	}
	return nil
}

// allowance is what may be executed: folders of the environment, and files of the host that show.
type allowance struct {
	folders []string
	files   map[string]bool // without links
	path    string          // the host's PATH
}

func allowedOf(plan *environ.Compiled, h host.Host) allowance {
	a := allowance{folders: []string{plan.Places.Data + "/", plan.Dir + "/"}, files: map[string]bool{}, path: h.Getenv("PATH")}
	for _, file := range environ.LinksOf(nil, plan.Places.HostLinks(), plan.Host, a.path, h.Program).Shown {
		a.files[realOf(file)] = true
	}
	return a
}

func realOf(file string) string {
	if to, err := filepath.EvalSymlinks(file); err == nil {
		return to
	}
	return file
}

// has tells whether a file, without links, is of the environment.
func (a allowance) has(file string) bool {
	return a.files[file] || slices.ContainsFunc(a.folders, func(f string) bool { return strings.HasPrefix(file, f) })
}

// gap tells what of the host was executed: the file itself, or the interpreter of a script.
func (a allowance) gap(e process.Executed) (gap, bool) {
	if e.Elsewhere { // in a root, which has nothing of the host
		return gap{}, false
	}
	for _, file := range []string{e.Started, e.File} {
		real := realOf(file)
		if a.has(real) {
			continue
		}
		name := filepath.Base(file)
		if realOf(environ.FindHost(name, a.path)) != real {
			name = filepath.Base(real)
		}
		return gap{name, file}, true
	}
	return gap{}, false
}

// reportGaps lists the commands that came from the host, with what provides each.
func reportGaps(s *ui.Screen, plan *environ.Compiled, found []gap) {
	if len(found) == 0 {
		s.Say("\nNo gap: everything it executed is part of %s.", plan.Project)
		return
	}
	slices.SortFunc(found, func(a, b gap) int { return strings.Compare(a.name, b.name) })
	s.Say("\nFrom the host, and not from %s:", plan.Project)
	names := slices.Clone(plan.Host)
	for _, g := range found {
		advice := "add it to host, or declare what provides it"
		if tool := provider(g.name); tool != "" {
			advice = "trammel set " + shell.Typed(tool) + "=latest"
		}
		s.Say("  %-16s  %-28s  %s", g.name, g.file, advice)
		names = append(names, g.name)
	}
	var quoted []string
	for _, name := range slices.Compact(names) {
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
