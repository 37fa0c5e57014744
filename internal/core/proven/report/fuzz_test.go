package report

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"app.example/trammel/internal/core/proven/proof"
)

func FuzzRead(f *testing.F) {
	for _, state := range []string{proof.OK, proof.Drift} {
		raw, err := Make(&proof.Report{Project: "heronweir", Platform: "linux/amd64", Lock: "sha256:aa", Environment: "sha256:bb",
			Rows:  []proof.Row{{Check: "store", State: state, Text: "x", Details: []proof.Detail{{Thing: "a", What: "changed"}}}},
			Parts: []proof.Part{{Label: "go", Item: "go", Version: "1.24.6", Tree: "blake3:cc", State: state, Differs: []string{"a changed"}}}},
			Facts{Machine: "hut-laptop", Made: time.Unix(1_770_000_000, 0), Variables: map[string]string{"A": "b"}, Host: map[string]string{"kernel": "6"}})
		if err != nil {
			f.Fatal(err)
		}
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := Read(raw)
		if err != nil {
			return
		}
		again, err := canonical(s)
		if err != nil || !bytes.Equal(bytes.TrimSpace(again), bytes.TrimSpace(raw)) {
			t.Errorf("what was read is written otherwise: %s, %v", again, err)
		}
		other := *s
		other.Predicate.Machine += "2"
		if _, err := Compare([]Loaded{{File: "a", Report: s}, {File: "b", Report: &other}}, "", false); err != nil {
			t.Errorf("it cannot be compared with itself: %v", err)
		}
	})
}

func FuzzSignature(f *testing.F) {
	f.Add([]byte("message"), []byte("-----BEGIN SSH SIGNATURE-----\nU1NIU0lHAAAAAQAAADMAAAALc3NoLWVkMjU1MTk=\n-----END SSH SIGNATURE-----\n"), "hut-laptop namespaces=\"trammel-report\",valid-after=\"20260101\" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ3YkeGmdBl7Yr8zkX8zkX8zkX8zkX8zkX8zkX8zkX8z\n")
	f.Add([]byte(""), []byte(""), "# nobody\n\nx cert-authority ssh-rsa AAAA\n")
	f.Fuzz(func(t *testing.T, message, armoured []byte, signers string) {
		if _, err := Check(message, armoured); err == nil {
			if _, err := Check(append(message, 'x'), armoured); err == nil {
				t.Error("a signature fits two messages")
			}
		}
		path := filepath.Join(t.TempDir(), "allowed_signers")
		os.WriteFile(path, []byte(signers), 0o600)
		_, _ = ReadSigners(path)
	})
}
