//go:build linux

package launch

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// tree makes links and files below a folder: name → target, "" for a file.
func tree(t *testing.T, links map[string]string) string {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for name, target := range links {
		at := filepath.Join(dir, name)
		err := os.MkdirAll(filepath.Dir(at), 0o755)
		if target == "" {
			err = errors.Join(err, os.WriteFile(at, nil, 0o755))
		} else if filepath.IsAbs(target) {
			err = errors.Join(err, os.Symlink(dir+target, at))
		} else {
			err = errors.Join(err, os.Symlink(target, at))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// By whatever chain of links a command of a frame is started, it is known; a virtual environment's interpreter keeps
// its own path, by which it finds its libraries, and any other gets the path of the checkout, which stays.
func TestACommandIsFoundBehindLinks(t *testing.T) {
	dir := tree(t, map[string]string{
		"programs/1/trammel": "", "programs/1/python3": "",
		"frames/a/bin/python3": "/programs/1/python3", "frames/a/bin/jq": "../launch", "frames/a/launch": "/programs/1/trammel",
		"frames/a/inside/python3": "../roots/weir/usr/bin/python3", "frames/a/inside/jq": "../roots/weir/usr/bin/jq",
		"p/.trammel/frame/bin/python3": "/frames/a/bin/python3", "p/.trammel/frame/path": "",
		"before/.trammel/frame": "/frames/a", "before/v/bin/python3": "/programs/1/python3", // of an earlier release
		"p/v/bin/python3": "/p/.trammel/frame/bin/python3", "p/v/bin/python": "python3",
		"p/w/bin/python3": "/programs/1/python3", "p/w/bin/python": "python3",
		"p/own/trammel": "/programs/1/trammel", "p/plain": "", "p/round": "round",
		"q/bin/python3": "/programs/1/python3",
	})
	if err := os.WriteFile(filepath.Join(dir, "p/.trammel/frame/path"), []byte(filepath.Join(dir, "frames/a")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ file, recorded string }{
		"before/v/bin/python3":         {"weir/usr/bin/python3", "before/v/bin/python3"},
		"frames/a/bin/python3":         {"weir/usr/bin/python3", "p/.trammel/frame/bin/python3"},
		"p/.trammel/frame/bin/python3": {"weir/usr/bin/python3", "p/.trammel/frame/bin/python3"},
		"p/v/bin/python3":              {"weir/usr/bin/python3", "p/v/bin/python3"},
		"p/v/bin/python":               {"weir/usr/bin/python3", "p/v/bin/python"},
		"p/w/bin/python":               {"weir/usr/bin/python3", "p/w/bin/python"}, // made from within p/v
		"frames/a/bin/jq":              {"weir/usr/bin/jq", ""},
		"p/own/trammel":                {},
		"p/plain":                      {},
		"p/round":                      {},
		"q/bin/python3":                {}, // no checkout is above it
		"p/nothing":                    {},
	} {
		started := filepath.Join(dir, name)
		as, folder, file, ok := behind(started)
		if ok != (c.file != "") || file != c.file {
			t.Errorf("%s: %q, %v", name, file, ok)
			continue
		}
		if c.recorded == "" {
			continue
		}
		t.Setenv("TRAMMEL_DIR", filepath.Join(dir, "p"))
		if got := recorded(started, as, filepath.Dir(folder)); got != filepath.Join(dir, c.recorded) {
			t.Errorf("%s knows itself as %s", name, got)
		}
	}
	// Of another checkout's frame the path is not this one's.
	t.Setenv("TRAMMEL_DIR", filepath.Join(dir, "q"))
	at := filepath.Join(dir, "frames/a/bin/python3")
	if got := recorded(at, at, filepath.Join(dir, "frames/a")); got != at {
		t.Errorf("outside of the checkout: %s", got)
	}
}

func TestTheInterpreterOfAScriptIsKnown(t *testing.T) {
	dir, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		args    []string
		started string
		want    bool
	}{
		"by its path":      {[]string{"/v/bin/python3", "/p/s.py", "a"}, "/p/s.py", true},
		"with an argument": {[]string{"/v/bin/python3", "-s", "/p/s.py"}, "/p/s.py", true},
		"from its folder":  {[]string{"/v/bin/python3", "./s.py"}, filepath.Join(dir, "s.py"), true},
		"another file":     {[]string{"/v/bin/python3", "/p/other.py"}, "/p/s.py", false},
		"later arguments":  {[]string{"/v/bin/python3", "-s", "-x", "/p/s.py"}, "/p/s.py", false},
		"no path":          {[]string{"python3", "/p/s.py"}, "/p/s.py", false},
		"nothing":          {[]string{"/v/bin/python3"}, "/p/s.py", false},
	} {
		if got := interprets(c.args, c.started); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
