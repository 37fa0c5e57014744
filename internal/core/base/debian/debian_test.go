package debian

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

func TestRelations(t *testing.T) {
	for field, want := range map[string]string{
		"libc6 (>= 2.38), weir | ladder (<< 2:1.0~)":   "[[libc6 (>= 2.38)] [weir ladder (<< 2:1.0~)]]",
		"python3:any (>= 3.13), x:amd64":               "[[python3 (>= 3.13)] [x]]",
		"a [amd64], b [arm64], c [!arm64] | d [arm64]": "[[a] [c]]",
		"old (< 1), new (> 2)":                         "[[old (<= 1)] [new (>= 2)]]",
		" , ,":                                         "[]",
		"foreign:arm64":                                "[]",
	} {
		got, err := ParseRelations(field, "amd64")
		if err != nil || fmt.Sprint(got) != want {
			t.Errorf("%q is %v (%v), not %s", field, got, err, want)
		}
	}
	for _, field := range []string{"a (~ 1)", "a (>= )", "a b", "a/b", "(>= 1)", "a (>= 1"} {
		if got, err := ParseRelations(field, "amd64"); err == nil {
			t.Errorf("%q was read as %v", field, got)
		}
	}
	for bound, versions := range map[string]string{
		">= 2.0": "2.0 2.0-1 1:0.1 2.0+b1", "<< 2.0": "2.0~rc1 1.9", "= 1:1": "1:1", ">> 1": "1+b1 1.0.1", "<= 1": "1 1~x",
	} {
		op, v, _ := strings.Cut(bound, " ")
		for one := range strings.FieldsSeq(versions) {
			if !(Relation{Name: "x", Op: op, Version: v}).Holds(one) {
				t.Errorf("%s is not %s", one, bound)
			}
		}
	}
	if (Relation{Name: "x", Op: ">=", Version: "1"}).Holds("") {
		t.Error("a provided name without a version satisfies a bound")
	}
}

func TestUpstreamVersionsAreThoseOfThePrograms(t *testing.T) {
	for v, want := range map[string]string{
		"17.11-0+deb13u1": "17.11", "5:8.0.2-3+deb13u2": "8.0.2", "1.85.1+dfsg1-1+deb13u1": "1.85.1", "21.0.12.1+1-1~deb13u1": "21.0.12.1",
		"2:1.7~rc1-1": "1.7~rc1", "3.13.5-1": "3.13.5", "2024a": "2024a", "1:3.3+b1": "3.3", "1.0~deb12u1": "1.0",
	} {
		if got := Upstream(v); got != want {
			t.Errorf("%s is upstream's %s, not %s", v, got, want)
		}
	}
}

func TestEveryListedPackageHasAReason(t *testing.T) {
	l := readLists()
	if len(l.Base) < 10 || len(l.Prune) < 10 {
		t.Fatalf("%d and %d", len(l.Base), len(l.Prune))
	}
	for _, list := range []map[string]string{l.Base, l.Prune} {
		for name, reason := range list {
			if len(reason) < 4 {
				t.Errorf("%s has no reason", name)
			}
		}
	}
	for name := range l.Base {
		if _, ok := Pruned(name); ok {
			t.Errorf("%s is in every root and left out of roots", name)
		}
	}
}

// index is a compact index of packages written as control paragraphs.
func index(t *testing.T, paragraphs string) *Index {
	t.Helper()
	var list []*Package
	var full strings.Builder
	for one := range strings.SplitSeq(strings.TrimSpace(paragraphs), "\n\n") {
		name, _, _ := strings.Cut(strings.TrimPrefix(one, "Package: "), "\n")
		if !strings.Contains(one, "Version:") {
			one += "\nVersion: 1.0-1"
		}
		fmt.Fprintf(&full, "%s\nArchitecture: amd64\nFilename: pool/%s.deb\nSize: 7\nSHA256: %064x\n\n", one, name, len(list))
	}
	if err := ParsePackages(strings.NewReader(full.String()), func(p *Package) error { list = append(list, p); return nil }); err != nil {
		t.Fatal(err)
	}
	path, err := written(t, list)
	if err != nil {
		t.Fatal(err)
	}
	x, err := OpenIndex(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { x.Close() })
	return x
}

// written is a compact index of packages.
func written(t testing.TB, list []*Package) (path string, err error) {
	f, err := os.Create(filepath.Join(t.TempDir(), "index"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	w := NewIndexWriter(f)
	for _, p := range list {
		if err := w.Add(p); err != nil {
			return "", err
		}
	}
	return f.Name(), w.Finish()
}

func names(list []*Package) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name+"="+p.Version)
	}
	return strings.Join(out, " ")
}

