package tree

import (
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"lukechampine.com/blake3"

	"app.example/trammel/internal/lacks"
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
	doc, err := os.ReadFile("../../../../docs/tree-digest.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{want, string(m.Digest())} {
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
		lacks.Program(t, "b3sum")
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

// Files are hashed in one of three ways, by their size: all agree with the plain
// definition, at every edge between them.
func TestEveryLengthHashesAlike(t *testing.T) {
	content := make([]byte, 2*wholeSize)
	for i := range content {
		content[i] = byte(i % 251)
	}
	lengths := []int{0, 1, 63, 64, 65, 1023, 1024, 1025, 2047, 2048, 2049, 3071, 5000}
	for k := wide; k <= 2*wholeSize; k *= 2 {
		lengths = append(lengths, k-1, k, min(k+1, len(content)), min(k+wide, len(content)), min(k+wide+1, len(content)), k+k/4-7)
	}
	root := t.TempDir()
	want := map[string]string{}
	for _, n := range lengths {
		n = min(n, len(content))
		name := fmt.Sprintf("f%07d", n)
		put(t, root, name, string(content[:n]), 0o644)
		sum := blake3.Sum256(content[:n])
		want[name] = hex.EncodeToString(sum[:])
	}
	m, err := Scan(root, true)
	if err != nil || len(m) != len(want) {
		t.Fatalf("%d entries for %d files, %v", len(m), len(want), err)
	}
	h := NewHasher()
	for _, e := range m {
		if e.Sum != want[e.Path] {
			t.Errorf("%s is %s, not %s", e.Path, e.Sum, want[e.Path])
		}
		// The same in pieces, as it comes out of an archive.
		h.Reset()
		n, _ := strconv.Atoi(e.Path[1:])
		for rest := content[:n]; len(rest) > 0; {
			piece := min(len(rest), 100_003)
			_, _ = h.Write(rest[:piece])
			rest = rest[piece:]
		}
		if got := h.Sum(); got != want[e.Path] {
			t.Errorf("%s in pieces is %s, not %s", e.Path, got, want[e.Path])
		}
	}
}

// A folder of more files than one chunk, deep folders, an entry that cannot be read.
func TestALargeTreeIsListedWhole(t *testing.T) {
	root := t.TempDir()
	var want []string
	for i := range 3*chunkSize + 7 {
		name := fmt.Sprintf("flat/%04d", i)
		put(t, root, name, name, 0o644)
		want = append(want, name)
	}
	deep := "a" + strings.Repeat("/a", 60) + "/end"
	put(t, root, deep, "", 0o644)
	put(t, root, "a.b", "", 0o644) // sorts before what lies in a/
	want = append(want, deep, "a.b")
	slices.Sort(want)
	for _, hashed := range []bool{false, true} {
		m, err := Scan(root, hashed)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range m {
			got = append(got, e.Path)
		}
		if !slices.Equal(got, want) {
			t.Errorf("deep %v: %d entries, not %d, in order %v", hashed, len(got), len(want), slices.IsSorted(got))
		}
	}
	if _, err := Scan(filepath.Join(root, "nowhere"), false); err == nil {
		t.Error("a folder that is not there was listed")
	}
}
