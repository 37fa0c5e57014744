package lock

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
)

func sample() *Lock {
	part := func(digit string) Part {
		return Part{Path: "node/-/node-22.11.0.tgz", Version: "22.11.0", Format: "tar.gz", Size: 7, Strip: 1,
			Digest: fetch.Digest("sha256:" + strings.Repeat(digit, 64)), Bin: map[string]string{"node": "bin/node"}}
	}
	return &Lock{
		Format:      Format,
		Declaration: Declaration{Digest: "sha256:00", Project: "heronweir", Isolation: "clean", Platforms: []string{"linux/amd64", "linux/arm64"}},
		Sources:     map[string]Source{"npm": {Kind: "npm", Address: "machine", AsOf: "2026-03-01T00:00:00Z"}},
		Items: map[string]Item{"node": {
			Version: "22.11.0", Source: "npm", Card: "sha256:11", Match: `v(\S+) "quoted"`,
			Variables: map[string]string{"npm_config_prefix": "@{home}"},
			Platforms: map[string]map[string]Part{"linux/amd64": {"node": part("a")}, "linux/arm64": {"node": part("b")}},
		}},
		Variables: map[string]string{"WEIR_UNITS": "sha256:22"},
		Steps:     map[string]string{"modules": "sha256:33"},
	}
}

func TestALockReadsBackAsItWasWritten(t *testing.T) {
	first := sample().Bytes()
	l, err := Parse(first)
	if err != nil {
		t.Fatalf("%v\n%s", err, first)
	}
	if !bytes.Equal(l.Bytes(), first) {
		t.Errorf("written again it differs:\n%s", l.Bytes())
	}
	if l.Items["node"].Match != `v(\S+) "quoted"` {
		t.Errorf("%q", l.Items["node"].Match)
	}
	for line := range strings.Lines(string(first)) {
		if strings.Count(line, " = ") > 1 {
			t.Errorf("more than one fact in a line: %s", line)
		}
	}
}

// Any change of a value is found; that is what the digest is for.
func TestEveryEditedFactIsRefused(t *testing.T) {
	text := string(sample().Bytes())
	edits := 0
	for line := range strings.Lines(text) {
		name, value, ok := strings.Cut(line, " = ")
		if !ok {
			continue
		}
		changed := strings.Replace(value, "2", "3", 1)
		if changed == value {
			changed = strings.Replace(value, "a", "b", 1)
		}
		if changed == value {
			continue
		}
		edits++
		if _, err := Parse([]byte(strings.Replace(text, line, name+" = "+changed, 1))); err == nil {
			t.Errorf("an edit of %s was not found", name)
		}
	}
	if edits < 15 {
		t.Errorf("only %d edits were tried", edits)
	}
}

func TestIDs(t *testing.T) {
	amd, arm := platform.Platform{OS: "linux", Arch: "amd64"}, platform.Platform{OS: "linux", Arch: "arm64"}
	base := sample()
	id, env := base.ID(), base.EnvironmentID(amd)
	if env == base.EnvironmentID(arm) {
		t.Error("two platforms have one environment id")
	}
	same := sample()
	same.Sources["npm"] = Source{Kind: "npm", Address: "declaration", AsOf: "2026-04-01T00:00:00Z"}
	same.SetTree(amd, same.PartsOn(amd)[0], canon.TreeDigest("blake3:"+strings.Repeat("c", 64)), nil)
	if same.ID() != id || same.EnvironmentID(amd) != env {
		t.Error("a later look at the source, or a learnt tree digest, gives another id")
	}
	one := sample()
	one.Declaration.Platforms = one.Declaration.Platforms[:1]
	delete(one.Items["node"].Platforms, "linux/arm64")
	if one.EnvironmentID(amd) != env || one.ID() == id {
		t.Error("the environment id of a platform depends on the other platforms")
	}
	for name, change := range map[string]func(*Lock){
		"an archive": func(l *Lock) {
			p := l.Items["node"].Platforms["linux/amd64"]["node"]
			p.Digest = fetch.Digest("sha256:" + strings.Repeat("d", 64))
			l.Items["node"].Platforms["linux/amd64"]["node"] = p
		},
		"a variable":  func(l *Lock) { l.Variables["WEIR_UNITS"] = "sha256:23" },
		"a step":      func(l *Lock) { l.Steps["modules"] = "sha256:34" },
		"a service":   func(l *Lock) { l.Services = map[string]string{"lane": "sha256:44"} },
		"isolation":   func(l *Lock) { l.Declaration.Isolation = "open" },
		"the project": func(l *Lock) { l.Declaration.Project = "other" },
	} {
		l := sample()
		change(l)
		if l.EnvironmentID(amd) == env {
			t.Errorf("%s does not change the environment id", name)
		}
	}
}

