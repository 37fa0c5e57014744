package system

import (
	"crypto/sha1"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf16"

	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/stored/unpack"
)

// etc are the files that installing a system writes. Empty ones are places where a
// sealed view shows what this machine has.
var etc = map[string]string{
	"etc/passwd":        "root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/sh\n",
	"etc/group":         "root:x:0:\nnogroup:x:65534:\n",
	"etc/nsswitch.conf": "passwd: files\ngroup: files\nshadow: files\nhosts: files dns\nnetworks: files\nprotocols: files\nservices: files\nethers: files\nrpc: files\n",
	"etc/hosts":         "127.0.0.1 localhost\n::1 localhost\n",
	"etc/resolv.conf":   "",
	"etc/hostname":      "root\n",
	"etc/machine-id":    "00000000000000000000000000000001\n",
	"etc/timezone":      "Etc/UTC\n",
	"etc/locale.conf":   "LANG=C.UTF-8\n",
}

// etcLinks are links that installing a system makes.
var etcLinks = map[string]string{
	"etc/localtime": "../usr/share/zoneinfo/Etc/UTC",
	"etc/mtab":      "../proc/self/mounts",
}

// synthesise makes what the scripts of packages would have made.
func (b *builder) synthesise(files map[string]string) error {
	for _, name := range sorted(etc) {
		if err := b.Make(name, []byte(etc[name])); err != nil {
			return err
		}
	}
	for _, name := range sorted(etcLinks) {
		if err := b.Link(name, etcLinks[name]); err != nil {
			return err
		}
	}
	certificates, err := b.certificates()
	if err != nil {
		return err
	}
	if len(certificates) > 0 {
		if err := b.Make("etc/ssl/certs/ca-certificates.crt", certificates); err != nil {
			return err
		}
		if len(b.Below("usr/lib/jvm", "/bin/java")) > 0 {
			if err := b.Make("etc/ssl/certs/java/cacerts", keystore(certificates)); err != nil {
				return err
			}
		}
	}
	if err := b.alternatives(); err != nil {
		return err
	}
	if err := b.php(); err != nil {
		return err
	}
	// Until Debian 11 a script of dash made sh.
	if _, ok := b.Placed["usr/bin/sh"]; !ok && b.has("usr/bin/dash") {
		if err := b.Link("usr/bin/sh", "dash"); err != nil {
			return err
		}
	}
	for _, to := range sorted(files) {
		raw, err := b.Read(files[to])
		if err != nil {
			return fmt.Errorf("/%s is to be made: %w", to, err)
		}
		if err := b.Make(to, raw); err != nil {
			return err
		}
	}
	return nil
}

