// Package render makes files of a project from templates: Go's text/template over
// the same names that references have.
//
// A file is rendered into its bay and linked at its place in the project, so that
// bays do not share it. It is written whole, and only when its content changes. Looking
// executes no template and reveals no secret. What
// a person wrote into it is kept beside it. A file that is the project's own is never
// replaced.
package render

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"time"

	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
)

// States of a rendered file.
const (
	OK      = "ok"
	Due     = "due"     // its content is to change, or it is not there
	Drifted = "drift"   // a person changed it
	Blocked = "blocked" // a file of the project has its place
)

// Status is how a file is, and what it should be.
type Status struct {
	File  declare.File
	State string
	Why   string
	input string // digest of what it is rendered from
	link  string // in the project, absolute
	at    string // in the bay, absolute
}

// Digest identifies what the file is rendered from: its template, and the values of the
// names that the template mentions. A secret counts by its name.
func (s Status) Digest() string { return s.input }

// Inputs is what files are rendered from.
type Inputs struct {
	Declaration *declare.Declaration
	Look        func(string) (string, error) // for who reads on this machine
	LookInside  func(string) (string, error) // for services, which may have a network of their own
	BayDir      string                       // where rendered files lie
	Records     string                       // where it is kept what was rendered
}

// Of gathers the inputs of a plan.
func Of(p *environ.Plan) Inputs {
	return Inputs{p.State.Declaration, p.Lookup("", 0), p.LookupInside("", 0), p.State.Bay.Dir, p.State.Bay.Records}
}

func sum(content []byte) string {
	s := blake3.Sum256(content)
	return hex.EncodeToString(s[:])
}

// record is where it is kept what was rendered.
func (in Inputs) record() string { return filepath.Join(in.Records, "files.json") }

// made says of a rendered file what it was rendered from, and its content's digest.
type made struct {
	Input  string `json:"input"`
	Output string `json:"output"`
}

func (in Inputs) rendered(r *reading.Reader) map[string]made {
	out := map[string]made{}
	if raw, err := r.Read(in.record(), disk.MostState); err == nil {
		_ = json.Unmarshal(raw, &out)
	}
	return out
}

// Look says how each file is. It writes nothing, reveals no secret, and executes no
// template, which is somebody else's code.
func Look(r *reading.Reader, in Inputs) ([]Status, error) {
	if len(in.Declaration.Files) == 0 {
		return nil, nil
	}
	of := in.readers()
	before := in.rendered(r)
	var out []Status
	for _, f := range in.Declaration.Files {
		s := Status{File: f, State: OK, at: filepath.Join(in.BayDir, "files", f.Path), link: filepath.Join(in.Declaration.Dir, f.Path)}
		source, err := in.source(r, f)
		if err != nil {
			return nil, err
		}
		names, err := of(f)
		if err != nil {
			return nil, err
		}
		s.input = canon.Digest(canon.Map{"template": sum(source), "names": mentioned(string(source), names)})
		have, readErr := r.ReadWithin(in.BayDir, filepath.Join("files", f.Path), disk.MostText)
		target, linkErr := r.Readlink(s.link)
		_, there := r.Lstat(s.link)
		was, known := before[f.Path]
		switch {
		case there == nil && (linkErr != nil || !strings.Contains(target, string(filepath.Separator)+"files"+string(filepath.Separator))):
			s.State, s.Why = Blocked, "a file of the project has its place"
		case readErr != nil:
			s.State, s.Why = Due, "not rendered yet"
		case known && sum(have) != was.Output:
			s.State, s.Why = Drifted, "changed by hand"
		case was.Input != s.input:
			s.State, s.Why = Due, "its content changes"
		case there != nil:
			s.State, s.Why = Due, "its link into the bay is missing"
		case target != s.at:
			s.State, s.Why = Due, "it shows another bay's"
		}
		out = append(out, s)
	}
	return out, nil
}

// mentioned are the values of the params, services and secrets whose names a template has
// anywhere, with the project's and the bay's.
func mentioned(source string, names map[string]any) canon.Map {
	out := canon.Map{}
	for group, values := range names {
		table, ok := values.(map[string]any)
		if !ok {
			continue
		}
		whole := bare(source, group)
		for name, value := range table {
			if group == "project" || group == "bay" || whole || mentions(source, name) {
				out[group+"."+name] = fmt.Sprintf("%#v", value)
			}
		}
	}
	return out
}

// bare tells whether a template uses a group without naming one of it at once, as a loop
// over all services does.
func bare(source, group string) bool {
	for at, before := 0, "."+group; ; at++ {
		i := strings.Index(source[at:], before)
		if i < 0 {
			return false
		}
		at += i
		if end := at + len(before); end == len(source) || source[end] != '.' {
			return true
		}
	}
}

