package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"
	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/acting/publish"
	"app.example/trammel/internal/core/stored/frame"
)

// expect is who must tell of a change, and by what name.
type expect struct {
	row   string   // of verify
	thing string   // what the row must name
	how   string   // what was done, for people
	also  []string // rows that may tell of it too
	more  []string // arguments of verify, where the short way does not promise to see it

	act   func(f *fitted) (said string, err error) // the command that relies on the thing, instead of verify
	whole func(f *fitted) error                    // what must hold after it, besides verify
}

// change changes one random thing of the machine.
type change struct {
	name string
	do   func(f *fitted, r *rand.Rand) (expect, error)
}

// changes are all of them, each as likely as any other.
var changes = []change{
	{"a file of a tool", inPart("files", func(label string) bool { return !strings.Contains(label, " ") }, anyFile)},
	{"a file of a root", inPart("files", func(label string) bool { return strings.HasPrefix(label, "root ") }, anyFile, "your own tools", "libraries", "versions")},
	{"a file of a library", inPart("files", func(label string) bool { return strings.HasPrefix(label, "libraries ") }, anyFile)},
	{"a file of one's own tool", ownPart},
	{"a folder of a part", inPart("files", func(label string) bool { return !strings.HasPrefix(label, "root ") }, anyFolder)},
	{"a link of a root", inPart("files", func(label string) bool { return strings.HasPrefix(label, "root ") }, anyLink, "your own tools", "versions")},
	{"a manifest", manifest},
	{"a whole part", wholePart},
	{"a piece that parts are made of", component},
	{"a command of the frame", frameLink},
	{"the frame", wholeFrame},
	{"the program that launches", launcher},
	{"what leads to the commands", pointer},
	{"a host command", hostLink},
	{"what node_modules shows", modulesLink},
	{"a language's home", languageHome},
	{"a rendered file", renderedFile},
	{"a template", func(f *fitted, r *rand.Rand) (expect, error) { // which consent binds
		return expect{row: "rendered files", thing: "lanes.conf", also: append([]string{"steps", "services"}, consented...)}, f.append("lanes.tmpl", fmt.Sprintf("# %d\n", r.IntN(1e6)))
	}},
	{"a rendered file and its record", func(f *fitted, r *rand.Rand) (expect, error) {
		to, err := filepath.EvalSymlinks(filepath.Join(f.dir, "lanes.conf"))
		if err != nil {
			return expect{}, err
		}
		text := []byte(fmt.Sprintf("lanes = %d\n", 4+r.IntN(1e6)))
		if err := os.WriteFile(to, text, 0o644); err != nil {
			return expect{}, err
		}
		record := filepath.Join(f.bay, "files.json")
		raw, err := os.ReadFile(record)
		if err != nil {
			return expect{}, err
		}
		var made map[string]map[string]string
		if err := json.Unmarshal(raw, &made); err != nil {
			return expect{}, err
		}
		sum := blake3.Sum256(text)
		made["lanes.conf"]["output"] = hex.EncodeToString(sum[:])
		if raw, err = json.Marshal(made); err != nil {
			return expect{}, err
		}
		return expect{row: "rendered files", thing: "lanes.conf", also: []string{"services"}}, os.WriteFile(record, raw, 0o600)
	}},
	{"what a step reads", func(f *fitted, r *rand.Rand) (expect, error) {
		name := pick(r, "in/count", fmt.Sprintf("in/day-%d", r.IntN(1e6)))
		return expect{row: "steps", thing: "load"}, f.append(name, fmt.Sprintf("redgill %d\n", r.IntN(1e6)))
	}},
	{"what a step made", func(f *fitted, r *rand.Rand) (expect, error) {
		if r.IntN(2) == 0 {
			return expect{row: "steps", thing: "load", also: []string{"evidence"}}, os.Remove(filepath.Join(f.dir, "out/load"))
		}
		return expect{row: "evidence", thing: "redgill", also: []string{"steps"}}, f.append("out/load", fmt.Sprintf("redgill %d\n", r.IntN(1e6)))
	}},
	{"the mark of a step", stepMark},
	{"an add-on", addon},
	{"the declaration", declarationText},
	{"the lock", lockText},
	{"consent", consent},
	{"chosen params", params},
	{"the number of a port", portNumber},
	{"the process of a service", serviceProcess},
	{"the supervisor", supervisor},
	{"who listens", listener},
	{"a file that runs", replacedWhileRunning},
	{"a signed report", signedReport},
	{"a forged report", forgedReport},
	{"the state of a catalog", catalogState},
	{"a depot", depotBlob},
	{"a layer of an image", imageLayer},
}

// consented are the rows that need consent to be asked.
var consented = []string{"versions", "your own tools", "evidence", "add-ons"}

func pick[T any](r *rand.Rand, list ...T) T { return list[r.IntN(len(list))] }

func (f *fitted) append(name, text string) error {
	path := filepath.Join(f.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer file.Close()
	_, err = file.WriteString(text)
	return err
}

// below lists what is below a folder, of one type.
func below(root string, is func(fs.DirEntry) bool) (out []string) {
	_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && path != root && is(d) {
			out = append(out, path)
		}
		return nil
	})
	return out
}

