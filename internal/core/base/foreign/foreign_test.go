package foreign

import (
	"strings"
	"testing"
	"unicode"
)

func TestWhatHidesIsSeen(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"a plain line", "a plain line"},
		{"üml → 漢字 🐟", "üml → 漢字 🐟"},
		{"rm\x1b[1A\x1b[2K\r", `rm\x1b[1A\x1b[2K\r`},
		{"\x1b]0;title\x07", `\x1b]0;title\x07`},
		{"a\u202eb", `a\u202eb`},
		{"zero\u200bwidth\ufeff", `zero\u200bwidth\ufeff`},
		{"c1 \u009b31m", `c1 \u009b31m`},
		{"bad \xff utf", `bad \xff utf`},
		{"del\x7f", `del\x7f`},
		{"tag\U000e0041", `tag\ue0041`},
		{"back\b\b", `back\x08\x08`},
	} {
		if got := Line(c.in); got != c.want {
			t.Errorf("%q: %q, not %q", c.in, got, c.want)
		}
	}
	if got := Line("two\nlines\tand a tab"); got != `two\nlines\tand a tab` {
		t.Errorf("one line: %q", got)
	}
	if got := Text("two\r\nlines\tand \x1bescape"); got != "two\nlines\tand \\x1bescape" {
		t.Errorf("a text: %q", got)
	}
}

func TestWhatIsEndlessIsCut(t *testing.T) {
	if got := Line(strings.Repeat("x", 1<<20)); len(got) > mostLine+100 || !strings.Contains(got, "characters more") {
		t.Errorf("%d bytes", len(got))
	}
	if got := Text(strings.Repeat("line\n", 1<<16)); strings.Count(got, "\n") > mostLines+1 || !strings.Contains(got, "lines more") {
		t.Errorf("%d lines", strings.Count(got, "\n"))
	}
}

func TestLogsKeepColoursAndNothingElse(t *testing.T) {
	got := Log("a\x1b[31mred\x1b[0m \x1b[2J\x1b]0;t\x07 end")
	var text strings.Builder
	for _, p := range got {
		text.WriteString("<" + p.Colour + ">" + p.Text)
	}
	if want := `<>a<31>red<0> \x1b[2<>J\x1b]0;t\x07 end`; text.String() != want {
		t.Errorf("%q, not %q", text.String(), want)
	}
	if got := Uncoloured("\x1b[1;32mok\x1b[m\x1b[5n"); got != `ok\x1b[5n` {
		t.Errorf("%q", got)
	}
}

func FuzzNothingHidden(f *testing.F) {
	f.Add("a\x1b[31m\u202e\n")
	f.Fuzz(func(t *testing.T, s string) {
		for name, got := range map[string]string{"line": Line(s), "text": Text(s), "log": Uncoloured(s)} {
			for _, r := range got {
				if r != '\n' && r != '\t' && unicode.IsControl(r) || unicode.In(r, unicode.Bidi_Control) {
					t.Fatalf("%s of %q has %q", name, s, r)
				}
			}
		}
		if strings.ContainsAny(Line(s), "\n\t") {
			t.Fatalf("%q has lines", Line(s))
		}
	})
}

// A line of a log may be coloured, and may not hide what it says.
func TestALogHidesNothing(t *testing.T) {
	for sequence, want := range map[string]string{
		"8": "", "08": "", "0;8": "0", "31;8": "31", "8;31": "31", "38;5;8": "38;5;8", "48;5;8;8": "48;5;8", "38;2;8;8;8;8": "38;2;8;8;8", "58;5;8": "58;5;8", "1;38;5;8;8;4": "1;38;5;8;4", "38;8": "38", "38;5": "38;5", "": "0", "0": "0", "28": "28", "008;1": "1", "8;8;8": "",
	} {
		pieces := Log("\x1b[" + sequence + "mhidden")
		last := pieces[len(pieces)-1]
		if last.Colour != want || last.Text != "hidden" {
			t.Errorf("%q gives %q", sequence, last.Colour)
		}
	}
}
