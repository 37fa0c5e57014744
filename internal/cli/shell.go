package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
)

func shellCommand() *cli.Command {
	return &cli.Command{
		Name:        "shell",
		Usage:       "open your own shell in the environment",
		ArgsUsage:   "[LOCATOR]",
		Description: example("trammel shell", "trammel shell ../heronweir", "trammel shell git+https://git.example/heronweir.git#v1.2"),
		Flags: []cli.Flag{
			isolationFlag(), trialFlag(), approveFlag(), noFitFlag(),
			&cli.StringFlag{Name: "login", Usage: "open the shell at `PATH` instead of your own"},
		},
		Action: shellAction,
	}
}

func shellAction(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return fault.New(fault.ErrUsage, "a shell takes one locator, not %d arguments", c.Args().Len()).Advise("To run a command: trammel run -- COMMAND")
	}
	if text := c.Args().First(); text != "" {
		if err := locate(ctx, c, text); err != nil {
			return err
		}
	}
	plan, given, err := planFor(ctx, c)
	if err != nil {
		return err
	}
	r := reading.New(hostNow())
	if len(c.StringSlice("trial")) == 0 && r.Getenv("TRAMMEL_DIR") == plan.Dir && r.Getenv("TRAMMEL_BAY") == c.String("bay") {
		return fault.New(fault.ErrUsage, "this is a shell of %s already", plan.Project).Advise("Leave it with exit, or just go on.")
	}
	path, err := shellPath(r, plan, c.String("login"))
	if err != nil {
		return err
	}
	dir, err := workDir(c)
	if err != nil {
		return err
	}
	said, err := beforeShell(ctx, c, r, plan, given)
	if err != nil {
		return err
	}
	argv, extra, err := startShell(r, plan, path, c.String("bay"))
	if err != nil {
		return err
	}
	keepShell(c, plan, r, path, argv, extra, said)
	return become(plan, plan.Ready(hostNow()).With(extra), dir, path, argv)
}

// keepShell caches how a shell was opened: r has noted what decided that besides the plan.
func keepShell(c *cli.Command, plan *environ.Compiled, r *reading.Reader, path string, argv []string, extra []environ.Variable, said string) {
	if c.NumFlags() > 0 || c.Root().NumFlags() > 0 || c.Args().Present() {
		return
	}
	var set []string
	for _, v := range extra {
		if slices.ContainsFunc(plan.Environment.Variables, func(x environ.Variable) bool { return x.Name == v.Name }) {
			return
		}
		set = append(set, v.Name+"="+v.Value)
	}
	plan.KeepShell(r.On(), set, cached.Command{File: path, Argv: argv}, said)
}

// beforeShell runs the steps that run at each shell's start, and says in one line
// what is due, which it returns.
func beforeShell(ctx context.Context, c *cli.Command, r *reading.Reader, plan *environ.Compiled, given approval.Given) (said string, err error) {
	if len(c.StringSlice("trial")) > 0 || !plan.Steps {
		return "", nil
	}
	given, err = givenFor(ctx, c, given)
	if err != nil {
		return "", err
	}
	up, err := prepared(ctx, c, given)
	if err != nil {
		return "", err
	}
	s := screen(c)
	if slices.ContainsFunc(up.State.Declaration.Steps, func(x declare.Step) bool { return x.When == step.AtEachShell }) {
		if err := withProgress(ctx, s, func(ctx context.Context) error {
			_, err := up.RunSteps(ctx, setup.Choice{None: true, Shell: true})
			return err
		}); err != nil {
			return "", err
		}
		r.Never("a step runs at each shell's start")
	}
	up.Looks = r
	return sayDue(s, up.Sight), nil
}

// sayDue says in one line which steps are due, and returns what it said.
func sayDue(s *ui.Screen, up *setup.Sight) string {
	statuses, err := up.Steps()
	if err != nil {
		up.Looks.Never(err.Error())
		return ""
	}
	due := step.Due(statuses)
	if len(due) == 0 {
		return ""
	}
	line := fmt.Sprintf("Due: %s%s (%s). Run: trammel fit", due[0].Step.Name, more(len(due)-1), due[0].Why)
	s.Say("%s", line)
	return ui.Shown(line) + "\n"
}

// shellPath finds the shell to open: the named one, or the person's own; in sealed
// isolation the root's shell of that name, or its bash.
func shellPath(r *reading.Reader, plan *environ.Compiled, named string) (string, error) {
	own := r.Getenv("SHELL")
	candidates := []string{own, "/bin/bash", "/bin/sh"}
	root := ""
	if plan.Environment.Isolation == declare.Sealed {
		root = plan.Environment.View.Root
		candidates = []string{"/usr/bin/" + filepath.Base(own), "/usr/bin/bash", "/usr/bin/sh"}
	}
	if named != "" {
		candidates = []string{named}
		if root != "" && !strings.HasPrefix(named, "/usr/") {
			candidates = append(candidates, "/usr"+named)
		}
	}
	for _, path := range candidates {
		if filepath.IsAbs(path) && r.Command(root+path) {
			return path, nil
		}
	}
	if root != "" {
		return "", fault.New(fault.ErrUsage, "the root of %s has no shell at %q", plan.Project, candidates[0]).
			Advise("Name one that it has: trammel shell --login /bin/bash")
	}
	return "", fault.New(fault.ErrUsage, "there is no shell at %q", candidates[0]).Advise("Name one: trammel shell --login /bin/bash")
}

