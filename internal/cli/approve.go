package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"trammel.example/trammel/internal/cli/ui"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/checkout/approval"
	"trammel.example/trammel/internal/core/written/lock"
)

func approveCommand() *cli.Command {
	return &cli.Command{
		Name:        "approve",
		Usage:       "show what the project would run and fetch, or what changed since you approved it, and ask",
		Description: example("trammel approve"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "approve without asking"},
			&cli.BoolFlag{Name: "revoke", Usage: "take the approval back"},
		},
		Action: approveAction,
	}
}

// approveFlag lets a command approve as it goes.
func approveFlag() cli.Flag {
	return &cli.BoolFlag{Name: "approve", Usage: "approve what the project would run, without asking"}
}

func approveAction(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("revoke") {
		if err := approval.Revoke(p.Places, p.Declaration.Dir); err != nil {
			return err
		}
		s.Print("The approval of %s is taken back; nothing of it runs until it is approved again.", p.Declaration.Project)
		return nil
	}
	l, err := p.Lock()
	if err != nil {
		return err
	}
	subject := approval.Of(p.Declaration, p.Overlay, l)
	if approval.Check(p.Places, subject, func(string) string { return "" }) == nil {
		s.Print("%s is approved as it is.", p.Declaration.Project)
		return nil
	}
	s.Print("%s", describeSubject(s, p, subject))
	if !c.Bool("yes") {
		if err := ask(ctx, s); err != nil {
			return err
		}
	}
	if err := approval.Give(p.Places, subject); err != nil {
		return err
	}
	s.Print("Approved.")
	return nil
}

// describeSubject is everything that would run, or what changed since the last
// consent.
func describeSubject(s *ui.Screen, p *checkout.Project, subject approval.Subject) string {
	var b strings.Builder
	last, had := approval.Last(p.Places, subject.Dir)
	changes := approval.Changes(last.Things, subject.Things)
	if had {
		fmt.Fprintf(&b, "What changed in %s since you approved it on %s:\n", s.Paint(ui.Accent, p.Declaration.Project), last.At.Local().Format("2 Jan 2006"))
	} else {
		fmt.Fprintf(&b, "What %s would run and fetch:\n", s.Paint(ui.Accent, p.Declaration.Project))
	}
	width := 0
	for _, x := range changes {
		width = max(width, len(x.Name))
	}
	text := func(sign, name, value string, style ui.Style) {
		lines := strings.Split(strings.TrimRight(value, "\n"), "\n")
		for i, line := range lines {
			if i > 0 {
				name = ""
			}
			fmt.Fprintf(&b, "  %s%-*s  %s\n", s.Paint(style, sign), width, name, line)
		}
	}
	for _, x := range changes {
		if x.Name == "lock" {
			continue
		}
		switch {
		case !had:
			text("", x.Name, x.New, ui.Plain)
		case x.New == "":
			text("- ", x.Name, x.Old, ui.Red)
		case x.Old == "":
			text("+ ", x.Name, x.New, ui.Green)
		default:
			text("- ", x.Name, x.Old, ui.Red)
			text("+ ", x.Name, x.New, ui.Green)
		}
	}
	return strings.TrimRight(b.String(), "\n")
}

// ask asks on the terminal. Without one nobody can answer, which is a no.
func ask(ctx context.Context, s *ui.Screen) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.NotApproved, "nobody is there to ask").
			Advise("Approve in a terminal, or with trammel approve --yes once you have read it.\nA machine without a person sets %s to the lock id (trammel show --json).", approval.Variable)
	}
	fmt.Fprint(s.Err, "Approve? [y/N] ")
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case line := <-answer:
		if slices.Contains([]string{"y", "yes"}, line) {
			return nil
		}
	}
	return fault.New(fault.NotApproved, "not approved").Advise("Nothing was run.")
}

// consent makes sure that what a command would run is approved, asking where
// there is somebody to ask.
func consent(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.Project, l *lock.Lock) error {
	subject := approval.Of(p.Declaration, p.Overlay, l)
	err := approval.Check(p.Places, subject, os.Getenv)
	switch {
	case err == nil:
		return nil
	case c.Bool("approve"):
		return approval.Give(p.Places, subject)
	case os.Getenv(approval.Variable) != "" || !term.IsTerminal(int(os.Stdin.Fd())):
		return err
	}
	s.Say("%s", describeSubject(s, p, subject))
	if err := ask(ctx, s); err != nil {
		return err
	}
	return approval.Give(p.Places, subject)
}
