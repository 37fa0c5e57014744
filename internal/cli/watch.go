package cli

import (
	"context"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/live"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name:        "watch",
		Usage:       "look at services live: states, ports, what they use, their logs",
		Description: example("trammel watch"),
		Action:      watchAction,
	}
}

func watchAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	if !term.IsTerminal(int(os.Stdout.Fd())) || !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.ErrUsage, "watch needs a terminal").Advise("For a program: trammel show --json, trammel logs --follow --json")
	}
	page, _ := gateway.PageAddress(p.Bay)
	m := &live.Model{
		Project: p.Declaration.Project, Bay: p.Bay.Name, Environment: "not locked", Page: page,
		Declared: serviceNames(p.Declaration), Colour: !c.Bool("no-colour") && os.Getenv("NO_COLOR") == "",
	}
	if l, err := p.Locked(); err == nil {
		m.Environment = canon.Short(l.EnvironmentID(p.Platform))
		m.Declared = serviceNames(p.Declaration)
	}
	for _, r := range p.Declaration.Routines {
		about := r.About
		if about == "" {
			about = firstLineOf(r.Run.String())
		}
		m.Routines = append(m.Routines, live.Routine{Name: r.Name, About: about})
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m.Open = openAddress(ctx, p, page)
	program := tea.NewProgram(m, tea.WithContext(ctx))
	m.Do = func(args ...string) tea.Cmd {
		return func() tea.Msg { return doHere(ctx, p, program, args) }
	}
	go feed(ctx, p, program)
	_, err = program.Run()
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func firstLineOf(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return line
}

// feed tells the view of states, a second apart, and of lines as they come. Logs that
// appear meanwhile are followed too.
func feed(ctx context.Context, p *checkout.State, program *tea.Program) {
	services := service.Connect(p.Bay, p.Host)
	followed := map[string]bool{}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if list, err := services.StatusInFull(ctx); err == nil {
			program.Send(live.Statuses(list))
		}
		names, _ := logNames(p, nil)
		var lines []logbook.Line
		for _, name := range names {
			if followed[name] {
				continue
			}
			followed[name] = true
			t := logbook.OpenTail(p.Bay.Logs(), name)
			lines = append(lines, t.Last(500, time.Time{})...)
			go func() {
				defer t.Close()
				t.Follow(ctx, func(l logbook.Line) { program.Send(live.Lines{l}) })
			}()
		}
		slices.SortStableFunc(lines, func(a, b logbook.Line) int { return a.At.Compare(b.At) })
		if len(lines) > 0 {
			program.Send(live.Lines(lines))
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// doHere runs a command of this program on the bay that is watched. What a routine
// prints goes among the lines.
func doHere(ctx context.Context, p *checkout.State, program *tea.Program, args []string) tea.Msg {
	self, err := os.Executable()
	if err != nil {
		return live.Said{Text: err.Error(), Bad: true}
	}
	all := append([]string{"--dir", p.Dir(), "--bay", p.Bay.Name, "--plain", "--no-colour"}, args...)
	cmd := exec.CommandContext(ctx, self, all...)
	cmd.Dir = p.Dir()
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 5 * time.Second
	out, err := cmd.CombinedOutput()
	text := strings.TrimSpace(string(out))
	if args[0] == "do" {
		var lines live.Lines
		for line := range strings.Lines(text) {
			lines = append(lines, logbook.Line{At: time.Now(), Name: "do " + args[1], Stream: "out", Text: strings.TrimRight(line, "\n")})
		}
		program.Send(lines)
	}
	words := strings.Join(slices.DeleteFunc(slices.Clone(args), func(a string) bool { return a == "--again" }), " ")
	if err != nil {
		last := text
		if i := strings.LastIndex(text, "trammel: "); i >= 0 {
			last = text[i+len("trammel: "):]
		}
		return live.Said{Text: words + ": " + firstLineOf(last), Bad: true}
	}
	return live.Said{Text: words + ": done"}
}
