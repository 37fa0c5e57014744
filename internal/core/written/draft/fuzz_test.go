package draft

import (
	"testing"
	"testing/fstest"

	"app.example/trammel/internal/core/written/declare"
)

// FuzzLook drafts from files that a stranger's folder holds: whatever they say, the
// draft is a declaration.
func FuzzLook(f *testing.F) {
	for name, text := range map[string]string{
		"go.mod": "module a\ngo 1.24\ntoolchain go1.24.6\n", "package.json": `{"engines":{"node":">=20 <23"},"packageManager":"npm@10.1.0+sha","scripts":{"test":"x"}}`,
		"pyproject.toml": "[project]\nrequires-python = \">=3.9,<4\"\n", "Cargo.toml": "[package]\nrust-version = \"1.80\"\n",
		"pom.xml": "<project><properties><maven.compiler.release>21</maven.compiler.release></properties></project>", "Gemfile": "ruby \"3.1.2\"\n", "DESCRIPTION": "Package: a\nDepends: R (>= 4.1)\n",
	} {
		f.Add(name, text)
	}
	f.Fuzz(func(t *testing.T, name, text string) {
		found := Look(fstest.MapFS{name: &fstest.MapFile{Data: []byte(text)}})
		out := found.Text("heronweir", Means{Can: func(string) bool { return true }, From: func(string) bool { return false }, Index: func(string) bool { return true }})
		d, err := declare.Parse("trammel.toml", []byte(out))
		if err != nil {
			t.Errorf("the draft from %s is no declaration: %v\n%s", name, err, out)
		} else if len(d.Steps) > len(found.Steps) {
			t.Errorf("%s brought a step of its own:\n%s", name, out)
		}
	})
}
