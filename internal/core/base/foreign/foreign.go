// Package foreign makes text that somebody else wrote fit to be printed.
//
// A declaration, a lock, a report, a registry's answer or a line of a log may hold what
// moves the cursor, renames the window, hides itself or reads in another order than it
// runs. Here all of that becomes visible: control characters (ECMA-48, C0 and C1) as
// \x1b, characters that steer the direction of writing (Unicode, UAX #9) and other
// invisible ones as \u202e. What is endless is cut.
package foreign

import (
	"fmt"
	"math"
	"strings"
	"unicode"
	"unicode/utf8"
)

// mostLine is how many characters of one line are printed, and mostLines how many lines of
// one text.
const (
	mostLine  = 4000
	mostLines = 2000
)

// Text makes a text of several lines printable. Line breaks and tabs stay.
func Text(s string) string { return text(s, mostLines, mostLine) }

// Whole is Text for what somebody decides about: nothing of it is cut.
func Whole(s string) string { return text(s, math.MaxInt, math.MaxInt) }

func text(s string, mostLines, mostLine int) string {
	if plain(s) {
		return s
	}
	var b strings.Builder
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		if i == mostLines {
			fmt.Fprintf(&b, "\n… and %d lines more", len(lines)-i)
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		write(&b, strings.TrimSuffix(line, "\r"), '\t', mostLine)
	}
	return b.String()
}

// Line makes a text printable on one line: line breaks and tabs become visible too.
func Line(s string) string {
	if plain(s) && !strings.ContainsAny(s, "\n\t") {
		return s
	}
	var b strings.Builder
	write(&b, s, 0, mostLine)
	return b.String()
}

// plain tells quickly that nothing is to be done.
func plain(s string) bool {
	if len(s) > mostLine {
		return false
	}
	for i := 0; i < len(s); i++ {
		if c := s[i]; c >= 0x7f || c < ' ' && c != '\n' && c != '\t' {
			return false
		}
	}
	return true
}

func write(b *strings.Builder, s string, keep rune, most int) {
	count := 0
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		if count == most {
			fmt.Fprintf(b, "… (%d characters more)", utf8.RuneCountInString(s[i:]))
			return
		}
		count++
		switch {
		case r == keep && keep != 0:
			b.WriteRune(r)
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(b, `\x%02x`, r)
		case hidden(r):
			fmt.Fprintf(b, `\u%04x`, r)
		default:
			b.WriteString(s[i : i+size])
		}
		i += size
	}
}

// hidden tells whether a character does something instead of showing something: C1
// controls, format characters (bidirectional marks, zero-width ones, tags), separators of
// lines and paragraphs, and what only the system or nobody may use.
func hidden(r rune) bool {
	switch {
	case 0x80 <= r && r <= 0x9f:
		return true
	case r == 0x200d: // joins parts of a picture; without neighbours it shows nothing
		return true
	}
	return unicode.In(r, unicode.Cf, unicode.Co, unicode.Cs, unicode.Zl, unicode.Zp) || !unicode.IsPrint(r) && !unicode.IsSpace(r) ||
		r == 0x115f || r == 0x1160 || r == 0x3164 || r == 0xffa0
}

// Piece is a stretch of a log's line: a text, and before it the colour that the program
// asked for.
type Piece struct {
	Colour string // parameters of a select-graphic-rendition sequence (ECMA-48, 8.3.117), or ""
	Text   string // printable
}

// Log takes a line of a log apart: colours stay, and nothing else that is not text.
func Log(s string) []Piece {
	if plain(s) {
		return []Piece{{Text: s}}
	}
	var out []Piece
	colour := ""
	for len(s) > 0 {
		i := strings.Index(s, "\x1b[")
		if i < 0 {
			break
		}
		end := i + 2
		for end < len(s) && (s[end] >= '0' && s[end] <= ';') {
			end++
		}
		if end >= len(s) || s[end] != 'm' || end-i > 40 { // another sequence: its escape shows
			if end >= len(s) {
				break
			}
			out = append(out, Piece{colour, Text(s[:end])})
			colour, s = "", s[end:]
			continue
		}
		if i > 0 {
			out = append(out, Piece{colour, Text(s[:i])})
		}
		colour, s = shown(s[i+2:end]), s[end+1:]
	}
	return append(out, Piece{colour, Text(s)})
}

// shown are the parameters of a select-graphic-rendition sequence without the one that conceals what
// follows (8; ECMA-48, 8.3.117). Those of 38, 48 and 58 are numbers of colours (ITU-T T.416, 13.1.8).
func shown(parameters string) string {
	var out []string
	all := strings.Split(parameters, ";")
	for i := 0; i < len(all); i++ {
		switch number := strings.TrimLeft(all[i], "0"); number {
		case "8":
			continue
		case "38", "48", "58":
			more := 0
			if i+1 < len(all) {
				more = map[string]int{"5": 2, "2": 4}[strings.TrimLeft(all[i+1], "0")]
			}
			more = min(more, len(all)-1-i)
			out = append(out, all[i:i+1+more]...)
			i += more
			continue
		}
		out = append(out, all[i])
	}
	if joined := strings.Join(out, ";"); joined != "" {
		return joined
	}
	if strings.Trim(parameters, "0;") == "" {
		return "0"
	}
	return "" // it said nothing but that
}

// Uncoloured is a line of a log without its colours.
func Uncoloured(s string) string {
	if plain(s) {
		return s
	}
	var b strings.Builder
	for _, p := range Log(s) {
		b.WriteString(p.Text)
	}
	return b.String()
}
