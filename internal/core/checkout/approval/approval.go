// Package approval keeps a person's consent to run what a declaration contains,
// bound to that content.
//
// A declaration is somebody else's code. Consent is to a subject: every script,
// command and variable of the declaration, the script files that it names, the
// addresses it would fetch from, and the lock. When any of that changes, consent
// is gone, and the difference can be shown. It is kept in the person's own state
// folder, where a project cannot write it.
package approval

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lukechampine.com/blake3"
	"mvdan.cc/sh/v3/syntax"

	"trammel.example/trammel/internal/core/base/canon"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/place"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

// Subject is what consent is asked for: a text for each thing, by names such as
// "step schema" or "file scripts/setup.sh".
type Subject struct {
	Dir    string
	LockID string
	Things map[string]string
}

// Of collects what a declaration would run and fetch. The additions beside it, which
// may be nil, count too: they should be the person's own, and a stranger's checkout
// may bring some all the same.
func Of(d, overlay *declare.Declaration, l *lock.Lock) Subject {
	d = d.Original() // params only choose among what is declared
	s := Subject{Dir: d.Dir, LockID: l.ID(), Things: map[string]string{}}
	run := func(name string, r declare.Run) {
		s.Things[name] = r.String()
		if len(r.Shell) > 0 {
			s.Things[name] = strings.Join(r.Shell, " ") + " " + r.String()
		}
		for _, file := range scripts(r) {
			if sum := sumOf(d.Dir, file); sum != "" {
				s.Things["file "+file] = sum
			}
		}
	}
	for _, x := range d.Steps {
		run("step "+x.Name, x.Run)
		if !x.Evidence.Empty() {
			run("evidence of "+x.Name, x.Evidence)
		}
	}
	for _, x := range d.Services {
		run("service "+x.Name, x.Run)
		if x.Tool != "" && x.Run.Empty() {
			s.Things["service "+x.Name] = strings.TrimSpace("as the card of " + x.Tool + " says: " + l.Items[x.Tool].Service["once"] + "\n" + l.Items[x.Tool].Service["run"])
		}
		if !x.Ready.Command.Empty() {
			run("probe of "+x.Name, x.Ready.Command)
		}
		for _, v := range x.Variables {
			s.Things["variable "+v.Name+" of "+x.Name] = v.Text()
		}
	}
	for _, x := range d.Routines {
		run("routine "+x.Name, x.Run)
	}
	for _, v := range d.Variables {
		s.Things["variable "+v.Name] = v.Text()
	}
	for _, x := range d.Addons {
		run("add-on "+x.Name+" lists", x.List)
		run("add-on "+x.Name+" adds", x.Add)
		if !x.Remove.Empty() {
			run("add-on "+x.Name+" removes", x.Remove)
		}
		s.Things["add-on "+x.Name+" wants"] = strings.Join(x.Want, ", ")
	}
	for _, x := range d.Secrets {
		s.Things["secret "+x.Name] = x.From
	}
	for _, x := range d.Files {
		s.Things["template "+x.Template] = sumOf(d.Dir, x.Template)
	}
	for _, x := range d.Sources {
		s.Things["source "+x.Name] = strings.TrimSpace(x.Kind + " " + x.URL)
	}
	for name, item := range l.Items {
		s.Things["toolchain "+name] = item.Version + " from " + item.Source
	}
	if overlay != nil {
		for _, v := range overlay.Variables {
			s.Things["variable "+v.Name+" (local)"] = v.Text()
		}
		for _, t := range overlay.Toolchains {
			s.Things["toolchain "+t.Name+" (local)"] = t.Ask.String()
		}
	}
	s.Things["isolation"] = string(d.Isolation)
	s.Things["lock"] = s.LockID
	return s
}

// shells are commands whose first argument is a script to run.
var shells = []string{"sh", "bash", "dash", "zsh", "fish", ".", "source"}

// scripts are the files that a run starts itself: a command with a folder in its
// name, or what it hands to a shell. A program that some interpreter is given is
// the project's own source, which people change all day.
func scripts(r declare.Run) []string {
	var out []string
	take := func(words []string) {
		if len(words) > 1 && slices.Contains(shells, words[0]) && !strings.HasPrefix(words[1], "-") {
			out = append(out, words[1])
		} else if len(words) > 0 && strings.Contains(words[0], "/") {
			out = append(out, words[0])
		}
	}
	if len(r.Argv) > 0 {
		take(r.Argv)
		return out
	}
	file, err := syntax.NewParser().Parse(strings.NewReader(r.Script), "")
	if err != nil {
		return nil
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		if call, ok := n.(*syntax.CallExpr); ok {
			var words []string
			for _, w := range call.Args {
				words = append(words, w.Lit())
			}
			take(words)
		}
		return true
	})
	return out
}