func TestTheCompactIndexFindsEverything(t *testing.T) {
	x := index(t, "Package: weir\nVersion: 1\n\nPackage: weir\nVersion: 3\nDescription: long\n and folded\n\nPackage: weir\nVersion: 2\n\n"+
		"Package: lane-13\nProvides: lane (= 13), counting\n\nPackage: lane-17\nProvides: lane (= 17)\n\nPackage: a\n\nPackage: zz\n")
	for name, want := range map[string]string{"weir": "weir=3 weir=2 weir=1", "a": "a=1.0-1", "zz": "zz=1.0-1", "lane": "", "wei": "", "zzz": "", "": ""} {
		got, err := x.Named(name)
		if err != nil || names(got) != want {
			t.Errorf("%q: %s (%v), not %s", name, names(got), err, want)
		}
	}
	if got, err := x.Starting("lane-"); err != nil || names(got) != "lane-13=1.0-1 lane-17=1.0-1" {
		t.Errorf("lane-*: %s %v", names(got), err)
	}
	offers, err := x.Providers("lane")
	if err != nil || len(offers) != 2 || offers[0].As+offers[1].As != "1317" {
		t.Errorf("lane is provided by %v (%v)", offers, err)
	}
	if offers, err = x.Providers("nothing"); err != nil || len(offers) != 0 {
		t.Errorf("nothing is provided by %v (%v)", offers, err)
	}
}

func TestADamagedIndexIsAnErrorAndNoCrash(t *testing.T) {
	x := index(t, "Package: weir\nProvides: lane\nDepends: a, b, c\n\nPackage: ladder\n")
	whole, _ := os.ReadFile(x.file.Name())
	path := filepath.Join(t.TempDir(), "damaged")
	look := func() {
		y, err := OpenIndex(path)
		if err != nil {
			return
		}
		defer y.Close()
		y.Named("weir")
		y.Named("ladder")
		y.Providers("lane")
		y.Starting("")
	}
	for n := range whole {
		os.WriteFile(path, whole[:n], 0o600)
		look()
		turned := slices.Clone(whole)
		turned[n] ^= 0xff
		os.WriteFile(path, turned, 0o600)
		look()
	}
}

func TestPackagesWithoutADigestAreRefused(t *testing.T) {
	good := "Package: weir\nVersion: 1\nFilename: pool/weir.deb\nSize: 7\nSHA256: " + strings.Repeat("a", 64) + "\n"
	for name, bad := range map[string]string{
		"no digest": strings.Replace(good, "SHA256", "MD5", 1), "a path that leaves": strings.Replace(good, "pool/", "../", 1),
		"an absolute path": strings.Replace(good, "pool/", "/etc/", 1), "no size": strings.Replace(good, "Size: 7", "Size: big", 1),
		"a bad version": strings.Replace(good, "Version: 1", "Version: one", 1), "no field": good + "rubbish\n", "a name with a slash": strings.Replace(good, ": weir", ": we/ir", 1),
		"a size below nothing": strings.Replace(good, "Size: 7", "Size: -5", 1), "a size of nothing": strings.Replace(good, "Size: 7", "Size: 0", 1),
		"a size that no disk has": strings.Replace(good, "Size: 7", "Size: 1000000000000000", 1),
	} {
		if err := ParsePackages(strings.NewReader(bad), func(*Package) error { return nil }); err == nil {
			t.Errorf("%s: accepted", name)
		}
	}
}

// One version of a package has one content.
func TestAPackageThatStandsTwiceWithOtherBytesIsRefused(t *testing.T) {
	one := &Package{Name: "weir", Version: "1", Arch: "all", Path: "pool/weir.deb", Size: 7, SHA256: strings.Repeat("a", 64)}
	two := *one
	if _, err := written(t, []*Package{one, &two}); err != nil {
		t.Errorf("the same twice: %v", err)
	}
	two.SHA256 = strings.Repeat("b", 64)
	if _, err := written(t, []*Package{one, &two}); err == nil || !strings.Contains(err.Error(), "weir 1") {
		t.Errorf("%v", err)
	}
}

