package standin

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"slices"
	"strings"
	"time"
)

// Wheel is one file of a Python index.
type Wheel struct {
	Name, Version  string
	Tag            string // "" means py3-none-any
	Requires       []string
	RequiresPython string
	Extras         []string
	Files          []File // of the package, as they lie in site-packages
	Scripts        string // content of entry_points.txt
	Yanked         string // why; "" means that it is not
	Hidden         bool   // its metadata cannot be had by itself
	Lies           bool   // the metadata by itself has other bytes than the index states
	NoDigest       bool
	Uploaded       time.Time

	Archive []byte // made elsewhere; nil: made of the above
	File    string // its name when Archive is set
}

// pythonIndex is what an index has.
type pythonIndex struct {
	files map[string][]pythonFile // normalized name → files
	html  bool                    // it speaks HTML only
}

type pythonFile struct {
	Wheel
	name     string
	metadata []byte
	sum      string
}

// normal is a project's name as an index has it (PEP 503).
func normal(name string) string {
	return strings.ToLower(strings.NewReplacer("_", "-", ".", "-").Replace(name))
}

// Python is the address of a Python index of a name.
func (s *Server) Python(name string) string { return s.http.URL + "/python/" + name + "/simple/" }

// PythonHTML makes an index speak HTML only.
func (s *Server) PythonHTML(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.index(name).html = true
}

func (s *Server) index(name string) *pythonIndex {
	if s.python[name] == nil {
		s.python[name] = &pythonIndex{files: map[string][]pythonFile{}}
	}
	return s.python[name]
}

// Metadata is the METADATA of a wheel.
func (w Wheel) Metadata() []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "Metadata-Version: 2.3\nName: %s\nVersion: %s\n", w.Name, w.Version)
	if w.RequiresPython != "" {
		fmt.Fprintf(&b, "Requires-Python: %s\n", w.RequiresPython)
	}
	for _, e := range w.Extras {
		fmt.Fprintf(&b, "Provides-Extra: %s\n", e)
	}
	for _, r := range w.Requires {
		fmt.Fprintf(&b, "Requires-Dist: %s\n", r)
	}
	return []byte(b.String() + "\nMade up.\n")
}

// Pack makes the file of a wheel (PEP 427) and its name.
func (w Wheel) Pack() (name string, archive []byte) {
	tag := w.Tag
	if tag == "" {
		tag = "py3-none-any"
	}
	stem := strings.ReplaceAll(w.Name, "-", "_") + "-" + w.Version
	info := stem + ".dist-info/"
	files := slices.Clone(w.Files)
	files = append(files, File{Name: info + "METADATA", Content: string(w.Metadata())},
		File{Name: info + "WHEEL", Content: "Wheel-Version: 1.0\nGenerator: standin\nRoot-Is-Purelib: true\nTag: " + tag + "\n"})
	if w.Scripts != "" {
		files = append(files, File{Name: info + "entry_points.txt", Content: w.Scripts})
	}
	record := ""
	for _, f := range files {
		record += f.Name + ",,\n"
	}
	files = append(files, File{Name: info + "RECORD", Content: record + info + "RECORD,,\n"})
	return stem + "-" + tag + ".whl", Zip(files...)
}

// PutWheel publishes a wheel, or another file, in an index. One of the same name is
// replaced.
func (s *Server) PutWheel(index string, w Wheel) {
	f := pythonFile{Wheel: w, name: w.File, metadata: w.Metadata()}
	if f.Archive == nil {
		f.name, f.Archive = w.Pack()
	}
	f.sum = fmt.Sprintf("%x", sha256.Sum256(f.Archive))
	s.mu.Lock()
	defer s.mu.Unlock()
	key := normal(w.Name)
	x := s.index(index)
	x.files[key] = slices.DeleteFunc(x.files[key], func(o pythonFile) bool { return o.name == f.name })
	x.files[key] = append(x.files[key], f)
	at := "/python/" + index + "/files/" + f.name
	s.blobs[at] = f.Archive
	delete(s.blobs, at+".metadata")
	if !w.Hidden {
		s.blobs[at+".metadata"] = f.metadata
		if w.Lies {
			s.blobs[at+".metadata"] = append([]byte("X-Other: yes\n"), f.metadata...)
		}
	}
}

// page is the page of a project in a form that the asker reads (PEP 503 and 691).
func (s *Server) page(path, accept string) (body []byte, kind string, ok bool) {
	rest, is := strings.CutPrefix(path, "/python/")
	index, project, has := strings.Cut(rest, "/simple/")
	if !is || !has {
		return nil, "", false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	x := s.python[index]
	project = strings.TrimSuffix(project, "/")
	if x == nil || x.files[project] == nil {
		return nil, "", false
	}
	if !x.html && strings.Contains(accept, "vnd.pypi.simple.v1+json") {
		list := []map[string]any{}
		for _, f := range x.files[project] {
			one := map[string]any{"filename": f.name, "url": "../../files/" + f.name, "hashes": map[string]string{"sha256": f.sum}, "size": len(f.Archive)}
			if f.NoDigest {
				one["hashes"] = map[string]string{}
			}
			if f.RequiresPython != "" {
				one["requires-python"] = f.RequiresPython
			}
			if !f.Hidden {
				one["core-metadata"] = map[string]string{"sha256": fmt.Sprintf("%x", sha256.Sum256(f.metadata))}
			}
			if f.Yanked != "" {
				one["yanked"] = f.Yanked
			}
			if !f.Uploaded.IsZero() {
				one["upload-time"] = f.Uploaded.UTC().Format(time.RFC3339Nano)
			}
			list = append(list, one)
		}
		raw, err := json.Marshal(map[string]any{"meta": map[string]string{"api-version": "1.1"}, "name": project, "files": list})
		must(err)
		return raw, "application/vnd.pypi.simple.v1+json", true
	}
	var b strings.Builder
	b.WriteString("<!DOCTYPE html>\n<html><head><meta name=\"pypi:repository-version\" content=\"1.0\"></head><body>\n")
	for _, f := range x.files[project] {
		b.WriteString(`<a href="../../files/` + f.name)
		if !f.NoDigest {
			b.WriteString("#sha256=" + f.sum)
		}
		b.WriteString(`"`)
		if f.RequiresPython != "" {
			b.WriteString(` data-requires-python="` + html.EscapeString(f.RequiresPython) + `"`)
		}
		if !f.Hidden {
			fmt.Fprintf(&b, ` data-core-metadata="sha256=%x"`, sha256.Sum256(f.metadata))
		}
		if f.Yanked != "" {
			b.WriteString(` data-yanked="` + html.EscapeString(f.Yanked) + `"`)
		}
		b.WriteString(">" + f.name + "</a><br/>\n")
	}
	b.WriteString("</body></html>\n")
	return []byte(b.String()), "text/html", true
}

// servePython answers for an index; false when a path is of none.
func (s *Server) servePython(w http.ResponseWriter, r *http.Request, path string, fault Fault, first bool) bool {
	body, kind, ok := s.page(path, r.Header.Get("Accept"))
	if !ok {
		return false
	}
	w.Header().Set("Content-Type", kind)
	s.send(w, r, body, fault, first)
	return true
}
