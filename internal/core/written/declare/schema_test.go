package declare

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"app.example/trammel/internal/core/base/fault"
)

func compiledSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("trammel.json", whole); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("trammel.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

// asJSON is a declaration as an editor hands it to a schema: dates are texts.
func asJSON(text string) (any, error) {
	var v map[string]any
	if err := toml.Unmarshal([]byte(text), &v); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(dated(v))
	if err != nil {
		return nil, err
	}
	return jsonschema.UnmarshalJSON(bytes.NewReader(raw))
}

func dated(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			v[name] = dated(x)
		}
	case []any:
		for i, x := range v {
			v[i] = dated(x)
		}
	case time.Time, toml.LocalDate, toml.LocalDateTime:
		return fmt.Sprint(v)
	}
	return v
}

// What Parse takes the schema takes: all declarations of the docs, the starters and the demo.
func TestTheSchemaTakesEveryDeclaration(t *testing.T) {
	schema := compiledSchema(t)
	good := map[string]string{"the test's own": heronweir}
	block := regexp.MustCompile("(?s)```toml[^\n]*\n(.*?)```")
	pages, _ := filepath.Glob("../../../../docs/*.md")
	for _, page := range append(pages, "../../../../README.md") {
		raw, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for i, m := range block.FindAllStringSubmatch(string(raw), -1) {
			good[fmt.Sprintf("%s, block %d", filepath.Base(page), i+1)] = m[1]
		}
	}
	for _, glob := range []string{"../draft/starters/*/trammel.toml", "../../../demo/*/*.toml", "../../../demo/*/*/*.toml"} {
		files, _ := filepath.Glob(glob)
		for _, file := range files {
			raw, err := os.ReadFile(file)
			if err != nil {
				continue
			}
			good[file] = strings.NewReplacer("PROJECT", "heronweir", "SUITE", "trixie").Replace(string(raw))
		}
	}
	taken := 0
	for name, text := range good {
		for _, head := range []string{"", "format = 1\nproject = \"heronweir\"\n"} { // pages show parts, too
			if _, err := Parse("trammel.toml", []byte(head+text)); err != nil {
				continue
			}
			value, err := asJSON(head + text)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if err := schema.Validate(value); err != nil {
				t.Errorf("%s: %v\n%s", name, err, text)
			}
			taken++
		}
	}
	if taken < 20 {
		t.Errorf("only %d declarations were there", taken)
	}
}

