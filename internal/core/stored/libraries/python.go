// Package libraries makes the folder that a set of libraries is: one tree of hard links to
// unpacked packages of one language, with what installing them would have made.
//
// Nothing of a package runs. The same packages give the same bytes, so that one digest
// fixes the set.
package libraries

import (
	"bufio"
	"bytes"
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/tree"
)

// PythonFolder is where a set has its libraries, below its own: as a user's own scheme has it
// (Python documentation, "site", USER_SITE).
func PythonFolder(interpreter string) string {
	return "lib/python" + minor(interpreter) + "/site-packages"
}

// Python fills an empty folder with the set of unpacked wheels, which are sorted by name,
// for an interpreter of a version, "3.13.5", with the command that starts it where that has
// another name than python3.13 in the environment, "3.9.2 old-python3.9", and returns its manifest. set is its name for people (PEP 427, "Installing a
// wheel"). Console scripts start the interpreter of the environment and find the set
// themselves.
func Python(ctx context.Context, dir, set string, wheels []merge.Piece, interpreter string) (tree.Manifest, error) {
	b := merge.New(dir)
	b.Pieces = wheels
	b.Settle = func(old, x merge.Placed) (merge.Placed, error) {
		return x, fault.New(fault.ErrSource, "%s both have the file %s, and it differs", both(wheels, old, x), x.Path).
			Advise("Two packages that bring one module cannot be in one set. Ask for one of the two.")
	}
	site := PythonFolder(interpreter)
	for i, w := range wheels {
		if err := wheel(b, i, w, site, interpreter); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"pip", "pip3"} {
		if err := b.MakeCommand("bin/"+name, []byte(starter(interpreter)+installer(set))); err != nil {
			return nil, err
		}
	}
	b.Tidy()
	if err := b.Write(ctx); err != nil {
		return nil, err
	}
	return b.Finish()
}

func both(pieces []merge.Piece, old, x merge.Placed) string {
	name := func(i int) string {
		if i < 0 {
			return "the set"
		}
		return pieces[i].Name + " " + pieces[i].Version
	}
	return name(old.Piece) + " and " + name(x.Piece)
}

// wheel places one wheel.
func wheel(b *merge.Tree, i int, w merge.Piece, site, interpreter string) error {
	info, err := infoFolder(w)
	if err != nil {
		return err
	}
	data := strings.TrimSuffix(info, ".dist-info") + ".data/"
	for _, e := range w.Manifest {
		from := e.Path
		below, isData := strings.CutPrefix(e.Path, data)
		switch {
		case !isData:
			e.Path = path.Join(site, e.Path)
		default:
			kind, rest, _ := strings.Cut(below, "/")
			if rest == "" {
				continue
			}
			switch kind {
			case "purelib", "platlib":
				e.Path = path.Join(site, rest)
			case "data":
				e.Path = rest
			case "headers":
				e.Path = path.Join("include/python"+minor(interpreter), w.Name, rest)
			case "scripts":
				if err := dataScript(b, i, w, e, rest, interpreter); err != nil {
					return err
				}
				continue
			default:
				return fault.New(fault.ErrSource, "the wheel of %s %s has files of the kind %q, which no installer knows", w.Name, w.Version, kind)
			}
		}
		if e.Type == tree.Link {
			return fault.New(fault.ErrSource, "the wheel of %s %s has the link %s; wheels have files only", w.Name, w.Version, from)
		}
		if err := b.Put(merge.Placed{Entry: e, Piece: i, From: from}); err != nil {
			return err
		}
	}
	// Who installed it, so that other installers leave it alone (PEP 376, INSTALLER).
	if err := b.Make(path.Join(site, info, "INSTALLER"), []byte("trammel\n")); err != nil {
		return err
	}
	return consoleScripts(b, w, info, site, interpreter)
}

// infoFolder is the one .dist-info folder of a wheel; it must be the package's own.
func infoFolder(w merge.Piece) (string, error) {
	found := map[string]bool{}
	for _, e := range w.Manifest {
		if top, _, below := strings.Cut(e.Path, "/"); below && strings.HasSuffix(top, ".dist-info") {
			found[top] = true
		}
	}
	if len(found) != 1 {
		return "", fault.New(fault.ErrSource, "the wheel of %s %s has %d folders of metadata, and a wheel has one", w.Name, w.Version, len(found))
	}
	for info := range found {
		raw, err := os.ReadFile(filepath.Join(w.Dir, info, "METADATA"))
		if err != nil {
			return "", fault.New(fault.ErrSource, "the wheel of %s %s has no METADATA", w.Name, w.Version)
		}
		m, err := python.ParseMetadata(raw)
		if err != nil || m.Name != w.Name || version.PEP440.Compare(m.Version, w.Version) != 0 {
			return "", fault.New(fault.ErrSource, "the wheel of %s %s says of itself that it is another package", w.Name, w.Version).Advise("Nothing was made of it.")
		}
		return info, nil
	}
	return "", nil
}

