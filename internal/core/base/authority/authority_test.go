package authority

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"net/url"
	"os"
	"os/exec"
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

// Other kinds of names and other uses are vouched for no more than names of hosts: by Go's rules, and by
// openssl's.
func TestNoOtherKindOfNameIsVouchedFor(t *testing.T) {
	a, err := Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	foreign, _ := url.Parse("http://weir.example/")
	for name, c := range map[string]struct {
		leaf x509.Certificate
		use  x509.ExtKeyUsage
		good bool
	}{
		"a host":          {x509.Certificate{DNSNames: []string{"lane.localhost"}}, x509.ExtKeyUsageServerAuth, true},
		"e-mail":          {x509.Certificate{EmailAddresses: []string{"a@weir.example"}}, x509.ExtKeyUsageServerAuth, false},
		"e-mail for mail": {x509.Certificate{EmailAddresses: []string{"a@weir.example"}}, x509.ExtKeyUsageEmailProtection, false},
		"a URI":           {x509.Certificate{URIs: []*url.URL{foreign}}, x509.ExtKeyUsageServerAuth, false},
		"a client":        {x509.Certificate{DNSNames: []string{"lane.localhost"}}, x509.ExtKeyUsageClientAuth, false},
		"a program":       {x509.Certificate{DNSNames: []string{"lane.localhost"}}, x509.ExtKeyUsageCodeSigning, false},
	} {
		leaf := c.leaf
		leaf.SerialNumber, leaf.NotBefore, leaf.NotAfter, leaf.ExtKeyUsage = serial(), time.Now().Add(-time.Hour), time.Now().Add(time.Hour), []x509.ExtKeyUsage{c.use}
		der, err := x509.CreateCertificate(rand.Reader, &leaf, a.cert, &a.key.PublicKey, a.key)
		if err != nil {
			t.Fatal(err)
		}
		forged, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := forged.Verify(x509.VerifyOptions{Roots: trusted(t, a), KeyUsages: []x509.ExtKeyUsage{c.use}}); (err == nil) != c.good {
			t.Errorf("%s: %v", name, err)
		}
		openssl, err := exec.LookPath("openssl")
		if err != nil {
			continue
		}
		file := filepath.Join(t.TempDir(), "leaf.pem")
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
			t.Fatal(err)
		}
		purpose := map[x509.ExtKeyUsage]string{x509.ExtKeyUsageServerAuth: "sslserver", x509.ExtKeyUsageEmailProtection: "smimesign", x509.ExtKeyUsageClientAuth: "sslclient", x509.ExtKeyUsageCodeSigning: "any"}[c.use]
		if purpose == "any" {
			continue
		}
		if out, err := exec.Command(openssl, "verify", "-purpose", purpose, "-CAfile", a.File, file).CombinedOutput(); (err == nil) != c.good {
			t.Errorf("openssl: %s: %v %s", name, err, out)
		}
	}
	// One of an earlier version, which left that open, makes room.
	if !bounded(a.cert) || bounded(&x509.Certificate{ExtKeyUsage: a.cert.ExtKeyUsage}) || bounded(&x509.Certificate{PermittedURIDomains: []string{"localhost"}, PermittedEmailAddresses: []string{"x"}}) {
		t.Error("which certificates are bounded is told wrongly")
	}
}
