// Package frame makes the folder that one environment shows of the store.
//
// A frame is a folder bin with one link for each command of the locked toolchains.
// Its name is the digest of what it shows, so a frame never changes, two projects
// with one set of tools share it, and an open shell keeps the one it was opened
// with.
//
// A command of a root cannot run on the host's system. In bin it is a link to this
// program, the launcher, which enters the root and runs it there; and for each root
// there is a folder in-NAME with the commands as they are had inside that root.
package frame

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/system"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// Command is one command that a frame shows.
type Command struct {
	Name string
	Item string // the toolchain it belongs to
	File string // absolute path in the store
	Root string // the root that it must run in, or ""
}

// Frame is what one environment shows. It need not be on disk yet.
type Frame struct {
	Dir      string // absolute
	Commands []Command
	Roots    map[string]string // root → its tree in the store
	Program  string            // this program, for the launcher; "" where there are no roots

	Plain map[string][]Command // toolchain whose commands have other names → they by their own, for what runs on it
}

// RootOf is what a frame calls the root of a source. That of a person's own additions stands beside the
// project's, whatever they share: each has packages that the other has not. No source has a dot in its name.
func RootOf(source string, own bool) string {
	if own {
		return "own." + source
	}
	return source
}

// Of is the folder of the commands of a toolchain by their own names, where they show by
// others; "" where they do not. Inside its root they are had directly.
func (f Frame) Of(item string, inside bool) string {
	switch {
	case len(f.Plain[item]) == 0:
		return ""
	case inside:
		return filepath.Join(f.Dir, "in-of-"+item)
	}
	return filepath.Join(f.Dir, "of-"+item)
}

// In is the folder of commands to put on PATH inside a root.
func (f Frame) In(root string) string { return filepath.Join(f.Dir, "in-"+root) }

// Beside is the folder of the commands that the system of a root does not have by their names in its own
// /usr/bin, below the frame. In a closed view it comes before /usr/bin on the PATH, so that the paths of all others
// are those of the system, the same for everybody and for ever.
func Beside(root string) string { return "beside-" + root }

// Bin is the folder to put on PATH.
func (f Frame) Bin() string { return filepath.Join(f.Dir, "bin") }

// Of computes the frame of parts whose trees are all known. Two items that bring
// one command are a fault that names both.
func Of(r *reading.Reader, root string, s *store.Store, parts []lock.PartOn) (Frame, error) {
	g := gathering{r: r, s: s, files: map[string]string{}, owner: map[string]string{}, in: map[string]string{}, roots: map[string]string{}}
	for _, sets := range []bool{false, true} { // sets come when the toolchains' own commands are known
		for _, p := range parts {
			var err error
			switch {
			case (p.Format == lock.SetFormat) != sets:
			case sets:
				err = g.set(p)
			default:
				err = g.part(p)
			}
			if err != nil {
				return Frame{}, err
			}
		}
	}
	f := Frame{Dir: filepath.Join(root, strings.TrimPrefix(g.digest(), "sha256:")[:32]), Roots: g.roots, Plain: g.plain}
	for _, command := range lock.Sorted(g.files) {
		f.Commands = append(f.Commands, Command{command, g.owner[command], g.files[command], g.in[command]})
	}
	return f, nil
}

// gathering are the commands of parts, as far as they were looked at: each with its file, the
// item that brings it, and the root that it runs in.
type gathering struct {
	r                *reading.Reader
	s                *store.Store
	files, owner, in map[string]string
	roots            map[string]string    // name → path of its tree
	plain            map[string][]Command // item that shows by other names → its commands by their own
}

