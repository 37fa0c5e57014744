// Package script turns what a declaration wants to run into a command, and is the
// POSIX interpreter for scripts: the same on every machine, whatever its /bin/sh
// is (mvdan.cc/sh, POSIX.1-2017 Shell Command Language).
package script

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
)

// Name is the argv[0] under which this program interprets a script: argv[1] is
// the script and the rest its parameters.
const Name = "trammel-script"

// maxScript is how long a script may be: it travels as one argument, of which
// Linux takes 128 KiB (MAX_ARG_STRLEN in execve(2)).
const maxScript = 100 << 10

// Command is what to start: Argv, and the file to start where that is not what
// Argv[0] names on the PATH.
type Command struct {
	Path string
	Argv []string
}

// CommandOf is the command that does what a run says. A script that is one plain
// command needs no interpreter and becomes that command.
func CommandOf(run declare.Run, env []string, args ...string) (Command, error) {
	return commandOf(run, expand.ListEnviron(env...), args)
}

// Keep caches a plan, with the commands of the routines that it alone decides. What they are given
// stands behind them each time.
func Keep(c *environ.Compiled) {
	own := []string{"PWD=" + c.Dir} // what the host's variables do not change
	for _, v := range c.Environment.Variables {
		own = append(own, v.Name+"="+v.Value)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Routines)) {
		command, same := fixed(c.Routines[name], own)
		if len(c.Needs[name]) > 0 || !same {
			continue
		}
		file, sealed := command.Path, c.Environment.Isolation == declare.Sealed
		switch {
		case sealed && file != "" && c.Environment.View != nil: // the interpreter of scripts
			file = c.Environment.View.Self
		case !sealed && file == "" && filepath.IsAbs(command.Argv[0]):
			file = command.Argv[0]
		case !sealed && file == "" && strings.Contains(command.Argv[0], "/"):
			file = filepath.Join(c.Dir, command.Argv[0])
		}
		if strings.HasSuffix(filepath.Dir(file), "/.trammel/bin") {
			continue // that stands for what the environment has, which has none
		}
		c.Quick = append(c.Quick, cached.Command{Name: name, File: file, Argv: command.Argv})
	}
	c.Keep()
}

// fixed is CommandOf without arguments, which stand at its end, where no variable but those of env
// decides which command it is.
func fixed(run declare.Run, env []string) (c Command, fixed bool) {
	known, asked := expand.ListEnviron(env...), false
	c, err := commandOf(run, noting{known, &asked}, nil)
	return c, err == nil && !asked
}

// noting are variables that tell whether another one was asked for.
type noting struct {
	expand.Environ
	asked *bool
}

func (n noting) Get(name string) expand.Variable {
	v := n.Environ.Get(name)
	if !v.IsSet() && name != "IFS" { // no host's is let in
		*n.asked = true
	}
	return v
}

func commandOf(run declare.Run, env expand.Environ, args []string) (Command, error) {
	switch {
	case len(run.Argv) > 0:
		return Command{Argv: append(slices.Clone(run.Argv), args...)}, nil
	case len(run.Shell) > 0:
		return Command{Argv: append(append(slices.Clone(run.Shell), run.Script, "trammel"), args...)}, nil
	}
	if len(run.Script) > maxScript {
		return Command{}, fmt.Errorf("the script has %d bytes, and %d are allowed: put it in a file and run that", len(run.Script), maxScript)
	}
	if argv, ok := plain(run.Script, env, args); ok {
		return Command{Argv: argv}, nil
	}
	self, err := os.Executable()
	if err != nil {
		return Command{}, err
	}
	return Command{self, append([]string{Name, run.Script}, args...)}, nil
}

// In is the command that does in an environment what c would do: in sealed
// isolation it enters the root first. dir is where it works.
func In(e *environ.Ready, dir string, c Command) (Command, error) {
	if e.Isolation != declare.Sealed {
		return c, nil
	}
	view := e.Sees()
	path := c.Path
	if self, err := os.Executable(); err == nil && path == self {
		path = view.Self // this program shows under another name
	}
	file, argv, err := sandbox.Command(view, dir, path, c.Argv)
	return Command{file, argv}, err
}

