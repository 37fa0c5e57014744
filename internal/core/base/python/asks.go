package python

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Asks are what a project asks for, from all its files.
type Asks struct {
	Wants          []Want
	Constraints    []Want // hold where something else asks for their project
	RequiresPython Specifiers
	Hashes         map[string][]string // "NAME VERSION" → "sha256:…", from requirements files and locks
}

// Want is a requirement and where it was written.
type Want struct {
	Requirement
	From string // "requirements.txt:3"
}

// Read reads a file that others name, by its path from the project's folder.
type Read func(name string) ([]byte, error)

// problem is a line of a file that cannot be taken.
func problem(file string, line int, format string, args ...any) error {
	return fmt.Errorf("%s:%d: %s", file, line, fmt.Sprintf(format, args...))
}

// AddRequirements reads a requirements file (pip documentation, "Requirements File
// Format"): requirements, -r and -c, --hash; what would change where packages come from is
// refused, since sources are the declaration's.
func (a *Asks) AddRequirements(name string, read Read) error {
	return a.requirements(name, read, false, nil)
}

func (a *Asks) requirements(name string, read Read, constraint bool, path_ []string) error {
	if slices.Contains(path_, name) {
		return fmt.Errorf("the files name each other: %s", strings.Join(append(path_, name), " → "))
	}
	path_ = append(slices.Clone(path_), name)
	raw, err := read(name)
	if err != nil {
		return err
	}
	number := 0
	lines := strings.Split(strings.ReplaceAll(string(bytes.TrimPrefix(raw, []byte("\ufeff"))), "\r\n", "\n"), "\n")
	for number < len(lines) {
		first := number + 1
		line := lines[number]
		number++
		for strings.HasSuffix(line, "\\") && number < len(lines) {
			line = strings.TrimSuffix(line, "\\") + " " + lines[number]
			number++
		}
		if i := commentAt(line); i >= 0 {
			line = line[:i]
		}
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if line[0] == '-' {
			if err := a.option(name, first, line, read, constraint, path_); err != nil {
				return err
			}
			continue
		}
		var hashes []string
		words := strings.Fields(line)
		text := line
		for i, w := range words {
			if strings.HasPrefix(w, "--") {
				text = strings.Join(words[:i], " ")
				if hashes, err = hashesOf(words[i:]); err != nil {
					return problem(name, first, "%v", err)
				}
				break
			}
		}
		r, err := ParseRequirement(text)
		if err != nil {
			return problem(name, first, "%v", err)
		}
		if r.URL != "" || strings.ContainsAny(text[:1], "./") {
			return problem(name, first, "%s is at an address of its own, and a lock takes packages of a declared source only", r.Name)
		}
		w := Want{r, fmt.Sprintf("%s:%d", name, first)}
		if constraint {
			a.Constraints = append(a.Constraints, w)
		} else {
			a.Wants = append(a.Wants, w)
		}
		if len(hashes) > 0 {
			if len(r.Specifiers) != 1 || r.Specifiers[0].Operator != "==" && r.Specifiers[0].Operator != "===" {
				return problem(name, first, "%s has a hash and no exact version", r.Name)
			}
			a.hash(r.Name, r.Specifiers[0].Version, hashes)
		}
	}
	return nil
}

func (a *Asks) hash(name, v string, hashes []string) {
	if a.Hashes == nil {
		a.Hashes = map[string][]string{}
	}
	key := name + " " + v
	a.Hashes[key] = append(a.Hashes[key], hashes...)
}

// commentAt is where a comment begins: a # at the start or behind white space.
func commentAt(line string) int {
	for i, c := range line {
		if c == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t') {
			return i
		}
	}
	return -1
}

func hashesOf(words []string) ([]string, error) {
	var out []string
	for i := 0; i < len(words); i++ {
		value, ok := strings.CutPrefix(words[i], "--hash=")
		if !ok && words[i] == "--hash" && i+1 < len(words) {
			i++
			value, ok = words[i], true
		}
		if !ok {
			return nil, fmt.Errorf("the option %s is not one that a lock can keep", words[i])
		}
		if !strings.HasPrefix(value, "sha256:") && !strings.HasPrefix(value, "sha384:") && !strings.HasPrefix(value, "sha512:") {
			return nil, fmt.Errorf("%q is no hash of sha256, sha384 or sha512", value)
		}
		out = append(out, value)
	}
	return out, nil
}

