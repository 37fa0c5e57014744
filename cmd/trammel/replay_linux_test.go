package main

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/lacks"
	"app.example/trammel/internal/standin"
)

// inode is a file, a link or a folder of a volume. What it holds is the volume's, but for where a
// link leads, which never changes.
type inode struct {
	kind   fs.FileMode
	target string
}

// volume is what a disk holds at an instant.
type volume struct {
	names map[*inode]map[string]*inode // folder → name → what has it
	data  map[*inode][]byte
	mode  map[*inode]fs.FileMode
}

func (v *volume) clone() *volume {
	out := &volume{map[*inode]map[string]*inode{}, map[*inode][]byte{}, maps.Clone(v.mode)}
	for dir, names := range v.names {
		out.names[dir] = maps.Clone(names)
	}
	for file, data := range v.data {
		out.data[file] = slices.Clone(data)
	}
	return out
}

// volumeOf reads a folder.
func volumeOf(t *testing.T, root string) (*volume, *inode) {
	t.Helper()
	v := &volume{map[*inode]map[string]*inode{}, map[*inode][]byte{}, map[*inode]fs.FileMode{}}
	var read func(path string) *inode
	read = func(path string) *inode {
		info, err := os.Lstat(path)
		if err != nil {
			t.Fatal(err)
		}
		n := &inode{kind: info.Mode().Type()}
		v.mode[n] = info.Mode().Perm()
		switch {
		case info.IsDir():
			v.names[n] = map[string]*inode{}
			entries, err := os.ReadDir(path)
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range entries {
				v.names[n][e.Name()] = read(filepath.Join(path, e.Name()))
			}
		case n.kind == fs.ModeSymlink:
			n.target, err = os.Readlink(path)
		case n.kind == 0:
			v.data[n], err = os.ReadFile(path)
		}
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	return v, read(root)
}

// write makes a folder what a volume holds below an inode.
func (v *volume) write(path string, n *inode) error {
	switch n.kind {
	case fs.ModeDir:
		if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		for name, x := range v.names[n] {
			if err := v.write(filepath.Join(path, name), x); err != nil {
				return err
			}
		}
	case fs.ModeSymlink:
		return os.Symlink(n.target, path)
	case 0:
		if err := os.WriteFile(path, v.data[n], 0o600); err != nil {
			return err
		}
	default: // a socket or a pipe is nothing without the process that made it
		return nil
	}
	return os.Chmod(path, v.mode[n])
}

// change is one thing that a program asked of a volume.
type change struct {
	// Names that come to mean something else: of a rename two.
	names [][3]any // folder, name, *inode or nil
	file  *inode   // whose bytes or mode change, or which is synced
	at    int      // where data goes; -1: the file is cut or grown to size
	data  []byte
	size  int
	mode  fs.FileMode
	what  string // "names", "data", "mode", "sync", or "sync all"
}

// apply does a change; of data only a part, when less than all of it is wanted.
func (v *volume) apply(c change, part int) {
	switch c.what {
	case "names":
		for _, x := range c.names {
			dir, name, to := x[0].(*inode), x[1].(string), x[2].(*inode)
			if v.names[dir] == nil {
				v.names[dir] = map[string]*inode{}
			}
			if to == nil {
				delete(v.names[dir], name)
			} else {
				v.names[dir][name] = to
			}
		}
	case "mode":
		v.mode[c.file] = c.mode
	case "data":
		have := v.data[c.file]
		if c.at < 0 {
			v.data[c.file] = slices.Concat(have, make([]byte, max(0, c.size-len(have))))[:c.size]
			return
		}
		if grown := c.at + part; grown > len(have) {
			have = append(have, make([]byte, grown-len(have))...)
		}
		copy(have[c.at:], c.data[:part])
		v.data[c.file] = have
	}
}

// covers tells whether a sync waits for an earlier change.
func (c change) covers(old change) bool {
	switch {
	case c.what == "sync all":
		return true
	case c.what != "sync":
		return false
	case old.what == "names":
		return slices.ContainsFunc(old.names, func(x [3]any) bool { return x[0].(*inode) == c.file })
	}
	return old.file == c.file
}

// after is a volume as it may be when the power goes after the first n changes: what a sync has
// waited for is there, and of the rest anything, in any order, in part.
func after(before *volume, list []change, n int, dice *rand.Rand) *volume {
	v := before.clone()
	lazy := dice.IntN(4) // 0: nothing that was not waited for; 3: nearly all of it
	for i, c := range list[:n] {
		if slices.ContainsFunc(list[i+1:n], func(s change) bool { return s.covers(c) }) || dice.IntN(4) < lazy {
			v.apply(c, len(c.data))
		} else if c.what == "data" && c.at >= 0 && dice.IntN(2) == 0 {
			v.apply(c, dice.IntN(len(c.data)+1))
		}
	}
	return v
}

// handle is a file that a process has open.
type handle struct {
	file   *inode
	offset int
	end    bool // O_APPEND
}

// recorder follows the system calls of a command on one folder.
type recorder struct {
	t       *testing.T
	path    string
	live    *volume
	root    *inode
	changes []change
	open    map[string]map[int]*handle // by thread; threads of a process share one
	parent  map[string][2]string       // child → who made it, and with what flags
}

// recorded are the calls that change files or say what an open file is.
const recorded = "openat,open,creat,openat2,write,pwrite64,ftruncate,truncate,rename,renameat,renameat2,link,linkat,unlink,unlinkat,rmdir," +
	"mkdir,mkdirat,symlink,symlinkat,fsync,fdatasync,syncfs,sync,copy_file_range,sendfile,clone,clone3,fork,vfork,chmod,fchmod,fchmodat," +
	"mknod,mknodat,lseek,dup,dup2,dup3,fcntl,close,writev,pwritev"

// record runs a command line and returns what it changed of a folder.
func record(t *testing.T, h *hut, path, line string) (before *volume, root *inode, list []change) {
	t.Helper()
	strace, err := exec.LookPath("strace")
	if err != nil {
		lacks.Program(t, "strace")
	}
	r := &recorder{t: t, path: path, open: map[string]map[int]*handle{}, parent: map[string][2]string{}}
	before, r.root = volumeOf(t, path)
	r.live = before.clone()
	trace := filepath.Join(t.TempDir(), "trace")
	c := h.command("show")
	c.Path, c.Args = strace, []string{"strace", "-f", "-xx", "-s", "1000000", "-e", "signal=none", "-e", "trace=" + recorded, "-o", trace, "sh", "-c", line}
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", line, err, out)
	}
	raw, err := os.ReadFile(trace)
	if err != nil {
		t.Fatal(err)
	}
	call := regexp.MustCompile(`^(\d+) +(\w+)\((.*)\) += (-?\d+)`)
	var calls [][]string
	for _, line := range wholeCalls(string(raw)) {
		if m := call.FindStringSubmatch(line); m != nil {
			calls = append(calls, m)
			if m[2] == "clone" || m[2] == "clone3" || m[2] == "fork" || m[2] == "vfork" {
				r.parent[m[4]] = [2]string{m[1], m[3]}
			}
		}
	}
	for _, m := range calls {
		if result, _ := strconv.Atoi(m[4]); result >= 0 {
			r.call(m[1], m[2], words(m[3]), result)
		}
	}
	return before, r.root, r.changes
}

