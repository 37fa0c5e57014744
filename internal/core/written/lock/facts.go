package lock

import (
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/platform"
)

// facts is the lock as canonical values. Empty values are left out, so that a
// field that a later format adds does not move the digests of older locks.
func (l *Lock) facts() canon.Map {
	sources, items := canon.Map{}, canon.Map{}
	for name, s := range l.Sources {
		sources[name] = trim(canon.Map{"kind": s.Kind, "address": s.Address, "as-of": s.AsOf, "suites": s.Suites, "index": s.Index, "released": s.Released, "serial": s.Serial, "of": s.Of, "state": s.State})
	}
	for name, i := range l.Items {
		on := canon.Map{}
		for platform, parts := range i.Platforms {
			group := canon.Map{}
			for name, p := range parts {
				group[name] = trim(canon.Map{
					"path": p.Path, "version": p.Version, "format": p.Format, "size": p.Size, "digest": string(p.Digest),
					"tree": string(p.Tree), "prefix": p.Prefix, "strip": p.Strip, "bin": p.Bin, "executable": p.Executable,
					"build": p.Build, "builder": p.Builder, "sums": p.Sums,
					"packages": p.Packages, "scripts": p.Scripts,
					"wants": p.Wants, "commands": p.Commands, "files": p.Files,
				})
			}
			on[platform] = group
		}
		items[name] = trim(canon.Map{
			"version": i.Version, "source": i.Source, "card": i.Card, "published": i.Published,
			"answer": i.Answer, "match": i.Match, "place": i.Place, "place-is": i.PlaceIs, "variables": i.Variables, "service": i.Service, "prefix": i.Prefix, "shown": i.Shown, "for": i.For, "on": on,
		})
	}
	d := l.Declaration
	return trim(canon.Map{
		"format": l.Format,
		"declaration": trim(canon.Map{
			"digest": d.Digest, "project": d.Project, "isolation": d.Isolation,
			"platforms": d.Platforms, "host": d.Host, "includes": d.Includes, "as-of": d.AsOf,
		}),
		"source": sources, "item": items, "root": l.rootFacts(), "library": l.libraryFacts(), "variables": l.Variables,
		"evidence": lists(l.Evidence), "pictures": lists(l.Pictures),
		"steps": l.Steps, "addons": l.Addons, "services": l.Services, "routines": l.Routines,
	})
}

func lists(in map[string][]string) canon.Map {
	out := canon.Map{}
	for name, lines := range in {
		out[name] = lines
	}
	return out
}

func trim(m canon.Map) canon.Map {
	for k, v := range m {
		empty := false
		switch v := v.(type) {
		case string:
			empty = v == ""
		case int:
			empty = v == 0
		case int64:
			empty = v == 0
		case bool:
			empty = !v
		case []string:
			empty = len(v) == 0
		case map[string]string:
			empty = len(v) == 0
		case canon.Map:
			empty = len(v) == 0
		}
		if empty {
			delete(m, k)
		}
	}
	return m
}

// ID is the identity of a whole lock, and EnvironmentID that of what it fixes for one
// platform: "sha256:" and 64 hex digits. One is never taken for the other, and neither for
// consent, which covers more (approval.ID).
type (
	ID            string
	EnvironmentID string
)

// ID identifies the whole lock: all platforms. Tree digests, which follow from
// the archives' own digests, and the moments of reading do not count, so that a
// first fit or a second look at a source gives no new identity.
func (l *Lock) ID() ID {
	facts := l.facts()
	dropTrees(facts)
	return ID(canon.Digest(facts))
}

// EnvironmentID identifies everything that the lock fixes for one platform.
func (l *Lock) EnvironmentID(p platform.Platform) EnvironmentID {
	facts := l.facts()
	dropTrees(facts)
	declaration, _ := facts["declaration"].(canon.Map)
	delete(declaration, "platforms")
	delete(declaration, "digest") // it changes with the list of platforms
	items, _ := facts["item"].(canon.Map)
	for _, v := range items {
		item := v.(canon.Map)
		if on, ok := item["on"].(canon.Map); ok {
			item["on"] = canon.Map{p.String(): on[p.String()]}
		}
	}
	roots, _ := facts["root"].(canon.Map)
	for name, v := range roots {
		roots[name] = canon.Map{p.String(): v.(canon.Map)[p.String()]}
	}
	libraries, _ := facts["library"].(canon.Map)
	for _, v := range libraries {
		library := v.(canon.Map)
		if on, ok := library["on"].(canon.Map); ok {
			library["on"] = canon.Map{p.String(): on[p.String()]}
		}
	}
	return EnvironmentID(canon.Digest(facts))
}

// dropTrees takes out what only a machine that fitted knows, and when sources were
// read.
func dropTrees(facts canon.Map) {
	for _, learnt := range []string{"source", "evidence", "pictures"} {
		delete(facts, learnt)
	}
	if d, ok := facts["declaration"].(canon.Map); ok {
		delete(d, "includes") // their meaning is the declaration's own
		delete(d, "as-of")    // and what it led to stands in the items
	}
	roots, _ := facts["root"].(canon.Map)
	for _, on := range roots {
		for _, r := range on.(canon.Map) {
			delete(r.(canon.Map), "tree")
		}
	}
	libraries, _ := facts["library"].(canon.Map)
	for _, v := range libraries {
		on, _ := v.(canon.Map)["on"].(canon.Map)
		for _, s := range on {
			delete(s.(canon.Map), "tree")
			delete(s.(canon.Map), "sums")
		}
	}
	items, _ := facts["item"].(canon.Map)
	for _, v := range items {
		on, _ := v.(canon.Map)["on"].(canon.Map)
		for _, group := range on {
			for _, part := range group.(canon.Map) {
				delete(part.(canon.Map), "tree")
				delete(part.(canon.Map), "sums")
			}
		}
	}
}
