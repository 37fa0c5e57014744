package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"golang.org/x/mod/sumdb/dirhash"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/stored/tree"
)

type entry struct {
	tar.Header
	content string
}

func file(name, content string) entry {
	return entry{tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644}, content}
}

func tarGz(t *testing.T, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, e := range entries {
		e.Size = int64(len(e.content))
		if err := w.WriteHeader(&e.Header); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, e.content); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func zipOf(t *testing.T, modes map[string]fs.FileMode, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f[0], Method: zip.Deflate}
		if m, ok := modes[f[0]]; ok {
			h.SetMode(m)
		}
		w, err := z.CreateHeader(h)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, f[1]); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// unpackInto unpacks bytes into root/into, so that a test can look around it.
func unpackInto(t *testing.T, root string, archive []byte, format string, rules Rules) (*Result, error) {
	t.Helper()
	path := filepath.Join(root, "archive")
	if err := os.WriteFile(path, archive, 0o644); err != nil {
		t.Fatal(err)
	}
	into := filepath.Join(root, "into")
	if err := os.Mkdir(into, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		filepath.WalkDir(into, func(p string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				os.Chmod(p, 0o755)
			}
			return nil
		})
	})
	return Archive(context.Background(), path, format, into, rules)
}

func TestHostileArchivesAreRefused(t *testing.T) {
	link := func(name, to string, kind byte) entry {
		return entry{tar.Header{Name: name, Linkname: to, Typeflag: kind}, ""}
	}
	bomb := entry{tar.Header{Name: "bomb", Typeflag: tar.TypeReg, Mode: 0o644}, strings.Repeat("\x00", 200<<20)}
	cases := map[string]struct {
		entries []entry
		says    string
	}{
		"absolute name":              {[]entry{file("/etc/x", "")}, "absolute"},
		"parent folder":              {[]entry{file("../x", "")}, "leaves the tree"},
		"parent folder inside":       {[]entry{file("a/../../x", "")}, "leaves the tree"},
		"backslashes":                {[]entry{file(`..\x`, "")}, "character"},
		"link to an absolute name":   {[]entry{link("l", "/etc", tar.TypeSymlink)}, "outside the tree"},
		"link to above":              {[]entry{link("a/l", "../../x", tar.TypeSymlink)}, "outside the tree"},
		"file below a link":          {[]entry{file("d/x", ""), link("l", "d", tar.TypeSymlink), file("l/x", "")}, "is a link"},
		"file below a file":          {[]entry{file("f", ""), file("f/x", "")}, "is a file"},
		"folder that becomes a file": {[]entry{file("f/x", ""), file("f", "")}, "folder as well"},
		"a name twice":               {[]entry{file("f", "1"), file("f", "2")}, "appears twice"},
		"a link over a file":         {[]entry{file("f", "1"), link("f", "g", tar.TypeSymlink)}, "appears twice"},
		"hard link to outside":       {[]entry{link("h", "../x", tar.TypeLink)}, "leaves the tree"},
		"hard link to nothing":       {[]entry{file("f", ""), link("h", "nothing", tar.TypeLink)}, "no file of the archive"},
		"hard link to a link":        {[]entry{file("f", ""), link("l", "f", tar.TypeSymlink), link("h", "l", tar.TypeLink)}, "no file of the archive"},
		"device":                     {[]entry{{tar.Header{Name: "null", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3}, ""}}, "neither a file"},
		"pipe":                       {[]entry{{tar.Header{Name: "p", Typeflag: tar.TypeFifo}, ""}}, "neither a file"},
		"setuid":                     {[]entry{{tar.Header{Name: "su", Typeflag: tar.TypeReg, Mode: 0o4755}, ""}}, "setuid"},
		"setgid":                     {[]entry{{tar.Header{Name: "sg", Typeflag: tar.TypeReg, Mode: 0o2755}, ""}}, "setuid or setgid"},
		"bomb":                       {[]entry{bomb}, "more room"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			_, err := unpackInto(t, root, tarGz(t, c.entries...), "tar.gz", Rules{})
			var refused *Refused
			if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v", err)
			}
			around, _ := os.ReadDir(root)
			if len(around) != 2 {
				t.Errorf("something was written beside the tree: %v", around)
			}
		})
	}
	zips := map[string]struct {
		modes map[string]fs.FileMode
		file  [2]string
		says  string
	}{
		"zip: parent folder":   {nil, [2]string{"../x", ""}, "leaves the tree"},
		"zip: absolute":        {nil, [2]string{"/x", ""}, "absolute"},
		"zip: setuid":          {map[string]fs.FileMode{"su": 0o755 | fs.ModeSetuid}, [2]string{"su", ""}, "setuid"},
		"zip: device":          {map[string]fs.FileMode{"d": fs.ModeDevice}, [2]string{"d", ""}, "neither a file"},
		"zip: link to outside": {map[string]fs.FileMode{"l": fs.ModeSymlink | 0o777}, [2]string{"l", "../../etc"}, "outside the tree"},
		"zip: wrong prefix":    {nil, [2]string{"other@v1/x", ""}, "does not start with"},
	}
	for name, c := range zips {
		t.Run(name, func(t *testing.T) {
			rules := Rules{}
			if strings.Contains(name, "prefix") {
				rules.Prefix = "weir@v1/"
			}
			_, err := unpackInto(t, t.TempDir(), zipOf(t, c.modes, c.file), "zip", rules)
			var refused *Refused
			if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v", err)
			}
		})
	}
}