// option reads a line that starts with -.
func (a *Asks) option(name string, line int, text string, read Read, constraint bool, path_ []string) error {
	word, value, has := strings.Cut(text, " ")
	if !has {
		word, value, _ = strings.Cut(text, "=")
		if len(word) > 2 && word[1] != '-' { // -rfile
			word, value = text[:2], text[2:]
		}
	}
	value = strings.TrimSpace(value)
	beside := path.Join(path.Dir(name), value)
	switch word {
	case "-r", "--requirement":
		return a.requirements(beside, read, constraint, path_)
	case "-c", "--constraint":
		return a.requirements(beside, read, true, path_)
	case "--require-hashes", "--prefer-binary", "--only-binary", "--pre":
		return nil // a lock has the digests, and takes wheels; pre-releases are asked for by their versions
	case "-e", "--editable":
		if value == "." || strings.HasPrefix(value, "./") || strings.HasPrefix(value, ".[") {
			return nil // the project itself is in its own folder
		}
		return problem(name, line, "%s is a package to edit at an address of its own; a lock takes packages of a declared source only", value)
	case "-i", "--index-url", "--extra-index-url", "--find-links", "-f", "--no-index", "--trusted-host":
		return problem(name, line, "%s names where packages come from, which is the declaration's to say: [source.NAME] with kind = \"wheel\"", word)
	}
	return problem(name, line, "the option %s is not one that a lock can keep", word)
}

// AddProject reads a pyproject.toml: its dependencies, those of the named extras (PEP 621)
// and those of the named groups (PEP 735).
func (a *Asks) AddProject(name string, raw []byte, groups []string) error {
	var doc struct {
		Project struct {
			Requires string              `toml:"requires-python"`
			Depends  []string            `toml:"dependencies"`
			Optional map[string][]string `toml:"optional-dependencies"`
			Dynamic  []string            `toml:"dynamic"`
			Name     string              `toml:"name"`
		} `toml:"project"`
		Groups map[string][]any `toml:"dependency-groups"`
	}
	if err := toml.Unmarshal(raw, &doc); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if slices.Contains(doc.Project.Dynamic, "dependencies") {
		return fmt.Errorf("%s: its dependencies are dynamic, which only running its build could tell; write them into project.dependencies, or into a requirements file", name)
	}
	add := func(list []string, where string) error {
		for _, text := range list {
			r, err := ParseRequirement(text)
			if err != nil {
				return fmt.Errorf("%s: %s: %w", name, where, err)
			}
			if r.URL != "" {
				return fmt.Errorf("%s: %s: %s is at an address of its own, and a lock takes packages of a declared source only", name, where, r.Name)
			}
			if r.Name == Normal(doc.Project.Name) { // its own extras: "weir[figures]"
				for _, extra := range r.Extras {
					if err := a.own(name, doc.Project.Optional, extra, nil); err != nil {
						return err
					}
				}
				continue
			}
			a.Wants = append(a.Wants, Want{r, name + " " + where})
		}
		return nil
	}
	if err := add(doc.Project.Depends, "project.dependencies"); err != nil {
		return err
	}
	var err error
	if a.RequiresPython, err = ParseSpecifiers(doc.Project.Requires); err != nil {
		return fmt.Errorf("%s: requires-python: %w", name, err)
	}
	for _, wanted := range groups {
		key, isGroup := keyOf(doc.Groups, wanted)
		extra, isExtra := keyOf(doc.Project.Optional, wanted)
		switch {
		case isGroup:
			list, err := groupOf(name, doc.Groups, key, nil)
			if err != nil {
				return err
			}
			if err := add(list, "dependency-groups."+key); err != nil {
				return err
			}
		case isExtra:
			if err := add(doc.Project.Optional[extra], "project.optional-dependencies."+extra); err != nil {
				return err
			}
		default:
			return fmt.Errorf("%s has neither a dependency group nor an extra named %q", name, wanted)
		}
	}
	return nil
}

