package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"trammel.example/trammel/internal/cli/ui"
	"trammel.example/trammel/internal/core/acting/fit"
	"trammel.example/trammel/internal/core/acting/setup"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/version"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/kernel/proctree"
	"trammel.example/trammel/internal/core/kernel/seal"
	"trammel.example/trammel/internal/core/origins/resolve"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/running/script"
	"trammel.example/trammel/internal/core/running/service"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

// first makes flags end at the first argument: what follows is the command's own.

var first = 1

func isolationFlag() cli.Flag {
	return &cli.StringFlag{Name: "isolation", Usage: "show as much of the host as `LEVEL` says (open, clean, sealed) this time"}
}

func runCommand() *cli.Command {
	return &cli.Command{
		Name:        "run",
		Usage:       "run one command in the environment; its exit code passes through",
		ArgsUsage:   "[LOCATOR] -- COMMAND [ARGUMENT…]",
		Description: example("trammel run -- go test ./...", "trammel run ../heronweir-archive -- go version"),
		Flags: []cli.Flag{
			isolationFlag(), trialFlag(), approveFlag(),
			&cli.BoolFlag{Name: "gaps", Usage: "run it in clean isolation and list every command that it takes from the host"},
		},
		StopOnNthArg: &first,
		Action:       runAction,
	}
}

func trialFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "trial", Usage: "use `TOOL=ASK` this one time; nothing is written", Sources: cli.EnvVars("TRAMMEL_TRIAL")}
}

// planFor is the environment that a command asked for.
func planFor(ctx context.Context, c *cli.Command) (*checkout.Plan, error) {
	var plan *checkout.Plan
	var err error
	if trials := c.StringSlice("trial"); len(trials) > 0 {
		plan, err = trialPlan(ctx, c, trials)
	} else {
		plan, err = checkout.PlanFor(ctx, c.String("dir"), c.String("bay"))
		if errors.Is(err, fault.NotApproved) {
			plan, err = approvedPlan(ctx, c)
		}
	}
	if err != nil {
		return nil, err
	}
	switch level := declare.Isolation(c.String("isolation")); level {
	case "":
	case declare.Open, declare.Clean, declare.Sealed:
		if err := plan.Isolate(level); err != nil {
			return nil, err
		}
	default:
		return nil, fault.New(fault.Use, "%q is not a level of isolation", level).Advise("Known: open, clean, sealed.")
	}
	return plan, nil
}

func runAction(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	// The parser takes -- away: what stood before it shows in the count.
	if dashes := slices.Index(os.Args, "--"); dashes > 0 && len(os.Args)-dashes-1 == len(args)-1 {
		if err := locate(ctx, c, args[0]); err != nil {
			return err
		}
		args = args[1:]
	}
	if len(args) > 0 && args[0] == "--" {
		args = args[1:]
	}
	if len(args) == 0 {
		return fault.New(fault.Use, "run needs a command").Advise("Write, for example: trammel run -- go version")
	}
	plan, err := planFor(ctx, c)
	if err != nil {
		return err
	}
	dir, err := workDir(c)
	if err != nil {
		return err
	}
	if c.Bool("gaps") {
		if c.String("isolation") == string(declare.Open) {
			return errGapsIsolation
		}
		return runGaps(ctx, c, plan, dir, args)
	}
	return become(plan, dir, "", args)
}

// approvedPlan asks for consent and compiles the plan that it allows.
func approvedPlan(ctx context.Context, c *cli.Command) (*checkout.Plan, error) {
	p, l, err := openLocked(ctx, c)
	if err != nil {
		return nil, err
	}
	if err := consent(ctx, c, screen(c), p, l); err != nil {
		return nil, err
	}
	return p.Plan(ctx)
}

