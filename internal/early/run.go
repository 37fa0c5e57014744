package early

import (
	"io"
	"os"
	"syscall"

	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/plain"
)

// bin is where a checkout has its commands by path.
const bin = "/.trammel/bin/"

// run becomes the command of `trammel run -- COMMAND` where a plan is kept that is valid, of the
// project in a folder, or of the one that this folder is in. It returns where that is not so, or
// anything is not as it should be: the longer way decides then, and says what is wrong.
func run(folder string, args []string) {
	if plain.Contains(args[0], "/") || args[0] == "" {
		return
	}
	environ := os.Environ()
	p, dir, ok := planIn(folder, environ)
	if !ok {
		return
	}
	env := p.Environ(environ, dir)
	if p.Order != "" {
		sealed(p.Order, dir, "", args, env)
		return
	}
	if file := onPath(env, args[0]); file != "" {
		_ = syscall.Exec(file, args, env)
	}
}

// onPath is the file of a command in an environment whose last variable is the PATH; "" for none, and
// where others know what is meant.
func onPath(env []string, command string) string {
	_, path, _ := plain.Cut(env[len(env)-1], "=")
	for _, on := range plain.Split(path, ':') {
		if !plain.HasPrefix(on, "/") || plain.HasSuffix(on+"/", bin) {
			return ""
		}
		file := plain.TrimSuffix(on, "/") + "/" + command
		if info, err := os.Stat(file); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			return file
		}
	}
	return ""
}

// planIn is the plan that is kept of the project in a folder, or of the one that this process is
// in, if it is valid, and the folder that this process is in.
func planIn(folder string, environ []string) (p kept.Plan, dir string, ok bool) {
	getenv := variables(environ)
	trial, _ := getenv("TRAMMEL_TRIAL")
	system, _ := getenv("TRAMMEL_SYSTEM") // more policies than those that the plan goes by
	dir, err := os.Getwd()
	if err != nil || trial != "" || system != "" {
		return p, dir, false
	}
	places, ok := placesOf(getenv)
	at := dir
	if folder != "" {
		at = folder
	}
	project := projectOf(at)
	if !ok || project == "" {
		return p, dir, false
	}
	raw, err := regular(kept.In(places[2]+"/plans", project))
	if err != nil {
		return p, dir, false
	}
	p, err = kept.Read(raw)
	return p, dir, err == nil && plain.Join(p.Places, "\x00") == plain.Join(places, "\x00") && p.Declaration == project+"/trammel.toml" && p.Valid(getenv)
}

// variables are those of an environment.
func variables(environ []string) func(name string) (value string, ok bool) {
	return func(name string) (value string, ok bool) {
		for _, line := range environ {
			if len(line) > len(name) && line[len(name)] == '=' && line[:len(name)] == name {
				value, ok = line[len(name)+1:], true // the last one counts, as for the shells
			}
		}
		return value, ok
	}
}

// most is how large a kept plan may be, in bytes.
const most = 16 << 20

// regular reads a file that is one, and no device or pipe.
func regular(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() > most {
		return nil, os.ErrInvalid
	}
	raw := make([]byte, info.Size()) // it is written whole: one that grows is none
	_, err = io.ReadFull(f, raw)
	return raw, err
}

// placesOf are where Trammel keeps things, as package place says.
func placesOf(getenv func(string) (string, bool)) ([]string, bool) {
	if home, _ := getenv("TRAMMEL_HOME"); home != "" {
		return []string{home + "/data", home + "/cache", home + "/state", home + "/config"}, clean(home)
	}
	home, _ := getenv("HOME")
	var out []string
	for _, x := range [][2]string{{"XDG_DATA_HOME", ".local/share"}, {"XDG_CACHE_HOME", ".cache"}, {"XDG_STATE_HOME", ".local/state"}, {"XDG_CONFIG_HOME", ".config"}} {
		dir, _ := getenv(x[0])
		if !plain.HasPrefix(dir, "/") {
			dir = home + "/" + x[1]
		}
		if !clean(dir) {
			return nil, false
		}
		out = append(out, dir+"/trammel")
	}
	return out, true
}

// clean tells whether a path is absolute and says nothing twice.
func clean(path string) bool {
	return plain.HasPrefix(path, "/") && path != "/" && !plain.HasSuffix(path, "/") && !plain.Contains(path, "//") && !plain.Contains(path+"/", "/./") && !plain.Contains(path+"/", "/../")
}

// projectOf is the folder of the declaration that is in force in a folder, by its real path; ""
// where there is none.
func projectOf(dir string) string {
	for {
		if info, err := os.Stat(dir + "/trammel.toml"); err == nil && !info.IsDir() {
			break
		}
		at := plain.LastIndexByte(dir, '/')
		if at <= 0 {
			return ""
		}
		dir = dir[:at]
	}
	f, err := os.Open(dir)
	if err != nil {
		return ""
	}
	defer f.Close()
	real, err := os.Readlink("/proc/self/fd/" + number(f.Fd()))
	if err != nil || !plain.HasPrefix(real, "/") {
		return ""
	}
	return real
}

// number is a descriptor in decimal.
func number(fd uintptr) string {
	if fd < 10 {
		return string(rune('0' + fd))
	}
	return number(fd/10) + string(rune('0'+fd%10))
}
