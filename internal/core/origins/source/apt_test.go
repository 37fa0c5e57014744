package source

import (
	"os"
	"path/filepath"
	"testing"

	"trammel.example/trammel/internal/core/written/declare"
)

func TestBothFormatsOfAptsSettingsAreRead(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600)
	}
	m := &Machine{Getenv: func(string) string { return "" }, Project: "/weir", Apt: dir}
	suite := func(name string) declare.Source {
		return declare.Source{Name: "x", Kind: "debian", Debian: declare.Debian{Suites: []string{name}}}
	}
	if _, ok := findDebian(m, suite("trixie")); ok {
		t.Error("there is an address without settings")
	}
	write("sources.list", "# deb http://commented.example x main\ndeb-src http://src.example trixie main\ndeb cdrom:[disc]/ trixie main\ndeb [arch=amd64 signed-by=/keys/old.gpg] http://list.example/debian bookworm main # tail\n")
	write("sources.list.d/a.sources", "Types: deb-src\nURIs: http://src.example\nSuites: trixie\n\n# a comment\nTypes: deb\nURIs: https://sec.example/debian-security\nSuites: trixie-security\n\nTypes: deb deb-src\nEnabled: no\nURIs: http://off.example\nSuites: trixie\n")
	write("sources.list.d/b.sources", "Types: deb\nURIs: https://new.example/debian/\nSuites: trixie trixie-updates\nComponents: main\nSigned-By:\n -----BEGIN PGP PUBLIC KEY BLOCK-----\n .\n AAAA\n -----END PGP PUBLIC KEY BLOCK-----\n")
	write("sources.list.d/c.list.save", "deb http://saved.example forky main\n")
	for want, url := range map[string]string{
		"bookworm": "http://list.example/debian", "trixie": "https://new.example/debian/", "trixie-updates": "https://new.example/debian/",
		"trixie-security": "https://sec.example/debian-security", "bullseye": "http://list.example/debian", // one archive has all suites
	} {
		if a, ok := findDebian(m, suite(want)); !ok || a.URL != url {
			t.Errorf("%s is at %q", want, a.URL)
		}
	}
	if _, keys := m.keyring(suite("trixie")); string(keys) != "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nAAAA\n-----END PGP PUBLIC KEY BLOCK-----\n" {
		t.Errorf("the keys of trixie are %q", keys)
	}
	if files, _ := m.keyring(suite("bookworm")); len(files) != 1 || files[0] != "/keys/old.gpg" {
		t.Errorf("the keys of bookworm are in %q", files)
	}
	own := suite("bookworm")
	own.Debian.Keyring = "keys/weir.asc"
	if files, _ := m.keyring(own); len(files) != 1 || files[0] != "/weir/keys/weir.asc" {
		t.Errorf("the declaration's keys are in %q", files)
	}
}
