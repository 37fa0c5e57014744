package live

import (
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"
)

// width is how many columns a text takes, without its colours.
func width(text string) int { return ansi.StringWidth(text) }

// fit cuts a line that is too long, and ends its colours.
func fit(line string, columns int) string { return ansi.Truncate(line, columns, "…") }

// clean takes out of a line of a log what would move the cursor or change the terminal;
// colours stay in the file.
func clean(text string) string {
	text = strings.ReplaceAll(ansi.Strip(text), "\t", "    ")
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, text)
}
