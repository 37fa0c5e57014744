package bay

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"app.example/trammel/internal/core/base/fault"
)

func FuzzParams(f *testing.F) {
	f.Add([]byte("lanes: 3\nspring-run: true\nspecies: [silverfin, \"mill trout\"]\n"))
	f.Add([]byte(`{"lanes": 3, "at": 2026-02-03, "x": {"y": 1}}`))
	f.Add([]byte("a: &a [1]\nb: *a\n<<: *a\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		path := filepath.Join(t.TempDir(), "params.yaml")
		os.WriteFile(path, source, 0o600)
		_, err := ParamsIn(path)
		if err != nil && !errors.Is(err, fault.ErrUsage) {
			t.Errorf("an error that says nothing to a person: %v", err)
		}
	})
}
