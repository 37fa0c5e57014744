// Package tree gives an unpacked part its identity.
//
// A manifest has one line for each entry of a tree, sorted by the bytes of the
// path, and the tree digest is the BLAKE3-256 of the manifest. docs/tree-digest.md
// specifies both to the byte. Owners, times and permissions other than "may be
// executed" do not count.
package tree

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/base/disk"

	"app.example/trammel/internal/core/base/canon"
)

// Type is the kind of an entry, as its letter in the manifest.
type Type byte

// The types of entries.
const (
	File       Type = 'f'
	Executable Type = 'x'
	Link       Type = 'l'
	EmptyDir   Type = 'd'
)

// Entry is one line of a manifest.
type Entry struct {
	Type   Type
	Sum    string // hex BLAKE3-256 of a file's content
	Target string // of a link
	Path   string // slash-separated, relative to the root
	Stamp  disk.Stamp
}

// Same tells whether two entries describe the same content.
func (e Entry) Same(o Entry) bool {
	return e.Type == o.Type && e.Sum == o.Sum && e.Target == o.Target && e.Path == o.Path
}

// Manifest is all entries of a tree, sorted by path.
type Manifest []Entry

// Sort puts the entries in the order that the digest is taken in.
func (m Manifest) Sort() {
	slices.SortFunc(m, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
}

// Bytes is the manifest as it is stored and digested.
func (m Manifest) Bytes() []byte {
	var b []byte
	for _, e := range m {
		b = append(b, byte(e.Type), ' ')
		switch e.Type {
		case Link:
			b = appendEscaped(b, e.Target)
		case EmptyDir:
			b = append(b, '-')
		default:
			b = append(b, e.Sum...)
		}
		b = append(b, ' ')
		b = appendEscaped(b, e.Path)
		b = append(b, '\n')
	}
	return b
}

// Digest is "blake3:" and the hex digest of the manifest.
func (m Manifest) Digest() Digest {
	return DigestOf(m.Bytes())
}

// Digest is a tree digest. Its type lies below, where locks have it too.
type Digest = canon.TreeDigest

// DigestOf is the tree digest of a stored manifest's bytes.
func DigestOf(manifest []byte) Digest {
	sum := blake3.Sum256(manifest)
	return Digest("blake3:" + hex.EncodeToString(sum[:]))
}

// appendEscaped writes bytes that are not printable ASCII, and % itself, as %XX.
func appendEscaped(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c <= ' ' || c == '%' || c >= 0x7f {
			b = fmt.Appendf(b, "%%%02X", c)
		} else {
			b = append(b, c)
		}
	}
	return b
}

func unescape(s string) (string, error) {
	if !strings.Contains(s, "%") {
		return s, nil
	}
	var b []byte
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b = append(b, s[i])
			continue
		}
		if i+2 >= len(s) {
			return "", fmt.Errorf("%q ends in the middle of an escape", s)
		}
		raw, err := hex.DecodeString(s[i+1 : i+3])
		if err != nil {
			return "", fmt.Errorf("%q has a bad escape", s)
		}
		b = append(b, raw[0])
		i += 2
	}
	return string(b), nil
}

// Parse reads a stored manifest.
func Parse(raw []byte) (Manifest, error) {
	m := make(Manifest, 0, bytes.Count(raw, []byte("\n")))
	text := string(raw) // the entries are parts of it
	for n := 1; text != ""; n++ {
		line, rest, whole := strings.Cut(text, "\n")
		text = rest
		kind, fields, _ := strings.Cut(line, " ")
		content, path, three := strings.Cut(fields, " ")
		if !whole || !three || len(kind) != 1 || strings.Contains(path, " ") {
			return nil, fmt.Errorf("line %d of the manifest is damaged", n)
		}
		e := Entry{Type: Type(kind[0])}
		var err, err2 error
		e.Path, err = unescape(path)
		switch e.Type {
		case Link:
			e.Target, err2 = unescape(content)
		case File, Executable:
			e.Sum = content
		case EmptyDir:
		default:
			err = fmt.Errorf("an entry of type %q", kind)
		}
		if err != nil || err2 != nil {
			return nil, fmt.Errorf("line %d of the manifest is damaged", n)
		}
		m = append(m, e)
	}
	return m, nil
}

// Difference is one entry that is not what a manifest says.
type Difference struct {
	Path string
	What string // Changed, "missing", "extra", "now executable", "not executable", …
}

// Changed is a Difference of a file with other bytes or, where stamps alone were compared, another stamp.
const Changed = "changed"

// Compare says how a folder differs from its manifest, sorted by path. Both are
// sorted; with deep false contents are compared by the stamps that were recorded
// when the part was added.
func Compare(want, have Manifest, deep bool) []Difference {
	var out []Difference
	i, j := 0, 0
	for i < len(want) || j < len(have) {
		switch {
		case j == len(have) || i < len(want) && want[i].Path < have[j].Path:
			out = append(out, Difference{want[i].Path, "missing"})
			i++
		case i == len(want) || have[j].Path < want[i].Path:
			out = append(out, Difference{have[j].Path, "extra"})
			j++
		default:
			if what := differs(want[i], have[j], deep); what != "" {
				out = append(out, Difference{want[i].Path, what})
			}
			i, j = i+1, j+1
		}
	}
	return out
}

func differs(want, have Entry, deep bool) string {
	switch {
	case want.Type == File && have.Type == Executable:
		return "now executable"
	case want.Type == Executable && have.Type == File:
		return "no longer executable"
	case want.Type != have.Type:
		return "another type of entry"
	case want.Type == Link && want.Target != have.Target:
		return "links elsewhere"
	case want.Type == Link || want.Type == EmptyDir:
		return ""
	case deep && want.Sum != have.Sum, !deep && want.Stamp != have.Stamp:
		return Changed
	}
	return ""
}
