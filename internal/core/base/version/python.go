package version

import "strings"

// PythonRelease are the numbers of a Python version's release segment: 1, 2 of "1.2rc1".
func PythonRelease(v string) []string {
	p, _ := parsePEP440(v)
	return p.release
}

// PythonEpoch is the epoch of a Python version, "" where it states none.
func PythonEpoch(v string) string {
	p, _ := parsePEP440(v)
	return p.epoch
}

// PythonBase is a Python version's epoch and release alone (PEP 440, "Public version
// identifiers").
func PythonBase(v string) string {
	p, _ := parsePEP440(v)
	base := strings.Join(p.release, ".")
	if p.epoch != "" {
		return p.epoch + "!" + base
	}
	return base
}

// PythonPost tells whether a Python version is a post-release.
func PythonPost(v string) bool {
	p, _ := parsePEP440(v)
	return p.hasPost
}

// PythonParts are the pieces of a public Python version in a form that can be compared one
// by one: its numbers without leading zeros, then its phases.
func PythonParts(v string) []string {
	p, _ := parsePEP440(v)
	number := func(s string) string {
		if s = strings.TrimLeft(s, "0"); s == "" {
			return "0"
		}
		return s
	}
	var out []string
	for _, n := range p.release {
		out = append(out, number(n))
	}
	if p.pre != "" {
		out = append(out, p.pre+number(p.preN))
	}
	if p.hasPost {
		out = append(out, "post"+number(p.post))
	}
	if p.hasDev {
		out = append(out, "dev"+number(p.dev))
	}
	return out
}
