// Package environ decides the exact environment of a checkout: its variables, in a fixed
// order, its PATH, and what its commands see.
//
// Decide is pure: from a State it makes a Plan, and asks nobody. A Plan shows no secret
// and starts nothing; what a process really gets is had from a Ready, which only consent
// makes of a Plan.
//
// Promise: the same lock and bay give the same variables in the same order, in
// every level of isolation; in clean isolation nothing else gets in but what the
// lists in base.go name.
package environ

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/core/kernel/within"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/core/written/ref"
)

// Variable is a name and its final value.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from"` // for people: "go's card", "declaration", "trammel"
	Unset bool   `json:"-"`    // of a service: what its card or the project sets is not set
}

// Environment is what an environment sets, before the host's own is added.
type Environment struct {
	Isolation declare.Isolation `json:"isolation"`
	Variables []Variable        `json:"variables"`
	Path      []string          `json:"path"`   // folders, before any of the host's
	Behind    []string          `json:"behind"` // folders, behind those of the host
	View      *sandbox.View     `json:"view"`   // what sealed isolation shows; nil where there is no root
	Home      string            `json:"home"`   // the private home of sealed isolation
	Secrets   []Secret          `json:"secrets"`
}

// Folders are those that the PATH of an environment may have.
type Folders struct {
	Frame     string `json:"frame"`      // the frame's bin
	Inside    string `json:"inside"`     // the frame's commands as the base root has them, or ""
	Homes     string `json:"homes"`      // what languages keep of the checkout, by isolation
	Caches    string `json:"caches"`     // what tools cache of it, likewise
	Languages string `json:"languages"`  // the name of the languages' homes in each of Homes
	HostLinks string `json:"host_links"` // links to allowed host commands
}

// Home is what languages keep in an isolation: what is installed by a person, a step or an add-on. No
// other isolation, and no other checkout, uses any of it.
func (f Folders) Home(level declare.Isolation) string {
	return filepath.Join(f.Homes, string(level), f.Languages)
}

// Cache is what tools cache in an isolation.
func (f Folders) Cache(level declare.Isolation) string { return filepath.Join(f.Caches, string(level)) }

// Make makes the homes and caches of a level of isolation.
func (f Folders) Make(level declare.Isolation) error {
	for _, dir := range append(f.Behind(level), f.Cache(level)) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return fault.New(fault.ErrFailed, "the folders of %s isolation cannot be made: %v", level, err)
		}
	}
	return nil
}

// Behind is what a level of isolation puts on the PATH behind everything else: what programs of the
// environment have installed takes no other command's place.
func (f Folders) Behind(level declare.Isolation) []string {
	return []string{filepath.Join(f.Home(level), "bin")}
}

// Path is what a level of isolation puts on the PATH, before any of the host's.
func (f Folders) Path(level declare.Isolation) []string {
	switch level {
	case declare.Sealed:
		return []string{f.Inside, "/usr/local/bin", "/usr/bin", "/usr/sbin"}
	case declare.Clean:
		return []string{f.Frame, f.HostLinks}
	}
	return []string{f.Frame}
}

// add sets what the cards of locked tools want, then what a declaration says.
func (e *Environment) add(p *Plan, ports bay.Ports, l *lock.Lock, d *declare.Declaration, from string) error {
	for _, tool := range lock.Sorted(l.Items) {
		table := l.Items[tool].Variables
		homes := ref.From(map[string]string{"home": p.Home(e.Isolation), "cache": p.Cache(e.Isolation), "root": p.Frame.Roots[frame.RootOf(l.Items[tool].Source, from == "local")], "arch": debian.Arch(p.State.Platform.Arch), "part": partOf(p.State, tool, from == "local")})
		for _, name := range lock.Sorted(table) {
			value, err := ref.Expand(table[name], homes)
			if err != nil {
				return fmt.Errorf("variable %s of the card of %s: %w", name, tool, err)
			}
			e.set(name, value, "card of "+tool)
		}
		// What the host has for a language is not of this environment, in open isolation neither.
		for _, name := range pathsOf[tool] {
			e.set(name, "", "card of "+tool)
		}
	}
	for _, x := range p.State.Store.Complete(l.SetsOn(p.State.Platform)) {
		what := "libraries " + x.Item
		switch l.Libraries[x.Item].Kind {
		case lock.Python: // a user's own scheme: on the path of this environment's interpreter alone
			e.set("PYTHONUSERBASE", p.State.Store.Path(x), what)
			// What the interpreter compiles goes elsewhere than into the store, whoever runs it.
			if !e.has("PYTHONPYCACHEPREFIX") {
				e.set("PYTHONPYCACHEPREFIX", filepath.Join(p.Cache(e.Isolation), "python"), what)
			}
		case lock.R:
			e.set("R_LIBS", filepath.Join(p.State.Store.Path(x), libraries.RFolder), what)
		}
	}
	look := names{p, ports}.lookup("", 0)
	for _, v := range d.Variables {
		if v.Unset {
			e.unset(v.Name)
			continue
		}
		value, err := ref.Expand(v.Value, look)
		if err != nil {
			return fmt.Errorf("variable %s: %w", v.Name, err)
		}
		e.set(v.Name, value, from)
	}
	return nil
}

// partOf is the folder of a toolchain's first part in the store.
func partOf(s *checkout.State, tool string, own bool) string {
	for _, part := range s.AllParts() {
		if part.Item == tool && part.Own == own && part.Format != lock.RootFormat {
			return s.Store.Path(part)
		}
	}
	return ""
}

