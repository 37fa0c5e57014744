package environ

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/seen"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/within"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/ref"
)

// Compiled is an approved plan in the form that is kept, so that a command which only
// needs the environment reads one file. It is valid while no file that it was made of has
// moved, consent and the executed files of the checkout among them.
type Compiled struct {
	Format   int                `json:"format"`
	Places   place.Places       `json:"places"`
	Files    []checkout.Stamped `json:"files"`
	Approved approval.ID        `json:"approved"` // the approval id
	Named    bool               `json:"named"`    // consent was TRAMMEL_APPROVE's, and ends with it
	File     string             `json:"file"`     // the declaration
	Dir      string             `json:"dir"`
	Project  string             `json:"project"`
	Bay      string             `json:"bay"`
	Frame    string             `json:"frame"`
	Folders  Folders            `json:"folders"`
	Host     []string           `json:"host"` // host commands that are named

	Environment Environment            `json:"environment"`
	Routines    map[string]declare.Run `json:"routines"`
	Needs       map[string][]string    `json:"needs"` // of the routines that have any
	Steps       bool                   `json:"steps"` // there are some

	settled bool
}

const compiledFormat = 8

// Expand fills in the references of a run.
func Expand(run declare.Run, look func(string) (string, error)) (declare.Run, error) {
	out := declare.Run{Shell: run.Shell}
	var err error
	if out.Script, err = ref.Expand(run.Script, look); err != nil {
		return out, err
	}
	for _, a := range run.Argv {
		a, err := ref.Expand(a, look)
		if err != nil {
			return out, err
		}
		out.Argv = append(out.Argv, a)
	}
	for _, text := range append(out.Argv, out.Script) {
		if name := secretIn(text); name != "" {
			return out, fault.New(fault.ErrUsage, "%s holds a secret (%s), which may stand in variables only", oneLine(run.String()), name).
				Advise("Put it into a variable, and use that: scripts and arguments are seen by others and kept.\nFor example: variables = { LEDGER_URL = \"@{service.ledger.url}\" }, and in the script \"$LEDGER_URL\"")
		}
	}
	return out, nil
}

// secretIn is the name of a secret whose mark is in a text, "" for none.
func secretIn(text string) string {
	_, rest, ok := strings.Cut(text, markBegin)
	name, _, closed := strings.Cut(rest, markEnd)
	if !ok || !closed {
		return ""
	}
	return name
}

func oneLine(text string) string {
	line, _, more := strings.Cut(strings.TrimSpace(text), "\n")
	if more {
		line += " …"
	}
	return line
}

// Compile makes the form of a plan that is kept.
func (p *Plan) Compile(g approval.Given) (*Compiled, error) {
	if !g.For(p.State).Holds() {
		return nil, fault.New(fault.ErrNotApproved, "this is consent to something else").Advise("Read it and decide: trammel approve")
	}
	s := p.State
	if _, err := seen.Stat(p.Folders.Frame); err != nil {
		return nil, checkout.NotFitted("the frame of " + s.Declaration.Project)
	}
	c := &Compiled{
		Format: compiledFormat, Places: s.Places, Files: append(s.Stamps[:len(s.Stamps):len(s.Stamps)], g.Effects().Files...),
		Approved: g.Effects().ID(), Named: s.Host.Getenv(approval.Variable) != "",
		File: s.Written.File, Dir: s.Dir(), Project: s.Declaration.Project, Bay: s.Bay.Name, Frame: p.Folders.Frame, Folders: p.Folders, Host: s.HostCommands(),
		Environment: p.Environment, Routines: map[string]declare.Run{},
		Needs: map[string][]string{}, Steps: len(s.Declaration.Steps) > 0,
	}
	for _, r := range s.Declaration.Routines {
		copy := 0
		if r.Of != "" {
			copy = 1
		}
		run, err := Expand(r.Run, p.Lookup(r.Of, copy))
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "routine %s: %v", r.Name, err)
		}
		if r.Of != "" { // a routine has no variables of its own, so that the script sets them
			x, _ := s.Declaration.Service(r.Of)
			set, err := p.settingsInScript(x)
			if err != nil {
				return nil, fault.New(fault.ErrUsage, "routine %s: %v", r.Name, err)
			}
			run.Script = set + run.Script
		}
		c.Routines[r.Name] = run
		if len(r.Needs) > 0 {
			c.Needs[r.Name] = r.Needs
		}
	}
	c.settled = p.Recorded
	for _, f := range c.Files {
		c.settled = c.settled && f.Settled(s.Began)
	}
	return c, nil
}

