// Package rlang reads what R packages say of themselves and need (R documentation, "Writing
// R Extensions", The DESCRIPTION file; "R Installation and Administration", Setting up a
// package repository). It runs nothing and reaches no network.
package rlang

import (
	"bufio"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/lazy"
)

// Need is one package that another needs, with conditions on its version.
type Need struct {
	Name       string
	Conditions []Condition
	From       string // where it was written, of an ask
}

// Condition is a comparison with a version.
type Condition struct{ Operator, Version string }

var (
	needName  = lazy.Regexp(`^([A-Za-z][A-Za-z0-9.]*)\s*(.*)$`)
	condition = lazy.Regexp(`^(>=|>|<=|<|==|!=)\s*([0-9][0-9.-]*)$`)
)

// ParseNeed reads "dplyr (>= 1.1)", as a DESCRIPTION has it, or "dplyr >= 1.1, < 2".
func ParseNeed(text string) (Need, error) {
	bad := fmt.Errorf("%q is no R package with a condition, as in dplyr >= 1.1", strings.TrimSpace(text))
	m := needName().FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return Need{}, bad
	}
	n := Need{Name: m[1]}
	rest := strings.TrimSpace(m[2])
	if inner, ok := strings.CutPrefix(rest, "("); ok {
		if rest, ok = strings.CutSuffix(inner, ")"); !ok {
			return n, bad
		}
	}
	if strings.TrimSpace(rest) == "" {
		return n, nil
	}
	for one := range strings.SplitSeq(rest, ",") {
		c := condition().FindStringSubmatch(strings.TrimSpace(one))
		if c == nil {
			return n, bad
		}
		n.Conditions = append(n.Conditions, Condition{c[1], c[2]})
	}
	return n, nil
}

// ParseNeeds reads a list between commas; what needs one package twice is put together.
func ParseNeeds(text string) ([]Need, error) {
	var out []Need
	for one := range strings.SplitSeq(text, ",") {
		if strings.TrimSpace(one) == "" {
			continue
		}
		n, err := ParseNeed(one)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(out, func(o Need) bool { return o.Name == n.Name }); i >= 0 {
			out[i].Conditions = append(out[i].Conditions, n.Conditions...)
			continue
		}
		out = append(out, n)
	}
	return out, nil
}

// Text is the condition for people: ">= 1.1, < 2".
func (n Need) Text() string {
	var out []string
	for _, c := range n.Conditions {
		out = append(out, c.Operator+" "+c.Version)
	}
	return strings.Join(out, ", ")
}

func (n Need) String() string { return strings.TrimSpace(n.Name + " " + n.Text()) }

// Allows tells whether a version meets the conditions.
func (n Need) Allows(v string) bool {
	for _, c := range n.Conditions {
		order := Compare(v, c.Version)
		ok := map[string]bool{">=": order >= 0, ">": order > 0, "<=": order <= 0, "<": order < 0, "==": order == 0, "!=": order != 0}[c.Operator]
		if !ok {
			return false
		}
	}
	return true
}

// Compare orders versions: numbers between . and -, which mean the same (R documentation,
// "package_version").
func Compare(a, b string) int {
	parts := func(v string) []int {
		var out []int
		for _, f := range strings.FieldsFunc(v, func(r rune) bool { return r == '.' || r == '-' }) {
			n, err := strconv.Atoi(f)
			if err != nil {
				n = -1
			}
			out = append(out, n)
		}
		return out
	}
	return slices.Compare(parts(a), parts(b))
}

// Base are the packages that every R has (priority base).
var Base = strings.Fields("R base compiler datasets graphics grDevices grid methods parallel splines stats stats4 tcltk tools utils")

// Package is a package as a repository's index describes it.
type Package struct {
	Name, Version string
	Needs         []Need // Depends, Imports and LinkingTo, without those that every R has
	R             []Condition
	Compiles      bool
	MD5           string
	Title         string
	Built         string
}

// ParsePackage gives the fields of a package's paragraph their meaning.
func ParsePackage(f map[string]string) (Package, error) {
	p := Package{Name: f["Package"], Version: f["Version"], Compiles: f["NeedsCompilation"] == "yes", MD5: f["MD5sum"], Title: f["Title"], Built: f["Built"]}
	if !regexp.MustCompile(`^[A-Za-z][A-Za-z0-9.]*$`).MatchString(p.Name) || !regexp.MustCompile(`^[0-9]+([.-][0-9]+)*$`).MatchString(p.Version) {
		return p, fmt.Errorf("%q %q is no package", p.Name, p.Version)
	}
	needs, err := ParseNeeds(strings.Join([]string{f["Depends"], f["Imports"], f["LinkingTo"]}, ","))
	if err != nil {
		return p, err
	}
	for _, n := range needs {
		if n.Name == "R" {
			p.R = append(p.R, n.Conditions...)
		} else if !slices.Contains(Base, n.Name) {
			p.Needs = append(p.Needs, n)
		}
	}
	return p, nil
}

// Paragraphs reads a file of paragraphs with fields (Debian control files have this form
// too), and hands each on.
func Paragraphs(in io.Reader, each func(f map[string]string)) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 16<<20)
	f := map[string]string{}
	last := ""
	for lines.Scan() {
		line := lines.Text()
		switch {
		case strings.TrimSpace(line) == "":
			if len(f) > 0 {
				each(f)
			}
			f, last = map[string]string{}, ""
		case line[0] == ' ' || line[0] == '\t':
			if last != "" {
				f[last] += " " + strings.TrimSpace(line)
			}
		default:
			name, value, ok := strings.Cut(line, ":")
			if !ok {
				return fmt.Errorf("%.60q is no field", line)
			}
			last = name
			f[name] = strings.TrimSpace(value)
		}
	}
	if len(f) > 0 {
		each(f)
	}
	return lines.Err()
}

// AddDescription reads a project's DESCRIPTION: what it needs, with what it suggests when
// that is asked for.
func AddDescription(asks []Need, name string, raw []byte, groups []string) ([]Need, error) {
	var err error
	found := false
	read := Paragraphs(strings.NewReader(string(raw)), func(f map[string]string) {
		if found || err != nil {
			return
		}
		found = true
		fields := []string{"Depends", "Imports", "LinkingTo"}
		for _, g := range groups {
			switch strings.ToLower(g) {
			case "suggests":
				fields = append(fields, "Suggests")
			case "enhances":
				fields = append(fields, "Enhances")
			default:
				err = fmt.Errorf("%s: %q is no group of packages; there are suggests and enhances", name, g)
				return
			}
		}
		for _, field := range fields {
			needs, bad := ParseNeeds(f[field])
			if bad != nil {
				err = fmt.Errorf("%s: %s: %w", name, field, bad)
				return
			}
			for _, n := range needs {
				if !slices.Contains(Base, n.Name) {
					n.From = name + " " + field
					asks = append(asks, n)
				}
			}
		}
	})
	if read != nil {
		return nil, fmt.Errorf("%s: %w", name, read)
	}
	if err == nil && !found {
		err = fmt.Errorf("%s is empty", name)
	}
	return asks, err
}