func regular(d fs.DirEntry) bool { return d.Type().IsRegular() }
func link(d fs.DirEntry) bool    { return d.Type()&fs.ModeSymlink != 0 }

// unlocked lets a folder be written, and says how it was.
func unlocked(dir string, do func() error) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	defer os.Chmod(dir, info.Mode().Perm())
	return do()
}

// spoil changes a file as r says: its bytes, its length, its mode, or that it is there at all. With apart no
// other name of the same file changes with it. It says how.
func spoil(path string, r *rand.Rand, apart bool) (string, error) {
	was, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	mode := was.Mode().Perm()
	anew := func(content []byte) error {
		return unlocked(filepath.Dir(path), func() error {
			if err := os.Remove(path); err != nil {
				return err
			}
			if err := os.WriteFile(path, content, 0o644); err != nil {
				return err
			}
			return os.Chmod(path, mode)
		})
	}
	write := func(content []byte) error {
		if apart {
			return anew(content)
		}
		if err := os.Chmod(path, 0o644); err != nil {
			return err
		}
		err := os.WriteFile(path, content, 0o644)
		if errors.Is(err, syscall.ETXTBSY) { // it runs
			err = anew(content)
		}
		return errors.Join(err, os.Chmod(path, mode))
	}
	ways := []string{"longer", "gone", "a link"}
	if len(raw) > 0 {
		ways = append(ways, "shorter", "one byte, with its size and time of before")
	}
	if !apart { // a mode is of all names
		ways = append(ways, "its mode")
	}
	how := pick(r, ways...)
	switch how {
	case "longer":
		err = write(append(raw, 'x'))
	case "gone":
		err = unlocked(filepath.Dir(path), func() error { return os.Remove(path) })
	case "a link":
		err = unlocked(filepath.Dir(path), func() error { return errors.Join(os.Remove(path), os.Symlink("/bin/true", path)) })
	case "shorter":
		err = write(raw[:r.IntN(len(raw))])
	case "its mode":
		err = os.Chmod(path, mode^0o111)
	default:
		other := bytes.Clone(raw)
		other[r.IntN(len(other))] ^= byte(1 + r.IntN(255))
		err = errors.Join(write(other), os.Chtimes(path, was.ModTime(), was.ModTime()))
	}
	return how, err
}

// anyFile spoils a file of a part.
func anyFile(root string, r *rand.Rand) (string, string, error) {
	path := pick(r, below(root, regular)...)
	how, err := spoil(path, r, false)
	return path, how, err
}

// anyFolder puts something into a folder of a part, or takes a folder away.
func anyFolder(root string, r *rand.Rand) (path, how string, err error) {
	folders := append(below(root, fs.DirEntry.IsDir), root)
	dir := pick(r, folders...)
	extra := filepath.Join(dir, "zz-extra")
	switch r.IntN(3) {
	case 0:
		return extra, "", unlocked(dir, func() error { return os.WriteFile(extra, []byte("x"), 0o644) })
	case 1:
		return extra, "", unlocked(dir, func() error { return os.Symlink("/etc", extra) })
	}
	if dir == root {
		return extra, "", unlocked(dir, func() error { return os.Mkdir(extra, 0o755) })
	}
	return dir, "", unlocked(filepath.Dir(dir), func() error { removeAll(dir); return nil })
}

// anyLink changes where a link leads.
func anyLink(root string, r *rand.Rand) (at, how string, err error) {
	path := pick(r, below(root, link)...)
	return path, "", unlocked(filepath.Dir(path), func() error {
		if err := os.Remove(path); err != nil {
			return err
		}
		if r.IntN(2) == 0 {
			return os.Symlink("nowhere", path)
		}
		return os.WriteFile(path, []byte("no link\n"), 0o755)
	})
}

// partsWhere are the folders of the project's parts.
func (f *fitted) partsWhere(is func(label string) bool) (dirs []string, err error) {
	p, err := f.verify()
	if err != nil {
		return nil, err
	}
	for _, x := range p.Parts {
		found, _ := filepath.Glob(filepath.Join(f.store(), strings.TrimPrefix(x.Tree, "blake3:")[:32]+"-*"))
		for _, dir := range found {
			if info, err := os.Stat(dir); err == nil && info.IsDir() && is(x.Label) {
				dirs = append(dirs, dir)
			}
		}
	}
	if len(dirs) == 0 {
		return nil, fmt.Errorf("no part is to be changed: %s", p.said)
	}
	return dirs, nil
}

func inPart(row string, is func(label string) bool, how func(root string, r *rand.Rand) (path, how string, err error), also ...string) func(f *fitted, r *rand.Rand) (expect, error) {
	return func(f *fitted, r *rand.Rand) (expect, error) {
		dirs, err := f.partsWhere(is)
		if err != nil {
			return expect{}, err
		}
		root := pick(r, dirs...)
		path, said, err := how(root, r)
		rel, _ := filepath.Rel(root, path)
		return expect{row: row, thing: rel, how: said, also: append(also, "versions", "commands", "libraries", "services")}, err
	}
}

