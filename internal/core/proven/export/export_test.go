package export

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/lock"
)

var here = platform.Platform{OS: "linux", Arch: "amd64"}

func locked() *lock.Lock {
	digest := "sha256:" + strings.Repeat("ab", 32)
	on := func(name string, part lock.Part) map[string]map[string]lock.Part {
		return map[string]map[string]lock.Part{here.String(): {name: part}}
	}
	return &lock.Lock{
		Format: lock.Format, Declaration: lock.Declaration{Project: "heronweir", Platforms: []string{here.String()}},
		Sources: map[string]lock.Source{"npm": {Kind: "npm"}, "gomod": {Kind: "gomod"}, "hut": {Kind: "catalog"}, "trixie": {Kind: "debian", Suites: []string{"trixie main"}}},
		Items: map[string]lock.Item{
			"esbuild": {Version: "0.25.1", Source: "npm", Platforms: on("esbuild", lock.Part{Path: "@esbuild/linux-x64/-/linux-x64-0.25.1.tgz", Version: "0.25.1", Format: "tar.gz", Digest: fetch.Digest("sha512:" + strings.Repeat("cd", 64)),
				Packages: []string{"node_modules/ladder ladder/-/ladder-1.0.0.tgz " + digest}})},
			"go":     {Version: "1.24.6", Source: "gomod", Platforms: on("go", lock.Part{Path: "golang.org/toolchain/@v/v0.0.1-go1.24.6.linux-amd64.zip", Version: "1.24.6", Format: "zip", Digest: "h1:abc=", Tree: canon.TreeDigest("blake3:" + strings.Repeat("ef", 32))})},
			"sluice": {Version: "1.4.2", Source: "hut", Platforms: on("sluice", lock.Part{Path: "sluice.tar.gz", Version: "1.4.2", Format: "tar.gz", Digest: fetch.Digest(digest)})},
		},
	}
}

func TestTheBillOfMaterialsIsTheStandardsOwn(t *testing.T) {
	text, err := CycloneDX(locked(), here)
	if err != nil {
		t.Fatal(err)
	}
	again, err := CycloneDX(locked(), here)
	if err != nil || !bytes.Equal(text, again) {
		t.Error("the same lock gives another bill")
	}
	for _, want := range []string{
		`"purl": "pkg:npm/%40esbuild/linux-x64@0.25.1"`, `"purl": "pkg:npm/ladder@1.0.0"`, `"purl": "pkg:golang/golang.org/toolchain@v0.0.1-go1.24.6.linux-amd64"`,
		`"purl": "pkg:generic/sluice@1.4.2"`, `"alg": "SHA-512"`, `"trammel:tree"`, `"specVersion": "1.6"`,
	} {
		if !bytes.Contains(text, []byte(want)) {
			t.Errorf("%s is missing in\n%s", want, text)
		}
	}
	// The published schema comes with the library.
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/CycloneDX/cyclonedx-go").Output()
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	for _, name := range []string{"bom-1.6.schema.json", "spdx.schema.json", "jsf-0.82.schema.json"} {
		// One of them is there under a name of the library's own.
		found, _ := filepath.Glob(filepath.Join(strings.TrimSpace(string(dir)), "schema", strings.TrimSuffix(name, ".json")+"*.json"))
		if len(found) != 1 {
			t.Fatalf("%s: %v", name, found)
		}
		raw, err := os.ReadFile(found[0])
		if err != nil {
			t.Fatal(err)
		}
		schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		if err := compiler.AddResource("http://cyclonedx.org/schema/"+name, schema); err != nil {
			t.Fatal(err)
		}
	}
	schema, err := compiler.Compile("http://cyclonedx.org/schema/bom-1.6.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	var facts any
	if err := json.Unmarshal(text, &facts); err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(facts); err != nil {
		t.Error(err)
	}
	facts.(map[string]any)["components"].([]any)[0].(map[string]any)["type"] = "fish"
	if schema.Validate(facts) == nil {
		t.Error("the schema takes everything")
	}
}

func TestDotenvQuotesAndLeavesSecretsOut(t *testing.T) {
	text, secrets := Dotenv(environ.Environment{Variables: []environ.Variable{{Name: "A", Value: "it's $HOME\n"}, {Name: "TOKEN", Value: "x\x02secret:TOKEN\x03"}}})
	if string(text) != "A='it'\\''s $HOME\n'\n" || len(secrets) != 1 || secrets[0] != "TOKEN" {
		t.Errorf("%q, %v", text, secrets)
	}
}
