// Package step decides which setup steps are due, and why, and runs them.
//
// A step is due when its fingerprint is not the one recorded by its last success.
// A mark is written only after a success, so a step that was killed, interrupted
// or failed is due again.
package step

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Fingerprint is what a step depends on: a digest for each named input, such as
// "script", "go", "$LEDGER_URL", "db/schema.sql" or "step modules".
type Fingerprint map[string]string

// Mark is the record of a step's last success.
type Mark struct {
	Inputs Fingerprint   `json:"inputs"`
	At     time.Time     `json:"at"`
	Took   time.Duration `json:"took"`

	Evidence []string `json:"evidence,omitempty"` // what its evidence said then
}

// Status is what is known of a step.
type Status struct {
	Step   declare.Step
	Due    bool
	Why    string // "db/schema.sql changed"; empty when not due
	Mark   Mark   // zero when it never succeeded
	inputs Fingerprint
	reads  list // the files that it reads
	files  *files
	marks  string // folder of its mark
}

// Digest says what a step is made of: another one makes it due.
func (st Status) Digest() string { return canon.Digest(map[string]string(st.inputs)) }

// When a step runs besides when it is due.
const (
	AtEachFit   = "always"
	AtEachShell = "shell"
	AtFirst     = "first" // never again once it was done in a bay
)

// Marks are the folders of marks: of a checkout, and of a bay for the steps that
// are per bay.
type Marks struct{ Checkout, Bay string }

// MarksIn names the folders, given the checkout's own and that of the bay's records.
//
// Where nothing was done in the checkout yet it has no folder, which is "".
func MarksIn(local, records string) Marks {
	if local == "" {
		return Marks{"", filepath.Join(records, "steps")}
	}
	return Marks{filepath.Join(local, "steps"), filepath.Join(records, "steps")}
}

func (m Marks) of(s declare.Step) string {
	if s.Per == "bay" || s.When == AtFirst {
		return m.Bay
	}
	return m.Checkout
}

// Read is the mark of a step, if it was ever done here.
func (m Marks) Read(s declare.Step) (Mark, bool) { return readMark(nil, m.of(s), s.Name) }

// Forget makes a step due again.
func (m Marks) Forget(s declare.Step) error { return begin(m.of(s), s.Name) }

// missing is the first glob of what a step makes for which nothing is there, in
// words, or "".
func missing(r *reading.Reader, dir string, makes []string) string {
	for _, glob := range makes {
		if found, err := doublestar.Glob(r.DirFS(dir), glob, doublestar.WithNoFollow()); err == nil && len(found) == 0 {
			return glob + " is missing"
		}
	}
	return ""
}

// Plan decides for every step of a declaration whether it is due. Steps are in
// the order of the declaration.
func Plan(r *reading.Reader, d *declare.Declaration, l *lock.Lock, parts []lock.PartOn, e environ.Environment, marks Marks, files map[string]string) ([]Status, error) {
	tools := Fingerprint{}
	for _, p := range parts {
		tools[p.Item] = canon.Digest(canon.List{tools[p.Item], string(p.Tree)})
	}
	known, lists := map[string]Fingerprint{}, map[string]list{}
	digests := map[string]string{}
	looked := look(r, d.Dir, marks)
	var fingerprint func(s declare.Step) (Fingerprint, error)
	fingerprint = func(s declare.Step) (Fingerprint, error) {
		if f, ok := known[s.Name]; ok {
			return f, nil
		}
		f := Fingerprint{"script": canon.Digest(s.Run.Meaning())}
		for tool, digest := range tools {
			f[tool] = digest
		}
		for _, v := range e.Variables {
			if v.From == "declaration" && names(s.Run, v.Name) {
				f["$"+v.Name] = canon.Digest(v.Value)
			}
		}
		list, err := looked.read(s.Reads, s.Ignore)
		if err != nil {
			return nil, err
		}
		if len(s.Reads) > 0 {
			lists[s.Name] = list
			f[fileInput] = list.digest
		}
		for _, n := range s.Needs {
			if name, ok := strings.CutPrefix(n, "file."); ok {
				f["file "+name] = files[name]
			}
			if name, ok := strings.CutPrefix(n, "step."); ok {
				needed, _ := d.Step(name)
				g, err := fingerprint(needed)
				if err != nil {
					return nil, err
				}
				if digests[name] == "" {
					digests[name] = canon.Digest(map[string]string(g))
				}
				f["step "+name] = digests[name]
			}
		}
		known[s.Name] = f
		return f, nil
	}
	var out []Status
	for _, s := range d.Steps {
		f, err := fingerprint(s)
		if err != nil {
			return nil, fmt.Errorf("step %s: %w", s.Name, err)
		}
		st := Status{Step: s, inputs: f, reads: lists[s.Name], files: looked, marks: marks.of(s)}
		var had bool
		st.Mark, had = readMark(r, st.marks, s.Name)
		if st.Why = st.why(r, st.marks); !had {
			st.Why = "never done here"
		}
		if st.Why == "" {
			st.Why = missing(r, d.Dir, s.Makes)
		}
		if s.When == AtEachShell || s.When == AtFirst && had { // nothing that a fit would do
			st.Why = ""
		}
		st.Due = st.Why != ""
		out = append(out, st)
	}
	return out, nil
}