// Every key that Parse knows the schema knows, and the other way round.
func TestTheSchemaKnowsEveryKey(t *testing.T) {
	var whole struct {
		Properties map[string]json.RawMessage
		Defs       map[string]json.RawMessage `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &whole); err != nil {
		t.Fatal(err)
	}
	keys := func(raw json.RawMessage, path ...string) (out []string) {
		var v any
		if err := json.Unmarshal(raw, &v); err != nil {
			t.Fatal(err)
		}
		for _, step := range path {
			if list, ok := v.([]any); ok {
				v = list[len(list)-1]
			} else {
				v = v.(map[string]any)[step]
			}
		}
		for k := range v.(map[string]any)["properties"].(map[string]any) {
			out = append(out, k)
		}
		slices.Sort(out)
		return out
	}
	known := regexp.MustCompile(`Known: ([^\n]+)\.`)
	for _, x := range []struct {
		text string
		has  []string
	}{
		{"[toolchain.go]\nversion = \"1\"\n", keys(whole.Defs["toolchain"], "anyOf", "")},
		{"[param.lanes]\nkind = \"integer\"\n", keys(whole.Defs["param"])},
		{"[step.a]\nrun = \"true\"\n", keys(whole.Defs["step"])},
		{"[service.a]\nrun = \"true\"\n[service.a.ready]\n", keys(whole.Defs["service"], "properties", "ready")},
		{"[service.a]\nrun = \"true\"\n[service.a.stop]\n", keys(whole.Defs["service"], "properties", "stop")},
		{"[routine.a]\nrun = \"true\"\n", keys(whole.Properties["routine"], "additionalProperties")},
		{"[addon.a]\nlist = \"true\"\n", keys(whole.Defs["addon"])},
		{"[secret.TOKEN]\nfrom = \"env:A\"\n", keys(whole.Properties["secret"], "additionalProperties")},
		{"[file.\"a\"]\ntemplate = \"b\"\n", keys(whole.Properties["file"], "additionalProperties")},
		{"[variables.A]\nwhen = \"param.x\"\n", keys(whole.Defs["variables"], "additionalProperties", "anyOf", "")},
	} {
		_, err := Parse("trammel.toml", []byte("format = 1\nproject = \"heronweir\"\n"+x.text+"no-such-key = 1\n"))
		var found []string
		if err != nil {
			found = known.FindStringSubmatch(err.Error())
		}
		if found == nil {
			t.Errorf("after %q nothing says which keys are known: %v", x.text, err)
			continue
		}
		want := strings.Split(found[1], ", ")
		slices.Sort(want)
		if !slices.Equal(want, x.has) {
			t.Errorf("after %q Parse knows\n %v\nand the schema\n %v", x.text, want, x.has)
		}
	}
	// Libraries have other keys by their kind.
	var libraries []string
	for _, kind := range []string{"python", "node", "r"} {
		_, err := Parse("trammel.toml", []byte("format = 1\nproject = \"heronweir\"\n[libraries.a]\nkind = \""+kind+"\"\nno-such-key = 1\n"))
		for _, key := range strings.Split(known.FindStringSubmatch(err.Error())[1], ", ") {
			if !slices.Contains(libraries, key) {
				libraries = append(libraries, key)
			}
		}
	}
	slices.Sort(libraries)
	if has := keys(whole.Defs["libraries"]); !slices.Equal(libraries, has) {
		t.Errorf("of libraries Parse knows\n %v\nand the schema\n %v", libraries, has)
	}
	// Of the top and of services the message names none, so each is tried.
	for _, x := range []struct{ head, at string }{{"", ""}, {"[service.a]\n", "service"}} {
		list := keys(Schema)
		if x.at != "" {
			list = keys(whole.Defs[x.at])
		}
		for _, key := range list {
			_, err := Parse("trammel.toml", []byte(x.head+key+" = 12345\n"))
			if err != nil && strings.Contains(err.Error(), fmt.Sprintf("no key %q is known", key)) {
				t.Errorf("the schema has %s%s, and Parse does not know it", x.head, key)
			}
		}
	}
}

// What a schema can see it does not let pass.
func TestTheSchemaRefusesFaults(t *testing.T) {
	schema := compiledSchema(t)
	head := "format = 1\nproject = \"heronweir\"\n"
	for name, text := range map[string]string{
		"no format": "project = \"heronweir\"\n", "another format": "format = 2\nproject = \"heronweir\"\n", "no project": "format = 1\n", "a project's name": "format = 1\nproject = \"Heron\"\n",
		"an unknown key": head + "isolaton = \"clean\"\n", "isolation": head + "isolation = \"shut\"\n", "a number as an ask": head + "[toolchain]\nx = 1.2\n",
		"a key of a tool": head + "[toolchain]\nnode = { version = \">=22\", frm = \"npm\" }\n", "a step without run": head + "[step.a]\nabout = \"x\"\n",
		"a need of nothing": head + "[step.a]\nrun = \"x\"\nneeds = [\"servic.q\"]\n", "when": head + "[step.a]\nrun = \"x\"\nwhen = \"never\"\n",
		"a port": head + "[service.a]\nrun = \"x\"\nports = { http = 99999 }\n", "a duration": head + "[service.a]\nrun = \"x\"\nready = { tcp = \"http\", within = \"3 s\" }\n",
		"a service without run": head + "[service.a]\nauto = false\n", "a kind of source": head + "[source.a]\nkind = \"ftp\"\n", "debian without a suite": head + "[source.a]\nkind = \"debian\"\n",
		"a kind of param": head + "[param.a]\nkind = \"number\"\n", "a choice of nothing": head + "[param.a]\nkind = \"choice\"\n", "a secret from nowhere": head + "[secret.A]\nfrom = \"there\"\n",
		"a name": head + "[step.Big]\nrun = \"x\"\n", "a platform": head + "platforms = [\"linux/mips\"]\n", "host": head + "host = [\"/bin/ls\"]\n", "restart": head + "[service.a]\nrun = \"x\"\nrestart = \"often\"\n",
		"libraries": head + "[libraries.a]\nkind = \"perl\"\n", "an empty script": head + "[step.a]\nrun = \"  \"\n", "copies": head + "[service.a]\nrun = \"x\"\ncopies = 0\n",
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := Parse("trammel.toml", []byte(text)); err == nil || !errors.As(err, &fault.Findings{}) {
				t.Fatalf("Parse takes it: %v", err)
			}
			value, err := asJSON(text)
			if err != nil {
				t.Fatal(err)
			}
			if schema.Validate(value) == nil {
				t.Error("the schema takes it")
			}
		})
	}
}
