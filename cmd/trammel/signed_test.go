package main

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/standin"
)

// maker is somebody who signs in one way.
type maker struct {
	key     string // for keys of the declaration, or "" where it goes into the keyring
	keyring string
	sign    func(message []byte) []byte
}

func must1[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// minisigner signs as minisign does: Ed25519 of the BLAKE2b-512 of the file.
func minisigner(id uint64) maker {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	must1(0, err)
	head := func(alg string) []byte { return binary.LittleEndian.AppendUint64([]byte(alg), id) }
	return maker{
		key: base64.StdEncoding.EncodeToString(append(head("Ed"), public...)),
		sign: func(message []byte) []byte {
			sum := blake2b.Sum512(message)
			sig := ed25519.Sign(private, sum[:])
			trusted := "timestamp:1 file:SHA256SUMS"
			global := ed25519.Sign(private, append(bytes.Clone(sig), trusted...))
			return fmt.Appendf(nil, "untrusted comment: signature\n%s\ntrusted comment: %s\n%s\n",
				base64.StdEncoding.EncodeToString(append(head("ED"), sig...)), trusted, base64.StdEncoding.EncodeToString(global))
		},
	}
}

func sshSigner() maker {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	must1(0, err)
	signer := must1(ssh.NewSignerFromKey(private))
	return maker{key: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), sign: func(m []byte) []byte { return must1(sshsig.Sign(m, "file", signer)) }}
}

func pgpSigner(armoured bool) maker {
	key := must1(openpgp.NewEntity("Weir", "", "makers@heronweir.example", nil))
	var ring bytes.Buffer
	w := must1(armor.Encode(&ring, openpgp.PublicKeyType, nil))
	must1(0, key.Serialize(w))
	w.Close()
	return maker{keyring: ring.String() + "\n", sign: func(m []byte) []byte {
		var out bytes.Buffer
		if armoured {
			must1(0, openpgp.ArmoredDetachSign(&out, key, bytes.NewReader(m), nil))
		} else {
			must1(0, openpgp.DetachSign(&out, key, bytes.NewReader(m), nil))
		}
		return out.Bytes()
	}}
}

// What makers sign is taken when one of the declared keys signed it, and not otherwise.
func TestListingsThatAreSigned(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	s := standin.New()
	defer s.Close()
	archive := standin.TarGz(standin.File{Name: "bin/sluice", Content: "#!/bin/sh\necho sluice 2.1\n", Mode: 0o755})
	sums := fmt.Appendf(nil, "%x  sluice.tar.gz\n", sha256.Sum256(archive))
	s.PutFile("list", []byte("2.1\n"))
	s.PutFile("2.1/sluice.tar.gz", archive)
	s.PutFile("2.1/SHA256SUMS", sums)
	declaration := func(more string) string {
		return fmt.Sprintf("format = 1\nproject = \"heronweir\"\n\n[source.sluice]\nkind = \"listing\"\nindex = %q\nversions = '(?m)^(\\S+)$'\narchive = %q\n%s\n\n[toolchain]\nsluice = \"2\"\n", s.Files()+"list", s.Files()+"@{version}/sluice.tar.gz", more)
	}
	for name, c := range map[string]struct{ good, other maker }{
		"minisign":            {minisigner(7), minisigner(7)},
		"minisign, other id":  {minisigner(7), minisigner(8)},
		"ssh":                 {sshSigner(), sshSigner()},
		"openpgp, armoured":   {pgpSigner(true), pgpSigner(true)},
		"openpgp":             {pgpSigner(false), pgpSigner(false)},
		"another kind of key": {sshSigner(), minisigner(9)},
	} {
		for _, of := range []string{"sums", "archive"} {
			message, stated := sums, fmt.Sprintf("sums = %q\n", s.Files()+"@{version}/SHA256SUMS")
			if of == "archive" {
				message, stated = archive, ""
			}
			keys := fmt.Sprintf("keys = [%q]", c.good.key)
			if c.good.keyring != "" {
				keys = `keyring = "keys/makers.asc"`
			}
			h := newHut(t, nil, declaration(stated+fmt.Sprintf("signature = %q\n", s.Files()+"@{version}/sig")+keys))
			if c.good.keyring != "" {
				h.write("keys/makers.asc", c.good.keyring)
			}
			for what, signature := range map[string][]byte{"another's": c.other.sign(message), "of something else": c.good.sign([]byte("other")), "nothing of the kind": []byte("<html>please log in</html>"), "an empty file": {}} {
				s.PutFile("2.1/sig", signature)
				o := h.try("lock")
				if o.code != 5 || !strings.Contains(o.err, "not to be trusted") || !strings.Contains(o.err, "Nothing of it was used") {
					t.Errorf("%s, %s, %s: %d %s", name, of, what, o.code, o.err)
				}
			}
			s.PutFile("2.1/sig", c.good.sign(message))
			h.ok("lock")
			if out := h.ok("approve", "--json"); !strings.Contains(out, "signature "+s.Files()) {
				t.Error("who signs is not on the list of effects")
			}
			h.fitted()
			if out := h.ok("run", "--", "sluice"); out != "sluice 2.1\n" {
				t.Errorf("%s: %q", name, out)
			}
		}
	}
	// Faults of the declaration.
	for more, words := range map[string]string{
		fmt.Sprintf("signature = %q", s.Files()+"sig"): "nobody is named who may sign",
		`keys = ["RWQ"]`: "has keys and no signature",
		fmt.Sprintf("signature = %q\nkeys = [\"nonsense\"]", s.Files()+"2.1/sig"):     "is no key of SSH or minisign",
		fmt.Sprintf("signature = %q\nkeyring = \"gone.asc\"", s.Files()+"2.1/sig"):    "there are no keys in",
		fmt.Sprintf("signature = %q\nkeys = [%q]", s.Files()+"gone", sshSigner().key): "has no signature at",
	} {
		h := newHut(t, nil, declaration(more))
		if o := h.try("lock"); o.code == 0 || !strings.Contains(o.err, words) {
			t.Errorf("%s: %d %s", more, o.code, o.err)
		}
	}
}
