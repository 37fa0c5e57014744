package ref

import (
	"errors"
	"strings"
	"testing"
)

func TestExpand(t *testing.T) {
	look := From(map[string]string{"port.http": "8600", "service.ledger.url": "http://x"})
	for in, want := range map[string]string{
		"plain":                                    "plain",
		"127.0.0.1:@{port.http}":                   "127.0.0.1:8600",
		"@{port.http}@{port.http}":                 "86008600",
		"a literal @@{port.http} and $HOME":        "a literal @{port.http} and $HOME",
		"mail@hut, ${X} and @{service.ledger.url}": "mail@hut, ${X} and http://x",
	} {
		if got, err := Expand(in, look); got != want || err != nil {
			t.Errorf("%q gives %q, %v", in, got, err)
		}
	}
	if _, err := Expand("@{nothing.here}", look); err == nil || !strings.Contains(err.Error(), "@{nothing.here}") {
		t.Errorf("an unknown name: %v", err)
	}
	for in, at := range map[string]int{"ab @{x": 3, "@{}": 0, "ö @{a b}": 3, "@{a..b}": 0} {
		_, err := Parse(in)
		var bad *Error
		if !errors.As(err, &bad) || bad.At != at {
			t.Errorf("%q: %v", in, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a @{b.c} @@{d")
	f.Fuzz(func(t *testing.T, s string) {
		pieces, err := Parse(s)
		if err != nil {
			return
		}
		for _, p := range pieces {
			if p.At < 0 || p.At+p.Len > len(s) {
				t.Fatalf("a piece at %d+%d of %d bytes", p.At, p.Len, len(s))
			}
		}
	})
}