// words are the arguments of a call. In strings and names every byte is written as a number.
func words(text string) []string {
	var out []string
	for _, w := range strings.Split(text, ", ") {
		if inner, ok := strings.CutPrefix(w, `"`); ok {
			inner = strings.TrimSuffix(strings.TrimSpace(inner), `"`) // a blank is left where a call was resumed
			raw, err := hex.DecodeString(strings.ReplaceAll(inner, `\x`, ""))
			if err != nil {
				panic(fmt.Sprintf("%.80s was cut: %v", w, err))
			}
			w = string(raw)
		}
		out = append(out, w)
	}
	return out
}

// files are the open files of a thread: its process's, which it has from whoever made it.
func (r *recorder) files(thread string) map[int]*handle {
	if r.open[thread] == nil {
		r.open[thread] = map[int]*handle{}
		if from, ok := r.parent[thread]; ok {
			if strings.Contains(from[1], "CLONE_FILES") {
				r.open[thread] = r.files(from[0])
			} else {
				r.open[thread] = maps.Clone(r.files(from[0]))
			}
		}
	}
	return r.open[thread]
}

// find is the folder and the name that a path means below the recorded folder.
func (r *recorder) find(thread, at, path string) (dir *inode, name string) {
	where := r.root
	if filepath.IsAbs(path) {
		rest, below := strings.CutPrefix(filepath.Clean(path), r.path+"/")
		if !below {
			return nil, ""
		}
		path = rest
	} else {
		fd, err := strconv.Atoi(at)
		if err != nil { // the folder that it was started in
			path = "work/heronweir/" + path
		} else if h := r.files(thread)[fd]; h != nil {
			where = h.file
		} else {
			return nil, ""
		}
	}
	for i := 0; ; i++ {
		head, rest, more := strings.Cut(path, "/")
		if !more {
			return where, head
		}
		next := r.live.names[where][head]
		if next != nil && next.kind == fs.ModeSymlink && i < 40 {
			target := next.target
			if filepath.IsAbs(target) {
				return r.find(thread, at, target+"/"+rest)
			}
			path = target + "/" + rest
			continue
		}
		if head == ".." || next == nil {
			return nil, ""
		}
		if head != "." {
			where = next
		}
		path = rest
	}
}

