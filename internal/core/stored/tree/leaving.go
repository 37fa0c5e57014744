package tree

import (
	"path"
	"strings"
)

// mostLinks is how many links one name may lead through, as the kernel has it
// (path_resolution(7)).
const mostLinks = 40

// Leaving finds a link of a tree that leads out of it, by however many other links: one
// by one each may look as if it stayed. Names that are not in the manifest count as plain
// folders, so that a tree does not depend on what is missing from it. ok is false when
// every link stays.
func (m Manifest) Leaving() (name string, ok bool) {
	links := map[string]string{}
	for _, e := range m {
		if e.Type == Link {
			links[e.Path] = e.Target
		}
	}
	for _, e := range m {
		if e.Type == Link && leaves(links, e.Path) {
			return e.Path, true
		}
	}
	return "", false
}

// leaves walks a name as the kernel does, a word at a time.
func leaves(links map[string]string, name string) bool {
	var at []string
	todo := strings.Split(name, "/")
	followed := 0
	for len(todo) > 0 {
		word := todo[0]
		todo = todo[1:]
		switch word {
		case "", ".":
			continue
		case "..":
			if len(at) == 0 {
				return true
			}
			at = at[:len(at)-1]
			continue
		}
		at = append(at, word)
		target, isLink := links[path.Join(at...)]
		if !isLink {
			continue
		}
		if path.IsAbs(target) {
			return true
		}
		if followed++; followed > mostLinks {
			return false // a circle: nobody gets anywhere by it
		}
		at = at[:len(at)-1]
		todo = append(strings.Split(target, "/"), todo...)
	}
	return false
}
