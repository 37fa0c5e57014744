package step

import (
	"maps"
	"path/filepath"
	"testing"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/stored/tree"
)

// A list that is kept says again what it was made of, whatever names files have.
func TestAListIsReadAsItWasKept(t *testing.T) {
	var list []named
	want := map[string]string{}
	for _, name := range []string{"plain", "with space", `a"b`, `back\slash`, "tab\there", "line\nbreak", "ünder", "\x1b[2J", "\xff", "~"} {
		sum := string(tree.DigestOf([]byte(name)))
		list = append(list, named{name, sum})
		want[name] = sum
	}
	raw := listBytes(list)
	file := filepath.Join(t.TempDir(), "list")
	if err := disk.Write(file, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if got := readList(nil, file, string(tree.DigestOf(raw))); !maps.Equal(got, want) {
		t.Errorf("%q, not %q", got, want)
	}
	if got := readList(nil, file, "another digest"); got != nil {
		t.Errorf("%q", got)
	}
}
