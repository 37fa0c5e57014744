package libraries

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
)

// Modules is a node_modules folder of a checkout: a folder with a link to each package of
// a set, and to each of the project's own packages. Names that start with a dot are left to
// tools for their caches.
type Modules struct {
	Checkout string            // the project's folder, absolute
	Folder   string            // from there: "node_modules", "board/node_modules"
	Links    map[string]string // "react", "@weir/tables", ".bin" → target, absolute or relative to the link
}

// marker is the file that says that a folder was made here.
const marker = ".trammel"

// ModulesOf decides what the node_modules of a set show. dir is the set's tree in the store,
// folder where it is shown in the checkout, places those of its packages, and own the
// project's own packages: place → folder, from where it is shown.
func ModulesOf(checkout, folder, dir string, places []string, own map[string]string) []Modules {
	all := slices.Clone(places)
	for place := range own {
		all = append(all, place)
	}
	var out []Modules
	for _, root := range NodeRoots(all) {
		below := path.Join(root, "node_modules")
		m := Modules{Checkout: checkout, Folder: path.Join(folder, below), Links: map[string]string{}}
		for _, place := range places {
			name, direct := strings.CutPrefix(place, below+"/")
			if direct && !strings.Contains(name, "/node_modules/") {
				m.Links[name] = filepath.Join(dir, filepath.FromSlash(place))
			}
		}
		for place, at := range own {
			if name, direct := strings.CutPrefix(place, below+"/"); direct {
				up := strings.Repeat("../", strings.Count(below+"/"+name, "/"))
				m.Links[name] = up + at
			}
		}
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(below), ".bin")); err == nil && info.IsDir() {
			m.Links[".bin"] = filepath.Join(dir, filepath.FromSlash(below), ".bin")
		}
		out = append(out, m)
	}
	return out
}

// Differs lists what a folder shows otherwise than it should: "react is missing".
func (m Modules) Differs() []string {
	var out []string
	seen := map[string]bool{}
	if root, err := os.OpenRoot(m.Checkout); err == nil {
		defer root.Close()
		_ = m.walk(root, "", func(name string, want string, known bool, _ fs.DirEntry) error {
			if !known {
				out = append(out, name+" is of no set")
				return nil
			}
			seen[name] = true
			if target, err := root.Readlink(path.Join(m.Folder, name)); err != nil || target != want {
				out = append(out, name+" is another one")
			}
			return nil
		})
	}
	for name := range m.Links {
		if !seen[name] {
			out = append(out, name+" is missing")
		}
	}
	slices.Sort(out)
	return out
}

// walk visits what lies in the folder, but for what tools keep there for themselves.
func (m Modules) walk(root *os.Root, below string, visit func(name, want string, known bool, e fs.DirEntry) error) error {
	entries, err := fs.ReadDir(root.FS(), path.Join(m.Folder, below))
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := path.Join(below, e.Name())
		want, known := m.Links[name]
		switch {
		case !known && strings.HasPrefix(e.Name(), "."):
		case !known && below == "" && e.IsDir() && strings.HasPrefix(e.Name(), "@"):
			err = m.walk(root, name, visit)
		default:
			err = visit(name, want, known, e)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Make makes the folder as it should be. One that somebody else made is left alone, with an
// error. Whatever is killed meanwhile, the next one carries on.
func (m Modules) Make() error {
	root, err := os.OpenRoot(m.Checkout)
	if err != nil {
		return err
	}
	defer root.Close()
	info, err := root.Lstat(m.Folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	default:
		if mark, err := root.Lstat(path.Join(m.Folder, marker)); !info.IsDir() || err != nil || !mark.Mode().IsRegular() {
			return fault.New(fault.ErrUsage, "%s is there, and Trammel did not make it", m.Folder).
				Advise("What is in it may be somebody's work, so it was left alone. Move it away: mv %s %s.before", shell.Typed(m.Folder), shell.Typed(m.Folder))
		}
	}
	if err := disk.WriteWithin(m.Checkout, path.Join(m.Folder, marker), []byte("What is beside this file is of the set of libraries in trammel.lock. Names with a dot are yours.\n"), 0o644); err != nil {
		return err
	}
	// What is of no set any more goes, as far as it was made here: a link.
	if err := m.walk(root, "", func(name, want string, known bool, e fs.DirEntry) error {
		full := path.Join(m.Folder, name)
		if target, err := root.Readlink(full); known && err == nil && target == want {
			return nil
		}
		if e.Type()&fs.ModeSymlink == 0 {
			return fault.New(fault.ErrUsage, "%s is there, and is of no set", full).
				Advise("Somebody put it there. Take it away, or ask for the package: trammel set SET/%s=latest", shell.Typed(name))
		}
		return root.Remove(full)
	}); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(m.Links)) {
		if err := disk.LinkWithin(m.Checkout, path.Join(m.Folder, name), m.Links[name]); err != nil {
			return err
		}
	}
	return nil
}
