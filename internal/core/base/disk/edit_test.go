package disk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func TestEditWritesOverNothingThatItDidNotRead(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "trammel.toml")
	if err := Edit(path, nil, []byte("one"), 0o640); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		was  string
		none bool
		ok   bool
	}{{"two", false, false}, {"", true, false}, {"", false, false}, {"one", false, true}} {
		was := []byte(c.was)
		if c.none {
			was = nil
		}
		err := Edit(path, was, []byte("changed"), 0o644)
		if (err == nil) != c.ok || !c.ok && !errors.Is(err, ErrChanged) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	if err := os.Symlink("trammel.toml", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if err := Edit(filepath.Join(dir, "link"), []byte("changed"), []byte("by the link"), 0o644); err != nil {
		t.Fatal(err)
	}
	info, err := os.Lstat(filepath.Join(dir, "link"))
	raw, _ := os.ReadFile(path)
	if err != nil || info.Mode()&os.ModeSymlink == 0 || string(raw) != "by the link" {
		t.Errorf("%v %q %v", info.Mode(), raw, err)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o640 {
		t.Errorf("its mode is %o", info.Mode().Perm())
	}
	if left, _ := os.ReadDir(dir); len(left) != 2 {
		t.Errorf("left over: %v", left)
	}
}

// Several write lines of their own at once, two by Edit and one as editors do, which save by another
// file of the name: no line of anybody is lost.
func TestEditLosesNobodysLines(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trammel.toml")
	if err := os.WriteFile(path, []byte("start\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	const each = 300
	var all sync.WaitGroup
	for who := range 3 {
		all.Go(func() {
			for i := 0; i < each; {
				was, err := os.ReadFile(path)
				if err != nil {
					t.Error(err)
					return
				}
				err = Edit(path, was, append(append([]byte{}, was...), fmt.Sprintf("%d %d\n", who, i)...), 0o644)
				if err == nil {
					i++
				} else if !errors.Is(err, ErrChanged) {
					t.Error(err)
					return
				}
			}
		})
	}
	all.Wait()
	raw, _ := os.ReadFile(path)
	for who := range 3 {
		for i := range each {
			if strings.Count(string(raw), fmt.Sprintf("\n%d %d\n", who, i)) != 1 {
				t.Fatalf("line %d of %d is there %d times", i, who, strings.Count(string(raw), fmt.Sprintf("\n%d %d\n", who, i)))
			}
		}
	}
}