// Keep writes the plan where ReadCompiled looks for it, unless a change of what it was
// made of could be missed: a file that is younger than the clock's grain, or that moved
// since it was read. Then the next command makes its own.
func (c *Compiled) Keep() {
	if !c.settled {
		return
	}
	for _, f := range c.Files {
		if f.Moved() {
			return
		}
	}
	file := checkout.PlanFile(c.Places, c.Dir, c.Bay)
	raw, err := json.Marshal(c)
	if err != nil {
		return
	}
	c.KeepShort()
	if old, err := disk.Read(file, disk.MostState); err == nil && bytes.Equal(old, raw) {
		return
	}
	_ = disk.WriteCache(file, raw)
}

// KeepShort keeps the plan in the form that the shortest way goes by, where it has one: of the
// main bay, without secrets. It tells whether it has.
func (c *Compiled) KeepShort() bool {
	file := kept.In(c.Places.Plans(), c.Dir)
	e := c.Environment
	if c.Bay != bay.Main || e.Isolation == declare.Sealed && e.View == nil || len(e.Secrets) > 0 || filepath.Join(c.Dir, declare.FileName) != c.File {
		_ = os.Remove(file)
		return false
	}
	p := kept.Plan{
		Places: []string{c.Places.Data, c.Places.Cache, c.Places.State, c.Places.Config}, Declaration: c.File,
		Approved: string(c.Approved), Named: c.Named, Open: e.Isolation == declare.Open, There: []string{c.Frame},
		KeepNames: keptNames, KeepPrefixes: keptPrefixes, Path: e.Path,
	}
	if e.Isolation == declare.Clean {
		p.There = append(p.There, c.Folders.HostLinks)
	}
	if e.Isolation == declare.Sealed {
		p.KeepNames, p.KeepPrefixes, p.Unknown = keptInside, nil, certificateNames
		p.Hidden = hiddenFolders
		p.Order, p.Given = string(within.Order{View: *e.View}.Pack()), []string{"HOME=" + e.Home, "LANG=C.UTF-8", "SHELL=/bin/bash"}
	}
	for _, v := range e.Variables {
		if Marked(v.Value) {
			_ = os.Remove(file)
			return false
		}
		p.Set = append(p.Set, v.Name+"="+v.Value)
	}
	for _, f := range c.Files {
		p.Files = append(p.Files, kept.File{Path: f.File, Size: f.Stamp.Size, Mod: f.Stamp.Mod, Change: f.Stamp.Change, Inode: f.Stamp.Inode})
	}
	raw := p.Bytes()
	if old, err := disk.Read(file, disk.MostState); raw == nil || err == nil && bytes.Equal(old, raw) {
		return raw != nil
	}
	return disk.WriteCache(file, raw) == nil
}

// ReadCompiled is the plan that is kept for a declaration and a bay, if it is valid.
func ReadCompiled(h host.Host, places place.Places, file, dir, bayName string) (*Compiled, bool) {
	raw, err := disk.Read(checkout.PlanFile(places, dir, bayName), disk.MostState)
	if err != nil {
		return nil, false
	}
	var c Compiled
	if json.Unmarshal(raw, &c) != nil || c.Format != compiledFormat || !c.Places.Equal(places) || c.File != file || c.Dir != dir || c.Bay != bayName {
		return nil, false
	}
	if named, ok := h.LookupEnv(approval.Variable); ok && named != "" && approval.Named(named) != c.Approved || c.Named && named == "" {
		return nil, false
	}
	for _, f := range c.Files {
		if f.Moved() {
			return nil, false
		}
	}
	if _, err := seen.Stat(c.Frame); err != nil {
		return nil, false
	}
	if _, err := seen.Stat(c.Folders.HostLinks); err != nil && c.Environment.Isolation == declare.Clean {
		return nil, false
	}
	return &c, true
}

// Ready makes the environment that processes are started in. The consent that made the
// plan holds as long as the plan is valid.
func (c *Compiled) Ready(h host.Host) *Ready { return &Ready{c.Environment, h, &vault{host: h}} }

// Isolate changes the level of isolation, for one command.
func (c *Compiled) Isolate(level declare.Isolation, h host.Host) error {
	if c.Environment.Isolation == level {
		return nil
	}
	if level == declare.Sealed && c.Environment.View == nil {
		return fault.New(fault.ErrUsage, "%s has no root to be sealed in", c.Project).
			Advise("A root comes from a source of kind debian. Declare one, and isolation = \"sealed\" or a toolchain that is from it; then: trammel lock && trammel fit")
	}
	c.Environment.Isolation = level
	c.Environment.Path = c.Folders.Path(level)
	if level != declare.Clean {
		return nil
	}
	return LinksOf(c.Places.HostLinks(), c.Host, h.Getenv("PATH"), h.Program).Make()
}
