// Package survey looks at a checkout and says how it is: what is declared, locked, here, due and
// running. It changes nothing, fetches nothing, and starts nothing but the question to a supervisor
// that is there.
package survey

import (
	"context"
	"errors"
	"strings"
	"time"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Tool is a toolchain that is declared.
type Tool struct {
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

// Root is a root that this project's tools come from.
type Root struct {
	Name     string `json:"name"`
	Version  string `json:"version"` // day of the release
	Packages int    `json:"packages"`
	Bytes    int64  `json:"bytes"` // with what it shares with other roots
	State    string `json:"state"`
}

// Step is a step, or a file that is rendered.
type Step struct {
	Name  string     `json:"name"`
	State string     `json:"state"` // "ok" or "due"
	Why   string     `json:"why,omitempty"`
	Last  *time.Time `json:"last,omitempty"`
}

// Set is a set of libraries that is declared.
type Set struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	For      string `json:"for"`
	Source   string `json:"source"`
	Packages int    `json:"packages"`
	Bytes    int64  `json:"bytes,omitempty"`
	State    string `json:"state"` // "ok" or "missing"
}

// Survey is how a checkout is.
type Survey struct {
	Format      int                `json:"format"`
	Project     string             `json:"project"`
	Files       []checkout.Decider `json:"declared_by"` // the file that decides first, then those that add to it or would have decided
	Bay         string             `json:"bay"`
	Isolation   string             `json:"isolation"`
	Policies    []string           `json:"policies,omitempty"` // whose rules hold here
	Lock        lock.ID            `json:"lock,omitempty"`
	Environment lock.EnvironmentID `json:"environment,omitempty"`
	Remark      string             `json:"remark,omitempty"`
	Tools       []Tool             `json:"toolchain"`
	Roots       []Root             `json:"roots,omitempty"`
	Libraries   []Set              `json:"libraries,omitempty"`
	Rendered    []Step             `json:"files,omitempty"`
	Steps       []Step             `json:"steps"`
	Services    []service.Status   `json:"services"`
	Unanswered  bool               `json:"services_unknown,omitempty"` // the supervisor runs, and did not say what runs
	Declared    []string           `json:"declared"`                   // services, running or not
	Dumps       []string           `json:"data,omitempty"`             // services whose data can be saved
	Weak        bool               `json:"weak_cleanup,omitempty"`
	Approval    string             `json:"approval,omitempty"`         // why the project may not run yet
	Earlier     []string           `json:"earlier,omitempty"`          // services that run an earlier environment
	Changed     []string           `json:"changed,omitempty"`          // services that run, and of which something that they read is not what it was
	Cluster     string             `json:"cluster,omitempty"`          // context and namespace that the services run in
	Crashed     []string           `json:"ran_before_crash,omitempty"` // services that ran when the supervisor ended without stopping them
}

// Of looks at a checkout, as far as it has got.
func Of(ctx context.Context, p *checkout.State) (*Survey, error) {
	out := &Survey{
		Format: 1, Project: p.Declaration.Project, Files: p.Deciders(), Bay: p.Bay.Name, Isolation: string(p.Declaration.Isolation), Policies: p.Policies.Named(),
		Tools: []Tool{}, Steps: []Step{}, Services: []service.Status{}, Declared: declare.Names(p.Declaration.Services), Roots: rootsOf(p),
	}
	for _, x := range p.Declaration.Services {
		if x.Card["data.save"] != "" && x.Copies == 1 {
			out.Dumps = append(out.Dumps, x.Name)
		}
	}
	if p.LockErr != nil { // a stale one still tells what is locked
		var e *fault.Error
		if !errors.As(p.LockErr, &e) {
			return nil, p.LockErr
		}
		out.Remark = capital(e.What) + ". " + e.Do
	} else {
		out.Lock, out.Environment = p.Lock.ID(), p.Lock.EnvironmentID(p.Platform)
	}
	absent := out.locked(p)
	if p.Usable() == nil {
		if _, err := approval.Check(p); errors.Is(err, fault.ErrNotApproved) {
			out.Approval = capital(fault.OneLine(err))
		}
	}
	out.running(ctx, p)
	if out.Remark != "" {
		return out, nil
	}
	if len(absent) > 0 {
		out.Remark = "Not on this machine yet: " + strings.Join(absent, ", ") + ". Fetch: trammel fit"
	}
	for _, broken := range p.Broken {
		out.Remark = strings.TrimSpace(out.Remark + "\n" + fault.OneLine(broken))
	}
	up, err := setup.Look(p)
	if err != nil {
		for _, x := range p.Declaration.Steps {
			out.Steps = append(out.Steps, Step{Name: x.Name, State: "due", Why: "its tools are not here yet"})
		}
		return out, nil
	}
	if err := out.due(up); err != nil {
		return nil, err
	}
	at, err := up.Afar()
	if err != nil {
		return nil, err
	}
	if at != nil {
		out.Cluster = at.Target.Context + "/" + at.Target.Namespace
	} else {
		out.stale(p, up)
	}
	return out, nil
}

// locked tells of tools and libraries what is locked and here. It returns the names of those that
// are not.
func (out *Survey) locked(p *checkout.State) (absent []string) {
	parts := p.PartsByItem()
	tool := func(t declare.Toolchain, l *lock.Lock, origin string) {
		if t.Place.File != declare.FileName && origin == "declaration" {
			origin = t.Place.File
		}
		x := Tool{Name: t.Name, Ask: t.Ask.String(), File: p.FileOf(t.Place.File), Line: t.Place.Line, State: "missing", Source: t.From, Origin: origin}
		if l != nil {
			item := l.Items[t.Name]
			x.Version, x.Source = item.Version, item.Source
			x.Bytes, x.Root = sizeOf(p, parts[t.Name])
			if p.HasAll(parts[t.Name]) {
				x.State = "ok"
			}
		}
		if x.State != "ok" {
			absent = append(absent, t.Name)
		}
		out.Tools = append(out.Tools, x)
	}
	origin := "declaration"
	if p.Written.File == checkout.DefaultFile(p.Places) {
		origin = "your default"
	}
	for _, t := range p.Declaration.Toolchains {
		tool(t, p.Lock, origin)
	}
	if p.Overlay != nil {
		if p.OverlayLockErr != nil && out.Remark == "" {
			out.Remark = fault.OneLine(p.OverlayLockErr)
		}
		for _, t := range p.Overlay.Toolchains {
			tool(t, p.OverlayLock, "local")
		}
	}
	for _, x := range p.Declaration.Libraries {
		set := setOf(p, x, parts[x.Name])
		if set.State != "ok" {
			absent = append(absent, x.Name)
		}
		out.Libraries = append(out.Libraries, set)
	}
	return absent
}

// running asks the supervisor, if there is one.
func (out *Survey) running(ctx context.Context, p *checkout.State) {
	services, err := service.Connect(p.Bay, p.Host).StatusInFull(ctx)
	switch {
	case err != nil:
		out.Remark, out.Unanswered = fault.OneLine(err), true
	case services != nil:
		out.Services = services
		for _, st := range services {
			out.Weak = out.Weak || st.Weak
		}
	default:
		out.Crashed = service.Wanted(p.Bay)
	}
}

// due tells of files and steps how they are.
func (out *Survey) due(up *setup.Sight) error {
	files, err := up.Files()
	if err != nil {
		return err
	}
	for _, f := range files {
		out.Rendered = append(out.Rendered, Step{Name: f.File.Path, State: f.State, Why: f.Why})
	}
	statuses, err := up.Steps()
	if err != nil {
		return err
	}
	var due []string
	for _, st := range statuses {
		x := Step{Name: st.Step.Name, State: "ok", Why: st.Why}
		if st.Due {
			x.State = "due"
			due = append(due, st.Step.Name)
		} else if !st.Mark.At.IsZero() {
			x.Last = &st.Mark.At
		}
		out.Steps = append(out.Steps, x)
	}
	if len(due) > 0 {
		out.Remark = "Due: " + strings.Join(due, ", ") + ". Run: trammel fit"
	}
	return nil
}

// stale tells which services run by what is not so any more.
func (out *Survey) stale(p *checkout.State, up *setup.Sight) {
	for _, st := range out.Services {
		x, declared := p.Declaration.Service(st.Service)
		if !declared || !st.Running() || x.WhenChanged == declare.Unmoved {
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
}

// sizeOf is the room that a tool's own parts take, and the root that it is in.
func sizeOf(p *checkout.State, parts []lock.PartOn) (bytes int64, root string) {
	for _, part := range parts {
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
func rootsOf(p *checkout.State) []Root {
	var out []Root
	for _, part := range lock.Distinct(p.Parts) {
		if part.Format != lock.RootFormat {
			continue
		}
		r := Root{Name: part.Name, Version: part.Part.Version, Packages: len(part.Packages), State: "missing"}
		if p.Store.Has(part) {
			r.State, r.Bytes = "ok", p.Store.Size(part)
		}
		out = append(out, r)
	}
	return out
}

func setOf(p *checkout.State, x declare.Library, parts []lock.PartOn) Set {
	out := Set{Name: x.Name, Kind: x.Kind, For: x.Kind, Source: x.From, State: "missing"}
	if p.Lock == nil {
		return out
	}
	locked := p.Lock.Libraries[x.Name]
	set := locked.On[p.Platform.String()]
	out.Source, out.Packages = locked.Source, len(set.Packages)
	if set.For != "" {
		out.For = set.For
	}
	if p.HasAll(parts) {
		out.State = "ok"
		for _, part := range parts {
			out.Bytes += p.Store.Size(part)
		}
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
