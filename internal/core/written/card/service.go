package card

import (
	"encoding/json"
	"maps"
	"regexp"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/declare"
)

// Service is how a tool runs as a service, as flat facts: the lock keeps them as
// they are. The keys are
//
//	once             what makes the data folder @{data}, the first time
//	run              what serves: a script, or as a JSON array a command without a shell, in
//	                 which "@{any}" and "@{options}" stand for what the declaration adds
//	any              the arguments, as a JSON array, that a setting without a default of its
//	                 own becomes, with @{name} and @{value}; without it there are no others
//	settle           what is done, once it can be used, whenever its settings are not those of
//	                 the last time
//	package.NAME     the package of the archive that a setting which lists NAME needs
//	ready.command    (a script or a command) and ready.log: when it can be used
//	stop.signal      and stop.within: how it ends
//	port.NAME        the port that it would like
//	publish.NAME     what @{service.SERVICE.NAME} is
//	stale            files below @{data} that a crash leaves and that keep it from starting
//	console          a client for a person, as the routine SERVICE-console
//	data.save        prints a dump of the data
//	data.load        reads one; with data.stopped = "yes" while the service does not run
//	data.begins      and data.ends: regular expressions, over bytes, of the first and last
//	                 4 KiB of a dump. One that begins so and does not end so was cut
//	setting.NAME     a setting's default; "(random)" is a secret that each bay makes up
//
// In scripts a setting is the variable that Variable names: its value is never part of a
// script's text, where a quote in it would end a word.
type Service map[string]string

// Variable is the name of the variable in which a card's scripts have a setting:
// SETTING_MAX_SIZE for "max-size".
func Variable(setting string) string {
	return "SETTING_" + strings.ToUpper(strings.NewReplacer("-", "_", ".", "_").Replace(setting))
}

// RunOf is what a fact of a service runs: a command when it is a JSON array, else a script.
func RunOf(fact string) declare.Run {
	var argv []string
	if strings.HasPrefix(fact, "[") && json.Unmarshal([]byte(fact), &argv) == nil {
		return declare.Run{Argv: argv}
	}
	return declare.Run{Script: fact}
}

// Words are the elements of a fact that is a JSON array.
func Words(fact string) []string { return RunOf(fact).Argv }

// Command is what serves, with the settings that the card has no default for and with the
// options of a declaration. ok is false when the card has no place for one of these.
func (s Service) Command(free map[string]string, options []string) (run declare.Run, ok bool) {
	run = RunOf(s["run"])
	if len(free) == 0 && len(options) == 0 && len(run.Argv) == 0 {
		return run, true
	}
	if len(run.Argv) == 0 || len(free) > 0 && s["any"] == "" {
		return run, false
	}
	var out []string
	for _, word := range run.Argv {
		switch word {
		case "@{any}":
			for _, name := range slices.Sorted(maps.Keys(free)) {
				fill := strings.NewReplacer("@{name}", name, "@{value}", free[name])
				for _, w := range Words(s["any"]) {
					out = append(out, fill.Replace(w))
				}
			}
		case "@{options}":
			out = append(out, options...)
		default:
			out = append(out, word)
		}
	}
	return declare.Run{Argv: out}, true
}

// PackagesFor are the packages of the archive that a value of a setting asks for.
func (s Service) PackagesFor(value string) (out []string) {
	for _, word := range strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' }) {
		if name := s["package."+word]; name != "" {
			out = append(out, name)
		}
	}
	return out
}

// Random is the default of a setting whose value each bay makes up for itself.
const Random = "(random)"

// Group lists the facts below a key, such as "port": "main" → "5432".
func (s Service) Group(key string) map[string]string {
	out := map[string]string{}
	for name, value := range s {
		if below, ok := strings.CutPrefix(name, key+"."); ok {
			out[below] = value
		}
	}
	return out
}

// At is the service for one version of the tool.
func (s Service) At(v string) Service {
	if len(s) == 0 {
		return nil
	}
	fill := strings.NewReplacer("@{version}", v, "@{major}", version.Major(v), "@{minor}", version.Minor(v))
	out := Service{}
	for name, value := range s {
		out[name] = fill.Replace(value)
	}
	return out
}

func readService(p *page.Page, t *page.Table) Service {
	s := Service{}
	put := func(key, value string) {
		if value != "" {
			s[key] = value
		}
	}
	command := func(t *page.Table, key string) string {
		if v := t.Get(key); v == nil || v.Kind != page.Array {
			return p.Text(t, key)
		}
		raw, err := json.Marshal(p.Texts(t, key))
		if err != nil {
			return ""
		}
		return string(raw)
	}
	put("once", p.Text(t, "once"))
	put("run", command(t, "run"))
	if s["run"] == "" {
		p.Fault(t.Span, "", "a service on a card needs run")
	}
	if t.Get("any") != nil {
		put("any", command(t, "any"))
	}
	put("settle", p.Text(t, "settle"))
	put("stale", p.Text(t, "stale"))
	put("console", p.Text(t, "console"))
	if ready := p.Table(t, "ready"); ready != nil {
		put("ready.command", command(ready, "command"))
		put("ready.log", p.Text(ready, "log"))
		put("ready.within", p.Text(ready, "within"))
		p.Close(ready)
	}
	known := []string{"stop.signal", "stop.within", "data.save", "data.load", "data.stopped", "data.begins", "data.ends"}
	for _, group := range []string{"stop", "data"} {
		for name, value := range p.StringMap(t, group) {
			if !slices.Contains(known, group+"."+name) {
				p.Fault(t.Get(group).Span, "", "%s of a card has no %s", group, name)
			}
			put(group+"."+name, value)
		}
	}
	for _, group := range []string{"port", "publish", "setting", "package"} {
		for name, value := range p.StringMap(t, group) {
			s[group+"."+name] = value // a setting's default may be nothing
		}
	}
	for _, key := range []string{"data.begins", "data.ends"} {
		if _, err := regexp.Compile(s[key]); err != nil {
			p.Fault(t.Get("data").Span, "", "%s is not a regular expression: %v", key, err)
		}
	}
	settings := s.Group("setting")
	for _, key := range []string{"once", "run", "settle", "console", "ready.command", "data.save", "data.load"} {
		script := RunOf(s[key]).Script
		for _, name := range slices.Sorted(maps.Keys(settings)) {
			if strings.Contains(script, "@{"+name+"}") {
				p.Fault(t.Span, "Write \"$"+Variable(name)+"\", or a command as an array of words.", "%s of a card puts the setting %s into the text of a script", key, name)
			}
		}
	}
	p.Close(t)
	return s
}

func (s Service) meaning() canon.Map { return canon.Table(s) }
