package account

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
)

// person is a made-up account: a home folder with what is in it, and the places that Trammel has there.
type person struct {
	t      *testing.T
	home   string
	places place.Places
	host   host.Host
}

func newPerson(t *testing.T, files map[string]string) person {
	t.Helper()
	home := t.TempDir()
	p := person{t: t, home: home, host: host.Host{Environ: []string{"HOME=" + home}, Dir: home}}
	for name, text := range files {
		p.write(name, text)
	}
	var err error
	if p.places, err = place.Find(p.host.Getenv); err != nil {
		t.Fatal(err)
	}
	return p
}

func (p person) at(name string) string { return filepath.Join(p.home, name) }

func (p person) write(name, text string) {
	p.t.Helper()
	if err := os.MkdirAll(filepath.Dir(p.at(name)), 0o755); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(p.at(name), []byte(text), 0o644); err != nil {
		p.t.Fatal(err)
	}
}

func (p person) read(name string) string {
	raw, err := os.ReadFile(p.at(name))
	if errors.Is(err, fs.ErrNotExist) {
		return "(none)"
	}
	return string(raw)
}

// all lists every file of the account, below its home.
func (p person) all() (out []string) {
	_ = filepath.WalkDir(p.home, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			name, _ := filepath.Rel(p.home, path)
			out = append(out, name)
		}
		return nil
	})
	slices.Sort(out)
	return out
}

func TestLinesOfStartUpFilesAreFoundAsTheDocumentationHasThem(t *testing.T) {
	for name, c := range map[string]struct {
		line  string
		found bool
	}{
		"bash":                  {`eval "$(trammel follow bash)"`, true},
		"zsh":                   {`eval "$(trammel follow zsh)"`, true},
		"fish":                  {`trammel follow fish | source`, true},
		"by its path":           {`eval "$(/home/ann/.local/bin/trammel follow bash)"`, true},
		"indented":              {`  eval "$(trammel follow bash)"`, true},
		"in a comment":          {`# eval "$(trammel follow bash)"`, false},
		"with more":             {`eval "$(trammel follow bash)" && date`, false},
		"of another shell":      {`eval "$(trammel follow ksh)"`, false},
		"of another program":    {`eval "$(weir follow bash)"`, false},
		"only the words":        {`echo trammel follow bash`, false},
		"an alias of a person":  {`alias t=trammel`, false},
		"another's environment": {`export TRAMMEL_HOME=/srv/trammel`, false},
	} {
		for _, file := range []string{".bashrc", ".bash_profile", ".profile", ".zshrc", ".config/fish/config.fish"} {
			p := newPerson(t, map[string]string{file: "first\n" + c.line + "\nlast\n"})
			got := startup(p.host)
			if (len(got) == 1) != c.found {
				t.Errorf("%s in %s: %+v", name, file, got)
				continue
			}
			if !c.found {
				continue
			}
			if got[0].Line != 2 || got[0].Path != p.at(file) || got[0].What != strings.TrimSpace(c.line) {
				t.Errorf("%s in %s: %+v", name, file, got[0])
			}
			if err := dropLine(got[0]); err != nil {
				t.Fatal(err)
			}
			if left := p.read(file); left != "first\nlast\n" {
				t.Errorf("%s in %s: %q is left", name, file, left)
			}
		}
	}
}

func TestALineThatMovedOrWentIsNoFault(t *testing.T) {
	line := `eval "$(trammel follow bash)"`
	for name, c := range map[string]struct{ now, want string }{
		"it moved":          {"a\nb\n" + line + "\n", "a\nb\n"},
		"it went":           {"a\n", "a\n"},
		"it is there twice": {line + "\n" + line + "\n", line + "\n"},
		"without an end":    {"a\n" + line, "a"},
	} {
		p := newPerson(t, map[string]string{".bashrc": c.now})
		if err := dropLine(Thing{Path: p.at(".bashrc"), What: line, Line: 1}); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if got := p.read(".bashrc"); got != c.want {
			t.Errorf("%s: %q", name, got)
		}
	}
	// A start-up file that is a link stays one, and keeps its mode.
	p := newPerson(t, map[string]string{"dotfiles/bashrc": line + "\nb\n"})
	if err := errors.Join(os.Chmod(p.at("dotfiles/bashrc"), 0o600), os.Symlink("dotfiles/bashrc", p.at(".bashrc"))); err != nil {
		t.Fatal(err)
	}
	if err := dropLine(Thing{Path: p.at(".bashrc"), What: line}); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(p.at("dotfiles/bashrc"))
	if to, linkErr := os.Readlink(p.at(".bashrc")); err != nil || linkErr != nil || to != "dotfiles/bashrc" || info.Mode().Perm() != 0o600 || p.read("dotfiles/bashrc") != "b\n" {
		t.Errorf("%v %v %q %q", err, linkErr, to, p.read("dotfiles/bashrc"))
	}
}

func TestWhatTrammelKeepsGoesAndWhatAPersonPutThereStays(t *testing.T) {
	for name, c := range map[string]struct {
		folder string
		stays  bool
	}{
		"store":            {"x/store/a", false},
		"frames":           {"x/frames/a", false},
		"records":          {"x/records/a", false},
		"sources":          {"x/sources.toml", false},
		"half made":        {"x/.new-12", false},
		"a person's own":   {"x/notes.txt", true},
		"another's folder": {"x/other/store", true},
		"Trammel's own":    {"trammel/anything/at/all", false},
	} {
		p := newPerson(t, map[string]string{c.folder: "x"})
		dir := p.at(strings.Split(c.folder, "/")[0])
		if err := removeOwn(dir, filepath.Join(dir, "installed.json")); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := os.Stat(p.at(c.folder)); (err == nil) != c.stays {
			t.Errorf("%s: stays %v", name, err == nil)
		}
		if _, err := os.Stat(dir); (err == nil) != c.stays {
			t.Errorf("%s: its folder stays %v", name, err == nil)
		}
	}
	// The record by which a removal that was killed is carried on goes last, and not here.
	p := newPerson(t, map[string]string{"trammel/installed.json": "{}", "trammel/bays/a": "x"})
	if err := removeOwn(p.at("trammel"), p.at("trammel/installed.json")); err != nil {
		t.Fatal(err)
	}
	if got := p.all(); !slices.Equal(got, []string{"trammel/installed.json"}) {
		t.Errorf("%v", got)
	}
}

