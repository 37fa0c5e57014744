package source

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/jedisct1/go-minisign"
	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/sshsig"
)

// signers are the keys that may sign what a listing vouches with.
type signers struct {
	minisign []minisign.PublicKey
	ssh      []ssh.PublicKey
	openpgp  openpgp.EntityList
}

// readSigners reads keys as the declaration has them: lines of minisign and SSH, and a file of
// OpenPGP keys.
func readSigners(name string, lines []string, keyring string) (s signers, err error) {
	for _, line := range lines {
		if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil {
			s.ssh = append(s.ssh, key)
			continue
		}
		key, err := minisign.NewPublicKey(strings.TrimSpace(line))
		if err != nil {
			return s, fault.New(fault.ErrUsage, "keys of the source %q: %.40q is no key of SSH or minisign", name, line).
				Advise("Write it as it stands in a .pub file: ssh-ed25519 AAAA…, or RW… of minisign. OpenPGP keys go into a file: keyring = \"keys/makers.asc\"")
		}
		s.minisign = append(s.minisign, key)
	}
	if keyring == "" {
		return s, nil
	}
	ring, err := debian.ReadKeyring([]string{keyring})
	if err == nil && len(ring.Keys) == 0 {
		err = fmt.Errorf("there are no keys in %s", keyring)
	}
	if err != nil {
		return s, fault.New(fault.ErrUsage, "the keyring of the source %q: %v", name, err)
	}
	s.openpgp = ring.Keys
	return s, nil
}

// check makes sure that one of the keys signed a message: a signature of minisign (its format
// "minisign, signature format"), of SSH (PROTOCOL.sshsig, namespace "file") or a detached one of
// OpenPGP (RFC 9580, 10.4), armoured or not.
func (s signers) check(message, signature []byte) error {
	text := string(signature)
	switch {
	case strings.HasPrefix(text, "untrusted comment:"):
		sig, err := minisign.DecodeSignature(text)
		if err != nil {
			return fmt.Errorf("its minisign signature cannot be read: %w", err)
		}
		for _, key := range s.minisign {
			if key.KeyId != sig.KeyId {
				continue
			}
			if ok, err := key.Verify(message, sig); err != nil || !ok {
				return fmt.Errorf("the signature does not hold: %v", err)
			}
			return nil
		}
		return fmt.Errorf("it is signed by the minisign key %X, which the declaration does not name", reversed(sig.KeyId))
	case strings.Contains(text, "-----BEGIN SSH SIGNATURE-----"):
		key, err := sshsig.Check(message, signature, "file", "file")
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(s.ssh, func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) }) {
			return fmt.Errorf("it is signed by %s, which the declaration does not name", ssh.FingerprintSHA256(key))
		}
		return nil
	}
	if len(s.openpgp) == 0 {
		return fmt.Errorf("it is signed in another way than by the keys that the declaration names")
	}
	config := &packet.Config{Time: time.Now}
	var err error
	if strings.Contains(text, "-----BEGIN PGP SIGNATURE-----") {
		_, err = openpgp.CheckArmoredDetachedSignature(s.openpgp, bytes.NewReader(message), bytes.NewReader(signature), config)
	} else {
		_, err = openpgp.CheckDetachedSignature(s.openpgp, bytes.NewReader(message), bytes.NewReader(signature), config)
	}
	if err != nil {
		return fmt.Errorf("its OpenPGP signature does not hold: %w", err)
	}
	return nil
}

// reversed is a key id as minisign prints it.
func reversed(id [8]byte) []byte {
	out := slices.Clone(id[:])
	slices.Reverse(out)
	return out
}

// signed makes sure that what a listing vouches with is signed, where keys are declared. file
// says what it is, in words.
func (l *Listing) signed(ctx context.Context, message []byte, v string, p platform.Platform, file string) error {
	if l.Signature == "" {
		return nil
	}
	keyring := l.Keyring
	if keyring != "" && !filepath.IsAbs(keyring) {
		keyring = filepath.Join(l.project, keyring)
	}
	keys, err := readSigners(l.name, l.keys, keyring)
	if err != nil {
		return err
	}
	where := l.filled(l.Signature, v, p)
	signature, err := l.client.Document(ctx, l.at(where), "", func([]byte) error { return nil })
	if fetch.NotFound(err) {
		return fault.New(fault.ErrSource, "the source %q has no signature at %s", l.name, l.at(where)).
			Advise("Nothing of %s was used. Look at signature under [source.%s].", file, l.name)
	}
	if err != nil {
		return err
	}
	if err := keys.check(message, signature); err != nil {
		return fault.New(fault.ErrSource, "%s of the source %q is not to be trusted: %v", file, l.name, err).
			Advise("Nothing of it was used. If its makers have a new key, and that is right, name it under [source.%s].", l.name)
	}
	return nil
}

// signedArchive is signed of an archive that was fetched.
func (l *Listing) signedArchive(ctx context.Context, archive, v string, p platform.Platform, file string) error {
	if l.Signature == "" {
		return nil
	}
	raw, err := disk.Read(archive, mostSigned)
	if err != nil {
		return fault.New(fault.ErrSource, "the signature of %s cannot be checked: %s", file, disk.InWords(err))
	}
	if err := l.signed(ctx, raw, v, p, file); err != nil {
		_ = os.Remove(archive)
		return err
	}
	return nil
}

// mostSigned is how large an archive may be whose own signature is checked, in bytes.
const mostSigned = 1 << 30
