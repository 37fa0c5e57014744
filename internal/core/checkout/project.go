// Package checkout puts together what one checkout is: its declaration, its lock,
// its bay, and the environment that follows from them.
//
// The environment is compiled into a plan, kept in the checkout's .trammel
// folder, which is valid while the stamps of declaration, lock and ports hold; so
// a command that only needs the environment parses neither.
package checkout

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trammel.example/trammel/internal/core/base/canon"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/place"
	"trammel.example/trammel/internal/core/base/platform"
	"trammel.example/trammel/internal/core/checkout/approval"
	"trammel.example/trammel/internal/core/checkout/bay"
	"trammel.example/trammel/internal/core/kernel/seal"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/running/script"
	"trammel.example/trammel/internal/core/stored/frame"
	"trammel.example/trammel/internal/core/stored/store"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

// Project is one checkout.
type Project struct {
	Places      place.Places
	Declaration *declare.Declaration
	Overlay     *declare.Declaration // a person's own additions, or nil
	Bay         bay.Bay
	Store       *store.Store
	Platform    platform.Platform
}

// DefaultFile is a person's own declaration, in force where no other is found.
func DefaultFile(p place.Places) string { return filepath.Join(p.Config, "default.toml") }

// find looks for the declaration that is in force in a folder.
func find(places place.Places, dir string) (string, error) {
	file, err := declare.Find(dir)
	if err != nil {
		if own := DefaultFile(places); fileIsThere(own) {
			return own, nil
		}
	}
	return file, err
}

