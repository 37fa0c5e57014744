// Package shell reads the texts of shells, also those that somebody wrote to break the reader.
package shell

import (
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// ErrDeep is a text whose parts lie so deep in one another that no person wrote it.
var ErrDeep = errors.New("it is nested too deeply")

// mostFrames is how many calls deep the parser may be when it wants more of a text: it takes
// some three for each `$(` or `if`, and some kibibytes of stack, of which Go has a bound that
// ends the process.
const mostFrames = 12_000

// onePiece is how many bytes of a text are given to the parser at a time: what they can add to its
// depth is bounded too.
const onePiece = 1024

// Parse reads a text. Its errors are those of [syntax.Parser.Parse], or [ErrDeep].
func Parse(text string, lang syntax.LangVariant) (*syntax.File, error) { return parse(text, lang) }

func parse(text string, lang syntax.LangVariant, more ...syntax.ParserOption) (*syntax.File, error) {
	var from io.Reader = strings.NewReader(text)
	if len(text) > onePiece {
		from = &shallow{from}
	}
	return syntax.NewParser(append(more, syntax.Variant(lang))...).Parse(from, "")
}

// shallow is a text that ends with [ErrDeep] for a reader that is in too deep.
type shallow struct{ text io.Reader }

func (s *shallow) Read(p []byte) (int, error) {
	var frame [1]uintptr
	if runtime.Callers(mostFrames, frame[:]) > 0 {
		return 0, ErrDeep
	}
	return s.text.Read(p[:min(len(p), onePiece)])
}

// Fields are what words come to without running anything and without looking at files: what needs
// either is an error. The library ends the process on some of what bash alone knows; that is an
// error too.
func Fields(c expand.Config, words ...*syntax.Word) (fields []string, err error) {
	c.CmdSubst, c.ReadDir2 = nil, nil
	c.ProcSubst = func(*syntax.ProcSubst) (string, error) {
		return "", errors.New("it contains a process substitution")
	}
	defer func() {
		if broke := recover(); broke != nil {
			fields, err = nil, fmt.Errorf("it cannot be expanded: %v", broke)
		}
	}()
	return expand.Fields(&c, words...)
}
