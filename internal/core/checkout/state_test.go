package checkout_test

import (
	"app.example/trammel/internal/core/base/disk"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
)

// weir is a checkout on a machine of its own.
func weir(t *testing.T, files map[string]string) checkout.Asked {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "heronweir")
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	home := t.TempDir()
	return checkout.Asked{Host: host.Host{Environ: []string{"HOME=" + home, "TRAMMEL_HOME=" + filepath.Join(home, "trammel")}, Dir: dir}, Dir: dir, Bay: "main"}
}

func open(t *testing.T, asked checkout.Asked) *checkout.State {
	t.Helper()
	s, err := checkout.Open(asked, checkout.Locate{})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

const declared = "format = 1\nproject = \"heronweir\"\n[param.lanes]\nkind = \"integer\"\ndefault = 1\n[variables]\nLANES = \"@{param.lanes}\"\n"

// A State is not changed by what is derived from it.
func TestAStateStaysAsItWasRead(t *testing.T) {
	asked := weir(t, map[string]string{"trammel.toml": declared, "trammel.local.toml": "[variables]\nOWN = \"x\"\n"})
	s := open(t, asked)
	before, err := json.Marshal([]any{s.Declaration, s.Written, s.Chosen, s.Ports, s.Overlay})
	if err != nil {
		t.Fatal(err)
	}
	other, err := s.WithParams(map[string]string{"lanes": "4"})
	if err != nil {
		t.Fatal(err)
	}
	if got := other.Declaration.Variables[0].Value; got != "4" {
		t.Errorf("LANES is %q", got)
	}
	if other.Began != s.Began || !reflect.DeepEqual(other.Rests, s.Rests) {
		t.Error("what is derived is of another reading")
	}
	if made, err := s.MakeLocal(); err != nil || made.LocalID == "" || s.LocalID != "" {
		t.Errorf("%v %q %q", err, made.LocalID, s.LocalID)
	}
	after, _ := json.Marshal([]any{s.Declaration, s.Written, s.Chosen, s.Ports, s.Overlay})
	if string(before) != string(after) || s.Written.Variables[0].Value != "@{param.lanes}" {
		t.Errorf("it changed:\n%s\n%s", before, after)
	}
}

// Every file that was looked for counts, also one that was not there, so that its coming is a change;
// and a look that is too young to show a change is none to go by.
func TestAStateRestsOnEveryFileThatWasLookedFor(t *testing.T) {
	asked := weir(t, map[string]string{"trammel.toml": declared, "sub/part.toml": "format = 1\n"})
	if err := os.WriteFile(filepath.Join(asked.Dir, "trammel.toml"), []byte(strings.Replace(declared, "[param", "include = [\"sub/part.toml\"]\n[param", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	getenv := asked.Host.LookupEnv
	clock := func(ahead time.Duration) rests.Clock {
		return func(uint64, string) (int64, int64, bool) { return int64(ahead), int64(50 * time.Millisecond), true }
	}
	s := open(t, asked)
	if !s.Rests.Holds(getenv) {
		t.Fatal("nothing changed, and it does not hold")
	}
	if s.Rests.Settled(clock(0)) || !s.Rests.Settled(clock(time.Hour)) {
		t.Error("what was written a moment ago is settled, or never settles")
	}
	if s.Rests.Settled(func(uint64, string) (int64, int64, bool) { return 0, 0, false }) {
		t.Error("it is settled by a clock that nobody knows")
	}
	for _, name := range []string{"trammel.toml", "sub/part.toml", "trammel.lock", "trammel.local.toml", ".git", "trammel-policy.toml", ".trammel"} {
		s := open(t, asked)
		path := filepath.Join(asked.Dir, name)
		old, err := os.ReadFile(path)
		if err := os.WriteFile(path, append(old, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
		if s.Rests.Holds(getenv) {
			t.Errorf("%s changed or came, and it holds", name)
		}
		if err != nil {
			os.Remove(path)
		}
	}
	if s := open(t, asked); s.Rests.Holds(func(name string) (string, bool) {
		if name == "TRAMMEL_SYSTEM" {
			return "/elsewhere", true
		}
		return getenv(name)
	}) {
		t.Error("a variable changed, and it holds")
	}
}

// The folder of Trammel's own is used only when it is one, of the same user, without links
// but its own.
func TestTheOwnFolderIsARealOne(t *testing.T) {
	for name, c := range map[string]struct {
		make  func(dir, elsewhere string) error
		use   bool // it is used as it is
		aside bool // it is put aside, since nobody's Trammel made it
	}{
		"not there":            {func(dir, _ string) error { return nil }, true, false},
		"a folder":             {func(dir, _ string) error { return os.Mkdir(filepath.Join(dir, ".trammel"), 0o755) }, true, false},
		"a link":               {func(dir, e string) error { return os.Symlink(e, filepath.Join(dir, ".trammel")) }, false, false},
		"a link to inside":     {func(dir, _ string) error { return os.Symlink("sub", filepath.Join(dir, ".trammel")) }, false, false},
		"a link to nothing":    {func(dir, _ string) error { return os.Symlink("gone", filepath.Join(dir, ".trammel")) }, false, false},
		"a file":               {func(dir, _ string) error { return os.WriteFile(filepath.Join(dir, ".trammel"), nil, 0o644) }, false, false},
		"a link in it":         {within("locks"), false, true},
		"its own link":         {within("frame"), false, true},
		"its other own link":   {within("bin"), false, true},
		"a link for its home":  {within("home"), false, true},
		"a link for its marks": {within("steps"), false, true},
		"a link on its way":    {within(".new-bin-ABCDEFGH23"), false, true},
		"a link beside it":     {within("bin.new-77"), false, true},
	} {
		t.Run(name, func(t *testing.T) {
			asked := weir(t, map[string]string{"trammel.toml": declared, "sub/x": ""})
			elsewhere := t.TempDir()
			if err := c.make(asked.Dir, elsewhere); err != nil {
				t.Fatal(err)
			}
			s := open(t, asked)
			made, err := s.MakeLocal()
			if (s.LocalErr == nil) != c.use || (err == nil) != (c.use || c.aside) || err == nil && (made.Aside != "") != c.aside {
				t.Fatalf("%v, %v", s.LocalErr, err)
			}
			if err == nil {
				if again := open(t, asked); again.LocalErr != nil || again.LocalID != made.LocalID {
					t.Errorf("what was made is not used: %v %q", again.LocalErr, again.LocalID)
				}
				// Links that Trammel has no business with are refused also in a folder that it made.
				for _, name := range []string{"locks", "home", "steps", "bin.new-77", "frame"} {
					path := filepath.Join(asked.Dir, ".trammel", name)
					_ = os.Symlink(elsewhere, path)
					if s := open(t, asked); (s.LocalErr == nil) != (name == "frame") {
						t.Errorf("a link %s: %v", name, s.LocalErr)
					}
					os.Remove(path)
				}
			}
			if left, _ := os.ReadDir(elsewhere); len(left) > 0 {
				t.Errorf("written elsewhere: %v", left)
			}
		})
	}
}

func within(name string) func(dir, elsewhere string) error {
	return func(dir, elsewhere string) error {
		if err := os.Mkdir(filepath.Join(dir, ".trammel"), 0o755); err != nil {
			return err
		}
		return os.Symlink(elsewhere, filepath.Join(dir, ".trammel", name))
	}
}

// What somebody saves while a declaration is being replaced stays, and the replacement is given up.
func TestAReplacementGivesWayToWhatSomebodySaved(t *testing.T) {
	asked := weir(t, map[string]string{"trammel.toml": declared})
	s := open(t, asked)
	file := filepath.Join(asked.Dir, "trammel.toml")
	saved := declared + "# saved\n"
	if err := os.WriteFile(file, []byte(saved), 0o644); err != nil {
		t.Fatal(err)
	}
	x := checkout.Pending{File: file, Declaration: []byte(strings.Replace(declared, "LANES", "OTHER", 1)), Lock: []byte("x"), Was: []byte(declared)}
	if err := checkout.Replace(s.Places, x); !errors.Is(err, disk.ErrChanged) {
		t.Errorf("%v", err)
	}
	if raw, _ := os.ReadFile(file); string(raw) != saved {
		t.Errorf("%s", raw)
	}
	if _, err := os.Stat(filepath.Join(asked.Dir, "trammel.lock")); err == nil {
		t.Error("a lock was written for a declaration that is not there")
	}
	if got := open(t, asked); got.Declaration.Variables[0].Name != "LANES" {
		t.Error("it is believed all the same")
	}
}

// A replacement that was cut is what every State says, and the first command that acts
// finishes it, once.
func TestAReplacementThatWasCutIsFinishedOnce(t *testing.T) {
	asked := weir(t, map[string]string{"trammel.toml": declared})
	s := open(t, asked)
	file := filepath.Join(asked.Dir, "trammel.toml")
	other := strings.Replace(declared, "LANES", "OTHER", 1)
	// It is cut where its files cannot be written.
	lockFolder := filepath.Join(asked.Dir, "trammel.lock")
	if err := os.MkdirAll(filepath.Join(lockFolder, "x"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := checkout.Replace(s.Places, checkout.Pending{File: file, Declaration: []byte(other), Lock: []byte("x"), Was: []byte(declared)}); err == nil {
		t.Fatal("it is written over a folder")
	}
	os.RemoveAll(lockFolder)
	cut := open(t, asked)
	if got := cut.Declaration.Variables[0].Name; got != "OTHER" {
		t.Errorf("a State says %s", got)
	}
	if _, err := cut.MakeLocal(); err != nil {
		t.Fatal(err)
	}
	if raw, _ := os.ReadFile(file); string(raw) != other {
		t.Errorf("%s", raw)
	}
	later := strings.Replace(declared, "LANES", "LATER", 1)
	if err := os.WriteFile(file, []byte(later), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := cut.MakeLocal(); err != nil { // a State of before
		t.Fatal(err)
	}
	if raw, _ := os.ReadFile(file); string(raw) != later {
		t.Errorf("it was finished twice: %s", raw)
	}
}
