package version

import (
	"cmp"
	"strings"
)

// compareDebian orders Debian versions: epoch, upstream version, revision (Debian
// Policy Manual, section 5.6.12, "Version").
func compareDebian(a, b string) int {
	ae, au, ar := splitDebian(a)
	be, bu, br := splitDebian(b)
	if c := compareDigits(ae, be); c != 0 {
		return c
	}
	if c := compareDebianPart(au, bu); c != 0 {
		return c
	}
	return compareDebianPart(ar, br)
}

func splitDebian(v string) (epoch, upstream, revision string) {
	if e, rest, ok := strings.Cut(v, ":"); ok {
		epoch, v = e, rest
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		return epoch, v[:i], v[i+1:]
	}
	return epoch, v, ""
}

// compareDebianPart compares stretches without and with digits in turn.
func compareDebianPart(a, b string) int {
	for a != "" || b != "" {
		for a != "" && !isDigit(a[0]) || b != "" && !isDigit(b[0]) {
			x, y := debianWeight(a), debianWeight(b)
			if x != y {
				return cmp.Compare(x, y)
			}
			a, b = a[1:], b[1:]
		}
		x, y := digitsOf(a), digitsOf(b)
		if c := compareDigits(x, y); c != 0 {
			return c
		}
		a, b = a[len(x):], b[len(y):]
	}
	return 0
}

// debianWeight of the first character: a tilde comes before the end, the end (or
// a digit) before letters, letters before all else.
func debianWeight(s string) int {
	switch {
	case s == "" || isDigit(s[0]):
		return 0
	case s[0] == '~':
		return -1
	case 'a' <= s[0] && s[0] <= 'z' || 'A' <= s[0] && s[0] <= 'Z':
		return int(s[0])
	}
	return int(s[0]) + 256
}

func digitsOf(s string) string {
	i := 0
	for i < len(s) && isDigit(s[i]) {
		i++
	}
	return s[:i]
}

// validDebian checks the characters that a version may have (section 5.6.12).
func validDebian(v string) bool {
	epoch, upstream, revision := splitDebian(v)
	if strings.Contains(v, ":") && !allDigits(epoch) || upstream == "" || !isDigit(upstream[0]) {
		return false
	}
	fits := func(s, more string) bool {
		return strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.+~"+more) == ""
	}
	return fits(upstream, "-") && fits(revision, "") && !strings.HasSuffix(v, "-")
}
