package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/seen"
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
	if len(c.StringSlice("trial")) == 0 && seen.Getenv("TRAMMEL_DIR") == plan.Dir && seen.Getenv("TRAMMEL_BAY") == c.String("bay") {
		return fault.New(fault.ErrUsage, "this is a shell of %s already", plan.Project).Advise("Leave it with exit, or just go on.")
	}
	path, err := shellPath(plan, c.String("login"))
	if err != nil {
		return err
	}
	dir, err := workDir(c)
	if err != nil {
		return err
	}
	if err := beforeShell(ctx, c, plan, given); err != nil {
		return err
	}
	argv, extra, err := startShell(plan, path, c.String("bay"))
	if err != nil {
		return err
	}
	keepShell(c, plan, path, argv, extra)
	return become(plan, plan.Ready(hostNow()).With(extra), dir, path, argv)
}

// keepShell keeps how a shell was opened.
func keepShell(c *cli.Command, plan *environ.Compiled, path string, argv []string, extra []environ.Variable) {
	r := kept.Reply{Becomes: append([]string{path}, argv...)}
	for _, v := range extra {
		if slices.ContainsFunc(plan.Environment.Variables, func(x environ.Variable) bool { return x.Name == v.Name }) {
			return
		}
		r.Set = append(r.Set, v.Name+"="+v.Value)
	}
	keepBecoming(c, plan, []string{"shell"}, r)
}

// keepBecoming keeps which command a command line became, where the plan has the form that the shortest
// way goes by: without secrets.
func keepBecoming(c *cli.Command, plan *environ.Compiled, words []string, r kept.Reply) {
	if out, ok := c.Root().Writer.(*heard); ok && plan.KeepShort() {
		r.Said = out.all.list
		keepAnswer(out.all.notes, words, r)
	}
}

// beforeShell runs the steps that run at each shell's start, and says in one line
// what is due.
func beforeShell(ctx context.Context, c *cli.Command, plan *environ.Compiled, given approval.Given) error {
	if len(c.StringSlice("trial")) > 0 || !plan.Steps {
		return nil
	}
	given, err := givenFor(ctx, c, given)
	if err != nil {
		return err
	}
	up, err := prepared(ctx, c, given)
	if err != nil {
		return err
	}
	s := screen(c)
	if slices.ContainsFunc(up.State.Declaration.Steps, func(x declare.Step) bool { return x.When == step.AtEachShell }) {
		if err := withProgress(ctx, s, func(ctx context.Context) error {
			_, err := up.RunSteps(ctx, setup.Choice{None: true, Shell: true})
			return err
		}); err != nil {
			return err
		}
	}
	sayDue(s, up.Sight)
	return nil
}

// sayDue says in one line which steps are due.
func sayDue(s *ui.Screen, up *setup.Sight) {
	if statuses, err := up.Steps(); err == nil {
		if due := step.Due(statuses); len(due) > 0 {
			s.Say("Due: %s%s (%s). Run: trammel fit", due[0].Step.Name, more(len(due)-1), due[0].Why)
		}
	}
}

// shellPath finds the shell to open: the named one, or the person's own; in sealed
// isolation the root's shell of that name, or its bash.
func shellPath(plan *environ.Compiled, named string) (string, error) {
	own := seen.Getenv("SHELL")
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
		if info, err := seen.Stat(root + path); err == nil && filepath.IsAbs(path) && !info.IsDir() && info.Mode()&0o111 != 0 {
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
func startShell(plan *environ.Compiled, path, bayName string) (argv []string, extra []environ.Variable, err error) {
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
		return []string{name, "--rcfile", file}, nil, same(file, text)
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
			if err := same(filepath.Join(folder, file), text); err != nil {
				return nil, nil, err
			}
		}
		if old := seen.Getenv("ZDOTDIR"); old != "" {
			extra = append(extra, environ.Variable{Name: "TRAMMEL_SHELL_ZDOTDIR", Value: old})
		}
		return []string{name}, append(extra, environ.Variable{Name: "ZDOTDIR", Value: folder}), nil
	case "fish":
		file := filepath.Join(folder, "start.fish")
		return []string{name, "--init-command", "source " + quoteFish(file)}, nil, same(file, fishSet(plan.Project, set)+missing)
	}
	return []string{name}, nil, nil
}

// assertions are what must hold whatever a start-up file did, PATH last.
func assertions(plan *environ.Compiled) []environ.Variable {
	out := slices.Clone(plan.Environment.Variables)
	return append(out, environ.Variable{Name: "PATH", Value: plan.Environment.PathOf(seen.Getenv("PATH"))})
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

// quotePosix quotes for POSIX shells: nothing has a meaning between single quotes.
func quotePosix(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

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

// same writes a start-up file unless it has this content.
func same(path, text string) error {
	if old, err := disk.Read(path, disk.MostState); err == nil && string(old) == text {
		return nil
	}
	return disk.WriteCache(path, []byte(text))
}
