package tree

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func put(t *testing.T, root, name, content string, mode os.FileMode) {
	t.Helper()
	path := filepath.Join(root, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), mode); err != nil {
		t.Fatal(err)
	}
}

// The worked example of docs/tree-digest.md, byte for byte.
func TestTheManifestIsAsSpecified(t *testing.T) {
	root := t.TempDir()
	put(t, root, "bin/sluice", "#!/bin/sh\n", 0o755)
	put(t, root, "share/mill trout 100%.txt", "", 0o600)
	if err := os.Mkdir(filepath.Join(root, "empty"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../bin/sluice", filepath.Join(root, "share/näher")); err != nil {
		t.Fatal(err)
	}
	m, err := Scan(root, true)
	if err != nil {
		t.Fatal(err)
	}
	const want = "x bc1f407a11c9377c8b9b13f956b279c8462775105eb958fc9ae3c40de87cc96e bin/sluice\n" +
		"d - empty\n" +
		"f af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262 share/mill%20trout%20100%25.txt\n" +
		"l ../bin/sluice share/n%C3%A4her\n"
	if got := string(m.Bytes()); got != want {
		t.Errorf("the manifest is\n%snot\n%s", got, want)
	}
	doc, err := os.ReadFile("../../../docs/tree-digest.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{want, m.Digest()} {
		if !strings.Contains(string(doc), part) {
			t.Errorf("docs/tree-digest.md lacks\n%s", part)
		}
	}
	again, err := Parse(m.Bytes())
	if err != nil || !slices.EqualFunc(m, again, Entry.Same) {
		t.Errorf("read back: %v, %v", again, err)
	}
}

func TestFileDigestsAreThoseOfB3sum(t *testing.T) {
	b3sum, err := exec.LookPath("b3sum")
	if err != nil {
		t.Skip("b3sum is not installed")
	}
	root := t.TempDir()
	for name, size := range map[string]int{"none": 0, "one": 1, "block": 64, "chunk": 1024, "odd": 1025, "large": 3<<20 + 7} {
		put(t, root, name, strings.Repeat("redgill", size/7+1)[:size], 0o644)
	}
	m, err := Scan(root, true)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range m {
		out, err := exec.Command(b3sum, "--no-names", filepath.Join(root, e.Path)).Output()
		if err != nil || strings.TrimSpace(string(out)) != e.Sum {
			t.Errorf("%s: %s, and b3sum says %s, %v", e.Path, e.Sum, out, err)
		}
	}
}

func TestCompareNamesEveryDifference(t *testing.T) {
	root := t.TempDir()
	for _, n := range []string{"a", "b", "c", "d"} {
		put(t, root, n, n, 0o644)
	}
	want, err := Scan(root, true)
	if err != nil {
		t.Fatal(err)
	}
	os.Remove(filepath.Join(root, "a"))
	put(t, root, "b", "B", 0o644)
	os.Chmod(filepath.Join(root, "c"), 0o755)
	put(t, root, "e", "", 0o644)
	have, err := Scan(root, true)
	if err != nil {
		t.Fatal(err)
	}
	expect := []Difference{{"a", "missing"}, {"b", "changed"}, {"c", "now executable"}, {"e", "extra"}}
	if got := Compare(want, have, true); !slices.Equal(got, expect) {
		t.Errorf("%v", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("x 37b2 bin/sluice\nd - empty\nl ../a%20b c\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Parse(raw)
		if err != nil {
			return
		}
		if again, err := Parse(m.Bytes()); err != nil || !slices.EqualFunc(m, again, Entry.Same) {
			t.Errorf("%q reads back as %v, %v", raw, again, err)
		}
	})
}
