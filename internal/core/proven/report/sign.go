package report

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/sshsig"
)

// Namespace keeps a signature of a report from being taken for one of anything else
// (PROTOCOL.sshsig of OpenSSH, section 2).
const Namespace = "trammel-report"

// Sign makes a detached, armoured signature of a report.
func Sign(message []byte, signer ssh.Signer) ([]byte, error) {
	return sshsig.Sign(message, Namespace, signer)
}

// Check makes sure that a signature is of these bytes, and gives the key that made it.
func Check(message, armoured []byte) (ssh.PublicKey, error) {
	return sshsig.Check(message, armoured, Namespace, "report")
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
		return nil, fault.New(fault.ErrUsage, "the signers cannot be read: %v", err)
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
			return nil, fault.New(fault.ErrUsage, "%s:%d: it is no line of signers", path, n+1).Advise("Write: NAME KEYTYPE KEY, for example: hut-laptop ssh-ed25519 AAAA…")
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
				return nil, fault.New(fault.ErrUsage, "%s:%d: %v", path, n+1, err)
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
