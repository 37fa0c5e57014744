package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/demo"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name:        "demo",
		Usage:       "run the whole example, with no network",
		ArgsUsage:   "[FOLDER]",
		Description: example("trammel demo", "trammel demo ~/heronweir --keep"),
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "keep", Usage: "leave the services running at the end"}},
		Action:      demoAction,
	}
}

// act is one scene of the demo: what is said, and the command that is run.
type act struct {
	say  string
	args []string
	want int // exit code
	do   func(dir string) (string, error)
}

func demoAction(ctx context.Context, c *cli.Command) error {
	s := screen(c)
	dir, err := demoFolder(c.Args().First())
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if err := demo.Write(dir, self); err != nil {
		return err
	}
	home := filepath.Join(dir, "heronweir")
	acts := []act{
		{say: "Heron Weir counts fish that climb past a low dam. Its project declares three tools, two steps and three services.", args: []string{"show"}},
		{say: "Resolve the declaration: from here on everyone gets exactly these.", args: []string{"lock"}},
		{say: "A declaration is somebody's code: nothing in it runs before you have read and approved it.", args: []string{"approve", "--yes"}},
		{say: "Make this machine match the lock: fetch, unpack, run the steps that are due.", args: []string{"fit"}},
		{say: "Start the services in the order of their needs.", args: []string{"start"}},
		{say: "Run a routine of the team.", args: []string{"do", "count", "silverfin"}},
		{say: "Prove that this machine holds what the lock says.", args: []string{"verify"}},
		{say: "Now a file in the store is changed behind Trammel's back:", do: damage},
		{say: "The proof finds it and says how to mend it.", args: []string{"verify"}, want: 3},
		{say: "So we mend it …", args: []string{"fit", "sluice"}},
		{say: "… and prove again, to the last byte.", args: []string{"verify", "--deep"}},
	}
	if !c.Bool("keep") {
		acts = append(acts, act{say: "Stop the services, those that need others first.", args: []string{"stop"}})
	}
	for _, a := range acts {
		if err := ctx.Err(); err != nil {
			break
		}
		s.Print("\n%s", s.Paint(ui.Bold, a.say))
		if a.do != nil {
			text, err := a.do(home)
			if err != nil {
				return err
			}
			s.Print("%s", text)
			continue
		}
		s.Print("%s", s.Paint(ui.Dim, "$ trammel "+strings.Join(a.args, " ")))
		if code := demoRun(ctx, self, home, a.args); code != a.want && ctx.Err() == nil {
			demoRun(context.WithoutCancel(ctx), self, home, []string{"--quiet", "stop"})
			return fault.New(fault.ErrFailed, "the demo went wrong at: trammel %s (exit code %d, not %d)", strings.Join(a.args, " "), code, a.want)
		}
	}
	if ctx.Err() != nil {
		demoRun(context.WithoutCancel(ctx), self, home, []string{"--quiet", "stop"})
		return context.Cause(ctx)
	}
	s.Print("\n%s", s.Paint(ui.Bold, "The project is yours to play with:"))
	s.Print("  cd %s", shell.Typed(home))
	s.Print("  trammel shell        # then: sluice --version")
	s.Print("  trammel start        # then open http://127.0.0.1:8700/")
	s.Print("  edit data/passings.csv, and see: trammel show")
	return nil
}

// demoFolder makes the folder to play in. One that holds anything is not touched.
func demoFolder(named string) (string, error) {
	if named == "" {
		return os.MkdirTemp("", "trammel-demo-")
	}
	dir, err := filepath.Abs(named)
	if err != nil {
		return "", err
	}
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) > 0 {
		return "", fault.New(fault.ErrUsage, "%s is not empty", dir).Advise("Name a new folder, or none: trammel demo")
	}
	return dir, os.MkdirAll(dir, 0o755)
}

// damage appends to a file of the store, as a careless script might.
func damage(dir string) (string, error) {
	p, err := checkout.Open(checkout.Asked{Host: hostNow(), Dir: dir, Bay: "main"}, checkout.Locate{})
	if err == nil {
		err = p.Missing()
	}
	if err != nil {
		return "", err
	}
	for _, part := range p.Parts {
		if part.Item == "sluice" && part.Name == "sluice" {
			return damagePart(p, part)
		}
	}
	return "", fmt.Errorf("the lock has no sluice")
}

func damagePart(p *checkout.State, part lock.PartOn) (string, error) {
	file := filepath.Join(p.Store.Path(part), "share", "sluice.txt")
	if err := os.Chmod(file, 0o644); err != nil {
		return "", err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := f.WriteString("a line that nobody locked\n"); err != nil {
		return "", err
	}
	return "  " + file, f.Chmod(0o444)
}
