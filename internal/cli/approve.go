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

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
)

func approveCommand() *cli.Command {
	return &cli.Command{
		Name:        "approve",
		Usage:       "show what the project would run and fetch, or what changed since you approved it, and ask",
		Description: example("trammel approve"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "approve without asking"},
			&cli.BoolFlag{Name: "id", Usage: "print the approval id and nothing else: what a machine without a person sets TRAMMEL_APPROVE to"},
			jsonFlag(),
			&cli.BoolFlag{Name: "revoke", Usage: "take the approval back"},
		},
		Action: approveAction,
	}
}

// approveFlag lets a command approve as it goes.
func approveFlag() cli.Flag {
	return &cli.BoolFlag{Name: "approve", Usage: "approve what the project would run, without asking"}
}

// noFitFlag is for who decides themselves when something is fetched.
func noFitFlag() cli.Flag {
	return &cli.BoolFlag{Name: "no-fit", Usage: "fetch nothing that is not here; say what is missing"}
}

func approveAction(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("revoke") {
		if err := approval.Revoke(p.Places, p.Dir()); err != nil {
			return err
		}
		s.Print("The approval of %s is taken back; nothing of it runs until it is approved again.", p.Declaration.Project)
		return nil
	}
	if err := p.Usable(); err != nil {
		return err
	}
	if err := p.Allowed(); err != nil && !c.Bool("json") && !c.Bool("id") {
		return err
	}
	list := approval.Effects(p)
	switch {
	case c.Bool("id"):
		s.Print("%s", list.ID())
		return nil
	case c.Bool("json"):
		last, _ := approval.Last(p.Places, p.Dir())
		out := approveOut{Format: 1, Project: p.Declaration.Project, ID: list.ID(), Approved: approval.Approved(p, list), Effects: list.Effects, Changes: []changeOut{}}
		if last.ID != "" {
			for _, x := range approval.Changes(last.Effects, list.Effects) {
				out.Changes = append(out.Changes, changeOut{x.Name, x.What})
			}
		}
		return tell(s, out)
	}
	if approval.Approved(p, list) {
		s.Print("%s is approved as it is.", p.Declaration.Project)
		return nil
	}
	s.Whole(s.Out, describeEffects(s, p, list))
	sayRemarks(s, list)
	if err := list.Refused(); err != nil {
		return err
	}
	if !c.Bool("yes") {
		if err := ask(ctx, s); err != nil {
			return err
		}
	}
	if _, err := approval.Give(p, list); err != nil {
		return err
	}
	s.Print("Approved.")
	return nil
}

// sayRemarks says what of a list will ask more often than somebody may want.
func sayRemarks(s *ui.Screen, list approval.List) {
	for _, remark := range list.Remarks() {
		s.Say("%s", remark)
	}
}

// approveOut is what `approve --json` prints.
type approveOut struct {
	Format   int               `json:"format"`
	Project  string            `json:"project"`
	ID       approval.ID       `json:"id"`
	Approved bool              `json:"approved"`
	Effects  []approval.Effect `json:"effects"`
	Changes  []changeOut       `json:"changes"` // since the last consent
}

type changeOut struct {
	Name string `json:"name"`
	What string `json:"what"`
}

// headings say what effects of a kind do.
var headings = map[string]string{
	approval.Runs: "It runs", approval.Sets: "It sets", approval.Reads: "It reads",
	approval.Writes: "It writes", approval.Shows: "It shows", approval.Fetches: "It fetches",
}