// part adds the commands of a toolchain's part.
func (g *gathering) part(p lock.PartOn) (err error) {
	commands := p.Bin
	if p.Format == lock.RootFormat {
		g.roots[RootOf(p.Name, p.Own)] = g.s.Path(p)
	}
	if p.Format == lock.RootFormat || len(p.Commands) > 0 {
		if commands, err = commandsOf(g.r, g.s, p); err != nil {
			return err
		}
	}
	if p.Before != "" || len(p.Shown) > 0 {
		if g.plain == nil {
			g.plain = map[string][]Command{}
		}
		for _, command := range lock.Sorted(commands) {
			c := Command{Name: command, Item: p.Item, File: filepath.Join(g.s.Path(p), filepath.FromSlash(commands[command]))}
			if p.Format == lock.RootFormat {
				c.Root = RootOf(p.Name, p.Own)
			}
			g.plain[p.Item] = append(g.plain[p.Item], c)
		}
	}
	for command, file := range p.Named(commands) {
		full := filepath.Join(g.s.Path(p), filepath.FromSlash(file))
		if old, ok := g.files[command]; ok && old != full {
			return fault.New(fault.ErrUsage, "the command %s comes from both %s and %s", command, g.owner[command], p.Item).
				Advise("Take one of the two toolchains out of the declaration, or have one under names of its own:\n  %s = { …, prefix = \"%s-\" }, or commands = { %s = \"…\" }", p.Item, p.Item, command)
		} else if ok {
			continue
		}
		g.files[command], g.owner[command] = full, p.Item
		if p.Format == lock.RootFormat {
			g.in[command] = RootOf(p.Name, p.Own)
		}
	}
	return nil
}

// set adds the commands of a set of libraries. A toolchain's command stays, but for the installer
// of a language, which must know that the libraries are locked.
func (g *gathering) set(p lock.PartOn) error {
	commands, err := commandsOfSet(g.r, g.s, p)
	for command, file := range commands {
		_, taken := g.files[command]
		if taken && !(g.owner[command] == "python" && strings.HasPrefix(command, "pip")) {
			continue
		}
		g.files[command], g.owner[command] = filepath.Join(g.s.Path(p), filepath.FromSlash(file)), p.Item
		delete(g.in, command)
	}
	return err
}

// digest is of all that a frame shows.
func (g *gathering) digest() string {
	shown := canon.Digest(g.files)
	if len(g.roots) > 0 {
		shown = canon.Digest(canon.Map{"files": g.files, "roots": g.roots})
	}
	if len(g.plain) > 0 {
		facts := canon.Map{"shown": shown}
		for item, list := range g.plain {
			for _, c := range list {
				facts[item+" "+c.Name] = c.File
			}
		}
		shown = canon.Digest(facts)
	}
	return shown
}

// commandsOfSet are the commands that a set of libraries brings.
func commandsOfSet(r *reading.Reader, s *store.Store, p lock.PartOn) (map[string]string, error) {
	out := map[string]string{}
	for _, dir := range []string{"bin", "node_modules/.bin"} {
		entries, err := r.ReadDir(filepath.Join(s.Path(p), filepath.FromSlash(dir)))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, e := range entries {
			if info, err := os.Stat(filepath.Join(s.Path(p), filepath.FromSlash(dir), e.Name())); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
				out[e.Name()] = dir + "/" + e.Name()
			}
		}
	}
	return out, nil
}

// binFolders are where packages put their commands.
var binFolders = []string{"usr/bin", "usr/sbin", "usr/games"}

