package system

import (
	"context"
	"crypto/sha1"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/tree"
)

// piece unpacks a package: path → content; a content that starts with -> is a link.
func piece(t *testing.T, name string, files map[string]string) Piece {
	t.Helper()
	p := Piece{merge.Piece{Name: name, Version: "1.0-1", Dir: t.TempDir()}}
	own := "Package: " + name + "\nVersion: 1.0-1\nArchitecture: all\n"
	if text := files["DEBIAN/control"]; !strings.Contains(text, "Version:") {
		files["DEBIAN/control"] = own + strings.TrimPrefix(text, "Package: "+name+"\n")
	}
	for path, content := range files {
		full := filepath.Join(p.Dir, path)
		os.MkdirAll(filepath.Dir(full), 0o755)
		if target, ok := strings.CutPrefix(content, "->"); ok {
			os.Symlink(target, full)
		} else if err := os.WriteFile(full, []byte(content), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	var err error
	if p.Manifest, err = tree.Scan(p.Dir, true); err != nil {
		t.Fatal(err)
	}
	return p
}

func makeRoot(t *testing.T, files map[string]string, pieces ...Piece) (string, tree.Manifest, error) {
	t.Helper()
	dir := t.TempDir()
	m, err := Make(context.Background(), dir, pieces, files)
	filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			os.Chmod(p, 0o755)
		}
		return nil
	})
	return dir, m, err
}

func TestARootIsItsPackagesMerged(t *testing.T) {
	ladder := piece(t, "ladder", map[string]string{
		"usr/bin/ladder": "up", "usr/bin/dash": "a shell", "var/run": "->../run", "usr/share/same": "same",
		"DEBIAN/postinst": "#!/bin/sh\nif [ \"$1\" = configure ]; then\n  update-alternatives --quiet --install /usr/bin/awk awk /usr/bin/mawk 5 \\\n    --slave /usr/share/awk.1 awk.1 /usr/share/mawk.1\n" +
			"  update-alternatives --install /usr/bin/ed ed $EDITOR 10\nfi\n",
	})
	weir := piece(t, "weir", map[string]string{
		"usr/bin/mawk": "m", "usr/bin/gawk": "g", "usr/share/mawk.1": "page", "var/run/weir/pid": "7", "usr/share/same": "same",
		"usr/share/ca-certificates/a.crt": "CERT A\n\n", "usr/share/ca-certificates/b.crt": "CERT B\n", "usr/share/weir.conf": "lanes = 2\n",
		"DEBIAN/postinst": "update-alternatives --install /usr/bin/awk awk /usr/bin/gawk 10\n",
	})
	dir, m, err := makeRoot(t, map[string]string{"etc/weir.conf": "usr/share/weir.conf"}, ladder, weir)
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"usr/bin/ladder": "up", "usr/bin/awk": "g", "usr/bin/sh": "a shell", "etc/ssl/certs/ca-certificates.crt": "CERT A\nCERT B\n",
		"etc/weir.conf": "lanes = 2\n", "run/weir/pid": "7", "usr/share/same": "same",
	} {
		if got, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", path, got, err)
		}
	}
	for _, gone := range []string{"DEBIAN", "usr/bin/ed", "usr/share/awk.1"} {
		if _, err := os.Lstat(filepath.Join(dir, gone)); err == nil {
			t.Errorf("%s is there", gone)
		}
	}
	// The manifest is what is on the disk, and files are the packages' own.
	have, err := tree.Scan(dir, true)
	if err != nil || have.Digest() != m.Digest() {
		t.Errorf("the disk differs: %v %v", tree.Compare(m, have, true), err)
	}
	one, _ := os.Stat(filepath.Join(ladder.Dir, "usr/bin/ladder"))
	two, _ := os.Stat(filepath.Join(dir, "usr/bin/ladder"))
	if !os.SameFile(one, two) {
		t.Error("a file of the root is a copy")
	}
	if _, again, err := makeRoot(t, map[string]string{"etc/weir.conf": "usr/share/weir.conf"}, ladder, weir); err != nil || again.Digest() != m.Digest() {
		t.Errorf("the same packages gave another root: %v", err)
	}
}