// ownPart spoils a file that only the root of one's own tool has.
func ownPart(f *fitted, r *rand.Rand) (expect, error) {
	found, _ := filepath.Glob(filepath.Join(f.store(), "*/usr/share/probe/is"))
	for _, path := range found {
		root := strings.TrimSuffix(path, "/usr/share/probe/is")
		if _, err := os.Stat(filepath.Join(root, "usr/bin/bash")); err != nil {
			continue // the package alone
		}
		path := filepath.Join(root, pick(r, "usr/share/probe/is", "usr/bin/probe", "usr/share/doc/probe/README"))
		if _, err := os.Lstat(path); err != nil {
			path = filepath.Join(root, "usr/bin/probe")
		}
		rel, _ := filepath.Rel(root, path)
		how, err := spoil(path, r, false)
		return expect{row: "your own tools", thing: rel, how: how, also: []string{"commands"}}, err
	}
	return expect{}, fmt.Errorf("no root of one's own among %v", found)
}

// manifest spoils the record of a part.
func manifest(f *fitted, r *rand.Rand) (expect, error) {
	dirs, err := f.partsWhere(func(string) bool { return true })
	if err != nil {
		return expect{}, err
	}
	dir := pick(r, dirs...)
	if r.IntN(3) == 0 {
		return expect{row: "files", thing: "manifest", also: []string{"commands", "libraries", "versions", "your own tools"}}, os.Remove(dir + ".manifest")
	}
	return expect{row: "files", thing: "manifest", also: []string{"commands", "libraries", "versions"}}, spoilText(dir+".manifest", r)
}

// spoilText changes one byte of a text.
func spoilText(path string, r *rand.Rand) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	raw[r.IntN(len(raw))] ^= 1
	return os.WriteFile(path, raw, 0o644)
}

// wholePart takes a part away, or puts another in its place.
func wholePart(f *fitted, r *rand.Rand) (expect, error) {
	dirs, err := f.partsWhere(func(string) bool { return true })
	if err != nil {
		return expect{}, err
	}
	dir := pick(r, dirs...)
	also := []string{"commands", "versions", "variables", "steps", "services", "libraries", "rendered files", "evidence", "add-ons", "your own tools"}
	name := filepath.Base(dir)[33:] // behind the digest
	if i := strings.LastIndexByte(name, '-'); i > 0 {
		name, _, _ = strings.Cut(name, "-")
	}
	if r.IntN(2) == 0 {
		return expect{row: "files", thing: name, also: also}, f.remove(dir)
	}
	if err := f.remove(dir); err != nil {
		return expect{}, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "bin"), 0o755); err != nil {
		return expect{}, err
	}
	return expect{row: "files", thing: name, also: also}, os.WriteFile(filepath.Join(dir, "bin/evil"), []byte("x"), 0o755)
}

// component spoils a package that roots and sets are made of, and takes away what was made of it: what
// relies on it is the next fit.
func component(f *fitted, r *rand.Rand) (expect, error) {
	dirs, err := f.partsWhere(func(string) bool { return true })
	if err != nil {
		return expect{}, err
	}
	mine := map[string]bool{}
	for _, d := range dirs {
		mine[d] = true
	}
	all, _ := filepath.Glob(filepath.Join(f.store(), "*"))
	var pieces []string
	for _, dir := range all {
		if info, err := os.Stat(dir); err == nil && info.IsDir() && !strings.HasPrefix(filepath.Base(dir), ".") && !mine[dir] && len(below(dir, regular)) > 0 {
			if _, err := os.Stat(filepath.Join(dir, "usr/bin/bash")); err == nil && len(below(filepath.Join(dir, "usr/bin"), regular)) > 3 {
				continue // one's own root
			}
			pieces = append(pieces, dir)
		}
	}
	piece := pick(r, pieces...)
	path := pick(r, below(piece, regular)...)
	how, err := spoil(path, r, true)
	if err != nil {
		return expect{}, err
	}
	for _, dir := range dirs {
		if err := f.remove(dir); err != nil {
			return expect{}, err
		}
	}
	return expect{how: path + ": " + how, act: func(f *fitted) (string, error) { o, err := f.try("fit"); return o.said, err }}, nil
}

// frameDir is the folder that shows the commands.
func (f *fitted) frameDir() (string, error) {
	if dir := frame.Led(filepath.Join(f.dir, ".trammel")); dir != "" {
		return dir, nil
	}
	return "", errors.New("the checkout leads to no frame")
}

func frameLink(f *fitted, r *rand.Rand) (expect, error) {
	dir, err := f.frameDir()
	if err != nil {
		return expect{}, err
	}
	path := pick(r, below(dir, link)...)
	thing := filepath.Base(path)
	also := []string{"versions", "your own tools", "libraries", "files"}
	switch r.IntN(4) {
	case 0:
		extra := filepath.Join(filepath.Dir(path), "zz-extra")
		if filepath.Dir(path) == dir { // what lies beside the folders shows nothing
			extra = filepath.Join(dir, "bin/zz-extra")
		}
		return expect{row: "commands", thing: "zz-extra", also: also}, os.Symlink("/bin/true", extra)
	case 1:
		return expect{row: "commands", thing: thing, also: also}, os.Remove(path)
	}
	if err := os.Remove(path); err != nil {
		return expect{}, err
	}
	if r.IntN(2) == 0 {
		return expect{row: "commands", thing: thing, also: also}, os.WriteFile(path, []byte("#!/bin/sh\necho evil\n"), 0o755)
	}
	return expect{row: "commands", thing: thing, also: also}, os.Symlink("/bin/true", path)
}

