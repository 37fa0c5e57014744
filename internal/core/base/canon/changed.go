package canon

import (
	"fmt"
	"slices"
	"strings"
)

// Changed says in words which of the inputs of something, a digest for each, is not what it
// was, or "": files first, since those are what people change. Names are as a step's
// fingerprint has them.
func Changed(old, now map[string]string) string {
	var all []string
	for name := range now {
		if was, ok := old[name]; !ok && old != nil {
			all = append(all, name+" is new")
		} else if was != now[name] {
			all = append(all, name+" changed")
		}
	}
	for name := range old {
		if _, ok := now[name]; !ok {
			all = append(all, name+" is gone")
		}
	}
	if len(all) == 0 {
		return ""
	}
	rank := func(s string) int {
		switch {
		case strings.Contains(s, "/") || strings.Contains(s, "."):
			return 0
		case strings.HasPrefix(s, "script "), strings.HasPrefix(s, "$"):
			return 1
		case strings.HasPrefix(s, "step "):
			return 3
		}
		return 2
	}
	slices.SortFunc(all, func(a, b string) int {
		if rank(a) != rank(b) {
			return rank(a) - rank(b)
		}
		return strings.Compare(a, b)
	})
	if len(all) > 1 {
		return fmt.Sprintf("%s and %d more", all[0], len(all)-1)
	}
	return all[0]
}