// mentions tells whether a text has a name as a whole word.
func mentions(text, name string) bool {
	part := func(b byte) bool {
		return b == '_' || b == '-' || '0' <= b && b <= '9' || 'a' <= b && b <= 'z' || 'A' <= b && b <= 'Z'
	}
	for at := 0; ; at++ {
		i := strings.Index(text[at:], name)
		if i < 0 {
			return false
		}
		at += i
		end := at + len(name)
		if (at == 0 || !part(text[at-1])) && (end == len(text) || !part(text[end])) {
			return true
		}
	}
}

// Write renders the files and returns the paths of those that changed, and in words what
// was kept of a person's changes. Each goes to its place in the project and no further,
// whatever links the project has.
func Write(in Inputs, e *environ.Ready) (written, kept []string, err error) {
	list, err := Look(nil, in)
	if err != nil || len(list) == 0 {
		return nil, nil, err
	}
	of := in.readers()
	record := in.rendered(nil)
	for _, s := range list {
		if s.State == Blocked {
			return written, kept, fault.New(fault.ErrUsage, "%s is a file of the project, and %s: [file.%q] would put another in its place", s.File.Path, s.File.Place, s.File.Path).
				Advise("Render to another path, or take the file out of the project (git rm --cached %s, then move it away).", shell.Typed(s.File.Path))
		}
		source, err := in.source(nil, s.File)
		if err != nil {
			return written, kept, err
		}
		names, err := of(s.File)
		if err != nil {
			return written, kept, err
		}
		want, err := content(s.File, source, names, e.Reveal)
		if err != nil {
			return written, kept, err
		}
		was := record[s.File.Path]
		if s.State == OK && sum(want) == was.Output {
			continue
		}
		if s.State == Drifted {
			aside := s.at + ".edited-" + time.Now().Format("20060102-150405")
			if err := os.Rename(s.at, aside); err != nil {
				return written, kept, err
			}
			kept = append(kept, fmt.Sprintf("%s was changed by hand; that is kept as %s", s.File.Path, aside))
		}
		mode := fs.FileMode(0o644)
		if strings.Contains(string(source), ".secret") {
			mode = 0o600
		}
		if err := os.MkdirAll(in.BayDir, 0o700); err != nil {
			return written, kept, err
		}
		if err := disk.WriteWithin(in.BayDir, filepath.Join("files", s.File.Path), want, mode); err != nil {
			return written, kept, out(s.File, err)
		}
		record[s.File.Path] = made{s.input, sum(want)}
		raw, err := json.MarshalIndent(record, "", " ")
		if err == nil {
			err = disk.Write(in.record(), raw, 0o600)
		}
		if err == nil {
			err = disk.LinkWithin(in.Declaration.Dir, s.File.Path, s.at)
		}
		if err != nil {
			return written, kept, out(s.File, err)
		}
		written = append(written, s.File.Path)
	}
	return written, kept, nil
}

// Text is a file as it would be rendered.
type Text struct {
	Path   string // below the project's folder
	Text   string
	Secret bool // its template mentions one
}

// readers gives the names that a file's template may use, with the addresses that hold for who reads it. Each of the two
// tables is made once.
func (in Inputs) readers() func(declare.File) (map[string]any, error) {
	outside := sync.OnceValues(func() (map[string]any, error) { return in.names(in.Look) })
	inside := sync.OnceValues(func() (map[string]any, error) { return in.names(in.LookInside) })
	return func(f declare.File) (map[string]any, error) {
		if services, _ := in.Declaration.Readers(f.Path); len(services) > 0 && in.LookInside != nil {
			return inside()
		}
		return outside()
	}
}

// Mixed refuses files that a service in a private network reads, and a step or a person's own command of this machine too,
// where the template has an address: it is another one for each.
func Mixed(d *declare.Declaration) error {
	if d.Network != declare.NetworkPrivate {
		return nil
	}
	var found fault.Findings
	for _, f := range d.Files {
		services, steps := d.Readers(f.Path)
		if len(services) == 0 || len(steps) == 0 {
			continue
		}
		raw, err := Inputs{Declaration: d}.source(nil, f)
		if err != nil {
			return err
		}
		if !strings.Contains(string(raw), ".service") {
			continue
		}
		found = append(found, fault.Finding{
			Place: f.Place, What: fmt.Sprintf("%s has addresses of services, and is read by %s in a private network and by %s on this machine, for which they differ", f.Path, services[0], steps[0]),
			Do: "Render two files from one template, one for each, and name each in the needs of who reads it:\n[file.\"inside/" + f.Path + "\"]\ntemplate = \"" + f.Template + "\"",
		})
	}
	if len(found) > 0 {
		return found
	}
	return nil
}

