package cli

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/account"
	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/release"
	"app.example/trammel/internal/core/base/shell"
)

// What asks the program for completions, one file a shell.
var (
	//go:embed completion/bash.sh
	completionBash []byte
	//go:embed completion/zsh.sh
	completionZsh []byte
	//go:embed completion/fish.fish
	completionFish []byte
)

func installCommand() *cli.Command {
	return &cli.Command{
		Name:        "install",
		Usage:       "put this program, its completions and its manual page where the account finds them",
		Description: "What runs goes on running: services keep the program that they were started with until they\nare stopped. The same command upgrades; trammel remove takes away what it put.\n\n" + example("./trammel install", "./trammel install --prefix /opt/trammel"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "prefix", Usage: "put it below `FOLDER`: bin, share (default: ~/.local; /usr/local for root)"},
			jsonFlag(),
		},
		Action: installAction,
	}
}

// installedOut is what `install --json` prints.
type installedOut struct {
	Format  int      `json:"format"`
	Version string   `json:"version"`
	Program string   `json:"program"`
	Files   []string `json:"files"` // all that was put, the program too
	OnPath  bool     `json:"on_path"`
}

func (installedOut) of() string { return "install" }

func installAction(_ context.Context, c *cli.Command) error {
	places, err := placesNow()
	if err != nil {
		return err
	}
	h := hostNow()
	prefix := c.String("prefix")
	if prefix == "" {
		if prefix, err = account.Prefix(h, os.Getuid() == 0); err != nil {
			return err
		}
	}
	prefix = h.Abs(prefix)
	now, err := account.Install(places, h.Program, prefix, account.Texts{Bash: completionBash, Zsh: completionZsh, Fish: completionFish, Manual: manual(c.Root())})
	if err != nil {
		return err
	}
	bin := filepath.Dir(now.Program())
	onPath := slices.Contains(filepath.SplitList(h.Getenv("PATH")), bin)
	s := screen(c)
	if c.Bool("json") {
		return tell(s, installedOut{1, release.Version, now.Program(), now.Files, onPath})
	}
	s.Print("trammel %s is installed as %s", release.Version, s.Paint(ui.Accent, now.Program()))
	var rows [][]ui.Cell
	for _, path := range now.Files[:len(now.Files)-1] {
		what := "completion"
		if strings.HasSuffix(path, ".1") {
			what = "manual page"
		}
		rows = append(rows, []ui.Cell{{Text: "  " + what, Style: ui.Dim}, {Text: path, Style: ui.Dim}})
	}
	s.Table(rows)
	if !onPath {
		s.Say("%s is not on your PATH. Add it in your shell's start-up file: export PATH=%s:\"$PATH\"", bin, shell.Typed(bin))
	}
	if prefix != "/usr/local" && prefix != "/usr" && filepath.Base(h.Getenv("SHELL")) == "zsh" {
		s.Say("For zsh to complete, before compinit in ~/.zshrc: fpath=(%s $fpath)", filepath.Join(prefix, "share/zsh/site-functions"))
	}
	s.Say("See it work, offline: trammel demo. In a project: trammel draft. Let a shell follow folders: trammel help follow")
	return nil
}

func removeCommand() *cli.Command {
	return &cli.Command{
		Name:        "remove",
		Usage:       "take away all that Trammel ever kept on this account, and itself; lists it first",
		Description: "What projects say (trammel.toml, trammel.lock, trammel.local.toml) stays as it is.\n\n" + example("trammel remove --print", "trammel remove"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "print", Usage: "list it and remove nothing"},
			&cli.BoolFlag{Name: "yes", Usage: "remove it without asking, data of services too"},
			jsonFlag(),
		},
		Action: removeAction,
	}
}

// removeOut is what `remove --json` prints.
type removeOut struct {
	Format  int             `json:"format"`
	Removed bool            `json:"removed"` // false for what was only listed
	Things  []account.Thing `json:"things"`
}

func (removeOut) of() string { return "remove" }

func removeAction(ctx context.Context, c *cli.Command) error {
	places, err := placesNow()
	if err != nil {
		return err
	}
	h := hostNow()
	temporary := cached.Session(os.Getenv)
	if !cached.Own(temporary) {
		temporary = ""
	}
	things, err := account.Everything(ctx, places, h, temporary)
	if err != nil {
		return err
	}
	s := screen(c)
	if len(things) == 0 {
		if c.Bool("json") {
			return tell(s, removeOut{1, false, []account.Thing{}})
		}
		s.Print("Trammel keeps nothing on this account.")
		return nil
	}
	if !c.Bool("json") || !c.Bool("yes") && !c.Bool("print") {
		listThings(s, things)
	}
	if c.Bool("print") {
		if c.Bool("json") {
			return tell(s, removeOut{1, false, things})
		}
		return nil
	}
	if !c.Bool("yes") {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return fault.New(fault.ErrUsage, "nothing was removed, since nobody is asked without a terminal").Advise("To remove all of this: trammel remove --yes")
		}
		yes, err := answeredYes(ctx, s, "Remove all of this?")
		if err != nil {
			return err
		}
		if !yes {
			return fault.New(fault.ErrUsage, "nothing was removed")
		}
	}
	err = withProgress(ctx, s, func(ctx context.Context) error {
		return account.Remove(ctx, places, h, things, func(account.Thing) {})
	})
	if err != nil {
		return fault.New(fault.ErrFailed, "not all of it is removed: %v", err).Advise("Once that is mended, the same command carries on: trammel remove")
	}
	if c.Bool("json") {
		return tell(s, removeOut{1, true, things})
	}
	s.Print("All of it is removed.")
	if !slices.ContainsFunc(things, func(t account.Thing) bool { return t.Kind == account.Program && filepath.Base(t.Path) == "trammel" }) {
		s.Say("This program itself was not put here by trammel install, and stays: %s", h.Program)
	}
	return nil
}