func TestDamagedArchivesAreErrors(t *testing.T) {
	good := tarGz(t, file("p/a", strings.Repeat("fish ", 100000)), file("p/b", "x"))
	goodZip := zipOf(t, nil, [2]string{"a", strings.Repeat("fish ", 1000)})
	flipped := bytes.Clone(goodZip)
	flipped[45] ^= 0xff
	for name, c := range map[string]struct {
		archive []byte
		format  string
	}{
		"empty":                     {nil, "tar.gz"},
		"no gzip":                   {[]byte("hello"), "tar.gz"},
		"cut off":                   {good[:len(good)/2], "tar.gz"},
		"cut off in the checksum":   {good[:len(good)-4], "tar.gz"},
		"no zip":                    {[]byte("hello"), "zip"},
		"a zip with a changed byte": {flipped, "zip"},
		"an archive of nothing":     {tarGz(t), "tar.gz"},
		"a format of no kind":       {good, "rar"},
	} {
		t.Run(name, func(t *testing.T) {
			if r, err := unpackInto(t, t.TempDir(), c.archive, c.format, Rules{}); err == nil {
				t.Errorf("unpacked to %v", r.Manifest)
			}
		})
	}
}

func TestTreesAreExact(t *testing.T) {
	root := t.TempDir()
	big := strings.Repeat("0123456789", 200_000) // several chunks
	r, err := unpackInto(t, root, tarGz(t,
		entry{tar.Header{Name: "package/", Typeflag: tar.TypeDir, Mode: 0o777}, ""},
		entry{tar.Header{Name: "package/empty/", Typeflag: tar.TypeDir, Mode: 0o700}, ""},
		entry{tar.Header{Name: "package/bin/run", Typeflag: tar.TypeReg, Mode: 0o700}, "#!/bin/sh\n"},
		file("package/tool", "made executable by a rule"),
		file("package/big file", big),
		entry{tar.Header{Name: "package/link", Linkname: "bin/run", Typeflag: tar.TypeSymlink}, ""},
		entry{tar.Header{Name: "package/bin/same", Linkname: "package/bin/run", Typeflag: tar.TypeLink}, ""},
	), "tar.gz", Rules{Strip: 1, Executable: []string{"too*"}})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, e := range r.Manifest {
		got = append(got, string(e.Type)+" "+e.Path)
	}
	if s := strings.Join(got, ", "); s != "f big file, x bin/run, x bin/same, d empty, l link, x tool" {
		t.Errorf("the tree is %s", s)
	}
	into := filepath.Join(root, "into")
	if b, err := os.ReadFile(filepath.Join(into, "big file")); err != nil || string(b) != big {
		t.Errorf("a large file is not what was packed: %d bytes, %v", len(b), err)
	}
	if info, err := os.Stat(filepath.Join(into, "big file")); err != nil || info.Mode().Perm()&0o222 != 0 {
		t.Errorf("a file may be written to: %v", info.Mode())
	}
	for _, deep := range []bool{false, true} {
		have, err := tree.Scan(into, deep)
		if err != nil {
			t.Fatal(err)
		}
		if d := tree.Compare(r.Manifest, have, deep); len(d) > 0 {
			t.Errorf("scanning (deep %v) differs from unpacking: %v", deep, d)
		}
	}
}

