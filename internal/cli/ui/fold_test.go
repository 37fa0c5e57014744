package ui

import (
	"bytes"
	"strings"
	"testing"
)

func TestLinesAreBrokenBetweenWords(t *testing.T) {
	long := "  Nobody has approved what this project would run. Read it and decide: \x1b[36mtrammel approve\x1b[0m, or leave it"
	for _, width := range []int{40, 60, 80} {
		got := folded(long, width)
		for line := range strings.SplitSeq(got, "\n") {
			if columns(line) > width {
				t.Errorf("at %d: %q is %d wide", width, line, columns(line))
			}
		}
		if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(long), " ") {
			t.Errorf("at %d words are lost: %q", width, got)
		}
		if lines := strings.Split(got, "\n"); len(lines) < 2 || !strings.HasPrefix(lines[1], "    ") {
			t.Errorf("at %d: %q", width, got)
		}
	}
	if got := folded(long, 0); got != long {
		t.Errorf("off a terminal: %q", got)
	}
	path := "  " + strings.Repeat("/heronweir", 12)
	if got := folded(path, 60); got != path {
		t.Errorf("a path is broken: %q", got)
	}
	if got := folded("short\nlines", 40); got != "short\nlines" {
		t.Errorf("%q", got)
	}
}

func TestTheLastColumnGoesOnBelowItself(t *testing.T) {
	var out bytes.Buffer
	s := Screen{Out: &out, outWidth: 60}
	s.Table([][]Cell{
		{{Text: "routines"}, {Text: "count"}, {Text: "Totals by lane, or of one species alone: trammel do count redgill"}},
		{{Text: ""}, {Text: "test"}, {Text: "Check every table"}},
	})
	want := "routines  count  Totals by lane, or of one species alone:\n                 trammel do count redgill\n          test   Check every table\n"
	if out.String() != want {
		t.Errorf("%q", out.String())
	}
	out.Reset()
	s.Table([][]Cell{{{Text: "hut"}, {Text: strings.Repeat("x", 50)}, {Text: "trammel.toml [source.hut]"}}})
	if want := "hut  " + strings.Repeat("x", 50) + "\n    trammel.toml [source.hut]\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
}
