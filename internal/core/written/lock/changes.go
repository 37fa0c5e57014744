package lock

import (
	"fmt"
	"slices"
	"strings"
)

// Changes says in words what a new lock does differently, one change a line,
// sorted by kind and name:
//
//	go 1.24.5 → 1.24.6
//	+ sluice 1.4.2
//	step modules changed
//
// What has other bytes under the same version comes first: nobody publishes a version twice
// for a good reason. old may be nil.
func Changes(old, new *Lock) []string {
	if old == nil {
		old = &Lock{}
	}
	out := otherBytes(old, new)
	for _, name := range union(old.Items, new.Items) {
		before, had := old.Items[name]
		after, has := new.Items[name]
		switch {
		case !had:
			out = append(out, "+ "+name+" "+after.Version)
		case !has:
			out = append(out, "- "+name+" "+before.Version)
		case before.Version != after.Version:
			out = append(out, fmt.Sprintf("%s %s → %s", name, before.Version, after.Version))
		case before.Source != after.Source:
			out = append(out, fmt.Sprintf("%s %s now from %s instead of %s", name, after.Version, after.Source, before.Source))
		case before.Card != after.Card:
			out = append(out, fmt.Sprintf("%s %s: its card changed", name, after.Version))
		}
	}
	out = append(out, rootChanges(old, new)...)
	out = append(out, libraryChanges(old, new)...)
	for _, p := range new.Declaration.Platforms {
		if len(old.Declaration.Platforms) > 0 && !slices.Contains(old.Declaration.Platforms, p) {
			out = append(out, "+ platform "+p)
		}
	}
	for _, p := range old.Declaration.Platforms {
		if !slices.Contains(new.Declaration.Platforms, p) {
			out = append(out, "- platform "+p)
		}
	}
	out = append(out, pinChanges(old.Declaration.Includes, new.Declaration.Includes)...)
	if b, a := old.Declaration.Isolation, new.Declaration.Isolation; b != "" && b != a {
		out = append(out, fmt.Sprintf("isolation %s → %s", b, a))
	}
	for _, name := range union(old.Evidence, new.Evidence) {
		before, had := old.Evidence[name]
		if had && !slices.Equal(before, new.Evidence[name]) && len(new.Evidence[name]) > 0 {
			out = append(out, "evidence of "+name+" changed")
		}
	}
	for _, group := range []struct {
		word     string
		old, new map[string]string
	}{
		{"variable", old.Variables, new.Variables}, {"step", old.Steps, new.Steps}, {"add-on", old.Addons, new.Addons},
		{"service", old.Services, new.Services}, {"routine", old.Routines, new.Routines},
	} {
		for _, name := range union(group.old, group.new) {
			before, had := group.old[name]
			after, has := group.new[name]
			switch {
			case !had:
				out = append(out, "+ "+group.word+" "+name)
			case !has:
				out = append(out, "- "+group.word+" "+name)
			case before != after:
				out = append(out, group.word+" "+name+" changed")
			}
		}
	}
	// Params, files and secrets are in the declaration's digest alone.
	if before := old.Declaration.Digest; len(out) == 0 && before != "" && before != new.Declaration.Digest {
		out = append(out, "the declaration changed, and no version with it")
	}
	return out
}

// otherBytes says which archives are not those that the older lock had under the same version.
func otherBytes(old, new *Lock) []string {
	var out []string
	say := func(what, version, was, is string) {
		line := fmt.Sprintf("%s %s HAS OTHER BYTES than before under the same version: %.19s… → %.19s…", what, version, was, is)
		if !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	for _, name := range union(old.Items, new.Items) {
		for _, on := range union(old.Items[name].Platforms, new.Items[name].Platforms) {
			before, after := old.Items[name].Platforms[on], new.Items[name].Platforms[on]
			for _, part := range union(before, after) {
				a, b := before[part], after[part]
				if a.Version == "" || a.Version != b.Version || a.Format == RootFormat {
					continue
				}
				what := name
				if part != name {
					what += " (" + part + ")"
				}
				if a.Digest != b.Digest {
					say(what, a.Version, string(a.Digest), string(b.Digest))
				} else if was, is, differ := otherPackages(a.Packages, b.Packages); differ {
					say(what, a.Version, was, is)
				}
			}
		}
	}
	for _, source := range union(old.Roots, new.Roots) {
		for _, on := range union(old.Roots[source], new.Roots[source]) {
			before := map[string]Package{}
			for _, p := range old.Roots[source][on].List() {
				before[p.Name] = p
			}
			for _, p := range new.Roots[source][on].List() {
				if a := before[p.Name]; a.Version == p.Version && a.SHA256 != p.SHA256 {
					say(source+": "+p.Name, p.Version, "sha256:"+a.SHA256, "sha256:"+p.SHA256)
				}
			}
		}
	}
	otherLibraryBytes(old, new, say)
	return out
}

// otherPackages finds a package of an npm tree that has the same place and path in two lists
// and other bytes.
func otherPackages(old, new []string) (was, is string, differ bool) {
	before := map[string]string{}
	for _, line := range old {
		if f := strings.Fields(line); len(f) == 3 {
			before[f[0]+" "+f[1]] = f[2]
		}
	}
	for _, line := range new {
		if f := strings.Fields(line); len(f) == 3 && before[f[0]+" "+f[1]] != "" && before[f[0]+" "+f[1]] != f[2] {
			return before[f[0]+" "+f[1]], f[2], true
		}
	}
	return "", "", false
}

func union[V any](a, b map[string]V) []string {
	all := map[string]bool{}
	for k := range a {
		all[k] = true
	}
	for k := range b {
		all[k] = true
	}
	return Sorted(all)
}

// pinChanges says which included locators have another pin.
func pinChanges(old, new []string) []string {
	pins := func(lines []string) map[string]string {
		out := map[string]string{}
		for _, line := range lines {
			if f := strings.Fields(line); len(f) == 3 {
				out[f[0]] = f[2][:min(12, len(f[2]))]
			}
		}
		return out
	}
	before, after := pins(old), pins(new)
	var out []string
	for _, name := range union(before, after) {
		switch b, a := before[name], after[name]; {
		case b == "":
			out = append(out, "+ include "+name+" at "+a)
		case a == "":
			out = append(out, "- include "+name)
		case a != b:
			out = append(out, fmt.Sprintf("include %s %s → %s", name, b, a))
		}
	}
	return out
}
