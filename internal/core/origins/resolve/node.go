package resolve

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// nodeSet is what package-lock.json says for a platform, or what the asks resolve to.
func (r *resolver) nodeSet(ctx context.Context, x declare.Library, from *opened, p platform.Platform) (lock.Set, error) {
	var set lock.Set
	if len(x.Node.Locked) > 0 {
		for _, one := range x.Node.Locked {
			if !source.NodeRuns(one.OS, one.CPU, one.Libc, p) {
				if !one.Optional {
					return set, fault.Findings{{Place: x.Place, What: fmt.Sprintf("%s %s of package-lock.json is not for %s", one.Name, one.Version, p)}}
				}
				continue
			}
			digest, err := fetch.FromIntegrity(one.Integrity)
			if err != nil {
				return set, fault.Findings{{Place: x.Place, What: fmt.Sprintf("package-lock.json: the integrity of %s cannot be used: %v", one.Place, err)}}
			}
			set.Packages = append(set.Packages, lock.LibraryOf{Name: one.Name, Version: one.Version, Path: one.Path, Digest: digest, Place: one.Place}.String())
			if one.InstallScript {
				set.Scripts = append(set.Scripts, one.Name)
			}
		}
	} else {
		list, scripts, err := from.source.(source.NodeLibraries).NodeTree(ctx, x.Node.Wants, p, r.bound())
		if err != nil {
			return set, err
		}
		for _, one := range list {
			set.Packages = append(set.Packages, one.String())
		}
		set.Scripts = scripts
	}
	slices.Sort(set.Scripts)
	set.Scripts = slices.Compact(set.Scripts)
	for _, name := range x.Scripts {
		if !slices.Contains(set.Scripts, name) {
			return set, fault.Findings{{Place: x.Place, What: fmt.Sprintf("the script of %s is to run, and no package of that name in the set has one", name), Do: "Those that have one: " + strings.Join(set.Scripts, ", ")}}
		}
	}
	if len(x.Scripts) > 0 {
		set.Builder = "scripts " + strings.Join(slices.Sorted(slices.Values(x.Scripts)), " ")
	}
	return set, nil
}
