package checkout

import (
	"path/filepath"

	"app.example/trammel/internal/core/written/declare"
)

// What a file has to do with what is in force.
const (
	Decides = "in force"     // the declaration
	Adds    = "adds"         // what the declaration includes, and the person's own additions
	Yields  = "not in force" // a nearer one is
)

// Decider is a file that decides, or would have if another were not there.
type Decider struct {
	File string `json:"file"` // absolute, or a locator
	Use  string `json:"use"`  // "in force", "adds" or "not in force"
}

// Deciders are the files that could have decided, the one that did first, then from near to far.
func (s *State) Deciders() []Decider {
	out := []Decider{{s.Written.File, Decides}}
	for _, x := range s.Written.Includes {
		out = append(out, Decider{s.FileOf(x.Name), Adds})
	}
	if s.Overlay != nil {
		out = append(out, Decider{declare.OverlayFile(s.Dir()), Adds})
	}
	own := DefaultFile(s.Places)
	if s.Written.File != own {
		for dir := s.Dir(); filepath.Dir(dir) != dir; {
			dir = filepath.Dir(dir)
			if file := filepath.Join(dir, declare.FileName); fileIsThere(nil, file) {
				out = append(out, Decider{file, Yields})
			}
		}
		if fileIsThere(nil, own) {
			out = append(out, Decider{own, Yields})
		}
	}
	return out
}

// FileOf is a file of the declaration, as its places name it, with its folder; what is no file
// of the project (a locator) is as it is.
func (s *State) FileOf(name string) string {
	if full := filepath.Join(s.Dir(), filepath.FromSlash(name)); !filepath.IsAbs(name) && fileIsThere(nil, full) {
		return full
	}
	return name
}
