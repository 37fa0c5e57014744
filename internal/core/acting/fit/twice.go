package fit

import (
	"fmt"
	"os"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// What is built from source is proven once. The first machine, whose lock does not know the tree yet, builds it
// twice and compares: a build that has a date, a path or chance in it comes out differently each time, and no
// other machine could have the same. Later machines build once and compare with the lock.

// mostDiffering is how many differing files are named.
const mostDiffering = 5

// twice is a build that is done a second time, in another folder, where its tree is not known yet. varies says
// that the declaration accepts that each build is another; what names it there.
func twice(part lock.PartOn, what string, varies bool, accept string, build func(fresh string) error) func(fresh string) error {
	if part.Tree != "" || varies {
		return build
	}
	return func(fresh string) error {
		if err := build(fresh); err != nil {
			return err
		}
		again := fresh + "-twice"
		if err := disk.RemoveAll(again); err != nil { // of a process that was killed: whoever holds the part's lock owns it
			return err
		}
		if err := os.Mkdir(again, 0o700); err != nil {
			return err
		}
		defer disk.RemoveAll(again)
		if err := build(again); err != nil {
			return fmt.Errorf("building it a second time, to compare: %w", err)
		}
		first, err := tree.Scan(fresh, true)
		if err != nil {
			return err
		}
		second, err := tree.Scan(again, true)
		if err != nil {
			return err
		}
		found := tree.Compare(first, second, true)
		if len(found) == 0 {
			return nil
		}
		var names []string
		for _, d := range found[:min(len(found), mostDiffering)] {
			names = append(names, d.Path)
		}
		more := ""
		if n := len(found) - len(names); n > 0 {
			more = fmt.Sprintf(" and %d more", n)
		}
		return fault.New(fault.ErrFailed, "%s comes out differently each time it is built: %s%s", what, strings.Join(names, ", "), more).
			Advise("Something in its build has the date, a path or chance in it, so that no other machine would get the same bytes. Nothing of it was kept.\nTake another version, or accept it: %s\nThen the lock holds what the first machine built, and the others have it from a depot (trammel stock).", accept)
	}
}
