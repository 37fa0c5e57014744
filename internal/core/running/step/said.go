package step

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
)

// Said is what of a program's output a message about its failure shows: the first line that tells of an error, since
// what comes after it is often only its consequence, and the last lines. Its zero value is ready.
type Said struct {
	lines int // heard so far
	first string
	at    int // the number of that line, from 1
	last  []string
}

// lastLines is how many of the last lines are shown, and mostSearched of how many lines the first error is looked for.
const (
	lastLines    = 12
	mostSearched = 50_000
)

// tellsOfError finds lines in which compilers, interpreters, databases and servers say what went wrong.
var tellsOfError = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(errors?|fatal|panic|exception|traceback|cannot|can't|could not|unable to|not found|no such|denied|refused|undefined|invalid|segmentation fault|unhandled)\b|\w(error|exception)\b|\bE[A-Z]{4,}\b`)
})

// harmless are lines that have such a word and tell of no error.
var harmless = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(0|no|without) (errors?|exceptions?)\b|\berrors?[:=] *0\b`)
})

// Hear takes the next line.
func (s *Said) Hear(line string) {
	s.lines++
	if s.first == "" && s.lines < mostSearched && len(line) < 4096 && tellsOfError().MatchString(line) && !harmless().MatchString(line) {
		s.first, s.at = line, s.lines
	}
	if len(s.last) == lastLines {
		s.last = append(s.last[:0], s.last[1:]...)
	}
	s.last = append(s.last, line)
}

// Text is what to show, each line behind "| ": the first error where it is not among the last lines.
func (s *Said) Text() string {
	var b strings.Builder
	if s.at > 0 && s.at <= s.lines-len(s.last) {
		fmt.Fprintf(&b, "| %s\n", s.first)
		if between := s.lines - len(s.last) - s.at; between > 0 {
			fmt.Fprintf(&b, "  (%d more lines)\n", between)
		}
	}
	for _, l := range s.last {
		b.WriteString("| " + l + "\n")
	}
	return b.String()
}