// sumOf is the digest of a regular file of the project, or "".
func sumOf(dir, name string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(dir, name)
	}
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	h := blake3.New(32, nil)
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return "blake3:" + hex.EncodeToString(h.Sum(nil))
}

// Consent is what is kept of an approval.
type Consent struct {
	Dir    string            `json:"dir"`
	At     time.Time         `json:"at"`
	Things map[string]string `json:"things"`
}

// File is where the consent to a project is kept.
func File(p place.Places, dir string) string {
	return filepath.Join(p.State, "approvals", strings.TrimPrefix(canon.Digest(dir), "sha256:")[:32]+".json")
}

// Last is the consent that was given last for a project; ok is false when there
// is none.
func Last(p place.Places, dir string) (c Consent, ok bool) {
	raw, err := os.ReadFile(File(p, dir))
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Dir != dir {
		return Consent{}, false
	}
	return c, true
}

// Variable is the environment variable by which a machine without a person
// approves: it holds the lock id.
const Variable = "TRAMMEL_APPROVE"

// Check says whether a subject is approved: by kept consent, or by a lock id in
// the environment. The error names how to approve.
func Check(p place.Places, s Subject, getenv func(string) string) error {
	if id := getenv(Variable); id != "" {
		if strings.TrimPrefix(id, "sha256:") == strings.TrimPrefix(s.LockID, "sha256:") {
			return nil
		}
		return fault.New(fault.NotApproved, "%s holds another lock id than this project's %s", Variable, s.LockID).
			Advise("Look at what changed in trammel.lock, then set it to the new id.")
	}
	c, ok := Last(p, s.Dir)
	if ok && maps.Equal(c.Things, s.Things) {
		return nil
	}
	what := "nobody has approved what this project would run"
	if ok {
		changes := Changes(c.Things, s.Things)
		what = "this project changed since you approved it: " + changes[0].Name + " " + changes[0].What
		if len(changes) > 1 {
			what = "this project changed since you approved it: " + changes[0].Name + " " + changes[0].What + " and " + plural(len(changes)-1)
		}
	}
	return fault.New(fault.NotApproved, "%s", what).Advise("Read it and decide: trammel approve")
}

func plural(n int) string {
	if n == 1 {
		return "1 more"
	}
	return string(canon.JSON(n)) + " more"
}

// Give records consent to a subject.
func Give(p place.Places, s Subject) error {
	raw, err := json.MarshalIndent(Consent{s.Dir, time.Now().UTC().Truncate(time.Second), s.Things}, "", " ")
	if err != nil {
		return err
	}
	return disk.Write(File(p, s.Dir), raw, 0o600)
}

// Revoke takes consent back; there may be none.
func Revoke(p place.Places, dir string) error {
	err := os.Remove(File(p, dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Change is a thing that is not what it was.
type Change struct {
	Name string
	What string // "is new", "changed", "is gone"
	Old  string
	New  string
}

// Changes compares two sets of things, sorted by name; those that run come first.
func Changes(old, now map[string]string) []Change {
	var out []Change
	for name, text := range now {
		if was, ok := old[name]; !ok {
			out = append(out, Change{name, "is new", "", text})
		} else if was != text {
			out = append(out, Change{name, "changed", was, text})
		}
	}
	for name, was := range old {
		if _, ok := now[name]; !ok {
			out = append(out, Change{name, "is gone", was, ""})
		}
	}
	slices.SortFunc(out, func(a, b Change) int {
		if r := Rank(a.Name) - Rank(b.Name); r != 0 {
			return r
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// Rank orders things by how much they can do: what runs first, the lock last.
func Rank(name string) int {
	kind, _, _ := strings.Cut(name, " ")
	order := []string{"step", "evidence", "file", "add-on", "service", "probe", "routine", "variable", "secret", "template", "source", "toolchain", "isolation", "lock"}
	return slices.Index(order, kind)
}
