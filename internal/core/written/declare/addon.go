package declare

import (
	"embed"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/rlang"
	"app.example/trammel/internal/core/base/version"
)

// Addon is a set of named things that another installer manages.
type Addon struct {
	Name   string
	Kind   string   // a ready-made one, or ""
	Want   []string // items as List prints them: "tally==1.2"
	List   Run      // prints what is there, an item a line
	Add    Run      // adds @{item}
	Remove Run      // removes @{item}; may be empty
	Files  []string // globs of what it leaves, from the project's folder or from the person's home (~/): locked by their digest
	Place  fault.Place
}

func (a Addon) name() string { return a.Name }

// Meaning is all of an add-on that decides what happens.
func (a Addon) Meaning() canon.Map {
	m := canon.Map{"want": a.Want, "list": a.List.Meaning(), "add": a.Add.Meaning(), "remove": a.Remove.Meaning()}
	if len(a.Files) > 0 {
		m["files"] = a.Files
	}
	return m
}

// Satisfied tells whether what a list has is what was wanted: the item itself, the same
// without a version, or a version in the range that the kind can express.
func (a Addon) Satisfied(have, want string) bool {
	if have == want || strings.HasPrefix(have, want+"==") || strings.HasPrefix(have, want+"@") {
		return true
	}
	switch a.Kind {
	case "pip":
		q, err := python.ParseRequirement(want)
		name, v, ok := strings.Cut(have, "==")
		return err == nil && ok && q.Name == python.Normal(name) && q.Specifiers.Allow(v)
	case "npm":
		at, end := strings.LastIndexByte(want, '@'), strings.LastIndexByte(have, '@')
		return at > 0 && end > 0 && want[:at] == have[:end] && version.InRange(have[end+1:], want[at+1:])
	case "r":
		n, err := rlang.ParseNeed(want)
		name, v, ok := strings.Cut(have, "@")
		return err == nil && ok && n.Name == name && n.Allows(v)
	}
	return false
}

//go:embed addons/*.toml
var addonKinds embed.FS

// AddonKinds lists the ready-made kinds of add-ons.
func AddonKinds() []string {
	entries, _ := addonKinds.ReadDir("addons")
	var out []string
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".toml"))
	}
	return out
}

// readyMade gives an add-on the commands of its kind where it has none of its own.
func readyMade(a *Addon) {
	raw, err := addonKinds.ReadFile("addons/" + a.Kind + ".toml")
	if err != nil {
		return
	}
	p := page.Parse(a.Kind, raw)
	for key, run := range map[string]*Run{"list": &a.List, "add": &a.Add, "remove": &a.Remove} {
		if run.Empty() {
			run.Script = p.Text(p.Root, key)
		}
	}
}

func (r *reader) addon(name string, t *page.Table) Addon {
	a := Addon{Name: name, Kind: r.Text(t, "kind"), Want: r.Texts(t, "want"), Place: r.Place(t.Span)}
	if v := t.Get("kind"); v != nil && !slices.Contains(AddonKinds(), a.Kind) {
		r.Fault(v.Span, fault.DidYouMean(a.Kind, AddonKinds())+" Or write list and add yourself.", "no kind of add-on is named %q", a.Kind)
	}
	if t.Get("files") != nil {
		a.Files = r.Texts(t, "files")
		for i, glob := range a.Files {
			below, home := strings.CutPrefix(glob, "~/")
			if !home {
				below = glob
			}
			if !doublestar.ValidatePattern(below) || path.IsAbs(below) || strings.HasPrefix(path.Clean(below), "..") {
				r.Fault(t.Get("files").Items[i].Span, "Write a glob from the project's folder, or behind ~/ from the person's home.", "%q names no files of an add-on", glob)
			}
		}
	}
	before := len(r.uses)
	required := a.Kind == ""
	a.List, a.Add, a.Remove = r.run(t, "list", "", required), r.run(t, "add", "", required), r.run(t, "remove", "", false)
	for i := before; i < len(r.uses); i++ {
		r.uses[i].item = true
	}
	readyMade(&a)
	for _, w := range a.Want {
		if strings.TrimSpace(w) != w || w == "" || strings.ContainsAny(w, "\n\x00'\"`$\\") {
			r.Fault(t.Get("want").Span, "", "%q cannot be an item of an add-on", w)
		}
	}
	return a
}

// Addon finds an add-on by name.
func (d *Declaration) Addon(name string) (Addon, bool) { return byName(d.Addons, name) }