func fileIsThere(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Open reads the nearest declaration at or above dir, or the person's default.
func Open(dir, bayName string) (*Project, error) { return OpenWith(dir, bayName, Locate{}) }

// OpenWith is Open with more done for the locators that the declaration includes.
func OpenWith(dir, bayName string, o Locate) (*Project, error) {
	places, err := place.FromEnvironment()
	if err != nil {
		return nil, err
	}
	file, err := find(places, dir)
	if err != nil {
		return nil, err
	}
	d, err := declare.Read(file, o.getter(places, file))
	if err != nil {
		return nil, err
	}
	overlay, err := declare.ReadOverlay(d)
	if err != nil {
		return nil, err
	}
	b, err := bay.Open(places, d, bayName)
	if err != nil {
		return nil, err
	}
	values, err := b.Params(d)
	if err != nil {
		return nil, err
	}
	if d, err = d.With(values); err != nil {
		return nil, err
	}
	return &Project{places, d, overlay, b, store.Open(places.Store()), platform.Here()}, nil
}

// Remember notes the checkout among those whose tools a sweep must keep.
func (p *Project) Remember() error {
	path := filepath.Join(p.Places.State, "projects", strings.TrimPrefix(canon.Digest(p.Declaration.Dir), "sha256:")[:32])
	if old, err := os.ReadFile(path); err == nil && string(old) == p.Declaration.Dir {
		return nil
	}
	return disk.Write(path, []byte(p.Declaration.Dir), 0o600)
}

// EarlierLock is where the lock before the present one is kept, for the way back.
func EarlierLock(dir string) string { return filepath.Join(Local(dir), "earlier.lock") }

// HostCommands are the host commands that stay visible, the person's own too.
func (p *Project) HostCommands() []string {
	if p.Overlay == nil {
		return p.Declaration.Host
	}
	return append(slices.Clone(p.Declaration.Host), p.Overlay.Host...)
}

// OverlayLock is the lock of a person's own additions; nil when there are none.
func (p *Project) OverlayLock() (*lock.Lock, error) {
	if p.Overlay == nil {
		return nil, nil
	}
	l, err := lock.ReadFile(lock.OverlayPath(p.Declaration.Dir))
	if err != nil {
		return nil, err
	}
	if l.Declaration.Digest != p.Overlay.Digest() {
		return nil, fault.New(fault.Use, "%s changed after %s was made", declare.OverlayName, lock.OverlayName).Advise("Bring the lock up to date: trammel lock")
	}
	return l, nil
}

// PartsOn lists the parts of a lock for this platform, and those of the person's
// own additions behind them.
func (p *Project) PartsOn(l *lock.Lock) ([]lock.PartOn, error) {
	parts := l.PartsOn(p.Platform)
	own, err := p.OverlayLock()
	if err == nil && own != nil {
		parts = append(parts, own.PartsOn(p.Platform)...)
	}
	return parts, err
}

// Local is the checkout's own folder for what can be made again.
func Local(dir string) string { return filepath.Join(dir, ".trammel") }

// MakeLocal makes that folder, hidden from version control.
func (p *Project) MakeLocal() error {
	ignore := filepath.Join(Local(p.Declaration.Dir), ".gitignore")
	if _, err := os.Lstat(ignore); err == nil {
		return nil
	}
	return disk.WriteCache(ignore, []byte("*\n"))
}

// Lock reads the lock and makes sure that it is of this declaration and platform.
func (p *Project) Lock() (*lock.Lock, error) {
	l, err := lock.Read(p.Declaration.Dir)
	if err != nil {
		return nil, err
	}
	if l.Declaration.Digest != p.Declaration.Digest() {
		return nil, Stale
	}
	if !l.Covers(p.Platform) {
		return nil, fault.New(fault.Use, "this project is locked for other platforms than %s", p.Platform).
			Advise("Add %q to platforms in %s, then: trammel lock", p.Platform, declare.FileName)
	}
	return l, p.Complete(l)
}

// Stale is a lock that was made from another state of the declaration.
var Stale = fault.New(fault.Use, "%s changed after %s was made", declare.FileName, lock.FileName).Advise("Bring the lock up to date: trammel lock")

// NotFitted is a machine that lacks something the lock names.
var NotFitted = errors.New("not fitted")

func notFitted(what string) error {
	e := fault.New(fault.Failed, "%s is not on this machine yet", what)
	e.Cause = NotFitted
	return e.Advise("Fetch what is missing: trammel fit")
}

// Parts lists the parts of a lock for this platform, without anybody's additions,
// with their tree digests. One that this machine lacks is the error.
func (p *Project) Parts(l *lock.Lock) ([]lock.PartOn, error) { return p.fitted(l.PartsOn(p.Platform)) }

func (p *Project) fitted(parts []lock.PartOn) ([]lock.PartOn, error) {
	for i := range parts {
		parts[i].Tree = p.Store.Tree(parts[i])
		if !p.Store.Has(parts[i]) {
			return parts, notFitted(parts[i].Label() + " " + parts[i].Part.Version)
		}
	}
	return parts, nil
}

// Frame is the frame of a lock, with the person's own additions, whose parts are
// all in the store.
func (p *Project) Frame(l *lock.Lock) (frame.Frame, error) {
	parts, err := p.PartsOn(l)
	if err == nil {
		parts, err = p.fitted(parts)
	}
	if err != nil {
		return frame.Frame{}, err
	}
	f, err := frame.Of(p.Places.Frames(), p.Store, parts)
	if err == nil && len(f.Roots) > 0 {
		f.Program, err = p.Places.KeepProgram()
	}
	return f, err
}

// view is what sealed isolation shows: the base root, the checkout, the bay, the
// tools' caches, and of Trammel's own folders that of the tools. It is nil where
// the lock has no base root.
func (p *Project) view(f frame.Frame) (v *seal.View, inside string) {
	base, ok := p.Declaration.Base()
	if !ok || f.Roots[base.Name] == "" {
		return nil, ""
	}
	dir := p.Declaration.Dir
	return &seal.View{
		Root: f.Roots[base.Name], Closed: true, Work: dir, Self: f.Program,
		Read: []string{p.Places.Data}, Write: []string{dir, p.Bay.Dir, filepath.Join(p.Places.Cache, "tools")},
	}, f.In(base.Name)
}

// Inputs gathers what the environment is made of.
func (p *Project) Inputs(ctx context.Context, l *lock.Lock) (environ.Inputs, error) {
	if err := p.Complete(l); err != nil {
		return environ.Inputs{}, err
	}
	secrets, err := p.madeUp()
	if err != nil {
		return environ.Inputs{}, err
	}
	f, err := p.Frame(l)
	if err != nil {
		return environ.Inputs{}, err
	}
	ports, err := p.Bay.AssignPorts(ctx, p.Declaration)
	if err != nil {
		return environ.Inputs{}, err
	}
	own, err := p.OverlayLock()
	if err != nil {
		return environ.Inputs{}, err
	}
	local := Local(p.Declaration.Dir)
	view, inside := p.view(f)
	return environ.Inputs{
		Declaration: p.Declaration, Lock: l, Overlay: p.Overlay, OverlayLock: own, View: view,
		Folders: environ.Folders{Frame: f.Bin(), Inside: inside, Home: filepath.Join(local, "home"), HostLinks: filepath.Join(local, "host")},
		Cache:   filepath.Join(p.Places.Cache, "tools"),
		Secrets: secrets,
		Bay:     p.Bay, Ports: ports, ID: l.EnvironmentID(p.Platform),
	}, nil
}

// Plan is a compiled environment.
type Plan struct {
	Format      int                    `json:"format"`
	Places      place.Places           `json:"places"`
	Stamps      [7]disk.Stamp          `json:"stamps"`   // approval, declaration, lock, ports, additions and their lock, params
	Includes    []string               `json:"includes"` // files that the declaration includes
	Included    []disk.Stamp           `json:"included"`
	Passing     bool                   `json:"passing"` // approved by the environment alone, for as long as that says so
	File        string                 `json:"file"`
	Dir         string                 `json:"dir"`
	Project     string                 `json:"project"`
	Frame       string                 `json:"frame"`
	Folders     environ.Folders        `json:"folders"`
	Host        []string               `json:"host"`
	Environment environ.Environment    `json:"environment"`
	Routines    map[string]declare.Run `json:"routines"`
}

const planFormat = 5

// PlanFile is where the plan of a bay is kept.
func PlanFile(dir, bayName string) string {
	return filepath.Join(Local(dir), "plan-"+bayName+".json")
}

// stamps are those of the files that a plan is made from; the bay's folder is in
// the plan itself.
func stamps(places place.Places, file, ports string) [7]disk.Stamp {
	dir := filepath.Dir(file)
	return [7]disk.Stamp{
		disk.StampOf(approval.File(places, dir)),
		disk.StampOf(file), disk.StampOf(lock.Path(dir)), disk.StampOf(ports),
		disk.StampOf(declare.OverlayFile(dir)), disk.StampOf(lock.OverlayPath(dir)),
		disk.StampOf(filepath.Join(filepath.Dir(ports), filepath.Base(bay.Bay{}.ParamsFile()))),
	}
}

// keptPlan is a plan as it lies on disk.
type keptPlan struct {
	Plan
	PortsFile string `json:"ports"`
}

// KeptPlan is the plan that is kept for the declaration in force in dir, if it is
// valid.
func KeptPlan(dir, bayName string) (*Plan, bool) {
	places, err := place.FromEnvironment()
	if err != nil {
		return nil, false
	}
	file, err := find(places, dir)
	if err != nil {
		return nil, false
	}
	return readPlan(file, bayName, places)
}

// PlanFor gives the plan of the nearest declaration at or above dir: the kept one
// while it is valid, else a new one, which is kept.
func PlanFor(ctx context.Context, dir, bayName string) (*Plan, error) {
	places, err := place.FromEnvironment()
	if err != nil {
		return nil, err
	}
	file, err := find(places, dir)
	if err != nil {
		return nil, err
	}
	if kept, ok := readPlan(file, bayName, places); ok {
		return kept, nil
	}
	p, err := Open(dir, bayName)
	if err != nil {
		return nil, err
	}
	return p.Plan(ctx)
}

func readPlan(file, bayName string, places place.Places) (*Plan, bool) {
	raw, err := os.ReadFile(PlanFile(filepath.Dir(file), bayName))
	if err != nil {
		return nil, false
	}
	var kept keptPlan
	if json.Unmarshal(raw, &kept) != nil || kept.Format != planFormat || kept.Places != places || kept.File != file {
		return nil, false
	}
	for i, file := range kept.Includes {
		if i >= len(kept.Included) || disk.StampOf(file) != kept.Included[i] {
			return nil, false
		}
	}
	if kept.Stamps != stamps(places, file, kept.PortsFile) || kept.Passing && os.Getenv(approval.Variable) == "" {
		return nil, false
	}
	if _, err := os.Stat(kept.Frame); err != nil {
		return nil, false
	}
	return &kept.Plan, true
}

// Approved tells whether the person consents to what the project would run; nil
// when they do.
func (p *Project) Approved(l *lock.Lock) error {
	return approval.Check(p.Places, approval.Of(p.Declaration, p.Overlay, l), os.Getenv)
}

// Plan compiles the environment and keeps it. Variables are somebody else's code
// too (LD_PRELOAD is one), so there is no plan of what is not approved.
func (p *Project) Plan(ctx context.Context) (*Plan, error) {
	l, err := p.Lock()
	if err != nil {
		return nil, err
	}
	if _, err := p.OverlayLock(); err != nil {
		return nil, err
	}
	if err := p.Approved(l); err != nil {
		return nil, err
	}
	plan, err := p.Compile(ctx, l)
	if err != nil {
		return nil, err
	}
	for _, x := range p.Declaration.Includes {
		plan.Includes, plan.Included = append(plan.Includes, x.File), append(plan.Included, disk.StampOf(x.File))
	}
	plan.Stamps = stamps(p.Places, p.Declaration.File, p.Bay.PortsFile())
	plan.Passing = os.Getenv(approval.Variable) != ""
	if raw, err := json.Marshal(keptPlan{PortsFile: p.Bay.PortsFile(), Plan: *plan}); err == nil {
		_ = p.MakeLocal()
		_ = disk.WriteCache(PlanFile(p.Declaration.Dir, p.Bay.Name), raw)
	}
	return plan, nil
}

// Compile computes the plan of a lock whose parts and frame are there.
func (p *Project) Compile(ctx context.Context, l *lock.Lock) (*Plan, error) {
	in, err := p.Inputs(ctx, l)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(in.Frame); err != nil {
		return nil, notFitted("the frame of " + p.Declaration.Project)
	}
	e, err := environ.Compute(in)
	if err != nil {
		return nil, fault.New(fault.Use, "%v", err)
	}
	if _, err := os.Stat(in.HostLinks); e.Isolation == declare.Clean && err != nil { // else fit has made them
		if _, err := environ.LinkHost(in.HostLinks, p.HostCommands(), os.Getenv("PATH")); err != nil {
			return nil, err
		}
	}
	plan := &Plan{
		Format: planFormat, Places: p.Places, File: p.Declaration.File, Dir: p.Declaration.Dir, Project: p.Declaration.Project,
		Frame: in.Frame, Folders: in.Folders, Host: p.HostCommands(), Environment: *e, Routines: map[string]declare.Run{},
	}
	for _, r := range p.Declaration.Routines {
		copy := 0
		if r.Of != "" {
			copy = 1
		}
		run, err := script.Expand(r.Run, in.Lookup(r.Of, copy))
		if err != nil {
			return nil, fault.New(fault.Use, "routine %s: %v", r.Name, err)
		}
		plan.Routines[r.Name] = run
	}
	return plan, nil
}

// Isolate changes the level of isolation of a plan, for one command.
func (p *Plan) Isolate(level declare.Isolation) error {
	if p.Environment.Isolation == level {
		return nil
	}
	if level == declare.Sealed && p.Environment.View == nil {
		return fault.New(fault.Use, "%s has no root to be sealed in", p.Project).
			Advise("A root comes from a source of kind debian. Declare one, and isolation = \"sealed\" or a toolchain that is from it; then: trammel lock && trammel fit")
	}
	p.Environment.Isolation = level
	p.Environment.Path = p.Folders.Path(level)
	if level != declare.Clean {
		return nil
	}
	_, err := environ.LinkHost(p.Folders.HostLinks, p.Host, os.Getenv("PATH"))
	return err
}