// describeEffects is everything that consent would let happen, in groups, or what changed
// since the last consent.
func describeEffects(s *ui.Screen, p *checkout.State, list approval.List) string {
	var b strings.Builder
	last, had := approval.Last(p.Places, p.Dir())
	width := 0
	text := func(sign, name, value, from string, style ui.Style) {
		lines := strings.Split(readable(value), "\n")
		for i, line := range lines {
			end := ""
			if trimmed := strings.TrimRight(line, " \t"); trimmed != line {
				end = "·" // blanks at the end of a line would hide
			}
			if i > 0 {
				name, from = "", ""
			}
			if from != "" {
				from = "   " + s.Paint(ui.Dim, from)
			}
			fmt.Fprintf(&b, "  %s%s  %s%s%s\n", s.Paint(style, sign), ui.Padded(name, width), line, end, from)
		}
	}
	if !had || last.By != "" {
		fmt.Fprintf(&b, "What %s would do:\n", s.Paint(ui.Accent, ui.Shown(p.Declaration.Project)))
		for _, x := range list.Effects {
			width = min(max(width, len([]rune(ui.Shown(x.Name)))), 40)
		}
		for _, does := range approval.Doings {
			first := true
			for _, x := range list.Effects {
				if x.Does != does {
					continue
				}
				if first {
					fmt.Fprintf(&b, "%s\n", headings[does])
				}
				first = false
				text("", ui.Shown(x.Name), x.Text, ui.Shown(x.From), ui.Plain)
			}
		}
		return strings.TrimRight(b.String(), "\n")
	}
	fmt.Fprintf(&b, "What changed in %s since you approved it on %s:\n", s.Paint(ui.Accent, ui.Shown(p.Declaration.Project)), last.At.Local().Format("2 Jan 2006"))
	changes := approval.Changes(last.Effects, list.Effects)
	for _, x := range changes {
		width = min(max(width, len([]rune(ui.Shown(x.Name)))), 40)
	}
	for _, x := range changes {
		name := ui.Shown(x.Name)
		switch {
		case x.Loud:
			fmt.Fprintf(&b, "  %s\n", s.Paint(ui.Red, name+" "+x.What+": "+ui.Shown(x.New.Text)))
			if x.New.Loud {
				break
			}
			fmt.Fprintf(&b, "  %s\n", "Somebody published it anew, or put something else in its place. Ask before you go on.")
		case x.New == nil:
			text("- ", name, x.Old.Text, "", ui.Red)
		case x.Old == nil:
			text("+ ", name, x.New.Text, x.New.From, ui.Green)
		default:
			text("- ", name, x.Old.Text, "", ui.Red)
			text("+ ", name, x.New.Text, x.New.From, ui.Green)
			for _, line := range list.Since(*x.Old, *x.New) {
				text("  ", "", line, "", ui.Plain)
			}
		}
	}
	return strings.TrimRight(b.String(), "\n")
}

var (
	manyBlanks = lazy.Regexp(`[ \t]{12,}`)
	emptyLines = lazy.Regexp(`\n(?:[ \t]*\n){3,}`)
)

// readable is a text in which nothing is pushed out of sight by blanks or empty lines.
func readable(text string) string {
	text = strings.TrimRight(ui.Shown(text), "\n")
	text = emptyLines().ReplaceAllStringFunc(text, func(s string) string { return fmt.Sprintf("\n[%d empty lines]\n", strings.Count(s, "\n")-1) })
	return manyBlanks().ReplaceAllStringFunc(text, func(s string) string { return fmt.Sprintf(" [%d blanks] ", len(s)) })
}

// ask asks on the terminal. Without one nobody can answer, which is a no.
func ask(ctx context.Context, s *ui.Screen) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.ErrNotApproved, "no terminal to ask on").
			Advise("Approve in a terminal, or with trammel approve --yes once you have read it.\nA machine without a person sets %s to the approval id: trammel approve --id", approval.Variable)
	}
	yes, err := answeredYes(ctx, s, "Approve?")
	if yes || err != nil {
		return err
	}
	return fault.New(fault.ErrNotApproved, "not approved").Advise("Nothing was run.")
}

// answeredYes asks the person at the terminal.
func answeredYes(ctx context.Context, s *ui.Screen, question string) (bool, error) {
	fmt.Fprint(s.Err, question+" [y/N] ")
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case <-ctx.Done():
		return false, context.Cause(ctx)
	case line := <-answer:
		return slices.Contains([]string{"y", "yes"}, line), nil
	}
}

// consent makes sure that what a command would do is approved, asking where there is
// somebody to ask.
func consent(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State) (approval.Given, error) {
	if err := p.Usable(); err != nil {
		return approval.Given{}, err
	}
	g, err := approval.Check(p)
	switch {
	case err == nil:
		return g, nil
	case c.Bool("approve"):
		return approval.Give(p, approval.Effects(p))
	case p.Host.Getenv(approval.Variable) != "" || !term.IsTerminal(int(os.Stdin.Fd())):
		return g, err
	}
	list := approval.Effects(p)
	s.Whole(s.Err, describeEffects(s, p, list))
	if err := ask(ctx, s); err != nil {
		return g, err
	}
	return approval.Give(p, list)
}
