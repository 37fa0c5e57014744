package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"trammel.example/trammel/internal/cli/ui"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/written/card"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/draft"
)

func draftCommand() *cli.Command {
	return &cli.Command{
		Name:        "draft",
		Usage:       "write a first trammel.toml from what the folder shows, or from a starter",
		Description: example("trammel draft", "trammel draft --from go-service"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "write the starter `NAME`"},
			&cli.BoolFlag{Name: "starters", Usage: "list the starters"},
			&cli.BoolFlag{Name: "print", Usage: "print it and write nothing"},
		},
		Action: draftAction,
	}
}

func draftAction(_ context.Context, c *cli.Command) error {
	s := screen(c)
	names, abouts := draft.Starters()
	if c.Bool("starters") {
		var rows [][]ui.Cell
		for i, name := range names {
			rows = append(rows, []ui.Cell{{Text: name, Style: ui.Accent}, {Text: abouts[i]}})
		}
		s.Table(rows)
		return nil
	}
	dir, err := filepath.Abs(c.String("dir"))
	if err != nil {
		return err
	}
	var text string
	var found draft.Found
	if from := c.String("from"); from != "" {
		var ok bool
		if text, ok = draft.Starter(from, draft.ProjectName(dir)); !ok {
			return fault.New(fault.Use, "no starter is named %q", from).Advise("%s", fault.DidYouMean(from, names))
		}
	} else {
		found = draft.Look(os.DirFS(dir))
		text = found.Text(draft.ProjectName(dir), func(tool string) bool { return slices.Contains(card.BuiltinNames(), tool) })
	}
	file := filepath.Join(dir, declare.FileName)
	if _, err := declare.Parse(file, []byte(text)); err != nil {
		return err
	}
	if c.Bool("print") {
		s.Print("%s", text)
		return nil
	}
	if _, err := os.Lstat(file); err == nil {
		return fault.New(fault.Use, "%s is there already, and is left as it is", shown(file)).Advise("See what would be written: trammel draft --print")
	}
	if err := disk.Write(file, []byte(text), 0o644); err != nil {
		return err
	}
	s.Print("%s is written", shown(file))
	for _, w := range found.Wants {
		s.Print("  %-8s  %s", w.Tool, w.Why)
	}
	if len(found.Wants) == 0 && c.String("from") == "" {
		s.Say("Nothing here states a version of anything. Add what you need: trammel find, trammel set go=1.24")
		return nil
	}
	s.Say("Read it, then: trammel lock")
	return nil
}
