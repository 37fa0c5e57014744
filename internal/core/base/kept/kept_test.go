package kept

import (
	"bytes"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"
)

func whole(t testing.TB, dir string) Plan {
	t.Helper()
	file := filepath.Join(dir, "trammel.toml")
	if err := os.WriteFile(file, []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	return Plan{
		Places: []string{"/d", "/c", "/s", "/f"}, Declaration: file, Approved: "sha256:ab", Open: true, There: []string{dir},
		Files: []File{Target(file), Target(filepath.Join(dir, "gone"))}, KeepNames: []string{"HOME", ""}, KeepPrefixes: []string{"LC_"},
		Set: []string{"A=1 \n=2", "B="}, Path: []string{"/frame/bin", "/h"},
		Order: "3:x--,", Given: []string{}, Unknown: []string{"SSL_CERT_FILE"}, Hidden: []string{"/etc/"},
	}
}

func TestAPlanComesBackAsItWasKept(t *testing.T) {
	p := whole(t, t.TempDir())
	got, err := Read(p.Bytes())
	if err != nil || !reflect.DeepEqual(got, p) {
		t.Errorf("%+v came back as %+v: %v", p, got, err)
	}
	p.Set = []string{"A=\x00"}
	if p.Bytes() != nil {
		t.Error("a plan that has no such form was given one")
	}
}

func TestAPlanHoldsWhileWhatItWasMadeOfStays(t *testing.T) {
	dir := t.TempDir()
	p := whole(t, dir)
	env := map[string]string{}
	getenv := func(name string) (string, bool) { v, ok := env[name]; return v, ok }
	for _, c := range []struct {
		what   string
		change func()
		holds  bool
	}{
		{"as it is", func() {}, true},
		{"another consent", func() { env["TRAMMEL_APPROVE"] = "cd" }, false},
		{"the same, short", func() { env["TRAMMEL_APPROVE"] = "ab" }, true},
		{"consent of the environment", func() { p.Named = true }, true},
		{"which is gone", func() { delete(env, "TRAMMEL_APPROVE") }, false},
		{"kept consent", func() { p.Named = false }, true},
		{"what others must look at", func() { env["SSL_CERT_FILE"] = "/x" }, false},
		{"what does not show", func() { env["SSL_CERT_FILE"] = "/etc/x" }, true},
		{"nothing of it", func() { env["SSL_CERT_FILE"] = "" }, true},
		{"a file that came", func() { os.WriteFile(filepath.Join(dir, "gone"), nil, 0o600) }, false},
		{"and went", func() { os.Remove(filepath.Join(dir, "gone")) }, true},
		{"a folder that went", func() { p.There = append(p.There, filepath.Join(dir, "frame")) }, false},
		{"one that is there", func() { p.There = p.There[:1] }, true},
		{"other content", func() { os.WriteFile(p.Declaration, []byte("yy"), 0o600) }, false},
	} {
		c.change()
		if p.Valid(getenv) != c.holds {
			t.Errorf("%s: it holds is %v", c.what, !c.holds)
		}
	}
}

func TestTheEnvironmentOfAPlan(t *testing.T) {
	p := whole(t, t.TempDir())
	host := []string{"PATH=/host", "HOME=/h", "B=host", "OTHER=o", "LC_ALL=C", "TRAMMEL_SHELL_X=1", "=odd", "PWD=/before"}
	if got := p.Environ(host, "/w"); !slices.Equal(got, []string{"HOME=/h", "LC_ALL=C", "OTHER=o", "A=1 \n=2", "B=", "PWD=/w", "PATH=/frame/bin:/h:/host"}) {
		t.Errorf("open: %q", got)
	}
	p.Open = false
	if got := p.Environ(host, "/w"); !slices.Equal(got, []string{"HOME=/h", "LC_ALL=C", "A=1 \n=2", "B=", "PWD=/w", "PATH=/frame/bin:/h"}) {
		t.Errorf("clean: %q", got)
	}
}

func FuzzKeptPlans(f *testing.F) {
	raw := whole(f, f.TempDir()).Bytes()
	f.Add(raw)
	f.Add(raw[:len(raw)/2])
	f.Add(bytes.ReplaceAll(raw, []byte("2"), []byte("-9")))
	f.Fuzz(func(t *testing.T, raw []byte) {
		p, err := Read(raw)
		if err != nil {
			return
		}
		if again, err := Read(p.Bytes()); err != nil || !reflect.DeepEqual(again, p) {
			t.Errorf("%+v and again %+v: %v", p, again, err)
		}
	})
}
