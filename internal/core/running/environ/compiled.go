package environ

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/ref"
)

// Compiled is an approved plan in the form that is cached, so that a command which only needs the
// environment reads one file. It is believed while all that it rests on holds, consent and the bytes
// of the checkout's files that run among it.
type Compiled struct {
	Places  place.Places `json:"places"`
	File    string       `json:"file"` // the declaration
	Dir     string       `json:"dir"`
	Project string       `json:"project"`
	Bay     string       `json:"bay"`
	Folders Folders      `json:"folders"`
	Host    []string     `json:"host"` // host commands that are named

	Environment Environment            `json:"environment"`
	Routines    map[string]declare.Run `json:"routines"`
	Needs       map[string][]string    `json:"needs"` // of the routines that have any
	Steps       bool                   `json:"steps"` // there are some

	Quick []cached.Command `json:"-"` // routines that the plan alone decides
	Rests rests.On         `json:"-"`
	host  host.Host
	given approval.Given // none of one that was cached
}

// Expand fills in the references of a run.
func Expand(run declare.Run, look func(string) (string, error)) (declare.Run, error) {
	out := declare.Run{Shell: run.Shell}
	value := func(name string) (string, bool, error) {
		text, err := look(name)
		if secret := secretIn(text); err == nil && secret != "" {
			err = fault.New(fault.ErrUsage, "%s holds a secret (%s), which may stand in variables only", oneLine(run.String()), secret).
				Advise("Put it into a variable, and use that: scripts and arguments are seen by others and kept.\nFor example: variables = { LEDGER_URL = \"@{service.ledger.url}\" }, and in the script \"$LEDGER_URL\"")
		}
		return text, true, err
	}
	var err error
	if out.Script, err = ref.Script(run.Script, run.Shell, value); err == nil {
		out.Argv, err = ref.Argv(run.Argv, value)
	}
	var code *ref.Code
	if errors.As(err, &code) {
		err = fault.New(fault.ErrUsage, "%s: %v", oneLine(run.String()), code).Advise("%s", code.WayOut())
	}
	return out, err
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

// Compile makes the form of a plan that is cached.
func (p *Plan) Compile(g approval.Given) (*Compiled, error) {
	if g = g.For(p.State); !g.Holds() {
		return nil, errOther
	}
	s := p.State
	r := reading.New(s.Host)
	// Neither changes under its name; verify looks into them.
	if r.Identity(p.Folders.Frame); !isThere(p.Folders.Frame) {
		return nil, checkout.NotFitted("the frame of " + s.Declaration.Project)
	}
	if p.Environment.Isolation == declare.Clean {
		r.Identity(p.Folders.HostLinks)
	}
	if !p.Recorded {
		r.Never("ports have no numbers yet")
	}
	r.Getenv("IFS") // which splits words of scripts, where somebody lets it out
	c := &Compiled{
		Places: s.Places, File: s.Written.File, Dir: s.Dir(), Project: s.Declaration.Project, Bay: s.Bay.Name, Folders: p.Folders, Host: s.HostCommands(),
		Environment: p.Environment, Routines: map[string]declare.Run{},
		Needs: map[string][]string{}, Steps: len(s.Declaration.Steps) > 0,
		Rests: p.Rests.Join(g.Effects().Rests, r.On()), given: g, host: s.Host,
	}
	var err error
	for _, made := range append(p.Folders.Behind(p.Environment.Isolation), p.Cache(p.Environment.Isolation)) {
		r.Identity(made) // without which a tool keeps nothing
	}
	for _, name := range []string{".git", ".gitmodules"} {
		r.Identity(filepath.Join(s.Dir(), name))
	}
	c.Environment.View = fixing(c.Environment.View, g)
	if c.Environment.Secrets, err = pinned(g, p.Environment.Secrets); err != nil {
		return nil, err
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
	return c, nil
}

func isThere(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// key says where a plan of a bay is cached.
func key(what, dir, bayName string, getenv func(string) string) cached.Key {
	return cached.Key{What: what, Dir: dir, Bay: bayName, Path: getenv("PATH")}
}

// Keep caches the plan for the next command, unless a change of what it rests on could be missed:
// something changed meanwhile, or is younger than the grain of its clock. Then the next command
// makes its own.
func (c *Compiled) Keep() {
	whole, err := json.Marshal(c)
	if err != nil {
		return
	}
	p := c.start()
	p.Routines, p.Whole = c.Quick, string(whole)
	c.keep(cached.OfPlan, c.Rests, p.Words())
}

// KeepShell caches how a shell is started, with what that rests on besides.
func (c *Compiled) KeepShell(more rests.On, set []string, shell cached.Command, said string) {
	if p := c.start(); p.Startable {
		p.Set, p.Shell, p.Said = append(p.Set, set...), shell, said
		c.keep(cached.OfShell, c.Rests.Join(more), p.Words())
	}
}

// KeepComing caches what a shell evaluates that comes into the project.
func (c *Compiled) KeepComing(shell string, more rests.On, text string) {
	if len(c.Environment.Secrets) == 0 {
		c.keep(cached.OfComing+" "+shell, c.Rests.Join(more), []string{text})
	}
}

// start is what the shortest way to a command needs.
func (c *Compiled) start() cached.Plan {
	e := c.Environment
	var set []string
	startable := len(e.Secrets) == 0 && (e.Isolation != declare.Sealed || e.View != nil)
	for _, v := range e.Variables {
		set = append(set, v.Name+"="+v.Value)
		startable = startable && !Marked(v.Value)
	}
	return cached.Plan{Surroundings: e.surroundings(set), Startable: startable}
}

// mostCached is how many files are cached of a checkout: its bays, by the PATHs of a person's
// terminals.
const mostCached = 64

func (c *Compiled) keep(what string, on rests.On, words []string) {
	k := key(what, c.Dir, c.Bay, c.host.Getenv)
	raw, file := cached.Bytes(k, on, words), k.In(c.Places.Plans())
	if old, err := disk.Read(file, disk.MostState); raw == nil || err == nil && bytes.Equal(old, raw) {
		return
	}
	if !on.Settled(reading.ClockOf(c.Places.Plans(), checkout.Clock(c.Dir))) || c.given.Holds() && c.given.KeepCopies() != nil || !on.Holds(c.host.LookupEnv) {
		return
	}
	if disk.WriteCache(file, raw) == nil {
		Forget(c.Places, c.Dir, mostCached)
	}
}

// Forget drops what is cached of a checkout, but for so many files that are the newest.
func Forget(p place.Places, dir string, most int) {
	files, _ := filepath.Glob(filepath.Join(p.Plans(), cached.Of(dir)+"*"+cached.End))
	if len(files) <= most {
		return
	}
	age := func(file string) time.Time {
		info, err := os.Lstat(file)
		if err != nil {
			return time.Time{}
		}
		return info.ModTime()
	}
	slices.SortFunc(files, func(a, b string) int { return age(b).Compare(age(a)) })
	for _, file := range files[most:] {
		_ = os.Remove(file)
	}
}

// ReadCompiled is the plan that is cached for a declaration and a bay, if all that it rests on holds.
func ReadCompiled(h host.Host, places place.Places, file, dir, bayName string) (*Compiled, bool) {
	words, on, ok := cached.Load(key(cached.OfPlan, dir, bayName, h.Getenv), places.Plans(), h.LookupEnv)
	if !ok {
		return nil, false
	}
	p, ok := cached.PlanOf(words)
	var c Compiled
	if !ok || json.Unmarshal([]byte(p.Whole), &c) != nil || c.File != file || !c.Places.Equal(places) {
		return nil, false
	}
	c.Rests, c.host = on, h
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
	from := c.Environment.Isolation
	c.Environment.Isolation = level
	c.Environment.Path, c.Environment.Behind = c.Folders.Path(level), c.Folders.Behind(level)
	// What one isolation's programs wrote decides nothing in another.
	apart := strings.NewReplacer(c.Folders.Home(from), c.Folders.Home(level), c.Folders.Cache(from), c.Folders.Cache(level))
	c.Environment.Variables = slices.Clone(c.Environment.Variables)
	for i, v := range c.Environment.Variables {
		c.Environment.Variables[i].Value = apart.Replace(v.Value)
	}
	if err := c.Folders.Make(level); err != nil {
		return err
	}
	if level != declare.Clean {
		return nil
	}
	return LinksOf(nil, c.Places.HostLinks(), c.Host, h.Getenv("PATH"), h.Program).Make()
}
