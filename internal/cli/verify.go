package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/proven/proof"
)

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name:        "verify",
		Usage:       "compare this machine with the lock; exit 3 when they differ",
		Description: example("trammel verify", "trammel verify --deep"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "deep", Usage: "hash every byte instead of comparing sizes and times"},
			&cli.StringFlag{Name: "report", Usage: "write what was found into `FILE`, to be compared with other machines'"},
			&cli.StringFlag{Name: "sign", Usage: "sign the report with the SSH `KEY`: a private key's file, or a public one's that the agent holds"},
			&cli.StringFlag{Name: "machine", Usage: "call this machine `NAME` in the report; default: its host name"},
			jsonFlag(),
		},
		Action: verifyAction,
	}
}

// shownDetails is how many differing things of one check are listed.
const shownDetails = 10

func verifyAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	if c.String("report") == "" && (c.String("sign") != "" || c.String("machine") != "") {
		return fault.New(fault.ErrUsage, "--sign and --machine are about a report").Advise("Write, for example: trammel verify --report reports/hut-laptop.json --sign ~/.ssh/id_ed25519")
	}
	s := screen(c)
	options := proof.Options{Deep: c.Bool("deep")}
	if options.NotGiven = p.Usable(); options.NotGiven == nil {
		options.Given, options.NotGiven = approval.Check(p)
	}
	found, err := proof.Verify(ctx, p, options)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		if err := tell(s, verifyOut{1, found.OK(), found}); err != nil {
			return err
		}
	} else {
		printReport(s, found)
	}
	if c.String("report") != "" {
		if err := writeReport(c, s, p, options.Given, found); err != nil {
			return err
		}
	}
	if !found.OK() {
		return said(fault.ErrDrift)
	}
	return nil
}

func printReport(s *ui.Screen, r *proof.Report) {
	head := s.Paint(ui.Accent, r.Project) + "   " + r.Platform
	if r.Lock != "" {
		head += fmt.Sprintf("   lock %s   environment %s", canon.Short(r.Lock), canon.Short(r.Environment))
	}
	s.Print("%s\n", head)
	wide, columns := 0, 0
	for _, row := range r.Rows {
		wide, columns = max(wide, len(row.Name)), max(columns, len(row.State))
	}
	indent := wide + columns + 4
	differ, unasked := 0, 0
	for _, row := range r.Rows {
		switch row.State {
		case proof.OK:
		case proof.NotChecked:
			unasked++
		default:
			differ++
		}
		s.Print("%-*s  %s  %s", wide, row.Name, s.Paint(ui.StateStyle(row.State), fmt.Sprintf("%-*s", columns, row.State)), strings.ReplaceAll(row.Text, "; ", "\n"+strings.Repeat(" ", indent)))
		width := 0
		for i, d := range row.Details {
			if i < shownDetails {
				width = max(width, len(d.Thing))
			}
		}
		for i, d := range row.Details {
			if i == shownDetails {
				s.Print("%*sand %d more", indent, "", len(row.Details)-shownDetails)
				break
			}
			s.Print("%*s%-*s  %s", indent, "", width, d.Thing, d.What)
		}
	}
	s.Print("")
	s.Print("%s", outcomeOf(len(r.Rows), differ, unasked, r.Mend))
}

// outcomeOf is the last line of verify: how many of the rows hold, and what mends the rest.
func outcomeOf(rows, differ, unasked int, mend []string) string {
	if differ+unasked == 0 {
		return fmt.Sprintf("All %d hold.", rows)
	}
	verb := func(n int, one, more string) string {
		if n == 1 {
			return one
		}
		return more
	}
	var text string
	if differ > 0 {
		text = fmt.Sprintf("%d of %d %s from the lock", differ, rows, verb(differ, "differs", "differ"))
	}
	if unasked > 0 {
		if text == "" {
			text = fmt.Sprintf("%d of %d %s not checked", unasked, rows, verb(unasked, "was", "were"))
		} else {
			text += fmt.Sprintf(", %d %s not checked", unasked, verb(unasked, "was", "were"))
		}
	}
	text += "."
	if len(mend) > 0 {
		text += " Mend: " + strings.Join(mend, ", then ")
	}
	return text
}
