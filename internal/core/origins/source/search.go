package source

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/version"
)

// Found is a package of a source.
type Found struct {
	Name    string
	Version string // the newest
	About   string // in one line, "" where the source does not say
}

// Searcher is a source in which packages can be looked up by a word.
type Searcher interface {
	// Search lists packages whose name or description has a word, the one of that very name
	// first, at most so many.
	Search(ctx context.Context, word string, p platform.Platform, most int) ([]Found, error)
	// Names lists the names that the source can tell, for "did you mean"; nil when it cannot.
	Names(ctx context.Context, p platform.Platform) ([]string, error)
}

// ranked sorts what was found: the very name, names that begin with the word, names that have
// it, descriptions.
func ranked(list []Found, word string, most int) []Found {
	word = strings.ToLower(word)
	rank := func(f Found) int {
		name := strings.ToLower(f.Name)
		switch {
		case name == word:
			return 0
		case strings.HasPrefix(name, word):
			return 1
		case strings.Contains(name, word):
			return 2
		}
		return 3
	}
	slices.SortStableFunc(list, func(a, b Found) int {
		if c := rank(a) - rank(b); c != 0 {
			return c
		}
		return strings.Compare(a.Name, b.Name)
	})
	return list[:min(len(list), most)]
}

func has(f Found, word string) bool {
	return strings.Contains(strings.ToLower(f.Name+" "+f.About), strings.ToLower(word))
}

// Search implements Searcher.
func (s *debianArchive) Search(ctx context.Context, word string, p platform.Platform, most int) ([]Found, error) {
	list, err := s.index(ctx, p)
	if err != nil {
		return nil, err
	}
	newest := map[string]Found{}
	for _, x := range list {
		if err := x.Each(func(q *debian.Package) {
			f := Found{q.Name, q.Version, q.About}
			if old, ok := newest[q.Name]; has(f, word) && (!ok || version.Debian.Compare(q.Version, old.Version) > 0) {
				newest[q.Name] = f
			}
		}); err != nil {
			return nil, err
		}
	}
	var out []Found
	for _, f := range newest {
		out = append(out, f)
	}
	return ranked(out, word, most), nil
}

// Names implements Searcher.
func (s *debianArchive) Names(ctx context.Context, p platform.Platform) ([]string, error) {
	list, err := s.index(ctx, p)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, x := range list {
		if err := x.Each(func(q *debian.Package) { out = append(out, q.Name) }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Search implements Searcher: an index of Python packages has no search, so that it is the
// very name or nothing.
func (w *Wheels) Search(ctx context.Context, word string, _ platform.Platform, _ int) ([]Found, error) {
	if !python.ValidName(word) {
		return nil, nil
	}
	p, err := w.Project(ctx, python.Normal(word))
	if fetch.NotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f := Found{Name: p.Name}
	var newest ProjectFile
	for _, x := range p.Files {
		v, ok := x.Version(p.Name)
		if !ok || x.Yanked || version.PEP440.Prerelease(v) {
			continue
		}
		if f.Version == "" || version.PEP440.Compare(v, f.Version) > 0 {
			f.Version, newest = v, x
		}
	}
	if newest.Metadata { // it costs one small file
		if m, err := w.Metadata(ctx, newest); err == nil {
			f.About = m.Summary
		}
	}
	return []Found{f}, nil
}

// Names implements Searcher: all names of an index would be a large document.
func (w *Wheels) Names(context.Context, platform.Platform) ([]string, error) { return nil, nil }

// Search implements Searcher.
func (r *RLibraries) Search(ctx context.Context, word string, _ platform.Platform, most int) ([]Found, error) {
	all, err := r.index(ctx)
	if err != nil {
		return nil, err
	}
	var out []Found
	for name, list := range all {
		if f := (Found{name, list[0].Version, list[0].Title}); has(f, word) {
			out = append(out, f)
		}
	}
	return ranked(out, word, most), nil
}

// Names implements Searcher.
func (r *RLibraries) Names(ctx context.Context, _ platform.Platform) ([]string, error) {
	all, err := r.index(ctx)
	var out []string
	for name := range all {
		out = append(out, name)
	}
	slices.Sort(out)
	return out, err
}

// Search implements Searcher: the registry's own search where it has one (npm registry API,
// /-/v1/search), and the very name.
func (n *npm) Search(ctx context.Context, word string, _ platform.Platform, most int) ([]Found, error) {
	var out []Found
	if doc, err := n.document(ctx, word); err == nil {
		latest := doc.Tags["latest"]
		out = append(out, Found{word, latest, doc.About})
	} else if !fetch.NotFound(err) {
		return nil, err
	}
	at := fetch.Address{URL: n.base + "-/v1/search?size=20&text=" + url.QueryEscape(word), Authorization: n.authorization}
	raw, err := n.client.Document(ctx, at, "application/json", nil)
	if err != nil {
		return out, nil // not every registry has it
	}
	var answer struct {
		Objects []struct {
			Package struct{ Name, Version, Description string }
		}
	}
	if json.Unmarshal(raw, &answer) == nil {
		for _, o := range answer.Objects {
			f := Found{o.Package.Name, o.Package.Version, o.Package.Description}
			if has(f, word) && !slices.ContainsFunc(out, func(x Found) bool { return x.Name == f.Name }) {
				out = append(out, f)
			}
		}
	}
	return ranked(out, word, most), nil
}

// Names implements Searcher.
func (n *npm) Names(context.Context, platform.Platform) ([]string, error) { return nil, nil }