// dataScript places a ready-made script; its first line names Python as "#!python" (PEP
// 427, "Recommended archiver features").
func dataScript(b *merge.Tree, i int, w merge.Piece, e tree.Entry, name, interpreter string) error {
	raw, err := os.ReadFile(filepath.Join(w.Dir, filepath.FromSlash(e.Path)))
	if err != nil {
		return err
	}
	target := path.Join("bin", name)
	if first, rest, _ := bytes.Cut(raw, []byte("\n")); bytes.HasPrefix(first, []byte("#!python")) {
		return b.MakeCommand(target, append([]byte(starter(interpreter)+finder(interpreter)), rest...))
	}
	from := e.Path
	e.Path = target
	if e.Type != tree.Executable {
		return b.MakeCommand(target, raw)
	}
	return b.Put(merge.Placed{Entry: e, Piece: i, From: from})
}

// minor is the line of an interpreter: "3.13".
func minor(interpreter string) string {
	v, _, _ := strings.Cut(interpreter, " ")
	return version.Minor(v)
}

func starter(interpreter string) string {
	_, command, renamed := strings.Cut(interpreter, " ")
	if !renamed {
		command = "python" + minor(interpreter)
	}
	return "#!/usr/bin/env " + command + "\n"
}

// finder makes a script find the set that it lies in, whatever the environment says, and
// leave the set as it is. It is one line, so that line numbers in messages move by one.
func finder(interpreter string) string {
	return `import os as _o, site as _s, sys as _y; _d = _o.path.join(_o.path.dirname(_o.path.dirname(_o.path.realpath(__file__))), "` +
		strings.ReplaceAll(PythonFolder(interpreter), "/", `", "`) + `"); _d in _y.path or _s.addsitedir(_d); _y.dont_write_bytecode = _y.dont_write_bytecode or not _y.pycache_prefix` + "\n"
}

// installer is pip for an environment whose libraries are locked: it lists and shows, and
// says how to have another library.
func installer(set string) string {
	return `import runpy, sys
words = [a for a in sys.argv[1:] if not a.startswith("-")]
if words[:1] in (["install"], ["uninstall"]):
    sys.exit("The libraries of this environment are locked, and its folder is complete.\n"
             "Ask for one: trammel set ` + shell.Typed(set) + `/NAME=latest, then: trammel lock && trammel fit")
runpy.run_module("pip", run_name="__main__", alter_sys=True)
`
}

// object is what an entry point names (packaging.python.org, "Entry points specification").
var object = lazy.Regexp(`^([A-Za-z_][\w.]*)\s*:\s*([A-Za-z_][\w.]*)\s*(?:\[.*\])?$`)

// commandName is what a console script may be called.
var commandName = lazy.Regexp(`^[\w][\w.-]*$`)

// consoleScripts makes the commands that a wheel's entry points name.
func consoleScripts(b *merge.Tree, w merge.Piece, info, site, interpreter string) error {
	raw, err := os.ReadFile(filepath.Join(w.Dir, info, "entry_points.txt"))
	if err != nil {
		return nil // most have none
	}
	section := ""
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
			continue
		case line[0] == '[':
			section = strings.Trim(line, "[] ")
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		name = strings.TrimSpace(name)
		if section != "console_scripts" && section != "gui_scripts" || !ok {
			continue
		}
		m := object().FindStringSubmatch(strings.TrimSpace(value))
		if m == nil || !commandName().MatchString(name) {
			return fault.New(fault.ErrSource, "%s %s: %q is no command that can be made", w.Name, w.Version, line)
		}
		first, _, _ := strings.Cut(m[2], ".")
		script := starter(interpreter) + finder(interpreter) + "import sys\nfrom " + m[1] + " import " + first + "\nif __name__ == \"__main__\":\n    sys.exit(" + m[2] + "())\n"
		if strings.HasPrefix(name, "pip") && w.Name == "pip" {
			continue // the set has its own
		}
		if _, taken := b.Placed["bin/"+name]; taken {
			return fault.New(fault.ErrSource, "%s %s brings the command %s, and another package of the set does too", w.Name, w.Version, name)
		}
		if err := b.MakeCommand("bin/"+name, []byte(script)); err != nil {
			return err
		}
	}
	return lines.Err()
}