// trialPlan resolves the declaration with other asks and fits the outcome, all
// beside the checkout: its declaration, lock and plan stay as they are.
func trialPlan(ctx context.Context, c *cli.Command, trials []string) (*checkout.Plan, error) {
	p, err := openOrNone(ctx, c)
	if err != nil {
		return nil, err
	}
	if l, err := p.Lock(); err == nil { // outside of a project there is nothing to approve
		if err := consent(ctx, c, screen(c), p, l); err != nil {
			return nil, err
		}
	} else if p.Declaration.File != "" {
		return nil, err
	}
	d := *p.Declaration
	d.Toolchains = slices.Clone(d.Toolchains)
	for _, trial := range splitTrials(trials) {
		name, text, ok := strings.Cut(trial, "=")
		ask, err := version.ParseAsk(text)
		if !ok || err != nil {
			return nil, fault.New(fault.Use, "the trial %q is not TOOL=ASK", trial).Advise("Write, for example: --trial go=1.23")
		}
		place := fault.Place{File: "--trial " + trial}
		if i := slices.IndexFunc(d.Toolchains, func(t declare.Toolchain) bool { return t.Name == name }); i >= 0 {
			d.Toolchains[i].Ask, d.Toolchains[i].AskAt = ask, place
		} else {
			d.Toolchains = append(d.Toolchains, declare.Toolchain{Name: name, Ask: ask, Place: place, AskAt: place})
		}
	}
	p.Declaration = &d
	old, err := lock.Read(d.Dir)
	if err != nil {
		old = nil
	}
	var plan *checkout.Plan
	err = withProgress(ctx, screen(c), func(ctx context.Context) error {
		l, err := resolve.Resolve(ctx, &d, machine(p), client(p, false), resolve.Options{Old: old, Now: time.Now()})
		if err != nil {
			return err
		}
		plan, err = fit.Trial(ctx, p, l, fit.Options{Machine: machine(p), Client: client(p, false)})
		return err
	})
	return plan, err
}

// splitTrials takes lists such as "node=18, go=>=1.22, <1.25" apart: a comma begins a
// new trial only where a name and = follow it.
func splitTrials(lists []string) []string {
	var out []string
	for _, list := range lists {
		for i, piece := range strings.Split(list, ",") {
			name, _, named := strings.Cut(strings.TrimSpace(piece), "=")
			if i > 0 && (!named || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_-") != "" || name == "") {
				out[len(out)-1] += "," + piece
			} else {
				out = append(out, strings.TrimSpace(piece))
			}
		}
	}
	return out
}

// workDir is the folder to run in: that of --dir, or this one.
func workDir(c *cli.Command) (string, error) {
	if c.IsSet("dir") {
		return filepath.Abs(c.String("dir"))
	}
	return os.Getwd()
}

// become replaces this process by a command, so that signals, the terminal and
// the exit code are the command's own. file is "" for one on the PATH.
func become(plan *checkout.Plan, dir, file string, argv []string) error {
	if err := plan.Environment.Missing(); err != nil {
		return err
	}
	env := plan.Environment.Environ(os.Environ(), dir)
	if plan.Environment.Isolation == declare.Sealed {
		return becomeSealed(plan, dir, file, argv, env)
	}
	if file == "" {
		var err error
		if file, err = lookIn(plan, argv[0], env, dir); err != nil {
			return err
		}
	}
	if err := os.Chdir(dir); err != nil {
		return err
	}
	err := syscall.Exec(file, argv, env)
	if errors.Is(err, syscall.ENOENT) {
		err = fmt.Errorf("its interpreter is not on this machine")
	}
	return errors.Join(exitCode(126), sayNow(fmt.Sprintf("%s cannot be started: %v", argv[0], err)))
}

// becomeSealed runs a command in the root of a plan, on this process's terminal,
// with the command's own exit code.
func becomeSealed(plan *checkout.Plan, dir, file string, argv, env []string) error {
	view := plan.Environment.ViewNow(os.Environ())
	if self, err := os.Executable(); err == nil && file == self {
		file = view.Self
	}
	code, err := seal.Run(view, dir, file, argv, env)
	var known *fault.Error
	switch {
	case errors.As(err, &known):
		return err
	case err != nil && code == 127:
		return notThere(plan, argv[0], &proctree.NotFound{Command: argv[0]})
	case err != nil:
		return errors.Join(exitCode(126), sayNow(err.Error()))
	}
	return exitCode(code)
}

// lookIn finds a command in an environment, or explains that it is not there.
func lookIn(plan *checkout.Plan, command string, env []string, dir string) (string, error) {
	file, err := proctree.LookPath(command, env, dir)
	if err != nil {
		return "", notThere(plan, command, err)
	}
	return file, nil
}

