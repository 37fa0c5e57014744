package cli

import (
	"context"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"

	tea "charm.land/bubbletea/v2"
	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/live"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
)

func openCommand() *cli.Command {
	return &cli.Command{
		Name:      "open",
		Usage:     "open the bay's page or a service in a browser, or the console of a database",
		ArgsUsage: "[SERVICE]",
		Description: "The page shows the services of this bay, their logs, and what is due. Opened by this command, a\n" +
			"browser may also start, stop and run things there, now and later. Without it, it may only look.\n\n" + example("trammel open", "trammel open board", "trammel open ledger       # the client of its card", "trammel open --print"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "print", Usage: "print the address and start no browser; that of the page can be used once, within a minute"},
		},
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Services) }),
		Action:        openAction,
	}
}

func openAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	if x, ok := p.Declaration.Service(c.Args().First()); ok && setup.Console(p.Declaration, x) != "" {
		routine := setup.Console(p.Declaration, x)
		if c.Bool("print") {
			s.Print("trammel do %s", shell.Typed(routine))
			return nil
		}
		return doRoutine(ctx, c, []string{routine})
	}
	address, err := openable(ctx, p, c.Args().First())
	if err != nil {
		return err
	}
	if c.Bool("print") {
		s.Print("%s", address)
		return nil
	}
	name, err := browse(address)
	if err != nil {
		s.Say("No browser can be started here: %v. Open this address in one:", err)
		s.Print("%s", address)
		return nil
	}
	s.Say("Handed to %s. If no browser opens: trammel open --print", name)
	return nil
}

// openable is the address of a bay's page, by which a browser may act on it, or of a service.
func openable(ctx context.Context, p *checkout.State, name string) (string, error) {
	if name == "" {
		address, err := gateway.Invited(ctx, p.Bay)
		if err != nil {
			return "", fault.New(fault.ErrNotReady, "the page of bay %s cannot be opened: %v", p.Bay.Name, err).Advise("It is there while a service runs. Start one: trammel start")
		}
		return address, nil
	}
	if !slices.Contains(declare.Names(p.Declaration.Services), name) {
		return "", fault.New(fault.ErrUsage, "no service is named %q", name).Advise("%s", fault.DidYouMean(name, declare.Names(p.Declaration.Services)))
	}
	list, err := service.Connect(p.Bay, p.Host).Status(ctx)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(list, func(st service.Status) bool { return st.Service == name && st.Running() })
	switch {
	case i < 0:
		return "", fault.New(fault.ErrNotReady, "%s does not run", name).Advise("Start it: trammel start %s", shell.Typed(name))
	case list[i].Address == "":
		return "", fault.New(fault.ErrUsage, "%s speaks no HTTP, which a browser needs", name).Advise("A service speaks it that has a port named http, or is asked over http whether it is ready.")
	}
	return list[i].Address, nil
}

// browse hands an address to the browser that the desktop names.
func browse(address string) (name string, err error) {
	if name = map[string]string{"darwin": "open"}[runtime.GOOS]; name == "" {
		name = "xdg-open"
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return name, err
	}
	cmd := exec.Command(path, address)
	cmd.Dir = filepath.Dir(path)
	if err := cmd.Start(); err != nil {
		return name, err
	}
	go func() { _ = cmd.Wait() }()
	return name, nil
}

// openAddress does that for the live view. Of the bay's own page it asks for an address by which the
// browser may act.
func openAddress(ctx context.Context, p *checkout.State, page string) func(string) tea.Cmd {
	return func(address string) tea.Cmd {
		return func() tea.Msg {
			shown := address
			if address == page {
				if by, err := gateway.Invited(ctx, p.Bay); err == nil {
					address = by
				}
			}
			if name, err := browse(address); err != nil {
				return live.Said{Text: "open " + shown + " (" + name + ": " + err.Error() + ")", Bad: true}
			}
			return live.Said{Text: "opened " + shown}
		}
	}
}
