// Package project puts together what one checkout is: its declaration, its lock,
// its bay, and the environment that follows from them.
//
// The environment is compiled into a plan, kept in the checkout's .trammel
// folder, which is valid while the stamps of declaration, lock and ports hold; so
// a command that only needs the environment parses neither.
package project

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"trammel.example/trammel/internal/core/bay"
	"trammel.example/trammel/internal/core/declare"
	"trammel.example/trammel/internal/core/disk"
	"trammel.example/trammel/internal/core/environ"
	"trammel.example/trammel/internal/core/fault"
	"trammel.example/trammel/internal/core/frame"
	"trammel.example/trammel/internal/core/lock"
	"trammel.example/trammel/internal/core/place"
	"trammel.example/trammel/internal/core/platform"
	"trammel.example/trammel/internal/core/script"
	"trammel.example/trammel/internal/core/store"
)

// Project is one checkout.
type Project struct {
	Places      place.Places
	Declaration *declare.Declaration
	Bay         bay.Bay
	Store       *store.Store
	Platform    platform.Platform
}

// Open reads the nearest declaration at or above dir.
func Open(dir, bayName string) (*Project, error) {
	places, err := place.FromEnvironment()
	if err != nil {
		return nil, err
	}
	file, err := declare.Find(dir)
	if err != nil {
		return nil, err
	}
	d, err := declare.Read(file)
	if err != nil {
		return nil, err
	}
	b, err := bay.Open(places, d, bayName)
	if err != nil {
		return nil, err
	}
	return &Project{places, d, b, store.Open(places.Store()), platform.Here()}, nil
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
	return l, nil
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

// Parts lists this platform's parts with their tree digests. A part whose tree
// this machine does not know is reported by the error.
func (p *Project) Parts(l *lock.Lock) ([]lock.PartOn, error) {
	parts := l.PartsOn(p.Platform)
	for i := range parts {
		parts[i].Tree = p.Store.Tree(parts[i])
		if !p.Store.Has(parts[i]) {
			return parts, notFitted(parts[i].Item + " " + l.Items[parts[i].Item].Version)
		}
	}
	return parts, nil
}

// Frame is the frame of a lock whose parts are all in the store.
func (p *Project) Frame(l *lock.Lock) (frame.Frame, error) {
	parts, err := p.Parts(l)
	if err != nil {
		return frame.Frame{}, err
	}
	return frame.Of(p.Places.Frames(), p.Store, parts)
}

// Inputs gathers what the environment is made of.
func (p *Project) Inputs(ctx context.Context, l *lock.Lock) (environ.Inputs, error) {
	f, err := p.Frame(l)
	if err != nil {
		return environ.Inputs{}, err
	}
	ports, err := p.Bay.AssignPorts(ctx, p.Declaration)
	if err != nil {
		return environ.Inputs{}, err
	}
	local := Local(p.Declaration.Dir)
	return environ.Inputs{
		Declaration: p.Declaration, Lock: l, Frame: f.Bin(), HostLinks: filepath.Join(local, "host"),
		Home: filepath.Join(local, "home"), Cache: filepath.Join(p.Places.Cache, "tools"),
		Bay: p.Bay, Ports: ports, ID: l.EnvironmentID(p.Platform),
	}, nil
}

// Plan is a compiled environment.
type Plan struct {
	Format      int                    `json:"format"`
	Places      place.Places           `json:"places"`
	Stamps      [3]disk.Stamp          `json:"stamps"` // declaration, lock, ports
	Dir         string                 `json:"dir"`
	Project     string                 `json:"project"`
	Frame       string                 `json:"frame"`
	Host        []string               `json:"host"`
	Environment environ.Environment    `json:"environment"`
	Routines    map[string]declare.Run `json:"routines"`
}

const planFormat = 1

// PlanFile is where the plan of a bay is kept.
func PlanFile(dir, bayName string) string {
	return filepath.Join(Local(dir), "plan-"+bayName+".json")
}

// stamps are those of the files that a plan is made from; the bay's folder is in
// the plan itself.
func stamps(dir, ports string) [3]disk.Stamp {
	return [3]disk.Stamp{
		disk.StampOf(filepath.Join(dir, declare.FileName)), disk.StampOf(lock.Path(dir)), disk.StampOf(ports),
	}
}

// keptPlan is a plan as it lies on disk.
type keptPlan struct {
	Plan
	PortsFile string `json:"ports"`
}

// PlanFor gives the plan of the nearest declaration at or above dir: the kept one
// while it is valid, else a new one, which is kept.
func PlanFor(ctx context.Context, dir, bayName string) (*Plan, error) {
	places, err := place.FromEnvironment()
	if err != nil {
		return nil, err
	}
	file, err := declare.Find(dir)
	if err != nil {
		return nil, err
	}
	root := filepath.Dir(file)
	if kept, ok := readPlan(root, bayName, places); ok {
		return kept, nil
	}
	p, err := Open(root, bayName)
	if err != nil {
		return nil, err
	}
	return p.Plan(ctx)
}

func readPlan(root, bayName string, places place.Places) (*Plan, bool) {
	raw, err := os.ReadFile(PlanFile(root, bayName))
	if err != nil {
		return nil, false
	}
	var kept keptPlan
	if json.Unmarshal(raw, &kept) != nil || kept.Format != planFormat || kept.Places != places || kept.Dir != root {
		return nil, false
	}
	if kept.Stamps != stamps(root, kept.PortsFile) {
		return nil, false
	}
	if _, err := os.Stat(kept.Frame); err != nil {
		return nil, false
	}
	return &kept.Plan, true
}

// Plan compiles the environment and keeps it.
func (p *Project) Plan(ctx context.Context) (*Plan, error) {
	l, err := p.Lock()
	if err != nil {
		return nil, err
	}
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
		if _, err := environ.LinkHost(in.HostLinks, p.Declaration.Host, os.Getenv("PATH")); err != nil {
			return nil, err
		}
	}
	kept := keptPlan{PortsFile: p.Bay.PortsFile(), Plan: Plan{
		Format: planFormat, Places: p.Places, Dir: p.Declaration.Dir, Project: p.Declaration.Project,
		Stamps: stamps(p.Declaration.Dir, p.Bay.PortsFile()), Frame: in.Frame, Host: p.Declaration.Host, Environment: *e,
		Routines: map[string]declare.Run{},
	}}
	for _, r := range p.Declaration.Routines {
		run, err := script.Expand(r.Run, in.Lookup("", 0))
		if err != nil {
			return nil, fault.New(fault.Use, "routine %s: %v", r.Name, err)
		}
		kept.Routines[r.Name] = run
	}
	if raw, err := json.Marshal(kept); err == nil {
		_ = p.MakeLocal()
		_ = disk.WriteCache(PlanFile(p.Declaration.Dir, p.Bay.Name), raw)
	}
	return &kept.Plan, nil
}

// Isolate changes the level of isolation of a plan, for one command.
func (p *Plan) Isolate(level declare.Isolation) error {
	if p.Environment.Isolation == level {
		return nil
	}
	links := filepath.Join(Local(p.Dir), "host")
	p.Environment.Isolation = level
	p.Environment.Path = slices.DeleteFunc(p.Environment.Path, func(dir string) bool { return dir == links })
	if level == declare.Open {
		return nil
	}
	p.Environment.Path = append(p.Environment.Path, links)
	_, err := environ.LinkHost(links, p.Host, os.Getenv("PATH"))
	return err
}