// Texts renders the files and writes none.
func Texts(in Inputs, reveal func(string) string) ([]Text, error) {
	if len(in.Declaration.Files) == 0 {
		return nil, nil
	}
	of := in.readers()
	var out []Text
	for _, f := range in.Declaration.Files {
		source, err := in.source(nil, f)
		if err != nil {
			return nil, err
		}
		names, err := of(f)
		if err != nil {
			return nil, err
		}
		text, err := content(f, source, names, reveal)
		if err != nil {
			return nil, err
		}
		out = append(out, Text{f.Path, string(text), strings.Contains(string(source), ".secret") || environ.Marked(string(text))})
	}
	return out, nil
}

// out explains why a file cannot have its place.
func out(f declare.File, err error) error {
	if errors.Is(err, disk.ErrLeaves) {
		return fault.New(fault.ErrUsage, "%s: [file.%q] leads out of the project by a link", f.Place, f.Path).
			Advise("A rendered file lies in the project. Name a path whose folders are the project's own, and no links to others.")
	}
	return err
}

func (in Inputs) source(r *reading.Reader, f declare.File) ([]byte, error) {
	raw, err := r.ReadWithin(in.Declaration.Dir, f.Template, disk.MostText)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.ErrUsage, "%s: the template %s of %s is not there", f.Place, f.Template, f.Path).
			Advise("Write it, or take [file.%q] out of the declaration.", f.Path)
	}
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "%s: the template %s of %s %s", f.Place, f.Template, f.Path, disk.InWords(err))
	}
	return raw, nil
}

// mostRendered is how large a rendered file may be, in bytes.
const mostRendered = 64 << 20

// limited ends a template that writes without end.
type limited struct{ bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > mostRendered {
		return 0, fmt.Errorf("it gives more than %d MiB", mostRendered>>20)
	}
	return l.Buffer.Write(p)
}

func content(f declare.File, source []byte, names map[string]any, reveal func(string) string) ([]byte, error) {
	t, err := template.New(f.Template).Option("missingkey=error").Parse(string(source))
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "the template does not parse: %s", strings.TrimPrefix(err.Error(), "template: ")).
			Advise("Templates are Go's text/template.")
	}
	var b limited
	if err := t.Execute(&b, names); err != nil {
		return nil, fault.New(fault.ErrUsage, "%s cannot be rendered: %s", f.Path, strings.TrimPrefix(err.Error(), "template: ")).
			Advise("A template knows .param, .service, .secret, .project and .bay; a name with a dash is had by: index .param \"spring-run\"")
	}
	return []byte(reveal(b.String())), nil
}

// names are what a template can refer to: {{ .param.lanes }}, {{ .service.lane.url }}
// and so on; a name with a dash by index: {{ index .param "spring-run" }}.
func (in Inputs) names(meaning func(string) (string, error)) (map[string]any, error) {
	d := in.Declaration
	look := func(name string) string {
		v, err := meaning(name)
		if err != nil {
			return ""
		}
		return v
	}
	params, services, secrets := map[string]any{}, map[string]any{}, map[string]any{}
	for _, p := range d.Params {
		value := d.Values[p.Name]
		switch p.Kind {
		case declare.IntegerParam:
			n, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return nil, err
			}
			params[p.Name] = n
		case declare.FlagParam:
			params[p.Name] = value == "true"
		case declare.ListParam:
			list := []string{}
			for w := range strings.SplitSeq(value, ",") {
				if w != "" {
					list = append(list, w)
				}
			}
			params[p.Name] = list
		default:
			params[p.Name] = value
		}
	}
	for _, s := range d.Services {
		ports := map[string]any{}
		for _, p := range s.Ports {
			ports[p.Name] = look("service." + s.Name + ".port." + p.Name)
		}
		entry := map[string]any{"host": "127.0.0.1", "port": ports}
		for _, name := range s.Offers() {
			entry[name] = look("service." + s.Name + "." + name)
		}
		services[s.Name] = entry
	}
	for _, s := range d.Secrets {
		secrets[s.Name] = look("secret." + s.Name)
	}
	return map[string]any{
		"param": params, "service": services, "secret": secrets,
		"project": map[string]any{"dir": d.Dir, "name": d.Project},
		"bay":     map[string]any{"dir": look("bay.dir"), "name": look("bay.name")},
	}, nil
}
