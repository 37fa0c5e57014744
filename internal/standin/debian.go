package standin

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto"
	"crypto/sha256"
	"debug/elf"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/klauspost/compress/zstd"
)

// Deb is a Debian binary package to publish.
type Deb struct {
	Name, Version string
	Arch          string            // "" means this machine's
	Fields        map[string]string // of its control file: Depends, Provides and the like
	Files         []File
	Postinst      string
	Packed        string // "xz", "gz", "zst" or "" for not at all

	done *packed // what Put took; packed when it is published first
}

// packed is a package as an archive serves it.
type packed struct {
	once    sync.Once
	archive []byte
	control string
	sum     [sha256.Size]byte
}

// Archive is a Debian archive with one suite, served by a stand-in below /NAME/.
type Archive struct {
	Suite string
	Until time.Time // Valid-Until; zero: without end
	At    time.Time // Date

	server *Server
	name   string
	key    *openpgp.Entity
	debs   []Deb
	pool   []string // paths that were published last
}

// Also is another suite of the same archive, with the same key.
func (a *Archive) Also(suite string) *Archive {
	return &Archive{Suite: suite, At: a.At, server: a.server, name: a.name, key: a.key}
}

// Debian adds an archive.
func (s *Server) Debian(name, suite string) *Archive {
	config := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, DefaultHash: crypto.SHA256}
	key, err := openpgp.NewEntity("Heron Weir archive", "", "archive@heronweir.example", config)
	must(err)
	return &Archive{Suite: suite, At: time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC), server: s, name: name, key: key}
}

// URL is the archive's address.
func (a *Archive) URL() string { return a.server.http.URL + "/" + a.name }

// Keys is the archive's public key, armoured.
func (a *Archive) Keys() string {
	var b bytes.Buffer
	w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
	must(err)
	must(a.key.Serialize(w))
	must(w.Close())
	return b.String() + "\n"
}

func debArch() string { return runtime.GOARCH }

// Put publishes packages; one that is there in another version is replaced, as an
// archive does. Publish makes them visible.
func (a *Archive) Put(debs ...Deb) {
	for _, d := range debs {
		a.debs = slices.DeleteFunc(a.debs, func(old Deb) bool { return old.Name == d.Name })
		if d.done == nil {
			d.done = &packed{}
		}
		a.debs = append(a.debs, d)
	}
}

// Drop takes a package out.
func (a *Archive) Drop(name string) {
	a.debs = slices.DeleteFunc(a.debs, func(d Deb) bool { return d.Name == name })
}

// Publish writes the pool, the index and the signed release.
func (a *Archive) Publish() {
	var index bytes.Buffer
	pool := map[string][]byte{}
	for _, d := range a.debs {
		archive, control, sum := d.served()
		where := "pool/main/" + d.Name[:1] + "/" + d.Name + "_" + strings.ReplaceAll(d.Version, ":", "%3a") + "_" + d.arch() + ".deb"
		pool[where] = archive
		fmt.Fprintf(&index, "%sFilename: %s\nSize: %d\nSHA256: %x\n\n", control, where, len(archive), sum)
	}
	base := "main/binary-" + debArch() + "/"
	packed := map[string][]byte{base + "Packages": index.Bytes(), base + "Packages.gz": gz(index.Bytes()), base + "Packages.xz": XZ(index.Bytes())}
	var release bytes.Buffer
	fmt.Fprintf(&release, "Origin: Heron Weir\nSuite: %s\nCodename: %s\nDate: %s\nAcquire-By-Hash: yes\nArchitectures: %s\nComponents: main\n", a.Suite, a.Suite, a.At.Format(time.RFC1123), debArch())
	if !a.Until.IsZero() {
		fmt.Fprintf(&release, "Valid-Until: %s\n", a.Until.UTC().Format(time.RFC1123))
	}
	release.WriteString("SHA256:\n")
	dists := map[string][]byte{}
	for name, content := range packed {
		sum := fmt.Sprintf("%x", sha256.Sum256(content))
		fmt.Fprintf(&release, " %s %d %s\n", sum, len(content), name)
		dists[base+"by-hash/SHA256/"+sum] = content
	}
	var signed bytes.Buffer
	w, err := clearsign.Encode(&signed, a.key.PrivateKey, &packet.Config{DefaultHash: crypto.SHA256})
	must(err)
	_, err = w.Write(release.Bytes())
	must(err)
	must(w.Close())
	dists["InRelease"] = signed.Bytes()

	a.server.mu.Lock()
	defer a.server.mu.Unlock()
	for _, name := range a.pool {
		delete(a.server.blobs, name)
	}
	a.pool = nil
	for name, content := range dists {
		a.server.blobs["/"+a.name+"/dists/"+a.Suite+"/"+name] = content
	}
	for name, content := range pool {
		for _, spelt := range []string{name, strings.ReplaceAll(name, "%3a", ":")} {
			a.server.blobs["/"+a.name+"/"+spelt] = content
			a.pool = append(a.pool, "/"+a.name+"/"+spelt)
		}
	}
}

