package cli

import (
	"cmp"
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

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/origins/resolve"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
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
			isolationFlag(), trialFlag(), approveFlag(), noFitFlag(),
			&cli.BoolFlag{Name: "gaps", Usage: "run it in clean isolation and list every command that it takes from the host"},
		},
		StopOnNthArg: &first,
		Action:       runAction,
	}
}

func trialFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "trial", Usage: "use `TOOL=ASK` this one time; nothing is written", Sources: cli.EnvVars("TRAMMEL_TRIAL")}
}

// cachedPlan is the plan that is cached for the declaration in force in a folder, if it is
// valid.
func cachedPlan(h host.Host, dir, bayName string) (*environ.Compiled, bool) {
	places, err := place.Find(h.Getenv)
	if err != nil {
		return nil, false
	}
	file, err := checkout.Find(nil, places, h.Abs(dir))
	if err != nil {
		return nil, false
	}
	return environ.ReadCompiled(h, places, file, filepath.Dir(file), bayName)
}

// planFor is the environment that a command asked for: the cached one while it holds, else
// a new one, for which it asks for consent. given holds only in the second case, where the
// checkout was opened.
func planFor(ctx context.Context, c *cli.Command) (plan *environ.Compiled, given approval.Given, err error) {
	if trials := c.StringSlice("trial"); len(trials) > 0 {
		plan, err = trialPlan(ctx, c, trials)
	} else if cached, ok := cachedPlan(hostNow(), c.String("dir"), c.String("bay")); ok {
		plan = cached
	} else {
		plan, given, err = newPlan(ctx, c)
	}
	if err != nil {
		return nil, given, err
	}
	switch level := declare.Isolation(c.String("isolation")); level {
	case "":
	case declare.Open, declare.Clean, declare.Sealed:
		policies, err := policy.Read(nil, policy.Files(nil, plan.Places.System, plan.Dir))
		if err == nil {
			err = policies.Isolation(level)
		}
		if err != nil {
			return nil, given, err
		}
		if err := plan.Isolate(level, hostNow()); err != nil {
			return nil, given, err
		}
	default:
		return nil, given, fault.New(fault.ErrUsage, "%q is not a level of isolation", level).Advise("Known: open, clean, sealed.")
	}
	return plan, given, nil
}

// newPlan opens the checkout, asks for consent, makes what the environment needs, and keeps
// the plan.
func newPlan(ctx context.Context, c *cli.Command) (*environ.Compiled, approval.Given, error) {
	p, err := open(ctx, c)
	if err != nil {
		return nil, approval.Given{}, err
	}
	g, err := consent(ctx, c, screen(c), p)
	if err != nil {
		return nil, g, err
	}
	g, decided, err := applied(ctx, c, g)
	if err != nil {
		return nil, g, err
	}
	plan, err := decided.Compile(g)
	if err == nil {
		script.Keep(plan)
	}
	return plan, g, err
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
		return fault.New(fault.ErrUsage, "run needs a command").Advise("Write, for example: trammel run -- go version")
	}
	plan, _, err := planFor(ctx, c)
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
	return become(plan, plan.Ready(hostNow()), dir, "", args)
}

// packaged is the source of packages for a tool that no card describes and that is no slip of
// one that has a card; false where there is none, or where catalogs may know it.
func packaged(sources []declare.Source, tool string) (from string, ok bool) {
	if _, known := card.Builtin(tool); known || slices.ContainsFunc(card.BuiltinNames(), func(c string) bool { return slip(tool, c) }) || slices.ContainsFunc(sources, func(s declare.Source) bool { return s.Kind == "catalog" || s.Name == tool }) {
		return "", false
	}
	for _, s := range sources {
		if s.Kind == "debian" {
			return s.Name, true
		}
	}
	return "", false
}

// slip tells whether one letter more or less makes a name another one.
func slip(a, b string) bool {
	if len(a) < len(b) {
		a, b = b, a
	}
	for i := range a {
		if a[:i]+a[i+1:] == b {
			return len(b) > 2
		}
	}
	return false
}