func TestClosures(t *testing.T) {
	x := index(t, `Package: server
Pre-Depends: loader
Depends: first | second, virtual, lib (>= 2), debconf (>= 0.5) | debconf-2.0, adduser, any:any

Package: loader

Package: first

Package: second

Package: any

Package: real-b
Priority: optional
Provides: virtual

Package: real-a
Priority: optional
Provides: virtual

Package: standard-z
Priority: standard
Provides: virtual, other (= 3)

Package: lib
Version: 1.0

Package: lib
Version: 2.5

Package: wants-second
Depends: missing | second, other (>= 2)

Package: broken
Depends: no-such-thing (>= 9)

Package: hates
Conflicts: other

Package: breaks
Breaks: lib (<< 2.6)

Package: itself
Provides: other
Conflicts: other

Package: old
Depends: lib (<< 2)

Package: adduser

Package: debconf
`)
	resolve := func(kept []*Package, wishes ...string) (*Closure, error) {
		var list []Wish
		for _, w := range wishes {
			name, v, _ := strings.Cut(w, "=")
			list = append(list, Wish{name, v})
		}
		return Indexes{x}.Resolve(list, "amd64", kept)
	}
	v := func(s string) string { // versions but lib's are dull
		return strings.ReplaceAll(s, "=1.0-1", "")
	}
	for wish, want := range map[string]string{
		"server":              "any first lib=2.5 loader server standard-z",
		"second server":       "any lib=2.5 loader second server standard-z",
		"real-b server":       "any first lib=2.5 loader real-b server",
		"wants-second":        "second standard-z wants-second",
		"lib=1.0":             "lib=1.0",
		"old":                 "lib=1.0 old",
		"itself":              "itself",
		"standard-z itself":   "clash",
		"hates wants-second":  "clash",
		"breaks server":       "clash",
		"broken":              "unsatisfied",
		"nowhere":             "unsatisfied",
		"lib=9":               "unsatisfied",
		"itself wants-second": "clash",
	} {
		c, err := resolve(nil, strings.Fields(wish)...)
		var clash *Clash
		var unsatisfied *Unsatisfied
		got := ""
		switch {
		case errors.As(err, &clash):
			got = "clash"
		case errors.As(err, &unsatisfied):
			got = "unsatisfied"
		case err != nil:
			got = err.Error()
		default:
			got = v(names(c.Packages))
		}
		if got != want {
			t.Errorf("%s needs %s, not %s", wish, got, want)
		}
	}
	c, err := resolve(nil, "server")
	if err != nil || c.Why["loader"] != "server" || c.Pruned["adduser"] == "" || c.Pruned["debconf"] == "" {
		t.Errorf("why %v, left out %v, %v", c.Why, c.Pruned, err)
	}
	// What is locked stays where it will do, and moves where it will not.
	libs, _ := x.Named("lib")
	if c, err := resolve([]*Package{libs[1]}, "lib"); err != nil || names(c.Packages) != "lib=1.0" {
		t.Errorf("a locked package moved: %v %v", c, err)
	}
	if c, err := resolve([]*Package{libs[1]}, "server"); err != nil || !strings.Contains(names(c.Packages), "lib=2.5") {
		t.Errorf("a locked package that will not do stayed: %v %v", c, err)
	}
	_, err = resolve(nil, "broken")
	if err == nil || !strings.Contains(err.Error(), "broken needs no-such-thing (>= 9)") {
		t.Errorf("it says %v", err)
	}
}

