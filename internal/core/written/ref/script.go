package ref

import (
	"fmt"
	"path"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"app.example/trammel/internal/core/base/shell"
)

// A reference in a script stands for a value, and never for a part of the program: what is filled in is
// quoted as the place that it stands in asks for, so that whatever somebody chose for a param, or called
// a folder, is one argument and no command.

// Language is what a script is written in, by the words that start its interpreter; none is the
// built-in one.
type Language []string

// variant is the grammar of a language; ok is false of one that is no shell's.
func (l Language) variant() (v syntax.LangVariant, ok bool) {
	if len(l) == 0 {
		return syntax.LangPOSIX, true
	}
	for _, w := range l {
		switch path.Base(w) {
		case "sh", "dash", "ash":
			return syntax.LangPOSIX, true
		case "bash", "zsh", "ksh", "mksh":
			return syntax.LangBash, true
		}
	}
	return 0, false
}

// Use is a reference in a script and where it stands.
type Use struct {
	Piece
	shell.Place
	Foreign bool // the script is in a language that this program does not read
}

// Risk says what a value would be part of where this reference stands, "" where it is a value. Whoever
// may write any text for it would write a part of the program.
func (u Use) Risk() string {
	switch {
	case u.Foreign:
		return "a part of a program in another language"
	case u.By != "":
		return "a part of a program of " + u.By
	case u.Context == shell.Code:
		return "a part of the script itself"
	case u.Context == shell.Number:
		return "a part of arithmetic"
	case u.Ticks:
		return "read twice, in `…`"
	}
	return ""
}

// Uses are the references of a script, in their order.
func Uses(script string, in Language) ([]Use, error) {
	pieces, err := Parse(script)
	if err != nil {
		return nil, err
	}
	var uses []Use
	var marks []string
	var text strings.Builder
	base := "Tr4mmel"
	for strings.Contains(script, base) {
		base += "x"
	}
	for _, p := range pieces {
		if p.Name == "" {
			text.WriteString(p.Text)
			continue
		}
		mark := fmt.Sprintf("%sR%dQ", base, len(uses))
		marks = append(marks, mark)
		uses = append(uses, Use{Piece: p})
		text.WriteString(mark)
	}
	if len(uses) == 0 {
		return nil, nil
	}
	variant, known := in.variant()
	var places map[string]shell.Place
	if known {
		if places, err = shell.Places(text.String(), variant, marks); err != nil {
			known = false // it is not this program's grammar after all
		}
	}
	for i := range uses {
		uses[i].Place, uses[i].Foreign = places[marks[i]], !known
	}
	return uses, nil
}

// Script fills values into a script. look gives the value of a reference; fill is false for one that
// stays as it is written. The error says which value cannot stand where it would.
func Script(script string, in Language, look func(name string) (value string, fill bool, err error)) (string, error) {
	if !strings.Contains(script, "@{") {
		return script, nil
	}
	pieces, err := Parse(script)
	if err != nil {
		return "", err
	}
	uses, err := Uses(script, in)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	partly := false
	for _, p := range pieces {
		if p.Name == "" {
			b.WriteString(script[p.At : p.At+p.Len]) // with @@{ as it is
			continue
		}
		u := uses[0]
		uses = uses[1:]
		value, fill, err := look(p.Name)
		if err != nil {
			return "", err
		}
		if !fill {
			partly = true
			b.WriteString(script[p.At : p.At+p.Len])
			continue
		}
		written, ok := u.Written(value)
		if !ok || u.Foreign && !shell.Plain(value) {
			risk := u.Risk()
			if risk == "" {
				risk = "the end of its here-document"
			}
			return "", &Code{Name: p.Name, Value: value, Risk: risk}
		}
		b.WriteString(strings.ReplaceAll(written, "@{", "@@{")) // no reference hides in a value
	}
	if partly {
		return b.String(), nil
	}
	return strings.ReplaceAll(b.String(), "@@{", "@{"), nil
}

// Argv fills values into a command's words, which no shell reads; but where a word is a program, a value
// in it has to be plain.
func Argv(argv []string, look func(name string) (value string, fill bool, err error)) ([]string, error) {
	var out []string
	for i, word := range argv {
		filled, err := fillWord(word, func(name, value string) error {
			if by := shell.Program(argv, i); by != "" && !shell.Plain(value) {
				return &Code{Name: name, Value: value, Risk: "a part of a program of " + by}
			}
			return nil
		}, look)
		if err != nil {
			return nil, err
		}
		out = append(out, filled)
	}
	return out, nil
}

func fillWord(word string, check func(name, value string) error, look func(string) (string, bool, error)) (string, error) {
	pieces, err := Parse(word)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	partly := false
	for _, p := range pieces {
		whole := word[p.At : p.At+p.Len]
		if p.Name == "" {
			b.WriteString(whole)
			continue
		}
		value, fill, err := look(p.Name)
		switch {
		case err != nil:
			return "", err
		case !fill:
			partly = true
			b.WriteString(whole)
			continue
		}
		if err := check(p.Name, value); err != nil {
			return "", err
		}
		b.WriteString(strings.ReplaceAll(value, "@{", "@@{"))
	}
	if partly {
		return b.String(), nil
	}
	return strings.ReplaceAll(b.String(), "@@{", "@{"), nil
}

// Code is a value that would be a part of a program.
type Code struct{ Name, Value, Risk string }

func (c *Code) Error() string {
	return fmt.Sprintf("@{%s} is %q here, and would be %s", c.Name, c.Value, c.Risk)
}

// WayOut is what to do about it.
func (c *Code) WayOut() string { return WayOut(c.Name) }

// WayOut says how a script has a value without its being a part of the script.
func WayOut(name string) string {
	return fmt.Sprintf("Give the value by a variable, which no shell reads as code: VALUE = \"@{%s}\" under [variables], and \"$VALUE\" in the script.", name)
}