// commandsOf are the commands that an item has of its root: those that its card
// names, or else all that its own packages have.
func commandsOf(r *reading.Reader, s *store.Store, p lock.PartOn) (map[string]string, error) {
	out := maps.Clone(p.Bin)
	if out == nil {
		out = map[string]string{}
	}
	below := os.DirFS(s.Path(p)) // which does not change under its name
	for _, glob := range p.Commands {
		found, err := doublestar.Glob(below, glob)
		if err != nil {
			return nil, err
		}
		for _, file := range found {
			if info, err := fs.Stat(below, file); err != nil || info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
				out[filepath.Base(file)] = file
			}
		}
	}
	if len(p.Bin) > 0 || len(p.Commands) > 0 {
		return out, nil
	}
	for _, line := range p.Packages {
		q, err := lock.ParsePackage(line)
		if err != nil || !slices.Contains(p.Wants, q.Name) {
			continue
		}
		part := q.Part(p.Docs)
		part.Tree = s.Tree(part)
		if part.Tree == "" {
			continue
		}
		m, err := s.Manifest(part)
		if err != nil {
			return nil, fmt.Errorf("the list of files of %s: %w", q.Name, err)
		}
		for _, e := range m {
			if (e.Type == tree.Executable || e.Type == tree.Link) && slices.Contains(binFolders, filepath.Dir(e.Path)) {
				out[filepath.Base(e.Path)] = e.Path
			}
		}
		for _, name := range system.Alternatives(s.Path(part)) { // what the package's script would have linked
			if info, err := fs.Stat(below, name); err == nil && slices.Contains(binFolders, filepath.Dir(name)) && info.Mode().IsRegular() {
				out[filepath.Base(name)] = name
			}
		}
	}
	return out, nil
}

// links are all links of a frame: path below it → target.
func (f Frame) links() map[string]string {
	out := map[string]string{}
	for _, c := range f.Commands {
		bin := c.File
		if c.Root != "" {
			bin = f.launched(c)
			inner := strings.TrimPrefix(c.File, f.Roots[c.Root])
			out["inside/"+c.Name] = "../roots/" + c.Root + inner
			out["in-"+c.Root+"/"+c.Name] = inner
			if inner != "/usr/bin/"+c.Name {
				out[Beside(c.Root)+"/"+c.Name] = inner
			}
		}
		out["bin/"+c.Name] = bin
		for root := range f.Roots {
			if root != c.Root {
				out["in-"+root+"/"+c.Name] = bin
				out[Beside(root)+"/"+c.Name] = bin
			}
		}
	}
	for item, list := range f.Plain {
		for _, c := range list {
			if c.Root == "" {
				out["of-"+item+"/"+c.Name] = c.File
				continue
			}
			inner := strings.TrimPrefix(c.File, f.Roots[c.Root])
			out["of-"+item+"/"+c.Name] = "../launch"
			out["inside-of-"+item+"/"+c.Name] = "../roots/" + c.Root + inner
			out["in-of-"+item+"/"+c.Name] = inner
		}
	}
	for root, dir := range f.Roots {
		out["roots/"+root] = dir
	}
	if len(f.Roots) > 0 {
		out["launch"] = f.Program
	}
	return out
}

// launched is what the link of a command of a root leads to. Python follows the links of its own path to
// their end when it makes a virtual environment from within another one (PEP 405), so that the end has the
// command's name: another name of the program that launches.
func (f Frame) launched(c Command) string {
	if slices.Contains(f.Interpreters(), c.Name) {
		return filepath.Join(filepath.Dir(f.Program), c.Name)
	}
	return "../launch"
}

// Interpreters are the commands of roots that start a Python.
func (f Frame) Interpreters() (out []string) {
	for _, c := range f.Commands {
		if c.Root != "" && strings.HasPrefix(filepath.Base(c.File), "python") && strings.HasPrefix(c.Name, "python") {
			out = append(out, c.Name)
		}
	}
	return out
}

// folders are the folders of a frame.
func (f Frame) folders() []string {
	out := []string{"bin"}
	for root := range f.Roots {
		out = append(out, "in-"+root, Beside(root))
	}
	if len(f.Roots) > 0 {
		out = append(out, "inside", "roots")
	}
	for item := range f.Plain {
		out = append(out, "of-"+item, "inside-of-"+item, "in-of-"+item)
	}
	slices.Sort(out)
	return out
}

