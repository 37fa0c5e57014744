// Package render makes files of a project from templates: Go's text/template over
// the same names that references have.
//
// A file is rendered into its bay and linked at its place in the project, so that
// bays do not share it. It is written whole, and only when its content changes. What
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
	"text/template"
	"time"

	"lukechampine.com/blake3"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/written/declare"
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
	want  []byte
	at    string // in the bay
	link  string // in the project
}

// Digest identifies the content that the file should have.
func (s Status) Digest() string { return sum(s.want) }

// Inputs is what files are rendered from.
type Inputs struct {
	Declaration *declare.Declaration
	Look        func(string) (string, error)
	Reveal      func(string) string // puts secrets in
	BayDir      string
}

func sum(content []byte) string {
	s := blake3.Sum256(content)
	return hex.EncodeToString(s[:])
}

// record is where the digests of what was rendered are kept.
func (in Inputs) record() string { return filepath.Join(in.BayDir, "files.json") }

func (in Inputs) rendered() map[string]string {
	out := map[string]string{}
	if raw, err := os.ReadFile(in.record()); err == nil {
		_ = json.Unmarshal(raw, &out)
	}
	return out
}

// Plan says how each file is. It writes nothing.
func Plan(in Inputs) ([]Status, error) {
	if len(in.Declaration.Files) == 0 {
		return nil, nil
	}
	names, err := in.names()
	if err != nil {
		return nil, err
	}
	before := in.rendered()
	var out []Status
	for _, f := range in.Declaration.Files {
		s := Status{File: f, State: OK, at: filepath.Join(in.BayDir, "files", f.Path), link: filepath.Join(in.Declaration.Dir, f.Path)}
		if s.want, err = in.content(f, names); err != nil {
			return nil, err
		}
		have, readErr := os.ReadFile(s.at)
		target, linkErr := os.Readlink(s.link)
		_, there := os.Lstat(s.link)
		switch {
		case there == nil && (linkErr != nil || !strings.Contains(target, string(filepath.Separator)+"files"+string(filepath.Separator))):
			s.State, s.Why = Blocked, "a file of the project has its place"
		case readErr == nil && before[f.Path] != "" && sum(have) != before[f.Path] && !bytes.Equal(have, s.want):
			s.State, s.Why = Drifted, "changed by hand"
		case readErr != nil:
			s.State, s.Why = Due, "not rendered yet"
		case !bytes.Equal(have, s.want):
			s.State, s.Why = Due, "its content changes"
		case target != s.at:
			s.State, s.Why = Due, "it shows another bay's"
		}
		out = append(out, s)
	}
	return out, nil
}

// Write renders what is due and returns the paths, and in words what was kept of a
// person's changes.
func Write(in Inputs) (written, kept []string, err error) {
	list, err := Plan(in)
	if err != nil {
		return nil, nil, err
	}
	record := in.rendered()
	for _, s := range list {
		switch s.State {
		case OK:
			continue
		case Blocked:
			return written, kept, fault.New(fault.Use, "%s is a file of the project, and %s: [file.%q] would put another in its place", s.File.Path, s.File.Place, s.File.Path).
				Advise("Render to another path, or take the file out of the project (git rm --cached %s, then move it away).", s.File.Path)
		case Drifted:
			aside := s.at + ".edited-" + time.Now().Format("20060102-150405")
			if err := os.Rename(s.at, aside); err != nil {
				return written, kept, err
			}
			kept = append(kept, fmt.Sprintf("%s was changed by hand; that is kept as %s", s.File.Path, aside))
		}
		mode := fs.FileMode(0o644)
		if strings.Contains(in.source(s.File), ".secret") {
			mode = 0o600
		}
		if err := disk.Write(s.at, s.want, mode); err != nil {
			return written, kept, err
		}
		record[s.File.Path] = sum(s.want)
		raw, err := json.MarshalIndent(record, "", " ")
		if err == nil {
			err = disk.Write(in.record(), raw, 0o644)
		}
		if err == nil {
			err = disk.Link(s.link, s.at)
		}
		if err != nil {
			return written, kept, err
		}
		written = append(written, s.File.Path)
	}
	return written, kept, nil
}

func (in Inputs) source(f declare.File) string {
	raw, _ := os.ReadFile(filepath.Join(in.Declaration.Dir, f.Template))
	return string(raw)
}

func (in Inputs) content(f declare.File, names map[string]any) ([]byte, error) {
	raw, err := os.ReadFile(filepath.Join(in.Declaration.Dir, f.Template))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Use, "%s: the template %s of %s is not there", f.Place, f.Template, f.Path).
			Advise("Write it, or take [file.%q] out of the declaration.", f.Path)
	}
	if err != nil {
		return nil, err
	}
	t, err := template.New(f.Template).Option("missingkey=error").Parse(string(raw))
	if err != nil {
		return nil, fault.New(fault.Use, "the template does not parse: %s", strings.TrimPrefix(err.Error(), "template: ")).
			Advise("Templates are Go's text/template.")
	}
	var b bytes.Buffer
	if err := t.Execute(&b, names); err != nil {
		return nil, fault.New(fault.Use, "%s cannot be rendered: %s", f.Path, strings.TrimPrefix(err.Error(), "template: ")).
			Advise("A template knows .param, .service, .secret, .project and .bay; a name with a dash is had by: index .param \"spring-run\"")
	}
	return []byte(in.Reveal(b.String())), nil
}

// names are what a template can refer to: {{ .param.lanes }}, {{ .service.lane.url }}
// and so on; a name with a dash by index: {{ index .param "spring-run" }}.
func (in Inputs) names() (map[string]any, error) {
	d := in.Declaration
	look := func(name string) string {
		v, err := in.Look(name)
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

// Of gathers the inputs from those of an environment.
func Of(in environ.Inputs, e *environ.Environment) Inputs {
	return Inputs{Declaration: in.Declaration, Look: in.Lookup("", 0), Reveal: e.Reveal, BayDir: in.Bay.Dir}
}
