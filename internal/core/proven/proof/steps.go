package proof

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/running/render"
)

// files compares the rendered files with what they should be.
func (v *verifier) files() {
	if len(v.p.Declaration.Files) == 0 {
		return
	}
	list, err := v.m.files()
	if err != nil {
		v.row("files", NotChecked, fault.OneLine(err))
		v.fit("")
		return
	}
	state := OK
	var details []Detail
	for _, f := range list {
		if f.State == render.OK {
			continue
		}
		details = append(details, Detail{f.File.Path, f.Why})
		if f.State == render.Drifted || f.State == render.Blocked {
			state = worse(state, Drift)
		} else {
			state = worse(state, Due)
		}
		if f.State == render.Blocked { // which no fit takes away: it may be somebody's work
			v.mend("mv " + shell.Typed(f.File.Path) + " " + shell.Typed(f.File.Path+".before"))
		}
		v.fit("")
	}
	v.row("files", state, fmt.Sprintf("%d rendered", len(list)), details...)
}

func (v *verifier) steps() {
	statuses, err := v.m.steps()
	if err != nil {
		v.row("steps", NotChecked, fault.OneLine(err))
		v.fit("")
		return
	}
	var due []string
	for _, st := range statuses {
		if st.Due {
			due = append(due, st.Step.Name+": "+st.Why)
			v.fit(st.Step.Name)
		}
	}
	switch {
	case len(due) > 0:
		v.row("steps", Due, strings.Join(due, "; "))
	case len(statuses) == 0:
		v.row("steps", OK, "none declared")
	default:
		v.row("steps", OK, fmt.Sprintf("%d, none due", len(statuses)))
	}
}

// evidence compares what steps left behind with what is locked. A fit does a step again
// whose evidence differs.
func (v *verifier) evidence(ctx context.Context) {
	if len(v.l.Evidence) == 0 {
		return
	}
	if !v.m.consented() {
		v.consent("evidence")
		return
	}
	list, err := v.m.evidence(ctx)
	if err != nil {
		v.row("evidence", NotChecked, fault.OneLine(err))
		v.mend("trammel start")
		return
	}
	var details []Detail
	var not, same []string
	for _, e := range list {
		switch {
		case e.Not != "":
			not = append(not, e.Step.Name+": "+e.Not)
			v.mend("trammel start")
		case e.Same():
			noun := "lines"
			if len(e.Now) == 1 {
				noun = "line"
			}
			same = append(same, fmt.Sprintf("%s (%d %s)", e.Step.Name, len(e.Now), noun))
		default:
			for _, line := range setup.Difference(e.Locked, e.Now) {
				details = append(details, Detail{e.Step.Name, line})
			}
			// What the step itself left when it was last done is for the lock to adopt;
			// anything else is for the step to do again.
			if lines, ok := v.m.left(e.Step); ok && slices.Equal(lines, e.Now) {
				v.mend("trammel lock")
				continue
			}
			v.fit(e.Step.Name)
		}
	}
	switch {
	case len(details) > 0:
		for _, text := range not {
			name, why, _ := strings.Cut(text, ": ")
			details = append(details, Detail{name, "not checked: " + why})
		}
		v.row("evidence", Drift, "a step left behind something else than is locked", details...)
	case len(not) > 0:
		v.row("evidence", NotChecked, strings.Join(not, "; "))
	default:
		v.row("evidence", OK, strings.Join(same, ", "))
	}
}

// addons compares what other installers say with the pictures in the lock.
func (v *verifier) addons(ctx context.Context) {
	if len(v.p.Declaration.Addons) == 0 {
		return
	}
	if !v.m.consented() {
		v.consent("add-ons")
		return
	}
	row := Row{Check: "add-ons", State: OK}
	var same []string
	for _, a := range v.p.Declaration.Addons {
		picture, locked := v.l.Pictures[a.Name]
		now, err := v.m.picture(ctx, a)
		switch {
		case err != nil:
			row.State = worse(row.State, NotChecked)
			row.Details = append(row.Details, Detail{a.Name, "not checked: " + fault.OneLine(err)})
		case !locked:
			row.State = Drift
			row.Details = append(row.Details, Detail{a.Name, "has no picture in the lock yet"})
		default:
			lines := setup.Difference(picture, now)
			for _, line := range lines {
				row.Details = append(row.Details, Detail{a.Name, line})
			}
			if len(lines) > 0 {
				row.State = Drift
				continue
			}
			what := fmt.Sprintf("%s (%d by name and version)", a.Name, len(now))
			if len(a.Files) > 0 {
				what = fmt.Sprintf("%s (%d, and every byte that files names)", a.Name, len(now)-1)
			} else {
				row.ByName = true
			}
			same = append(same, what)
		}
	}
	switch row.State {
	case OK:
		row.Text = strings.Join(same, ", ")
	case NotChecked:
		row.Text = "an installer did not say what it has"
		v.mend("trammel fit --exact")
	default:
		row.Text = "differ from their pictures"
		v.mend("trammel fit --exact")
	}
	v.add(row)
}
