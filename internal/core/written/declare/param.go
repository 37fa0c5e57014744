package declare

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/written/ref"
)

// The kinds of params.
const (
	IntegerParam = "integer"
	TextParam    = "text"
	FlagParam    = "flag"
	ChoiceParam  = "choice"
	ListParam    = "list"
)

// Param is a typed setting that the author of a declaration leaves to its users.
// Values are kept as texts: a flag is "true" or "false", a list has commas.
type Param struct {
	Name    string
	Kind    string
	About   string
	Default string
	Min     *int64   // integer
	Max     *int64   // integer
	Of      []string // choice, and what a list may hold
	Place   fault.Place
}

func (p Param) name() string { return p.Name }

// Allowed says in words which values a param may have.
func (p Param) Allowed() string {
	switch p.Kind {
	case IntegerParam:
		switch {
		case p.Min != nil && p.Max != nil:
			return fmt.Sprintf("%d to %d", *p.Min, *p.Max)
		case p.Min != nil:
			return fmt.Sprintf("%d or more", *p.Min)
		case p.Max != nil:
			return fmt.Sprintf("%d or less", *p.Max)
		}
		return "a whole number"
	case FlagParam:
		return "true or false"
	case ChoiceParam:
		return strings.Join(p.Of, ", ")
	case ListParam:
		if len(p.Of) > 0 {
			return "some of " + strings.Join(p.Of, ", ") + ", with commas"
		}
		return "words with commas"
	}
	return "any text"
}

// Check holds a value to the param's kind and bounds and gives it its one form.
func (p Param) Check(value string) (string, error) {
	wrong := fault.New(fault.ErrUsage, "%q is no value of param %s", value, p.Name).Advise("It may be: %s.", p.Allowed())
	if controls(value) {
		return "", fault.New(fault.ErrUsage, "%q is no value of param %s: it has control characters", value, p.Name).Advise("It may be: %s.", p.Allowed())
	}
	switch p.Kind {
	case IntegerParam:
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || p.Min != nil && n < *p.Min || p.Max != nil && n > *p.Max {
			return "", wrong
		}
		return strconv.FormatInt(n, 10), nil
	case FlagParam:
		if value != "true" && value != "false" {
			return "", wrong
		}
	case ChoiceParam:
		if !slices.Contains(p.Of, value) {
			return "", wrong
		}
	case ListParam:
		var words []string
		for w := range strings.SplitSeq(value, ",") {
			w = strings.TrimSpace(w)
			if w == "" {
				continue
			}
			if len(p.Of) > 0 && !slices.Contains(p.Of, w) {
				return "", wrong
			}
			words = append(words, w)
		}
		return strings.Join(words, ","), nil
	}
	return value, nil
}

// controls tells whether a text has control characters, which a person cannot see where they choose it.
func controls(text string) bool { return strings.ContainsFunc(text, unicode.IsControl) }

// Meaning is all of a param that decides what happens.
func (p Param) Meaning() canon.Map {
	m := canon.Map{"kind": p.Kind, "default": p.Default, "of": p.Of}
	if p.Min != nil {
		m["min"] = *p.Min
	}
	if p.Max != nil {
		m["max"] = *p.Max
	}
	return m
}

// Condition makes a value depend on a param: Then when the param is Is, else Else.
type Condition struct {
	Param      string
	Is         string
	Then, Else string
}

// Text is the condition as one text, which digests are taken of.
func (c *Condition) Text() string {
	return "when param." + c.Param + " is " + strconv.Quote(c.Is) + " then " + strconv.Quote(c.Then) + " else " + strconv.Quote(c.Else)
}

