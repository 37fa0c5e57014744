// Package sshsig makes and checks detached signatures with SSH keys (PROTOCOL.sshsig of
// OpenSSH), which ssh-keygen -Y makes and checks too.
package sshsig

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
)

const magic = "SSHSIG"

// envelope is the blob of a signature (PROTOCOL.sshsig, section 1), after the magic.
type envelope struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	Hash      string
	Signature []byte
}

// signed is what is signed (PROTOCOL.sshsig, section 2), after the magic.
type signed struct {
	Namespace string
	Reserved  string
	Hash      string
	Digest    []byte
}

func preimage(message []byte, namespace string) []byte {
	sum := sha512.Sum512(message)
	return append([]byte(magic), ssh.Marshal(signed{namespace, "", "sha512", sum[:]})...)
}

// Sign makes a detached, armoured signature of a message. The namespace keeps it from being
// taken for one of anything else.
func Sign(message []byte, namespace string, signer ssh.Signer) ([]byte, error) {
	var s *ssh.Signature
	var err error
	if by, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		s, err = by.SignWithAlgorithm(rand.Reader, preimage(message, namespace), ssh.KeyAlgoRSASHA512) // SHA-1 is not allowed
	} else {
		s, err = signer.Sign(rand.Reader, preimage(message, namespace))
	}
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	blob := append([]byte(magic), ssh.Marshal(envelope{1, signer.PublicKey().Marshal(), namespace, "", "sha512", ssh.Marshal(s)})...)
	text := base64.StdEncoding.EncodeToString(blob)
	var b bytes.Buffer
	b.WriteString("-----BEGIN SSH SIGNATURE-----\n")
	for len(text) > 70 {
		b.WriteString(text[:70] + "\n")
		text = text[70:]
	}
	b.WriteString(text + "\n-----END SSH SIGNATURE-----\n")
	return b.Bytes(), nil
}

// Check makes sure that a signature is of these bytes in this namespace, and gives the key
// that made it. what is the word for the message: "report".
func Check(message, armoured []byte, namespace, what string) (ssh.PublicKey, error) {
	block, _ := pem.Decode(armoured)
	if block == nil || block.Type != "SSH SIGNATURE" {
		return nil, errors.New("it is no SSH signature")
	}
	rest, ok := bytes.CutPrefix(block.Bytes, []byte(magic))
	var e envelope
	if !ok || ssh.Unmarshal(rest, &e) != nil || e.Version != 1 {
		return nil, errors.New("it is no SSH signature of version 1")
	}
	if e.Namespace != namespace {
		return nil, fmt.Errorf("it is a signature for %q, not for a %s", e.Namespace, what)
	}
	if e.Hash != "sha512" {
		return nil, fmt.Errorf("its hash %q is not taken", e.Hash)
	}
	key, err := ssh.ParsePublicKey(e.PublicKey)
	if err != nil {
		return nil, fmt.Errorf("its key cannot be read: %w", err)
	}
	var s ssh.Signature
	if err := ssh.Unmarshal(e.Signature, &s); err != nil {
		return nil, errors.New("its signature cannot be read")
	}
	if s.Format == ssh.KeyAlgoRSA {
		return nil, errors.New("it is signed by way of SHA-1")
	}
	if err := key.Verify(preimage(message, namespace), &s); err != nil {
		return nil, fmt.Errorf("the signature is not of this %s", what)
	}
	return key, nil
}

// Signer finds a key: a private key's file, or the file of a public one whose private
// part the running agent holds.
func Signer(path string, h host.Host) (signer ssh.Signer, done func(), err error) {
	done = func() {}
	raw, err := disk.Read(path, 1<<20)
	if err != nil {
		return nil, done, fault.New(fault.ErrUsage, "the key cannot be read: %v", err)
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey(raw); err == nil {
		return fromAgent(key, h)
	}
	signer, err = ssh.ParsePrivateKey(raw)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		if locked.PublicKey == nil {
			return nil, done, fault.New(fault.ErrUsage, "the key %s has a passphrase", path).Advise("Give it to your agent (ssh-add %s) and name its public part: --sign %s.pub", path, path)
		}
		return fromAgent(locked.PublicKey, h)
	case err != nil:
		return nil, done, fault.New(fault.ErrUsage, "%s is no key that can sign: %v", path, err)
	}
	return signer, done, nil
}

func fromAgent(key ssh.PublicKey, h host.Host) (ssh.Signer, func(), error) {
	done := func() {}
	socket := h.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, done, fault.New(fault.ErrUsage, "no agent runs that could sign with %s", ssh.FingerprintSHA256(key)).
			Advise("Start one (eval $(ssh-agent)), give it the key (ssh-add), or name the private key's file.")
	}
	conn, err := net.DialTimeout("unix", socket, 5*time.Second)
	if err != nil {
		return nil, done, fault.New(fault.ErrUsage, "the agent does not answer: %v", err)
	}
	done = func() { conn.Close() }
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		done()
		return nil, func() {}, fault.New(fault.ErrFailed, "the agent lists no keys: %v", err)
	}
	for _, s := range signers {
		if bytes.Equal(s.PublicKey().Marshal(), key.Marshal()) {
			return s, done, nil
		}
	}
	done()
	return nil, func() {}, fault.New(fault.ErrUsage, "the agent does not have the key %s", ssh.FingerprintSHA256(key)).Advise("Give it the key: ssh-add")
}

// Line is a key as a line of authorized_keys.
func Line(key ssh.PublicKey) []byte { return ssh.MarshalAuthorizedKey(key) }
