package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func showCommand() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "show what is in force here, and where each thing comes from",
		ArgsUsage:   "[NAME]",
		Description: example("trammel show", "trammel show node", "trammel show lane"),
		Flags:       []cli.Flag{jsonFlag()},
		ShellComplete: complete(func(d *declare.Declaration) []string {
			all := append(declare.Names(d.Toolchains), declare.Names(d.Steps)...)
			return append(append(all, declare.Names(d.Services)...), declare.Names(d.Routines)...)
		}),
		Action: showAction,
	}
}

// toolOut, stepOut and showOut are what `show --json` prints.
type toolOut struct {
	Name    string `json:"name"`
	Version string `json:"version"` // "" while nothing is locked
	Ask     string `json:"ask"`
	Source  string `json:"source"`
	State   string `json:"state"` // "ok" or "missing"
	Bytes   int64  `json:"bytes"` // room in the store, without its root; 0 when not known
	Root    string `json:"root,omitempty"`
	Origin  string `json:"origin"` // "declaration", "local" or "your default"
	File    string `json:"file"`   // where it is declared
	Line    int    `json:"line"`
}

// rootOut is a root that this project's tools come from.
type rootOut struct {
	Name     string `json:"name"`
	Version  string `json:"version"` // day of the release
	Packages int    `json:"packages"`
	Bytes    int64  `json:"bytes"` // with what it shares with other roots
	State    string `json:"state"`
}

type stepOut struct {
	Name  string     `json:"name"`
	State string     `json:"state"` // "ok" or "due"
	Why   string     `json:"why,omitempty"`
	Last  *time.Time `json:"last,omitempty"`
}

type showOut struct {
	Format      int                `json:"format"`
	Project     string             `json:"project"`
	Files       []checkout.Decider `json:"declared_by"` // the file that decides first, then those that add to it or would have decided
	Bay         string             `json:"bay"`
	Isolation   string             `json:"isolation"`
	Policies    []string           `json:"policies,omitempty"` // whose rules hold here
	Lock        lock.ID            `json:"lock,omitempty"`
	Environment lock.EnvironmentID `json:"environment,omitempty"`
	Remark      string             `json:"remark,omitempty"`
	Tools       []toolOut          `json:"toolchain"`
	Roots       []rootOut          `json:"roots,omitempty"`
	Libraries   []setOut           `json:"libraries,omitempty"`
	Rendered    []stepOut          `json:"files,omitempty"`
	Steps       []stepOut          `json:"steps"`
	Services    []service.Status   `json:"services"`
	Declared    []string           `json:"declared"`       // services, running or not
	Dumps       []string           `json:"data,omitempty"` // services whose data can be saved
	Weak        bool               `json:"weak_cleanup,omitempty"`
	Approval    string             `json:"approval,omitempty"`         // why the project may not run yet
	Earlier     []string           `json:"earlier,omitempty"`          // services that run an earlier environment
	Changed     []string           `json:"changed,omitempty"`          // services that run, and of which something that they read is not what it was
	Cluster     string             `json:"cluster,omitempty"`          // context and namespace that the services run in
	Crashed     []string           `json:"ran_before_crash,omitempty"` // services that ran when the supervisor ended without stopping them
}

func showAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	if name := c.Args().First(); name == "params" {
		return showParams(s, p, c.Bool("json"))
	} else if name != "" {
		return showOne(ctx, &sheet{Screen: s, json: c.Bool("json")}, p, name)
	}
	out, err := gather(ctx, p)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, out)
	}
	ids := ""
	if out.Lock != "" {
		ids = fmt.Sprintf("   environment %s · lock %s", canon.Short(out.Environment), canon.Short(out.Lock))
	}
	in := ""
	if out.Cluster != "" {
		in = " in " + out.Cluster
	}
	s.Print("%s   bay %s%s   %s%s", s.Paint(ui.Accent, out.Project), out.Bay, in, out.Isolation, ids)
	if p.Declaration.About != "" {
		s.Print("%s", s.Paint(ui.Dim, p.Declaration.About))
	}
	if len(out.Policies) > 0 {
		s.Print("%s", s.Paint(ui.Dim, "policy of "+strings.Join(out.Policies, " and ")))
	}
	for _, line := range decided(out.Files) {
		s.Print("%s", s.Paint(ui.Dim, line))
	}
	s.Print("")
	var rows [][]ui.Cell
	group := func(word string) string { // only the first row of a group has its name
		for _, r := range rows {
			if r[0].Text == word {
				return ""
			}
		}
		return word
	}
	for _, t := range out.Tools {
		version, style := t.Version, ui.Plain
		if version == "" {
			version = "not locked"
			style = ui.Amber
		} else if t.State != "ok" {
			version += "  " + t.State
			style = ui.Red
		}
		size := ""
		if t.Bytes > 0 {
			size = "  " + ui.Bytes(t.Bytes)
		}
		rows = append(rows, []ui.Cell{{Text: group("toolchain")}, {Text: t.Name, Style: ui.Accent}, {Text: version, Style: style}, {Text: strings.TrimSpace(t.Origin + "  " + t.Source + size), Style: ui.Dim}})
	}
	for _, r := range out.Roots {
		state := r.State
		if state == "ok" {
			state = r.Version
		}
		rows = append(rows, []ui.Cell{{Text: group("roots")}, {Text: r.Name, Style: ui.Accent}, {Text: state, Style: ui.StateStyle(r.State)}, {Text: fmt.Sprintf("%d packages  %s", r.Packages, ui.Bytes(r.Bytes)), Style: ui.Dim}})
	}
	for _, x := range out.Libraries {
		text, style := fmt.Sprintf("%d packages", x.Packages), ui.Plain
		if x.State != "ok" {
			text, style = text+"  "+x.State, ui.Red
		}
		if x.Packages == 0 {
			text, style = "not locked", ui.Amber
		}
		size := ""
		if x.Bytes > 0 {
			size = "  " + ui.Bytes(x.Bytes)
		}
		rows = append(rows, []ui.Cell{{Text: group("libraries")}, {Text: x.Name, Style: ui.Accent}, {Text: text, Style: style}, {Text: strings.TrimSpace("for " + x.For + "  " + x.Source + size), Style: ui.Dim}})
	}
	for _, x := range p.Declaration.Params {
		rows = append(rows, []ui.Cell{{Text: group("params")}, {Text: x.Name, Style: ui.Accent}, {Text: p.Declaration.Values[x.Name]}, {Text: x.About, Style: ui.Dim}})
	}
	for _, f := range out.Rendered {
		rows = append(rows, []ui.Cell{{Text: group("files")}, {Text: f.Name, Style: ui.Accent}, {Text: f.State, Style: ui.StateStyle(f.State)}, {Text: f.Why, Style: ui.Dim}})
	}
	for _, st := range out.Steps {
		text := st.Why
		if st.State == "ok" && st.Last != nil {
			text = ui.Ago(time.Since(*st.Last)) + " ago"
		}
		rows = append(rows, []ui.Cell{{Text: group("steps")}, {Text: st.Name, Style: ui.Accent}, {Text: st.State, Style: ui.StateStyle(st.State)}, {Text: text, Style: ui.Dim}})
	}
	for _, r := range serviceRows(p, out.Services, true) {
		rows = append(rows, append([]ui.Cell{{Text: group("services")}}, r...))
	}
	for _, r := range p.Declaration.Routines {
		rows = append(rows, []ui.Cell{{Text: group("routines")}, {Text: r.Name, Style: ui.Accent}, {Text: r.About}})
	}
	s.Table(indent(rows))
	if out.Weak {
		s.Say("Services run without namespaces here: what a supervisor that is killed leaves may outlive it.")
	}
	if len(out.Crashed) > 0 {
		s.Print("\nThe supervisor ended without stopping them (a crash, a kill, a restart of the machine): %s. Again: trammel start", strings.Join(out.Crashed, ", "))
	}
	if len(out.Earlier) > 0 {
		s.Print("\nThey run an earlier environment: %s. Take the locked one on: trammel start", strings.Join(out.Earlier, ", "))
	}
	if len(out.Changed) > 0 {
		s.Print("\nWhat they go by changed since they started: %s. Take it on: trammel start", strings.Join(out.Changed, ", "))
	}
	if open := openRemarks(out.Services); len(open) > 0 {
		s.Print("\n%s", strings.Join(open, "\n"))
	}
	if out.Remark != "" {
		s.Print("\n%s", out.Remark)
	}
	if out.Approval != "" {
		s.Print("\n%s", out.Approval)
	}
	return nil
}

