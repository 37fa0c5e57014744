package declare

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/shell"
)

// OverlayName is the name of a person's own additions, kept out of version control.
const OverlayName = "trammel.local.toml"

// OverlayFile is where the additions to a project are.
func OverlayFile(dir string) string { return filepath.Join(dir, OverlayName) }

// ReadOverlay reads the additions beside a declaration; nil when there are none.
// They hold toolchains, variables and host commands, and nothing that the shared
// declaration has already: it cannot be changed from here.
func ReadOverlay(d *Declaration, files Files) (*Declaration, error) {
	if filepath.Base(d.File) != FileName {
		return nil, nil
	}
	path := OverlayFile(d.Dir)
	source, err := files.read(d.Dir, OverlayName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "%s %s", path, disk.InWords(err)).Advise("It is a regular file of text beside the declaration.")
	}
	return ParseOverlay(d, path, source)
}

// ParseOverlay reads additions from memory.
func ParseOverlay(d *Declaration, path string, source []byte) (*Declaration, error) {
	r := reader{Page: page.Parse(filepath.Base(path), source)}
	o := &Declaration{
		File: path, Dir: d.Dir, Project: d.Project, Platforms: d.Platforms, Isolation: d.Isolation, Sources: d.Sources,
	}
	if len(r.Findings) > 0 {
		return nil, r.Err()
	}
	r.Whole(r.Root, "format", Format, Format, Format)
	o.Host = r.Texts(r.Root, "host")
	r.toolchains(o)
	o.Variables = r.variables(r.Root, "")
	r.Close(r.Root)
	for _, t := range o.Toolchains {
		if shared, ok := byName(d.Toolchains, t.Name); ok {
			r.Fault(r.spanOf("toolchain", t.Name), "A trial in one shell is: trammel shell --trial "+shell.Typed(t.Name)+"="+shell.Typed(t.Ask.String()),
				"%s is declared at %s already, and additions cannot change that", t.Name, shared.Place)
		}
	}
	shared := map[string]bool{}
	for _, v := range d.Variables {
		shared[v.Name] = true
	}
	for _, v := range o.Variables {
		if v.When != nil {
			r.Fault(r.spanOf("variables", v.Name), "Write its value.", "the variable %s cannot depend on a param: additions are a person's own", v.Name)
		}
		if shared[v.Name] {
			r.Fault(r.spanOf("variables", v.Name), "Give it another name.", "%s", fmt.Sprintf("the variable %s is declared in %s already, and additions cannot change that", v.Name, FileName))
		}
	}
	// References mean what they mean in the shared declaration.
	r.references(d)
	if err := r.Err(); err != nil {
		return nil, err
	}
	o.digest = o.meaning()
	return o, nil
}

// spanOf is where an entry of a table stands.
func (r *reader) spanOf(table, name string) page.Span {
	if group := find(r.Root, table); group != nil && group.Value.Table != nil {
		if e := find(group.Value.Table, name); e != nil {
			return e.Key
		}
	}
	return page.Span{}
}
