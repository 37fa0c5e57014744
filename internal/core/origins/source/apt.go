package source

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/written/declare"
)

// aptEntry is one archive of apt's settings (sources.list(5), both formats).
type aptEntry struct {
	url      string
	suites   []string
	signedBy []string // files with keys
	keys     []byte   // keys that stand in the entry itself
	file     string   // where the entry is written
}

func (m *Machine) aptFolder() string {
	if m.Apt != "" {
		return m.Apt
	}
	return "/etc/apt"
}

// aptEntries reads apt's settings in its own order: sources.list, then the files of
// sources.list.d by name.
func (m *Machine) aptEntries() []aptEntry {
	var out []aptEntry
	files := []string{filepath.Join(m.aptFolder(), "sources.list")}
	for _, file := range append(files, filesIn(filepath.Join(m.aptFolder(), "sources.list.d"), "*")...) {
		raw, err := disk.Read(file, disk.MostState)
		if err != nil {
			continue
		}
		switch filepath.Ext(file) {
		case ".list":
			out = append(out, oneLineEntries(raw, file)...)
		case ".sources":
			out = append(out, deb822Entries(raw, file)...)
		}
	}
	return slices.DeleteFunc(out, func(e aptEntry) bool {
		return !strings.HasPrefix(e.url, "http://") && !strings.HasPrefix(e.url, "https://")
	})
}

// filesIn are the files of a folder whose names a pattern matches, by name.
func filesIn(dir, pattern string) (files []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if ok, _ := filepath.Match(pattern, e.Name()); ok {
			files = append(files, filepath.Join(dir, e.Name()))
		}
	}
	return files
}

// oneLineEntries reads: deb [option=value …] URL SUITE COMPONENT…
func oneLineEntries(raw []byte, file string) []aptEntry {
	var out []aptEntry
	for line := range strings.Lines(string(raw)) {
		line, _, _ = strings.Cut(line, "#")
		rest, ok := strings.CutPrefix(strings.TrimSpace(line), "deb")
		if !ok || rest == "" || rest[0] != ' ' && rest[0] != '\t' {
			continue
		}
		e := aptEntry{file: file}
		if rest = strings.TrimSpace(rest); strings.HasPrefix(rest, "[") {
			options, after, closed := strings.Cut(rest[1:], "]")
			if !closed {
				continue
			}
			for option := range strings.FieldsSeq(options) {
				if keys, ok := strings.CutPrefix(option, "signed-by="); ok {
					e.signedBy = strings.Split(keys, ",")
				}
			}
			rest = after
		}
		if words := strings.Fields(rest); len(words) >= 2 {
			e.url, e.suites = words[0], words[1:2]
			out = append(out, e)
		}
	}
	return out
}

// deb822Entries reads paragraphs with Types, URIs, Suites and Signed-By.
func deb822Entries(raw []byte, file string) []aptEntry {
	var out []aptEntry
	_ = debian.Paragraphs(bytes.NewReader(raw), nil, func(f map[string]string) error {
		if !slices.Contains(strings.Fields(f["Types"]), "deb") || strings.EqualFold(f["Enabled"], "no") {
			return nil
		}
		for url := range strings.FieldsSeq(f["URIs"]) {
			e := aptEntry{url: url, suites: strings.Fields(f["Suites"]), file: file}
			if key := f["Signed-By"]; strings.Contains(key, "-----BEGIN") {
				var lines []string
				for line := range strings.Lines(strings.TrimSpace(key)) {
					if line = strings.TrimSpace(line); line == "." { // an empty line of a folded field
						line = ""
					}
					lines = append(lines, line)
				}
				e.keys = []byte(strings.Join(lines, "\n") + "\n")
			} else {
				e.signedBy = strings.Fields(key)
			}
			out = append(out, e)
		}
		return nil
	})
	return out
}

// aptEntryFor is the entry for a suite: the one that names it, else the first of an
// archive of whole suites, since one address holds all suites of an archive.
func (m *Machine) aptEntryFor(suite string) (e aptEntry, exact, ok bool) {
	all := m.aptEntries()
	for _, e := range all {
		if slices.Contains(e.suites, suite) {
			return e, true, true
		}
	}
	for _, e := range all {
		for _, s := range e.suites {
			if !strings.HasSuffix(s, "/") && !strings.HasSuffix(s, "-security") && !strings.Contains(s, "/updates") {
				return e, false, true
			}
		}
	}
	return aptEntry{}, false, false
}

func findDebian(m *Machine, d declare.Source) (Address, bool) {
	e, _, ok := m.aptEntryFor(d.Debian.Suites[0])
	return Address{URL: e.url, Detail: e.file}, ok
}

// keyring are the files with the keys that may sign a source's releases: the
// declaration's, those of the apt entry for this very suite, or all that this
// machine trusts for Debian archives.
func (m *Machine) keyring(d declare.Source, suite string) (files []string, keys []byte) {
	if d.Debian.Keyring != "" {
		file := d.Debian.Keyring
		if !filepath.IsAbs(file) {
			file = filepath.Join(m.Project, file)
		}
		return []string{file}, nil
	}
	if e, exact, ok := m.aptEntryFor(suite); ok && d.URLOf(suite) == "" && exact && (len(e.signedBy) > 0 || len(e.keys) > 0) {
		return e.signedBy, e.keys
	}
	files = append(files, filepath.Join(m.aptFolder(), "trusted.gpg"))
	trusted := filepath.Join(m.aptFolder(), "trusted.gpg.d")
	for _, more := range [][]string{filesIn(trusted, "*.gpg"), filesIn(trusted, "*.asc"), filesIn("/usr/share/keyrings", "debian-archive-*.gpg")} {
		files = append(files, more...)
	}
	return slices.DeleteFunc(files, func(file string) bool { return strings.Contains(file, "removed") }), nil
}

// AptSource is the source of the release that this machine itself is of, as apt's settings have
// it, with its updates and security fixes; false when they name none.
func AptSource(m *Machine) (declare.Source, bool) {
	release := AptSuite(m)
	if release == "" {
		return declare.Source{}, false
	}
	d := declare.Debian{Suites: []string{release}, Components: []string{"main"}}
	for _, e := range m.aptEntries() {
		for _, s := range e.suites {
			if !slices.Contains(d.Suites, s) && (s == release+"-updates" || s == release+"-security") {
				d.Suites = append(d.Suites, s)
			}
		}
	}
	return declare.Source{Name: release, Kind: "debian", Debian: d}, true
}

// AptSuite is the suite that this machine itself is of, as apt's settings have it; "" when
// they name none.
func AptSuite(m *Machine) string {
	for _, e := range m.aptEntries() {
		for _, s := range e.suites {
			if !strings.ContainsAny(s, "-/.") && s != "" {
				return s
			}
		}
	}
	return ""
}
