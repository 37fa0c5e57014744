package debian

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"app.example/trammel/internal/core/base/disk"
)

// Release is a suite's InRelease file, whose signature holds.
type Release struct {
	Suite      string          `json:"suite"`
	Codename   string          `json:"codename"`
	Date       time.Time       `json:"date"`
	ValidUntil time.Time       `json:"valid-until"` // zero: without end
	ByHash     bool            `json:"by-hash"`
	Files      map[string]File `json:"files"` // path below the suite → size and digest
}

// File is a file that a release vouches for.
type File struct {
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"` // hex
}

// Indexes is the release with no file but the indexes of packages that run somewhere.
func (r *Release) Indexes() *Release {
	out := *r
	out.Files = map[string]File{}
	for name, f := range r.Files {
		if strings.Contains(name, "/binary-") && strings.HasPrefix(path.Base(name), "Packages") {
			out.Files[name] = f
		}
	}
	return &out
}

// Keyring is a set of OpenPGP keys, and where they were read from.
type Keyring struct {
	Keys  openpgp.EntityList
	Files []string
}

// ReadKeyring reads keys from files, armoured or not. Files that are not there are
// passed over; one that holds no key is an error.
func ReadKeyring(files []string) (*Keyring, error) {
	k := &Keyring{}
	for _, file := range files {
		raw, err := disk.Read(file, disk.MostState)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		keys, err := readKeys(raw)
		if err != nil {
			return nil, fmt.Errorf("%s holds no OpenPGP keys: %w", file, err)
		}
		k.Keys = append(k.Keys, keys...)
		k.Files = append(k.Files, filepath.Base(file))
	}
	return k, nil
}

func readKeys(raw []byte) (openpgp.EntityList, error) {
	if bytes.HasPrefix(bytes.TrimSpace(raw), []byte("-----BEGIN")) {
		// A file may have several keys, a block each.
		var all openpgp.EntityList
		for from := bufio.NewReader(bytes.NewReader(raw)); ; {
			block, err := armor.Decode(from)
			if errors.Is(err, io.EOF) && len(all) > 0 {
				return all, nil
			}
			if err != nil {
				return nil, err
			}
			keys, err := openpgp.ReadKeyRing(block.Body)
			if err != nil {
				return nil, err
			}
			all = append(all, keys...)
		}
	}
	return openpgp.ReadKeyRing(bytes.NewReader(raw))
}

// ReadRelease checks the signature of an InRelease file (OpenPGP, RFC 9580, 7:
// cleartext signatures) against a keyring and reads it. One good signature of the
// several that a file may have is enough.
func ReadRelease(raw []byte, keys *Keyring, now time.Time) (*Release, error) {
	block, err := signedBlock(raw)
	if err != nil {
		return nil, err
	}
	signatures, err := io.ReadAll(block.ArmoredSignature.Body)
	if err != nil {
		return nil, fmt.Errorf("its signature is damaged: %w", err)
	}
	if err := verify(block.Bytes, signatures, keys, now); err != nil {
		return nil, err
	}
	return parseRelease(block.Plaintext)
}

func signedBlock(raw []byte) (*clearsign.Block, error) {
	block, rest := clearsign.Decode(raw)
	if block == nil {
		return nil, errors.New("it is not signed")
	}
	if !bytes.HasPrefix(bytes.TrimSpace(raw), []byte("-----BEGIN PGP SIGNED MESSAGE-----")) {
		return nil, errors.New("something that is not signed comes before it")
	}
	if len(bytes.TrimSpace(rest)) > 0 {
		return nil, errors.New("something that is not signed follows it")
	}
	return block, nil
}

// verify checks signatures one by one: a file is signed with several keys, of
// which a keyring may know only some.
func verify(signed, signatures []byte, keys *Keyring, now time.Time) error {
	packets := packet.NewReader(bytes.NewReader(signatures))
	last := errors.New("its signature is damaged")
	for {
		p, err := packets.Next()
		if err != nil {
			return last
		}
		signature, ok := p.(*packet.Signature)
		if !ok {
			continue
		}
		var one bytes.Buffer
		if err := signature.Serialize(&one); err != nil {
			last = err
			continue
		}
		_, err = openpgp.CheckDetachedSignature(keys.Keys, bytes.NewReader(signed), &one, &packet.Config{Time: func() time.Time { return now }})
		if err == nil {
			return nil
		}
		if last = err; signature.IssuerKeyId != nil {
			last = fmt.Errorf("its signature by the key %016X does not hold: %w", *signature.IssuerKeyId, err)
		}
	}
}

func parseRelease(text []byte) (*Release, error) {
	r := &Release{Files: map[string]File{}}
	count := 0
	wanted := map[string]bool{"Suite": true, "Codename": true, "Acquire-By-Hash": true, "Date": true, "Valid-Until": true, "SHA256": true}
	err := Paragraphs(bytes.NewReader(text), wanted, func(fields map[string]string) (err error) {
		count++
		r.Suite, r.Codename, r.ByHash = fields["Suite"], fields["Codename"], strings.EqualFold(fields["Acquire-By-Hash"], "yes")
		if r.Date, err = releaseDate(fields["Date"]); err != nil {
			return err
		}
		if until := fields["Valid-Until"]; until != "" {
			if r.ValidUntil, err = releaseDate(until); err != nil {
				return err
			}
		}
		for line := range strings.Lines(fields["SHA256"]) {
			words := strings.Fields(line)
			if len(words) != 3 {
				continue
			}
			size, err := strconv.ParseInt(words[1], 10, 64)
			if err != nil || size < 0 || len(words[0]) != 64 {
				return fmt.Errorf("it has the line %q, which is no file", strings.TrimSpace(line))
			}
			r.Files[words[2]] = File{size, strings.ToLower(words[0])}
		}
		return nil
	})
	switch {
	case err != nil:
		return nil, err
	case count != 1:
		return nil, fmt.Errorf("it has %d paragraphs instead of one", count)
	case len(r.Files) == 0:
		return nil, errors.New("it vouches for no file by SHA-256")
	}
	return r, nil
}

func releaseDate(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC1123, "Mon, _2 Jan 2006 15:04:05 MST", time.RFC1123Z} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no date", text)
}

// Is tells whether the release is the suite of that name: "trixie", "stable",
// "trixie-updates" or, for suites such as "stable/updates", the last word.
func (r *Release) Is(suite string) bool {
	return suite == r.Suite || suite == r.Codename || strings.HasPrefix(suite, r.Codename+"/")
}