// trialPlan resolves the declaration with other asks and fits the outcome, all
// beside the checkout: its declaration, lock and plan stay as they are.
func trialPlan(ctx context.Context, c *cli.Command, trials []string) (*environ.Compiled, error) {
	p, err := openOrNone(ctx, c)
	if err != nil {
		return nil, err
	}
	var g approval.Given
	if p.Written.File != "" { // outside of a project there is nothing to approve
		if g, err = consent(ctx, c, screen(c), p); err != nil {
			return nil, err
		}
	}
	tools := slices.Clone(p.Written.Toolchains)
	var tried []string
	sources := slices.Clone(p.Written.Sources)
	if !slices.ContainsFunc(sources, func(s declare.Source) bool { return s.Kind == "debian" }) {
		// Nothing says where packages come from, so they come from where this machine's own do.
		if s, ok := source.AptSource(machine(p)); ok && !slices.ContainsFunc(sources, func(o declare.Source) bool { return o.Name == s.Name }) {
			sources = append(sources, s)
		}
	}
	for _, trial := range splitTrials(trials) {
		name, text, _ := strings.Cut(trial, "=")
		ask, err := version.ParseAsk(cmp.Or(text, "latest"))
		if err != nil || name == "" {
			return nil, fault.New(fault.ErrUsage, "the trial %q is not TOOL=ASK", trial).Advise("Write, for example: --trial go=1.23")
		}
		tried = append(tried, name)
		place := fault.Place{File: "--trial " + trial}
		if i := slices.IndexFunc(tools, func(t declare.Toolchain) bool { return t.Name == name }); i >= 0 {
			tools[i].Ask, tools[i].AskAt = ask, place
		} else {
			t := declare.Toolchain{Name: name, Ask: ask, Place: place, AskAt: place}
			if from, ok := packaged(sources, name); ok { // no card describes it: a package of that name
				t.From, t.Package = from, name
			}
			tools = append(tools, t)
		}
	}
	d := p.Written.WithToolchains(tools)
	d.Sources = sources
	var plan *environ.Compiled
	err = withProgress(ctx, screen(c), func(ctx context.Context) error {
		l, err := resolve.Resolve(ctx, d, machine(p), client(p, false), resolve.Options{Old: p.Lock, Now: time.Now()})
		if err != nil {
			return err
		}
		trial, err := p.WithLock(d, l)
		if err != nil {
			return err
		}
		if err := policy.Err(p.Policies.Locked(l)); err != nil {
			return err
		}
		if !g.Holds() { // the person's own word on the command line is all there is
			if g, err = approval.Own(trial); err != nil {
				return err
			}
		}
		for _, name := range tried {
			item := l.Items[name]
			from, declared := d.Source(item.Source)
			if !declared {
				from = source.Implied(item.Source)
			}
			where := item.Source
			if at, err := source.Locate(from, machine(p)); err == nil && at.Origin != "declaration" {
				where += " (" + at.Detail + ")"
			}
			event.Say(ctx, fmt.Sprintf("%s %s is from %s.", name, item.Version, where))
		}
		options, err := fitOptions(p, false)
		if err != nil {
			return err
		}
		plan, err = fit.Trial(ctx, g.Trying(trial), options)
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
	if c.IsSet("dir") && !c.Bool("here") {
		return filepath.Abs(c.String("dir"))
	}
	return os.Getwd()
}

// become replaces this process by a command, so that signals, the terminal and
// the exit code are the command's own. file is "" for one on the PATH.
func become(plan *environ.Compiled, r *environ.Ready, dir, file string, argv []string) error {
	if err := r.Missing(); err != nil {
		return err
	}
	env := r.Environ(dir)
	if r.Isolation == declare.Sealed {
		return becomeSealed(plan, r, dir, file, argv, env)
	}
	if file == "" {
		var err error
		if file, err = lookIn(plan, argv[0], env, dir); err != nil {
			return err
		}
	}
	file, argv, err := script.Through(file, argv, env)
	if err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil {
		return err
	}
	err = syscall.Exec(file, argv, env)
	if errors.Is(err, syscall.ENOENT) {
		err = fmt.Errorf("its interpreter is not on this machine")
	}
	return errors.Join(exitCode(126), sayNow(fmt.Sprintf("%s cannot be started: %v", argv[0], err)))
}

// becomeSealed runs a command in the root of a plan, on this process's terminal,
// with the command's own exit code.
func becomeSealed(plan *environ.Compiled, r *environ.Ready, dir, file string, argv, env []string) error {
	view := r.Sees()
	if file == r.Host.Program {
		file = view.Self
	}
	code, err := sandbox.Run(view, dir, file, argv, env)
	var known *fault.Error
	switch {
	case errors.As(err, &known):
		return err
	case err != nil && code == 127:
		return notThere(plan, argv[0], &process.NotFound{Command: argv[0]})
	case err != nil:
		return errors.Join(exitCode(126), sayNow(err.Error()))
	}
	return exitCode(code)
}

// lookIn finds a command in an environment, or explains that it is not there.
func lookIn(plan *environ.Compiled, command string, env []string, dir string) (string, error) {
	file, err := process.LookPath(command, env, dir)
	if err == nil && strings.HasSuffix(filepath.Dir(file), "/.trammel/bin") {
		err = &process.NotFound{Command: command} // that stands for what the environment has, which has none
	}
	if err != nil {
		return "", notThere(plan, command, err)
	}
	return file, nil
}

// notThere explains a command that the environment does not have.
func notThere(plan *environ.Compiled, command string, err error) error {
	var missing *process.NotFound
	if !errors.As(err, &missing) {
		if _, ours := os.Readlink(filepath.Join(plan.Folders.Frame, command)); ours == nil {
			err = fmt.Errorf("%w\n  It is part of %s. Mend it: trammel fit", err, plan.Project)
		}
		return errors.Join(exitCode(126), sayNow(err.Error()))
	}
	if target, err := os.Readlink(filepath.Join(plan.Folders.Frame, command)); err == nil {
		return errors.Join(exitCode(127), sayNow(fmt.Sprintf("%s is part of %s, and its file is gone from this machine: %s\n  Mend it: trammel fit", command, plan.Project, target)))
	}
	text := fmt.Sprintf("%s is not part of %s.", command, plan.Project)
	if near := nearest(plan.Folders.Frame, command); near != "" { // before anything that is not declared
		return errors.Join(exitCode(127), sayNow(text+fmt.Sprintf(" It has %s.", near)))
	}
	host, tool := environ.FindHost(command, os.Getenv("PATH")), provider(command)
	switch {
	case tool != "":
		text += fmt.Sprintf("\n  %s provides it: trammel set %s=latest && trammel fit", tool, shell.Typed(tool))
	case host == "" || plan.Environment.Isolation != declare.Clean:
		text += fmt.Sprintf("\n  Declare what provides it under [toolchain] in %s; see: trammel find", declare.FileName)
	}
	if host != "" && (tool == "" || tool == command) && plan.Environment.Isolation == declare.Clean { // pip of the host works on the host
		text += fmt.Sprintf("\n  This host has %s. To let it show, add %q to host in %s.", host, command, declare.FileName)
	}
	return errors.Join(exitCode(127), sayNow(text))
}

// nearest is the declared command that somebody may mean: the one with a version behind it, or
// without, or else one that is written nearly so.
func nearest(frame, command string) string {
	entries, err := os.ReadDir(frame)
	if err != nil {
		return ""
	}
	plain := strings.TrimRight(command, "0123456789.")
	var names []string
	best := ""
	for _, e := range entries {
		if plain != "" && strings.TrimRight(e.Name(), "0123456789.") == plain && (best == "" || len(e.Name()) < len(best)) {
			best = e.Name()
		}
		names = append(names, e.Name())
	}
	return cmp.Or(best, fault.Nearest(command, names))
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
		Flags:         []cli.Flag{isolationFlag(), approveFlag(), noFitFlag(), jsonFlag()},
		StopOnNthArg:  &first,
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Routines) }),
		Action:        doAction,
	}
}

