package render

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/written/declare"
)

func FuzzTemplate(f *testing.F) {
	f.Add("lanes = {{ .param.lanes }}\n{{ range .param.species }}{{ . }} {{ end }}{{ index .param \"x\" }}")
	f.Add("{{ define \"a\" }}{{ template \"a\" }}{{ end }}{{ template \"a\" }}")
	f.Add("{{ printf \"%*d\" 1000000000 1 }}")
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		os.WriteFile(filepath.Join(dir, "a.tmpl"), []byte(text), 0o600)
		f := declare.File{Path: "a", Template: "a.tmpl"}
		in := Inputs{Declaration: &declare.Declaration{Dir: dir}, BayDir: dir}
		source, err := in.source(nil, f)
		if err != nil {
			t.Fatal(err)
		}
		_, err = content(f, source, map[string]any{
			"param": map[string]any{"lanes": int64(3), "species": []string{"silverfin", "mill trout"}, "run": true}, "project": "heronweir",
		}, func(s string) string { return s })
		if err != nil && !errors.Is(err, fault.ErrUsage) {
			t.Errorf("an error that says nothing to a person: %v", err)
		}
	})
}