// Of is the command that does in an environment what a run with no references left says,
// and the environment of its process.
func Of(e *environ.Ready, run declare.Run, dir string, args ...string) (Command, []string, error) {
	env := e.Environ(dir)
	c, err := CommandOf(run, env, args...)
	if err == nil && e.Isolation != declare.Sealed {
		c, err = through(c, env, dir)
	}
	if err == nil {
		c, err = In(e, dir, c)
	}
	return c, env, err
}

// ByHand is a line that does what a run says when it is typed into a shell: what
// to offer a person whose step failed.
func ByHand(run declare.Run) string {
	words := run.Argv
	switch {
	case len(run.Shell) > 0:
		words = append(slices.Clone(run.Shell), run.Script)
	case len(words) == 0:
		if argv, ok := plain(run.Script, nil, nil); ok && !strings.Contains(run.Script, "$") {
			words = argv
		} else {
			words = []string{"sh", "-ec", run.Script}
		}
	}
	return "trammel run -- " + shell.Words(words...)
}

// plain turns a script that is a single command, with nothing for a shell to do
// but quoting and variables, into its words.
func plain(source string, env expand.Environ, args []string) ([]string, bool) {
	file, err := parse(source)
	if err != nil || len(file.Stmts) != 1 {
		return nil, false
	}
	s := file.Stmts[0]
	call, ok := s.Cmd.(*syntax.CallExpr)
	if !ok || s.Background || s.Negated || len(s.Redirs) > 0 || len(call.Assigns) > 0 || len(call.Args) == 0 {
		return nil, false
	}
	simple := true
	syntax.Walk(call, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CmdSubst, *syntax.ArithmExp, *syntax.ProcSubst, *syntax.ExtGlob, *syntax.BraceExp:
			simple = false
		case *syntax.ParamExp: // "$@" and the like need the script's own parameters
			if n.Param == nil || !plainName(n.Param.Value) || n.Exp != nil || n.Repl != nil {
				simple = false
			}
		case *syntax.Lit:
			if strings.ContainsAny(n.Value, "*?[~") {
				simple = false
			}
		}
		return simple
	})
	if !simple {
		return nil, false
	}
	words, err := shell.Fields(expand.Config{Env: env}, call.Args...)
	if len(words) > 1 && words[0] == "exec" && !strings.HasPrefix(words[1], "-") {
		words = words[1:] // which is all that there is to do
	}
	if err != nil || len(words) == 0 || interp.IsBuiltin(words[0]) {
		return nil, false
	}
	return append(words, args...), true
}

func plainName(name string) bool {
	return name != "" && !strings.ContainsAny(name, "@*#?-$!0123456789")
}

// parse reads a script that declare has found to be POSIX. It is read in the
// larger language because the interpreter knows export and readonly only so.
func parse(source string) (*syntax.File, error) {
	return shell.Parse(source, syntax.LangBash)
}

// Call is a script with what it is run with.
type Call struct {
	Source string
	Args   []string // $1 and what follows
	Env    []string // NAME=VALUE
	Dir    string
	Stdin  io.Reader // nil: nothing
	Stdout io.Writer
	Stderr io.Writer
}

