package live

import (
	"strings"

	"github.com/charmbracelet/x/ansi"

	"app.example/trammel/internal/core/base/foreign"
)

// width is how many columns a text takes, without its colours.
func width(text string) int { return ansi.StringWidth(text) }

// fit cuts a line that is too long, and ends its colours.
func fit(line string, columns int) string { return ansi.Truncate(line, columns, "…") }

// clean makes what somebody else wrote fit for the view: nothing of it moves the cursor or
// changes the terminal; colours stay in the file.
func clean(text string) string {
	return foreign.Line(strings.ReplaceAll(foreign.Uncoloured(text), "\t", "    "))
}
