package proof

import (
	"os"
	"path/filepath"
	"testing"

	"app.example/trammel/internal/core/written/lock"
)

func TestTheStartUpFileThatShadowsIsNamed(t *testing.T) {
	home := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		path := filepath.Join(home, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put(".bashrc", "# PATH=/opt/weir/bin\nalias ll='ls -l'\nexport PATH=/opt/weir/bin-old:$PATH\nexport PATH=\"$HOME/tools/bin:$PATH\"\nWEIR_UNITS=fish\nexport WEIR_UNITS=more\n")
	put(".zshrc", "path=(/srv/node/bin $path)\n")
	put(".config/fish/config.fish", "set -gx LANE 3\nset -gx PATH /fish/bin $PATH\n")
	for _, x := range []struct{ folder, variable, want string }{
		{home + "/tools/bin", "", "~/.bashrc:4"}, {"/opt/weir/bin", "", ""}, {"/opt/weir/bin-old", "", "~/.bashrc:3"},
		{"", "WEIR_UNITS", "~/.bashrc:6"}, {"/srv/node/bin", "", "~/.zshrc:1"}, {"", "LANE", "~/.config/fish/config.fish:1"},
		{"/fish/bin", "", "~/.config/fish/config.fish:2"}, {"", "NOT_THERE_AT_ALL", ""}, {"/nowhere/at/all", "", ""},
	} {
		if got := startLine(home, x.folder, x.variable); got != x.want {
			t.Errorf("%+v: %q", x, got)
		}
	}
}

func TestAnswersOfPatchedVersions(t *testing.T) {
	item := lock.Item{Answer: "R --version", Match: `R version (\d+(?:\.\d+)+)(?: Patched \((\d+)-(\d+)-(\d+))?`}
	for said, want := range map[string]string{
		"R version 4.5.0 (2025-04-11) -- \"How\"":                     "4.5.0",
		"R version 4.2.2 Patched (2022-11-10 r83330) -- \"Innocent\"": "4.2.2.20221110",
	} {
		if got, err := stated(item, []byte(said)); got != want || err != nil {
			t.Errorf("%s states %s, %v", said, got, err)
		}
	}
	if _, err := stated(item, []byte("no R here\n")); err == nil {
		t.Error("an answer without a version is taken")
	}
}