func doAction(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) == 0 {
		return doList(c)
	}
	return doRoutine(ctx, c, args)
}

// doRoutine does the routine that args name, with what follows as its arguments.
func doRoutine(ctx context.Context, c *cli.Command, args []string) error {
	plan, given, err := planFor(ctx, c)
	if errors.Is(err, fault.ErrNotApproved) && slices.Contains(args[1:], "--approve") {
		return fault.New(fault.ErrNotApproved, "%s", fault.FirstLine(err)).
			Advise("What stands behind %s is for the routine; Trammel's own options stand before it: trammel do --approve %s", args[0], shell.Typed(args[0]))
	}
	if err != nil {
		return err
	}
	name := args[0]
	if _, ok := plan.Routines[name]; !ok {
		return fault.New(fault.ErrUsage, "no routine is named %q", name).Advise("%s", fault.DidYouMean(name, lock.Sorted(plan.Routines)))
	}
	if needs := plan.Needs[name]; len(needs) > 0 {
		if given, err = givenFor(ctx, c, given); err != nil {
			return err
		}
		if err := bringFor(ctx, c, given, name, needs); err != nil {
			return err
		}
		// A port may have moved on the way.
		if plan, _, err = planFor(ctx, c); err != nil {
			return err
		}
	}
	r := plan.Ready(hostNow())
	command, err := script.CommandOf(plan.Routines[name], r.Environ(plan.Dir), args[1:]...)
	if err != nil {
		return fault.New(fault.ErrUsage, "routine %s: %v", name, err)
	}
	return become(plan, r, plan.Dir, command.Path, command.Argv)
}

// givenFor is consent with its checkout: that which was given already, or after a cached plan
// that of the checkout, which is opened now.
func givenFor(ctx context.Context, c *cli.Command, g approval.Given) (approval.Given, error) {
	if g.Holds() {
		return g, nil
	}
	p, err := open(ctx, c)
	if err != nil {
		return g, err
	}
	return consent(ctx, c, screen(c), p)
}

// bringFor does the steps and starts the services that a routine needs, and says
// which services it leaves running.
func bringFor(ctx context.Context, c *cli.Command, g approval.Given, name string, needs []string) error {
	up, err := prepared(ctx, c, g)
	if err != nil {
		return err
	}
	before, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	s := screen(c)
	if err := withProgress(ctx, s, func(ctx context.Context) error { return up.Bring(ctx, needs) }); err != nil {
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
		s.Say("Started for %s, and left running: %s", name, strings.Join(started, ", "))
	}
	return nil
}

func doList(c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	list := []routineOut{}
	rows := [][]ui.Cell{}
	for _, r := range p.Declaration.Routines {
		list = append(list, routineOut{r.Name, r.About, r.Run.String()})
		about := r.About
		if about == "" {
			about = r.Run.String()
		}
		rows = append(rows, []ui.Cell{{Text: r.Name, Style: ui.Accent}, {Text: about}})
	}
	if c.Bool("json") {
		return tell(s, routinesOut{1, list})
	}
	if len(rows) == 0 {
		s.Say("%s declares no routine. One is a table such as [routine.test] with run = \"go test ./...\".", p.Declaration.Project)
	}
	s.Table(rows)
	return nil
}
