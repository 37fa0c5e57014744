package approval

import (
	"bufio"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// mostFixed is how many files of one list are fixed each by itself. Where there are more, the folders
// that they lie in are.
const mostFixed = 500

// Fixed are the files and folders of the checkout that decide what runs on the host, and so what no
// program in a sealed view may write: those that consent holds to their bytes, declarations and locks,
// and repositories of git, whose settings and hooks git runs. Files that a step is said to make are none.
// within are the folders on the way to them: a folder that may be moved away makes room for another one
// of its name. All are absolute, and are there.
func (g Given) Fixed() (fixed, within []string) {
	if !g.Holds() {
		return nil, nil
	}
	s := g.state
	dir := s.Dir()
	var names []string
	for _, f := range g.list.files {
		if f.made == "" && f.digest != "" {
			names = append(names, filepath.FromSlash(f.name))
		}
	}
	if len(names) > mostFixed {
		for i, name := range names {
			if below := filepath.Dir(name); below != "." {
				names[i] = below
			}
		}
	}
	names = append(names, declare.FileName, lock.FileName, declare.OverlayName, lock.OverlayName, ".gitmodules")
	for _, x := range s.Written.Includes {
		if below, err := filepath.Rel(dir, x.File); err == nil && filepath.IsLocal(below) {
			names = append(names, below)
		}
	}
	names = append(names, repositories(dir)...)
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if name == "." || !filepath.IsLocal(name) {
			continue
		}
		// A link is what it leads to, and that is fixed under its own name or lies elsewhere.
		info, err := os.Lstat(filepath.Join(dir, name))
		if err != nil || info.Mode()&os.ModeSymlink != 0 || !info.IsDir() && !info.Mode().IsRegular() {
			continue
		}
		fixed = append(fixed, filepath.Join(dir, name))
		for up := filepath.Dir(name); up != "."; up = filepath.Dir(up) {
			if at := filepath.Join(dir, up); !slices.Contains(within, at) {
				within = append(within, at)
			}
		}
	}
	within = slices.DeleteFunc(within, func(at string) bool { return slices.Contains(fixed, at) })
	return fixed, within
}

// mostRepositories bounds how many are looked for.
const mostRepositories = 200

// repositories are the repositories of git in a checkout: its own, those of its submodules, and others that
// lie in its folders or one folder further down.
func repositories(dir string) (names []string) {
	add := func(below string) {
		name := filepath.Join(below, ".git")
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil && len(names) < mostRepositories {
			names = append(names, name)
		}
	}
	add("")
	if f, err := disk.OpenWithin(dir, ".gitmodules"); err == nil {
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			if key, value, ok := strings.Cut(lines.Text(), "="); ok && strings.TrimSpace(key) == "path" {
				if value = filepath.FromSlash(strings.Trim(strings.TrimSpace(value), `"`)); filepath.IsLocal(value) {
					add(value)
				}
			}
		}
		f.Close()
	}
	for _, one := range foldersIn(dir) {
		add(one)
		for _, two := range foldersIn(filepath.Join(dir, one)) {
			add(filepath.Join(one, two))
		}
	}
	return names
}

// foldersIn are the folders in one, but for what installers fill.
func foldersIn(dir string) (out []string) {
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) > 2000 {
		return nil
	}
	for _, e := range entries {
		if e.IsDir() && !slices.Contains([]string{".git", ".trammel", "node_modules", ".venv", "target"}, e.Name()) {
			out = append(out, e.Name())
		}
	}
	return out
}