// notThere explains a command that the environment does not have.
func notThere(plan *checkout.Plan, command string, err error) error {
	var missing *proctree.NotFound
	if !errors.As(err, &missing) {
		return errors.Join(exitCode(126), sayNow(err.Error()))
	}
	text := fmt.Sprintf("%s is not part of %s.", command, plan.Project)
	host := environ.FindHost(command, os.Getenv("PATH"))
	switch tool := provider(command); {
	case tool != "":
		text += fmt.Sprintf("\n  %s provides it: trammel set %s=latest && trammel fit", tool, tool)
	case host == "" || plan.Environment.Isolation != declare.Clean:
		text += fmt.Sprintf("\n  Declare what provides it under [toolchain] in %s; see: trammel find", declare.FileName)
	}
	if host != "" && plan.Environment.Isolation == declare.Clean {
		text += fmt.Sprintf("\n  This host has %s. To let it show, add %q to host in %s.", host, command, declare.FileName)
	}
	return errors.Join(exitCode(127), sayNow(text))
}

// sayNow prints an error whose exit code is not one of the program's own.
func sayNow(text string) error {
	ui.Open(os.Stdout, os.Stderr, ui.Options{}).Error("trammel: ", text)
	return errSaid
}

func doCommand() *cli.Command {
	return &cli.Command{
		Name:          "do",
		Usage:         "run a routine of the team; alone, list them",
		ArgsUsage:     "[ROUTINE] [ARGUMENT…]",
		Description:   example("trammel do", "trammel do count redgill"),
		Flags:         []cli.Flag{isolationFlag(), approveFlag(), jsonFlag()},
		StopOnNthArg:  &first,
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Routines) }),
		Action:        doAction,
	}
}

func doAction(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return doList(ctx, c)
	}
	plan, err := planFor(ctx, c)
	if err != nil {
		return err
	}
	run, ok := plan.Routines[args[0]]
	if !ok {
		known := make([]string, 0, len(plan.Routines))
		for name := range plan.Routines {
			known = append(known, name)
		}
		slices.Sort(known)
		return fault.New(fault.Use, "no routine is named %q", args[0]).Advise("%s", fault.DidYouMean(args[0], known))
	}
	p, err := checkout.Open(plan.Dir, c.String("bay"))
	if err != nil {
		return err
	}
	l, err := p.Lock()
	if err != nil {
		return err
	}
	if err := consent(ctx, c, screen(c), p, l); err != nil {
		return err
	}
	if x, _ := p.Declaration.Routine(args[0]); len(x.Needs) > 0 {
		if err := bringFor(ctx, c, p, l, x); err != nil {
			return err
		}
		// A port may have moved on the way.
		if plan, err = planFor(ctx, c); err != nil {
			return err
		}
		run = plan.Routines[args[0]]
	}
	command, err := script.CommandOf(run, plan.Environment.Environ(os.Environ(), plan.Dir), args[1:]...)
	if err != nil {
		return fault.New(fault.Use, "routine %s: %v", args[0], err)
	}
	return become(plan, plan.Dir, command.Path, command.Argv)
}

// bringFor does the steps and starts the services that a routine needs, and says
// which services it leaves running.
func bringFor(ctx context.Context, c *cli.Command, p *checkout.Project, l *lock.Lock, x declare.Routine) error {
	up, err := setup.Prepare(ctx, p, l)
	if err != nil {
		return err
	}
	before, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	s := screen(c)
	if err := withProgress(ctx, s, func(ctx context.Context) error { return up.Bring(ctx, x.Needs) }); err != nil {
		return err
	}
	after, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	var started []string
	for _, st := range after {
		if !slices.ContainsFunc(before, func(b service.Status) bool { return b.Name == st.Name && b.State == st.State }) && st.State == service.Ready && !slices.Contains(started, st.Service) {
			started = append(started, st.Service)
		}
	}
	if len(started) > 0 {
		s.Say("Started for %s, and left running: %s", x.Name, strings.Join(started, ", "))
	}
	return nil
}

func doList(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	type routine struct {
		Name  string `json:"name"`
		About string `json:"about"`
		Run   string `json:"run"`
	}
	list := []routine{}
	rows := [][]ui.Cell{}
	for _, r := range p.Declaration.Routines {
		list = append(list, routine{r.Name, r.About, r.Run.String()})
		about := r.About
		if about == "" {
			about = r.Run.String()
		}
		rows = append(rows, []ui.Cell{{Text: r.Name, Style: ui.Accent}, {Text: about}})
	}
	if c.Bool("json") {
		return s.JSON(struct {
			Format   int       `json:"format"`
			Routines []routine `json:"routines"`
		}{1, list})
	}
	if len(rows) == 0 {
		s.Say("%s declares no routine. One is a table such as [routine.test] with run = \"go test ./...\".", p.Declaration.Project)
	}
	s.Table(rows)
	return nil
}