// Interpret runs a script in this process and returns its exit code. Signals that
// come for the process group reach the script's current command by themselves;
// the script then ends after that command. One that is strict says which line ended it.
func Interpret(ctx context.Context, c Call) (int, error) {
	file, err := parse(c.Source)
	if err != nil {
		return 2, err
	}
	var last lastCall
	trap := &exitTrap{within: inner(file)}
	outer := ctx
	ctx, stop := untilSignal(ctx)
	defer stop()
	r, err := interp.New(
		interp.Env(expand.ListEnviron(c.Env...)), interp.Dir(c.Dir), interp.StdIO(c.Stdin, c.Stdout, c.Stderr),
		interp.Params(append([]string{"--"}, c.Args...)...),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return execute }),
		interp.CallHandler(func(ctx context.Context, args []string) ([]string, error) {
			at := interp.HandlerCtx(ctx).Pos
			last.note(at, args)
			trap.note(at, args)
			return args, nil
		}),
	)
	if err != nil {
		return 2, err
	}
	err = r.Run(ctx, file)
	if signalled(ctx) { // a signal ended it, after which the interpreter runs nothing more
		stop() // a second one ends the trap too
		trap.run(outer, r)
		return 130, nil
	}
	var status interp.ExitStatus
	if errors.As(err, &status) {
		if text := last.failed(c.Source); text != "" && ctx.Err() == nil {
			fmt.Fprintf(c.Stderr, "%s (exit code %d)\n", text, status)
		}
		return int(status), nil
	}
	if ctx.Err() != nil {
		return 130, nil
	}
	if err != nil {
		return 1, err
	}
	return 0, nil
}

// errSignalled is why the context of a script ended that got a signal; it ends too when the script has.
var errSignalled = errors.New("a signal came")

func signalled(ctx context.Context) bool { return errors.Is(context.Cause(ctx), errSignalled) }

// untilSignal is a context that ends with the first signal that ends scripts.
func untilSignal(ctx context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	go func() {
		select {
		case <-signals:
			cancel(errSignalled)
		case <-ctx.Done():
		}
	}()
	return ctx, func() { signal.Stop(signals); cancel(nil) }
}

// exitTrap is what a script has said to do when it ends (trap … EXIT; POSIX.1-2024, XCU 2.15, trap).
type exitTrap struct {
	within []syntax.Node // what runs in a shell of its own, whose traps are its own

	mu   sync.Mutex
	text string
}

// inner are the parts of a script that run in a shell of their own.
func inner(file *syntax.File) (out []syntax.Node) {
	syntax.Walk(file, func(n syntax.Node) bool {
		switch x := n.(type) {
		case *syntax.Subshell, *syntax.CmdSubst, *syntax.ProcSubst:
			out = append(out, n)
		case *syntax.Stmt:
			if x.Background {
				out = append(out, n)
			}
		case *syntax.BinaryCmd:
			if x.Op == syntax.Pipe || x.Op == syntax.PipeAll {
				out = append(out, n)
			}
		}
		return true
	})
	return out
}

