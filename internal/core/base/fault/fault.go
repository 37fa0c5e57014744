// Package fault holds the errors that people read: what went wrong, where, and
// what to do about it.
//
// Each error has a Kind, which stands for an exit code of the program; the kinds
// are sentinel errors, so errors.Is(err, fault.ErrSource) works through any wrapping.
package fault

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// The kinds of failure. Their exit codes are listed in docs/commands.md.
var (
	ErrFailed      = errors.New("failed")
	ErrUsage       = errors.New("wrong use or a faulty declaration")
	ErrDrift       = errors.New("drift")
	ErrNotApproved = errors.New("not approved")
	ErrSource      = errors.New("a source could not be reached or gave wrong bytes")
	ErrNotReady    = errors.New("a service did not get ready")
	ErrInterrupted = errors.New("interrupted")
)

var codes = []struct {
	kind error
	code int
}{
	{ErrInterrupted, 130}, {ErrUsage, 2}, {ErrDrift, 3}, {ErrNotApproved, 4}, {ErrSource, 5}, {ErrNotReady, 6}, {ErrFailed, 1},
}

// ExitCode is the process exit code that err stands for; 0 for nil.
func ExitCode(err error) int {
	if err == nil {
		return 0
	}
	for _, c := range codes {
		if errors.Is(err, c.kind) {
			return c.code
		}
	}
	return 1
}

// Error is one failure as a person reads it.
type Error struct {
	Kind  error  // one of the kinds above
	What  string // what went wrong, naming the thing, without a full stop
	Do    string // what to do about it, as sentences; may be empty
	Cause error  // may be nil
}

// New makes an Error with a formatted What.
func New(kind error, format string, args ...any) *Error {
	e := &Error{Kind: kind, What: fmt.Sprintf(format, args...)}
	for _, a := range args {
		if cause, ok := a.(error); ok {
			e.Cause = cause
		}
	}
	return e
}

// Advise sets what to do and returns the same error.
func (e *Error) Advise(format string, args ...any) *Error {
	e.Do = fmt.Sprintf(format, args...)
	return e
}

func (e *Error) Error() string {
	if e.Do == "" {
		return e.What
	}
	return e.What + "\n  " + strings.ReplaceAll(e.Do, "\n", "\n  ")
}

// Unwrap gives the kind and the cause, so that errors.Is finds both.
func (e *Error) Unwrap() []error {
	if e.Cause == nil {
		return []error{e.Kind}
	}
	return []error{e.Kind, e.Cause}
}

// Place is a stretch of text in a file. Line and Column count from 1; Column
// counts bytes, as compilers do. Width is in bytes.
type Place struct {
	File   string
	Line   int
	Column int
	Width  int
	Text   string // the whole line
}

func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return p.File + ":" + strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Column)
}

// Finding is one fault in a file that a person wrote.
type Finding struct {
	Place
	What string
	Do   string
}

// Findings are all faults of one reading, in the order of the file.
type Findings []Finding

// Unwrap makes every list of findings count as wrong use (exit code 2).
func (f Findings) Unwrap() error { return ErrUsage }

// Error renders each finding with its line and a caret under the faulty stretch:
//
//	trammel.toml:14:14: no toolchain is named "postgresq1"
//	   14 | tool     = "postgresq1"
//	      |            ^^^^^^^^^^^^
//	  Did you mean "postgresql"?
func (f Findings) Error() string {
	var b strings.Builder
	for i, x := range f {
		if i > 0 {
			b.WriteString("\n\n")
		}
		b.WriteString(x.Place.String() + ": " + x.What)
		if x.Line > 0 && x.Text != "" {
			number := strconv.Itoa(x.Line)
			for len(number) < 5 {
				number = " " + number
			}
			fmt.Fprintf(&b, "\n%s | %s", number, strings.ReplaceAll(x.Text, "\t", " "))
			pad, width := caret(x.Place)
			fmt.Fprintf(&b, "\n      | %s%s", strings.Repeat(" ", pad), strings.Repeat("^", width))
		}
		if x.Do != "" {
			b.WriteString("\n  " + strings.ReplaceAll(x.Do, "\n", "\n  "))
		}
	}
	return b.String()
}

// caret counts in characters where the marks stand, since a line may hold
// characters of several bytes before them.
func caret(p Place) (pad, width int) {
	start := min(max(p.Column-1, 0), len(p.Text))
	end := min(start+max(p.Width, 1), len(p.Text))
	pad = utf8.RuneCountInString(p.Text[:start])
	return pad, max(utf8.RuneCountInString(p.Text[start:end]), 1)
}

// Nearest picks the candidate that differs least from name, or "" when none is
// close enough to be a likely slip of the fingers.
func Nearest(name string, candidates []string) string {
	best, limit := "", len(name)/3+2
	for _, c := range candidates {
		if d := distance(name, c); d < limit && d < max(len(name), len(c)) {
			best, limit = c, d
		}
	}
	return best
}

// DidYouMeanAfter is DidYouMean as the end of a sentence.
func DidYouMeanAfter(name string, known []string) string {
	if hint := DidYouMean(name, known); hint != "" {
		return ". " + strings.TrimSuffix(hint, ".")
	}
	return ""
}

// DidYouMean is a sentence that names the nearest candidate, or lists them all
// when they are few, or is empty.
func DidYouMean(name string, candidates []string) string {
	if n := Nearest(name, candidates); n != "" {
		return fmt.Sprintf("Did you mean %q?", n)
	}
	if len(candidates) > 0 && len(candidates) <= 15 {
		return "Known: " + strings.Join(candidates, ", ") + "."
	}
	return ""
}

// distance is the optimal string alignment distance: Levenshtein's with
// transpositions of neighbours counted once.
func distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			d := min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d = min(d, rows[i-2][j-2]+1)
			}
			rows[i][j] = d
		}
	}
	return rows[len(a)][len(b)]
}

// OneLine is an error with its advice in one line.
func OneLine(err error) string {
	return strings.Join(strings.Fields(strings.ReplaceAll(err.Error(), "\n", ". ")), " ")
}

// FirstLine is what an error says before its advice.
func FirstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
