// Package proof compares a machine with a lock, down to the file.
//
// It changes nothing but one thing: a part that it finds damaged is marked in the store, so
// that the next fit mends it. Nothing else that only looks writes anything. It starts tools,
// evidence and lists of add-ons only with consent, and never says that all is well when
// something could not be checked.
package proof

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// States of a check.
const (
	OK      = "ok"
	Drift   = "drift"
	Due     = "due"
	Missing = "missing"
	Failed  = "failed" // could not be checked
)

// Row is the outcome of one check.
type Row struct {
	Check   string   `json:"check"`
	State   string   `json:"state"`
	Text    string   `json:"text"`
	Details []Detail `json:"details,omitempty"`
	ByName  bool     `json:"by_name,omitempty"` // it rests on names and versions, not on bytes
}

// Detail is one thing that is not as it should be.
type Detail struct {
	Thing string `json:"thing"` // a file, a command, a variable
	What  string `json:"what"`
}

// Report is the outcome of all checks.
type Report struct {
	Project     string             `json:"project"`
	Platform    string             `json:"platform"`
	Lock        lock.ID            `json:"lock"`
	Environment lock.EnvironmentID `json:"environment"`
	Deep        bool               `json:"deep"`
	Rows        []Row              `json:"checks"`
	Mend        []string           `json:"mend"` // commands, in order
	Parts       []Part             `json:"parts,omitempty"`
	Policies    []Policy           `json:"policies,omitempty"` // by which it was judged
}

// Policy is one that was in force.
type Policy struct {
	Name   string `json:"name"`
	Digest string `json:"digest"`
}

// Part is one locked part as it was found.
type Part struct {
	Label   string   `json:"label"` // as messages have it: "node", "root trixie"
	Item    string   `json:"item"`
	Version string   `json:"version"`
	Tree    string   `json:"tree"`  // the locked digest
	State   string   `json:"state"` // ok, drift, missing or failed
	Differs []string `json:"differs,omitempty"`
}

// OK tells whether every check holds.
func (r *Report) OK() bool {
	return !slices.ContainsFunc(r.Rows, func(x Row) bool { return x.State != OK })
}

// Options of one verification.
type Options struct {
	Given    approval.Given // consent to start the tools of this project
	NotGiven error          // why there is none, or nil
	Deep     bool           // hash every byte instead of comparing stamps
}

// Verify runs all checks.
func Verify(ctx context.Context, p *checkout.State, o Options) (*Report, error) {
	v := &verifier{p: p, o: o, Report: Report{Project: p.Declaration.Project, Platform: p.Platform.String(), Deep: o.Deep}}
	v.policy()
	l := p.Lock
	if l == nil {
		v.row("lock", Drift, firstLine(p.LockErr))
		v.mend("trammel lock")
		v.unchecked("store", "frame", "answers", "variables", "steps", "services")
		return &v.Report, nil
	}
	v.l, v.Lock, v.Environment = l, l.ID(), l.EnvironmentID(p.Platform)
	v.lock()
	if !l.Covers(p.Platform) {
		v.unchecked("store", "frame", "answers", "variables", "steps", "services")
		return &v.Report, nil
	}
	v.store(ctx)
	if err := ctx.Err(); err != nil {
		return nil, context.Cause(ctx)
	}
	sight, err := setup.Look(p)
	if err != nil {
		rest := []string{"frame", "answers", "variables", "steps", "services"}
		if !errors.Is(err, checkout.ErrNotFitted) { // which the row above says
			v.row("frame", Failed, "not checked: "+fault.OneLine(err))
			v.mend("trammel fit")
			rest = rest[1:]
		}
		v.unchecked(rest...)
		return v.done(), nil
	}
	v.s = sight
	if o.Given.Holds() {
		if v.up, err = setup.With(o.Given, sight); err != nil {
			return nil, err
		}
	}
	f := sight.Plan.Frame
	v.frame(f)
	v.libraries()
	v.answers(ctx, f)
	v.variables(f)
	v.additions(ctx, f)
	v.files()
	v.steps()
	v.evidence(ctx)
	v.addons(ctx)
	v.services(ctx)
	return v.done(), ctx.Err()
}

