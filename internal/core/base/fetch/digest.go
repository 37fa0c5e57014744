package fetch

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
)

// A digest is written "algorithm:hex" ("sha256:…", "sha512:…"), or "h1:…" as Go
// modules have it. An h1 digest is of the files in a module zip and not of its
// bytes, so it is checked where the zip is unpacked.

// Digest is what an archive must have, as a source or a lock says it. It is a type of its
// own, so that it is not taken for a tree's digest, which is of what was unpacked.
type Digest string

// Cut is the digest's algorithm and its value.
func (d Digest) Cut() (algorithm, value string) {
	algorithm, value, _ = strings.Cut(string(d), ":")
	return algorithm, value
}

// Hasher gives the hash of a digest of bytes; ok is false for the digests that
// are not of bytes.
func (d Digest) Hasher() (h hash.Hash, ok bool) {
	switch algorithm, _ := d.Cut(); algorithm {
	case "sha1":
		return sha1.New(), true
	case "sha256":
		return sha256.New(), true
	case "sha512":
		return sha512.New(), true
	}
	return nil, false
}

// Check says what is wrong with the form of a digest.
func (d Digest) Check() error {
	algorithm, value := d.Cut()
	sizes := map[string]int{"sha1": 20, "sha256": 32, "sha512": 64}
	if size, ok := sizes[algorithm]; ok {
		if raw, err := hex.DecodeString(value); err != nil || len(raw) != size {
			return fmt.Errorf("%q is not a %s digest", string(d), algorithm)
		}
		return nil
	}
	if algorithm == "h1" {
		if raw, err := base64.StdEncoding.DecodeString(value); err != nil || len(raw) != 32 {
			return fmt.Errorf("%q is not an h1 digest", string(d))
		}
		return nil
	}
	return fmt.Errorf("%q is a digest of no known kind", string(d))
}

// FromIntegrity turns a Subresource Integrity value ("sha512-BASE64 …", W3C SRI
// section 3.5) into a digest, taking the strongest.
func FromIntegrity(value string) (Digest, error) {
	for _, algorithm := range []string{"sha512", "sha256", "sha1"} {
		for field := range strings.FieldsSeq(value) {
			encoded, ok := strings.CutPrefix(field, algorithm+"-")
			if !ok {
				continue
			}
			encoded, _, _ = strings.Cut(encoded, "?")
			raw, err := base64.StdEncoding.DecodeString(encoded)
			if err != nil {
				return "", fmt.Errorf("the integrity %q is not base64", field)
			}
			digest := Digest(algorithm + ":" + hex.EncodeToString(raw))
			return digest, digest.Check()
		}
	}
	return "", fmt.Errorf("the integrity %q has no known digest", value)
}