// startShell writes the start-up file that sets the environment again after the
// person's own files have run, and gives the command line that makes the shell
// read it. An unknown shell gets the environment alone.
func startShell(r *reading.Reader, plan *environ.Compiled, path, bayName string) (argv []string, extra []environ.Variable, err error) {
	name := filepath.Base(path)
	folder := filepath.Join(checkout.Local(plan.Dir), "shell-"+bayName)
	set := assertions(plan)
	missing := ""
	if plan.Environment.Isolation == declare.Clean {
		missing = missingText(name)
	}
	switch name {
	case "bash":
		file := filepath.Join(folder, "bashrc")
		text := "[ -f ~/.bashrc ] && . ~/.bashrc\n" + posixSet(set) + "hash -r\n" +
			"PS1=" + quotePosix(plan.Project+" | ") + "\"$PS1\"\n" + missing
		return []string{name, "--rcfile", file}, nil, same(r, file, text)
	case "zsh":
		// zsh reads its files from ZDOTDIR; each of these hands on to the person's own.
		own := "ZDOTDIR=${TRAMMEL_SHELL_ZDOTDIR:-$HOME}\n"
		back := "TRAMMEL_SHELL_ZDOTDIR=$ZDOTDIR\nZDOTDIR=" + quotePosix(folder) + "\n"
		rc := own + "unset TRAMMEL_SHELL_ZDOTDIR\n[[ -f $ZDOTDIR/.zshrc ]] && . $ZDOTDIR/.zshrc\n" +
			"[[ $ZDOTDIR == $HOME ]] && unset ZDOTDIR\n" + posixSet(set) + "rehash\n" +
			"PROMPT=" + quotePosix(strings.ReplaceAll(plan.Project, "%", "%%")+" | ") + "\"$PROMPT\"\n" + missing
		for file, text := range map[string]string{
			".zshenv": own + "[[ -f $ZDOTDIR/.zshenv ]] && . $ZDOTDIR/.zshenv\n" + back,
			".zshrc":  rc,
		} {
			if err := same(r, filepath.Join(folder, file), text); err != nil {
				return nil, nil, err
			}
		}
		if old := r.Getenv("ZDOTDIR"); old != "" {
			extra = append(extra, environ.Variable{Name: "TRAMMEL_SHELL_ZDOTDIR", Value: old})
		}
		return []string{name}, append(extra, environ.Variable{Name: "ZDOTDIR", Value: folder}), nil
	case "fish":
		file := filepath.Join(folder, "start.fish")
		return []string{name, "--init-command", "source " + quoteFish(file)}, nil, same(r, file, fishSet(plan.Project, set)+missing)
	}
	return []string{name}, nil, nil
}

// assertions are what must hold whatever a start-up file did, PATH last.
func assertions(plan *environ.Compiled) []environ.Variable {
	out := slices.Clone(plan.Environment.Variables)
	return append(out, environ.Variable{Name: "PATH", Value: plan.Environment.PathOf(os.Getenv("PATH"))})
}

func posixSet(set []environ.Variable) string {
	var b strings.Builder
	for _, v := range set {
		if environ.Marked(v.Value) { // the shell has it, and no file may
			continue
		}
		b.WriteString("export " + v.Name + "=" + quotePosix(v.Value) + "\n")
	}
	return b.String()
}

// quoteFish quotes for fish, where \ and ' are escaped between single quotes.
func quoteFish(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

func fishSet(name string, set []environ.Variable) string {
	var b strings.Builder
	for _, v := range set {
		if environ.Marked(v.Value) {
			continue
		}
		if v.Name == "PATH" { // a list
			b.WriteString("set -gx PATH")
			for _, dir := range filepath.SplitList(v.Value) {
				b.WriteString(" " + quoteFish(dir))
			}
			b.WriteString("\n")
			continue
		}
		b.WriteString("set -gx " + v.Name + " " + quoteFish(v.Value) + "\n")
	}
	b.WriteString("functions --query fish_prompt; and functions --copy fish_prompt trammel_inner_prompt\n")
	b.WriteString("function fish_prompt\n  echo -n " + quoteFish(name+" | ") + "\n  functions --query trammel_inner_prompt; and trammel_inner_prompt\nend\n")
	return b.String()
}

// same writes a start-up file unless it has this content. Which it has decides how a shell starts.
func same(r *reading.Reader, path, text string) error {
	old, err := r.Read(path, disk.MostState)
	if err == nil && string(old) == text {
		return nil
	}
	return disk.WriteCache(path, []byte(text))
}

// quotePosix quotes for POSIX shells.
var quotePosix = shell.Quote