// What scripts compute from what they state is followed; what they ask of the machine is not.
func TestAlternativesThatScriptsCompute(t *testing.T) {
	for name, c := range map[string]struct {
		script string
		want   []string
	}{
		"variables":          {"base=/usr/share/mvn\npriority=300\ncase \"$1\" in configure) update-alternatives --install /usr/bin/mvn mvn $base/bin/mvn $priority --slave /usr/bin/dbg dbg ${base}/bin/dbg;; esac", []string{"usr/bin/dbg", "usr/bin/mvn"}},
		"a list":             {"for b in php phar phar.phar; do\n update-alternatives --install /usr/bin/${b} ${b} /usr/bin/${b}8.4 84\ndone", []string{"usr/bin/phar", "usr/bin/phar.phar", "usr/bin/php"}},
		"a list in a value":  {"tools='java keytool'\ntools=\"$tools jar\"\nfor i in $tools; do update-alternatives --install /usr/bin/$i $i /usr/lib/jvm/bin/$i 10; done", []string{"usr/bin/jar", "usr/bin/java", "usr/bin/keytool"}},
		"a function":         {"install_one() { update-alternatives --install /usr/bin/$1 $1 /opt/g/bin/$1 $2; }\nif true; then install_one groovy 5; install_one grape 5; fi", []string{"usr/bin/grape", "usr/bin/groovy"}},
		"without effect":     {"f() { f \"$@\"; }\nf\nwhile true; do :; done\nupdate-alternatives --install /bin/a a /usr/bin/b 1", []string{"usr/bin/a"}},
		"of the machine":     {"update-alternatives --install /usr/bin/a a $(which b) 1\nupdate-alternatives --install /usr/bin/c c $UNKNOWN 1\nfor x in `ls`; do update-alternatives --install /usr/bin/$x $x /usr/bin/y 1; done", nil},
		"a sum that is kept": {"p=1060\nif [ \"$DPKG_MAINTSCRIPT_ARCH\" != x ]; then p=$(expr $p - 1); fi\nupdate-alternatives --install /usr/bin/j j /usr/bin/k $p", []string{"usr/bin/j"}},
		"values that grow":   {"x=aaaaaaaa\n" + strings.Repeat("x=$x$x$x$x\n", 40) + "update-alternatives --install /usr/bin/g g /usr/bin/$x 1\ny=" + strings.Repeat("$x", 500) + "\n", []string{"usr/bin/g"}}, // of a length that is bounded
		"braces":             {"update-alternatives --install /usr/bin/b b /usr/bin/{1..999999999} 1", nil},
		"no shell":           {"#!/usr/bin/perl\nmy $x = { update-alternatives", nil},
		"without end":        {strings.Repeat("for i in 1 2 3 4 5 6 7 8 9; do ", 12) + "update-alternatives --install /usr/bin/z z /usr/bin/y 1" + strings.Repeat("; done", 12), []string{"usr/bin/z"}},
	} {
		if got := AlternativesOf(c.script); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func TestExtensionsOfPHPAreEnabled(t *testing.T) {
	dir, _, err := makeRoot(t, nil,
		piece(t, "php8.4-cli", map[string]string{"usr/bin/php8.4": "p"}),
		piece(t, "php8.4-xml", map[string]string{"usr/share/php8.4-xml/xml/dom.ini": "; priority=15\nextension=dom.so\n", "usr/share/php8.4-xml/xml/xml.ini": "extension=xml.so\n", "usr/share/phpish-x/y/z.ini": "no"}),
		piece(t, "php8.4-probe", map[string]string{"etc/php/8.4/mods-available/probe.ini": "; priority=30\nzend_extension=probe.so\n"}))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"etc/php/8.4/cli/conf.d/15-dom.ini": "; priority=15\nextension=dom.so\n", "etc/php/8.4/cli/conf.d/20-xml.ini": "extension=xml.so\n", "etc/php/8.4/cli/conf.d/30-probe.ini": "; priority=30\nzend_extension=probe.so\n"} {
		if got, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", path, got, err)
		}
	}
	if _, err := os.Lstat(filepath.Join(dir, "etc/php/8.4/fpm")); err == nil {
		t.Error("there is a way to run it that nobody brought")
	}
}

func TestPackagesThatClashAreBothNamed(t *testing.T) {
	a := piece(t, "ladder", map[string]string{"usr/share/x": "one"})
	b := piece(t, "weir", map[string]string{"usr/share/x": "two"})
	_, _, err := makeRoot(t, nil, a, b)
	if err == nil || !strings.Contains(err.Error(), "ladder 1.0-1") || !strings.Contains(err.Error(), "weir 1.0-1") || !strings.Contains(err.Error(), "/usr/share/x") {
		t.Errorf("%v", err)
	}
	// One that says that it takes the file over has it, whatever the order.
	for _, names := range [][2]string{{"ladder", "weir"}, {"weir", "ladder"}} {
		a := piece(t, names[0], map[string]string{"usr/share/x": "one"})
		b := piece(t, names[1], map[string]string{"usr/share/x": "two", "DEBIAN/control": "Replaces: other,\n " + names[0] + " (<< 2)\n"})
		first, second := a, b
		if names[0] > names[1] {
			first, second = b, a
		}
		dir, _, err := makeRoot(t, nil, first, second)
		if got, _ := os.ReadFile(filepath.Join(dir, "usr/share/x")); err != nil || string(got) != "two" {
			t.Errorf("%v: %q %v", names, got, err)
		}
	}
	if _, _, err := makeRoot(t, map[string]string{"etc/x": "usr/nothing"}, a); err == nil || !strings.Contains(err.Error(), "/usr/nothing") {
		t.Errorf("a copy of nothing: %v", err)
	}
}

