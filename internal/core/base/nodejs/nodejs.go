// Package nodejs reads what a Node.js project says of its packages: package.json and
// package-lock.json (npm documentation, "package.json", "package-lock.json", lockfile
// versions 2 and 3). It runs nothing and reaches no network.
package nodejs

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Asks are what a project asks for.
type Asks struct {
	Wants      map[string]string // package → range, of package.json and the declaration
	Peers      map[string]string // of the project itself
	Locked     []Locked          // of package-lock.json, which decides where there is one
	Workspaces bool              // it is made of several packages of its own, which only package-lock.json says the places of
	Own        map[string]string // the project's own packages: place in node_modules → folder of the project
}

// Locked is one package of a package-lock.json.
type Locked struct {
	Place         string // "node_modules/a/node_modules/b"
	Name          string
	Version       string
	Path          string // within the registry
	Integrity     string
	Optional      bool
	InstallScript bool
	OS, CPU, Libc []string
}

// Lines are the asks for a digest, sorted.
func (a *Asks) Lines() []string {
	var out []string
	for name, ranges := range a.Wants {
		out = append(out, "want "+name+" "+ranges)
	}
	for place, folder := range a.Own {
		out = append(out, "own "+place+" "+folder)
	}
	for _, l := range a.Locked {
		out = append(out, fmt.Sprintf("locked %s %s %s %s %s %v %v %v", l.Place, l.Name, l.Version, l.Path, l.Integrity, l.OS, l.CPU, l.Libc))
	}
	slices.Sort(out)
	return out
}

// words is a list of texts, or one.
type words []string

func (w *words) UnmarshalJSON(raw []byte) error {
	var one string
	if json.Unmarshal(raw, &one) == nil {
		*w = words{one}
		return nil
	}
	var many []string
	err := json.Unmarshal(raw, &many)
	*w = many
	return err
}

// AddPackage reads a package.json: what it depends on, for running and for working on it.
func (a *Asks) AddPackage(name string, raw []byte) error {
	var doc struct {
		Dependencies map[string]string `json:"dependencies"`
		Dev          map[string]string `json:"devDependencies"`
		Optional     map[string]string `json:"optionalDependencies"`
		Workspaces   any               `json:"workspaces"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		return fmt.Errorf("%s is not JSON: %w", name, err)
	}
	if a.Wants == nil {
		a.Wants = map[string]string{}
	}
	for _, table := range []map[string]string{doc.Dev, doc.Optional, doc.Dependencies} {
		for name, ranges := range table {
			a.Wants[name] = ranges
		}
	}
	a.Workspaces = a.Workspaces || doc.Workspaces != nil
	return nil
}

// AddLock reads a package-lock.json.
func (a *Asks) AddLock(name string, raw []byte) error {
	var doc struct {
		Version  int `json:"lockfileVersion"`
		Packages map[string]struct {
			Name      string `json:"name"`
			Version   string `json:"version"`
			Resolved  string `json:"resolved"`
			Integrity string `json:"integrity"`
			Link      bool   `json:"link"`
			InBundle  bool   `json:"inBundle"`
			Optional  bool   `json:"optional"`
			DevOpt    bool   `json:"devOptional"`
			Script    bool   `json:"hasInstallScript"`
			OS        words  `json:"os"`
			CPU       words  `json:"cpu"`
			Libc      words  `json:"libc"`
		} `json:"packages"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		return fmt.Errorf("%s is not JSON: %w", name, err)
	}
	if doc.Version != 2 && doc.Version != 3 {
		return fmt.Errorf("%s has the lockfileVersion %d, and this program reads 2 and 3; write it anew: npm install --package-lock-only", name, doc.Version)
	}
	a.Own = map[string]string{}
	for place, p := range doc.Packages {
		if place == "" || !strings.Contains("/"+place, "/node_modules/") {
			continue // the project itself, and its workspaces where they are
		}
		if path.Clean(place) != place || path.IsAbs(place) || strings.HasPrefix(place, "..") {
			return fmt.Errorf("%s: %q is no place for a package", name, place)
		}
		if p.Link {
			folder := path.Clean(p.Resolved)
			if path.IsAbs(folder) || strings.HasPrefix(folder, "..") || strings.Contains(folder, ":") {
				return fmt.Errorf("%s: %s is a link to %q, which is not in the project", name, place, p.Resolved)
			}
			a.Own[place] = folder
			continue
		}
		if p.InBundle {
			continue // it comes within the package that it is in
		}
		one := Locked{Place: place, Name: p.Name, Version: p.Version, Integrity: p.Integrity, Optional: p.Optional || p.DevOpt, InstallScript: p.Script, OS: p.OS, CPU: p.CPU, Libc: p.Libc}
		if one.Name == "" {
			one.Name = place[strings.LastIndex("/"+place, "/node_modules/")+len("node_modules/"):]
		}
		if p.Integrity == "" {
			return fmt.Errorf("%s: %s has no integrity, so that its bytes are not fixed", name, place)
		}
		usual := one.Name + "/-/" + path.Base(one.Name) + "-" + one.Version + ".tgz"
		one.Path = usual
		if p.Resolved != "" && !strings.HasSuffix(strings.ReplaceAll(p.Resolved, "%2f", "/"), usual) {
			i := strings.Index(p.Resolved, "/"+one.Name+"/-/")
			if i < 0 || !strings.HasPrefix(p.Resolved, "http") {
				return fmt.Errorf("%s: %s is at an address of its own (%s), and a lock takes packages of a declared source only", name, place, p.Resolved)
			}
			one.Path = p.Resolved[i+1:]
		}
		a.Locked = append(a.Locked, one)
	}
	slices.SortFunc(a.Locked, func(x, y Locked) int { return strings.Compare(x.Place, y.Place) })
	return nil
}
