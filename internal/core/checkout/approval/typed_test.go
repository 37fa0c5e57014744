package approval

import (
	"testing"

	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/lock"
)

// What somebody typed is what they named, and nothing that came with it unseen.
func TestOnlyWhatWasTypedIsTyped(t *testing.T) {
	own, _ := card.Builtin("go")
	now := &checkout.State{Lock: &lock.Lock{Items: map[string]lock.Item{
		"go": {Source: "gomod", Card: own.Digest()}, "node": {Source: "npm", Card: "sha256:of-a-catalog"}, "redis": {Source: "trixie"},
	}}}
	e := func(does string) *Effect { return &Effect{Does: does} }
	for name, c := range map[string]struct {
		change Change
		tools  []string
		want   bool
	}{
		"another version":                       {Change{Name: "toolchain go", Old: e(Fetches), New: e(Fetches)}, []string{"go"}, true},
		"a version of another tool":             {Change{Name: "toolchain node", Old: e(Fetches), New: e(Fetches)}, []string{"go"}, false},
		"other bytes under one version":         {Change{Name: "toolchain go", Old: e(Fetches), New: e(Fetches), Loud: true}, []string{"go"}, false},
		"what Trammel's own card sets":          {Change{Name: "variable GOFLAGS by the card of go", New: e(Sets)}, []string{"go"}, true},
		"what a catalog's card sets":            {Change{Name: "variable BASH_ENV by the card of node", New: e(Sets)}, []string{"node"}, false},
		"what a card set that is gone":          {Change{Name: "variable A by the card of perl", Old: e(Sets)}, []string{"perl"}, true},
		"install scripts":                       {Change{Name: "install scripts of go", New: e(Runs)}, []string{"go"}, false},
		"a variable":                            {Change{Name: "variable PATHS", New: e(Sets)}, []string{"go"}, false},
		"a step":                                {Change{Name: "step go", New: e(Runs)}, []string{"go"}, false},
		"packages of the root it comes from":    {Change{Name: "root trixie", Old: e(Fetches), New: e(Fetches)}, []string{"redis"}, true},
		"packages of a root beside it":          {Change{Name: "root trixie", Old: e(Fetches), New: e(Fetches)}, []string{"go"}, false},
		"a root that is new":                    {Change{Name: "root trixie", New: e(Fetches)}, []string{"redis"}, false},
		"a root, for a library":                 {Change{Name: "root trixie", Old: e(Fetches), New: e(Fetches)}, []string{"survey/numpy"}, false},
		"a root, for a tool that was taken out": {Change{Name: "root trixie", Old: e(Fetches), New: e(Fetches)}, []string{"perl"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			if got := typed(c.change, now, c.tools); got != c.want {
				t.Errorf("typed says %v", got)
			}
		})
	}
}