// Keep keeps the state that was published last, as an archive of snapshots does: it is had
// below Snapshots at any moment from a's date on, until the next one.
func (a *Archive) Keep() {
	a.server.mu.Lock()
	defer a.server.mu.Unlock()
	stamp := a.At.UTC().Format("20060102T150405Z")
	for name, content := range a.server.blobs {
		if rest, ok := strings.CutPrefix(name, "/"+a.name+"/"); ok {
			a.server.blobs["/archive/"+a.name+"/"+stamp+"/"+rest] = content
		}
	}
	a.server.states[a.name] = append(a.server.states[a.name], stamp)
	slices.Sort(a.server.states[a.name])
	for _, d := range a.debs {
		here := func(k kept) bool { return k.Name == d.Name && k.Version == d.Version && k.archive == a.name }
		if !slices.ContainsFunc(a.server.kept, here) {
			a.server.kept = append(a.server.kept, kept{d, a.name, stamp})
		}
	}
}

// kept is a package of an archive of snapshots, and the state that had it first.
type kept struct {
	Deb
	archive, first string
}

// keptLists answers for the lists of an archive of snapshots: all sources, the versions of a
// package, and the files of a version with when they were seen first.
func (s *Server) keptLists(path string) ([]byte, bool) {
	rest, ok := strings.CutPrefix(path, "/mr/")
	if !ok {
		return nil, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	words := strings.Split(strings.Trim(rest, "/"), "/")
	result, info := []map[string]string{}, map[string][]map[string]any{}
	add := func(one map[string]string) {
		if !slices.ContainsFunc(result, func(o map[string]string) bool { return maps.Equal(o, one) }) {
			result = append(result, one)
		}
	}
	for _, k := range s.kept {
		from, _, _ := strings.Cut(cmp.Or(k.Fields["Source"], k.Name), " ")
		switch {
		case len(words) == 1 && words[0] == "package":
			add(map[string]string{"package": from})
		case len(words) == 2 && words[0] == "binary" && words[1] == k.Name:
			add(map[string]string{"binary_version": k.Version, "name": k.Name, "source": from, "version": k.Version})
		case len(words) == 4 && words[1] == k.Name && words[2] == k.Version && words[3] == "binfiles":
			hash := fmt.Sprintf("%x", sha256.Sum256([]byte(k.archive+k.Name+k.Version+k.arch())))[:40]
			add(map[string]string{"architecture": k.arch(), "hash": hash})
			info[hash] = append(info[hash], map[string]any{"archive_name": k.archive, "first_seen": k.first, "name": k.Name + ".deb", "path": "/pool/main"})
		}
	}
	all := map[string]any{"_comment": "made up", "result": result}
	if len(info) > 0 {
		all["fileinfo"] = info
	}
	body, err := json.Marshal(all)
	must(err)
	return body, len(result) > 0
}

// Snapshots is the address of the kept states, with @{stamp} for a moment.
func (a *Archive) Snapshots() string { return a.server.http.URL + "/archive/" + a.name + "/@{stamp}/" }

// stateOf is the path of the state that a moment in a path asks for: the last one before it.
func (s *Server) stateOf(path string) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	rest, ok := strings.CutPrefix(path, "/archive/")
	name, rest, ok2 := strings.Cut(rest, "/")
	stamp, below, ok3 := strings.Cut(rest, "/")
	if !ok || !ok2 || !ok3 || slices.Contains(s.states[name], stamp) {
		return "", false
	}
	last := ""
	for _, one := range s.states[name] {
		if one <= stamp {
			last = one
		}
	}
	return "/archive/" + name + "/" + last + "/" + below, last != ""
}

func (d Deb) arch() string {
	if d.Arch != "" {
		return d.Arch
	}
	return debArch()
}