func (r *recorder) at(thread, at, path string) *inode {
	dir, name := r.find(thread, at, path)
	if dir == nil {
		return nil
	}
	if name == "." || name == "" {
		return dir
	}
	return r.live.names[dir][name]
}

func (r *recorder) did(c change) {
	r.live.apply(c, len(c.data))
	r.changes = append(r.changes, c)
}

func (r *recorder) named(dir *inode, name string, to *inode) {
	if dir != nil {
		r.did(change{what: "names", names: [][3]any{{dir, name, to}}})
	}
}

func number(text string) int {
	n, _ := strconv.ParseInt(text, 0, 64)
	return int(n)
}

// call takes in one system call that had no error.
func (r *recorder) call(thread, name string, w []string, result int) {
	open := r.files(thread)
	// The older calls take no folder to start from.
	if slices.Contains([]string{"open", "creat", "unlink", "rmdir", "mkdir", "chmod", "mknod"}, name) {
		w, name = append([]string{"AT_FDCWD"}, w...), name+"at"
	}
	switch name {
	case "openat", "openat2", "creatat":
		flags := strings.Join(w[2:], " ")
		dir, last := r.find(thread, w[0], w[1])
		if dir == nil && filepath.Clean(w[1]) != r.path {
			delete(open, result)
			return
		}
		file := r.root
		if dir != nil {
			file = r.at(thread, w[0], w[1])
		}
		if file != nil && file.kind == fs.ModeSymlink && !strings.Contains(flags, "O_NOFOLLOW") {
			to := file.target
			if !filepath.IsAbs(to) {
				delete(open, result)
				return
			}
			file = r.at(thread, "", to)
		}
		if strings.Contains(flags, "O_TMPFILE") {
			file = &inode{}
		} else if file == nil && (strings.Contains(flags, "O_CREAT") || name == "creatat") {
			file = &inode{}
			r.named(dir, last, file)
		} else if file != nil && file.kind == 0 && strings.Contains(flags, "O_TRUNC") {
			r.did(change{what: "data", file: file, at: -1})
		}
		if file == nil {
			delete(open, result)
			return
		}
		if r.live.mode[file] == 0 && file.kind == 0 {
			r.live.mode[file] = 0o600
			if m := regexp.MustCompile(`\b0\d+$`).FindString(flags); m != "" {
				r.did(change{what: "mode", file: file, mode: fs.FileMode(number(m))})
			}
		}
		open[result] = &handle{file: file, end: strings.Contains(flags, "O_APPEND")}
	case "close":
		delete(open, number(w[0]))
	case "dup", "dup2", "dup3":
		open[result] = open[number(w[0])]
	case "fcntl":
		if strings.HasPrefix(w[1], "F_DUPFD") {
			open[result] = open[number(w[0])]
		}
	case "lseek":
		if h := open[number(w[0])]; h != nil {
			h.offset = result
		}
	case "write", "pwrite64":
		h := open[number(w[0])]
		if h == nil || h.file.kind != 0 {
			return
		}
		at := h.offset
		switch {
		case name == "pwrite64":
			at = number(w[3])
		case h.end:
			at = len(r.live.data[h.file])
		}
		if name == "write" {
			h.offset = at + result
		}
		r.did(change{what: "data", file: h.file, at: at, data: []byte(w[1])[:result]})
	case "copy_file_range":
		from, to := open[number(w[0])], open[number(w[2])]
		if to == nil {
			return
		}
		if from == nil || w[1] != "NULL" || w[3] != "NULL" {
			r.t.Fatalf("%s %q is not followed", name, w)
		}
		data := r.live.data[from.file][from.offset:][:result]
		r.did(change{what: "data", file: to.file, at: to.offset, data: slices.Clone(data)})
		from.offset, to.offset = from.offset+result, to.offset+result
	case "writev", "pwritev", "sendfile":
		if h := open[number(w[0])]; h != nil && h.file.kind == 0 {
			r.t.Fatalf("%s is not followed", name)
		}
	case "ftruncate":
		if h := open[number(w[0])]; h != nil {
			r.did(change{what: "data", file: h.file, at: -1, size: number(w[1])})
		}
	case "truncate":
		if file := r.at(thread, "AT_FDCWD", w[0]); file != nil {
			r.did(change{what: "data", file: file, at: -1, size: number(w[1])})
		}
	case "rename", "renameat", "renameat2":
		if name == "rename" {
			w = []string{"AT_FDCWD", w[0], "AT_FDCWD", w[1]}
		}
		from, old := r.find(thread, w[0], w[1])
		to, fresh := r.find(thread, w[2], w[3])
		if from == nil || to == nil {
			return
		}
		r.did(change{what: "names", names: [][3]any{{to, fresh, r.live.names[from][old]}, {from, old, (*inode)(nil)}}})
	case "link", "linkat":
		if name == "link" {
			w = []string{"AT_FDCWD", w[0], "AT_FDCWD", w[1]}
		}
		var file *inode
		if fd, ok := strings.CutPrefix(w[1], "/proc/self/fd/"); ok {
			if h := open[number(fd)]; h != nil {
				file = h.file
			}
		} else {
			file = r.at(thread, w[0], w[1])
		}
		if dir, name := r.find(thread, w[2], w[3]); file != nil {
			r.named(dir, name, file)
		}
	case "unlinkat", "rmdirat":
		dir, name := r.find(thread, w[0], w[1])
		r.named(dir, name, nil)
	case "mkdirat":
		dir, name := r.find(thread, w[0], w[1])
		made := &inode{kind: fs.ModeDir}
		r.live.names[made] = map[string]*inode{}
		r.named(dir, name, made)
		r.did(change{what: "mode", file: made, mode: fs.FileMode(number(w[2])) &^ 0o022})
	case "symlink", "symlinkat":
		if name == "symlink" {
			w = []string{w[0], "AT_FDCWD", w[1]}
		}
		dir, name := r.find(thread, w[1], w[2])
		r.named(dir, name, &inode{fs.ModeSymlink, w[0]})
	case "mknodat":
		dir, name := r.find(thread, w[0], w[1])
		r.named(dir, name, &inode{kind: fs.ModeNamedPipe})
	case "chmodat", "fchmodat":
		if file := r.at(thread, w[0], w[1]); file != nil {
			r.did(change{what: "mode", file: file, mode: fs.FileMode(number(w[2]))})
		}
	case "fchmod":
		if h := open[number(w[0])]; h != nil {
			r.did(change{what: "mode", file: h.file, mode: fs.FileMode(number(w[1]))})
		}
	case "fsync", "fdatasync":
		if h := open[number(w[0])]; h != nil {
			r.did(change{what: "sync", file: h.file})
		}
	case "syncfs", "sync":
		r.did(change{what: "sync all"})
	}
}

