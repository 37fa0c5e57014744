// Package owned tells whether a folder is a person's own: whether anybody else, but for root, could put
// something into it or in its place. What Trammel keeps there it runs later, so that a folder which is
// somebody else's is theirs to run programs by.
//
// Promise: every folder on the way is looked at, links are followed, and the answer is of this moment.
// It is cheap: one lstat(2) for each folder, once for several paths. Access control lists are not looked at.
package owned

import (
	"os"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// mostLinks is how many links are followed for a path (ELOOP in path_resolution(7)).
const mostLinks = 40

// Trouble is a folder that is not the person's own, and why, in words.
type Trouble struct{ Path, Why string }

// Check looks at paths, all absolute, and at every folder on the way to them; what is not there yet is
// nobody's. ok is false where somebody else may write.
func Check(paths ...string) (t Trouble, ok bool) {
	c := checker{me: os.Getuid(), seen: make([]string, 0, 16)}
	var top syscall.Stat_t
	if syscall.Stat("/", &top) == nil {
		// In a namespace of users without a root, root's files are of whoever it shows in its place.
		c.top = int(top.Uid)
	}
	for _, path := range paths {
		if !c.walk(path) {
			return c.trouble, false
		}
	}
	return Trouble{}, true
}

type checker struct {
	me, top int
	seen    []string
	trouble Trouble
}

func (c *checker) walk(path string) bool {
	names := plain.Split(plain.TrimPrefix(path, "/"), '/')
	at := ""
	for links := 0; len(names) > 0; {
		name := names[0]
		names = names[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			at = at[:max(0, plain.LastIndexByte(at, '/'))]
			continue
		}
		next := at + "/" + name
		if c.known(next) {
			at = next
			continue
		}
		var info syscall.Stat_t
		if err := syscall.Lstat(next, &info); err != nil {
			return true // what is not there, or may not be looked at, is not used either
		}
		if owner := int(info.Uid); owner != c.me && owner != 0 && owner != c.top {
			c.trouble = Trouble{next, "belongs to user " + strconv.Itoa(owner)}
			return false
		}
		const kind, link, folder = syscall.S_IFMT, syscall.S_IFLNK, syscall.S_IFDIR
		switch info.Mode & kind {
		case link:
			target, err := os.Readlink(next)
			if links++; err != nil || links > mostLinks {
				return true
			}
			if plain.HasPrefix(target, "/") {
				at = ""
			}
			names = append(plain.Split(target, '/'), names...)
			continue
		case folder:
			if who := writers(&info); who != "" && (info.Mode&syscall.S_ISVTX == 0 || len(names) == 0) {
				c.trouble = Trouble{next, "can be written by " + who}
				return false
			}
		}
		c.seen = append(c.seen, next)
		at = next
	}
	return true
}

func (c *checker) known(path string) bool {
	for _, s := range c.seen {
		if s == path {
			return true
		}
	}
	return false
}

// writers are who else may write into a folder; "" for nobody. A group of the owner's own number is the
// owner's alone, as systems make one for each person.
func writers(info *syscall.Stat_t) string {
	switch {
	case info.Mode&0o002 != 0:
		return "everybody"
	case info.Mode&0o020 != 0 && info.Gid != 0 && info.Gid != info.Uid:
		return "group " + strconv.Itoa(int(info.Gid))
	}
	return ""
}
