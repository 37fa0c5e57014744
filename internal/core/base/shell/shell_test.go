package shell

import (
	"errors"
	"strings"
	"testing"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// However deep the parts of a text lie in one another, reading it ends with a word and not with
// the process.
func TestParseEndsOnADeepText(t *testing.T) {
	t.Parallel()
	for _, part := range []string{"$(", "{ ", "if ", "$((", "while ", "( ", "[[ (", "! { ", "a[", "${a:-", "f() { ", "case x in x) ", "\"$(", "`\\`"} {
		for _, times := range []int{3, 300_000} {
			file, err := Parse(strings.Repeat(part, times), syntax.LangBash)
			if err == nil {
				t.Errorf("%d of %q are a text: %d statements", times, part, len(file.Stmts))
			}
			if deep := errors.Is(err, ErrDeep); deep && times == 3 {
				t.Errorf("3 of %q lie too deep", part)
			}
		}
	}
	_, err := Parse(strings.Repeat("{ true; ", 300_000), syntax.LangBash)
	if !errors.Is(err, ErrDeep) {
		t.Errorf("300,000 braces: %v", err)
	}
	// What a person writes is read, however long it is.
	long := strings.Repeat("if true; then (echo \"$(cat a)\" | sort) && { b; }; fi\n", 20_000)
	if file, err := Parse(long, syntax.LangPOSIX); err != nil || len(file.Stmts) != 20_000 {
		t.Errorf("a long text: %v", err)
	}
	if _, err := Parse(strings.Repeat("{ ", 200)+"a"+strings.Repeat("; }", 200), syntax.LangPOSIX); err != nil {
		t.Errorf("200 braces: %v", err)
	}
}

// Fields ends with a word on whatever the parser takes for one.
func TestFieldsEndsOnEveryWord(t *testing.T) {
	t.Parallel()
	file, err := Parse("a <(b) >(c) \"$(d)\" `e` ${f:=g} ${!h} ${h@Q} ${h@P} $((i++)) $((i/0)) ${j[1]} ${j[@]} ${k:1:-9} ${#l} ${m/n/o} @(p|q) {r,s} ~t $'u' $\"v\" ${w^^} ${!x*} ${y:?z} $((j[1]=2)) *", syntax.LangBash)
	if err != nil {
		t.Fatal(err)
	}
	done := 0
	for _, word := range file.Stmts[0].Cmd.(*syntax.CallExpr).Args {
		fields, err := Fields(expand.Config{Env: expand.ListEnviron("h=a b")}, word)
		if err == nil {
			done += len(fields)
		}
	}
	if done < 8 {
		t.Errorf("%d words were expanded", done)
	}
}
