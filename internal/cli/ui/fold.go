package ui

import (
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// narrowest is the width of a terminal below which lines are left to it.
const narrowest = 40

// widthOf is the width of a terminal in characters; 0 of what is none, where lines stay whole.
func widthOf(f *os.File) int {
	if !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < narrowest {
		return 0
	}
	return width
}

// folded breaks lines between words where a terminal would break them within. What goes on is
// set in below its line.
func folded(text string, width int) string {
	if width == 0 || len(text) <= width {
		return text
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		in := len(line) - len(strings.TrimLeft(line, " "))
		lines[i] = foldedAt(line, width, in+2)
	}
	return strings.Join(lines, "\n")
}

// foldedAt breaks one line; what goes on begins at a column. A word that is longer than a line
// stays whole: a path can be copied.
func foldedAt(line string, width, hang int) string {
	if columns(line) <= width {
		return line
	}
	var b strings.Builder
	at := 0
	for rest := line; rest != ""; {
		blanks := len(rest) - len(strings.TrimLeft(rest, " "))
		word := rest[blanks:]
		if end := strings.IndexByte(word, ' '); end >= 0 {
			word = word[:end]
		}
		rest = rest[blanks+len(word):]
		wide := columns(word)
		if at > hang && at+blanks+wide > width && word != "" {
			b.WriteString("\n" + strings.Repeat(" ", hang) + word)
			at = hang + wide
			continue
		}
		b.WriteString(strings.Repeat(" ", blanks) + word)
		at += blanks + wide
	}
	return b.String()
}

// Hung is a line that is broken between words at a width; what goes on begins at a column.
func Hung(line string, width, column int) string { return foldedAt(line, width, column) }

// columns is how wide a text is, without the colours in it.
func columns(text string) int {
	n := 0
	for {
		before, after, colour := strings.Cut(text, "\x1b[")
		n += utf8.RuneCountInString(before)
		if !colour {
			return n
		}
		_, text, _ = strings.Cut(after, "m")
	}
}