// pathsOf are the variables that put libraries on a language's path, by its toolchain. Empty
// they are as good as not set ("Python documentation", Environment variables; "R
// documentation", libPaths; Node.js documentation, "Loading from the global folders").
var pathsOf = map[string][]string{
	"python": {"PYTHONPATH", "PYTHONHOME"},
	"r":      {"R_LIBS"},
	"node":   {"NODE_PATH"},
}

// unset takes a variable out again.
func (e *Environment) unset(name string) {
	e.Variables = slices.DeleteFunc(e.Variables, func(v Variable) bool { return v.Name == name })
}

func (e *Environment) has(name string) bool {
	return slices.ContainsFunc(e.Variables, func(v Variable) bool { return v.Name == name })
}

// set adds a variable, or gives one that is there a new value.
func (e *Environment) set(name, value, from string) {
	for i, v := range e.Variables {
		if v.Name == name {
			e.Variables[i] = Variable{Name: name, Value: value, From: from}
			return
		}
	}
	e.Variables = append(e.Variables, Variable{Name: name, Value: value, From: from})
}

// names is what references mean, with the numbers that ports have for who asks.
type names struct {
	*Plan
	ports bay.Ports
}

// Lookup says what references mean to shells, steps and routines. Of a service, service
// and copy (from 1) give @{port.…} and @{copy} their meaning.
func (p *Plan) Lookup(service string, copy int) func(string) (string, error) {
	return names{p, p.Ports}.lookup(service, copy)
}

// LookupInside is Lookup as services see it: in a private network ports have their own
// numbers.
func (p *Plan) LookupInside(service string, copy int) func(string) (string, error) {
	return names{p, p.PortsInside}.lookup(service, copy)
}

func (in names) lookup(service string, copy int) func(string) (string, error) {
	d, b := in.State.Declaration, in.State.Bay
	return func(name string) (string, error) {
		switch name {
		case "project.dir":
			return d.Dir, nil
		case "project.name":
			return d.Project, nil
		case "bay.name":
			return b.Name, nil
		case "bay.dir":
			return b.Dir, nil
		case "copy":
			return strconv.Itoa(copy), nil
		}
		if own, inside := d.Service(service); inside && own.Card != nil && !strings.Contains(name, ".") {
			if value, ok, err := in.setting(own, copy, name); ok || err != nil {
				return value, err
			}
		}
		words := strings.Split(name, ".")
		if words[0] == "secret" && len(words) == 2 {
			return mark(words[1]), nil
		}
		if words[0] == "port" && len(words) == 2 && service != "" {
			return in.port(service, copy, words[1])
		}
		if words[0] == "service" && len(words) >= 3 {
			if s, ok := d.Service(words[1]); ok {
				return in.published(s, words[2:])
			}
		}
		return "", fmt.Errorf("nothing is named @{%s}", name)
	}
}

func (in names) port(service string, copy int, port string) (string, error) {
	n := in.ports[bay.PortKey(service, copy, port)]
	if n == 0 {
		return "", fmt.Errorf("port %s of service %s has no number yet", port, service)
	}
	return strconv.Itoa(n), nil
}

// loopback is where services of this machine are.
const loopback = "127.0.0.1"

func (in names) published(s declare.Service, words []string) (string, error) {
	host := func(copy int) string {
		if in.hosts == nil {
			return loopback
		}
		return in.hosts(s.Name, copy)
	}
	address := func(copy int) (string, error) {
		n, err := in.port(s.Name, max(copy, 1), s.Ports[0].Name)
		return host(copy) + ":" + n, err
	}
	if s.Card != nil && len(words) == 1 {
		if value, ok, err := in.publishes(s, words[0]); ok || err != nil {
			return strings.ReplaceAll(value, loopback, host(0)), err
		}
	}
	switch {
	case words[0] == "host":
		return host(0), nil
	case words[0] == "port" && len(words) == 2:
		return in.port(s.Name, 1, words[1])
	case len(s.Ports) == 0:
		return "", fmt.Errorf("service %s has no port", s.Name)
	case words[0] == "address":
		return address(0)
	case words[0] == "url":
		a, err := address(0)
		return "http://" + a, err
	case words[0] == "addresses":
		var all []string
		for copy := 1; copy <= s.Copies; copy++ {
			a, err := address(copy)
			if err != nil {
				return "", err
			}
			if !slices.Contains(all, a) {
				all = append(all, a)
			}
		}
		return strings.Join(all, ","), nil
	}
	return "", fmt.Errorf("service %s publishes no %s", s.Name, words[0])
}

// PathOf is the PATH of a process, given the host's.
func (e *Environment) PathOf(hostPath string) string { return e.surroundings(nil).PathOf(hostPath) }

// surroundings are what a process of the environment is started with: set are its variables as
// NAME=VALUE.
func (e *Environment) surroundings(set []string) cached.Surroundings {
	s := cached.Surroundings{Open: e.Isolation == declare.Open, Set: set, Path: e.Path, Behind: e.Behind, KeepNames: keptNames, KeepPrefixes: keptPrefixes}
	if e.Isolation == declare.Sealed {
		s.KeepNames, s.KeepPrefixes, s.Certain, s.Hidden = keptInside, nil, certificateNames, hiddenFolders
		s.Given = []string{"HOME=" + e.Home, "LANG=C.UTF-8", "SHELL=/bin/bash"}
		if e.View != nil {
			s.Order = string(within.Order{View: *e.View}.Pack())
		}
	}
	return s
}
