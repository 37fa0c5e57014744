package card

import (
	"slices"
	"strings"

	"trammel.example/trammel/internal/core/base/canon"
	"trammel.example/trammel/internal/core/base/page"
	"trammel.example/trammel/internal/core/base/version"
)

// Service is how a tool runs as a service, as flat facts: the lock keeps them as
// they are. The keys are
//
//	once             what makes the data folder @{data}, the first time
//	run              what serves
//	ready.command    and ready.log: when it can be used
//	stop.signal      and stop.within: how it ends
//	port.NAME        the port that it would like
//	publish.NAME     what @{service.SERVICE.NAME} is
//	stale            files below @{data} that a crash leaves and that keep it from starting
//	console          a client for a person, as the routine SERVICE-console
//	data.save        prints a dump of the data
//	data.load        reads one; with data.stopped = "yes" while the service does not run
//	setting.NAME     a setting's default; "(random)" is a secret that each bay makes up
type Service map[string]string

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
	put("once", p.Text(t, "once"))
	put("run", p.Text(t, "run"))
	if s["run"] == "" {
		p.Fault(t.Span, "", "a service on a card needs run")
	}
	put("stale", p.Text(t, "stale"))
	put("console", p.Text(t, "console"))
	known := []string{"ready.command", "ready.log", "ready.within", "stop.signal", "stop.within", "data.save", "data.load", "data.stopped"}
	for _, group := range []string{"ready", "stop", "data"} {
		for name, value := range p.StringMap(t, group) {
			if !slices.Contains(known, group+"."+name) {
				p.Fault(t.Get(group).Span, "", "%s of a card has no %s", group, name)
			}
			put(group+"."+name, value)
		}
	}
	for _, group := range []string{"port", "publish", "setting"} {
		for name, value := range p.StringMap(t, group) {
			s[group+"."+name] = value // a setting's default may be nothing
		}
	}
	p.Close(t)
	return s
}

func (s Service) meaning() canon.Map { return canon.Table(s) }
