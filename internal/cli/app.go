// Package cli reads flags, calls the core and prints: one file a command.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/release"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// exitCode is an error that only carries the code of a child process.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// Main runs the program with its arguments, args[0] being its name, and returns
// its exit code.
func Main(args []string) int {
	if code, done := short(args); done {
		return code
	}
	ctx, stop := signal.NotifyContext(context.Background(), endings()...)
	defer stop()
	done := make(chan struct{})
	defer close(done)
	go endAnyway(ctx, stop, args, done)
	return run(ctx, args)
}

// endings are the signals that end a command: Ctrl-C, a kill, and a terminal that closes, unless that is to be ignored
// (nohup(1)). What the command has begun is ended then.
func endings() []os.Signal {
	out := []os.Signal{syscall.SIGINT, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) {
		out = append(out, syscall.SIGHUP)
	}
	return out
}

// endAnyway ends a command that was told to end and is not about to, whatever it reads or waits
// for: nothing that it makes is half-made at any instant. Commands that stop what they started
// have the time for that; a second signal ends any at once.
func endAnyway(ctx context.Context, stop func(), args []string, done <-chan struct{}) {
	select {
	case <-ctx.Done():
	case <-done:
		return
	}
	stop()
	wait := 800 * time.Millisecond
	for _, a := range args {
		if slices.Contains([]string{"start", "stop", "do", "fit", "data", "clear", "run", "shell", "demo", "remove"}, a) {
			wait = 2 * time.Minute
		}
	}
	select {
	case <-time.After(wait):
		os.Exit(conclude(ctx, context.Cause(ctx)))
	case <-done:
	}
}

// short takes the two command lines that scripts repeat most, so that they do not
// wait for the whole tree of commands to be built: --version, and run -- COMMAND
// with a plan that is valid. Everything else, and all that needs a person, goes the
// long way.
func short(args []string) (code int, done bool) {
	switch {
	case len(args) > 3 && args[1] == "run" && args[2] == "--" && os.Getenv("TRAMMEL_TRIAL") == "":
		h := hostNow()
		plan, ok := cachedPlan(h, ".", bay.Main)
		if !ok {
			return 0, false
		}
		return conclude(context.Background(), become(plan, plan.Ready(h), h.Dir, "", args[3:])), true
	}
	if len(args) > 2 && args[1] == "--command" {
		return byPath(args[2], args[3:]), true
	}
	return 0, false
}

// byPath runs a command of .trammel/bin, by its path there: where this process is, in the
// environment of the checkout that the path is in.
func byPath(path string, args []string) int {
	h := hostNow()
	path = h.Abs(path)
	bin := filepath.Dir(path)
	project := filepath.Dir(filepath.Dir(bin))
	if filepath.Base(bin) != "bin" || filepath.Dir(bin) != checkout.Local(project) {
		return conclude(context.Background(), fault.New(fault.ErrUsage, "%s is no command of a project", path).Advise("They lie in .trammel/bin of the project's folder."))
	}
	argv := append([]string{filepath.Base(path)}, args...)
	if plan, ok := cachedPlan(h, project, bay.Main); ok && h.Getenv("TRAMMEL_TRIAL") == "" {
		return conclude(context.Background(), become(plan, plan.Ready(h), h.Dir, "", argv))
	}
	os.Args = append([]string{"trammel", "--dir", project, "--here", "run", "--no-fit", "--"}, argv...)
	ctx, stop := signal.NotifyContext(context.Background(), endings()...)
	defer stop()
	return run(ctx, os.Args)
}

func run(ctx context.Context, args []string) int {
	return conclude(ctx, newApp().Run(ctx, args))
}

// conclude prints an error and gives the exit code that it stands for.
func conclude(ctx context.Context, err error) int {
	var code exitCode
	switch {
	case err == nil:
		return 0
	case errors.As(err, &code):
		return int(code)
	case ctx.Err() != nil:
		err = fault.New(fault.ErrInterrupted, "interrupted").Advise("Nothing half-made is left; the same command carries on.")
	}
	// What only the operating system has said so far: name the folder to look at.
	var known *fault.Error
	var path *fs.PathError
	if !errors.As(err, &known) && errors.As(err, &path) {
		err = fault.New(fault.ErrFailed, "%v", err).Advise("See that %s can be reached and written to, and that there is room.", filepath.Dir(path.Path))
	}
	here, _ := os.Getwd()
	ui.OneLine(here, os.Getenv("HOME"), os.Getenv("TRAMMEL_HOME"))
	s := ui.Open(os.Stdout, os.Stderr, ui.Options{})
	var findings fault.Findings
	switch {
	case errors.Is(err, errSaid):
	case errors.As(err, &findings):
		s.Error("", err.Error())
	default:
		s.Error("trammel: ", err.Error())
	}
	return fault.ExitCode(err)
}

