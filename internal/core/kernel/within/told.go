package within

import (
	"errors"
	"io"
	"os"
	"strconv"

	"app.example/trammel/internal/core/base/plain"
)

// What a process is told comes as netstrings (D. J. Bernstein, "Netstrings", 1997): the length in
// decimal, a colon, the text and a comma. A reader of JSON would be initialised first.

func pack(words ...string) []byte {
	var out []byte
	for _, w := range words {
		out = strconv.AppendInt(out, int64(len(w)), 10)
		out = append(append(append(out, ':'), w...), ',')
	}
	return out
}

var errTold = errors.New("what it was told is cut")

func unpack(raw []byte) (words []string, err error) {
	for text := string(raw); text != ""; {
		length, rest, ok := plain.Cut(text, ":")
		n, err := strconv.Atoi(length)
		if !ok || err != nil || n < 0 || n >= len(rest) || rest[n] != ',' {
			return nil, errTold
		}
		words, text = append(words, rest[:n]), rest[n+1:]
	}
	return words, nil
}

// flags are truths as letters.
func flags(truths ...bool) string {
	out := make([]byte, len(truths))
	for i, t := range truths {
		out[i] = '-'
		if t {
			out[i] = 'x'
		}
	}
	return string(out)
}

func told(f *os.File, least int) ([]string, error) {
	defer f.Close()
	raw, err := io.ReadAll(f)
	if err != nil {
		return nil, err
	}
	words, err := unpack(raw)
	if err == nil && len(words) < least {
		err = errTold
	}
	return words, err
}

// Pack is the order as it is handed on.
func (o Order) Pack() []byte {
	v := o.View
	words := []string{flags(v.Closed, o.Making, o.Terminal), v.Root, v.Work, v.Self, v.Frame, o.Dir, o.Path}
	for _, list := range [][]string{v.Read, v.Write, v.Hide} {
		words = append(append(words, strconv.Itoa(len(list))), list...)
	}
	return pack(words...)
}

// Unpack is an order that was packed.
func Unpack(packed string) (o Order, err error) {
	words, err := unpack([]byte(packed))
	if err != nil || len(words) < 10 || len(words[0]) != 3 {
		return o, errors.Join(err, errTold)
	}
	o.View.Closed, o.Making, o.Terminal = words[0][0] == 'x', words[0][1] == 'x', words[0][2] == 'x'
	o.View.Root, o.View.Work, o.View.Self, o.View.Frame, o.Dir, o.Path = words[1], words[2], words[3], words[4], words[5], words[6]
	rest := words[7:]
	for _, list := range []*[]string{&o.View.Read, &o.View.Write, &o.View.Hide} {
		if len(rest) == 0 {
			return o, errTold
		}
		n, err := strconv.Atoi(rest[0])
		if err != nil || n < 0 || n >= len(rest) {
			return o, errTold
		}
		*list, rest = rest[1:1+n], rest[1+n:]
	}
	return o, nil
}

// Pack is what an init is told as it is handed on.
func (s Spec) Pack() []byte {
	return pack(append([]string{flags(s.Mount, s.Adopt), s.Path}, s.Argv...)...)
}

func specFrom(f *os.File) (s Spec, err error) {
	words, err := told(f, 2)
	if err != nil || len(words[0]) != 2 {
		return s, errors.Join(err, errTold)
	}
	return Spec{Path: words[1], Argv: words[2:], Mount: words[0][0] == 'x', Adopt: words[0][1] == 'x'}, nil
}
