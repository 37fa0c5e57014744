// Package lock is the lock: the exact outcome of resolving a declaration, its
// file, its ids and its differences.
//
// Equal locks have equal bytes: the file is written whole, sorted, one fact a
// line. A file whose digest does not fit its content is refused.
package lock

import (
	"slices"
	"strings"
	"time"
)

// FileName is the name of a lock.
const FileName = "trammel.lock"

// Format is the version of the file format that this program reads and writes.
const Format = 1

// Lock is everything that is fixed. The maps are keyed by name.
type Lock struct {
	Format      int               `toml:"format"`
	Digest      string            `toml:"digest"` // of everything else in the file
	Declaration Declaration       `toml:"declaration"`
	Sources     map[string]Source `toml:"source"`
	Items       map[string]Item   `toml:"item"`

	Roots map[string]map[string]Root `toml:"root"` // source → platform → root

	Libraries map[string]Library `toml:"library"` // sets of a language's own packages

	Evidence map[string][]string `toml:"evidence"` // step → what it left behind, in lines
	Pictures map[string][]string `toml:"pictures"` // add-on → what its list says, in lines

	Variables map[string]string `toml:"variables"` // digests of meaning
	Steps     map[string]string `toml:"steps"`     // digests of meaning
	Addons    map[string]string `toml:"addons"`    // digests of meaning
	Services  map[string]string `toml:"services"`  // digests of meaning
	Routines  map[string]string `toml:"routines"`  // digests of meaning
}

// Declaration is what was resolved.
type Declaration struct {
	Digest    string   `toml:"digest"`
	Project   string   `toml:"project"`
	Isolation string   `toml:"isolation"`
	Platforms []string `toml:"platforms"`
	Host      []string `toml:"host"`
	AsOf      string   `toml:"as-of"`    // RFC 3339: what was published later was not looked at; "" where nobody asked for that
	Includes  []string `toml:"includes"` // "NAME DIGEST" of each file that is included, and the pin of a locator
}

// Source is where items came from: its kind and where its address was written,
// never the address, since mirrors differ and digests decide.
type Source struct {
	Kind    string `toml:"kind"`
	Address string `toml:"address"` // "declaration", "user" or "machine"
	AsOf    string `toml:"as-of"`   // RFC 3339: when it was last read for this lock

	Suites []string `toml:"suites"` // debian: what was read
	Index  []string `toml:"index"`  // debian: digests of the signed releases, a suite each

	Of    string `toml:"of"`    // debian: the source that this is another state of; "" for one that is declared
	State string `toml:"state"` // debian: RFC 3339, the moment whose state of the archive this is; "" for that of then

	Released []string `toml:"released"` // debian: RFC 3339, when each of the releases was signed
	Serial   int64    `toml:"serial"`   // catalog: the number of its state, which only grows; 0 where it has none
}

// AtState is the name of a source that is the state of another one at a moment.
func AtState(source string, at time.Time) string {
	return source + "-at-" + strings.ToLower(at.UTC().Format("20060102T150405Z"))
}

// Item is one locked toolchain.
type Item struct {
	Version   string                     `toml:"version"`
	Source    string                     `toml:"source"`
	Card      string                     `toml:"card"`      // digest
	Published string                     `toml:"published"` // RFC 3339, "" where the source has no date
	Answer    string                     `toml:"answer"`    // how to ask the tool for its version
	Match     string                     `toml:"match"`     // regular expression for the answer
	Place     string                     `toml:"place"`     // how to ask the tool where it stands
	PlaceIs   string                     `toml:"place-is"`  // regular expression for the folder in what it says
	Service   map[string]string          `toml:"service"`   // how it runs as a service, as its card says
	Variables map[string]string          `toml:"variables"`
	Prefix    string                     `toml:"prefix"` // stands before the names of its commands
	Shown     map[string]string          `toml:"shown"`  // its commands that show → under what name; none: all of them
	For       string                     `toml:"for"`    // the item that it is there to build; nothing of it shows
	Platforms map[string]map[string]Part `toml:"on"`     // platform → part name → part
}

// Sorted lists the keys of a map in order.
func Sorted[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
