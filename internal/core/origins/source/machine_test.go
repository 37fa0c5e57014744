package source

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/written/declare"
)

// settled is a machine whose settings lie in a temporary home.
func settled(t *testing.T, env map[string]string) (*Machine, func(name, content string)) {
	t.Helper()
	root := t.TempDir()
	env["HOME"] = filepath.Join(root, "home")
	m := &Machine{
		Getenv: func(name string) string { return env[name] }, Project: filepath.Join(root, "work/heronweir"), Config: filepath.Join(root, "config"),
	}
	return m, func(name, content string) {
		t.Helper()
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

func TestAddressesAreFoundInTheirOrder(t *testing.T) {
	npm := declare.Source{Name: "npm", Kind: "npm"}
	steps := []struct {
		name   string
		set    func(put func(name, content string), env map[string]string)
		url    string
		origin string
	}{
		{"the client's own answer", func(put func(string, string), env map[string]string) {
			put("bin/npm", "#!/bin/sh\n[ \"$*\" = 'config get registry' ] && echo https://asked.example/\n")
			env["PATH"] = filepath.Dir(env["HOME"]) + "/bin"
		}, "https://asked.example/", "machine"},
		{"the person's .npmrc", func(put func(string, string), env map[string]string) {
			env["REGISTRY_HOST"] = "home.example"
			put("home/.npmrc", "; a comment\nregistry = \"https://${REGISTRY_HOST}/npm/\"\n")
		}, "https://home.example/npm/", "machine"},
		{"one above the project", func(put func(string, string), _ map[string]string) {
			put("work/.npmrc", "registry=https://team.example/\n")
		}, "https://team.example/", "machine"},
		{"the project's", func(put func(string, string), _ map[string]string) {
			put("work/heronweir/.npmrc", "registry=https://project.example/\n")
		}, "https://project.example/", "machine"},
		{"the environment", func(_ func(string, string), env map[string]string) {
			env["npm_config_registry"] = "https://env.example/"
		}, "https://env.example/", "machine"},
		{"the person's sources.toml", func(put func(string, string), _ map[string]string) {
			put("config/sources.toml", "[source.npm]\nurl = \"https://user.example/\"\n")
		}, "https://user.example/", "user"},
		{"the declaration", func(func(string, string), map[string]string) { npm.URL = "https://declared.example/" }, "https://declared.example/", "declaration"},
	}
	env := map[string]string{}
	_, put := settled(t, env)
	root := filepath.Dir(env["HOME"])
	for _, s := range steps { // each is stronger than all before it
		s.set(put, env)
		m := &Machine{Getenv: func(n string) string { return env[n] }, Project: root + "/work/heronweir", Config: root + "/config"}
		a, err := Locate(npm, m)
		if err != nil || a.URL != s.url || a.Origin != s.origin {
			t.Errorf("%s: %+v, %v", s.name, a, err)
		}
	}
}

func TestGoSettings(t *testing.T) {
	env := map[string]string{}
	m, put := settled(t, env)
	gomod := declare.Source{Name: "gomod", Kind: "gomod"}
	if _, err := Locate(gomod, m); err == nil || !strings.Contains(err.Error(), "GOPROXY") {
		t.Errorf("nothing is set: %v", err)
	}
	root := filepath.Dir(env["HOME"])
	put("go/bin/go", "#!/bin/sh\n")
	put("go/go.env", "GOPROXY=https://toolchain.example,direct\nGOSUMDB=sums.example\n")
	put("go/src/cmd/go/internal/modfetch/key.go", "var knownGOSUMDB = map[string]string{\n\t\"sums.example\": \"sums.example+abc+def\",\n}\n")
	env["PATH"] = root + "/go/bin"
	if a, err := Locate(gomod, m); err != nil || a.URL != "https://toolchain.example,direct" {
		t.Errorf("the toolchain's go.env: %+v, %v", a, err)
	}
	if name, key := m.sumDB(""); name != "sums.example" || key != "sums.example+abc+def" {
		t.Errorf("the key that the toolchain knows: %q, %q", name, key)
	}
	if name, key := m.sumDB("other.example+1+2"); name != "other.example" || key != "other.example+1+2" {
		t.Errorf("a declared database: %q, %q", name, key)
	}
	put("home/.config/go/env", "GOPROXY=https://person.example\n")
	if a, _ := Locate(gomod, m); a.URL != "https://person.example" {
		t.Errorf("the person's go/env: %+v", a)
	}
	env["GOSUMDB"] = "off"
	if name, _ := m.sumDB(""); name != "" {
		t.Errorf("GOSUMDB=off: %q", name)
	}
	env["GOPROXY"] = "direct"
	if _, err := Locate(gomod, m); err == nil {
		t.Error("direct alone is no proxy")
	}
}

func TestCredentials(t *testing.T) {
	env := map[string]string{"TOKEN": "s3cret"}
	m, put := settled(t, env)
	put("home/.npmrc", "//npm.example/team/:_authToken=${TOKEN}\n//basic.example/:_auth=dXNlcjpwdw==\n")
	put("home/.netrc", "machine proxy.example login warden password heron\nmachine other.example\n login x password y\n")
	for registry, want := range map[string]string{
		"https://npm.example/team/": "Bearer s3cret", "https://npm.example/": "", "https://basic.example/": "Basic dXNlcjpwdw==",
		"https://evil.example/team/": "", "https://proxy.example/": "Basic d2FyZGVuOmhlcm9u",
	} {
		if got := m.npmAuthorization(Address{URL: registry}); got != want {
			t.Errorf("%s: %q, not %q", registry, got, want)
		}
	}
	for address, want := range map[string]string{
		"https://proxy.example/x": "Basic d2FyZGVuOmhlcm9u", "https://u:p@elsewhere.example/": "Basic dTpw",
		"https://other.example": "Basic eDp5", "https://none.example": "",
	} {
		if got := m.authorization(Address{URL: address}, address); got != want {
			t.Errorf("%s: %q, not %q", address, got, want)
		}
	}
}

func TestAFaultySourcesFileIsAnError(t *testing.T) {
	m, put := settled(t, map[string]string{})
	put("config/sources.toml", "[source.npm]\nurll = \"x\"\n")
	if _, err := Locate(declare.Source{Name: "npm", Kind: "npm"}, m); err == nil || !strings.Contains(err.Error(), `Did you mean "url"?`) {
		t.Errorf("%v", err)
	}
}
