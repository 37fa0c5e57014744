package export

import (
	"fmt"
	"html"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/written/lock"
)

// Badge is what a read-me shows of an environment.
type Badge struct {
	Project     string
	Environment lock.EnvironmentID
	Lock        lock.ID
	Machines    int       // that hold it, by reports that count; 0 where nobody asked for any
	Odd         int       // that do not
	Stale       int       // whose report is of another lock
	Newest      time.Time // of the reports that count
}

// Text is what the badge says, for who does not see it.
func (b Badge) Text() string {
	text := fmt.Sprintf("environment %s, lock %s", canon.Short(string(b.Environment)), canon.Short(string(b.Lock)))
	if b.Machines+b.Odd > 0 {
		text += ", " + b.verdict()
	}
	return text
}

func (b Badge) verdict() string {
	day := b.Newest.UTC().Format("2 Jan 2006")
	switch {
	case b.Odd == 1:
		return fmt.Sprintf("1 of %d machines differs, %s", b.Machines+b.Odd, day)
	case b.Odd > 0:
		return fmt.Sprintf("%d of %d machines differ, %s", b.Odd, b.Machines+b.Odd, day)
	case b.Machines == 1:
		return "verified on 1 machine, " + day
	}
	return fmt.Sprintf("verified on %d machines, %s", b.Machines, day)
}

// SVG draws it (SVG 1.1), for light and dark grounds alike.
func (b Badge) SVG() []byte {
	parts := [][2]string{{"label", "locked environment"}, {"id", canon.Short(string(b.Environment))}}
	switch {
	case b.Odd > 0:
		parts = append(parts, [2]string{"odd", b.verdict()})
	case b.Machines > 0:
		parts = append(parts, [2]string{"good", b.verdict()})
	}
	const height, pad, letter = 22, 9, 6.7
	var body strings.Builder
	x := 0.0
	for _, p := range parts {
		width := float64(len([]rune(p[1])))*letter + 2*pad
		if p[0] == "id" {
			width = float64(len([]rune(p[1])))*7.3 + 2*pad
		}
		fmt.Fprintf(&body, "<rect class=\"%s\" x=\"%.1f\" width=\"%.1f\" height=\"%d\"/>", p[0], x, width, height)
		fmt.Fprintf(&body, "<text class=\"%s\" x=\"%.1f\" y=\"15\" textLength=\"%.1f\">%s</text>\n", p[0], x+pad, width-2*pad, html.EscapeString(p[1]))
		x += width
	}
	return fmt.Appendf(nil, `<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%d" viewBox="0 0 %.0f %d" role="img" aria-label="%s">
<title>%s</title>
<style>
rect.label{fill:#2f4a48}rect.id{fill:#dfe9e4}rect.good{fill:#1f6d3b}rect.odd{fill:#a8231c}
text{font:11.5px Verdana,"DejaVu Sans",sans-serif;fill:#fff}text.id{font-family:"DejaVu Sans Mono",Menlo,monospace;fill:#17302e}
@media(prefers-color-scheme:dark){rect.label{fill:#41615e}rect.id{fill:#c9d8d2}rect.good{fill:#2b8a4d}rect.odd{fill:#c23b32}}
</style>
<clipPath id="c"><rect width="%.0f" height="%d" rx="4"/></clipPath>
<g clip-path="url(#c)">
%s</g>
</svg>
`, x, height, x, height, html.EscapeString(b.Text()), html.EscapeString(b.Project+": "+b.Text()), x, height, body.String())
}

// Markdown is the line that shows it.
func (b Badge) Markdown(file string) string {
	return fmt.Sprintf("![%s](%s)", b.Text(), file)
}
