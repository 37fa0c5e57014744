// Package ui is how the program looks: colours, tables and progress.
//
// Results go to standard output, progress and remarks to standard error. Colour
// is never the only sign of anything: the word is always there. Whatever goes to a
// terminal passes finish, which makes everything visible that is not this package's own
// colours (package foreign): nothing that somebody else wrote steers the terminal.
package ui

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"golang.org/x/term"

	"app.example/trammel/internal/core/base/foreign"
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
	outWidth int  // of the terminals; 0 of what is none
	errWidth int
	terminal *os.File // that Err leads to; nil: none
}

// Options of a screen, from the flags.
type Options struct {
	NoColour, Plain, Quiet, Verbose bool
}

// Open looks at the two streams and the environment (NO_COLOR, CI, TERM).
func Open(out, err *os.File, o Options) *Screen {
	s := &Screen{Out: out, Err: err, Quiet: o.Quiet, Verbose: o.Verbose, outWidth: widthOf(out), errWidth: widthOf(err)}
	dumb := os.Getenv("TERM") == "dumb"
	colour := !o.NoColour && os.Getenv("NO_COLOR") == "" && !dumb
	s.colour = colour && term.IsTerminal(int(out.Fd()))
	s.errColor = colour && term.IsTerminal(int(err.Fd()))
	if s.errWidth > 0 {
		s.terminal = err
	}
	s.live = !o.Plain && !o.Quiet && !dumb && os.Getenv("CI") == "" && term.IsTerminal(int(err.Fd()))
	return s
}

// Paint styles a word for standard output.
func (s *Screen) Paint(style Style, word string) string { return paint(s.colour, style, word) }

// Paint styles a word where colour is on, for a view that draws the terminal itself. What
// somebody else wrote must be made fit for it before.
func Paint(on bool, style Style, word string) string {
	if code, ok := codes[style]; ok && on && word != "" {
		return "\x1b[" + code + "m" + word + "\x1b[0m"
	}
	return word
}

func paint(on bool, style Style, word string) string {
	if code, ok := codes[style]; ok && on && word != "" {
		return colour(code) + word + colour("0")
	}
	return word
}

// secret marks the colours of this process inside a text. Nobody else can write it. It is made
// with the first colour: most commands of a day print none.
var secret = sync.OnceValue(func() string { painted.Store(true); return "\x00" + rand.Text() })

var painted atomic.Bool

// colour is a change of colour, until finish makes it one that terminals know.
func colour(code string) string { return secret() + code + "\x00" }

// folders are names of folders with characters that break a line, and the same on one line.
var folders struct {
	sync.RWMutex
	raw, shown []string
}

// OneLine has the folders of paths be printed on one line, wherever they stand: whoever names a folder
// could otherwise print lines of their own.
func OneLine(paths ...string) {
	folders.Lock()
	defer folders.Unlock()
	for _, path := range paths {
		for name := range strings.SplitSeq(path, "/") {
			if name = "/" + name; foreign.Line(name) != name && !slices.Contains(folders.raw, name) {
				folders.raw, folders.shown = append(folders.raw, name), append(folders.shown, foreign.Line(name))
			}
		}
	}
}

func inOneLine(text string) string {
	folders.RLock()
	defer folders.RUnlock()
	for i, name := range folders.raw {
		text = strings.ReplaceAll(text, name, folders.shown[i])
	}
	return text
}

// finish makes a text fit for a terminal: our own colours, and else only what shows.
func finish(text string, foreign func(string) string) string {
	text = inOneLine(text)
	if !painted.Load() || !strings.Contains(text, secret()) {
		return foreign(text)
	}
	var b strings.Builder
	for i, piece := range strings.Split(text, secret()) {
		if i > 0 {
			code, rest, _ := strings.Cut(piece, "\x00")
			b.WriteString("\x1b[" + code + "m")
			piece = rest
		}
		b.WriteString(foreign(piece))
	}
	return b.String()
}

// Whole writes a text that somebody decides about: none of it is cut, and quiet is not for it.
func (s *Screen) Whole(to io.Writer, text string) { fmt.Fprintln(to, finish(text, foreign.Whole)) }

// Shown is a text of somebody else's, of any number of lines, as it is printed: for who
// must know how much room it takes.
func Shown(text string) string { return foreign.Whole(text) }

// Padded is a word with blanks behind it up to a width in characters.
func Padded(word string, width int) string {
	return word + strings.Repeat(" ", max(0, width-utf8.RuneCountInString(word)))
}

// Log is a line of a log: its own colours stay, where colour is on.
func (s *Screen) Log(line string) string {
	var b strings.Builder
	for _, p := range foreign.Log(line) {
		if p.Colour != "" && s.colour {
			b.WriteString(colour(p.Colour))
		}
		b.WriteString(p.Text)
	}
	if b.Len() > 0 && s.colour && painted.Load() && strings.Contains(b.String(), secret()) {
		b.WriteString(colour("0"))
	}
	return b.String()
}

// StateStyle is the style of a state word.
func StateStyle(state string) Style {
	switch state {
	case "ok", "ready", "done":
		return Green
	case "due", "newer", "starting", "failing", "unknown", "not checked":
		return Amber
	case "drift", "failed", "missing":
		return Red
	case "stopped":
		return Dim
	}
	return Plain
}

// Print writes a line of the result.
func (s *Screen) Print(format string, args ...any) {
	fmt.Fprintln(s.Out, folded(finish(fmt.Sprintf(format, args...), foreign.Text), s.outWidth))
}

// Say writes a remark, unless the person wants quiet.
func (s *Screen) Say(format string, args ...any) {
	if !s.Quiet {
		fmt.Fprintln(s.Err, folded(finish(fmt.Sprintf(format, args...), foreign.Text), s.errWidth))
	}
}

// JSON writes a value as the result.
func (s *Screen) JSON(v any) error {
	e := json.NewEncoder(s.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// JSONLine prints a value on one line, for streams of them.
func (s *Screen) JSONLine(v any) error {
	e := json.NewEncoder(s.Out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Cell is a word in a table.
type Cell struct {
	Text  string
	Style Style
}

// minLast is how wide the last column of a table must be, for its words to go on below it.
const minLast = 24

// Table prints rows with left-aligned columns, two spaces between.
func (s *Screen) Table(rows [][]Cell) {
	var widths []int
	for k, r := range rows {
		r = slices.Clone(r)
		for i := range r {
			r[i].Text = foreign.Line(r[i].Text)
		}
		rows[k] = r
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
		line := strings.TrimRight(finish(b.String(), foreign.Line), " ")
		if s.outWidth > 0 {
			last := 0 // where the last column begins
			for i := range len(r) - 1 {
				last += widths[i] + 2
			}
			if last > s.outWidth-minLast && len(r) > 1 && columns(line) > s.outWidth { // it has a line of its own
				own := finish(s.Paint(r[len(r)-1].Style, r[len(r)-1].Text), foreign.Line)
				line = strings.TrimRight(strings.TrimSuffix(line, own), " ") + "\n" + foldedAt("    "+own, s.outWidth, 4)
			} else {
				line = foldedAt(line, s.outWidth, last)
			}
		}
		fmt.Fprintln(s.Out, line)
	}
}

// Error prints an error with its kind of prefix.
func (s *Screen) Error(prefix, text string) {
	fmt.Fprintln(s.Err, folded(finish(paint(s.errColor, Red, prefix)+text, foreign.Text), s.errWidth))
}
