package source

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"app.example/trammel/internal/core/written/declare"
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
	if _, keys := m.keyring(suite("trixie"), "trixie"); string(keys) != "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nAAAA\n-----END PGP PUBLIC KEY BLOCK-----\n" {
		t.Errorf("the keys of trixie are %q", keys)
	}
	if files, _ := m.keyring(suite("bookworm"), "bookworm"); len(files) != 1 || files[0] != "/keys/old.gpg" {
		t.Errorf("the keys of bookworm are in %q", files)
	}
	own := suite("bookworm")
	own.Debian.Keyring = "keys/weir.asc"
	if files, _ := m.keyring(own, "bookworm"); len(files) != 1 || files[0] != "/weir/keys/weir.asc" {
		t.Errorf("the declaration's keys are in %q", files)
	}
	// Suites of one source may be at several addresses, each with its own keys.
	both := declare.Source{Name: "weir", Debian: declare.Debian{Suites: []string{"trixie", "trixie-security", "bullseye"}, Also: []declare.Elsewhere{{Suite: "bookworm"}, {Suite: "gone"}, {Suite: "own", URL: "https://own.example"}}}}
	a, _ := findDebian(m, both)
	a.Origin = "machine"
	var got []string
	for _, p := range placesOf(both, a, m, time.Time{}) {
		got = append(got, p.suite+" "+p.base)
		if (p.err != nil) != (p.suite == "gone") {
			t.Errorf("%s: %v", p.suite, p.err)
		}
	}
	if want := []string{"trixie https://new.example/debian/", "trixie-security https://sec.example/debian-security/", "bullseye https://new.example/debian/", "bookworm http://list.example/debian/", "gone ", "own https://own.example/"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	// An address that somebody wrote is that of all its suites, and a state is only where one is kept.
	both.URL, both.Debian.Also = "https://mirror.example", nil
	for _, p := range placesOf(both, Address{URL: both.URL, Origin: "declaration"}, m, time.Time{}) {
		if p.base != "https://mirror.example/" {
			t.Errorf("%s is at %s", p.suite, p.base)
		}
	}
	for _, p := range placesOf(both, Address{}, m, time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)) {
		if p.err == nil {
			t.Errorf("%s has a state", p.suite)
		}
	}
	both.Debian.Snapshots = "https://snap.example/archive/debian/@{stamp}/"
	if p := placesOf(both, Address{}, m, time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)); p[0].base != "https://snap.example/archive/debian/20260203T040506Z/" {
		t.Errorf("%+v", p)
	}
	for address, want := range map[string]string{both.Debian.Snapshots: "https://snap.example/mr/ debian", "https://snap.example/@{stamp}/": " ", "https://snap.example/archive/@{stamp}/": " "} {
		if base, archive := lists(address); base+" "+archive != want {
			t.Errorf("%s: %q %q", address, base, archive)
		}
	}
}
