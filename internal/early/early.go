// Package early plays the roles in which this program is started most often, before its
// libraries are initialised: the init of a process tree, what enters a root, and what needs nothing
// but a plan that is cached: a command, a routine, a shell, the text for one that comes into a project.
//
// Packages are initialised in the order of their import paths, each once those that it imports
// are (Go specification, "Package initialization"). This module's path comes before those of
// all libraries, and what this package imports is of the standard library alone and nothing of it
// that is initialised late, so that its init is among the first. A role that is played there ends
// the process; a start that is none of them goes on to main. A test holds what came before.
package early

import (
	"os"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/base/release"
)

func init() {
	if len(os.Args) == 0 {
		return
	}
	inside(os.Args)
	if base(os.Args[0]) != "trammel" {
		return
	}
	switch {
	case len(os.Args) == 2 && os.Args[1] == "--version":
		_, _ = os.Stdout.WriteString("trammel version " + release.Version + "\n")
		os.Exit(0)
	case len(os.Args) > 3 && os.Args[1] == "run" && os.Args[2] == "--":
		run("", os.Args[3:])
	case len(os.Args) > 2 && os.Args[1] == "do":
		routine(os.Args[2], os.Args[3:])
	case len(os.Args) == 2 && os.Args[1] == "shell":
		shell()
	case len(os.Args) == 7 && os.Args[1] == "follow" && os.Args[2] == "--enter" && os.Args[4] == "--of":
		coming(os.Args[3], os.Args[5], os.Args[6])
	case len(os.Args) > 2 && os.Args[1] == "--command":
		if folder, name, ok := plain.Cut(os.Args[2], bin); ok && plain.HasPrefix(folder, "/") {
			run(folder, append([]string{name}, os.Args[3:]...))
		}
	}
}

// base is the last word of a path.
func base(path string) string { return path[plain.LastIndexByte(path, '/')+1:] }