// errSaid marks an error whose message is in the result already.
var errSaid = errors.New("said")

func said(kind error) error { return errors.Join(errSaid, kind) }

func newApp() *cli.Command {
	cli.VersionFlag = &cli.BoolFlag{Name: "version", Usage: "print the version", HideDefault: true, Local: true} // -v tells more
	wrong := func(_ context.Context, _ *cli.Command, err error, _ bool) error {
		return fault.New(fault.ErrUsage, "%s", lowerFirst(err.Error())).Advise("See: trammel help")
	}
	app := &cli.Command{
		Name:                  "trammel",
		Usage:                 "one locked environment for everyone who works on a project",
		Version:               release.Version,
		EnableShellCompletion: true,
		HideHelpCommand:       false,
		Before:                namedBay,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden = false
			for name, text := range map[string][]byte{"bash": completionBash, "zsh": completionZsh, "fish": completionFish} {
				c.Command(name).Action = func(_ context.Context, c *cli.Command) error {
					_, err := c.Root().Writer.Write(text)
					return err
				}
			}
		},
		OnUsageError:   wrong,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "dir", Aliases: []string{"C"}, Usage: "look for the declaration in `FOLDER` and above", Value: "."},
			&cli.BoolFlag{Name: "here", Hidden: true, Usage: "run commands in this folder, whatever --dir says"},
			&cli.StringFlag{Name: "bay", Usage: "use the bay `NAME`", Value: bay.Main},
			&cli.BoolFlag{Name: "quiet", Aliases: []string{"q"}, Usage: "print results only"},
			&cli.BoolFlag{Name: "verbose", Aliases: []string{"v"}, Usage: "tell more"},
			&cli.BoolFlag{Name: "no-colour", Usage: "print without colour", Aliases: []string{"no-color"}},
			&cli.BoolFlag{Name: "plain", Usage: "never redraw progress"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				var names []string
				for _, x := range c.Root().Commands {
					names = append(names, x.Name)
				}
				near := fault.DidYouMean(name, names)
				if meant := commandMeant(name); meant != "" {
					near = fmt.Sprintf("Did you mean %q?", meant)
				}
				return fault.New(fault.ErrUsage, "there is no command %q", name).Advise("%s", strings.TrimSpace(near+" See: trammel help"))
			}
			return here(c)
		},
		Commands: []*cli.Command{
			draftCommand(), findCommand(), setCommand(), unsetCommand(),
			lockCommand(), newerCommand(), approveCommand(), fitCommand(), showCommand(),
			shellCommand(), runCommand(), doCommand(),
			startCommand(), stopCommand(), watchCommand(), openCommand(), logsCommand(), lendCommand(), dataCommand(), baysCommand(), clearCommand(),
			verifyCommand(), compareCommand(), recallCommand(), exportCommand(), catalogCommand(), stockCommand(), sweepCommand(), followCommand(), sourcesCommand(), demoCommand(), versionCommand(), installCommand(), removeCommand(),
		},
	}
	app.CustomRootCommandHelpTemplate = helpByOrder(app.Commands)
	for _, c := range app.Commands {
		c.OnUsageError = wrong
	}
	for _, x := range append(app.Commands, app) {
		x.DisableSliceFlagSeparator = true // asks and lists have commas of their own
	}
	return app
}

