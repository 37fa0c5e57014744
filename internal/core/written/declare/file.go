package declare

import (
	"slices"

	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
)

// File is a file of the project that is rendered from a template.
type File struct {
	Path     string // below the project
	Template string // file below the project, in Go's text/template
	Place    fault.Place
}

func (f File) name() string { return f.Path }

// Readers are the services and the steps that need a rendered file, as "service.NAME" and "step.NAME".
func (d *Declaration) Readers(path string) (services, steps []string) {
	for _, x := range d.Services {
		if slices.Contains(x.Needs, "file."+path) {
			services = append(services, "service."+x.Name)
		}
	}
	for _, x := range d.Steps {
		if slices.Contains(x.Needs, "file."+path) {
			steps = append(steps, "step."+x.Name)
		}
	}
	return services, steps
}

// Meaning is all of a file that decides what happens.
func (f File) Meaning() canon.Map { return canon.Map{"template": f.Template} }

// Secret is a value that is written into no log, lock, cache or report.
type Secret struct {
	Name  string
	From  string // "file:PATH", "env:NAME" or "command:SCRIPT"
	Place fault.Place
}

func (s Secret) name() string { return s.Name }

// Meaning is all of a secret that decides what happens.
func (s Secret) Meaning() canon.Map { return canon.Map{"from": s.From} }

func (r *reader) files(d *Declaration) {
	r.tables("file", func(e *page.Entry, t *page.Table) {
		f := File{Path: e.Name, Template: r.Text(t, "template"), Place: r.Place(e.Key)}
		if !filepath.IsLocal(f.Path) || f.Path == "." || filepath.Clean(f.Path) != f.Path || strings.HasPrefix(f.Path, ".trammel") || strings.HasPrefix(f.Path, ".git/") {
			r.Fault(e.Key, "Write a path below the project's folder.", "%q cannot be a file that is rendered", f.Path)
		}
		if v := t.Get("template"); v == nil || !filepath.IsLocal(f.Template) {
			r.Fault(t.Span, `Write, for example: template = "templates/board.json.tmpl"`, "the file %q has no template in the project", f.Path)
		}
		d.Files = append(d.Files, f)
	})
}

func (r *reader) secrets(d *Declaration) {
	r.tables("secret", func(e *page.Entry, t *page.Table) {
		s := Secret{Name: e.Name, From: r.Text(t, "from"), Place: r.Place(e.Key)}
		if !whole(variableName, e.Name) {
			r.Fault(e.Key, "", "%q cannot name a secret", e.Name)
		}
		kind, what, _ := strings.Cut(s.From, ":")
		if v := t.Get("from"); kind != "file" && kind != "env" && kind != "command" || strings.TrimSpace(what) == "" {
			span := t.Span
			if v != nil {
				span = v.Span
			}
			r.Fault(span, `Write "file:.secrets/weir-token", "env:WEIR_TOKEN" or "command:…".`, "secret %q does not say where it comes from", e.Name)
		}
		d.Secrets = append(d.Secrets, s)
	})
}

// tables calls read for every table below a key, whatever its name.
func (r *reader) tables(key string, read func(e *page.Entry, t *page.Table)) {
	group := r.Table(r.Root, key)
	if group == nil {
		return
	}
	for _, e := range group.Entries {
		if t := r.Table(group, e.Name); t != nil {
			read(e, t)
			r.Close(t)
		}
	}
}

// secretUse refuses secrets where they would be seen: anywhere but in variables.
func (r *reader) secretUse(u use, name string) {
	if !u.secret {
		r.Fault(u.value.Span, "Put it into a variable, and use that: scripts and arguments are seen by others and kept.", "a secret (%s) may stand in variables only", name)
	}
}
