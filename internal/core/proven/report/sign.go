package report

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/host"
)

// Namespace keeps a signature of a report from being taken for one of anything else
// (PROTOCOL.sshsig of OpenSSH, section 2).
const Namespace = "trammel-report"

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

func preimage(message []byte) []byte {
	sum := sha512.Sum512(message)
	return append([]byte(magic), ssh.Marshal(signed{Namespace, "", "sha512", sum[:]})...)
}

// Sign makes a detached, armoured signature of a report.
func Sign(message []byte, signer ssh.Signer) ([]byte, error) {
	var s *ssh.Signature
	var err error
	if by, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		s, err = by.SignWithAlgorithm(rand.Reader, preimage(message), ssh.KeyAlgoRSASHA512) // SHA-1 is not allowed
	} else {
		s, err = signer.Sign(rand.Reader, preimage(message))
	}
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	blob := append([]byte(magic), ssh.Marshal(envelope{1, signer.PublicKey().Marshal(), Namespace, "", "sha512", ssh.Marshal(s)})...)
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

// Check makes sure that a signature is of these bytes, and gives the key that made it.
func Check(message, armoured []byte) (ssh.PublicKey, error) {
	block, _ := pem.Decode(armoured)
	if block == nil || block.Type != "SSH SIGNATURE" {
		return nil, errors.New("it is no SSH signature")
	}
	rest, ok := bytes.CutPrefix(block.Bytes, []byte(magic))
	var e envelope
	if !ok || ssh.Unmarshal(rest, &e) != nil || e.Version != 1 {
		return nil, errors.New("it is no SSH signature of version 1")
	}
	if e.Namespace != Namespace {
		return nil, fmt.Errorf("it is a signature for %q, not for reports", e.Namespace)
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
	if err := key.Verify(preimage(message), &s); err != nil {
		return nil, errors.New("the signature is not of this report")
	}
	return key, nil
}

// Signer finds a key: a private key's file, or the file of a public one whose private
// part the running agent holds.
func Signer(path string, h host.Host) (signer ssh.Signer, done func(), err error) {
	done = func() {}
	raw, err := disk.Read(path, 1<<20)
	if err != nil {
		return nil, done, fault.New(fault.Use, "the key cannot be read: %v", err)
	}
	if key, _, _, _, err := ssh.ParseAuthorizedKey(raw); err == nil {
		return fromAgent(key, h)
	}
	signer, err = ssh.ParsePrivateKey(raw)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		if locked.PublicKey == nil {
			return nil, done, fault.New(fault.Use, "the key %s has a passphrase", path).Advise("Give it to your agent (ssh-add %s) and name its public part: --sign %s.pub", path, path)
		}
		return fromAgent(locked.PublicKey, h)
	case err != nil:
		return nil, done, fault.New(fault.Use, "%s is no key that can sign: %v", path, err)
	}
	return signer, done, nil
}

func fromAgent(key ssh.PublicKey, h host.Host) (ssh.Signer, func(), error) {
	done := func() {}
	socket := h.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, done, fault.New(fault.Use, "no agent runs that could sign with %s", ssh.FingerprintSHA256(key)).
			Advise("Start one (eval $(ssh-agent)), give it the key (ssh-add), or name the private key's file.")
	}
	conn, err := net.DialTimeout("unix", socket, 5*time.Second)
	if err != nil {
		return nil, done, fault.New(fault.Use, "the agent does not answer: %v", err)
	}
	done = func() { conn.Close() }
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		done()
		return nil, func() {}, fault.New(fault.Failed, "the agent lists no keys: %v", err)
	}
	for _, s := range signers {
		if bytes.Equal(s.PublicKey().Marshal(), key.Marshal()) {
			return s, done, nil
		}
	}
	done()
	return nil, func() {}, fault.New(fault.Use, "the agent does not have the key %s", ssh.FingerprintSHA256(key)).Advise("Give it the key: ssh-add")
}