// pack makes the .deb (deb(5)) and its paragraph of the index.
// served packs what Put took, once.
func (d Deb) served() (archive []byte, control string, sum [sha256.Size]byte) {
	d.done.once.Do(func() {
		d.done.archive, d.done.control = d.pack()
		d.done.sum = sha256.Sum256(d.done.archive)
	})
	return d.done.archive, d.done.control, d.done.sum
}

func (d Deb) pack() (archive []byte, control string) {
	control = fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: %s\nMaintainer: Heron Weir <hut@heronweir.example>\nDescription: made up\n", d.Name, d.Version, d.arch())
	for _, name := range slices.Sorted(maps.Keys(d.Fields)) {
		control += name + ": " + d.Fields[name] + "\n"
	}
	scripts := []File{{Name: "./control", Content: control}}
	if d.Postinst != "" {
		scripts = append(scripts, File{Name: "./postinst", Content: d.Postinst, Mode: 0o755})
	}
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	member := func(name string, content []byte) {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", name, 0, 0, 0, "100644", len(content))
		b.Write(content)
		if len(content)%2 == 1 {
			b.WriteByte('\n')
		}
	}
	member("debian-binary", []byte("2.0\n"))
	member("control.tar.gz", gz(plainTar(scripts)))
	data := plainTar(d.Files)
	switch d.Packed {
	case "xz":
		member("data.tar.xz", XZ(data))
	case "gz":
		member("data.tar.gz", gz(data))
	case "zst":
		z, err := zstd.NewWriter(nil)
		must(err)
		member("data.tar.zst", z.EncodeAll(data, nil))
	default:
		member("data.tar", data)
	}
	return b.Bytes(), control
}

// plainTar packs files; a folder's name ends in /, a link has a target.
func plainTar(files []File) []byte {
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	for _, f := range files {
		h := &tar.Header{Name: f.Name, Mode: f.Mode, Size: int64(len(f.Content)), Typeflag: tar.TypeReg, Format: tar.FormatGNU}
		if h.Mode == 0 {
			h.Mode = 0o644
		}
		switch {
		case strings.HasSuffix(f.Name, "/"):
			h.Typeflag, h.Mode = tar.TypeDir, 0o755
		case f.Link != "":
			h.Typeflag, h.Linkname = tar.TypeSymlink, f.Link
		}
		must(t.WriteHeader(h))
		_, err := t.Write([]byte(f.Content))
		must(err)
	}
	must(t.Close())
	return b.Bytes()
}

func gz(content []byte) []byte {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	must(err)
	_, err = z.Write(content)
	must(err)
	must(z.Close())
	return b.Bytes()
}

// XZ puts content into the .xz format (version 1.2.1) without compressing it: LZMA2
// has chunks for that.
func XZ(content []byte) []byte {
	le := binary.LittleEndian
	crc := func(b []byte) []byte { return le.AppendUint32(nil, crc32.ChecksumIEEE(b)) }
	varint := func(n uint64) []byte { return binary.AppendUvarint(nil, n) }
	pad := func(b []byte) []byte {
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
		return b
	}
	flags := []byte{0, 1} // checks are CRC32
	out := append([]byte{0xfd, '7', 'z', 'X', 'Z', 0}, flags...)
	out = append(out, crc(flags)...)
	header := []byte{2, 0, 0x21, 1, 0x10, 0, 0, 0} // LZMA2 with a dictionary of 1 MiB
	block := append(header, crc(header)...)
	control := byte(1) // the first chunk resets the dictionary
	for rest := content; len(rest) > 0; control = 2 {
		n := min(len(rest), 1<<16)
		block = append(block, control, byte((n-1)>>8), byte(n-1))
		block = append(block, rest[:n]...)
		rest = rest[n:]
	}
	block = append(block, 0)
	unpadded := len(block) + 4
	block = append(pad(block), crc(content)...)
	index := append([]byte{0, 1}, varint(uint64(unpadded))...)
	index = pad(append(index, varint(uint64(len(content)))...))
	index = append(index, crc(index)...)
	footer := append(le.AppendUint32(nil, uint32(len(index)/4-1)), flags...)
	out = append(append(out, block...), index...)
	out = append(append(out, crc(footer)...), footer...)
	return append(out, 'Y', 'Z')
}

