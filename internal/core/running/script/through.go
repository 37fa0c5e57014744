package script

import (
	"bufio"
	"debug/elf"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/kernel/process"
)

// Outside sealed isolation a program of a root runs in its root, and what it writes runs on this machine's own
// system: a script that names /usr/bin/python3 means another file there, and a program that was compiled in the
// root may need a newer C library. Through looks at what Trammel itself starts: such a script is given to the
// locked interpreter, and such a program is refused with the way out.

// Through is how a file is started in an environment whose commands are on the PATH of env: itself, or the locked
// interpreter that its first line names.
// Errors: the file is a program that this machine's libraries are too old for.
func Through(file string, argv, env []string) (string, []string, error) {
	frames := framesOn(env)
	if len(frames) == 0 || filepath.Base(filepath.Dir(file)) == "bin" && slices.Contains(frames, filepath.Dir(filepath.Dir(file))) {
		return file, argv, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return file, argv, nil // whoever starts it says what is wrong
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 256)
	head, _ := r.Peek(2)
	switch {
	case string(head) == "#!":
		line, _ := r.ReadString('\n')
		words := strings.SplitN(strings.TrimSpace(strings.TrimPrefix(line, "#!")), " ", 2)
		for _, frame := range frames {
			if own := ofRoot(frame, words[0]); own != "" {
				return own, slices.Concat([]string{own}, words[1:], []string{file}, argv[1:]), nil
			}
		}
	case string(head) == "\x7fE":
		return file, argv, tooNew(file, f)
	}
	return file, argv, nil
}

// framesOn are the folders of frames with roots whose commands are on the PATH.
func framesOn(env []string) (out []string) {
	for _, line := range env {
		path, ok := strings.CutPrefix(line, "PATH=")
		if !ok {
			continue
		}
		for _, dir := range filepath.SplitList(path) {
			if filepath.Base(dir) != "bin" {
				continue
			}
			if to, err := os.Readlink(filepath.Join(filepath.Dir(dir), "launch")); err == nil && to != "" {
				out = append(out, filepath.Dir(dir))
			}
		}
	}
	return out
}

// ofRoot is the command of a frame that is an interpreter of the system's, in its root: /usr/bin/python3.
func ofRoot(frame, interpreter string) string {
	name := filepath.Base(interpreter)
	target, err := os.Readlink(filepath.Join(frame, "inside", name))
	if err != nil {
		return ""
	}
	rest := strings.TrimPrefix(target, "../roots/")
	_, inner, _ := strings.Cut(rest, "/")
	if slices.Contains([]string{"/" + inner, "/" + strings.TrimPrefix(inner, "usr/")}, interpreter) {
		return filepath.Join(frame, "bin", name)
	}
	return ""
}

// tooNew says what a program needs of this machine's libraries that they do not have (symbol versions, "Linux
// Standard Base Core Specification 5.0", 10.7).
func tooNew(file string, r io.ReaderAt) error {
	p, err := elf.NewFile(r)
	if err != nil {
		return nil
	}
	needs, err := p.DynamicVersionNeeds()
	if err != nil {
		return nil
	}
	for _, need := range needs {
		has, at := versionsOf(need.Name, p.Machine)
		if at == "" {
			continue // of the program's own folders, or missing, which the loader says
		}
		for _, d := range need.Needs {
			if !slices.Contains(has, d.Dep) {
				return fault.New(fault.ErrFailed, "%s needs %s of %s, and this machine's own (%s) does not have it: it was built on the newer system of a root", file, d.Dep, need.Name, at).
					Advise("Programs run on that system in sealed isolation: isolation = \"sealed\" in trammel.toml, or this once: trammel run --isolation sealed -- COMMAND")
			}
		}
	}
	return nil
}

// versionsOf are the symbol versions that a library of this machine has, and where it is; "" for one that is
// not in the loader's usual folders.
func versionsOf(name string, machine elf.Machine) (out []string, at string) {
	dirs, _ := filepath.Glob("/lib/*-linux-gnu")
	more, _ := filepath.Glob("/usr/lib/*-linux-gnu")
	for _, dir := range slices.Concat(dirs, more, []string{"/lib64", "/usr/lib64", "/lib", "/usr/lib"}) {
		f, err := elf.Open(filepath.Join(dir, name))
		if err != nil {
			continue
		}
		versions, err := f.DynamicVersions()
		same := f.Machine == machine
		f.Close()
		if err != nil || !same {
			continue
		}
		for _, v := range versions {
			out = append(out, v.Name)
		}
		return out, filepath.Join(dir, name)
	}
	return nil, ""
}

// through is Through for a command that may be one of the PATH.
func through(c Command, env []string, dir string) (Command, error) {
	file := c.Path
	if file == "" {
		var err error
		if file, err = process.LookPath(c.Argv[0], env, dir); err != nil {
			return c, nil // whoever starts it says so
		}
	}
	own, argv, err := Through(file, c.Argv, env)
	if err != nil {
		return c, err
	}
	if own != file {
		return Command{own, argv}, nil
	}
	return c, nil
}