// names tells whether a script mentions a variable.
func names(r declare.Run, variable string) bool {
	for _, text := range append(slices.Clone(r.Argv), r.Script) {
		for rest := text; ; {
			i := strings.Index(rest, variable)
			if i < 0 {
				break
			}
			before, after := byte(' '), byte(' ')
			if i > 0 {
				before = rest[i-1]
			}
			if rest = rest[i+len(variable):]; rest != "" {
				after = rest[0]
			}
			if (before == '$' || before == '{') && !wordByte(after) {
				return true
			}
		}
	}
	return false
}

func wordByte(c byte) bool {
	return c == '_' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

func markFile(marks, name string) string { return filepath.Join(marks, name+".json") }

// readMark reads a mark; a damaged one counts as none.
func readMark(r *reading.Reader, marks, name string) (m Mark, ok bool) {
	if marks == "" {
		return m, false
	}
	raw, err := r.Read(markFile(marks, name), disk.MostState)
	if err != nil {
		return m, false
	}
	if json.Unmarshal(raw, &m) != nil || m.Inputs == nil {
		return Mark{}, false
	}
	return m, true
}

// succeed records a success.
func succeed(st Status, took time.Duration, evidence []string) error {
	raw, err := json.MarshalIndent(Mark{st.inputs, time.Now().UTC(), took, evidence}, "", " ")
	if err != nil {
		return err
	}
	if len(st.Step.Reads) > 0 { // before the mark, which names its digest
		if err := disk.Write(listFile(st.marks, st.Step.Name), listBytes(st.reads.files), 0o600); err != nil {
			return err
		}
	}
	return disk.Write(markFile(st.marks, st.Step.Name), raw, 0o600)
}

// begin forgets the last success: from here until the next one the step is due.
func begin(marks, name string) error {
	err := os.Remove(markFile(marks, name))
	if os.IsNotExist(err) {
		return nil
	}
	return err
}

// Due are those of steps that should run.
func Due(list []Status) []Status {
	return slices.DeleteFunc(slices.Clone(list), func(st Status) bool { return !st.Due })
}

// Keep copies the mark of a step into a folder, where there is one.
func (m Marks) Keep(s declare.Step, folder string) error {
	for _, from := range []string{listFile(m.of(s), s.Name), markFile(m.of(s), s.Name)} { // the mark last, which speaks of the list
		raw, err := disk.Read(from, disk.MostState)
		if os.IsNotExist(err) {
			continue
		}
		if err == nil {
			err = disk.Write(filepath.Join(folder, filepath.Base(from)), raw, 0o600)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Take makes the mark of a step that which Keep put into a folder; where there is none the step was never done.
func (m Marks) Take(s declare.Step, folder string) error {
	if err := m.Forget(s); err != nil {
		return err
	}
	if m.of(s) == "" {
		return nil
	}
	kept := Marks{Checkout: folder, Bay: folder}
	if err := os.MkdirAll(m.of(s), 0o700); err != nil {
		return err
	}
	return kept.Keep(s, m.of(s))
}

// Shares tells whether a step has one mark in this bay and in another: the checkout's.
func (m Marks) Shares(s declare.Step, with Marks) bool { return m.of(s) == with.of(s) }

// Copy makes the mark of a step in this bay that of another bay.
func (m Marks) Copy(s declare.Step, from Marks) error { return m.Take(s, from.of(s)) }