func TestALibraryThatIsLinkedMustBeThere(t *testing.T) {
	program, err := os.ReadFile("/bin/ls")
	if err != nil || len(needed("/bin/ls")) == 0 {
		t.Skip("this machine has no dynamic ls")
	}
	p := piece(t, "coreutils", map[string]string{"usr/bin/ls": string(program)})
	_, _, err = makeRoot(t, nil, p)
	if err == nil || !strings.Contains(err.Error(), "/usr/bin/ls links libc.so") {
		t.Errorf("a root without the C library: %v", err)
	}
	libraries := map[string]string{}
	for _, name := range needed("/bin/ls") {
		libraries["usr/lib/"+name] = "stands in"
	}
	if _, _, err = makeRoot(t, nil, p, piece(t, "libc6", libraries)); err != nil {
		t.Error(err)
	}
}

func TestAKeystoreEndsInItsOwnDigest(t *testing.T) {
	store := keystore([]byte("-----BEGIN CERTIFICATE-----\nd2Vpcg==\n-----END CERTIFICATE-----\n"))
	sum := sha1.New()
	for _, c := range "changeit" {
		sum.Write([]byte{0, byte(c)})
	}
	sum.Write([]byte("Mighty Aphrodite"))
	sum.Write(store[:len(store)-20])
	if string(sum.Sum(nil)) != string(store[len(store)-20:]) || !strings.Contains(string(store), "weir") || store[11] != 1 {
		t.Errorf("%x", store)
	}
}

// Links that several packages make together leave the root no more than one alone does: they
// are written anew where an entry moves, or the root is refused, and nothing is written
// behind them.
func TestLinksOfSeveralPackagesDoNotLeaveARoot(t *testing.T) {
	deep := strings.TrimSuffix(strings.Repeat("d/", 11), "/")
	up := strings.TrimSuffix(strings.Repeat("../", 11), "/")
	for name, pieces := range map[string][]map[string]string{
		"an entry that moves by another's link": {{deep + "/z": "->" + up + "/z", "z/keep": "k"}, {deep + "/z/c": "->" + up + "/../DEB", "usr/DEB/x": "x"}},
		"a chain over two":                      {{deep + "/f": "->" + up, "x": "x"}, {"q": "->" + deep + "/f/../outside"}},
		"a chain over three, and a file in it":  {{deep + "/f": "->" + up}, {"q": "->" + deep + "/f/.."}, {"q/planted": "evil"}},
		"a link above":                          {{"a/b": "->../../../outside"}},
		"a cache that is a link":                {{"etc/ld.so.cache": "->../../outside"}, {"usr/share/ca-certificates/a.crt": "CERT\n"}},
		"certificates that are a link":          {{"etc/ssl/certs/ca-certificates.crt": "->../../../../outside"}, {"usr/share/ca-certificates/a.crt": "CERT\n"}},
	} {
		t.Run(name, func(t *testing.T) {
			around := t.TempDir()
			dir := filepath.Join(around, "root")
			if err := os.MkdirAll(filepath.Join(around, "outside"), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.Mkdir(dir, 0o755); err != nil {
				t.Fatal(err)
			}
			var list []Piece
			for i, files := range pieces {
				list = append(list, piece(t, string(rune('a'+i)), files))
			}
			m, err := Make(context.Background(), dir, list, nil)
			if _, leaves := m.Leaving(); err == nil && !leaves { // else the store refuses it
				for _, e := range m {
					if full, err := filepath.EvalSymlinks(filepath.Join(dir, e.Path)); err == nil && full != dir && !strings.HasPrefix(full, dir+"/") {
						t.Errorf("%s is %s", e.Path, full)
					}
				}
			}
			left, _ := os.ReadDir(around)
			inside, _ := os.ReadDir(filepath.Join(around, "outside"))
			if len(left) != 2 || len(inside) > 0 {
				t.Errorf("written outside: %v %v", left, inside)
			}
			for _, x := range list { // what packages share with the store is as it was
				if have, err := tree.Scan(x.Dir, true); err != nil || have.Digest() != x.Manifest.Digest() {
					t.Errorf("package %s changed: %v", x.Name, err)
				}
			}
		})
	}
}