func TestPrefixesOfAccounts(t *testing.T) {
	for name, c := range map[string]struct {
		home string
		root bool
		want string
	}{
		"a person":        {"/home/ann", false, "/home/ann/.local"},
		"root":            {"/root", true, "/usr/local"},
		"no home":         {"", false, ""},
		"a relative home": {"home", false, ""},
	} {
		got, err := Prefix(host.Host{Environ: []string{"HOME=" + c.home}}, c.root)
		if got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
}

func TestWhatWasInstalledIsRecordedAndRemoved(t *testing.T) {
	p := newPerson(t, map[string]string{"down/trammel": "program", ".local/share/man/man1/other.1": "x", ".bashrc": "eval \"$(trammel follow bash)\"\nkeep\n"})
	before := p.all()
	installed, err := Install(p.places, p.at("down/trammel"), p.at(".local"), Texts{Bash: []byte("b"), Zsh: []byte("z"), Fish: []byte("f"), Manual: []byte("m")})
	if err != nil {
		t.Fatal(err)
	}
	if installed.Program() != p.at(".local/bin/trammel") || p.read(".local/bin/trammel") != "program" || p.read(".local/share/man/man1/trammel.1") != "m" {
		t.Errorf("%+v", installed)
	}
	if again, err := Install(p.places, p.at("down/trammel"), p.at(".local"), Texts{}); err != nil || !slices.Equal(again.Files, installed.Files) || !slices.Equal(again.Folders, installed.Folders) {
		t.Errorf("again: %+v, %v", again, err)
	}
	if recorded, err := Recorded(p.places); err != nil || !slices.Equal(recorded.Files, installed.Files) {
		t.Errorf("%+v, %v", recorded, err)
	}
	p.write(".local/share/trammel/store/part/file", "x")
	p.write(".cache/trammel/archives/a", "x")
	p.write(".config/trammel/sources.toml", "x")
	things, err := Everything(context.Background(), p.places, p.host, p.at("none"))
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, x := range things {
		kinds = append(kinds, string(x.Kind))
	}
	for _, want := range []Kind{Startup, Kept, Settings, Program} {
		if !slices.Contains(kinds, string(want)) {
			t.Errorf("%s is not listed: %v", want, kinds)
		}
	}
	if last := things[len(things)-1]; last.Kind != Program || last.Path != installed.Program() {
		t.Errorf("the program is not the last to go: %+v", last)
	}
	told := 0
	if err := Remove(context.Background(), p.places, p.host, things, func(Thing) { told++ }); err != nil {
		t.Fatal(err)
	}
	if told != len(things) {
		t.Errorf("%d of %d were told", told, len(things))
	}
	if after := p.all(); !slices.Equal(after, before) {
		t.Errorf("left: %v\nbefore: %v", after, before)
	}
	if p.read(".bashrc") != "keep\n" {
		t.Errorf("%q", p.read(".bashrc"))
	}
	for _, folder := range []string{".local/bin", ".local/share/bash-completion", ".config/trammel", ".cache/trammel"} {
		if _, err := os.Stat(p.at(folder)); err == nil {
			t.Errorf("the folder %s stays", folder)
		}
	}
}

func TestARecordThatCannotBeReadIsSaid(t *testing.T) {
	for name, text := range map[string]string{"cut": `{"files": ["/a`, "another form": `[1]`} {
		p := newPerson(t, map[string]string{".local/state/trammel/installed.json": text})
		if _, err := Recorded(p.places); err == nil {
			t.Errorf("%s: it is believed", name)
		}
		if _, err := Everything(context.Background(), p.places, p.host, p.at("none")); err == nil || !strings.Contains(err.Error(), "cannot be read") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := Install(p.places, p.at("x"), p.at(".local"), Texts{}); err == nil {
			t.Errorf("%s: installed over it", name)
		}
	}
}

func TestARemovalThatIsInterruptedLeavesTheRest(t *testing.T) {
	p := newPerson(t, map[string]string{".cache/trammel/archives/a": "x"})
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(errors.New("interrupted"))
	err := Remove(ctx, p.places, p.host, []Thing{{Kind: Kept, Path: p.at(".cache/trammel")}}, func(Thing) { t.Error("something went") })
	if err == nil || p.read(".cache/trammel/archives/a") != "x" {
		t.Errorf("%v", err)
	}
}

func TestOnlyFoldersOfAHomeGo(t *testing.T) {
	for name, c := range map[string]struct {
		dir, home string
		want      bool
	}{
		"below":               {"/home/ann/.cache", "/home/ann", true},
		"the home":            {"/home/ann", "/home/ann", false},
		"beside":              {"/home/anna", "/home/ann", false},
		"above":               {"/home", "/home/ann", false},
		"no home":             {"/home/ann/.cache", "", false},
		"a home with a slash": {"/home/ann/.cache", "/home/ann/", true},
	} {
		if got := below(c.dir, c.home); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
