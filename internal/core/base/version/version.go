// Package version orders versions and decides what an ask allows.
//
// The schemes are semver (Semantic Versioning 2.0.0), go (the versions of Go
// toolchains, as the standard library's go/version orders them), debian (Debian
// Policy, 5.6.12), pep440 (Python) and dotted (numbers between dots, the common
// ground of everything else).
package version

import (
	"cmp"
	goversion "go/version"
	"strconv"
	"strings"
)

// Scheme names a way of ordering versions.
type Scheme string

// The schemes.
const (
	Semver Scheme = "semver"
	Go     Scheme = "go"
	Debian Scheme = "debian"
	PEP440 Scheme = "pep440"
	Dotted Scheme = "dotted"
)

// Schemes lists all of them, for messages.
var Schemes = []string{string(Semver), string(Go), string(Debian), string(PEP440), string(Dotted)}

// Valid tells whether v is a version in the scheme.
func (s Scheme) Valid(v string) bool {
	switch s {
	case Go:
		return goversion.IsValid("go" + v)
	case Semver:
		core, _, _ := splitSemver(v)
		return validCore(core)
	case Debian:
		return validDebian(v)
	case PEP440:
		_, ok := parsePEP440(v)
		return ok
	default:
		return v != "" && isDigit(v[0])
	}
}

// Compare orders a and b: negative when a is the older. Versions that differ
// only in semver build metadata are equal (Semantic Versioning 2.0.0, item 10).
func (s Scheme) Compare(a, b string) int {
	switch s {
	case Go:
		return goversion.Compare("go"+a, "go"+b)
	case Semver:
		return compareSemver(a, b)
	case Debian:
		return compareDebian(a, b)
	case PEP440:
		return comparePEP440(a, b)
	default:
		return compareDotted(a, b)
	}
}

// Prerelease tells whether v comes before a release of the same number.
func (s Scheme) Prerelease(v string) bool {
	switch s {
	case Go:
		return strings.Contains(v, "rc") || strings.Contains(v, "beta")
	case Semver:
		_, pre, _ := splitSemver(v)
		return pre != ""
	case Debian:
		return strings.Contains(v, "~") && Dotted.Prerelease(v)
	case PEP440:
		p, _ := parsePEP440(v)
		return p.pre != "" || p.hasDev
	default:
		lower := strings.ToLower(v)
		for _, mark := range []string{"alpha", "beta", "rc", "dev", "pre"} {
			if strings.Contains(lower, mark) {
				return true
			}
		}
		return false
	}
}

// Major is the first number of v: "17" of "17.2".
func Major(v string) string {
	if end := strings.IndexFunc(v, func(r rune) bool { return r < '0' || r > '9' }); end >= 0 {
		return v[:end]
	}
	return v
}

// Minor is the first two numbers of v: "3.13" of "3.13.5"; the first alone where
// there is no second.
func Minor(v string) string {
	major := Major(v)
	rest, ok := strings.CutPrefix(v[len(major):], ".")
	if second := Major(rest); ok && second != "" {
		return major + "." + second
	}
	return major
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

func validCore(core string) bool {
	parts := strings.Split(core, ".")
	if len(parts) == 0 || len(parts) > 3 {
		return false
	}
	for _, p := range parts {
		if _, err := strconv.ParseUint(p, 10, 63); err != nil {
			return false
		}
	}
	return true
}

// splitSemver parts "1.2.3-rc.1+build" into core, pre-release and build.
func splitSemver(v string) (core, pre, build string) {
	v, build, _ = strings.Cut(v, "+")
	core, pre, _ = strings.Cut(v, "-")
	return core, pre, build
}

func compareSemver(a, b string) int {
	ac, ap, _ := splitSemver(a)
	bc, bp, _ := splitSemver(b)
	if c := compareNumbers(strings.Split(ac, "."), strings.Split(bc, ".")); c != 0 {
		return c
	}
	switch { // item 11.3: a pre-release comes before its release
	case ap == bp:
		return 0
	case ap == "":
		return 1
	case bp == "":
		return -1
	}
	as, bs := strings.Split(ap, "."), strings.Split(bp, ".")
	for i := range min(len(as), len(bs)) {
		if c := compareIdentifier(as[i], bs[i]); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(as), len(bs)) // item 11.4.4
}

// compareNumbers orders two lists of numbers, missing ones counting as 0.
func compareNumbers(a, b []string) int {
	for i := range max(len(a), len(b)) {
		var x, y string
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if c := compareDigits(x, y); c != 0 {
			return c
		}
	}
	return 0
}

// compareDigits orders two strings of digits by value, however long.
func compareDigits(x, y string) int {
	x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
	if c := cmp.Compare(len(x), len(y)); c != 0 {
		return c
	}
	return strings.Compare(x, y)
}

// compareIdentifier orders pre-release identifiers: numbers by value and before
// words, words by their bytes (item 11.4).
func compareIdentifier(x, y string) int {
	xn, yn := allDigits(x), allDigits(y)
	switch {
	case xn && yn:
		return compareDigits(x, y)
	case xn:
		return -1
	case yn:
		return 1
	}
	return strings.Compare(x, y)
}

func allDigits(s string) bool {
	for i := range len(s) {
		if !isDigit(s[i]) {
			return false
		}
	}
	return s != ""
}

// compareDotted orders runs of digits by value and everything between them by
// bytes, except that a pre-release word comes before nothing at all: 2.0rc1 is
// older than 2.0, and 2.0a (a letter release) is newer.
func compareDotted(a, b string) int {
	x, y := pieces(a), pieces(b)
	for i := range max(len(x), len(y)) {
		var p, q string
		if i < len(x) {
			p = x[i]
		}
		if i < len(y) {
			q = y[i]
		}
		if c := comparePiece(p, q); c != 0 {
			return c
		}
	}
	return 0
}

func comparePiece(p, q string) int {
	pn, qn := allDigits(p) || p == "", allDigits(q) || q == ""
	switch {
	case pn && qn:
		return compareDigits(p, q)
	case pn: // q is a word
		return -wordRank(q)
	case qn:
		return wordRank(p)
	}
	if c := cmp.Compare(wordRank(p), wordRank(q)); c != 0 {
		return c
	}
	return strings.Compare(p, q)
}

// wordRank is -1 for words that announce a release and 1 for those that follow one.
func wordRank(word string) int {
	if Dotted.Prerelease(word) {
		return -1
	}
	return 1
}

// pieces cuts "1.2rc3" into "1", "2", "rc", "3".
func pieces(v string) []string {
	var out []string
	for i := 0; i < len(v); {
		j := i
		switch {
		case isDigit(v[i]):
			for j < len(v) && isDigit(v[j]) {
				j++
			}
		case v[i] == '.' || v[i] == '-' || v[i] == '_' || v[i] == '+':
			i++
			continue
		default:
			for j < len(v) && !isDigit(v[j]) && !strings.ContainsRune(".-_+", rune(v[j])) {
				j++
			}
		}
		out = append(out, v[i:j])
		i = j
	}
	return out
}
