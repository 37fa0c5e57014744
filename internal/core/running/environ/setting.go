package environ

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/ref"
)

// SettingFile is where a bay keeps the made-up value of a service's setting.
func SettingFile(b bay.Bay, service, setting string) string {
	return filepath.Join(b.Dir, "secrets", service+"-"+setting)
}

// DataFolder is where a copy of a service keeps its data.
func DataFolder(b bay.Bay, s declare.Service, copy int) string {
	return filepath.Join(b.Dir, "data", s.CopyName(copy))
}

// setting is the value of a name that a card's texts use: its settings, and for a
// made-up one NAME-file, the file that holds it. ok is false for other names.
func (in names) setting(s declare.Service, copy int, name string) (value string, ok bool, err error) {
	switch name {
	case "data":
		return DataFolder(in.State.Bay, s, copy), true, nil
	case "project":
		return in.State.Declaration.Project, true, nil
	}
	settings := card.Service(s.Card).Group("setting")
	if base, isFile := strings.CutSuffix(name, "-file"); isFile && settings[base] == card.Random {
		if own := s.Settings[base]; strings.Contains(own, "@{secret.") {
			return "", true, fmt.Errorf("the %s of service %s is a secret, and the card wants it in a file; leave it out and one is made up", base, s.Name)
		}
		return SettingFile(in.State.Bay, s.Name, base), true, nil
	}
	value, ok = s.Settings[name]
	if !ok {
		value, ok = settings[name]
	}
	if !ok {
		return "", false, nil
	}
	if value == card.Random {
		return mark(s.Name + "." + name), true, nil
	}
	value, err = ref.Expand(value, in.lookup(s.Name, copy))
	return value, true, err
}

// SettingVariables are the variables in which the scripts of a service's card have its
// settings. Those that a bay makes up are in files.
func (p *Plan) SettingVariables(s declare.Service, copy int) ([]Variable, error) {
	var out []Variable
	in := names{p, p.PortsInside}
	for name, value := range card.Service(s.Card).Group("setting") {
		if value == card.Random {
			continue
		}
		text, _, err := in.setting(s, copy, name)
		if err != nil {
			return nil, err
		}
		out = append(out, Variable{Name: card.Variable(name), Value: text, From: "card of " + s.Tool})
	}
	slices.SortFunc(out, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// settingsInScript are lines that set the variables of a card's settings, each value quoted
// so that nothing in it means anything to a shell. One that only a process is to see has no place there.
func (p *Plan) settingsInScript(s declare.Service) (string, error) {
	list, err := p.SettingVariables(s, 1)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	if folder := p.CommandsOf(s.Tool, p.State.Declaration.Isolation); folder != "" {
		list = append(list, Variable{Name: "PATH", Value: folder})
	}
	for _, v := range list {
		if Marked(v.Value) {
			continue
		}
		// Within single quotes nothing means anything but another one (POSIX.1-2017, 2.2.2).
		quoted := "'" + strings.ReplaceAll(v.Value, "'", `'"'"'`) + "'"
		if v.Name == "PATH" { // the toolchain's own commands come first
			quoted += `:"$PATH"`
		}
		fmt.Fprintf(&out, "%s=%s\n", v.Name, quoted)
	}
	return out.String(), nil
}

// publishes is what a card's service publishes under a name.
func (in names) publishes(s declare.Service, name string) (value string, ok bool, err error) {
	text, ok := s.Card["publish."+name]
	if !ok {
		return "", false, nil
	}
	value, err = ref.Expand(text, in.lookup(s.Name, 1))
	return value, true, err
}

// MadeUp are the settings whose values a bay makes up, as secrets by SERVICE.SETTING. A
// value that the declaration states itself is kept in the same place, and is none.
func MadeUp(d *declare.Declaration, b bay.Bay) (secrets []Secret, stated map[string]string) {
	stated = map[string]string{}
	for _, s := range d.Services {
		for name, value := range card.Service(s.Card).Group("setting") {
			if value != card.Random {
				continue
			}
			file := SettingFile(b, s.Name, name)
			if own, ok := s.Settings[name]; !ok {
				secrets = append(secrets, Secret{Name: s.Name + "." + name, From: "file:" + file})
			} else if !strings.Contains(own, "@{") {
				stated[file] = own
			}
		}
	}
	slices.SortFunc(secrets, func(a, b Secret) int { return strings.Compare(a.Name, b.Name) })
	return secrets, stated
}