type verifier struct {
	Report
	p    *checkout.State
	l    *lock.Lock
	s    *setup.Sight
	up   *setup.Setup // nil without consent
	o    Options
	fits []string // what to name in trammel fit
}

func (v *verifier) row(check, state, text string, details ...Detail) {
	v.Rows = append(v.Rows, Row{Check: check, State: state, Text: text, Details: details})
}

func (v *verifier) unchecked(checks ...string) {
	for _, c := range checks {
		v.row(c, Failed, "not checked: the row above comes first")
	}
}

func (v *verifier) mend(command string) {
	if !slices.Contains(v.Mend, command) {
		v.Mend = append(v.Mend, command)
	}
}

// fit notes that fitting mends a thing.
func (v *verifier) fit(name string) {
	if !slices.Contains(v.fits, name) {
		v.fits = append(v.fits, name)
	}
}

func (v *verifier) done() *Report {
	if len(v.fits) > 0 {
		// A whole fit does what cannot be named.
		if i := slices.Index(v.fits, ""); i >= 0 {
			v.mend("trammel fit")
		} else {
			v.mend("trammel fit " + shell.Words(v.fits...))
		}
	}
	return &v.Report
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// policy says whether the policies in force allow what is declared and locked; nothing where
// there are none.
func (v *verifier) policy() {
	if len(v.p.Policies) == 0 {
		return
	}
	for _, x := range v.p.Policies {
		v.Policies = append(v.Policies, Policy{x.Name, x.Digest})
	}
	if err := v.p.Allowed(); err != nil {
		row := Row{Check: "policy", State: Drift, Text: firstLine(err)}
		var refused *policy.Refused
		if errors.As(err, &refused) {
			for _, b := range refused.Breaches {
				row.Details = append(row.Details, Detail{b.Rule, b.What})
			}
		}
		v.Rows = append(v.Rows, row)
		return
	}
	v.row("policy", OK, strings.Join(v.p.Policies.Named(), ", "))
}

func (v *verifier) lock() {
	switch {
	case v.l.Declaration.Digest != v.p.Written.Digest():
		v.row("lock", Drift, "the declaration changed after it was locked")
		v.mend("trammel lock")
	case !v.l.Covers(v.p.Platform):
		v.row("lock", Drift, "not locked for "+v.p.Platform.String())
		v.mend("trammel lock")
	default:
		v.row("lock", OK, "resolved from this declaration")
	}
}

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
			if x := outcomes[i]; x.state == Drift { // what cannot be read may be whole
				v.p.Store.MarkDamaged(part)
			}
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
		if row.State == OK || x.state == Drift {
			row.State = x.state
		}
		texts = append(texts, x.text)
		row.Details = append(row.Details, x.details...)
		if x.state == Failed {
			v.mend("see that you may read it, and run it again: ls -ld " + shell.Typed(v.p.Store.Path(parts[i])))
			continue
		}
		if parts[i].Format == lock.RootFormat { // many tools share it
			v.fit("")
		} else {
			v.fit(parts[i].Item)
		}
	}
	how := "by their stamps"
	if v.o.Deep {
		how = "every byte"
	}
	row.Text = strings.Join(texts, "; ")
	if row.State == OK {
		noun := "parts"
		if len(parts) == 1 {
			noun = "part"
		}
		row.Text = fmt.Sprintf("%d %s, %s files, %s", len(parts), noun, Grouped(total), how)
	}
	v.Rows = append(v.Rows, row)
}

// outcome is what was found of one part; state is "" where nothing is wrong.
type outcome struct {
	text    string
	state   string
	files   int
	details []Detail
}

