package declare

import (
	"errors"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/ref"
)

// plainNames can be referred to everywhere.
var plainNames = []string{"bay.dir", "bay.name", "project.dir", "project.name"}

// references checks every @{…} and every entry of needs against what is declared.
func (r *reader) references(d *Declaration) {
	for _, u := range r.uses {
		if u.value.Kind != page.String {
			continue
		}
		pieces, err := ref.Parse(u.value.Text)
		var bad *ref.Error
		if errors.As(err, &bad) {
			r.Fault(u.value.Within(bad.At, bad.Len), "A literal @{ is written @@{.", "%s", bad.What)
		}
		for _, p := range pieces {
			if p.Name == "" {
				continue
			}
			if p.Name == "item" && u.item {
				continue
			}
			if name, ok := strings.CutPrefix(p.Name, "secret."); ok {
				r.secretUse(u, name)
			}
			what, do := d.dangling(p.Name, u.service)
			if words := strings.Split(p.Name, "."); what == "" && u.service != "" && words[0] == "service" {
				what, do = d.unreached(u.service, words[1])
			}
			if what != "" {
				r.Fault(u.value.Within(p.At, p.Len), do, "%s", what)
			}
		}
	}
	for _, s := range r.scripts {
		uses, err := ref.Uses(s.value.Text, s.language)
		if err != nil { // it was said above
			continue
		}
		for _, u := range uses {
			risk := u.Risk()
			if u.Command && risk == "" {
				risk = "the name of a command"
			}
			r.valueOnly(d, s.value, u.Piece, risk, u.Command)
		}
	}
	for _, v := range r.commands {
		words := make([]string, len(v.Items))
		for i, item := range v.Items {
			words[i] = item.Text
		}
		for i, item := range v.Items {
			pieces, err := ref.Parse(item.Text)
			by := shell.Program(words, i)
			if err != nil || by == "" && i > 0 {
				continue
			}
			risk := "the name of a command"
			if i > 0 {
				risk = "a part of a program of " + by
			}
			for _, p := range pieces {
				r.valueOnly(d, item, p, risk, i == 0)
			}
		}
	}
	for _, v := range r.tools {
		if _, ok := byName(d.Toolchains, v.Text); !ok {
			r.Fault(v.Span, strings.TrimSpace(fault.DidYouMean(v.Text, Names(d.Toolchains))+" Toolchains are declared under [toolchain]."), "no toolchain is named %q", v.Text)
		}
	}
	for _, v := range r.whens {
		name := strings.TrimPrefix(v.Text, "param.")
		if _, ok := d.Param(name); !ok {
			r.Fault(v.Span, fault.DidYouMean(name, Names(d.Params)), "no param is named %q", name)
		}
	}
	known := map[string][]string{"step": Names(d.Steps), "service": Names(d.Services), "file": Names(d.Files)}
	there := map[string]bool{}
	for kind, names := range known {
		for _, name := range names {
			there[kind+"."+name] = true
		}
	}
	for _, group := range []string{"step", "service", "routine"} {
		t := r.Table(r.Root, group)
		if t == nil {
			continue
		}
		for _, e := range t.Entries {
			if e.Value.Table == nil {
				continue
			}
			if v := e.Value.Table.Get("needs"); v != nil {
				for _, item := range v.Items {
					if !there[item.Text] {
						r.noSuchNeed(known, item)
					} else if other, ok := strings.CutPrefix(item.Text, "service."); ok && group == "service" {
						if what, do := d.unreached(e.Name, other); what != "" {
							r.Fault(item.Span, do, "%s", what)
						}
					}
				}
			}
			if v := e.Value.Table.Get("after"); v != nil && group == "step" {
				for _, item := range v.Items {
					if !strings.HasPrefix(item.Text, "step.") || !there[item.Text] {
						r.Fault(item.Span, fault.DidYouMean(strings.TrimPrefix(item.Text, "step."), known["step"]), "a step comes after \"step.NAME\", and %q is none", item.Text)
					}
				}
			}
		}
	}
}

// valueOnly refuses a reference to a param where its value would be more than a value: any that somebody
// may write, and of those that are chosen among one in which a character means something.
func (r *reader) valueOnly(d *Declaration, v *page.Value, p ref.Piece, risk string, command bool) {
	name, ok := strings.CutPrefix(p.Name, "param.")
	param, known := d.Param(name)
	if !ok || !known || risk == "" {
		return
	}
	free := param.Kind == TextParam || param.Kind == ListParam && len(param.Of) == 0
	if !free && (command || !slices.ContainsFunc(param.Of, func(x string) bool { return !shell.Plain(x) })) {
		return
	}
	r.Fault(v.Within(p.At, p.Len), ref.WayOut(p.Name), "@{%s} would be %s, and who chooses the param could make it any other", p.Name, risk)
}