func sorted(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (b *builder) has(name string) bool {
	x, ok := b.Placed[name]
	return ok && x.Type != tree.EmptyDir
}

// alternative is one offer of a package for a generic name (update-alternatives(1)).
type alternative struct {
	link, file string
	priority   int
	slaves     [][2]string // link, file
}

// alternatives links each generic name to the offer with the highest priority.
func (b *builder) alternatives() error {
	best := map[string]alternative{}
	for _, p := range b.pieces {
		for _, a := range parseAlternatives(p.control("postinst")) {
			if old, ok := best[a.link]; b.has(a.file) && (!ok || a.priority > old.priority) {
				best[a.link] = a
			}
		}
	}
	place := func(link, file string) error {
		if b.has(link) || !b.has(file) && !b.Dirs[file] {
			return nil
		}
		return b.Link(link, strings.Repeat("../", strings.Count(link, "/"))+file)
	}
	links := make([]string, 0, len(best))
	for link := range best {
		links = append(links, link)
	}
	slices.Sort(links)
	for _, link := range links {
		a := best[link]
		if err := place(a.link, a.file); err != nil {
			return err
		}
		for _, s := range a.slaves {
			if err := place(s[0], s[1]); err != nil {
				return err
			}
		}
	}
	return nil
}

func alternativeOf(words []string) (a alternative, ok bool) {
	place := func(name string) string { return unpack.Merge(strings.TrimPrefix(path.Clean(name), "/")) }
	for i := 0; i < len(words); i++ {
		switch words[i] {
		case "--install":
			if i+4 >= len(words) || words[i+1] == "" || words[i+3] == "" {
				return a, false
			}
			a.link, a.file = place(words[i+1]), place(words[i+3])
			if _, err := fmt.Sscan(words[i+4], &a.priority); err != nil {
				return a, false
			}
			ok, i = true, i+4
		case "--slave":
			if i+3 < len(words) && words[i+1] != "" && words[i+3] != "" {
				a.slaves = append(a.slaves, [2]string{place(words[i+1]), place(words[i+3])})
			}
			i += 3
		}
	}
	return a, ok
}

// priorityLine is what an extension's settings say of the order in which they are read.
var priorityLine = lazy.Regexp(`(?m)^;\s*priority=(\d+)`)

// php enables the extensions that packages of PHP bring, as phpenmod(8) does when they are
// configured: the settings of each are in mods-available, and a link with their priority in
// conf.d of each way to run PHP that is there.
func (b *builder) php() error {
	own := b.Below("etc/php", ".ini") // of packages that bring their settings where others have them put
	for _, name := range append(b.Below("usr/share", ".ini"), own...) {
		if words := strings.Split(name, "/"); len(words) == 5 && words[3] == "mods-available" && words[0] == "etc" { // etc/php/8.4/mods-available/xdebug.ini
			if err := b.phpLinks(name, words[2], words[4]); err != nil {
				return err
			}
			continue
		}
		words := strings.Split(name, "/") // usr/share/php8.4-xml/xml/dom.ini
		if len(words) != 5 {
			continue
		}
		v, _, ok := strings.Cut(strings.TrimPrefix(words[2], "php"), "-")
		if !ok || !strings.HasPrefix(words[2], "php") || strings.Trim(v, "0123456789.") != "" || v == "" {
			continue
		}
		raw, err := b.Read(name)
		if err != nil {
			return err
		}
		settings := "etc/php/" + v + "/mods-available/" + words[4]
		if !b.has(settings) {
			if err := b.Make(settings, raw); err != nil {
				return err
			}
		}
		if err := b.phpLinks(name, v, words[4]); err != nil {
			return err
		}
	}
	return nil
}

// phpLinks switches the extension on whose settings a file has, for each way to run a version of PHP.
func (b *builder) phpLinks(name, v, settings string) error {
	raw, err := b.Read(name)
	if err != nil {
		return err
	}
	priority := "20"
	if m := priorityLine().FindSubmatch(raw); m != nil {
		priority = string(m[1])
	}
	for way, program := range map[string]string{"cli": "usr/bin/php" + v, "cgi": "usr/bin/php-cgi" + v, "fpm": "usr/sbin/php-fpm" + v} {
		link := "etc/php/" + v + "/" + way + "/conf.d/" + priority + "-" + settings
		if !b.has(program) || b.has(link) {
			continue
		}
		if err := b.Link(link, "../../mods-available/"+settings); err != nil {
			return err
		}
	}
	return nil
}

// keystore is a Java keystore with trusted certificates, under the password that
// every JVM tries: version 2 of the format that the class documentation of
// java.security.KeyStore calls JKS, in the layout of its reference implementation.
func keystore(certificates []byte) []byte {
	const password = "changeit"
	var entries [][]byte
	for rest := certificates; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		alias := fmt.Sprintf("ca-%03d", len(entries)+1)
		var e []byte
		e = binary.BigEndian.AppendUint32(e, 2) // a trusted certificate
		e = binary.BigEndian.AppendUint16(e, uint16(len(alias)))
		e = append(e, alias...)
		e = binary.BigEndian.AppendUint64(e, 0) // when it was added
		e = binary.BigEndian.AppendUint16(e, 5)
		e = append(e, "X.509"...)
		e = binary.BigEndian.AppendUint32(e, uint32(len(block.Bytes)))
		entries = append(entries, append(e, block.Bytes...))
	}
	var store []byte
	store = binary.BigEndian.AppendUint32(store, 0xfeedfeed)
	store = binary.BigEndian.AppendUint32(store, 2)
	store = binary.BigEndian.AppendUint32(store, uint32(len(entries)))
	for _, e := range entries {
		store = append(store, e...)
	}
	sum := sha1.New()
	for _, unit := range utf16.Encode([]rune(password)) {
		sum.Write(binary.BigEndian.AppendUint16(nil, unit))
	}
	sum.Write([]byte("Mighty Aphrodite")) // the format's own salt
	sum.Write(store)
	return sum.Sum(store)
}