func wholeFrame(f *fitted, r *rand.Rand) (expect, error) {
	dir, err := f.frameDir()
	if err != nil {
		return expect{}, err
	}
	if folders := below(dir, fs.DirEntry.IsDir); r.IntN(2) == 0 {
		dir = pick(r, folders...)
	}
	removeAll(dir)
	return expect{row: "commands", thing: "not there", also: []string{"versions", "your own tools", "libraries"}}, nil
}

func launcher(f *fitted, r *rand.Rand) (expect, error) {
	found, _ := filepath.Glob(filepath.Join(f.home(), "data/programs/*/trammel"))
	e := expect{row: "commands", thing: "program that starts commands of roots", also: []string{"versions", "your own tools"}}
	path := pick(r, found...)
	if r.IntN(3) == 0 {
		return e, os.Remove(path)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return e, err
	}
	raw[r.IntN(len(raw))] ^= 1
	if err := os.Remove(path); err != nil { // it may run
		return e, err
	}
	return e, os.WriteFile(path, raw, 0o755)
}

func pointer(f *fitted, r *rand.Rand) (expect, error) {
	local := filepath.Join(f.dir, ".trammel")
	switch r.IntN(4) {
	case 0:
		path := filepath.Join(local, "frame")
		if r.IntN(2) == 0 {
			return expect{row: "commands", thing: ".trammel/frame"}, os.WriteFile(filepath.Join(path, frame.LeadsTo), []byte("/usr\n"), 0o644)
		}
		removeAll(path)
		return expect{row: "commands", thing: ".trammel/frame"}, os.Symlink("/usr", path)
	case 1:
		return expect{row: "commands", thing: ".trammel/command"}, spoilText(filepath.Join(local, "command"), r)
	case 2:
		path := pick(r, below(filepath.Join(local, "bin"), link)...)
		_ = os.Remove(path)
		return expect{row: "commands", thing: ".trammel/bin"}, os.Symlink("/bin/true", path)
	}
	return expect{row: "commands", thing: ".trammel/bin"}, os.WriteFile(filepath.Join(local, "bin/zz-extra"), nil, 0o755)
}

func hostLink(f *fitted, r *rand.Rand) (expect, error) {
	found, _ := filepath.Glob(filepath.Join(f.home(), "data/host/*"))
	found = slices.DeleteFunc(found, func(name string) bool { info, err := os.Stat(name); return err != nil || !info.IsDir() })
	if len(found) != 1 {
		return expect{}, fmt.Errorf("folders of host commands: %v", found)
	}
	links := below(found[0], link)
	path := pick(r, links...)
	if r.IntN(3) == 0 {
		return expect{row: "commands", thing: "zz-extra"}, os.Symlink("/bin/true", filepath.Join(found[0], "zz-extra"))
	}
	if err := os.Remove(path); err != nil {
		return expect{}, err
	}
	e := expect{row: "commands", thing: filepath.Base(path), also: []string{"versions", "add-ons", "evidence", "your own tools", "libraries"}}
	if r.IntN(2) == 0 {
		return e, nil
	}
	return e, os.Symlink("/bin/false", path)
}

func modulesLink(f *fitted, r *rand.Rand) (expect, error) {
	dir := filepath.Join(f.dir, "node_modules")
	name := pick(r, "charts", "tables")
	switch r.IntN(4) {
	case 0:
		return expect{row: "libraries", thing: "node_modules/evil"}, os.Symlink("/etc", filepath.Join(dir, "evil"))
	case 1:
		return expect{row: "libraries", thing: "node_modules/evil"}, os.MkdirAll(filepath.Join(dir, "evil"), 0o755)
	case 2:
		return expect{row: "libraries", thing: "node_modules/" + name}, os.Remove(filepath.Join(dir, name))
	}
	if err := os.Remove(filepath.Join(dir, name)); err != nil {
		return expect{}, err
	}
	return expect{row: "libraries", thing: "node_modules/" + name}, os.Symlink("/etc", filepath.Join(dir, name))
}

// languageHome puts a library where an interpreter finds it besides the set. The add-on says itself what it
// runs, so that its declaration is out of the way only where no language has an installer of its own.
func languageHome(f *fitted, r *rand.Rand) (expect, error) {
	set, err := f.partsWhere(func(label string) bool { return strings.HasPrefix(label, "libraries ") })
	if err != nil {
		return expect{}, err
	}
	root := pick(r, set...)
	extra := filepath.Join(root, "usercustomize.py")
	return expect{row: "files", thing: "usercustomize.py"}, unlocked(root, func() error { return os.WriteFile(extra, []byte("evil\n"), 0o644) })
}

func renderedFile(f *fitted, r *rand.Rand) (expect, error) {
	path := filepath.Join(f.dir, "lanes.conf")
	to, err := filepath.EvalSymlinks(path)
	if err != nil {
		return expect{}, err
	}
	e := expect{row: "rendered files", thing: "lanes.conf", also: append([]string{"steps", "services"}, consented...)}
	switch r.IntN(4) {
	case 0:
		return e, os.Remove(path)
	case 1:
		return e, os.Remove(to)
	case 2:
		_ = os.Remove(path)
		return e, os.Symlink("/etc/hostname", path)
	}
	_ = os.Chmod(to, 0o644)
	return e, os.WriteFile(to, []byte(fmt.Sprintf("lanes = %d\n", 4+r.IntN(1e6))), 0o644)
}