func TestReleasesAreTrustedByTheirSignatureAlone(t *testing.T) {
	key := func() *openpgp.Entity {
		e, err := openpgp.NewEntity("weir", "", "weir@heronweir.example", &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA})
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	ours, theirs := key(), key()
	release := "Suite: weir\nCodename: trout\nDate: Tue, 03 Feb 2026 04:05:06 UTC\nAcquire-By-Hash: yes\nSHA256:\n " + strings.Repeat("ab", 32) + " 12 main/binary-amd64/Packages\n"
	sign := func(e *openpgp.Entity, text string) []byte {
		var b bytes.Buffer
		w, err := clearsign.Encode(&b, e.PrivateKey, &packet.Config{DefaultHash: crypto.SHA256})
		if err != nil {
			t.Fatal(err)
		}
		w.Write([]byte(text))
		w.Close()
		return b.Bytes()
	}
	keys := &Keyring{Keys: openpgp.EntityList{ours}}
	now := time.Now()
	r, err := ReadRelease(sign(ours, release), keys, now)
	if err != nil || !r.Is("weir") || !r.Is("trout") || r.Is("stable") || !r.ByHash || r.Files["main/binary-amd64/Packages"].Size != 12 || r.Date.Year() != 2026 {
		t.Fatalf("%+v %v", r, err)
	}
	signed := sign(ours, release)
	for name, bad := range map[string][]byte{
		"unsigned": []byte(release), "another's": sign(theirs, release), "changed": bytes.Replace(signed, []byte("abab"), []byte("abac"), 1),
		"cut off": signed[:len(signed)-80], "empty": nil, "no date": sign(ours, strings.Replace(release, "Feb", "Fob", 1)),
		"no files": sign(ours, strings.Split(release, "SHA256")[0]), "an odd line": sign(ours, release+" short 1 x\n"), "two paragraphs": sign(ours, release+"\nSuite: other\nDate: Tue, 03 Feb 2026 04:05:06 UTC\n"),
	} {
		if _, err := ReadRelease(bad, keys, now); err == nil {
			t.Errorf("%s: trusted", name)
		}
	}
	// Names of fields are not case-sensitive (Policy 5.1).
	old := strings.Replace(release, "SHA256:", "valid-until: Tue, 10 Feb 2026 04:05:06 UTC\nSHA256:", 1)
	if r, err := ReadRelease(sign(ours, strings.Replace(old, "Date:", "dAtE:", 1)), keys, now); err == nil && r.ValidUntil.IsZero() {
		t.Error("an end of validity in small letters is not read")
	}
	if _, err := ReadRelease(append([]byte("a line before\n"), signed...), keys, now); err == nil {
		t.Error("trusted with lines before")
	}
	if _, err := ReadRelease(signed, &Keyring{}, now); err == nil {
		t.Error("trusted without keys")
	}
	if _, err := ReadKeyring([]string{filepath.Join(t.TempDir(), "gone")}); err != nil {
		t.Error(err)
	}
	rubbish := filepath.Join(t.TempDir(), "rubbish")
	os.WriteFile(rubbish, []byte("no key"), 0o600)
	if _, err := ReadKeyring([]string{rubbish}); err == nil {
		t.Error("rubbish is a keyring")
	}
}

func FuzzPackages(f *testing.F) {
	f.Add("Package: weir\nVersion: 1\nFilename: pool/weir.deb\nSize: 7\nSHA256: " + strings.Repeat("a", 64) + "\nDepends: a (>= 1) | b [amd64], c:any\n Provides: d\n\n")
	f.Fuzz(func(t *testing.T, text string) {
		var list []*Package
		_ = ParsePackages(strings.NewReader(text), func(p *Package) error { list = append(list, p); return nil })
		for _, p := range list {
			ParseRelations(p.Depends, "amd64")
		}
		_, _ = written(t, list)
	})
}

func FuzzRelease(f *testing.F) {
	f.Add("Suite: weir\nDate: Tue, 03 Feb 2026 04:05:06 UTC\nSHA256:\n ab 1 x\n")
	f.Fuzz(func(t *testing.T, text string) { _, _ = parseRelease([]byte(text)) })
}

// FuzzSigned reads whole InRelease files and keyrings: their armour comes before any
// signature is known to be good.
func FuzzSigned(f *testing.F) {
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nSuite: weir\n- -x\n-----BEGIN PGP SIGNATURE-----\n\niQ==\n=AAAA\n-----END PGP SIGNATURE-----\n"), []byte("-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nmQ==\n-----END PGP PUBLIC KEY BLOCK-----\n"))
	f.Fuzz(func(t *testing.T, release, keys []byte) {
		if _, err := ReadRelease(release, &Keyring{}, time.Unix(1_770_000_000, 0)); err == nil {
			t.Error("a release that nobody signed is taken")
		}
		if block, err := signedBlock(release); err == nil {
			_, _ = parseRelease(block.Plaintext)
		}
		if list, err := readKeys(keys); err == nil {
			if _, err := ReadRelease(release, &Keyring{Keys: list}, time.Unix(1_770_000_000, 0)); err == nil && !bytes.Contains(release, []byte("SIGNATURE")) {
				t.Error("a release without a signature is taken")
			}
		}
	})
}

// FuzzIndex reads compact indexes, which are files of the cache: damaged ones are told
// apart or give what is in them, and nothing outside of them is read.
func FuzzIndex(f *testing.F) {
	path, err := written(f, []*Package{{Name: "weir", Version: "1.2-3", Path: "pool/weir.deb", Provides: "sluice (= 2)"}, {Name: "wren", Version: "1"}})
	if err != nil {
		f.Fatal(err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		path := filepath.Join(t.TempDir(), "index")
		os.WriteFile(path, raw, 0o600)
		x, err := OpenIndex(path)
		if err != nil {
			return
		}
		defer x.Close()
		_, _ = x.Named("weir")
		_, _ = x.Starting("w")
		_, _ = x.Providers("sluice")
	})
}
