package proof

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/lock"
)

// store checks every part, several at once.
func (v *verifier) store(ctx context.Context) {
	parts := lock.Distinct(v.p.Parts)
	outcomes := make([]outcome, len(parts))
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for i, part := range parts {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if ctx.Err() != nil {
				return
			}
			outcomes[i] = v.check(part)
		})
	}
	wait.Wait()
	row := Row{Check: "store", State: OK}
	var texts []string
	total := 0
	for i, x := range outcomes {
		total += x.files
		found := Part{Label: parts[i].Label(), Item: parts[i].Item, Version: parts[i].Part.Version, Tree: string(parts[i].Tree), State: cmp.Or(x.state, OK)}
		for _, d := range x.details {
			found.Differs = append(found.Differs, d.Thing+" "+firstWord(d.What))
		}
		v.Parts = append(v.Parts, found)
		if x.state == "" {
			continue
		}
		row.State = worse(row.State, x.state)
		texts = append(texts, x.text)
		row.Details = append(row.Details, x.details...)
		v.mendPart(parts[i], x.state)
	}
	how := "by their stamps"
	if v.o.Deep {
		how = "every byte"
	}
	row.Text = strings.Join(texts, "; ")
	if row.State == OK {
		noun := "archives"
		if len(parts) == 1 {
			noun = "archive"
		}
		row.Text = fmt.Sprintf("%d %s, %s files, %s", len(parts), noun, Grouped(total), how)
	}
	v.add(row)
}

// worse is the state of a row of which two things were asked: what differs counts most.
func worse(a, b string) string {
	rank := map[string]int{OK: 0, Due: 1, NotChecked: 2, Missing: 3, Drift: 4}
	if rank[b] > rank[a] {
		return b
	}
	return a
}

// mendPart names what mends a part. What cannot be read may be whole.
func (v *verifier) mendPart(p lock.PartOn, state string) {
	switch {
	case state == NotChecked:
		v.mend("chmod -R u+rX " + shell.Typed(v.m.place(p)))
	case p.Format == lock.RootFormat: // many tools share it
		v.fit("")
	default:
		v.fit(p.Item)
	}
}

// outcome is what was found of one part; state is "" where nothing is wrong.
type outcome struct {
	text    string
	state   string
	files   int
	details []Detail
}

// check compares one part with its record, and marks one that differs.
func (v *verifier) check(part lock.PartOn) outcome {
	c, err := v.m.part(part, v.o.Deep)
	name := part.Label() + " " + part.Part.Version
	out := outcome{files: c.Files}
	switch {
	case err != nil:
		out.text, out.state = name+": "+fault.OneLine(err), NotChecked
	case c.Missing:
		out.text, out.state = name+" is not there", Missing
	case c.Record != "":
		out.text, out.state = name+": "+c.Record, Drift
	case len(c.Differences) == 1:
		out.text, out.state = fmt.Sprintf("%s: 1 of %s files differs", name, Grouped(c.Files)), Drift
	case len(c.Differences) > 1:
		out.text, out.state = fmt.Sprintf("%s: %d of %s files differ", name, len(c.Differences), Grouped(c.Files)), Drift
	}
	if out.state != Drift {
		return out
	}
	v.m.damaged(part)
	for _, d := range c.Differences {
		what := d.What
		if at := v.m.changed(part, d.Path); what == "changed" && !at.IsZero() {
			what += " " + at.Format("2 Jan 15:04")
		}
		out.details = append(out.details, Detail{d.Path, what})
	}
	return out
}

// firstWord is what kind of difference it is, without the time that it was seen.
func firstWord(what string) string {
	word, _, _ := strings.Cut(what, " ")
	return word
}

// Grouped writes a count with commas: 5,214.
func Grouped(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// commands compares what shows the commands, in the frame and in the checkout, with the lock.
func (v *verifier) commands() {
	shown, wrong := v.m.commands()
	if len(wrong) == 0 {
		v.row("frame", OK, fmt.Sprintf("%d commands of %d tools", shown, len(v.l.Items)))
		return
	}
	var details []Detail
	for _, d := range wrong {
		details = append(details, Detail{d.Command, d.What})
	}
	v.row("frame", Drift, "shows other commands than the lock", details...)
	v.fit("")
}

// additions reports a person's own toolchains apart: they are nobody else's, and
// the row of commands covers theirs.
func (v *verifier) additions(ctx context.Context) {
	if v.p.OverlayLock == nil {
		return
	}
	row := Row{Check: "additions", State: OK}
	var names []string
	for _, name := range lock.Sorted(v.p.OverlayLock.Items) {
		names = append(names, name+" "+v.p.OverlayLock.Items[name].Version)
	}
	for _, part := range lock.Distinct(v.p.OwnParts) {
		found := v.check(part)
		if found.state == "" {
			continue
		}
		row.State = worse(row.State, found.state)
		what := "of your own: " + found.text
		if found.state == NotChecked {
			what = "not checked: " + found.text
		}
		row.Details = append(append(row.Details, Detail{part.Label() + " " + part.Part.Version, what}), found.details...)
		v.mendPart(part, found.state)
	}
	// A part that is whole may be started wrongly: it is asked like the project's.
	if !v.m.consented() {
		row.Details = append(row.Details, Detail{"versions", "not checked: " + firstLine(v.o.NotGiven)})
		row.State = worse(row.State, NotChecked)
	} else if _, wrong := v.askAll(ctx, v.p.OverlayLock); len(wrong) > 0 {
		row.Details = append(row.Details, wrong...)
		row.State = worse(row.State, Drift)
	}
	if ctx.Err() != nil {
		row.Details = append(row.Details, Detail{"all of them", "not checked: it was interrupted"})
		row.State = worse(row.State, NotChecked)
	}
	if row.Text = "yours, not the team's: " + strings.Join(names, ", "); row.State != OK {
		row.Text = "your own toolchains"
	}
	v.add(row)
}