// Signers are those whose signatures count, by an allowed_signers file (ssh-keygen(1),
// ALLOWED SIGNERS).
type Signers struct{ lines []allowed }

type allowed struct {
	names      string // a list of patterns
	key        []byte
	namespaces []string // empty: any
	from, to   time.Time
}

// ReadSigners reads an allowed_signers file.
func ReadSigners(path string) (*Signers, error) {
	raw, err := disk.Read(path, 1<<20)
	if err != nil {
		return nil, fault.New(fault.Use, "the signers cannot be read: %v", err)
	}
	s := &Signers{}
	for n, line := range strings.Split(string(raw), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, rest, ok := strings.Cut(line, " ")
		key, _, options, _, err := ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(rest)))
		if !ok || err != nil {
			return nil, fault.New(fault.Use, "%s:%d: it is no line of signers", path, n+1).Advise("Write: NAME KEYTYPE KEY, for example: hut-laptop ssh-ed25519 AAAA…")
		}
		a := allowed{names: strings.Trim(name, `"`), key: key.Marshal()}
		skip := false
		for _, o := range options {
			option, value, _ := strings.Cut(o, "=")
			value = strings.Trim(value, `"`)
			switch strings.ToLower(option) {
			case "namespaces":
				a.namespaces = strings.Split(value, ",")
			case "valid-after":
				a.from, err = signersTime(value)
			case "valid-before":
				a.to, err = signersTime(value)
			case "cert-authority": // certificates are not taken, so neither are who gives them
				skip = true
			default:
				err = fmt.Errorf("the option %q is not known", option)
			}
			if err != nil {
				return nil, fault.New(fault.Use, "%s:%d: %v", path, n+1, err)
			}
		}
		if !skip {
			s.lines = append(s.lines, a)
		}
	}
	return s, nil
}

func signersTime(text string) (time.Time, error) {
	for _, layout := range []string{"20060102Z", "20060102150405Z", "200601021504Z", "20060102", "20060102150405", "200601021504"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time", text)
}

// MaySpeak tells whether a key counts for a principal, here the name of a machine, at each of
// some times. When it does not, others are the lines under which the key is known at all.
func (s *Signers) MaySpeak(key ssh.PublicKey, principal string, at ...time.Time) (may bool, others []string) {
	for _, a := range s.lines {
		if !bytes.Equal(a.key, key.Marshal()) {
			continue
		}
		here := len(a.namespaces) == 0 || slices.ContainsFunc(a.namespaces, func(n string) bool { return matches(Namespace, n) })
		for _, t := range at {
			here = here && (a.from.IsZero() || !t.Before(a.from)) && (a.to.IsZero() || t.Before(a.to))
		}
		if here && inList(principal, a.names) {
			return true, nil
		}
		others = append(others, a.names)
	}
	return false, others
}

// inList tells whether a name is in a list of patterns (ssh_config(5), PATTERNS): one of them
// fits, and none that begins with ! does.
func inList(name, list string) bool {
	found := false
	for pattern := range strings.SplitSeq(list, ",") {
		pattern, not := strings.CutPrefix(strings.TrimSpace(pattern), "!")
		if matches(name, pattern) {
			if not {
				return false
			}
			found = true
		}
	}
	return found
}

// matches tells whether a pattern with * and ? is the whole of a name.
func matches(name, pattern string) bool {
	if pattern == "" {
		return name == ""
	}
	if pattern[0] == '*' {
		for rest := strings.TrimLeft(pattern, "*"); ; name = name[1:] {
			if matches(name, rest) {
				return true
			}
			if name == "" {
				return false
			}
		}
	}
	return name != "" && (pattern[0] == '?' || pattern[0] == name[0]) && matches(name[1:], pattern[1:])
}

func fingerprint(key ssh.PublicKey) string { return ssh.FingerprintSHA256(key) }
