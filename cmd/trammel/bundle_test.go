package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/platform"
)

func TestABundleFitsAMachineWithoutNetwork(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := registry(t)
	h := newHut(t, s, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[toolchain]\nnode = \"22\"\n")
	h.ok("lock")
	bundle := filepath.Join(t.TempDir(), "heronweir.bundle")
	h.fails(4, []string{"nobody has approved"}, "export", "bundle", "--output", bundle)
	h.ok("approve", "--yes")
	out := h.ok("export", "bundle", "--output", bundle)
	if !strings.Contains(out, platform.Here().String()) {
		t.Error(out)
	}
	first, err := os.ReadFile(bundle)
	if err != nil {
		t.Fatal(err)
	}
	h.ok("export", "bundle", "--offline", "--output", bundle) // from the cache, the same bytes
	if again, _ := os.ReadFile(bundle); !bytes.Equal(first, again) {
		t.Error("the same bundle has other bytes")
	}
	s.Close() // no network any more
	away := func() *hut {
		o := newHut(t, nil, h.read("trammel.toml")) // with no settings of any registry
		o.write("trammel.lock", h.read("trammel.lock"))
		return o
	}
	o := away()
	o.ok("fit", "--bundle", bundle)
	if got := o.ok("run", "--", "node", "--version"); !strings.HasPrefix(got, "v22.") {
		t.Error(got)
	}
	if got := o.ok("verify", "--deep"); !strings.Contains(got, "hold") {
		t.Error(got)
	}
	for name, change := range map[string]struct {
		bytes []byte
		words []string
	}{
		"one bit":    {flipped(first), []string{"heronweir.bundle", "not those that the lock names"}},
		"cut":        {first[:len(first)*2/3], []string{"cut short or damaged"}},
		"no bundle":  {[]byte("nonsense"), []string{"it is no bundle"}},
		"empty":      {nil, []string{"it is no bundle"}},
		"other file": {bytes.Replace(first, []byte(`"project": "heronweir"`), []byte(`"project": "heronweiX"`), 1), []string{"heronweiX"}},
	} {
		if err := os.WriteFile(bundle, change.bytes, 0o644); err != nil {
			t.Fatal(err)
		}
		x := away()
		r := x.try("fit", "--bundle", bundle)
		if r.code != 5 && r.code != 2 {
			t.Errorf("%s: %+v", name, r)
		}
		for _, w := range change.words {
			if !strings.Contains(r.err, w) {
				t.Errorf("%s does not say %q: %s", name, w, r.err)
			}
		}
		if parts, _ := filepath.Glob(filepath.Join(x.home, "data/store/*node*")); len(parts) > 0 {
			t.Errorf("%s left %v", name, parts)
		}
	}
	h.fails(2, []string{"goes into a file"}, "export", "bundle")
	h.fails(2, []string{"not locked for", platform.Here().String()}, "export", "bundle", "--output", bundle, "--platform", "darwin/arm64")
}

func TestABundleBringsWhatWasBuilt(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s, golang := builder(t)
	h := newHut(t, s, toolOf(golang, "heronweir.example/tools/cmd/weirstamp"))
	h.sharesCompiled()
	h.ok("lock")
	h.ok("approve", "--yes")
	bundle := filepath.Join(t.TempDir(), "heronweir.bundle")
	if o := h.try("export", "bundle", "--output", bundle); o.code != 0 || !strings.Contains(o.err, "weirstamp on ") {
		t.Errorf("nothing is built yet: %+v", o)
	}
	h.ok("fit")
	if o := h.try("export", "bundle", "--output", bundle); o.code != 0 || strings.Contains(o.err, "Not in it") {
		t.Errorf("%+v", o)
	}
	other := newHut(t, nil, h.read("trammel.toml"))
	other.write("trammel.lock", h.read("trammel.lock"))
	s.Close()
	other.ok("fit", "--bundle", bundle)
	if o := other.try("run", "--", "weirstamp"); o.err != "stamp v0.2.0 silverfin\n" {
		t.Errorf("the tool says %q", o.err)
	}
	other.ok("verify", "--deep")
}

// flipped changes one bit of the first archive in a bundle.
func flipped(b []byte) []byte {
	out := append([]byte{}, b...)
	at := bytes.Index(out, []byte{0x1f, 0x8b, 8})
	out[at+20] ^= 1
	return out
}