func TestModuleZipsHaveTheirH1(t *testing.T) {
	archive := zipOf(t, nil, [2]string{"weir@v1/go.mod", "module weir\n"}, [2]string{"weir@v1/b/x.go", "package b\n"}, [2]string{"weir@v1/a.go", "package weir\n"})
	root := t.TempDir()
	r, err := unpackInto(t, root, archive, "zip", Rules{Prefix: "weir@v1/", HashZip: true})
	if err != nil {
		t.Fatal(err)
	}
	want, err := dirhash.HashZip(filepath.Join(root, "archive"), dirhash.Hash1)
	if err != nil || r.H1 != want {
		t.Errorf("%s, and the module tools say %s, %v", r.H1, want, err)
	}
}

func TestACancelledUnpackingEnds(t *testing.T) {
	root := t.TempDir()
	path := filepath.Join(root, "a")
	if err := os.WriteFile(path, tarGz(t, file("f", strings.Repeat("x", 10<<20)), file("g", "")), 0o644); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Archive(ctx, path, "tar.gz", t.TempDir(), Rules{}); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

// outside fails when something was written beside the tree, or the tree holds what no
// part may: a link out of it, a device, a right to write.
func outside(t *testing.T, root string) {
	t.Helper()
	if around, _ := os.ReadDir(root); len(around) != 2 {
		t.Errorf("something was written beside the tree: %v", around)
	}
	into := filepath.Join(root, "into")
	_ = filepath.WalkDir(into, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if d.Type()&fs.ModeSymlink != 0 {
			target, _ := os.Readlink(path)
			if to := filepath.Join(filepath.Dir(path), target); filepath.IsAbs(target) || to != into && !strings.HasPrefix(to, into+"/") {
				t.Errorf("%s links to %s", path, target)
			}
		} else if !d.IsDir() && !d.Type().IsRegular() {
			t.Errorf("%s is of the type %v", path, d.Type())
		}
		return nil
	})
}

func FuzzTar(f *testing.F) {
	seed := func(entries ...entry) {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, e := range entries {
			e.Size = int64(len(e.content))
			_ = w.WriteHeader(&e.Header)
			_, _ = io.WriteString(w, e.content)
		}
		w.Close()
		f.Add(b.Bytes())
	}
	seed(file("a/b", "x"), file("c", "y"))
	seed(file("a", "x"), entry{Header: tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "a"}}, entry{Header: tar.Header{Name: "h", Typeflag: tar.TypeLink, Linkname: "a"}})
	f.Fuzz(func(t *testing.T, archive []byte) {
		var b bytes.Buffer
		z, _ := gzip.NewWriterLevel(&b, gzip.NoCompression)
		_, _ = z.Write(archive)
		z.Close()
		root := t.TempDir()
		_, _ = unpackInto(t, root, b.Bytes(), "tar.gz", Rules{})
		outside(t, root)
	})
}

func FuzzZip(f *testing.F) {
	var t testing.T
	f.Add(zipOf(&t, nil, [2]string{"m@v1/a/b", "x"}, [2]string{"m@v1/c", "y"}))
	f.Add(zipOf(&t, map[string]fs.FileMode{"l": fs.ModeSymlink | 0o777}, [2]string{"a", "x"}, [2]string{"l", "../.."}))
	f.Fuzz(func(t *testing.T, archive []byte) {
		root := t.TempDir()
		_, _ = unpackInto(t, root, archive, "zip", Rules{HashZip: true})
		outside(t, root)
	})
}

// A file that is there twice with the same content, as some packages have it, is one file.
func TestAFileThatIsThereTwiceIsOne(t *testing.T) {
	big := strings.Repeat("fish ", 100_000)
	for name, c := range map[string]struct {
		entries []entry
		ok      bool
	}{
		"another spelling":    {[]entry{file("./p/a", big), file("p/a", big), file("p//a", big)}, true},
		"other content":       {[]entry{file("./p/a", big), file("p/a", big[1:]+"x")}, false},
		"other length":        {[]entry{file("p/a", big), file("p/a", big[1:])}, false},
		"executable and not":  {[]entry{file("p/a", big), {tar.Header{Name: "p/a", Typeflag: tar.TypeReg, Mode: 0o755}, big}}, false},
		"a link of that name": {[]entry{file("p/a", big), {tar.Header{Name: "./p/a", Linkname: "b", Typeflag: tar.TypeSymlink}, ""}}, false},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := unpackInto(t, t.TempDir(), tarGz(t, c.entries...), "tar.gz", Rules{})
			var refused *Refused
			if c.ok && (err != nil || len(r.Manifest) != 1) || !c.ok && !errors.As(err, &refused) {
				t.Errorf("%v, %v", r, err)
			}
		})
	}
}