func (r *reader) param(name string, t *page.Table) Param {
	p := Param{Name: name, About: r.Text(t, "about"), Of: r.Texts(t, "of"), Place: r.Place(t.Span)}
	p.Kind = r.Choice(t, "kind", TextParam, IntegerParam, FlagParam, ChoiceParam, ListParam)
	bound := func(key string) *int64 {
		if t.Get(key) == nil {
			return nil
		}
		if p.Kind != IntegerParam {
			r.Fault(t.Get(key).Span, "", "%s is for params of kind integer", key)
		}
		n := r.Whole(t, key, 0, -1<<53, 1<<53)
		return &n
	}
	p.Min, p.Max = bound("min"), bound("max")
	for i, x := range p.Of {
		if v := t.Get("of"); controls(x) && i < len(v.Items) {
			r.Fault(v.Items[i].Span, "Who chooses one could not see what they choose.", "a value of param %q has control characters", name)
		}
	}
	if p.Kind == ChoiceParam && len(p.Of) == 0 {
		r.Fault(t.Span, `Write, for example: of = ["dry", "wet"]`, "param %q is a choice and has nothing to choose from", name)
		return p
	}
	v := t.Get("default")
	if v == nil {
		switch p.Kind {
		case FlagParam:
			p.Default = "false"
		case IntegerParam:
			p.Default = "0"
			if p.Min != nil {
				p.Default = strconv.FormatInt(*p.Min, 10)
			}
		case ChoiceParam:
			p.Default = p.Of[0]
		}
		return p
	}
	kinds := map[string]page.Kind{IntegerParam: page.Integer, FlagParam: page.Bool, ListParam: page.Array}
	want, ok := kinds[p.Kind]
	if !ok {
		want = page.String
	}
	if v.Kind != want {
		r.Fault(v.Span, "", "the default of param %q must be of kind %s", name, want)
		return p
	}
	p.Default = v.Text
	switch v.Kind {
	case page.Bool:
		p.Default = strconv.FormatBool(v.True)
	case page.Integer:
		p.Default = strconv.FormatInt(v.Whole, 10)
	case page.Array:
		p.Default = strings.Join(r.Texts(t, "default"), ",")
	}
	if _, err := p.Check(p.Default); err != nil {
		r.Fault(v.Span, "It may be: "+p.Allowed()+".", "the default of param %q is not one of its values", name)
	}
	return p
}

// value reads a string, or a table that makes it depend on a param.
func (r *reader) value(v *page.Value, what, service string) (string, *Condition) {
	if v.Kind == page.String {
		r.uses = append(r.uses, use{value: v, service: service, secret: true})
		return v.Text, nil
	}
	if v.Kind != page.Tab {
		r.Fault(v.Span, `Write a string, or { when = "param.NAME", then = "…", else = "…" }.`, "%s must be a string", what)
		return "", nil
	}
	t := v.Table
	c := &Condition{Then: r.Text(t, "then"), Else: r.Text(t, "else"), Is: "true"}
	for _, key := range []string{"then", "else"} {
		if x := t.Get(key); x != nil {
			r.uses = append(r.uses, use{value: x, service: service, secret: true})
		} else {
			r.Fault(v.Span, "", "%s depends on a param and does not say what it is otherwise: %s is missing", what, key)
		}
	}
	if is := t.Get("is"); is != nil {
		c.Is = r.Text(t, "is")
	}
	when := t.Get("when")
	name, ok := strings.CutPrefix(r.Text(t, "when"), "param.")
	if when == nil || !ok {
		r.Fault(v.Span, `Write, for example: when = "param.spring-run"`, "%s does not name the param that it depends on", what)
	} else {
		c.Param = name
		r.whens = append(r.whens, when)
	}
	r.Close(t)
	return "", c
}

