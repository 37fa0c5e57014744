package locator_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/standin"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]locator.Locator{
		"../weir":                             {Kind: locator.Folder, At: "/work/weir"},
		"/weir":                               {Kind: locator.Folder, At: "/weir"},
		"weir.tar.gz":                         {Kind: locator.Archive, At: "/work/lane/weir.tar.gz"},
		"https://files.example/weir.zip#:ops": {Kind: locator.Archive, At: "https://files.example/weir.zip", Sub: "ops"},
		"git+https://git.example/weir.git":    {Kind: locator.Git, At: "https://git.example/weir.git"},
		"git+ssh://git@git.example/weir.git#v1:a/./b":  {Kind: locator.Git, At: "ssh://git@git.example/weir.git", Rev: "v1", Sub: "a/b"},
		"git+file:///srv/weir#main":                    {Kind: locator.Git, At: "/srv/weir", Rev: "main"},
		"git+https://git.example/weir.git#feature/a:b": {Kind: locator.Git, At: "https://git.example/weir.git", Rev: "feature/a", Sub: "b"},
	} {
		got, err := locator.Parse(text, "/work/lane")
		want.Text = text
		if err != nil || got != want {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for text, word := range map[string]string{
		"git+https://git.example/w.git#main:../up": "leads out", "git+https://git.example/w.git#:/etc": "leads out",
		"https://git.example/weir": "not an address that a locator", "git+ftp://git.example/w": "not an address that",
		"git+https://ann:pw@git.example/w.git": "password", "../weir#v1": "only a repository", "git+https://": "not an address",
	} {
		if _, err := locator.Parse(text, "/work"); !errors.Is(err, fault.ErrUsage) || !strings.Contains(err.Error(), word) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func keeper(t *testing.T, offline bool) locator.Keeper {
	return locator.Keeper{Dir: filepath.Join(t.TempDir(), "locators"), Client: fetch.New(fetch.Options{Indexes: t.TempDir(), Offline: offline})}
}

func parse(t *testing.T, text string) locator.Locator {
	t.Helper()
	l, err := locator.Parse(text, "/")
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestAPinStaysWhereItIsWhenTheBranchMovesOn(t *testing.T) {
	g := standin.NewGit()
	defer g.Close()
	one := g.Commit("v1", standin.File{Name: "ops/base.toml", Content: "one"}, standin.File{Name: "run.sh", Mode: 0o755}, standin.File{Name: "link", Link: "ops/base.toml"})
	k := keeper(t, false)
	read := func(k locator.Keeper, text, pin string) (string, string) {
		t.Helper()
		dir, is, err := k.Get(t.Context(), parse(t, text), pin)
		if err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(filepath.Join(dir, "base.toml"))
		if err != nil {
			t.Fatal(err)
		}
		return string(b), is
	}
	if got, pin := read(k, g.URL+"#:ops", ""); got != "one" || pin != one {
		t.Errorf("%q at %s", got, pin)
	}
	two := g.Commit("", standin.File{Name: "ops/base.toml", Content: "two"})
	asked := g.Asked()
	if got, pin := read(k, g.URL+"#main:ops", one); got != "one" || pin != one || g.Asked() != asked {
		t.Errorf("%q at %s, %d requests", got, pin, g.Asked()-asked)
	}
	fresh := keeper(t, false) // another machine, by pin, tag, branch and a short id
	for rev, want := range map[string]string{"main": two, "v1": one, one: one, two[:10]: two} {
		if _, pin := read(fresh, g.URL+"#"+rev+":ops", ""); pin != want {
			t.Errorf("%s is %s, not %s", rev, pin, want)
		}
	}
	if got, _ := read(keeper(t, false), g.URL+"#main:ops", one); got != "one" {
		t.Errorf("%q", got)
	}
	dir, _, err := fresh.Get(t.Context(), parse(t, g.URL+"#v1"), "")
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(dir, "run.sh")); err != nil || info.Mode().Perm()&0o100 == 0 {
		t.Error("what is executable stays so")
	}
	if to, _ := os.Readlink(filepath.Join(dir, "link")); to != "ops/base.toml" {
		t.Errorf("the link leads to %q", to)
	}
}

func TestWhatCannotBeHadIsAnErrorAndLeavesNothing(t *testing.T) {
	g := standin.NewGit()
	defer g.Close()
	g.Commit("", standin.File{Name: "a", Content: "a"})
	g.Commit("away", standin.File{Name: "out", Link: "../../etc/passwd"})
	for text, word := range map[string]string{
		g.URL + "#nowhere": "no branch, tag or commit", g.URL + "#away": "leads out",
		g.URL + "#main~1:sub": "no sub in it", strings.Replace(g.URL, "heronweir.git", "gone.git", 1): "not found",
		"git+file:///nowhere/at/all": "does not exist",
	} {
		k := keeper(t, false)
		if dir, _, err := k.Get(t.Context(), parse(t, text), ""); err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%s: %s, %v", text, dir, err)
		}
		if left, _ := filepath.Glob(filepath.Join(k.Dir, ".new*")); len(left) > 0 {
			t.Errorf("%s leaves %v", text, left)
		}
	}
	if _, _, err := keeper(t, true).Get(t.Context(), parse(t, g.URL), ""); !errors.Is(err, fault.ErrSource) || !strings.Contains(err.Error(), "with the network") {
		t.Error(err)
	}
}

func TestArchivesAreHeldToTheirBytes(t *testing.T) {
	s := standin.New()
	defer s.Close()
	s.PutFile("weir.tar.gz", standin.TarGz(standin.File{Name: "weir-1/trammel.toml", Content: "one"}, standin.File{Name: "weir-1/ops/x", Content: "x"}))
	k := keeper(t, false)
	l := parse(t, s.Files()+"weir.tar.gz")
	dir, pin, err := k.Get(t.Context(), l, "")
	if err != nil || !strings.HasPrefix(pin, "sha256:") {
		t.Fatal(pin, err)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "trammel.toml")); string(b) != "one" {
		t.Error(string(b), err)
	}
	s.PutFile("weir.tar.gz", standin.TarGz(standin.File{Name: "weir-1/trammel.toml", Content: "other"}))
	if _, is, err := k.Get(t.Context(), l, pin); err != nil || is != pin {
		t.Error("what is here is not asked for again", err)
	}
	if _, _, err := keeper(t, false).Get(t.Context(), l, pin); !errors.Is(err, fault.ErrSource) || !strings.Contains(err.Error(), "other content than the lock says") {
		t.Error(err)
	}
	s.Fail("weir.tar.gz", standin.Truncate)
	if _, _, err := keeper(t, false).Get(t.Context(), l, ""); err == nil {
		t.Error("half an archive is no archive")
	}
}

func TestNamesAreTwoWordsAndStay(t *testing.T) {
	seen := map[string]bool{}
	for try := range 20 {
		name := locator.Name("git+https://git.example/weir.git", try)
		if name != locator.Name("git+https://git.example/weir.git", try) || strings.Count(name, "-") != 1 {
			t.Error(name)
		}
		seen[name] = true
	}
	if len(seen) < 15 {
		t.Errorf("only %d names in 20 tries", len(seen))
	}
}
