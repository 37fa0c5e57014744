// Package ref reads and expands references: @{name} inside a text. The form was
// chosen so that scripts keep their own $…; @@{ stands for a literal @{.
package ref

import (
	"fmt"
	"strings"
)

// Piece is a stretch of literal text or one reference.
type Piece struct {
	Text string
	Name string // not empty for a reference
	At   int    // byte offset of the piece in the source text
	Len  int    // its length there
}

// Parse cuts a text into pieces. The error says what is wrong with a reference
// and at which byte it starts.
func Parse(s string) ([]Piece, error) {
	var out []Piece
	var literal []byte
	start := 0
	flush := func(end int) {
		if len(literal) > 0 {
			out = append(out, Piece{Text: string(literal), At: start, Len: end - start})
		}
		literal = literal[:0]
	}
	for i := 0; i < len(s); {
		switch {
		case strings.HasPrefix(s[i:], "@@{"):
			literal = append(literal, "@{"...)
			i += 3
		case strings.HasPrefix(s[i:], "@{"):
			end := strings.IndexByte(s[i:], '}')
			if end < 0 {
				return nil, &Error{At: i, Len: len(s) - i, What: `a reference starts with "@{" and has no "}"`}
			}
			name := s[i+2 : i+end]
			if !validName(name) {
				return nil, &Error{At: i, Len: end + 1, What: fmt.Sprintf("@{%s} is not a reference: a name is words of letters, digits, - and _ with dots between them", name)}
			}
			flush(i)
			out = append(out, Piece{Name: name, At: i, Len: end + 1})
			i += end + 1
			start = i
		case s[i] == 0x02 || s[i] == 0x03: // between which a plan has the names of secrets
			return nil, &Error{At: i, Len: 1, What: "it holds a control character (U+0002 or U+0003), which no value may"}
		default:
			literal = append(literal, s[i])
			i++
		}
	}
	flush(len(s))
	return out, nil
}

// Error is a malformed reference at a byte offset of its text.
type Error struct {
	At, Len int
	What    string
}

func (e *Error) Error() string { return e.What }

func validName(name string) bool {
	for word := range strings.SplitSeq(name, ".") {
		if word == "" {
			return false
		}
		for i := range len(word) {
			c := word[i]
			if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '_') {
				return false
			}
		}
	}
	return true
}

// Expand replaces each reference by what look says of its name.
func Expand(s string, look func(name string) (string, error)) (string, error) {
	if !strings.Contains(s, "@{") {
		return s, nil
	}
	pieces, err := Parse(s)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, p := range pieces {
		if p.Name == "" {
			b.WriteString(p.Text)
			continue
		}
		value, err := look(p.Name)
		if err != nil {
			return "", err
		}
		b.WriteString(value)
	}
	return b.String(), nil
}

// From is a look-up in a table, for Expand.
func From(table map[string]string) func(string) (string, error) {
	return func(name string) (string, error) {
		value, ok := table[name]
		if !ok {
			return "", fmt.Errorf("nothing is named @{%s} here", name)
		}
		return value, nil
	}
}
