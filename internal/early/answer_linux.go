package early

import (
	"os"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/plain"
)

// answer says what was answered to the same question before, where all that it rested on is as it
// was, and ends. It returns where that is not so.
func answer(words []string) {
	shell := ""
	coming := len(words) == 6 && words[0] == "follow" && words[1] == "--enter" && words[3] == "--of"
	if coming {
		shell, words = words[4], kept.Coming(words[2], words[5])
	} else if !kept.Answerable(words) {
		return
	}
	words, handed := kept.Handed(words)
	dir, err := os.Getwd()
	if err != nil {
		return
	}
	environ := os.Environ()
	getenv := variables(environ)
	session := kept.Session(os.Getenv)
	path, _ := getenv("PATH")
	q := kept.Question{Words: words, Dir: dir, User: os.Getuid(), Path: path, Columns: [2]int{kept.Columns(1), kept.Columns(2)}}
	raw, err := regular(q.In(kept.Answers(session)))
	if err != nil || !kept.Own(session) || !kept.Own(kept.Answers(session)) || !kept.Apart(session) {
		return
	}
	if coming && !mark(session+"/"+shell, shell) {
		return
	}
	_, program := kept.Stamps(kept.Self)
	if program == nil {
		return
	}
	r, ok := q.Holds(raw, *program, time.Now().UnixNano(), getenv)
	if !ok {
		return
	}
	var env []string // of what it becomes
	order, at := "", dir
	if len(r.Becomes) > 1 {
		p, here, ok := planIn("", environ)
		if !ok {
			return
		}
		if order, at = p.Order, here; r.Folder != "" {
			at = r.Folder
		}
		p.Set = append(p.Set, r.Set...)
		env = p.Environ(environ, at)
	}
	stamp := ""
	for _, s := range r.Said {
		switch s.To {
		case kept.Stamp:
			stamp = s.Text
		case "1":
			if stamp != "" {
				s.Text = plain.ReplaceAll(s.Text, stamp, session+"/"+shell)
			}
			_, err = os.Stdout.WriteString(s.Text)
		case "2":
			_, err = os.Stderr.WriteString(s.Text)
		}
		if err != nil {
			os.Exit(1)
		}
	}
	if len(r.Becomes) > 1 {
		become(order, at, r.Becomes[0], append(r.Becomes[1:], handed...), env)
		_ = os.Chdir(dir)
		return // what is wrong with it, the longer way says
	}
	os.Exit(0)
}

// become replaces this process by a command in a folder, or runs it in a root and ends with it. It returns
// where the command was not started.
func become(order, dir, file string, args, env []string) {
	if order != "" {
		sealed(order, dir, file, args, env)
		return
	}
	if file == "" {
		file = onPath(env, args[0])
	}
	if file != "" && os.Chdir(dir) == nil {
		_ = syscall.Exec(file, args, env)
	}
}

// mark makes the file by whose time a shell tells what changed since, a little before now: what
// came just before it is looked at once more. shell is the process id.
func mark(file, shell string) bool {
	for _, digit := range shell {
		if digit < '0' || digit > '9' {
			return false
		}
	}
	before := time.Now().Add(-50 * time.Millisecond)
	return shell != "" && os.WriteFile(file, nil, 0o600) == nil && os.Chtimes(file, before, before) == nil
}