func stepMark(f *fitted, r *rand.Rand) (expect, error) {
	found := append(below(filepath.Join(filepath.Dir(f.bay), ".checkout"), regular), below(filepath.Join(f.bay, "steps"), regular)...)
	found = slices.DeleteFunc(found, func(name string) bool { return filepath.Ext(name) != ".json" })
	if len(found) == 0 {
		return expect{}, fmt.Errorf("no mark of a step")
	}
	path := pick(r, found...)
	e := expect{row: "steps", thing: "load", also: []string{"evidence"}}
	if r.IntN(2) == 0 {
		return e, os.Remove(path)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return e, err
	}
	return e, os.WriteFile(path, raw[:r.IntN(len(raw))], 0o644)
}

func addon(f *fitted, r *rand.Rand) (expect, error) {
	path := filepath.Join(f.dir, "../addons.txt")
	e := expect{row: "add-ons", thing: "charts"}
	switch r.IntN(3) {
	case 0:
		return e, f.append("../addons.txt", fmt.Sprintf("evil %d\n", r.IntN(1e6)))
	case 1:
		return e, os.WriteFile(path, []byte("bars 1.0\n"), 0o644)
	}
	return e, os.Remove(path)
}

func declarationText(f *fitted, r *rand.Rand) (expect, error) {
	raw, err := os.ReadFile(filepath.Join(f.dir, "trammel.toml"))
	if err != nil {
		return expect{}, err
	}
	text := string(raw)
	e := expect{row: "lock", thing: "declaration changed", also: []string{"variables", "versions", "evidence", "add-ons", "your own tools", "services", "steps", "rendered files", "commands"}}
	season := text[strings.Index(text, "SEASON ="):]
	season, _, _ = strings.Cut(season, "\n")
	return e, f.put("trammel.toml", strings.Replace(text, season, fmt.Sprintf("SEASON = \"summer-%d\"", r.IntN(1e6)), 1))
}

// lockText changes a character of the lock, or takes a line out.
func lockText(f *fitted, r *rand.Rand) (expect, error) {
	path := filepath.Join(f.dir, "trammel.lock")
	raw, err := os.ReadFile(path)
	if err != nil {
		return expect{}, err
	}
	before := bytes.Clone(raw)
	lines := bytes.Split(raw, []byte("\n"))
	var solid []int // lines that say something
	for i, line := range lines {
		if len(line) > 0 && line[0] != '#' && line[0] != '[' && bytes.Contains(line, []byte(" = ")) {
			solid = append(solid, i)
		}
	}
	i := pick(r, solid...)
	if r.IntN(2) == 0 {
		lines = slices.Delete(lines, i, i+1)
	} else {
		line := bytes.Clone(lines[i])
		at := bytes.IndexByte(line, '=') + 2
		at += r.IntN(len(line) - at)
		line[at] ^= 1
		lines[i] = line
	}
	if err := os.WriteFile(path, bytes.Join(lines, []byte("\n")), 0o644); err != nil {
		return expect{}, err
	}
	return expect{act: func(f *fitted) (string, error) {
		cmd, out := f.command("verify")
		err := cmd.Run()
		if err == nil {
			return out.String(), fmt.Errorf("it holds with another lock")
		}
		if !strings.Contains(out.String(), "lock") {
			return out.String(), fmt.Errorf("nobody speaks of the lock")
		}
		// The lock is in version control; what it was comes back from there.
		return out.String(), os.WriteFile(path, before, 0o644)
	}}, nil
}

func consent(f *fitted, r *rand.Rand) (expect, error) {
	found := below(filepath.Join(f.home(), "state/approvals"), regular)
	if len(found) == 0 {
		return expect{}, fmt.Errorf("no consent is recorded")
	}
	for _, path := range found {
		if r.IntN(2) == 0 {
			if err := os.Remove(path); err != nil {
				return expect{}, err
			}
			continue
		}
		if err := spoilMiddle(path, r); err != nil {
			return expect{}, err
		}
	}
	return expect{row: "versions", thing: "approve", also: []string{"your own tools", "evidence", "add-ons", "variables"}}, nil
}

// spoilMiddle cuts a record at a random place.
func spoilMiddle(path string, r *rand.Rand) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, raw[:r.IntN(max(1, len(raw)-2))], 0o600)
}

func params(f *fitted, r *rand.Rand) (expect, error) {
	path := filepath.Join(f.bay, "params.json")
	text := fmt.Sprintf(`{"lanes": "%d"}`, 4+r.IntN(1e6))
	return expect{row: "rendered files", thing: "lanes.conf", also: []string{"services", "steps"}}, os.WriteFile(path, []byte(text), 0o600)
}

func portNumber(f *fitted, r *rand.Rand) (expect, error) {
	path := filepath.Join(f.bay, "ports.json")
	raw, err := os.ReadFile(path)
	if err != nil {
		return expect{}, err
	}
	now, err := f.portOf("ledger.1/main")
	if err != nil {
		return expect{}, err
	}
	text := strings.Replace(string(raw), now, strconv.Itoa(20000+r.IntN(4000)), 1)
	return expect{row: "services", thing: "ledger", also: []string{"variables", "steps", "rendered files"}}, os.WriteFile(path, []byte(text), 0o600)
}

