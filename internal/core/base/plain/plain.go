// Package plain is what the roles that are played first need of package strings, under the same
// names and with the same results: package strings itself rests on the tables of unicode, and is
// initialised after those and after every library that comes before it by its path (internal/early).
// A third of a role's start is saved so. Where a name here takes less than its namesake, it says so;
// a test compares the two.
package plain

// IndexByte is where the first c is in s, or -1.
func IndexByte(s string, c byte) int {
	for i := 0; i < len(s); i++ {
		if s[i] == c {
			return i
		}
	}
	return -1
}

// LastIndexByte is where the last c is in s, or -1.
func LastIndexByte(s string, c byte) int {
	for i := len(s) - 1; i >= 0; i-- {
		if s[i] == c {
			return i
		}
	}
	return -1
}

// Index is where the first part is in s, or -1.
func Index(s, part string) int {
	if len(part) == 1 {
		return IndexByte(s, part[0])
	}
	for i := 0; i+len(part) <= len(s); i++ {
		if s[i:i+len(part)] == part {
			return i
		}
	}
	return -1
}

// Contains tells whether part is in s.
func Contains(s, part string) bool { return Index(s, part) >= 0 }

// ContainsAny tells whether one of chars, which are of ASCII, is in s.
func ContainsAny(s, chars string) bool {
	for i := 0; i < len(chars); i++ {
		if IndexByte(s, chars[i]) >= 0 {
			return true
		}
	}
	return false
}

// HasPrefix tells whether s begins with prefix.
func HasPrefix(s, prefix string) bool { return len(s) >= len(prefix) && s[:len(prefix)] == prefix }

// HasSuffix tells whether s ends with suffix.
func HasSuffix(s, suffix string) bool {
	return len(s) >= len(suffix) && s[len(s)-len(suffix):] == suffix
}

// TrimPrefix is s without prefix, if it begins with that.
func TrimPrefix(s, prefix string) string { s, _ = CutPrefix(s, prefix); return s }

// CutPrefix is s without prefix, and whether it began with that.
func CutPrefix(s, prefix string) (after string, found bool) {
	if !HasPrefix(s, prefix) {
		return s, false
	}
	return s[len(prefix):], true
}

// TrimSuffix is s without suffix, if it ends with that.
func TrimSuffix(s, suffix string) string {
	if HasSuffix(s, suffix) {
		return s[:len(s)-len(suffix)]
	}
	return s
}

// Cut is what is before and after the first separator in s.
func Cut(s, separator string) (before, after string, found bool) {
	if i := Index(s, separator); i >= 0 {
		return s[:i], s[i+len(separator):], true
	}
	return s, "", false
}

// Split is what is between the separators in s, which is one byte.
func Split(s string, separator byte) []string {
	n := 1
	for i := 0; i < len(s); i++ {
		if s[i] == separator {
			n++
		}
	}
	out := make([]string, 0, n)
	begin := 0
	for i := 0; i < len(s); i++ {
		if s[i] == separator {
			out = append(out, s[begin:i])
			begin = i + 1
		}
	}
	return append(out, s[begin:])
}

// space tells whether a byte is white space of ASCII.
func space(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

// Fields is what is between white space of ASCII in s.
func Fields(s string) (out []string) {
	begin := -1
	for i := 0; i <= len(s); i++ {
		switch white := i == len(s) || space(s[i]); {
		case white && begin >= 0:
			out = append(out, s[begin:i])
			begin = -1
		case !white && begin < 0:
			begin = i
		}
	}
	return out
}

// TrimSpace is s without white space of ASCII at its ends.
func TrimSpace(s string) string {
	for len(s) > 0 && space(s[0]) {
		s = s[1:]
	}
	for len(s) > 0 && space(s[len(s)-1]) {
		s = s[:len(s)-1]
	}
	return s
}

// Join is the parts of list with a separator between them.
func Join(list []string, separator string) string {
	n := 0
	for _, s := range list {
		n += len(s) + len(separator)
	}
	out := make([]byte, 0, n)
	for i, s := range list {
		if i > 0 {
			out = append(out, separator...)
		}
		out = append(out, s...)
	}
	return string(out)
}

// ReplaceAll is s with each old, which is not empty, made new.
func ReplaceAll(s, old, new string) string {
	var out []byte
	for {
		before, after, found := Cut(s, old)
		out = append(out, before...)
		if !found {
			return string(out)
		}
		out, s = append(out, new...), after
	}
}
