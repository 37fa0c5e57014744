package owned

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A folder counts only where nobody else can put something into it or in its place, at any depth, by
// whatever links it is reached.
func TestAFolderIsOnesOwn(t *testing.T) {
	top := t.TempDir()
	mk := func(name string, mode os.FileMode, uid, gid int) string {
		t.Helper()
		path := filepath.Join(top, name)
		if err := os.MkdirAll(path, 0o755); err != nil {
			t.Fatal(err)
		}
		if uid >= 0 && os.Getuid() != 0 {
			t.Skip("only root gives folders away")
		}
		if uid >= 0 {
			if err := os.Lchown(path, uid, gid); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	link := func(name, to string) string {
		path := filepath.Join(top, name)
		if err := os.Symlink(to, path); err != nil {
			t.Fatal(err)
		}
		return path
	}
	good := mk("good/below", 0o700, -1, -1)
	sticky := mk("sticky", os.ModeSticky|0o777, -1, -1)
	mk("sticky/mine", 0o755, -1, -1)
	mk("open", 0o777, -1, -1)
	mk("open/mine/deep", 0o700, -1, -1)
	all := map[string]string{ // path → what is said, "" where it is one's own
		good: "", top + "/good/below/not/there": "", sticky + "/mine": "", sticky + "/mine/later": "", "/": "",
		top + "/open": "can be written by everybody", top + "/open/mine/deep": "can be written by everybody", sticky: "can be written by everybody",
		link("away", "good/below"): "", link("round", "round2"): "", link("round2", "round"): "", link("up", "../"+filepath.Base(top)+"/open/mine"): "can be written by everybody", link("far", top+"/open/mine/deep"): "can be written by everybody",
		top + "/good/../open/mine": "can be written by everybody",
	}
	if os.Getuid() == 0 {
		mk("theirs", 0o755, 12345, 12345)
		mk("theirs/mine", 0o700, 0, 0)
		mk("sticky/theirs", 0o700, 12345, 12345)
		mk("group", 0o775, 0, 12345)
		mk("group/mine", 0o700, 0, 0)
		mk("own-group", 0o775, 0, 0)
		for path, why := range map[string]string{
			"theirs": "belongs to user 12345", "theirs/mine": "belongs to user 12345", "sticky/theirs": "belongs to user 12345", "sticky/theirs/x": "belongs to user 12345",
			"group": "can be written by group 12345", "group/mine": "can be written by group 12345", "own-group": "",
		} {
			all[filepath.Join(top, path)] = why
		}
		their := link("their-link", "good")
		if err := os.Lchown(their, 12345, 12345); err != nil {
			t.Fatal(err)
		}
		all[their] = "belongs to user 12345"
	}
	for path, why := range all {
		trouble, ok := Check(good, path)
		if ok != (why == "") || !ok && (trouble.Why != why || !strings.HasPrefix(trouble.Path, top)) {
			t.Errorf("%s: %v %+v, not %q", path, ok, trouble, why)
		}
	}
}