// decided says which file decides, and which ones it comes before.
func decided(files []checkout.Decider) []string {
	by := map[string][]string{}
	for _, f := range files {
		by[f.Use] = append(by[f.Use], f.File)
	}
	out := []string{"declared by " + by[checkout.Decides][0]}
	if with := by[checkout.Adds]; len(with) > 0 {
		out[0] += ", with " + strings.Join(with, ", ")
	}
	if less := by[checkout.Yields]; len(less) > 0 {
		out = append(out, "not in force (a nearer one is): "+strings.Join(less, ", "))
	}
	return out
}

// capital is a text that begins as a sentence does; the name of a file stays as it is.
func capital(text string) string {
	first, _, _ := strings.Cut(text, " ")
	if text == "" || strings.ContainsAny(first, "./") {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// indent gives the first column its width even where a group has no name.
func indent(rows [][]ui.Cell) [][]ui.Cell {
	for _, r := range rows {
		r[0].Text = fmt.Sprintf("%-10s", r[0].Text)
	}
	return rows
}

// gather collects what is in force, as far as the checkout has got.
func gather(ctx context.Context, p *checkout.State) (*showOut, error) {
	out := &showOut{
		Format: 1, Project: p.Declaration.Project, Files: p.Deciders(), Bay: p.Bay.Name, Isolation: string(p.Declaration.Isolation), Policies: p.Policies.Named(),
		Tools: []toolOut{}, Steps: []stepOut{}, Services: []service.Status{}, Declared: declare.Names(p.Declaration.Services),
	}
	for _, x := range p.Declaration.Services {
		if x.Card["data.save"] != "" && x.Copies == 1 {
			out.Dumps = append(out.Dumps, x.Name)
		}
	}
	l := p.Lock // a stale one still tells what is locked
	if p.LockErr != nil {
		var e *fault.Error
		if !errors.As(p.LockErr, &e) {
			return nil, p.LockErr
		}
		out.Remark = sentence(e)
	} else {
		out.Lock, out.Environment = l.ID(), l.EnvironmentID(p.Platform)
	}
	var todo []string
	tool := func(t declare.Toolchain, l *lock.Lock, origin string) {
		if t.Place.File != declare.FileName && origin == "declaration" {
			origin = t.Place.File
		}
		x := toolOut{Name: t.Name, Ask: t.Ask.String(), File: p.FileOf(t.Place.File), Line: t.Place.Line, State: "missing", Source: t.From, Origin: origin}
		if l != nil {
			item := l.Items[t.Name]
			x.Version, x.Source = item.Version, item.Source
			x.Bytes, x.Root = sizeOf(p, t.Name)
			if p.Has(t.Name) {
				x.State = "ok"
			}
		}
		if x.State != "ok" {
			todo = append(todo, t.Name)
		}
		out.Tools = append(out.Tools, x)
	}
	origin := "declaration"
	if p.Written.File == checkout.DefaultFile(p.Places) {
		origin = "your default"
	}
	for _, t := range p.Declaration.Toolchains {
		tool(t, l, origin)
	}
	if p.Overlay != nil {
		if p.OverlayLockErr != nil && out.Remark == "" {
			out.Remark = oneLine(p.OverlayLockErr)
		}
		for _, t := range p.Overlay.Toolchains {
			tool(t, p.OverlayLock, "local")
		}
	}
	if p.Usable() == nil {
		if _, err := approval.Check(p); errors.Is(err, fault.ErrNotApproved) {
			out.Approval = capital(oneLine(err))
		}
	}
	out.Roots = rootsOf(p)
	for _, x := range p.Declaration.Libraries {
		set := setOf(p, x)
		if set.State != "ok" {
			todo = append(todo, x.Name)
		}
		out.Libraries = append(out.Libraries, set)
	}
	services, err := service.Connect(p.Bay, p.Host).StatusInFull(ctx)
	switch {
	case err != nil:
		out.Remark = oneLine(err)
	case services != nil:
		out.Services = services
		for _, st := range services {
			out.Weak = out.Weak || st.Weak
		}
	default:
		out.Crashed = service.Wanted(p.Bay)
	}
	if out.Remark != "" {
		return out, nil
	}
	if len(todo) > 0 {
		out.Remark = fmt.Sprintf("Not on this machine yet: %s. Fetch: trammel fit", strings.Join(todo, ", "))
	}
	for _, broken := range p.Broken {
		out.Remark = strings.TrimSpace(out.Remark + "\n" + oneLine(broken))
	}
	up, err := setup.Look(p)
	if err != nil {
		for _, x := range p.Declaration.Steps {
			out.Steps = append(out.Steps, stepOut{Name: x.Name, State: "due", Why: "its tools are not here yet"})
		}
		return out, nil
	}
	files, err := up.Files()
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		out.Rendered = append(out.Rendered, stepOut{Name: f.File.Path, State: f.State, Why: f.Why})
	}
	statuses, err := up.Steps()
	if err != nil {
		return nil, err
	}
	due := 0
	for _, st := range statuses {
		x := stepOut{Name: st.Step.Name, State: "ok", Why: st.Why}
		if st.Due {
			x.State = "due"
			due++
		} else if !st.Mark.At.IsZero() {
			x.Last = &st.Mark.At
		}
		out.Steps = append(out.Steps, x)
	}
	at, err := up.Afar()
	if err != nil {
		return nil, err
	}
	if at != nil {
		out.Cluster = at.Target.Context + "/" + at.Target.Namespace
	}
	for _, st := range out.Services {
		x, declared := p.Declaration.Service(st.Service)
		if at != nil || !declared || !st.Running() || x.WhenChanged == declare.Unmoved {
			continue
		}
		for copy := 1; copy <= x.Copies; copy++ {
			if x.CopyName(copy) != st.Name {
				continue
			}
			w, err := up.Wanted(x, copy)
			switch {
			case err != nil:
			case st.Build != w.Build:
				out.Earlier = append(out.Earlier, st.Name)
			case st.Inputs != w.Fingerprint():
				out.Changed = append(out.Changed, st.Name)
			}
		}
	}
	if due > 0 {
		out.Remark = "Due: " + names(dueOf(statuses), func(st step.Status) string { return st.Step.Name }) + ". Run: trammel fit"
	}
	return out, nil
}

// sizeOf is the room that a tool's own parts take, and the root that it is in.
func sizeOf(p *checkout.State, tool string) (bytes int64, root string) {
	for _, part := range p.PartsOfItem(tool) {
		switch {
		case part.Format == lock.RootFormat:
			root = part.Name
		default:
			if p.Store.Has(part) {
				bytes += p.Store.Size(part)
			}
		}
	}
	return bytes, root
}

// rootsOf lists the roots of a lock.
func rootsOf(p *checkout.State) []rootOut {
	var out []rootOut
	for _, part := range lock.Distinct(p.Parts) {
		if part.Format != lock.RootFormat {
			continue
		}
		r := rootOut{Name: part.Name, Version: part.Part.Version, Packages: len(part.Packages), State: "missing"}
		if p.Store.Has(part) {
			r.State, r.Bytes = "ok", p.Store.Size(part)
		}
		out = append(out, r)
	}
	return out
}

// setOut is a set of libraries as `show --json` prints it.
type setOut struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	For      string `json:"for"`
	Source   string `json:"source"`
	Packages int    `json:"packages"`
	Bytes    int64  `json:"bytes,omitempty"`
	State    string `json:"state"` // "ok" or "missing"
}

func setOf(p *checkout.State, x declare.Library) setOut {
	out := setOut{Name: x.Name, Kind: x.Kind, For: x.Kind, Source: x.From, State: "missing"}
	if p.Lock == nil {
		return out
	}
	locked := p.Lock.Libraries[x.Name]
	set := locked.On[p.Platform.String()]
	out.Source, out.Packages = locked.Source, len(set.Packages)
	if set.For != "" {
		out.For = set.For
	}
	if p.Has(x.Name) {
		out.State = "ok"
		for _, part := range p.PartsOfItem(x.Name) {
			out.Bytes += p.Store.Size(part)
		}
	}
	return out
}

func dueOf(list []step.Status) []step.Status {
	var out []step.Status
	for _, st := range list {
		if st.Due {
			out = append(out, st)
		}
	}
	return out
}

// sentence is an error as a remark: what, then what to do.
func sentence(e *fault.Error) string {
	return capital(e.What) + ". " + e.Do
}