// With is the declaration with the values of its params filled in: references to
// params are gone, conditional values are decided, and copies are counted. The digest
// stays that of what was read.
func (d *Declaration) With(values map[string]string) (*Declaration, error) {
	if len(d.Params) == 0 {
		return d, nil
	}
	all := map[string]string{}
	for _, p := range d.Params {
		value, ok := values[p.Name]
		if !ok {
			value = p.Default
		}
		checked, err := p.Check(value)
		if err != nil {
			return nil, err
		}
		all[p.Name] = checked
	}
	f := &filling{text: strings.NewReplacer(d.replacements(all)...).Replace, values: all}
	out := *d
	out.Values = all
	out.Variables = f.variables(d.Variables)
	out.Steps = nil
	for _, s := range d.Steps {
		s.Run, s.Evidence = f.run(s.Run), f.run(s.Evidence)
		out.Steps = append(out.Steps, s)
	}
	out.Services = nil
	for _, s := range d.Services {
		filled, err := f.service(s)
		if err != nil {
			return nil, err
		}
		out.Services = append(out.Services, filled)
	}
	out.Routines = nil
	for _, x := range d.Routines {
		x.Run = f.run(x.Run)
		out.Routines = append(out.Routines, x)
	}
	out.Addons = nil
	for _, x := range d.Addons {
		x.List, x.Add, x.Remove = f.run(x.List), f.run(x.Add), f.run(x.Remove)
		out.Addons = append(out.Addons, x)
	}
	return &out, f.err
}

// filling puts the values of params in the place of references to them.
type filling struct {
	text   func(string) string
	values map[string]string
	err    error // of the first value that cannot stand where it would
}

// decide is a value, or what a condition chooses in its place.
func (f *filling) decide(value string, c *Condition) string {
	switch {
	case c == nil:
		return f.text(value)
	case f.values[c.Param] == c.Is:
		return f.text(c.Then)
	}
	return f.text(c.Else)
}

func (f *filling) run(r Run) Run {
	out := Run{Script: r.Script, Shell: r.Shell}
	for _, a := range r.Argv {
		out.Argv = append(out.Argv, f.text(a))
	}
	if !strings.Contains(r.Script, "@{param.") {
		return out
	}
	var err error
	out.Script, err = ref.Script(r.Script, r.Shell, func(name string) (string, bool, error) {
		param, ok := strings.CutPrefix(name, "param.")
		value, known := f.values[param]
		return value, ok && known, nil
	})
	var code *ref.Code
	if errors.As(err, &code) {
		err = fault.New(fault.ErrUsage, "%v", code).Advise("%s", code.WayOut())
	}
	if f.err == nil {
		f.err = err
	}
	return out
}

func (f *filling) variables(list []Variable) (out []Variable) {
	for _, v := range list {
		out = append(out, Variable{Name: v.Name, Value: f.decide(v.Value, v.When)})
	}
	return out
}

func (f *filling) service(s Service) (Service, error) {
	settings := map[string]string{}
	for name, value := range s.Settings {
		settings[name] = f.text(value)
	}
	for name, c := range s.Conditions {
		settings[name] = f.decide("", &c)
	}
	s.Settings = settings
	s.Options = f.run(Run{Argv: s.Options}).Argv
	s.Run, s.Ready.Command, s.Variables = f.run(s.Run), f.run(s.Ready.Command), f.variables(s.Variables)
	if s.CopiesOf != "" {
		n, err := strconv.Atoi(f.values[s.CopiesOf])
		if err != nil || n < 1 || n > 1000 {
			return s, fault.New(fault.ErrUsage, "service %s cannot have %q copies (param %s)", s.Name, f.values[s.CopiesOf], s.CopiesOf).Advise("Give the param bounds: min = 1, max = 1000 or less.")
		}
		s.Copies = n
	}
	return s, nil
}

// replacements are pairs of a reference to a param and its value, in which no
// reference can hide.
func (d *Declaration) replacements(values map[string]string) []string {
	pairs := []string{"@@{", "@@{"} // a literal stays one
	for _, p := range d.Params {
		pairs = append(pairs, "@{param."+p.Name+"}", strings.ReplaceAll(values[p.Name], "@{", "@@{"))
	}
	return pairs
}

// Param finds a param by name.
func (d *Declaration) Param(name string) (Param, bool) { return byName(d.Params, name) }