// pidOf is the process of a service.
func (f *fitted) pidOf(name string) (int, error) {
	cmd, out := f.command("show", "--json")
	if err := cmd.Run(); err != nil {
		return 0, fmt.Errorf("%w\n%s", err, out)
	}
	var shown struct {
		Services []struct {
			Name string `json:"name"`
			Pid  int    `json:"pid"`
		} `json:"services"`
	}
	if err := json.Unmarshal(out.Bytes(), &shown); err != nil {
		return 0, err
	}
	for _, s := range shown.Services {
		if s.Name == name && s.Pid > 0 {
			return s.Pid, nil
		}
	}
	return 0, fmt.Errorf("%s does not run:\n%s", name, out)
}

func serviceProcess(f *fitted, r *rand.Rand) (expect, error) {
	pid, err := f.pidOf(pick(r, "ledger", "lane"))
	if err != nil {
		return expect{}, err
	}
	// Its supervisor starts none anew that does not say so: it is failed, and no service that runs.
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		return expect{}, err
	}
	return expect{act: func(f *fitted) (string, error) {
		var said string
		err := eventually(func() error {
			o, err := f.try("show")
			said = o.said
			if err == nil && !strings.Contains(o.said, "failed") {
				err = fmt.Errorf("show does not say that a service failed:\n%s", o.said)
			}
			return err
		})
		if err != nil {
			return said, err
		}
		return said, f.must([]string{"start"})
	}}, nil
}

func supervisor(f *fitted, r *rand.Rand) (expect, error) {
	list := f.supervisors()
	if len(list) == 0 {
		return expect{}, fmt.Errorf("no supervisor runs")
	}
	pid := list[0]
	if r.IntN(2) == 0 {
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			return expect{}, err
		}
		return expect{act: func(f *fitted) (string, error) {
			p, err := f.verify()
			if err == nil {
				for _, x := range p.Checks {
					if x.Row == "services" && x.Text != "none runs" && x.State == "ok" {
						err = fmt.Errorf("services that are gone run: %s", x.Text)
					}
				}
			}
			if err != nil {
				return p.said, err
			}
			return p.said, f.must([]string{"start"})
		}}, nil
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		return expect{}, err
	}
	return expect{act: func(f *fitted) (string, error) {
		p, err := f.verify()
		if text := p.told("services"); err == nil && (!strings.Contains(text, "not checked") || !strings.Contains(text, strconv.Itoa(pid))) {
			err = fmt.Errorf("verify does not say that the supervisor %d is silent: %s", pid, text)
		}
		_ = syscall.Kill(pid, syscall.SIGCONT)
		return p.said, err
	}}, nil
}

// listener takes a place beside a service on its port, as another program of the same person can where the
// service lets it (SO_REUSEPORT in socket(7)).
func listener(f *fitted, _ *rand.Rand) (expect, error) {
	port, err := f.portOf("lane.1/http")
	if err != nil {
		return expect{}, err
	}
	self, err := os.Executable()
	if err != nil {
		return expect{}, err
	}
	cmd := exec.Command(self, serveWord, "-", port)
	cmd.Env = append(slices.Clone(f.env), "PATH="+os.Getenv("PATH"))
	out, err := cmd.StdoutPipe()
	if err != nil {
		return expect{}, err
	}
	if err := cmd.Start(); err != nil {
		return expect{}, err
	}
	ready := make([]byte, 1)
	if _, err := out.Read(ready); err != nil {
		return expect{}, fmt.Errorf("nothing listens beside the service: %w", err)
	}
	return expect{act: func(f *fitted) (string, error) {
		defer cmd.Wait()
		defer cmd.Process.Kill()
		p, err := f.verify()
		if text := p.told("services"); err == nil && !(strings.Contains(text, "lane") && (strings.Contains(text, port) || strings.Contains(text, "failing"))) {
			err = fmt.Errorf("verify does not say who listens on %s: %s", port, p.said)
		}
		return p.said, err
	}, whole: func(f *fitted) error { return f.must([]string{"start"}) }}, nil
}

func (f *fitted) portOf(key string) (string, error) {
	raw, err := os.ReadFile(filepath.Join(f.bay, "ports.json"))
	if err != nil {
		return "", err
	}
	var ports map[string]int
	if err := json.Unmarshal(raw, &ports); err != nil {
		return "", fmt.Errorf("%w: %s", err, raw)
	}
	for k, n := range ports {
		if k == key {
			return strconv.Itoa(n), nil
		}
	}
	return "", fmt.Errorf("no port %s in %s", key, raw)
}

// replacedWhileRunning has the program of a running service replaced by what fit takes for the same: what
// runs is none of the store any more.
func replacedWhileRunning(f *fitted, r *rand.Rand) (expect, error) {
	pid, err := f.pidOf("ledger")
	if err != nil {
		return expect{}, err
	}
	exe, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil || !strings.HasPrefix(exe, f.store()) {
		return expect{}, fmt.Errorf("the ledger runs %s, %v", exe, err)
	}
	raw, err := os.ReadFile(exe)
	if err != nil {
		return expect{}, err
	}
	err = unlocked(filepath.Dir(exe), func() error {
		if err := os.Remove(exe); err != nil {
			return err
		}
		return os.WriteFile(exe, raw, 0o555)
	})
	return expect{row: "services", thing: "was replaced since it started", also: []string{"files"}}, err
}

