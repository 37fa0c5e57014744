// Package ui is how the program looks: colours, tables and progress.
//
// Results go to standard output, progress and remarks to standard error. Colour
// is never the only sign of anything: the word is always there.
package ui

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// Style is a way to print a word.
type Style int

// The styles. They are drawn from the terminal's own sixteen colours, so that
// they fit its light or dark ground.
const (
	Plain Style = iota
	Dim
	Bold
	Accent // names of things
	Amber  // due, newer
	Red    // drift, failed
	Green  // ok, ready

	hue1
	hue2
	hue3
	hue4
	hue5
)

// Hues tell several things of one kind apart; red and amber are not among them, which
// mean something.
var Hues = []Style{Accent, hue1, hue2, hue3, hue4, hue5}

var codes = map[Style]string{Dim: "2", Bold: "1", Accent: "36", Amber: "33", Red: "31", Green: "32", hue1: "35", hue2: "34", hue3: "94", hue4: "95", hue5: "96"}

// Screen is where a command prints.
type Screen struct {
	Out, Err io.Writer
	Quiet    bool
	Verbose  bool
	colour   bool // of Out
	errColor bool
	live     bool // Err may be redrawn
}

// Options of a screen, from the flags.
type Options struct {
	NoColour, Plain, Quiet, Verbose bool
}

// Open looks at the two streams and the environment (NO_COLOR, CI, TERM).
func Open(out, err *os.File, o Options) *Screen {
	s := &Screen{Out: out, Err: err, Quiet: o.Quiet, Verbose: o.Verbose}
	dumb := os.Getenv("TERM") == "dumb"
	colour := !o.NoColour && os.Getenv("NO_COLOR") == "" && !dumb
	s.colour = colour && term.IsTerminal(int(out.Fd()))
	s.errColor = colour && term.IsTerminal(int(err.Fd()))
	s.live = !o.Plain && !o.Quiet && !dumb && os.Getenv("CI") == "" && term.IsTerminal(int(err.Fd()))
	return s
}

// Paint styles a word for standard output.
func (s *Screen) Paint(style Style, word string) string { return paint(s.colour, style, word) }

// Paint styles a word where colour is on.
func Paint(on bool, style Style, word string) string { return paint(on, style, word) }

func paint(on bool, style Style, word string) string {
	if code, ok := codes[style]; ok && on && word != "" {
		return "\x1b[" + code + "m" + word + "\x1b[0m"
	}
	return word
}

// StateStyle is the style of a state word.
func StateStyle(state string) Style {
	switch state {
	case "ok", "ready", "done":
		return Green
	case "due", "newer", "starting", "failing":
		return Amber
	case "drift", "failed", "missing":
		return Red
	case "stopped":
		return Dim
	}
	return Plain
}

// Print writes a line of the result.
func (s *Screen) Print(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }

// Say writes a remark, unless the person wants quiet.
func (s *Screen) Say(format string, args ...any) {
	if !s.Quiet {
		fmt.Fprintf(s.Err, format+"\n", args...)
	}
}

// JSON writes a value as the result.
func (s *Screen) JSON(v any) error {
	e := json.NewEncoder(s.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Cell is a word in a table.
type Cell struct {
	Text  string
	Style Style
}

// Table prints rows with left-aligned columns, two spaces between.
func (s *Screen) Table(rows [][]Cell) {
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			if i < len(r)-1 { // the last of a row may be as long as it likes
				widths[i] = max(widths[i], utf8.RuneCountInString(c.Text))
			}
		}
	}
	for _, r := range rows {
		var b strings.Builder
		for i, c := range r {
			b.WriteString(s.Paint(c.Style, c.Text))
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c.Text)+2))
			}
		}
		fmt.Fprintln(s.Out, strings.TrimRight(b.String(), " "))
	}
}

// Error prints an error with its kind of prefix.
func (s *Screen) Error(prefix, text string) {
	fmt.Fprintln(s.Err, paint(s.errColor, Red, prefix)+text)
}
