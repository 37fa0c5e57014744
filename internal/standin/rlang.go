package standin

import (
	"fmt"
	"slices"
	"strings"
)

// RPackage is a source package of an R repository.
type RPackage struct {
	Name, Version string
	Imports       string // "dplyr (>= 1.1)"
	Depends       string
	Compiled      bool
	Files         []File // besides DESCRIPTION and NAMESPACE
	Exports       string // of its NAMESPACE: "export(count)"
}

// R is the address of an R repository of a name.
func (s *Server) R(name string) string { return s.http.URL + "/r/" + name }

// PutR publishes packages in a repository: the newest version of each is in its index, the
// others are below Archive ("R Installation and Administration", Setting up a package
// repository).
func (s *Server) PutR(repository string, packages ...RPackage) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rPackages[repository] = append(s.rPackages[repository], packages...)
	base := "/r/" + repository + "/src/contrib/"
	newest := map[string]RPackage{}
	for _, p := range s.rPackages[repository] {
		if old, ok := newest[p.Name]; !ok || old.Version < p.Version {
			newest[p.Name] = p
		}
	}
	index := ""
	listings := map[string]string{}
	for _, p := range s.rPackages[repository] {
		file := p.Name + "_" + p.Version + ".tar.gz"
		archive := p.pack()
		if newest[p.Name].Version == p.Version {
			s.blobs[base+file] = archive
			index += p.description() + "\n"
			continue
		}
		delete(s.blobs, base+file)
		s.blobs[base+"Archive/"+p.Name+"/"+file] = archive
		listings[p.Name] += fmt.Sprintf("<tr><td><a href=%q>%s</a></td><td align=\"right\">2026-01-0%c 10:00  </td></tr>\n", file, file, p.Version[len(p.Version)-1])
	}
	s.blobs[base+"PACKAGES"] = []byte(index)
	s.blobs[base+"PACKAGES.gz"] = gz([]byte(index))
	for name, list := range listings {
		s.blobs[base+"Archive/"+name+"/"] = []byte("<html><body><table>\n" + list + "</table></body></html>\n")
	}
}

func (p RPackage) description() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Package: %s\nVersion: %s\n", p.Name, p.Version)
	for _, f := range [][2]string{{"Depends", p.Depends}, {"Imports", p.Imports}} {
		if f[1] != "" {
			fmt.Fprintf(&b, "%s: %s\n", f[0], f[1])
		}
	}
	compiled := "no"
	if p.Compiled {
		compiled = "yes"
	}
	fmt.Fprintf(&b, "License: MIT\nNeedsCompilation: %s\n", compiled)
	return b.String()
}

func (p RPackage) pack() []byte {
	files := slices.Clone(p.Files)
	more := "Title: Made Up\nDescription: Counts what passes the ladder.\nAuthor: The Hut\nMaintainer: The Hut <hut@heronweir.example>\n"
	files = append(files, File{Name: "DESCRIPTION", Content: p.description() + more}, File{Name: "NAMESPACE", Content: p.Exports + "\n"})
	for i := range files {
		files[i].Name = p.Name + "/" + files[i].Name
	}
	return TarGz(files...)
}