// Make puts the frame on disk: built aside and renamed, so that it is whole or
// not there. A frame that is there and right is left alone.
func (f Frame) Make() error {
	if len(f.Check()) == 0 {
		return nil
	}
	root := filepath.Dir(f.Dir)
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(root, ".new-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(fresh)
	for _, folder := range f.folders() {
		if err := os.Mkdir(filepath.Join(fresh, folder), 0o755); err != nil {
			return err
		}
	}
	for name, target := range f.links() {
		if err := os.Symlink(target, filepath.Join(fresh, name)); err != nil {
			return err
		}
	}
	if err := os.Chmod(fresh, 0o755); err != nil {
		return err
	}
	for range 3 {
		err = os.Rename(fresh, f.Dir)
		if err == nil || len(f.Check()) == 0 {
			return nil
		}
		if !errors.Is(err, fs.ErrExist) && !strings.Contains(err.Error(), "not empty") {
			return err
		}
		// Something wrong has the name: it goes aside.
		old, err := os.MkdirTemp(root, ".new-")
		if err != nil {
			return err
		}
		if err := os.Rename(f.Dir, filepath.Join(old, "old")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		disk.RemoveAll(old)
	}
	return err
}

// Difference is one command that is not what the frame should show.
type Difference struct {
	Command string
	What    string
}

// Check compares the folder with what it should show.
func (f Frame) Check() []Difference {
	var out []Difference
	wanted := f.links()
	for _, folder := range f.folders() {
		entries, err := os.ReadDir(filepath.Join(f.Dir, folder))
		if err != nil {
			return []Difference{{"", "the frame is not there"}}
		}
		for _, e := range entries {
			name := folder + "/" + e.Name()
			want, ok := wanted[name]
			target, _ := os.Readlink(filepath.Join(f.Dir, name)) // told by the folder
			switch {
			case !ok:
				out = append(out, Difference{shown(name), "extra"})
			case target != want:
				out = append(out, Difference{shown(name), "is not the locked one"})
			}
			delete(wanted, name)
		}
	}
	if target, _ := os.Readlink(filepath.Join(f.Dir, "launch")); target == f.Program {
		delete(wanted, "launch")
	}
	for _, name := range lock.Sorted(wanted) {
		out = append(out, Difference{shown(name), "missing"})
	}
	return out
}

// shown is what people call a link of a frame: the command, where it is one.
func shown(name string) string { return strings.TrimPrefix(name, "bin/") }

// Point makes what a checkout has of its frame, for editors and scripts that cannot ask: the
// folder .trammel/frame, and the folder .trammel/bin, in which each command is a link to one
// script. That has the environment decided anew each time, so that the command comes with its
// variables, and says so when it may not run or is not the locked one any more.
func (f Frame) Point(ctx context.Context, trammelDir, script string) error {
	if err := os.MkdirAll(trammelDir, 0o755); err != nil {
		return err
	}
	info, err := os.Lstat(filepath.Join(trammelDir, scriptName))
	if old, readErr := disk.ReadWithin(trammelDir, scriptName, disk.MostText); err != nil || readErr != nil || string(old) != script || info.Mode().Perm() != 0o755 {
		if err := disk.WriteWithin(trammelDir, scriptName, []byte(script), 0o755); err != nil {
			return err
		}
	}
	root, err := os.OpenRoot(trammelDir)
	if err != nil {
		return err
	}
	defer root.Close()
	if f.pointed(root) && f.led(root) {
		return nil
	}
	unlock, err := disk.Lock(ctx, filepath.Join(trammelDir, "bin.lock"))
	if err != nil {
		return err
	}
	defer unlock()
	if !f.led(root) { // unless another command did it meanwhile
		err := renew(root, leads, func(fresh string) error {
			if err := root.Mkdir(fresh+"/bin", 0o755); err != nil {
				return err
			}
			for _, name := range f.Interpreters() {
				if err := root.Symlink(filepath.Join(f.Bin(), name), fresh+"/bin/"+name); err != nil {
					return err
				}
			}
			return root.WriteFile(fresh+"/"+LeadsTo, []byte(f.Dir+"\n"), 0o644)
		})
		if err != nil {
			return err
		}
	}
	if f.pointed(root) {
		return nil
	}
	return renew(root, "bin", func(fresh string) error {
		for _, c := range f.Commands {
			if err := root.Symlink("../"+scriptName, fresh+"/"+c.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// renew puts a folder that fill makes in the place of what has a name.
func renew(root *os.Root, name string, fill func(fresh string) error) error {
	fresh, err := disk.FreshDirWithin(root, name)
	if err != nil {
		return err
	}
	defer root.RemoveAll(fresh)
	if err := fill(fresh); err != nil {
		return err
	}
	old := fresh + "-old" // a folder cannot be renamed over one that is full
	defer root.RemoveAll(old)
	if err := root.Rename(name, old); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return root.Rename(fresh, name)
}

// What a checkout has of its frame is the folder leads: the interpreters of roots by a path that stays when the lock moves,
// for virtual environments, and in the file LeadsTo the frame's own path. It is no link to the frame: programs that follow
// links, such as Perl's search of a distribution's files, would walk through whole roots.
const (
	leads   = "frame"
	LeadsTo = "path"
)

// Led is the frame's folder that a checkout's own folder leads to, "" where it leads to none.
func Led(trammelDir string) string {
	if raw, err := disk.ReadWithin(trammelDir, leads+"/"+LeadsTo, 4096); err == nil {
		return strings.TrimSpace(string(raw))
	}
	target, _ := os.Readlink(filepath.Join(trammelDir, leads)) // of an earlier release
	return target
}

// led tells whether that is as it should be.
func (f Frame) led(root *os.Root) bool {
	if info, err := root.Lstat(leads); err != nil || !info.IsDir() {
		return false
	}
	raw, err := root.ReadFile(leads + "/" + LeadsTo)
	if err != nil || string(raw) != f.Dir+"\n" {
		return false
	}
	entries, err := fs.ReadDir(root.FS(), leads+"/bin")
	names := f.Interpreters()
	if err != nil || len(entries) != len(names) {
		return false
	}
	for _, name := range names {
		if target, err := root.Readlink(leads + "/bin/" + name); err != nil || target != filepath.Join(f.Bin(), name) {
			return false
		}
	}
	return true
}

// scriptName is the file that the commands of .trammel/bin are links to.
const scriptName = "command"

// pointed tells whether .trammel/bin is as it should be.
func (f Frame) pointed(root *os.Root) bool {
	if info, err := root.Lstat("bin"); err != nil || !info.IsDir() {
		return false
	}
	entries, err := fs.ReadDir(root.FS(), "bin")
	if err != nil || len(entries) != len(f.Commands) {
		return false
	}
	names := map[string]bool{}
	for _, c := range f.Commands {
		names[c.Name] = true
	}
	for _, e := range entries {
		if target, err := root.Readlink("bin/" + e.Name()); err != nil || target != "../"+scriptName || !names[e.Name()] {
			return false
		}
	}
	return true
}

// Pointers compares what Point made in a checkout's own folder with what it should be.
func (f Frame) Pointers(trammelDir, script string) (out []Difference) {
	info, err := os.Lstat(filepath.Join(trammelDir, scriptName))
	text, readErr := disk.ReadWithin(trammelDir, scriptName, disk.MostText)
	if err != nil || readErr != nil || string(text) != script || info.Mode().Perm()&0o111 == 0 {
		out = append(out, Difference{".trammel/" + scriptName, "is not what fit wrote"})
	}
	root, err := os.OpenRoot(trammelDir)
	if err != nil {
		return append(out, Difference{".trammel", err.Error()})
	}
	defer root.Close()
	if !f.led(root) {
		out = append(out, Difference{".trammel/" + leads, "does not lead to this environment's commands"})
	}
	if !f.pointed(root) {
		out = append(out, Difference{".trammel/bin", "does not show the commands of this environment"})
	}
	return out
}

// Links are all links of the frame: path below it → target.
func (f Frame) Links() map[string]string { return f.links() }
