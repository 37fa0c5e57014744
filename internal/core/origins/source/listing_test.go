package source

import (
	"strings"
	"testing"
)

func TestFormsOfChecksums(t *testing.T) {
	a, b := strings.Repeat("a", 64), strings.Repeat("b", 128)
	for text, want := range map[string]string{
		a + "  tool.tar.gz\n":                       "sha256:" + a,
		a + " *./tool.tar.gz\n":                     "sha256:" + a,
		strings.ToUpper(a) + "  dist/tool.tar.gz\n": "sha256:" + a,
		b + "  tool.tar.gz\n":                       "sha512:" + b,
		"SHA256 (tool.tar.gz) = " + a + "\n":        "sha256:" + a,
		"SHA512 (tool.tar.gz) = " + b + "\n":        "sha512:" + b,
		a + "\n":                                    "sha256:" + a,
		"# words\n" + a + "  other.zip\n":           "",
		strings.Repeat("c", 40) + "  tool.tar.gz\n": "", // SHA-1
		"": "",
		a + "  other.zip\n" + b + "  tool.tar.gz\n": "sha512:" + b,
	} {
		if got := sumIn(text, "tool.tar.gz"); string(got) != want {
			t.Errorf("%q: %s", text, got)
		}
	}
}

func TestVersionsAreFoundInDocuments(t *testing.T) {
	for _, c := range []struct{ doc, expression, want string }{
		{`{"0.13.0": {}, "0.12.1": {}, "master": {}}`, "$.*~", "0.12.1 0.13.0 master"},
		{`[{"version": "v1.2"}, {"version": "v1.3"}]`, "$[*].version", "v1.2 v1.3"},
		{`{"versions": ["1.0", "1.1", 2]}`, "$.versions", "1.0 1.1"},
		{`<a href="/dl/1.0/">x</a><a href="/dl/1.1/">`, `/dl/([0-9.]+)/`, "1.0 1.1"},
		{"1.0\n1.1\n", `(?m)^\S+$`, "1.0 1.1"},
		{`{}`, "$.nothing", ""},
	} {
		got, err := pick([]byte(c.doc), c.expression)
		if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%s in %s: %q %v", c.expression, c.doc, got, err)
		}
	}
	for _, bad := range [][2]string{{"{", "$.a"}, {"{}", "$["}, {"x", "("}} {
		if got, err := pick([]byte(bad[0]), bad[1]); err == nil {
			t.Errorf("%v: %q", bad, got)
		}
	}
}
