// Package lazy makes what takes time to make when it is first wanted: every start of the program
// pays for what its packages make when they are initialised, and hardly any start wants it.
package lazy

import (
	"regexp"
	"sync"
)

// Regexp is a regular expression (RE2 syntax, package regexp) that is compiled when it is first
// wanted. One that is none panics then.
func Regexp(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