// Whatever of a command's writes has reached the disk when the power goes, in whatever order, what
// has its name is whole, and the usual commands make everything good.
func TestEveryPrefixOfTheWritesIsMended(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "")
	root, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	root = filepath.Join(root, "disk")
	h.dir, h.home = filepath.Join(root, "work", "heronweir"), filepath.Join(root, "home")
	h.env = append(h.env, "TRAMMEL_HOME="+h.home)
	tool := standin.Tool{Name: "sluice"}
	for v := range 3 {
		tool.Archives = append(tool.Archives, standin.TarGz(
			standin.File{Name: "bin/sluice", Mode: 0o755, Content: fmt.Sprintf("#!/bin/sh\necho sluice 1.%d\n", v)},
			standin.File{Name: "share/species", Content: "silverfin\n"}))
	}
	if err := standin.Publish(filepath.Join(root, "work", "catalog"), []standin.Tool{tool}); err != nil {
		t.Fatal(err)
	}
	h.write("lanes.tmpl", "lanes = {{ .param.lanes }}\n")
	h.write("in/count", "212\n")
	h.write("trammel.toml", `format  = 1
project = "heronweir"
[source.hut]
kind = "catalog"
url  = "../catalog"
[toolchain]
sluice = { version = "1.1", from = "hut" }
[param.lanes]
kind    = "integer"
default = 3
[file."lanes.conf"]
template = "lanes.tmpl"
[step.sum]
run   = "cp in/count sum"
reads = ["in/*"]
[service.keeper]
run = "exec sleep 60"
`)
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("WEIR_SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	t.Logf("WEIR_SEED=%d", seed)
	dice := rand.New(rand.NewPCG(seed, 11))
	each := 3 // replays of a command; 0 is every prefix
	if n, err := strconv.Atoi(os.Getenv("WEIR_REPLAYS")); err == nil {
		each = n
	}
	become := func(v *volume, n *inode) {
		t.Helper()
		writable(root)
		if err := os.RemoveAll(root); err != nil {
			t.Fatal(err)
		}
		if err := v.write(root, n); err != nil {
			t.Fatal(err)
		}
	}
	for _, line := range []string{"lock", "approve --yes", "fit", "set sluice=1.2", "fit", "set sluice=1.0", "fit", "recall 1 --declaration", "fit", "start && @ stop", "sweep", "clear main --yes"} {
		if line != "approve --yes" {
			h.try("approve", "--yes")
		}
		before, n, list := record(t, h, root, strings.ReplaceAll(program+" "+line, "@", program))
		if len(list) == 0 {
			t.Fatalf("%s changed nothing", line)
		}
		done, whole := volumeOf(t, root)
		points := dice.Perm(len(list) + 1)
		if each > 0 && len(points) > each {
			points = points[:each]
		}
		for _, k := range points {
			v := after(before, list, k, dice)
			become(v, n)
			h.approved = ""
			step := fmt.Sprintf("trammel %s, the power gone after %d of %d changes", line, k, len(list))
			if _, err := declare.Read(filepath.Join(h.dir, "trammel.toml"), declare.Files{}); err != nil {
				t.Fatalf("%s: the declaration is %v", step, err)
			}
			if _, err := lock.ReadFile(filepath.Join(h.dir, "trammel.lock")); err != nil && !(line == "lock" && errors.Is(err, lock.ErrNone)) {
				t.Fatalf("%s: the lock is %v", step, err)
			}
			for _, args := range [][]string{{"lock"}, {"approve", "--yes"}, {"fit"}, {"start"}, {"verify", "--deep"}, {"stop"}} {
				if o := h.try(args...); o.code != 0 {
					t.Fatalf("%s: trammel %v ends with %d\n%s%s", step, args, o.code, o.out, o.err)
				}
			}
			if sum, err := os.ReadFile(filepath.Join(h.dir, "sum")); err != nil || !bytes.Equal(sum, []byte("212\n")) {
				t.Fatalf("%s: what the step makes is %q, %v", step, sum, err)
			}
		}
		become(done, whole)
	}
}
