package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/survey"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/declare"
)

// here says what to do here and now: what `trammel` alone prints.
func here(c *cli.Command) error {
	s := screen(c)
	p, err := look(c)
	if err != nil {
		var known *fault.Error
		if errors.As(err, &known) && strings.HasPrefix(known.Error(), "no "+declare.FileName) {
			s.Print("There is no project here.")
			s.Print("")
			s.Table([][]ui.Cell{
				{{Text: "  trammel draft", Style: ui.Accent}, {Text: "write a declaration from what this folder shows"}},
				{{Text: "  trammel demo", Style: ui.Accent}, {Text: "see one at work, with no network"}},
				{{Text: "  trammel help", Style: ui.Accent}, {Text: "all commands, in the order of work"}},
			})
			return nil
		}
		return err
	}
	out, err := survey.Of(context.Background(), p)
	if err != nil {
		return err
	}
	s.Print("%s   bay %s   %s", s.Paint(ui.Accent, out.Project), out.Bay, out.Isolation)
	wants := 0
	attend := func(format string, args ...any) {
		wants++
		s.Print("  "+format, args...)
	}
	for _, text := range []string{out.Remark, out.Approval} {
		for line := range strings.Lines(text) {
			attend("%s", strings.TrimRight(line, "\n"))
		}
	}
	if len(out.Crashed) > 0 {
		attend("They ran when the supervisor ended: %s. Again: trammel start", strings.Join(out.Crashed, ", "))
	}
	if len(out.Earlier)+len(out.Changed) > 0 {
		attend("They run, and what they go by changed: %s. Take it on: trammel start", strings.Join(append(out.Earlier, out.Changed...), ", "))
	}
	running := 0
	for _, st := range out.Services {
		if st.Running() {
			running++
		}
		if st.State == "failed" || st.State == "failing" {
			attend("%s is %s: %s. Its log: trammel logs %s", st.Name, st.State, st.Reason, shell.Typed(st.Service))
		}
	}
	if wants == 0 {
		s.Print("  Nothing needs attention.")
	}
	next := "trammel shell · trammel do"
	if len(out.Declared) > 0 && running == 0 && !out.Unanswered {
		next = "trammel start · " + next
	}
	s.Print("%s", s.Paint(ui.Dim, "Everything: trammel show   Work: "+next+"   All commands: trammel help"))
	return nil
}

// order is the order of work, in which help lists the commands. What it does not name comes last.
var order = []struct{ title, commands string }{
	{"First", "draft start shell"},
	{"Declare and lock", "find set unset lock newer approve sources"},
	{"Work", "fit show run do follow"},
	{"Services", "stop watch open logs lend data bays clear"},
	{"Prove, and go back", "verify compare recall"},
	{"Share", "export stock catalog"},
	{"Keep house", "sweep demo completion version install remove help"},
}

// helpWidth is how wide the help is, in characters.
const helpWidth = 80

// helpByOrder is the help of the whole program.
func helpByOrder(commands []*cli.Command) string {
	usage := map[string]string{"completion": "print the completion for a shell", "help": "say what a command does, and its options: trammel help COMMAND"}
	left := map[string]bool{}
	for _, c := range commands {
		usage[c.Name] = c.Usage
		left[c.Name] = true
	}
	var b strings.Builder
	b.WriteString("trammel: {{.Usage}}\n\ntrammel [OPTIONS] COMMAND …\n")
	write := func(title string, names []string) {
		fmt.Fprintf(&b, "\n%s\n", title)
		for _, name := range names {
			b.WriteString(ui.Hung(fmt.Sprintf("   %-11s %s", name, usage[name]), helpWidth, 15) + "\n")
			delete(left, name)
		}
	}
	for _, g := range order {
		write(g.title, strings.Fields(g.commands))
	}
	var rest []string
	for _, c := range commands {
		if left[c.Name] {
			rest = append(rest, c.Name)
		}
	}
	if len(rest) > 0 {
		write("More", rest)
	}
	b.WriteString("\nOptions\n{{range .VisibleFlags}}   {{.}}\n{{end}}\nOf a command: trammel help COMMAND\n")
	return b.String()
}