// noSuchNeed says what is wrong with a need that names nothing.
func (r *reader) noSuchNeed(known map[string][]string, v *page.Value) {
	kind, name, _ := strings.Cut(v.Text, ".")
	if names, ok := known[kind]; ok {
		r.Fault(v.Span, fault.DidYouMean(name, names), "no %s is named %q", kind, name)
		return
	}
	var all []string
	for _, kind := range []string{"step", "service"} {
		for _, name := range known[kind] {
			all = append(all, kind+"."+name)
		}
	}
	r.Fault(v.Span, fault.DidYouMean(v.Text, all), `%q is neither "step.NAME" nor "service.NAME"`, v.Text)
}

// dangling says what is wrong with a reference and what would be right, or
// nothing when it names something. service is the service it is written in.
func (d *Declaration) dangling(name, service string) (what, do string) {
	if slices.Contains(plainNames, name) {
		return "", ""
	}
	words := strings.Split(name, ".")
	own, inService := d.Service(service)
	switch {
	case words[0] == "secret" && len(words) == 2:
		if _, ok := byName(d.Secrets, words[1]); !ok {
			return "no secret is named \"" + words[1] + "\"", fault.DidYouMean(words[1], Names(d.Secrets))
		}
		return "", ""
	case words[0] == "param" && len(words) == 2:
		if _, ok := d.Param(words[1]); !ok {
			return "no param is named \"" + words[1] + "\"", fault.DidYouMean(words[1], Names(d.Params))
		}
		return "", ""
	case name == "copy" && inService:
		return "", ""
	case words[0] == "port" && len(words) == 2 && inService:
		return missingPort(own, words[1])
	case (name == "copy" || words[0] == "port") && !inService:
		return "@{" + name + "} has a meaning only inside a service", "Elsewhere, write for example @{service.NAME.port.http}."
	case words[0] == "service" && len(words) >= 3:
		s, ok := d.Service(words[1])
		if !ok {
			return "no service is named \"" + words[1] + "\"", fault.DidYouMean(words[1], Names(d.Services))
		}
		switch {
		case s.Tool != "": // its card is not read yet; the lock knows
			return "", ""
		case words[2] == "port" && len(words) == 4:
			return missingPort(s, words[3])
		case len(words) == 3 && words[2] == "host":
			return "", ""
		case len(words) == 3 && slices.Contains(published, words[2]):
			if len(s.Ports) == 0 {
				return "service \"" + s.Name + "\" has no port, so it has no " + words[2], "Add, for example, ports = { http = 8600 } to [service." + s.Name + "]."
			}
			return "", ""
		}
		return "a service does not publish \"" + strings.Join(words[2:], ".") + "\"", fault.DidYouMean(words[2], append([]string{"port.NAME", "host"}, published...))
	}
	return "nothing is named @{" + name + "}", fault.DidYouMean(name, append([]string{"service.NAME.url", "service.NAME.port.PORT"}, plainNames...))
}

// published are the names that every service with a port offers: the address
// (host:port) and url of its first port, and the addresses of all copies.
var published = []string{"address", "addresses", "url"}

// Offers are the names that a service publishes besides its host and ports.
func (s Service) Offers() []string {
	if len(s.Ports) == 0 {
		return nil
	}
	return published
}

func missingPort(s Service, port string) (what, do string) {
	var known []string
	for _, p := range s.Ports {
		if p.Name == port {
			return "", ""
		}
		known = append(known, p.Name)
	}
	return "service \"" + s.Name + "\" has no port named \"" + port + "\"", fault.DidYouMean(port, known)
}

// cycles reports each way in which steps and services wait for themselves, with
// the whole path.
func (r *reader) cycles(d *Declaration) {
	needs := map[string][]string{}
	places := map[string]fault.Place{}
	var order []string
	add := func(id string, n []string, at fault.Place) {
		needs[id], places[id] = n, at
		order = append(order, id)
	}
	for _, s := range d.Steps {
		add("step."+s.Name, slices.Concat(s.Needs, s.After), s.Place)
	}
	for _, s := range d.Services {
		add("service."+s.Name, s.Needs, s.Place)
	}
	const visiting, visited = 1, 2
	state := map[string]int{}
	var path []string
	var walk func(id string)
	walk = func(id string) {
		switch state[id] {
		case visited:
			return
		case visiting:
			loop := append(slices.Clone(path[slices.Index(path, id):]), id)
			f := fault.Finding{Place: places[id], What: "needs go round in a circle: " + strings.Join(loop, " → "), Do: "Take one of them out of needs."}
			r.Findings = append(r.Findings, f)
			return
		}
		state[id] = visiting
		path = append(path, id)
		for _, n := range needs[id] {
			if _, ok := needs[n]; ok {
				walk(n)
			}
		}
		path = path[:len(path)-1]
		state[id] = visited
	}
	for _, id := range order {
		walk(id)
	}
}