func TestChangesInWords(t *testing.T) {
	old, now := sample(), sample()
	x := now.Items["node"]
	x.Version = "22.12.0"
	now.Items["node"] = x
	now.Items["go"] = Item{Version: "1.24.6"}
	now.Declaration.Platforms = []string{"linux/amd64", "darwin/arm64"}
	delete(now.Variables, "WEIR_UNITS")
	now.Steps["modules"] = "sha256:99"
	want := []string{"+ go 1.24.6", "node 22.11.0 → 22.12.0", "+ platform darwin/arm64", "- platform linux/arm64", "- variable WEIR_UNITS", "step modules changed"}
	if got := Changes(old, now); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := Changes(old, sample()); len(got) != 0 {
		t.Errorf("no change: %q", got)
	}
}

func TestAnUnchangedLockIsNotWrittenAgain(t *testing.T) {
	dir := t.TempDir()
	if err := sample().Write(dir); err != nil {
		t.Fatal(err)
	}
	before, _ := os.Stat(filepath.Join(dir, FileName))
	if err := sample().Write(dir); err != nil {
		t.Fatal(err)
	}
	after, _ := os.Stat(filepath.Join(dir, FileName))
	if !os.SameFile(before, after) {
		t.Error("the file was replaced")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(sample().Bytes())
	f.Fuzz(func(t *testing.T, source []byte) {
		if l, err := Parse(source); err == nil {
			if _, err := Parse(l.Bytes()); err != nil {
				t.Errorf("a lock that was read cannot be read again: %v", err)
			}
		}
	})
}

// A lock of many items is read in chunks, and is the same lock.
func TestALargeLockIsReadInPortions(t *testing.T) {
	l := &Lock{Format: Format, Items: map[string]Item{}, Steps: map[string]string{"load": "sha256:" + strings.Repeat("a", 64)}, Variables: map[string]string{"A": "b"}}
	l.Declaration.Project, l.Declaration.Platforms = "heronweir", []string{"linux/amd64"}
	for i := range 5*itemsAtOnce + 3 {
		name := fmt.Sprintf("tool-%d", i)
		l.Items[name] = Item{Version: fmt.Sprint(i), Source: "hut", Platforms: map[string]map[string]Part{"linux/amd64": {name: {
			Path: name + ".tar.gz", Version: fmt.Sprint(i), Format: "tar.gz", Size: int64(i + 1), Digest: fetch.Digest("sha256:" + strings.Repeat("b", 64)), Bin: map[string]string{name: "bin/" + name},
		}}}}
	}
	file := filepath.Join(t.TempDir(), FileName)
	if err := l.WriteFile(file); err != nil {
		t.Fatal(err)
	}
	again, err := ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if again.ID() != l.ID() || len(again.Items) != len(l.Items) || again.Steps["load"] != l.Steps["load"] {
		t.Errorf("%d items of %d came back", len(again.Items), len(l.Items))
	}
	raw, _ := os.ReadFile(file)
	for what, text := range map[string]string{
		"an item twice":           strings.Replace(string(raw), "\n[item.tool-99]\n", "\n[item.tool-98]\nversion = \"7\"\n\n[item.tool-99]\n", 1),
		"an item without its end": string(raw[:len(raw)*2/3]),
		"a key nobody knows":      strings.Replace(string(raw), "\n[item.tool-99]\n", "\n[item.tool-99]\nmore = 1\n", 1),
	} {
		if _, err := Parse([]byte(text)); err == nil {
			t.Errorf("%s is read without a word", what)
		}
	}
}