// hostCommands are what the base packages have here, taken from the machine that
// the tests run on.
var hostCommands = map[string][]string{
	"bash": {"bash"}, "dash": {"dash"},
	"coreutils": {"cat", "ls", "id", "env", "true", "false", "sleep", "touch", "mkdir", "tty", "stty", "pwd", "echo", "head", "wc", "test", "kill", "rm", "readlink", "setsid", "cp", "basename"},
	"tar":       {"tar"}, "gzip": {"gzip"},
	"grep": {"grep"}, "sed": {"sed"},
}

// PutHostBase publishes the packages that every root holds, with commands and
// libraries of this very machine. It reports false where they cannot be had so.
func (a *Archive) PutHostBase(names []string) bool {
	bases.Lock()
	defer bases.Unlock()
	key := strings.Join(names, " ")
	if _, ok := bases.of[key]; !ok {
		bases.of[key] = hostBase(names)
	}
	a.Put(bases.of[key]...)
	return len(bases.of[key]) > 0
}

// bases are the packages that were taken from this machine, by their names: each is packed once
// for all archives of a process.
var bases = struct {
	sync.Mutex
	of map[string][]Deb
}{of: map[string][]Deb{}}

// hostBase takes the packages from this machine; nil where they cannot be had so.
func hostBase(names []string) (out []Deb) {
	libraries := map[string]string{} // path → content
	for _, name := range names {
		d := Deb{Name: name, Version: "1.0-1", Packed: "gz", Files: []File{{Name: "./usr/share/doc/" + name + "/copyright", Content: "free\n"}}}
		for _, command := range hostCommands[name] {
			file, err := exec.LookPath(command)
			if err != nil {
				return nil
			}
			content, err := os.ReadFile(file)
			if err != nil || !collect(file, libraries) {
				return nil
			}
			d.Files = append(d.Files, File{Name: "./bin/" + command, Content: string(content), Mode: 0o755})
		}
		switch name {
		case "dash":
			d.Files = append(d.Files, File{Name: "./bin/sh", Link: "dash"})
		case "libc-bin":
			content, err := os.ReadFile("/sbin/ldconfig")
			if err != nil {
				return nil
			}
			d.Files = append(d.Files, File{Name: "./sbin/ldconfig", Content: string(content), Mode: 0o755}, File{Name: "./etc/ld.so.conf", Content: ldConf()})
		case "bash", "base-files":
			d.Fields = map[string]string{"Depends": "libc6 (>= 1.0)"}
		case "ca-certificates":
			d.Files = append(d.Files, File{Name: "./usr/share/ca-certificates/mozilla/weir.crt", Content: "-----BEGIN CERTIFICATE-----\nd2Vpcg==\n-----END CERTIFICATE-----\n"})
		}
		d.done = &packed{}
		out = append(out, d)
	}
	libc := Deb{Name: "libc6", Version: "2.0-1", Packed: "xz", done: &packed{}}
	for _, file := range slices.Sorted(maps.Keys(libraries)) {
		libc.Files = append(libc.Files, File{Name: "." + file, Content: libraries[file], Mode: 0o755})
	}
	if len(libraries) < 2 {
		return nil
	}
	return append(out, libc)
}

// libraryFolders are where the loader of this machine looks.
func libraryFolders() []string {
	found, _ := filepath.Glob("/lib/*-linux-gnu")
	more, _ := filepath.Glob("/usr/lib/*-linux-gnu")
	return slices.Concat(found, more, []string{"/lib64", "/usr/lib64", "/lib", "/usr/lib"})
}

func ldConf() string {
	var b strings.Builder
	for _, dir := range libraryFolders() {
		b.WriteString(dir + "\n")
	}
	return b.String()
}

// collect gathers the libraries and the loader that a program needs.
func collect(file string, into map[string]string) bool {
	f, err := elf.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	if section := f.Section(".interp"); section != nil {
		raw, err := section.Data()
		if err != nil || !take(path.Clean(strings.TrimRight(string(raw), "\x00")), into) {
			return false
		}
	}
	needed, err := f.ImportedLibraries()
	if err != nil {
		return false
	}
	for _, library := range needed {
		found := false
		for _, dir := range libraryFolders() {
			full := dir + "/" + library
			if _, err := os.Stat(full); err == nil {
				found = true
				if _, seen := into[full]; !seen {
					found = take(full, into) && collect(full, into)
				}
				break
			}
		}
		if !found {
			return false
		}
	}
	return true
}

func take(file string, into map[string]string) bool {
	raw, err := os.ReadFile(file)
	if err == nil {
		into[file] = string(raw)
	}
	return err == nil
}
