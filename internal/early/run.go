package early

import (
	"os"
	"strconv"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/owned"
	"app.example/trammel/internal/core/base/plain"
)

// bin is where a checkout has its commands by path.
const bin = "/.trammel/bin/"

// cache is where this process finds what was cached for it.
type cache struct {
	environ []string
	plans   string // the folder
	dir     string // where this process is
	project string // the folder of the declaration
	path    string // PATH
}

// cacheFor is the cache for the project in a folder, "" for where this process is.
func cacheFor(folder string) (c cache, ok bool) {
	c.environ = os.Environ()
	trial, _ := c.getenv("TRAMMEL_TRIAL")
	dir, err := os.Getwd()
	if err != nil || trial != "" {
		return c, false
	}
	state, ok := stateOf(c.getenv)
	if c.dir = dir; folder == "" {
		folder = dir
	}
	c.project = projectOf(folder)
	c.plans = state + "/plans"
	c.path, _ = c.getenv("PATH")
	return c, ok && c.project != ""
}

// load reads what was cached of a kind, if all that it rests on holds.
func (c cache) load(what string) (words []string, ok bool) {
	words, _, ok = cached.Load(cached.Key{What: what, Dir: c.project, Bay: "main", Path: c.path}, c.plans, c.getenv)
	return words, ok
}

// plan is a plan that a process can be started by.
func (c cache) plan(what string) (p cached.Plan, ok bool) {
	words, ok := c.load(what)
	if !ok {
		return p, false
	}
	p, ok = cached.PlanOf(words)
	return p, ok && p.Startable && !p.Asks(c.getenv)
}

// getenv is a variable of the environment.
func (c cache) getenv(name string) (value string, ok bool) {
	for _, line := range c.environ {
		if len(line) > len(name) && line[len(name)] == '=' && line[:len(name)] == name {
			value, ok = line[len(name)+1:], true // the last one counts, as for the shells
		}
	}
	return value, ok
}

// run becomes the command of `trammel run -- COMMAND` where a plan is cached, of the project in a
// folder, or of the one that this process is in. It returns where that is not so, or anything is
// not as it should be: the longer way decides then, and says what is wrong.
func run(folder string, args []string) {
	if plain.Contains(args[0], "/") || args[0] == "" {
		return
	}
	c, ok := cacheFor(folder)
	if !ok {
		return
	}
	if p, ok := c.plan(cached.OfPlan); ok {
		c.become(p, c.dir, "", args)
	}
}

// routine becomes the command of a routine that the plan alone decides.
func routine(name string, args []string) {
	if plain.HasPrefix(name, "-") || len(args) > 0 && (args[0] == "--" || args[len(args)-1] == completing) {
		return // what the command line itself reads
	}
	c, ok := cacheFor("")
	if !ok {
		return
	}
	p, ok := c.plan(cached.OfPlan)
	if !ok {
		return
	}
	if command, ok := p.Routine(name); ok {
		c.become(p, c.project, command.File, append(append([]string(nil), command.Argv...), args...))
	}
}

// completing is the last word of a shell's question for what could stand next.
const completing = "--generate-shell-completion"

// shell becomes a person's shell in the environment.
func shell() {
	c, ok := cacheFor("")
	if !ok {
		return
	}
	p, ok := c.plan(cached.OfShell)
	if !ok || len(p.Shell.Argv) == 0 {
		return
	}
	if _, err := os.Stderr.WriteString(p.Said); err == nil {
		c.become(p, c.dir, p.Shell.File, p.Shell.Argv)
	}
}

// coming prints what a shell evaluates that comes into a project. pid is the shell's.
func coming(root, pid, kind string) {
	c, ok := cacheFor(root)
	if !ok || c.project != root {
		return
	}
	// From here on changes count: the shell's stamp is made before anything is looked at.
	session := cached.Session(os.Getenv)
	stamp := session + "/" + pid
	if !cached.Own(session) || !mark(stamp, pid) {
		return
	}
	words, ok := c.load(cached.OfComing + " " + kind)
	if !ok || len(words) != 1 {
		return
	}
	if _, err := os.Stdout.WriteString(plain.ReplaceAll(words[0], cached.Stamp, stamp)); err != nil {
		os.Exit(1)
	}
	os.Exit(0)
}

// mark makes the file by whose time a shell tells what changed since, a little before now: what
// came just before it is looked at once more.
func mark(file, pid string) bool {
	if n, err := strconv.Atoi(pid); err != nil || n <= 0 {
		return false
	}
	before := time.Now().Add(-50 * time.Millisecond)
	return os.WriteFile(file, nil, 0o600) == nil && os.Chtimes(file, before, before) == nil
}

// become replaces this process by a command in a folder, or runs it in a root and ends with it. It
// returns where the command was not started.
func (c cache) become(p cached.Plan, dir, file string, args []string) {
	env := p.Environ(c.environ, dir, func(string) bool { return false }) // none is set: see Asks
	if p.Order != "" {
		sealed(p.Order, dir, file, args, env)
		return
	}
	if file == "" {
		file = onPath(env, args[0])
	}
	if file != "" && os.Chdir(dir) == nil {
		_ = syscall.Exec(file, args, env)
		_ = os.Chdir(c.dir)
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

// stateOf is where Trammel keeps a person's state, as package place says.
func stateOf(getenv func(string) (string, bool)) (string, bool) {
	if home, _ := getenv("TRAMMEL_HOME"); home != "" {
		_, own := owned.Check(home+"/state", home+"/data", home+"/cache", home+"/config")
		return home + "/state", clean(home) && own
	}
	home, _ := getenv("HOME")
	root := func(variable, below string) string {
		if dir, _ := getenv(variable); plain.HasPrefix(dir, "/") {
			return dir + "/trammel"
		}
		return home + below + "/trammel"
	}
	state := root("XDG_STATE_HOME", "/.local/state")
	_, own := owned.Check(state, root("XDG_DATA_HOME", "/.local/share"), root("XDG_CACHE_HOME", "/.cache"), root("XDG_CONFIG_HOME", "/.config"))
	return state, clean(state) && own
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
	real, err := os.Readlink("/proc/self/fd/" + strconv.Itoa(int(f.Fd())))
	if err != nil || !plain.HasPrefix(real, "/") {
		return ""
	}
	return real
}