// note takes a command of the script, which may be a trap.
func (e *exitTrap) note(at syntax.Pos, args []string) {
	if args[0] != "trap" || len(args) < 3 {
		return
	}
	words := args[1:]
	if words[0] == "--" {
		words = words[1:]
	}
	if len(words) < 2 || !slices.ContainsFunc(words[1:], func(w string) bool { return w == "EXIT" || w == "0" }) {
		return
	}
	if slices.ContainsFunc(e.within, func(n syntax.Node) bool { return !at.After(n.End()) && !n.Pos().After(at) }) {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.text = words[0]; e.text == "-" {
		e.text = ""
	}
}

// run does it, with the variables and functions that the script has come to.
func (e *exitTrap) run(ctx context.Context, r *interp.Runner) {
	e.mu.Lock()
	text := e.text
	e.mu.Unlock()
	if text == "" {
		return
	}
	file, err := parse(text)
	if err != nil {
		return
	}
	ctx, stop := untilSignal(ctx)
	defer stop()
	_ = r.Subshell().Run(ctx, file)
}

// strict begins a script that ends with its first command that fails.
const strict = "set -e; "

// Strictly is a run whose script ends with the first command that fails and whose failure
// nothing asks about (set -e, POSIX.1-2017), and says which line that was in. A script of one
// command ends so anyway.
func Strictly(run declare.Run) declare.Run {
	if len(run.Argv) > 0 || len(run.Shell) > 0 {
		return run
	}
	if file, err := parse(run.Script); err == nil && len(file.Stmts) == 1 {
		if _, one := file.Stmts[0].Cmd.(*syntax.CallExpr); one {
			return run
		}
	}
	run.Script = strict + run.Script
	return run
}

// lastCall is the command that a script began last. With set -e it is the one that ended it.
type lastCall struct {
	mu   sync.Mutex
	line uint
	word string
}

func (l *lastCall) note(at syntax.Pos, args []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.line, l.word = at.Line(), args[0]
}

// failed says which line of a script of several the last command stands in; "" when the
// script ended by its own word, or has no other line.
func (l *lastCall) failed(source string) string {
	source, ok := strings.CutPrefix(source, strict)
	if !ok {
		return ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	lines := strings.Split(source, "\n")
	if l.word == "exit" || l.line == 0 || int(l.line) > len(lines) || strings.TrimSpace(strings.Join(lines[:l.line-1], "")+strings.Join(lines[l.line:], "")) == "" {
		return ""
	}
	return fmt.Sprintf("line %d failed: %.120s", l.line, strings.TrimSpace(lines[l.line-1]))
}

// justBegun is how long before the end of a script a command may have begun at the most that is told of the end: the
// signal for the script came before the command was there.
const justBegun = time.Second

// execute runs one command of a script. It waits for the command even when the
// script is being stopped: the signal has reached the command too, and it is the
// command's own business how to end.
func execute(ctx context.Context, args []string) error {
	h := interp.HandlerCtx(ctx)
	// Each gives a name again where an inner scope changed or unset it.
	values := map[string]string{}
	for name, v := range h.Env.Each {
		if v.Exported && v.IsSet() && v.Kind == expand.String {
			values[name] = v.Str
		} else {
			delete(values, name)
		}
	}
	env := make([]string, 0, len(values))
	for _, name := range slices.Sorted(maps.Keys(values)) {
		env = append(env, name+"="+values[name])
	}
	path, err := process.LookPath(args[0], env, h.Dir)
	if err != nil {
		var missing *process.NotFound
		if errors.As(err, &missing) {
			fmt.Fprintf(h.Stderr, "%v in this environment\n", err)
			return interp.ExitStatus(127)
		}
		fmt.Fprintln(h.Stderr, err)
		return interp.ExitStatus(126)
	}
	if path, args, err = Through(path, args, env); err != nil {
		fmt.Fprintln(h.Stderr, err)
		return interp.ExitStatus(126)
	}
	cmd := &exec.Cmd{Path: path, Args: args, Env: env, Dir: h.Dir, Stdin: h.Stdin, Stdout: h.Stdout, Stderr: h.Stderr}
	if signalled(ctx) { // it came while this was looked up
		return interp.ExitStatus(130)
	}
	begun := time.Now()
	err = cmd.Start()
	if err == nil {
		ended := make(chan struct{})
		go func() {
			select {
			case <-ended:
			case <-ctx.Done():
				if signalled(ctx) && time.Since(begun) < justBegun {
					_ = cmd.Process.Signal(syscall.SIGTERM)
				}
			}
		}()
		err = cmd.Wait()
		close(ended)
	}
	var exit *exec.ExitError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &exit):
		if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			// It may be the signal that ends the script too, of which this process has yet to hear.
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
			return interp.ExitStatus(128 + uint8(status.Signal()))
		}
		return interp.ExitStatus(uint8(exit.ExitCode()))
	}
	fmt.Fprintln(h.Stderr, err)
	return interp.ExitStatus(126)
}

// Main is the life of an interpreting process. main calls it when argv[0] is
// Name; it does not return.
func Main() {
	dir, err := os.Getwd()
	if err == nil && len(os.Args) > 1 {
		var code int
		code, err = Interpret(context.Background(), Call{os.Args[1], os.Args[2:], os.Environ(), dir, os.Stdin, os.Stdout, os.Stderr})
		if err == nil {
			os.Exit(code)
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(2)
}
