// Package launch is the life of this program under the name of a command of a root, as frames
// link it. In a frame, bin/NAME leads to the program where NAME is a command of a root;
// inside/NAME says by a link which file of which root it is, and in-ROOT has the commands as they
// are had inside that root. of-TOOL, inside-of-TOOL and in-of-TOOL are the same for one toolchain
// whose commands show by other names.
package launch

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/kernel/seal"
)

// Launch is the life of this program under the name of a command of a root, as a
// frame links it: it enters the root and becomes the command there, with the host's
// own folders around it. It returns when this process was not started so.
func Launch(args []string) (code int, err error, launched bool) {
	if filepath.Base(args[0]) == "trammel" {
		return 0, nil, false
	}
	started, ok := startedAs()
	if !ok {
		return 0, nil, false
	}
	folder, err := filepath.EvalSymlinks(filepath.Dir(started))
	if err != nil {
		return 0, nil, false
	}
	frame := filepath.Dir(folder)
	of := filepath.Base(folder) // the commands of one toolchain by their own names are in of-NAME
	inside := "inside"
	if strings.HasPrefix(of, "of-") {
		inside += "-" + of
	}
	target, err := os.Readlink(filepath.Join(frame, inside, filepath.Base(started)))
	rest, ours := strings.CutPrefix(target, "../roots/")
	if err != nil || !ours {
		return 0, nil, false
	}
	name, inner, _ := strings.Cut(rest, "/")
	tree, err := os.Readlink(filepath.Join(frame, "roots", name))
	if err != nil {
		return 126, err, true
	}
	dir, err := os.Getwd()
	if err != nil {
		dir = "/"
	}
	// Inside, the root's own commands are had directly.
	env := os.Environ()
	for i, line := range env {
		if path, ok := strings.CutPrefix(line, "PATH="); ok {
			folders := filepath.SplitList(path)
			for k, f := range folders {
				real, err := filepath.EvalSymlinks(f)
				switch {
				case err != nil || filepath.Dir(real) != frame:
				case real == folder && strings.HasPrefix(of, "of-"):
					folders[k] = filepath.Join(frame, "in-"+of)
				case !strings.HasPrefix(filepath.Base(real), "of-"):
					folders[k] = filepath.Join(frame, "in-"+name)
				}
			}
			// A program of the root may be a script that starts another of it, which no card
			// names as a command.
			for _, own := range []string{"/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"} {
				if !slices.Contains(folders, own) {
					folders = append(folders, own)
				}
			}
			env[i] = "PATH=" + strings.Join(folders, ":")
		}
	}
	file := "/" + inner
	code, err = seal.Run(seal.View{Root: tree, Work: "/"}, dir, file, append([]string{file}, args[1:]...), env)
	return code, err, true
}