// own adds one of the project's own extras that another list asks for.
func (a *Asks) own(name string, optional map[string][]string, extra string, path_ []string) error {
	key, ok := keyOf(optional, extra)
	if !ok || slices.Contains(path_, key) {
		return nil
	}
	for _, text := range optional[key] {
		r, err := ParseRequirement(text)
		if err != nil {
			return fmt.Errorf("%s: project.optional-dependencies.%s: %w", name, key, err)
		}
		a.Wants = append(a.Wants, Want{r, name + " project.optional-dependencies." + key})
	}
	return nil
}

// keyOf finds a key by its normalized name.
func keyOf[V any](table map[string]V, name string) (string, bool) {
	for key := range table {
		if Normal(key) == Normal(name) {
			return key, true
		}
	}
	return "", false
}

// groupOf are the requirements of a dependency group with those it includes (PEP 735).
func groupOf(file string, groups map[string][]any, key string, path_ []string) ([]string, error) {
	if slices.Contains(path_, key) {
		return nil, fmt.Errorf("%s: the groups include each other: %s", file, strings.Join(append(path_, key), " → "))
	}
	var out []string
	for _, entry := range groups[key] {
		switch entry := entry.(type) {
		case string:
			out = append(out, entry)
		case map[string]any:
			included, _ := entry["include-group"].(string)
			other, ok := keyOf(groups, included)
			if !ok {
				return nil, fmt.Errorf("%s: dependency-groups.%s includes a group %q that is not there", file, key, included)
			}
			list, err := groupOf(file, groups, other, append(slices.Clone(path_), key))
			if err != nil {
				return nil, err
			}
			out = append(out, list...)
		default:
			return nil, fmt.Errorf("%s: dependency-groups.%s holds something that is neither a requirement nor an include-group", file, key)
		}
	}
	return out, nil
}

// AddLocked reads a pylock.toml (PEP 751): each of its packages becomes an exact want with
// its hashes and marker.
func (a *Asks) AddLocked(name string, raw []byte) error {
	var doc struct {
		Version  string `toml:"lock-version"`
		Requires string `toml:"requires-python"`
		Packages []struct {
			Name    string `toml:"name"`
			Version string `toml:"version"`
			Marker  string `toml:"marker"`
			Wheels  []file `toml:"wheels"`
			Sdist   file   `toml:"sdist"`
		} `toml:"packages"`
	}
	if err := toml.Unmarshal(raw, &doc); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if !strings.HasPrefix(doc.Version, "1.") {
		return fmt.Errorf("%s has the lock-version %q, and this program reads 1.0", name, doc.Version)
	}
	var err error
	if a.RequiresPython, err = ParseSpecifiers(doc.Requires); err != nil {
		return fmt.Errorf("%s: requires-python: %w", name, err)
	}
	for _, p := range doc.Packages {
		if p.Version == "" {
			return fmt.Errorf("%s: %s has no version, so it is no package of an index", name, p.Name)
		}
		r := Requirement{Name: Normal(p.Name), Specifiers: Specifiers{{"==", p.Version}}}
		if p.Marker != "" {
			if r.Marker, err = ParseMarker(p.Marker); err != nil {
				return fmt.Errorf("%s: %s: %w", name, p.Name, err)
			}
		}
		if err := r.Specifiers[0].check(); err != nil || !ValidName(r.Name) {
			return fmt.Errorf("%s: %s %s is no package", name, p.Name, p.Version)
		}
		a.Wants = append(a.Wants, Want{r, name})
		var hashes []string
		for _, f := range append(p.Wheels, p.Sdist) {
			for algorithm, value := range f.Hashes {
				if algorithm == "sha256" || algorithm == "sha384" || algorithm == "sha512" {
					hashes = append(hashes, algorithm+":"+value)
				}
			}
		}
		slices.Sort(hashes)
		a.hash(r.Name, p.Version, hashes)
	}
	return nil
}

// file is a file of a package in a pylock.toml.
type file struct {
	Hashes map[string]string `toml:"hashes"`
}
