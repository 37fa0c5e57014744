package card

import (
	"errors"
	"path"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
)

func FuzzParse(f *testing.F) {
	for _, name := range []string{"go", "node", "python", "postgresql"} {
		raw, err := builtin.ReadFile("builtin/" + name + ".toml")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(raw)
	}
	here := platform.Platform{OS: "linux", Arch: "amd64"}
	f.Fuzz(func(t *testing.T, source []byte) {
		c, err := Parse("card.toml", "weir", source)
		if err != nil {
			if !errors.Is(err, fault.ErrUsage) {
				t.Errorf("an error that says nothing to a person: %v", err)
			}
			return
		}
		if one, two := c.Digest(), c.Digest(); one != two {
			t.Error("the digest changes")
		}
		for _, from := range c.From {
			_, _ = from.Expand(from.Release, "1.2.3", here)
			for _, p := range from.Parts {
				for command, file := range p.Bin {
					if strings.Contains(command, "/") || strings.HasPrefix(path.Clean(file), "..") || path.IsAbs(file) {
						t.Errorf("the command %q is %q, outside of the part", command, file)
					}
				}
			}
		}
	})
}