// listThings prints what would be removed, what cannot be had again first.
func listThings(s *ui.Screen, things []account.Thing) {
	var rows [][]ui.Cell
	var sum int64
	for _, t := range things {
		size := ""
		if t.Bytes > 0 {
			size = ui.Bytes(t.Bytes)
		}
		if t.Kind != account.Data { // which lies in what is counted as kept
			sum += t.Bytes
		}
		style := ui.Plain
		switch t.Kind {
		case account.Data, account.Settings:
			style = ui.Amber
		case account.Running:
			size = ""
		}
		what, path := t.What, shown(t.Path)
		switch {
		case t.Line > 0:
			path = fmt.Sprintf("%s:%d", path, t.Line)
		case t.Kind == account.Running:
			path = ""
		}
		rows = append(rows, []ui.Cell{{Text: string(t.Kind), Style: style}, {Text: size, Style: ui.Dim}, {Text: path}, {Text: what, Style: ui.Dim}})
	}
	s.Table(rows)
	s.Print("%s in all; what is marked data or settings, nothing brings back", ui.Bytes(sum))
}

// manual is the manual page, in the roff of man(7).
func manual(root *cli.Command) []byte {
	var b bytes.Buffer
	text := func(s string) string {
		s = strings.NewReplacer("\\", "\\e", "-", "\\-").Replace(s)
		lines := strings.Split(s, "\n")
		for i, l := range lines {
			if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
				lines[i] = "\\&" + l
			}
		}
		return strings.Join(lines, "\n")
	}
	flags := func(list []cli.Flag) {
		for _, f := range list {
			d, ok := f.(cli.DocGenerationFlag)
			if v, hides := f.(cli.VisibleFlag); !ok || hides && !v.IsVisible() {
				continue
			}
			var names []string
			for _, n := range f.Names() {
				names = append(names, strings.Repeat("-", min(2, len(n)))+n)
			}
			value, usage := "", d.GetUsage()
			if before, rest, found := strings.Cut(usage, "`"); found {
				name, after, _ := strings.Cut(rest, "`")
				value, usage = " \\fI"+text(name)+"\\fR", before+name+after
			}
			fmt.Fprintf(&b, ".TP\n\\fB%s\\fR%s\n%s\n", text(strings.Join(names, ", ")), value, text(usage))
		}
	}
	fmt.Fprintf(&b, ".TH TRAMMEL 1 \"\" \"trammel %s\" \"User Commands\"\n.SH NAME\ntrammel \\- %s\n", text(release.Version), text(root.Usage))
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B trammel\n[\\fIoptions\\fR] \\fIcommand\\fR [\\fIarguments\\fR]\n.SH OPTIONS\n")
	flags(root.Flags)
	b.WriteString(".SH COMMANDS\n")
	var each func(c *cli.Command, path string)
	each = func(c *cli.Command, path string) {
		if c.Hidden || c.Name == "help" {
			return
		}
		fmt.Fprintf(&b, ".SS %s\n%s.\n", text(strings.TrimSpace(path+" "+c.ArgsUsage)), text(c.Usage))
		if c.Description != "" {
			fmt.Fprintf(&b, ".PP\n.nf\n%s\n.fi\n", text(c.Description))
		}
		flags(c.Flags)
		for _, sub := range c.Commands {
			each(sub, path+" "+sub.Name)
		}
	}
	for _, c := range root.Commands {
		each(c, c.Name)
	}
	b.WriteString(".SH EXIT STATUS\n")
	for _, row := range exitCodes {
		fmt.Fprintf(&b, ".TP\n.B %d\n%s\n", row.code, text(row.means))
	}
	b.WriteString(".SH FILES\n.TP\n.I trammel.toml\nwhat a project is worked on with\n.TP\n.I trammel.lock\nexactly what that came to\n")
	b.WriteString(".SH ENVIRONMENT\n.TP\n.B TRAMMEL_HOME\none folder to keep everything in, in place of the XDG base directories\n")
	return b.Bytes()
}

// exitCodes are what the program ends with, and what each means.
var exitCodes = []struct {
	code  int
	means string
}{
	{0, "done"}, {1, "failed"}, {2, "wrong use, or a faulty declaration"}, {3, "drift: this machine is not what the lock says"}, {4, "not approved"},
	{5, "a source could not be reached, or gave wrong bytes"}, {6, "a service did not get ready"}, {130, "interrupted"},
}
