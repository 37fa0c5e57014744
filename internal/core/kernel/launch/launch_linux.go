// Package launch is the life of this program under the name of a command of a root, as frames
// link it. In a frame, bin/NAME leads to the program where NAME is a command of a root;
// inside/NAME says by a link which file of which root it is, and in-ROOT has the commands as they
// are had inside that root. of-TOOL, inside-of-TOOL and in-of-TOOL are the same for one toolchain
// whose commands show by other names.
package launch

import (
	"os"
	"path"
	"slices"
	"strconv"
	"unsafe"

	"app.example/trammel/internal/core/base/plain"
	"app.example/trammel/internal/core/kernel/within"
)

// real is the path of a folder without links.
func real(dir string) (string, error) {
	f, err := os.Open(dir)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return os.Readlink("/proc/self/fd/" + strconv.Itoa(int(f.Fd())))
}

// Launch is the life of this program under the name of a command of a root, as a
// frame links it: it enters the root and becomes the command there, with the host's
// own folders around it. It returns when this process was not started so.
func Launch(args []string) (code int, err error, launched bool) {
	if path.Base(args[0]) == "trammel" {
		return 0, nil, false
	}
	started, ok := startedAs()
	if !ok {
		return 0, nil, false
	}
	as, folder, rest, ok := behind(started)
	if !ok && interprets(args, started) {
		started = args[0]
		as, folder, rest, ok = behind(started)
	}
	if !ok {
		return 0, nil, false
	}
	frame, of := path.Dir(folder), path.Base(folder)
	name, inner, _ := plain.Cut(rest, "/")
	tree, err := os.Readlink(path.Join(frame, "roots", name))
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
		if list, ok := plain.CutPrefix(line, "PATH="); ok {
			folders := plain.Split(list, ':')
			for k, f := range folders {
				at, err := real(f)
				switch {
				case err != nil || path.Dir(at) != frame:
				case at == folder && plain.HasPrefix(of, "of-"):
					folders[k] = path.Join(frame, "in-"+of)
				case !plain.HasPrefix(path.Base(at), "of-"):
					folders[k] = path.Join(frame, "in-"+name)
				}
			}
			// A program of the root may be a script that starts another of it, which no card
			// names as a command.
			for _, own := range []string{"/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"} {
				if !slices.Contains(folders, own) {
					folders = append(folders, own)
				}
			}
			env[i] = "PATH=" + plain.Join(folders, ":")
		}
	}
	file := "/" + inner
	argv0 := file
	if plain.HasPrefix(path.Base(inner), "python") {
		argv0 = recorded(started, as, frame)
	}
	code, err = within.Run(within.Order{View: within.View{Root: tree, Work: "/"}, Dir: dir, Path: file}, append([]string{argv0}, args[1:]...), env)
	return code, err, true
}

// mostLinks is how many links lead from what was started to a frame: those that a virtual environment makes
// of its interpreter.
const mostLinks = 8

// interprets tells whether this process is the interpreter of a script: the kernel then puts the interpreter's
// path, at most one argument and the script's path before the arguments (execve(2), Interpreter scripts).
func interprets(args []string, started string) bool {
	if !plain.HasPrefix(args[0], "/") {
		return false
	}
	for _, arg := range args[1:min(len(args), 3)] {
		if arg == started {
			return true
		}
		if dir, err := os.Getwd(); err == nil && path.Join(dir, arg) == started {
			return true
		}
	}
	return false
}

// behind follows the links of a path until it is a command of a frame: as is that path, folder its real folder
// in the frame, and file which file of which root it is, as ROOT/PATH. The commands of one toolchain by their
// own names are in of-NAME.
func behind(started string) (as, folder, file string, ok bool) {
	as = started
	for range mostLinks {
		if folder, err := real(path.Dir(as)); err == nil {
			inside := "inside"
			if of := path.Base(folder); plain.HasPrefix(of, "of-") {
				inside += "-" + of
			}
			target, err := os.Readlink(path.Join(path.Dir(folder), inside, path.Base(as)))
			if rest, ours := plain.CutPrefix(target, "../roots/"); err == nil && ours {
				return as, folder, rest, true
			}
		}
		to, err := os.Readlink(as)
		if err != nil {
			if path.Base(path.Dir(path.Dir(as))) != "programs" {
				return "", "", "", false
			}
			return above(started, path.Base(as))
		}
		if !plain.HasPrefix(to, "/") {
			to = path.Join(path.Dir(as), to)
		}
		as = to
	}
	return "", "", "", false
}

// above finds a command in the frame of the checkout that something lies in: a virtual environment that was made
// from within another one leads to a name of this program, which says no more.
func above(started, name string) (as, folder, file string, ok bool) {
	dir, err := real(path.Dir(started))
	if err != nil || name == "trammel" {
		return "", "", "", false
	}
	for ; ; dir = path.Dir(dir) {
		if frame, err := led(dir); err == nil {
			target, err := os.Readlink(path.Join(frame, "inside", name))
			rest, ours := plain.CutPrefix(target, "../roots/")
			return path.Join(frame, "bin", name), path.Join(frame, "bin"), rest, err == nil && ours
		}
		if dir == "/" {
			return "", "", "", false
		}
	}
}

// led is the frame that a checkout's own folder leads to (package frame: LeadsTo), as a real path.
func led(dir string) (string, error) {
	raw, err := os.ReadFile(dir + "/.trammel/frame/path")
	if err != nil {
		return real(dir + "/.trammel/frame") // of an earlier release
	}
	for len(raw) > 0 && raw[len(raw)-1] == '\n' {
		raw = raw[:len(raw)-1]
	}
	return real(string(raw))
}

// recorded is the path by which Python knows itself, which it writes into the virtual environments that it
// makes and goes by in them (PEP 405). In one it is that which was started. Else it is the checkout's own path
// to the frame, which stays when the lock moves, and leads here from outside too: /usr/bin/python3 would be
// the host's there.
func recorded(started, as, frame string) string {
	if as != started {
		return started
	}
	if dir := os.Getenv("TRAMMEL_DIR"); plain.HasPrefix(dir, "/") {
		local := path.Join(dir, ".trammel/frame/bin", path.Base(as))
		if at, err := led(dir); err == nil && at == frame {
			if _, err := os.Lstat(local); err == nil {
				return local
			}
		}
	}
	return as
}

// startedAs is the path by which the kernel was asked to start this process, which
// argv[0] need not be: the entry AT_EXECFN of the auxiliary vector (getauxval(3))
// is the address of it in this process's memory.
func startedAs() (string, bool) {
	const (
		word   = 8 // bytes; all platforms of this program have 64 bits
		execFn = 31
	)
	vector, err := os.ReadFile("/proc/self/auxv")
	if err != nil {
		return "", false
	}
	at := func(b []byte) uint64 { return *(*uint64)(unsafe.Pointer(unsafe.SliceData(b))) } // a word of it
	for ; len(vector) >= 2*word; vector = vector[2*word:] {
		if at(vector) != execFn {
			continue
		}
		memory, err := os.Open("/proc/self/mem")
		if err != nil {
			return "", false
		}
		defer memory.Close()
		text := make([]byte, 4096) // PATH_MAX
		n, _ := memory.ReadAt(text, int64(at(vector[word:])))
		end := slices.Index(text[:n], 0)
		if end <= 0 {
			return "", false
		}
		file := string(text[:end])
		if plain.HasPrefix(file, "/") {
			return file, true
		}
		dir, err := os.Getwd()
		return path.Join(dir, file), err == nil
	}
	return "", false
}