// signedReport changes a report, or what signs it.
func signedReport(f *fitted, r *rand.Rand) (expect, error) {
	if err := f.reported(); err != nil {
		return expect{}, err
	}
	name := pick(r, "hut-laptop", "lab-desk")
	path := filepath.Join(f.dir, "reports", name+".json")
	at := pick(r, path, path+".sig")
	before, err := os.ReadFile(at)
	if err != nil {
		return expect{}, err
	}
	if r.IntN(4) == 0 && at == path+".sig" {
		err = os.Remove(at)
	} else if at == path {
		err = spoilText(at, r)
	} else { // the body of the signature
		lines := strings.Split(string(before), "\n")
		i := 1 + r.IntN(len(lines)-4) // the last one ends in bits that count for nothing
		line := []byte(lines[i])
		k := r.IntN(len(line))
		line[k] = pick(r, []byte("ABCDEFGH")...)
		if lines[i] == string(line) {
			line[k] = 'z'
		}
		lines[i] = string(line)
		err = os.WriteFile(at, []byte(strings.Join(lines, "\n")), 0o644)
	}
	return expect{act: func(f *fitted) (string, error) {
		defer os.WriteFile(at, before, 0o644)
		return f.compared(name)
	}}, err
}

// compared has the reports compared, which must not be well, and must name one.
func (f *fitted) compared(name string) (string, error) {
	o, err := f.try("compare", "reports", "--signers", "../allowed")
	if err == nil && (o.code == 0 || !strings.Contains(o.said, name)) {
		err = o.wrong("does not name " + name)
	}
	return o.said, err
}

// reported has the machines report on the lock as it is now.
func (f *fitted) reported() error {
	for _, name := range []string{"hut-laptop", "lab-desk"} {
		if err := f.must([]string{"verify", "--report", filepath.Join("reports", name+".json"), "--machine", name, "--sign", filepath.Join(f.root, "key-"+name)}); err != nil {
			return err
		}
	}
	return f.must([]string{"compare", "reports", "--signers", "../allowed"})
}

// forgedReport adds a report in the name of a machine, signed by another or by none.
func forgedReport(f *fitted, r *rand.Rand) (expect, error) {
	if err := f.reported(); err != nil {
		return expect{}, err
	}
	name := pick(r, "hut-laptop", "lab-desk")
	file := filepath.Join(f.dir, "reports", fmt.Sprintf("a%d.json", r.IntN(1e6)))
	args := []string{"verify", "--report", file, "--machine", name}
	if r.IntN(2) == 0 {
		args = append(args, "--sign", filepath.Join(f.root, "key-stranger"))
	}
	if err := f.must(args); err != nil {
		return expect{}, err
	}
	return expect{act: func(f *fitted) (string, error) {
		defer os.Remove(file)
		defer os.Remove(file + ".sig")
		return f.compared(filepath.Base(file))
	}}, nil
}

// elsewhere is the same checkout on a machine that has nothing yet.
func (f *fitted) elsewhere() (other *fitted, end func(), err error) {
	root, err := os.MkdirTemp(f.root, "else-")
	if err != nil {
		return nil, nil, err
	}
	w := *f.world
	w.root, w.dir = root, f.dir
	w.env = slices.Clone(f.env)
	for i, v := range w.env {
		switch {
		case strings.HasPrefix(v, "TRAMMEL_HOME="):
			w.env[i] = "TRAMMEL_HOME=" + w.home()
		case strings.HasPrefix(v, "HOME="):
			w.env[i] = "HOME=" + root
		}
	}
	w.dir = filepath.Join(root, "heronweir")
	for _, name := range []string{"trammel.toml", "trammel.lock", "keys/weir.asc", "in/count", "lanes.tmpl", "package.json"} {
		raw, err := os.ReadFile(filepath.Join(f.dir, name))
		if err != nil {
			return nil, nil, err
		}
		if err := w.put(name, string(raw)); err != nil {
			return nil, nil, err
		}
	}
	if err := w.put("../addons.txt", ""); err != nil {
		return nil, nil, err
	}
	for _, name := range []string{"tools", "catalog", "depot"} {
		if err := os.Symlink(filepath.Join(f.root, name), filepath.Join(root, name)); err != nil {
			return nil, nil, err
		}
	}
	return &fitted{world: &w, registry: f.registry}, func() { w.end(); removeAll(root) }, nil
}

