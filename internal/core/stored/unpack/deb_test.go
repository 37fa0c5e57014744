package unpack

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// ar packs members into a Debian package.
func ar(members ...string) []byte {
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	for i := 0; i < len(members); i += 2 {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8s%-10d`\n%s", members[i], 0, 0, 0, "100644", len(members[i+1]), members[i+1])
		if len(members[i+1])%2 == 1 {
			b.WriteByte('\n')
		}
	}
	return b.Bytes()
}

func tarOf(headers ...tar.Header) string {
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	for _, h := range headers {
		content := ""
		if h.Typeflag == 0 {
			h.Typeflag, content = tar.TypeReg, "content of "+h.Name
			h.Size = int64(len(content))
		}
		if h.Mode == 0 {
			h.Mode = 0o755
		}
		if err := t.WriteHeader(&h); err != nil {
			panic(err)
		}
		t.Write([]byte(content))
	}
	t.Close()
	return b.String()
}

func gzipped(s string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Write([]byte(s))
	z.Close()
	return b.String()
}

var control = tarOf(tar.Header{Name: "./control"}, tar.Header{Name: "./postinst"}, tar.Header{Name: "./md5sums"})

func unpackDeb(t *testing.T, archive []byte, rules Rules) (string, []string, error) {
	t.Helper()
	file, into := filepath.Join(t.TempDir(), "x.deb"), t.TempDir()
	if err := os.WriteFile(file, archive, 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := Archive(context.Background(), file, "deb", into, rules)
	if err != nil {
		return into, nil, err
	}
	var out []string
	for _, e := range r.Manifest {
		text := string(e.Type) + " " + e.Path
		if e.Target != "" {
			text += " -> " + e.Target
		}
		out = append(out, text)
	}
	filepath.WalkDir(into, func(p string, d os.DirEntry, _ error) error {
		if d.IsDir() {
			os.Chmod(p, 0o755)
		}
		return nil
	})
	return into, out, nil
}

func TestAPackageIsUnpackedAsAMergedSystemHasIt(t *testing.T) {
	data := tarOf(
		tar.Header{Name: "./", Typeflag: tar.TypeDir}, tar.Header{Name: "./bin/", Typeflag: tar.TypeDir},
		tar.Header{Name: "./bin/ladder"}, tar.Header{Name: "./usr/bin/weir"},
		tar.Header{Name: "./lib/x/libtrout.so.1", Mode: 0o644},
		tar.Header{Name: "./lib/x/libtrout.so", Typeflag: tar.TypeSymlink, Linkname: "libtrout.so.1"},
		tar.Header{Name: "./lib/x/libeel.so", Typeflag: tar.TypeSymlink, Linkname: "../../usr/lib/x/libeel.so.2"},
		tar.Header{Name: "./usr/lib/x/libeel.so.2", Mode: 0o644},
		tar.Header{Name: "./usr/bin/gate", Typeflag: tar.TypeSymlink, Linkname: "/etc/alternatives/gate"},
		tar.Header{Name: "./usr/bin/up", Typeflag: tar.TypeSymlink, Linkname: "../../../../../bin/ladder"},
		tar.Header{Name: "./bin/weir", Typeflag: tar.TypeSymlink, Linkname: "/usr/bin/weir"}, // merged with its target
		tar.Header{Name: "./usr/bin/twin", Typeflag: tar.TypeLink, Linkname: "./bin/ladder"},
		tar.Header{Name: "./sbin", Typeflag: tar.TypeSymlink, Linkname: "usr/sbin"},
		tar.Header{Name: "./usr/bin/su", Mode: 0o4755}, tar.Header{Name: "./usr/share/doc/weir/copyright"}, tar.Header{Name: "./usr/share/man/man1/weir.1"},
		tar.Header{Name: "./var/lib/weir/", Typeflag: tar.TypeDir}, tar.Header{Name: "./usr/lib/unit\\x2d1", Mode: 0o644},
	)
	z, _ := zstd.NewWriter(nil)
	for name, archive := range map[string][]byte{
		"plain": ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", data),
		"gzip":  ar("debian-binary", "2.0\n", "control.tar.gz", gzipped(control), "data.tar.gz", gzipped(data)),
		"zstd":  ar("debian-binary", "2.0\n", "control.tar", control, "data.tar.zst", string(z.EncodeAll([]byte(data), nil))),
	} {
		into, got, err := unpackDeb(t, archive, Rules{})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		want := strings.Split(`f DEBIAN/control
f DEBIAN/postinst
l usr/bin/gate -> ../../etc/alternatives/gate
x usr/bin/ladder
x usr/bin/su
x usr/bin/twin
l usr/bin/up -> ladder
x usr/bin/weir
f usr/lib/unit\x2d1
l usr/lib/x/libeel.so -> libeel.so.2
f usr/lib/x/libeel.so.2
l usr/lib/x/libtrout.so -> libtrout.so.1
f usr/lib/x/libtrout.so.1
d var/lib/weir`, "\n")
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("%s:\n%s", name, strings.Join(got, "\n"))
		}
		if info, err := os.Stat(filepath.Join(into, "usr/bin/su")); err != nil || info.Mode()&os.ModeSetuid != 0 {
			t.Errorf("%s: %v %v", name, info, err)
		}
	}
	_, got, err := unpackDeb(t, ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", data), Rules{Docs: true})
	if all := strings.Join(got, "\n"); err != nil || !strings.Contains(all, "man1/weir.1") || !strings.Contains(all, "copyright") {
		t.Errorf("with documentation: %s %v", all, err)
	}
}

func TestHostilePackagesAreRefused(t *testing.T) {
	whole := ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", tarOf(tar.Header{Name: "./usr/bin/weir"}))
	with := func(h ...tar.Header) []byte {
		return ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", tarOf(h...))
	}
	for name, archive := range map[string][]byte{
		"no ar archive":               []byte("PK\x03\x04"),
		"empty":                       nil,
		"no data":                     ar("debian-binary", "2.0\n", "control.tar", control),
		"no control":                  ar("debian-binary", "2.0\n", "data.tar", tarOf(tar.Header{Name: "./x"})),
		"two datas":                   ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", tarOf(tar.Header{Name: "./x"}), "data.tar", tarOf(tar.Header{Name: "./y"})),
		"cut off":                     whole[:len(whole)-1500],
		"an unknown compression":      ar("debian-binary", "2.0\n", "control.tar", control, "data.tar.rar", "x"),
		"not what it says":            ar("debian-binary", "2.0\n", "control.tar", control, "data.tar.xz", "x"),
		"no tar":                      ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", strings.Repeat("x", 2048)),
		"a lying size":                append([]byte("!<arch>\n"), []byte(fmt.Sprintf("%-16s%-12d%-6d%-6d%-8s%-10s`\n", "data.tar", 0, 0, 0, "100644", "-5"))...),
		"names that leave":            with(tar.Header{Name: "../../outside"}),
		"names that leave inside":     with(tar.Header{Name: "./usr/../../outside"}),
		"a device":                    with(tar.Header{Name: "./usr/null", Typeflag: tar.TypeChar}),
		"a pipe":                      with(tar.Header{Name: "./usr/fifo", Typeflag: tar.TypeFifo}),
		"the same name twice":         with(tar.Header{Name: "./usr/x"}, tar.Header{Name: "./usr/x"}),
		"one name once merged":        with(tar.Header{Name: "./usr/bin/x"}, tar.Header{Name: "./bin/x"}),
		"a file below a link":         with(tar.Header{Name: "./usr/x", Typeflag: tar.TypeSymlink, Linkname: "/tmp"}, tar.Header{Name: "./usr/x/y"}),
		"a hard link to nothing":      with(tar.Header{Name: "./usr/x", Typeflag: tar.TypeLink, Linkname: "./etc/shadow"}),
		"a hard link that leaves":     with(tar.Header{Name: "./usr/x", Typeflag: tar.TypeLink, Linkname: "../../../etc/passwd"}),
		"no format":                   ar("control.tar", control, "data.tar", tarOf(tar.Header{Name: "./x"})),
		"a format of the future":      ar("debian-binary", "9.9\n", "control.tar", control, "data.tar", tarOf(tar.Header{Name: "./x"})),
		"the format comes late":       ar("control.tar", control, "debian-binary", "2.0\n", "data.tar", tarOf(tar.Header{Name: "./x"})),
		"data before control":         ar("debian-binary", "2.0\n", "data.tar", tarOf(tar.Header{Name: "./x"}), "control.tar", control),
		"control without control":     ar("debian-binary", "2.0\n", "control.tar", tarOf(tar.Header{Name: "./postinst"}), "data.tar", tarOf(tar.Header{Name: "./x"})),
		"a name of 300 bytes":         with(tar.Header{Name: "./usr/" + strings.Repeat("n", 300)}),
		"4,000 folders":               with(tar.Header{Name: "./" + strings.Repeat("d/", 4000) + "x"}),
		"the name of the control set": with(tar.Header{Name: "./DEBIAN/postinst"}),
	} {
		into, got, err := unpackDeb(t, archive, Rules{})
		if err == nil {
			t.Errorf("%s: unpacked as %q", name, got)
		}
		if outside, _ := filepath.Glob(filepath.Join(filepath.Dir(into), "outside")); len(outside) > 0 {
			t.Errorf("%s: wrote outside", name)
		}
		var refused *Refused
		if strings.HasPrefix(name, "names") && !errors.As(err, &refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzDeb(f *testing.F) {
	f.Add(ar("debian-binary", "2.0\n", "control.tar", control, "data.tar.gz", gzipped(tarOf(tar.Header{Name: "./usr/bin/weir"}))))
	f.Add(ar("debian-binary", "2.0\n", "control.tar", control, "data.tar", tarOf(tar.Header{Name: "./usr/bin/weir"})))
	f.Fuzz(func(t *testing.T, archive []byte) {
		root := t.TempDir()
		file, into := filepath.Join(root, "x.deb"), filepath.Join(root, "into")
		os.WriteFile(file, archive, 0o600)
		os.Mkdir(into, 0o755)
		_, _ = Archive(context.Background(), file, "deb", into, Rules{})
		if around, _ := os.ReadDir(root); len(around) != 2 {
			t.Errorf("something was written beside the tree: %v", around)
		}
		filepath.WalkDir(into, func(p string, d os.DirEntry, _ error) error { return os.Chmod(p, 0o755) })
	})
}