// commandMeant is the command for what people call it elsewhere, or "".
func commandMeant(word string) string {
	switch word {
	case "init", "new", "create", "generate":
		return "draft"
	case "status", "info", "list", "ls", "env":
		return "show"
	case "search", "versions":
		return "find"
	case "add", "require":
		return "set"
	case "rm", "drop", "delete":
		return "unset"
	case "update", "upgrade", "outdated":
		return "newer"
	case "sync", "apply", "setup", "build", "restore":
		return "fit"
	case "up", "serve", "launch":
		return "start"
	case "down", "halt", "kill":
		return "stop"
	case "ps", "top", "dashboard":
		return "watch"
	case "exec", "x":
		return "run"
	case "task", "script", "test":
		return "do"
	case "log", "tail":
		return "logs"
	case "enter", "attach":
		return "shell"
	case "integrate":
		return "follow"
	case "trust", "accept":
		return "approve"
	case "check", "audit", "validate":
		return "verify"
	case "diff":
		return "compare"
	case "rollback", "history", "undo", "revert":
		return "recall"
	case "destroy", "reset":
		return "clear"
	case "clean", "gc", "prune", "cache":
		return "sweep"
	case "share", "tunnel", "expose":
		return "lend"
	case "dump", "backup":
		return "data"
	case "uninstall":
		return "remove"
	}
	return ""
}

func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

func screen(c *cli.Command) *ui.Screen {
	ui.OneLine(hostNow().Abs(c.String("dir")))
	s := ui.Open(os.Stdout, os.Stderr, ui.Options{
		NoColour: c.Bool("no-colour"), Plain: c.Bool("plain"), Quiet: c.Bool("quiet"), Verbose: c.Bool("verbose"),
	})
	return s
}

// example makes a command's help end with a realistic example.
func example(lines ...string) string {
	return "Example:\n   " + strings.Join(lines, "\n   ")
}

func jsonFlag() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print JSON"} }

func offlineFlag() cli.Flag {
	return &cli.BoolFlag{Name: "offline", Usage: "send nothing over the network"}
}

// lookLocked is look for who needs the lock.
func lookLocked(c *cli.Command) (*checkout.State, *lock.Lock, error) {
	p, err := look(c)
	if err != nil {
		return nil, nil, err
	}
	l, err := p.Locked()
	return p, l, err
}

// machine is where the settings of this machine are read from.
func machine(p *checkout.State) *source.Machine {
	return &source.Machine{Getenv: p.Host.Getenv, Project: p.Dir(), Config: p.Places.Config, System: p.Places.System, Archives: p.Places.Archives()}
}

func client(p *checkout.State, offline bool) *fetch.Client {
	return fetch.New(fetch.Options{Indexes: p.Places.Indexes(), Offline: offline, Allow: p.Policies.Host})
}

// clientIn is a client for what belongs to no project yet: the machine's policies count.
func clientIn(places place.Places, offline bool) *fetch.Client {
	policies, err := policy.Read(nil, policy.Files(nil, places.System, ""))
	allow := policies.Host
	if err != nil {
		allow = func(string) error { return err } // what is allowed is not known
	}
	return fetch.New(fetch.Options{Indexes: places.Indexes(), Offline: offline, Allow: allow})
}

// withProgress calls f with a context whose events are shown.
func withProgress(ctx context.Context, s *ui.Screen, f func(ctx context.Context) error) error {
	p := ui.NewProgress(s)
	defer p.Close()
	return f(event.With(ctx, p.Sink))
}

// shown is a path as a person would type it from here.
func shown(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if below, err := filepath.Rel(here, path); err == nil && !strings.HasPrefix(below, "..") {
		return below
	}
	return path
}

// complete prints the names of declared things for the shell's completion.
func complete(pick func(*declare.Declaration) []string) cli.ShellCompleteFunc {
	return func(ctx context.Context, c *cli.Command) {
		if n := len(os.Args); n > 1 && strings.HasPrefix(os.Args[n-2], "-") && os.Args[n-2] != "--param" {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		p, err := look(c)
		if err != nil {
			return
		}
		offered := pick
		if last := os.Args[max(0, len(os.Args)-2):]; slices.Contains(last, "--param") {
			offered = paramChoices
		}
		_, err = approval.Check(p)
		for _, word := range offered(p.Declaration) {
			if plainWord(word) || err == nil && foreign.Line(word) == word {
				fmt.Fprintln(c.Root().Writer, word)
			}
		}
	}
}

// plainWord tells whether a word means itself to every shell. Of a checkout that nobody approved no
// other is offered: a key on the keyboard must not put a stranger's text into a command line.
func plainWord(word string) bool {
	return word != "" && word[0] != '-' && word[0] != '=' && strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-.=@+/,") == ""
}