// However an archive is packed, one is told how far its unpacking has got.
func TestUnpackingTellsHowFarItIs(t *testing.T) {
	random := make([]byte, 6<<20)
	seeded := rand.NewChaCha8([32]byte{1})
	_, _ = seeded.Read(random)
	for _, format := range []string{"tar.gz", "zip"} {
		t.Run(format, func(t *testing.T) {
			archive := filepath.Join(t.TempDir(), "archive")
			var content []byte
			if format == "zip" {
				content = zipOf(t, nil, [2]string{"weir/a", string(random[:3<<20])}, [2]string{"weir/b", string(random[3<<20:])})
			} else {
				content = tarGz(t, file("weir/lane", string(random)))
			}
			if err := os.WriteFile(archive, content, 0o644); err != nil {
				t.Fatal(err)
			}
			var mu sync.Mutex
			var last event.Event
			told := 0
			ctx := event.With(context.Background(), func(e event.Event) {
				mu.Lock()
				defer mu.Unlock()
				if e.Phase == event.Progress && e.Task == "unpack weir" {
					last = e
					told++
				}
			})
			if _, err := Archive(event.Within(ctx, "unpack weir"), archive, format, t.TempDir(), Rules{}); err != nil {
				t.Fatal(err)
			}
			if told < 2 || last.Total != int64(len(content)) || last.Current > last.Total || last.Current < last.Total/2 {
				t.Errorf("told %d times, last %+v", told, last)
			}
		})
	}
}

// An archive that is small holds few entries: a million of nothing ends soon, whatever they are.
func TestASmallArchiveHoldsFewEntries(t *testing.T) {
	kinds := map[string]func(i int) entry{
		"files": func(i int) entry { return file(fmt.Sprintf("p/%07d", i), "") },
		"folders": func(i int) entry {
			return entry{tar.Header{Name: fmt.Sprintf("p/%07d/", i), Typeflag: tar.TypeDir, Mode: 0o755}, ""}
		},
		"links": func(i int) entry {
			return entry{tar.Header{Name: fmt.Sprintf("p/%07d", i), Typeflag: tar.TypeSymlink, Linkname: "a"}, ""}
		},
		"deep folders": func(i int) entry { return file(fmt.Sprintf("p/%d/%sx", i, strings.Repeat("a/", 100)), "") },
	}
	for name, of := range kinds {
		var entries []entry
		for i := range map[bool]int{true: 400, false: 30_000}[name == "deep folders"] {
			entries = append(entries, of(i))
		}
		root := t.TempDir()
		var refused *Refused
		if _, err := unpackInto(t, root, tarGz(t, entries...), "tar.gz", Rules{}); !errors.As(err, &refused) || !strings.Contains(err.Error(), "no honest archive") {
			t.Errorf("%s: %v", name, err)
		}
		count := 0
		_ = filepath.WalkDir(root, func(string, fs.DirEntry, error) error { count++; return nil })
		if count > 24_000 { // what was read ahead counts as read
			t.Errorf("%s: %d were made before it was refused", name, count)
		}
	}
	// What is honest has something in it, or more of a name.
	var entries []entry
	for i := range 10_000 {
		entries = append(entries, file(fmt.Sprintf("p/%d/%d", i%90, i), fmt.Sprint(rand.Uint64(), rand.Uint64(), rand.Uint64())))
	}
	if r, err := unpackInto(t, t.TempDir(), tarGz(t, entries...), "tar.gz", Rules{}); err != nil || len(r.Manifest) != 10_000 {
		t.Errorf("ten thousand files: %v", err)
	}
	var files [][2]string
	for i := range 9_000 {
		files = append(files, [2]string{fmt.Sprintf("p/%d", i), ""})
	}
	if _, err := unpackInto(t, t.TempDir(), zipOf(t, nil, files...), "zip", Rules{}); err != nil {
		t.Errorf("a zip, whose list has some hundred bytes for each: %v", err)
	}
}