// catalogState gives another state of a signed catalog: one that was signed before, a page that nobody signed, or
// one without its signature. Whoever renews the lock must be told, and the lock must stay.
func catalogState(f *fitted, r *rand.Rand) (expect, error) {
	folder := filepath.Join(f.root, "catalog")
	// Those that a renewal of its tool rests on, and the signature.
	pages := append(below(folder, func(d fs.DirEntry) bool { return slices.Contains([]string{"catalog.toml", "tallydb.toml"}, d.Name()) }), filepath.Join(folder, "catalog.toml.sig"))
	before := map[string]string{}
	for _, path := range pages {
		before[path] = info(path)
	}
	first := filepath.Join(folder, "catalog.toml")
	e := expect{}
	var thing string
	switch e.how = pick(r, "an older state", "the signature is gone", "the signature of another", "a page"); e.how {
	case "an older state":
		thing = "state number"
		at := regexp.MustCompile(`(?m)^serial = (\d+)$`).FindStringSubmatch(before[first])
		if at == nil {
			return e, fmt.Errorf("the catalog has no number:\n%s", before[first])
		}
		now, err := strconv.ParseInt(at[1], 10, 64)
		if err != nil {
			return e, err
		}
		older := strings.Replace(before[first], at[0], fmt.Sprintf("serial = %d", now-1-r.Int64N(now/2)), 1)
		if err := os.WriteFile(first, []byte(older), 0o644); err != nil {
			return e, err
		}
		if err := publish.Sign(folder, f.team); err != nil {
			return e, err
		}
	case "the signature is gone":
		thing = "not signed"
		if err := os.Remove(first + ".sig"); err != nil {
			return e, err
		}
	case "the signature of another":
		thing = "signed by"
		_, private, err := ed25519.GenerateKey(nil)
		if err != nil {
			return e, err
		}
		stranger, err := ssh.NewSignerFromKey(private)
		if err != nil {
			return e, err
		}
		if err := publish.Sign(folder, stranger); err != nil {
			return e, err
		}
	default:
		thing = "team"
		path := pick(r, pages[:len(pages)-1]...)
		e.how += " " + path
		if err := spoilText(path, r); err != nil {
			return e, err
		}
	}
	e.act = func(f *fitted) (string, error) {
		defer func() {
			for path, text := range before {
				_ = os.WriteFile(path, []byte(text), 0o644)
			}
		}()
		lock := info(filepath.Join(f.dir, "trammel.lock"))
		o, err := f.try("lock", "--renew", "tallydb")
		if err == nil && (o.code == 0 || !strings.Contains(o.said, "catalog") || !strings.Contains(o.said, thing)) {
			err = o.wrong("does not name the catalog and " + thing)
		}
		if err == nil && info(filepath.Join(f.dir, "trammel.lock")) != lock {
			err = o.wrong("changed the lock")
		}
		return o.said, err
	}
	return e, nil
}

// depotBlob spoils a blob of the depot: another machine must say so, and have the right bytes all the same.
func depotBlob(f *fitted, r *rand.Rand) (expect, error) {
	blobs := below(filepath.Join(f.root, "depot/blobs"), regular)
	if len(blobs) == 0 {
		return expect{}, fmt.Errorf("the depot is empty")
	}
	path := pick(r, blobs...)
	before, err := os.ReadFile(path)
	if err != nil {
		return expect{}, err
	}
	how, err := spoil(path, r, false)
	if err != nil {
		return expect{}, err
	}
	return expect{how: path + ": " + how, act: func(f *fitted) (string, error) {
		defer func() { _ = os.Remove(path); _ = os.WriteFile(path, before, 0o644) }()
		other, end, err := f.elsewhere()
		if err != nil {
			return "", err
		}
		defer end()
		o, err := other.try("fit", "--approve")
		if err == nil && o.code != 0 {
			err = o.wrong("fails")
		}
		if err == nil && !strings.Contains(filepath.Base(path), ".") && info(path) != string(before) && !strings.Contains(o.said, "depot") {
			err = o.wrong("does not name the depot")
		}
		if err != nil {
			return o.said, err
		}
		return o.said, other.must([]string{"verify", "--deep"})
	}}, nil
}

// info is what a file has now, "" where it is none.
func info(path string) string {
	raw, _ := os.ReadFile(path)
	return string(raw)
}

// imageLayer spoils a layer that the cache has: an image must not be made of it.
func imageLayer(f *fitted, r *rand.Rand) (expect, error) {
	layers := below(filepath.Join(f.home(), "cache/layers"), regular)
	if len(layers) == 0 {
		return expect{}, fmt.Errorf("no layer is kept")
	}
	removeAll(filepath.Join(f.root, "image"))
	if err := f.must([]string{"export", "oci", "../image"}); err != nil { // of the environment as it is now
		return expect{}, err
	}
	path := pick(r, layers...)
	how, err := spoil(path, r, false)
	if err != nil {
		return expect{}, err
	}
	return expect{how: path + ": " + how, act: func(f *fitted) (string, error) {
		to := filepath.Join(f.root, "image-again")
		defer removeAll(to)
		o, err := f.try("export", "oci", to)
		if err == nil && o.code != 0 {
			err = o.wrong("fails")
		}
		if err != nil {
			return o.said, err
		}
		return o.said, sameImage(filepath.Join(f.root, "image"), to)
	}}, nil
}

// sameImage compares two image layouts: the same blobs, each with the digest of its name.
func sameImage(a, b string) error {
	names := func(dir string) (out []string) {
		for _, path := range below(filepath.Join(dir, "blobs"), regular) {
			out = append(out, filepath.Base(path))
		}
		slices.Sort(out)
		return out
	}
	if x, y := names(a), names(b); !slices.Equal(x, y) {
		return fmt.Errorf("the image has other blobs: %v and %v", x, y)
	}
	for _, path := range below(filepath.Join(b, "blobs"), regular) {
		if err := digested(path); err != nil {
			return err
		}
	}
	return nil
}
