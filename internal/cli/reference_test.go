package cli

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/lock"
)

// The pages of docs/reference are made of what the program itself knows. After a change
// of a command or a card: TRAMMEL_WRITE_REFERENCE=1 go test ./internal/cli
func TestTheReferenceIsOfThisProgram(t *testing.T) {
	for file, text := range map[string]string{"commands.md": commandsPage(), "cards.md": cardsPage(t), "json.md": answersPage(t), "json.schema.json": schemaFile(t)} {
		path := "../../docs/reference/" + file
		if os.Getenv("TRAMMEL_WRITE_REFERENCE") != "" {
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		have, err := os.ReadFile(path)
		if err != nil || string(have) != text {
			t.Errorf("docs/reference/%s is not what the program says (%v): TRAMMEL_WRITE_REFERENCE=1 go test ./internal/cli", file, err)
		}
	}
}

func flagLine(f cli.Flag) string {
	names := f.Names()
	if v, ok := f.(cli.VisibleFlag); ok && !v.IsVisible() {
		return ""
	}
	if slices.Contains(names, "help") {
		return ""
	}
	var out []string
	for _, n := range names {
		out = append(out, "--"+n)
	}
	usage, value := "", ""
	if d, ok := f.(cli.DocGenerationFlag); ok {
		usage = d.GetUsage()
		if d.TakesValue() {
			value = " " + strings.ToUpper(d.TypeName())
		}
	}
	// A word in backquotes is what the value is called.
	if before, rest, ok := strings.Cut(usage, "`"); ok {
		if name, after, ok := strings.Cut(rest, "`"); ok {
			value, usage = " "+name, before+name+after
		}
	}
	return fmt.Sprintf("| `%s%s` | %s |\n", strings.Join(out, "`, `"), value, usage)
}

func commandsPage() string {
	var b strings.Builder
	b.WriteString("# Commands, option by option\n\nMade from the program; [the overview](../commands.md) has exit codes and what holds everywhere.\n")
	var describe func(prefix string, c *cli.Command)
	describe = func(prefix string, c *cli.Command) {
		name := strings.TrimSpace(prefix + " " + c.Name)
		if c.Hidden {
			return
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s%s.\n", name, strings.ToUpper(c.Usage[:1]), c.Usage[1:])
		if _, lines, ok := strings.Cut(c.Description, "Example:\n"); ok {
			b.WriteString("\n```\n")
			for line := range strings.Lines(lines) {
				b.WriteString(strings.TrimPrefix(line, "   "))
			}
			b.WriteString("\n```\n")
		}
		flags := ""
		for _, f := range c.Flags {
			flags += flagLine(f)
		}
		if flags != "" {
			b.WriteString("\n| option | |\n| --- | --- |\n" + flags)
		}
		for _, sub := range c.Commands {
			if sub.Name != "help" {
				describe(name, sub)
			}
		}
	}
	app := newApp()
	fmt.Fprintf(&b, "\n## Everywhere\n\n| option | |\n| --- | --- |\n")
	for _, f := range app.Flags {
		b.WriteString(flagLine(f))
	}
	for _, c := range app.Commands {
		if c.Name != "help" {
			describe("trammel", c)
		}
	}
	return b.String()
}

func cardsPage(t *testing.T) string {
	var b bytes.Buffer
	b.WriteString("# Built-in cards\n\nMade from the program. A card says where a tool comes from and what it brings; a catalog may bring [its own](../catalog.md).\nAny other package of a source can be declared [by its name](../declaration.md#toolchain).\n\n")
	b.WriteString("| tool | | sources | as a service |\n| --- | --- | --- | --- |\n")
	for _, name := range card.BuiltinNames() {
		c, ok := card.Builtin(name)
		if !ok {
			t.Fatalf("no card %s", name)
		}
		var kinds, facts []string
		for _, f := range c.From {
			if !slices.Contains(kinds, f.Kind) {
				kinds = append(kinds, f.Kind)
			}
		}
		if c.Service != nil {
			for _, s := range lock.Sorted(c.Service.Group("setting")) {
				facts = append(facts, "`"+s+"`")
			}
			settings := "no settings"
			if len(facts) > 0 {
				settings = "settings " + strings.Join(facts, ", ")
			}
			facts = []string{settings}
			for _, p := range lock.Sorted(c.Service.Group("port")) {
				facts = append(facts, "port `"+p+"` "+c.Service.Group("port")[p])
			}
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", name, c.About, strings.Join(kinds, ", "), strings.Join(facts, "; "))
	}
	return b.String()
}