// check holds one part to its record.
func (v *verifier) check(part lock.PartOn) outcome {
	c, err := v.p.Store.Check(part, v.o.Deep)
	name := part.Label() + " " + part.Part.Version
	out := outcome{files: c.Files}
	switch {
	case err != nil:
		out.text, out.state = name+": not checked: "+fault.OneLine(err), Failed
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
	for _, d := range c.Differences {
		what := d.What
		full := filepath.Join(v.p.Store.Path(part), d.Path)
		if info, err := os.Lstat(full); err == nil && what == "changed" {
			what += " " + info.ModTime().Format("2 Jan 15:04")
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

func (v *verifier) frame(f frame.Frame) {
	differences := f.Check()
	if len(differences) == 0 {
		v.row("frame", OK, fmt.Sprintf("%d commands of %d tools", len(f.Commands), len(v.l.Items)))
		return
	}
	var details []Detail
	for _, d := range differences {
		details = append(details, Detail{d.Command, d.What})
	}
	v.row("frame", Drift, "shows other commands than the lock", details...)
	v.fit("")
}

// mostSaid is how many tools are named that are what the lock says.
const mostSaid = 24

// answers starts each tool inside the environment and reads its version.
func (v *verifier) answers(ctx context.Context, f frame.Frame) {
	if v.up == nil {
		v.row("answers", Failed, "not checked: "+firstLine(v.o.NotGiven))
		if !errors.As(v.o.NotGiven, new(*policy.Refused)) {
			v.mend("trammel approve")
		}
		return
	}
	said, details := v.askAll(ctx, v.l, f)
	if len(details) > 0 {
		v.row("answers", Drift, "a tool is not what the lock says", details...)
		return
	}
	text := strings.Join(said[:min(len(said), mostSaid)], ", ")
	if more := len(said) - mostSaid; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	if len(said) == 0 {
		text = "no tool states its version"
	}
	v.row("answers", OK, text)
}

// askAll starts each tool of a lock, several at once, and gives what they said and what is wrong with them.
func (v *verifier) askAll(ctx context.Context, l *lock.Lock, f frame.Frame) (said []string, details []Detail) {
	items := lock.Sorted(l.Items)
	answers := make([]string, len(items))
	wrong := make([]error, len(items))
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for i, name := range items {
		item := l.Items[name]
		if item.Answer == "" {
			continue
		}
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			got, err := v.ask(ctx, item, f)
			switch {
			case err != nil:
				wrong[i] = err
			case got != item.Version:
				wrong[i] = fmt.Errorf("says %q and %s is locked", got, item.Version)
			default:
				answers[i] = name + " " + got
			}
		})
	}
	wait.Wait()
	for i, w := range wrong {
		if w == nil {
			if answers[i] != "" {
				said = append(said, answers[i])
			}
			continue
		}
		details = append(details, Detail{items[i], w.Error()})
		if !errors.Is(w, errNotOurs) { // which fitting cannot mend; of a link that is gone the frame's row tells
			v.fit(items[i])
		}
	}
	return said, details
}

// errNotOurs is a version command that asks another program than the tool's.
var errNotOurs = errors.New("which is not of the frame: the card's answer is to begin with a command of the tool")

// ask runs a tool's version command. The tool must come from the frame.
func (v *verifier) ask(ctx context.Context, item lock.Item, f frame.Frame) (string, error) {
	dir := v.p.Dir()
	command, env, err := script.Of(v.up.Ready, declare.Run{Script: item.Answer}, dir)
	if err != nil {
		return "", err
	}
	first, _, _ := strings.Cut(item.Answer, " ")
	if v.up.Ready.Isolation == declare.Sealed { // its folder comes first on the PATH inside
		if _, err := os.Lstat(filepath.Join(v.s.Plan.Folders.Inside, first)); err != nil {
			return "", fmt.Errorf("%s is asked, %w", first, errNotOurs)
		}
	} else if path, err := process.LookPath(first, env, dir); err != nil {
		return "", err
	} else if filepath.Dir(path) != f.Bin() {
		return "", fmt.Errorf("%s is %s, %w", first, path, errNotOurs)
	}
	asking, cancel := context.WithTimeout(ctx, answering)
	defer cancel()
	var said bytes.Buffer
	e, err := process.Read(asking, process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: dir}, process.Reading{Out: process.Text(&said, 64<<10)})
	switch {
	case ctx.Err() == nil && asking.Err() != nil:
		return "", fmt.Errorf("%q did not end within %s", item.Answer, answering)
	case err != nil:
		return "", err
	case !e.OK():
		return "", fmt.Errorf("%q ended with %s", item.Answer, e)
	}
	out := said.Bytes()
	re, err := regexp.Compile(item.Match)
	if err != nil {
		return "", err
	}
	found := re.FindSubmatch(out)
	if len(found) < 2 {
		line, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		return "", fmt.Errorf("%q says %q, which states no version", item.Answer, line)
	}
	return stated(found), nil
}

// stated is the version that a match found: its first group and, where there are more, these
// put together as one more number, as for a version that ends in a date.
func stated(found [][]byte) string {
	version := string(found[1])
	if more := bytes.Join(found[2:], nil); len(more) > 0 {
		version += "." + string(more)
	}
	return version
}

// answering is how long a tool may take to say its version.
const answering = 30 * time.Second

// variables checks the declared variables against the lock and, inside a shell of
// this environment, the living ones against what a new shell would get.
func (v *verifier) variables(f frame.Frame) {
	var details []Detail
	for _, x := range v.p.Written.Variables {
		if v.l.Variables[x.Name] != canon.Digest(x.Text()) {
			details = append(details, Detail{x.Name, "is not what was locked"})
			v.mend("trammel lock")
		}
	}
	living := map[string]string{}
	for _, line := range v.p.Host.Environ {
		name, value, _ := strings.Cut(line, "=")
		living[name] = value
	}
	inside := living["TRAMMEL_DIR"] == v.p.Dir() && living["TRAMMEL_BAY"] == v.p.Bay.Name
	if inside {
		details = append(details, v.living(living, f)...)
	}
	text := fmt.Sprintf("%d", len(v.s.Plan.Environment.Variables))
	if inside {
		text += ", and this shell has them"
	}
	if len(details) > 0 {
		v.row("variables", Drift, "differ from the lock", details...)
		return
	}
	v.row("variables", OK, text)
}

// additions reports a person's own toolchains apart: they are nobody else's, and
// the frame's row covers their commands.
func (v *verifier) additions(ctx context.Context, f frame.Frame) {
	if v.p.OverlayLock == nil {
		return
	}
	row := Row{Check: "additions", State: OK}
	worse := func(state string) {
		if row.State == OK || state == Drift {
			row.State = state
		}
	}
	var names []string
	for _, name := range lock.Sorted(v.p.OverlayLock.Items) {
		names = append(names, name+" "+v.p.OverlayLock.Items[name].Version)
	}
	for _, part := range lock.Distinct(v.p.OwnParts) {
		found := v.check(part)
		name := part.Label() + " " + part.Part.Version
		switch found.state {
		case "":
			continue
		case Failed:
			row.Details = append(row.Details, Detail{name, "not checked: " + found.text})
		default:
			v.p.Store.MarkDamaged(part)
			row.Details = append(append(row.Details, Detail{name, "of your own: " + found.text}), found.details...)
			if part.Format == lock.RootFormat {
				v.fit("")
			} else {
				v.fit(part.Item)
			}
		}
		worse(found.state)
	}
	// A part that is whole may be started wrongly: it is asked like the project's.
	if v.up == nil {
		row.Details = append(row.Details, Detail{"versions", "not checked: " + firstLine(v.o.NotGiven)})
		worse(Failed)
	} else {
		_, wrong := v.askAll(ctx, v.p.OverlayLock, f)
		row.Details = append(row.Details, wrong...)
		if len(wrong) > 0 {
			worse(Drift)
		}
	}
	if err := ctx.Err(); err != nil {
		row.Details = append(row.Details, Detail{"all of them", "not checked: it was interrupted"})
		worse(Failed)
	}
	if row.Text = "yours, not the team's: " + strings.Join(names, ", "); row.State != OK {
		row.Text = "your own toolchains"
	}
	v.Rows = append(v.Rows, row)
}

func (v *verifier) living(living map[string]string, f frame.Frame) []Detail {
	var details []Detail
	for _, x := range v.s.Plan.Environment.Variables {
		want := x.Value
		if environ.Marked(want) {
			if v.up == nil {
				continue // what it should be is for those who consented
			}
			want = v.up.Ready.Reveal(want)
		}
		if got, ok := living[x.Name]; !ok {
			details = append(details, Detail{x.Name, "is not set in this shell"})
		} else if got != want {
			what := "has another value in this shell"
			if line := startLine(living["HOME"], "", x.Name); line != "" {
				what += ", from " + line
			}
			details = append(details, Detail{x.Name, what})
		}
	}
	path := []string{"PATH=" + living["PATH"]}
	for _, c := range f.Commands {
		if found, err := process.LookPath(c.Name, path, "/"); err != nil {
			details = append(details, Detail{c.Name, "is not on this shell's PATH"})
		} else if found != filepath.Join(f.Bin(), c.Name) {
			what := "is shadowed by " + found
			if line := startLine(living["HOME"], filepath.Dir(found), ""); line != "" {
				what += ", whose folder " + line + " puts first"
			}
			details = append(details, Detail{c.Name, what})
		}
	}
	if len(details) > 0 {
		v.mend("leave this shell and open a new one: trammel shell")
	}
	return details
}

func (v *verifier) steps() {
	statuses, err := v.s.Steps()
	if err != nil {
		v.row("steps", Failed, err.Error())
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

// addons compares what other installers say with the pictures in the lock.
func (v *verifier) addons(ctx context.Context) {
	if len(v.p.Declaration.Addons) == 0 {
		return
	}
	if v.up == nil {
		v.row("add-ons", Failed, "not checked: "+firstLine(v.o.NotGiven))
		return
	}
	var details []Detail
	var same []string
	byName := false
	for _, a := range v.p.Declaration.Addons {
		picture, locked := v.l.Pictures[a.Name]
		now, err := v.up.PictureAddon(ctx, a)
		switch {
		case err != nil:
			details = append(details, Detail{a.Name, firstLine(err)})
		case !locked:
			details = append(details, Detail{a.Name, "has no picture in the lock yet"})
		default:
			lines := setup.Difference(picture, now)
			for _, line := range lines {
				details = append(details, Detail{a.Name, line})
			}
			if len(lines) == 0 {
				what := fmt.Sprintf("%s (%d by name and version)", a.Name, len(now))
				if len(a.Files) > 0 {
					what = fmt.Sprintf("%s (%d, and every byte that files names)", a.Name, len(now)-1)
				} else {
					byName = true
				}
				same = append(same, what)
			}
		}
	}
	if len(details) > 0 {
		v.row("add-ons", Drift, "differ from their pictures", details...)
		v.Rows[len(v.Rows)-1].ByName = byName
		v.mend("trammel fit --exact")
		return
	}
	v.row("add-ons", OK, strings.Join(same, ", "))
	v.Rows[len(v.Rows)-1].ByName = byName
}

// files compares the rendered files with what they should be.
func (v *verifier) files() {
	if len(v.p.Declaration.Files) == 0 {
		return
	}
	list, err := v.s.Files()
	if err != nil {
		v.row("files", Failed, firstLine(err))
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
			state = Drift
		} else if state == OK {
			state = Due
		}
		v.fit("")
	}
	v.row("files", state, fmt.Sprintf("%d rendered", len(list)), details...)
}

// evidence compares what steps left behind with what is locked. A fit does a step again
// whose evidence differs.
func (v *verifier) evidence(ctx context.Context) {
	if len(v.l.Evidence) == 0 {
		return
	}
	if v.up == nil {
		v.row("evidence", Failed, "not checked: "+firstLine(v.o.NotGiven))
		return
	}
	list, err := v.up.Evidence(ctx)
	if err != nil {
		v.row("evidence", Failed, err.Error())
		return
	}
	var details []Detail
	var not, same []string
	for _, e := range list {
		switch {
		case e.Not != "":
			not = append(not, e.Step.Name+": not checked, "+e.Not)
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
			// What the step itself left when it was last done is for the lock to take over;
			// anything else is for the step to do again.
			if m, ok := v.s.Marks().Read(e.Step); ok && slices.Equal(m.Evidence, e.Now) {
				v.mend("trammel lock")
				continue
			}
			v.fit(e.Step.Name)
		}
	}
	switch {
	case len(details) > 0:
		v.row("evidence", Drift, "a step left behind something else than is locked", details...)
	case len(not) > 0:
		v.row("evidence", Failed, strings.Join(not, "; "))
	default:
		v.row("evidence", OK, strings.Join(same, ", "))
	}
}

// afar compares what runs in a cluster with what is locked.
func (v *verifier) afar(ctx context.Context, at *cluster.Record, err error) {
	var found []string
	if err == nil {
		var f *ship.Afar
		if f, err = ship.Reach(v.s, *at); err == nil {
			found, err = f.Holds(ctx, v.s)
		}
	}
	var details []Detail
	for _, text := range found {
		name, what, _ := strings.Cut(text, " ")
		details = append(details, Detail{name, what})
	}
	switch {
	case err != nil:
		v.row("services", Failed, firstLine(err))
	case len(found) > 0:
		v.row("services", Drift, "what runs in "+at.Target.Namespace+" is not what is locked", details...)
		v.mend("trammel --bay " + shell.Typed(v.p.Bay.Name) + " start")
	default:
		v.row("services", OK, "run the locked environment, in "+at.Target.Context+"/"+at.Target.Namespace)
	}
}

// services compares what runs with what the lock would start.
func (v *verifier) services(ctx context.Context) {
	statuses, err := v.s.Services.Status(ctx)
	if err != nil {
		v.row("services", Failed, err.Error())
		return
	}
	if at, err := v.s.Afar(); at != nil || err != nil {
		v.afar(ctx, at, err)
		return
	}
	wanted := map[string]setup.Wanted{}
	for _, x := range v.p.Declaration.Services {
		for copy := 1; copy <= x.Copies; copy++ {
			w, err := v.s.Wanted(x, copy)
			if err != nil {
				v.row("services", Failed, firstLine(err))
				return
			}
			wanted[w.Name] = w
		}
	}
	var details []Detail
	var anew []string // services that one start mends
	stale := func(name string) {
		if !slices.Contains(anew, name) {
			anew = append(anew, name)
		}
	}
	run := 0
	for _, st := range statuses {
		if !st.Running() {
			continue
		}
		run++
		spec, known := wanted[st.Name]
		if st.State == service.Failing {
			details = append(details, Detail{st.Name, "runs and is failing: " + st.Reason})
			v.mend("trammel logs " + shell.Typed(st.Service))
		}
		switch {
		case !known:
			details = append(details, Detail{st.Name, "runs and is not declared any more"})
			v.mend("trammel stop " + shell.Typed(st.Service))
		case st.Build != spec.Build:
			details = append(details, Detail{st.Name, "runs another environment: " + canon.Short(st.Build)})
			stale(st.Service)
		case st.Config != spec.Config:
			details = append(details, Detail{st.Name, "runs with another configuration"})
			stale(st.Service)
		}
	}
	if len(anew) > 0 {
		v.mend("trammel start " + shell.Words(anew...))
	}
	switch {
	case len(details) > 0:
		v.row("services", Drift, "a running service is not the locked one", details...)
	case run == 0:
		v.row("services", OK, "none runs")
	case run == 1:
		v.row("services", OK, "1 runs the locked build")
	default:
		v.row("services", OK, fmt.Sprintf("%d run the locked builds", run))
	}
}
