package card

import (
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/platform"
)

func TestEveryBuiltinCardIsWhole(t *testing.T) {
	names := BuiltinNames()
	silent := []string{"jq", "imagemagick", "tex"} // what they state is not the version of their package
	if len(names) < 3 {
		t.Fatalf("only %v", names)
	}
	for _, name := range names {
		c, ok := Builtin(name)
		if !ok || c.About == "" || c.Answer.Run == "" && !slices.Contains(silent, name) {
			t.Errorf("%s: %+v", name, c)
		}
		for _, f := range c.From {
			for _, known := range platform.Known {
				p, _ := platform.Parse(known)
				for _, part := range f.Parts {
					if got, err := f.Expand(part.Package, "1.2.3", p); err != nil || strings.Contains(got, "@{") {
						t.Errorf("%s on %s: %q, %v", name, known, got, err)
					}
				}
			}
		}
	}
}

func TestFaultyCards(t *testing.T) {
	for says, text := range map[string]string{
		"inside the root":            "[[from]]\nkind = \"debian\"\nbin = [\"../../bin/x\"]\n",
		"no source":                  "about = \"x\"\n",
		"has no parts":               "[[from]]\nkind = \"npm\"\n",
		"inside the part":            "[[from]]\nkind = \"npm\"\n[[from.part]]\nbin = { x = \"../../bin/x\" }\n",
		"one group":                  "answer = { run = \"x\", match = 'x' }\n[[from]]\nkind = \"npm\"\n[[from.part]]\n",
		`no key "bni"`:               "[[from]]\nkind = \"npm\"\n[[from.part]]\nbni = {}\n",
		"is not a version scheme":    "scheme = \"roman\"\n[[from]]\nkind = \"npm\"\n[[from.part]]\n",
		"must be an array of tables": "[from]\nkind = \"npm\"\n",
	} {
		if _, err := Parse("card.toml", "x", []byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
}

func TestTheDigestIsOfTheMeaning(t *testing.T) {
	const text = "about = \"x\"\n[[from]]\nkind = \"npm\"\n[[from.part]]\nbin = { x = \"bin/x\" }\n"
	digest := func(text string) string {
		c, err := Parse("card.toml", "x", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return c.Digest()
	}
	if digest(text) != digest("# more\n"+strings.Replace(text, "\"x\"\n", "\"about it\"\n", 1)) {
		t.Error("words change the digest")
	}
	if digest(text) == digest(strings.Replace(text, "bin/x", "bin/y", 1)) {
		t.Error("another file does not change the digest")
	}
}

func TestWhatHoldsForSomeVersionsAlone(t *testing.T) {
	c, ok := Builtin("go")
	if !ok {
		t.Fatal("there is no card of go")
	}
	for v, want := range map[string]string{"1.5.4": "@{part}", "1.8": "@{part}", "1.8.7": "@{part}", "1.9": "", "1.9.2": "", "1.21.0": ""} {
		if got := c.VariablesOf(v)["GOROOT"]; got != want {
			t.Errorf("go %s has GOROOT %q", v, got)
		}
		if c.VariablesOf(v)["GOTOOLCHAIN"] != "local" {
			t.Errorf("go %s lacks what holds for all", v)
		}
	}
	if c.Variables["GOROOT"] != "" {
		t.Error("one version changed the card")
	}
	for text, words := range map[string]string{
		"[[where]]\nvariables = { A = \"1\" }\n":                             "says no versions",
		"[[where]]\nversions = \"<1\"\nvariables = { LD_PRELOAD = \"1\" }\n": "",
		"place = { run = \"x\", match = 'no group' }\n":                      "place.match must be",
	} {
		_, err := Parse("x.toml", "x", []byte(text+"[[from]]\nkind = \"npm\"\n[[from.part]]\nbin = { x = \"x\" }\n"))
		if words != "" && (err == nil || !strings.Contains(err.Error(), words)) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
