package debian

import (
	_ "embed"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"
)

//go:embed base.toml
var baseSource []byte

// lists is base.toml: package names with the reason that each is there for.
type lists struct {
	Base  map[string]string `toml:"base"`
	Prune map[string]string `toml:"prune"`
}

var readLists = sync.OnceValue(func() lists {
	var l lists
	if err := toml.Unmarshal(baseSource, &l); err != nil {
		panic(err) // a test reads the embedded file
	}
	return l
})

// Base are the packages that every root holds, sorted.
func Base() []string { return slices.Sorted(maps.Keys(readLists().Base)) }

// Pruned tells whether a package is left out of roots, and why. The empty packages
// gcc-N-base hold nothing but documentation.
func Pruned(name string) (reason string, ok bool) {
	if strings.HasPrefix(name, "gcc-") && strings.HasSuffix(name, "-base") {
		return "holds documentation only", true
	}
	reason, ok = readLists().Prune[name]
	return reason, ok
}

// LeftOut are the names of the packages that are left out of roots, sorted.
func LeftOut() []string { return slices.Sorted(maps.Keys(readLists().Prune)) }
