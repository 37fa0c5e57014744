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

// Hasher gives the hash of a digest of bytes; ok is false for the digests that
// are not of bytes.
func Hasher(digest string) (h hash.Hash, ok bool) {
	switch algorithm, _, _ := strings.Cut(digest, ":"); algorithm {
	case "sha1":
		return sha1.New(), true
	case "sha256":
		return sha256.New(), true
	case "sha512":
		return sha512.New(), true
	}
	return nil, false
}

// CheckDigest says what is wrong with the form of a digest.
func CheckDigest(digest string) error {
	algorithm, value, _ := strings.Cut(digest, ":")
	sizes := map[string]int{"sha1": 20, "sha256": 32, "sha512": 64}
	if size, ok := sizes[algorithm]; ok {
		if raw, err := hex.DecodeString(value); err != nil || len(raw) != size {
			return fmt.Errorf("%q is not a %s digest", digest, algorithm)
		}
		return nil
	}
	if algorithm == "h1" {
		if raw, err := base64.StdEncoding.DecodeString(value); err != nil || len(raw) != 32 {
			return fmt.Errorf("%q is not an h1 digest", digest)
		}
		return nil
	}
	return fmt.Errorf("%q is a digest of no known kind", digest)
}

// FromIntegrity turns a Subresource Integrity value ("sha512-BASE64 …", W3C SRI
// section 3.5) into a digest, taking the strongest.
func FromIntegrity(value string) (string, error) {
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
			digest := algorithm + ":" + hex.EncodeToString(raw)
			return digest, CheckDigest(digest)
		}
	}
	return "", fmt.Errorf("the integrity %q has no known digest", value)
}
