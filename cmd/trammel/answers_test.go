package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

var (
	moments = regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)`)
	public  = regexp.MustCompile(`https?://[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*\.(org|com|net|io|dev)[^" ]*`)
	folder  = regexp.MustCompile(`/[^" ]*/(TestWhatCommandsPrint\w*)/\d+`)
)

// shortened is a value with its lists cut after two, as the reference shows it.
func shortened(v any) any {
	switch v := v.(type) {
	case []any:
		out := []any{}
		for _, x := range v[:min(len(v), 2)] {
			out = append(out, shortened(x))
		}
		return out
	case map[string]any:
		for name, x := range v {
			v[name] = shortened(x)
			if name == "pid" {
				v[name] = 4711
			}
		}
	}
	return v
}

// Every answer is what the reference says; TRAMMEL_WRITE_REFERENCE=1 writes its examples anew.
func TestWhatCommandsPrintAsJSONIsInTheReference(t *testing.T) {
	linuxOnly(t)
	t.Parallel()
	raw, err := os.ReadFile("../../docs/reference/json.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	if err := compiler.AddResource("reference.json", whole); err != nil {
		t.Fatal(err)
	}
	commands := whole.(map[string]any)["properties"].(map[string]any)
	seen := map[string]bool{}
	check := func(command, out string) {
		t.Helper()
		ref, ok := commands[command].(map[string]any)
		if !ok {
			t.Fatalf("the reference has no command %q", command)
		}
		seen[command] = true
		schema, err := compiler.Compile("reference.json" + ref["$ref"].(string))
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.SplitSeq(strings.TrimSpace(out), "\n{\n") {
			text := line
			if !strings.HasPrefix(text, "{") {
				text = "{\n" + text
			}
			if command == "logs" {
				text, _, _ = strings.Cut(out, "\n")
			}
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
			if err != nil {
				t.Errorf("%s prints no JSON: %v\n%s", command, err, text)
				return
			}
			if err := schema.Validate(value); err != nil {
				t.Errorf("%s: %v\n%s", command, err, text)
			}
		}
		if os.Getenv("TRAMMEL_WRITE_REFERENCE") == "" {
			return
		}
		var v any
		if command == "logs" {
			out, _, _ = strings.Cut(out, "\n")
		}
		if err := json.NewDecoder(strings.NewReader(out)).Decode(&v); err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		if err := e.Encode(shortened(v)); err != nil {
			t.Fatal(err)
		}
		text := moments.ReplaceAllString(b.String(), "2026-03-14T08:30:00Z")
		text = folder.ReplaceAllString(text, "/home/heron")
		text = public.ReplaceAllString(text, "https://modules.example") // no page names a registry of this machine
		name, _, _ := strings.Cut(command, ",")
		file := filepath.Join("../../docs/reference/examples", strings.NewReplacer(" --", "-", " ", "-").Replace(strings.ToLower(name))+".json")
		err = os.MkdirAll(filepath.Dir(file), 0o755)
		if err == nil {
			err = os.WriteFile(file, []byte(text), 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}

	h := demoHut(t)
	git := func(args ...string) {
		t.Helper()
		c := exec.Command("git", append([]string{"-c", "user.name=hut", "-c", "user.email=hut@weir.example"}, args...)...)
		c.Dir = h.dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	toml := h.read("trammel.toml")
	h.write("trammel.toml", toml+"\n[param.visitors]\nkind = \"integer\"\nmin = 1\nmax = 40\ndefault = 12\nabout = \"How many may come at once\"\n")
	check("lock", h.ok("lock", "--json"))
	git("init", "-q")
	git("add", "-A")
	git("commit", "-qm", "Count fish")
	check("approve", h.ok("approve", "--json"))
	check("version", h.ok("version", "--json"))
	check("find", h.ok("find", "--json"))
	check("find TOOL", h.ok("find", "--json", "sluice"))
	check("newer", h.ok("newer", "--json"))
	check("sources", h.ok("sources", "--json"))
	h.ok("fit")
	check("start", h.ok("start", "--json"))
	check("show", h.ok("show", "--json"))
	check("show NAME", h.ok("show", "--json", "lane"))
	check("show params", h.ok("show", "params", "--json"))
	check("do", h.ok("do", "--json"))
	check("logs", h.ok("logs", "--json", "ledger"))
	check("bays", h.ok("bays", "--json"))
	check("stop --signal", h.ok("stop", "--json", "--signal", "HUP", "ledger"))
	check("verify", h.ok("verify", "--json", "--report", "hut-laptop.json"))
	h.write("lab-desk.json", strings.ReplaceAll(h.read("hut-laptop.json"), `"hut-laptop"`, `"lab-desk"`))
	check("compare", h.try("compare", "--json", "hut-laptop.json", "lab-desk.json").out)
	check("stop", h.ok("stop", "--json"))
	check("lend", h.ok("lend", "--json"))
	h.change(`"1.4"`, `"1.2"`)
	h.ok("lock")
	git("commit", "-qam", "An older sluice")
	check("recall --list", h.ok("recall", "--list", "--json"))
	check("recall --against", h.ok("recall", "--json", "--against", "HEAD~1"))
	check("catalog check", h.ok("catalog", "check", "--json", "../catalog"))
	h.write("trammel.local.toml", "")
	if err := os.Remove(filepath.Join(h.dir, "trammel.local.toml")); err != nil {
		t.Fatal(err)
	}
	h.write("trammel.toml", h.read("trammel.toml")+"\n[depot]\nurl = \"../depot\"\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	check("stock", h.ok("stock", "--json"))
	check("sweep", h.ok("sweep", "--json"))
	check("clear", h.ok("clear", "--json", "--yes", "main"))
	p := pageHut(t) // with a service whose data can be saved
	check("data save, data load, data clear", p.ok("data", "save", "--json", "ledger", "day.sql.gz"))
	check("data save, data load, data clear", p.ok("data", "load", "--json", "ledger", "day.sql.gz"))
	check("data list, --as", p.ok("data", "save", "--json", "ledger", "--as", "seeded"))
	check("data list, --as", p.ok("data", "list", "--json"))
	check("data copy", p.ok("--bay", "trial", "data", "copy", "--json", "main"))
	check("data save, data load, data clear", p.ok("--bay", "trial", "data", "clear", "--json", "--yes", "ledger"))
	check("export oci", p.ok("export", "oci", "image", "--json"))
	check("install", h.ok("install", "--json", "--prefix", filepath.Join(t.TempDir(), "local")))
	check("remove", h.ok("remove", "--json", "--yes"))
	for command := range commands {
		if !seen[command] {
			t.Errorf("nobody looked at %s --json", command)
		}
	}
}
