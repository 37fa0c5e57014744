// Package authority makes certificates of this machine's own: for names below .localhost, and
// for what a person lends to a colleague.
//
// It is a certificate authority (RFC 5280) that may only vouch for localhost, names below it
// and private addresses (its name constraints, section 4.2.1.10, are critical): a browser that
// was told to trust it is told nothing about any public name. Its key lies in the person's own
// state and leaves it never; certificates last some weeks and are kept in memory only.
package authority

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
)

const (
	lasting = 10 * 365 * 24 * time.Hour // of the authority
	leafAge = 60 * 24 * time.Hour       // of what it makes
	soon    = 7 * 24 * time.Hour        // before its end a certificate is made anew
)

// private are the addresses that it may vouch for (RFC 1918, RFC 3927, RFC 4193, RFC 4291).
var private = []string{"127.0.0.0/8", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "::1/128", "fc00::/7", "fe80::/10"}

// Authority makes certificates. It may be used by several goroutines at once.
type Authority struct {
	File string // its own certificate, which other programs may be told to trust

	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	mu   sync.Mutex
	made map[string]*tls.Certificate
}

// File is where the certificate of a person's authority is, or will be.
func File(state string) string { return filepath.Join(state, "authority", "authority.pem") }

// Open reads the authority of a person, whose folder of state is named, and makes one where
// there is none.
// Errors: it cannot be read or written.
func Open(ctx context.Context, state string) (*Authority, error) {
	file := File(state)
	keyFile := filepath.Join(filepath.Dir(file), "key.pem")
	if err := disk.Private(filepath.Dir(file)); err != nil {
		return nil, err
	}
	unlock, err := disk.Lock(ctx, filepath.Join(filepath.Dir(file), "lock"))
	if err != nil {
		return nil, err
	}
	defer unlock()
	a, err := read(file, keyFile)
	switch {
	case err == nil && time.Now().Before(a.cert.NotAfter.Add(-leafAge)) && bounded(a.cert):
		return a, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, fault.New(fault.ErrFailed, "the authority of this machine cannot be read: %v", err).
			Advise("Remove %s, and a new one is made; whatever trusted the old one has to be told anew.", filepath.Dir(file))
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	name, err := os.Hostname()
	if err != nil {
		name = "this machine"
	}
	var ranges []*net.IPNet
	for _, text := range private {
		_, r, err := net.ParseCIDR(text)
		if err != nil {
			return nil, err
		}
		ranges = append(ranges, r)
	}
	own := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "Trammel on " + name, Organization: []string{"Trammel"}},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasting),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
		// Names of other kinds are bounded by ones that nobody has: a kind that is not named at all would be
		// vouched for without bounds (RFC 5280, section 4.2.1.10). And it vouches for servers alone.
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: []string{"localhost"}, PermittedIPRanges: ranges,
		PermittedEmailAddresses: []string{".localhost"}, PermittedURIDomains: []string{"localhost"}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, own, own, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	// The key first: a certificate without one would be of no use.
	if err := disk.Write(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600); err != nil {
		return nil, err
	}
	if err := disk.Write(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644); err != nil {
		return nil, err
	}
	return read(file, keyFile)
}

// bounded tells whether a certificate bounds all that one of now does: earlier versions left kinds of names
// and uses open, and whoever trusted theirs is to trust this one instead.
func bounded(c *x509.Certificate) bool {
	return len(c.ExtKeyUsage) == 1 && c.ExtKeyUsage[0] == x509.ExtKeyUsageServerAuth && len(c.PermittedURIDomains) > 0 && len(c.PermittedEmailAddresses) > 0
}

func read(file, keyFile string) (*Authority, error) {
	var blocks [2][]byte
	for i, path := range []string{file, keyFile} {
		raw, err := disk.Read(path, 64<<10)
		if err != nil {
			return nil, err
		}
		block, _ := pem.Decode(raw)
		if block == nil {
			return nil, fmt.Errorf("%s is no PEM (RFC 7468)", path)
		}
		blocks[i] = block.Bytes
	}
	cert, err := x509.ParseCertificate(blocks[0])
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(blocks[1])
	if err != nil {
		return nil, err
	}
	own, ok := key.(*ecdsa.PrivateKey)
	if !ok || !own.PublicKey.Equal(cert.PublicKey) {
		return nil, fmt.Errorf("the key %s is not that of %s", keyFile, file)
	}
	return &Authority{File: file, cert: cert, key: own, made: map[string]*tls.Certificate{}}, nil
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // the system has no random numbers
	}
	return n
}

// Vouches tells whether the authority may vouch for a name or an address. For others a
// certificate is its own authority, and browsers say so.
func Vouches(name string) bool {
	if ip := net.ParseIP(name); ip != nil {
		return slices.ContainsFunc(private, func(text string) bool {
			_, r, err := net.ParseCIDR(text)
			return err == nil && r.Contains(ip)
		})
	}
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	return name == "localhost" || strings.HasSuffix(name, ".localhost")
}

// For is a certificate for names and addresses, the first of which it is called after. It is
// made once for all that ask for the same.
func (a *Authority) For(names ...string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	id := strings.Join(names, " ")
	if c := a.made[id]; c != nil && time.Now().Before(c.Leaf.NotAfter.Add(-soon)) {
		return c, nil
	}
	if len(a.made) > 1000 { // names that somebody makes up
		clear(a.made)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	// A common name that could be taken for a host would be held to the name constraints as one.
	leaf := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "made by Trammel for " + names[0], Organization: []string{"Trammel"}},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(leafAge),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	parent, signer, chain := a.cert, a.key, [][]byte{a.cert.Raw}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			leaf.IPAddresses = append(leaf.IPAddresses, ip)
		} else {
			leaf.DNSNames = append(leaf.DNSNames, name)
		}
		if !Vouches(name) {
			parent, signer, chain = leaf, key, nil
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf, parent, &key.PublicKey, signer)
	if err != nil {
		return nil, err
	}
	out := &tls.Certificate{Certificate: append([][]byte{der}, chain...), PrivateKey: key}
	if out.Leaf, err = x509.ParseCertificate(der); err != nil {
		return nil, err
	}
	a.made[id] = out
	return out, nil
}

// Fingerprint is the SHA-256 digest of a certificate, as browsers show it: "5B:E0:…".
func Fingerprint(c *tls.Certificate) string {
	sum := sha256.Sum256(c.Certificate[0])
	text := strings.ToUpper(hex.EncodeToString(sum[:]))
	var out []string
	for i := 0; i < len(text); i += 2 {
		out = append(out, text[i:i+2])
	}
	return strings.Join(out, ":")
}
