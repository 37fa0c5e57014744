package authority

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

func trusted(t *testing.T, a *Authority) *x509.CertPool {
	t.Helper()
	pool := x509.NewCertPool()
	raw, err := os.ReadFile(a.File)
	if err != nil || !pool.AppendCertsFromPEM(raw) {
		t.Fatal(err)
	}
	return pool
}

func TestOnlyNamesOfThisMachineAreVouchedFor(t *testing.T) {
	a, err := Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for name, good := range map[string]bool{
		"board.heronweir.localhost": true, "localhost": true, "127.0.0.1": true, "192.168.4.7": true, "10.1.2.3": true, "fd00::7": true,
		"heronweir.example": false, "notlocalhost": false, "localhost.heronweir.example": false, "203.0.113.9": false, "2001:db8::1": false,
	} {
		if Vouches(name) != good {
			t.Errorf("Vouches(%s) is %v", name, !good)
		}
		c, err := a.For(name)
		if err != nil {
			t.Fatal(err)
		}
		_, err = c.Leaf.Verify(x509.VerifyOptions{Roots: trusted(t, a), DNSName: name})
		if (err == nil) != good {
			t.Errorf("%s is verified: %v", name, err)
		}
		if good {
			continue
		}
		// Not even with the authority's own key: the constraints are in what is trusted.
		leaf := &x509.Certificate{SerialNumber: serial(), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: c.Leaf.DNSNames, IPAddresses: c.Leaf.IPAddresses}
		der, err := x509.CreateCertificate(rand.Reader, leaf, a.cert, &a.key.PublicKey, a.key)
		if err != nil {
			t.Fatal(err)
		}
		forged, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := forged.Verify(x509.VerifyOptions{Roots: trusted(t, a), DNSName: name}); err == nil {
			t.Errorf("a certificate for %s that has the authority's signature is believed", name)
		}
	}
}

func TestThereIsOneAuthorityHoweverManyAskForItFirst(t *testing.T) {
	state := t.TempDir()
	var wait sync.WaitGroup
	files := make([][]byte, 8)
	for i := range files {
		wait.Go(func() {
			a, err := Open(context.Background(), state)
			if err != nil {
				t.Error(err)
				return
			}
			files[i] = a.cert.Raw
		})
	}
	wait.Wait()
	for _, f := range files[1:] {
		if string(f) != string(files[0]) {
			t.Fatal("two authorities were made")
		}
	}
	// A key that is not its own is said to be so, and replaced by nothing.
	if err := os.WriteFile(filepath.Join(state, "authority", "key.pem"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(context.Background(), state); err == nil {
		t.Error("a broken key is taken")
	}
}
