// Package mask takes secrets out of what is printed or kept.
//
// Promise: a secret does not pass, in however many pieces it comes, unless it is
// shorter than Shortest: so short a text would take ordinary words along. Text that
// may be the beginning of a secret is held back until it is clear that it is none,
// or the stream ends.
package mask

import (
	"bytes"
	"io"
	"slices"
	"strings"
)

// Shortest is how many bytes a secret has that is masked.
const Shortest = 4

// shown is what stands in a secret's place.
const shown = "(secret)"

// Of takes the secrets that can be masked, the longest first, so that one which
// holds another is found whole. Of several lines each is one too.
func Of(secrets []string) []string {
	var out []string
	for _, s := range secrets {
		for _, one := range append([]string{s}, strings.Split(s, "\n")...) {
			if one = strings.TrimSpace(one); len(one) >= Shortest && !slices.Contains(out, one) {
				out = append(out, one)
			}
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// Text masks a whole text.
func Text(text string, secrets []string) string {
	for _, s := range secrets {
		text = strings.ReplaceAll(text, s, shown)
	}
	return text
}

// Reader masks a stream. secrets are those that Of gives.
func Reader(r io.Reader, secrets []string) io.Reader {
	if len(secrets) == 0 {
		return r
	}
	return &reader{r: r, secrets: secrets, buffer: make([]byte, 32<<10)}
}

type reader struct {
	r       io.Reader
	secrets []string
	buffer  []byte
	held    []byte // read, and not yet clear
	ready   []byte // clear
	err     error
}

func (m *reader) Read(b []byte) (int, error) {
	for len(m.ready) == 0 {
		if m.err != nil {
			return 0, m.err
		}
		n, err := m.r.Read(m.buffer)
		m.held = append(m.held, m.buffer[:n]...)
		m.err = err
		m.clear()
	}
	n := copy(b, m.ready)
	m.ready = m.ready[n:]
	return n, nil
}

// mayGrow tells whether what is there is the beginning of a longer secret.
func (m *reader) mayGrow(rest []byte) bool {
	return slices.ContainsFunc(m.secrets, func(s string) bool { return len(s) > len(rest) && strings.HasPrefix(s, string(rest)) })
}

// clear moves what holds no secret, and cannot become one, out of held.
func (m *reader) clear() {
	for len(m.held) > 0 {
		at, length := -1, 0
		for _, s := range m.secrets {
			if i := bytes.Index(m.held, []byte(s)); i >= 0 && (at < 0 || i < at) {
				at, length = i, len(s)
			}
		}
		if at < 0 || m.err == nil && m.mayGrow(m.held[at:]) {
			break
		}
		m.ready = append(append(m.ready, m.held[:at]...), shown...)
		m.held = m.held[at+length:]
	}
	keep := 0
	if m.err == nil {
		for _, s := range m.secrets {
			for n := min(len(s)-1, len(m.held)); n > keep; n-- {
				if bytes.HasSuffix(m.held, []byte(s[:n])) {
					keep = n
					break
				}
			}
		}
	}
	m.ready = append(m.ready, m.held[:len(m.held)-keep]...)
	m.held = append(m.held[:0], m.held[len(m.held)-keep:]...)
}
