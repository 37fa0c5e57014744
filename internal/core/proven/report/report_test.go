package report

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/core/proven/proof"
)

func made(t *testing.T, machine string, change func(*proof.Report, *Facts)) []byte {
	t.Helper()
	r := &proof.Report{
		Project: "heronweir", Platform: "linux/amd64", Lock: "sha256:7f3a9c21aa", Environment: "sha256:5be091c4aa",
		Rows:  []proof.Row{{Check: "store", State: proof.OK}, {Check: "steps", State: proof.OK}},
		Parts: []proof.Part{{Label: "go", Item: "go", Version: "1.24.6", Tree: "blake3:aa", State: proof.OK}, {Label: "node", Item: "node", Version: "22.11.0", Tree: "blake3:bb", State: proof.OK}},
	}
	f := Facts{Machine: machine, Made: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC), Variables: map[string]string{"WEIR_UNITS": "fish-per-hour"}, Host: map[string]string{"libc": "glibc"}}
	if change != nil {
		change(r, &f)
	}
	raw, err := Make(r, f)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func TestAReportIsCanonicalAndHoldsNobodysSecrets(t *testing.T) {
	plant := func(r *proof.Report, f *Facts) {
		r.Rows[1] = proof.Row{Check: "steps", State: proof.NotChecked, Text: "token hush-hush in /home/ann/heronweir/db and /opt/elsewhere/x", Details: []proof.Detail{{Thing: "/home/ann/.cache/trammel/y", What: "ann did it"}}}
		r.Parts[1].Differs = []string{"lib/npm/package.json changed", "/home/ann/z changed"}
		f.Variables["TOKEN_FILE"] = "/home/ann/heronweir/.secrets/token"
		f.Hide = map[string]string{"hush-hush": "(secret)", "/home/ann/heronweir": "(project)", "ann": "(user)"}
	}
	raw := made(t, "hut-laptop", plant)
	for _, bad := range []string{"hush", "/home", "/opt", "ann"} {
		if strings.Contains(string(raw), bad) {
			t.Errorf("%q is in %s", bad, raw)
		}
	}
	if !strings.Contains(string(raw), "lib/npm/package.json changed") || !strings.Contains(string(raw), "(project)/db") {
		t.Error(string(raw))
	}
	if string(made(t, "hut-laptop", plant)) != string(raw) {
		t.Error("the same twice is not the same")
	}
	if _, err := Read(raw); err != nil {
		t.Error(err)
	}
	for name, text := range map[string]string{
		"spaces":        strings.Replace(string(raw), `"ok":`, `"ok": `, 1),
		"another type":  strings.Replace(string(raw), PredicateType, "https://other.example/v1", 1),
		"other subject": strings.Replace(string(raw), `"sha256":"5be0`, `"sha256":"0be0`, 1),
		"more":          strings.Replace(string(raw), `"ok":`, `"extra":1,"ok":`, 1),
		"cut":           string(raw[:len(raw)/2]),
		"nothing":       "",
	} {
		if _, err := Read([]byte(text)); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
}

// keys are signers of each kind, with their private keys as OpenSSH writes them.
func keys(t *testing.T) map[string]crypto.PrivateKey {
	t.Helper()
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	old, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	return map[string]crypto.PrivateKey{"ed25519": ed, "ecdsa": ec, "rsa": old}
}

func TestSignaturesAreThoseOfOpenSSH(t *testing.T) {
	keygen, _ := exec.LookPath("ssh-keygen")
	raw := made(t, "hut-laptop", nil)
	for name, private := range keys(t) {
		dir := t.TempDir()
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(dir, "key")
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
		signer, done, err := sshsig.Signer(file, host.Host{Environ: os.Environ()})
		if err != nil {
			t.Fatal(name, err)
		}
		defer done()
		signature, err := Sign(raw, signer)
		if err != nil {
			t.Fatal(name, err)
		}
		key, err := Check(raw, signature)
		if err != nil || string(key.Marshal()) != string(signer.PublicKey().Marshal()) {
			t.Errorf("%s: %v", name, err)
		}
		for i := 0; i < len(raw); i += len(raw)/50 + 1 { // one flipped bit, anywhere
			bad := append([]byte{}, raw...)
			bad[i] ^= 1
			if _, err := Check(bad, signature); err == nil {
				t.Errorf("%s: bit of byte %d is not noticed", name, i)
			}
		}
		signers := filepath.Join(dir, "allowed_signers")
		line := "hut-laptop namespaces=\"trammel-report\" " + string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
		if err := os.WriteFile(signers, []byte("# who\n\n"+line), 0o600); err != nil {
			t.Fatal(err)
		}
		known, err := ReadSigners(signers)
		if err != nil {
			t.Fatal(name, err)
		}
		if may, _ := known.MaySpeak(key, "hut-laptop", time.Now()); !may {
			t.Errorf("%s: it may not speak for its machine", name)
		}
		if keygen == "" {
			continue
		}
		sig := filepath.Join(dir, "sig")
		if err := os.WriteFile(sig, signature, 0o600); err != nil {
			t.Fatal(err)
		}
		c := exec.Command(keygen, "-Y", "verify", "-f", signers, "-I", "hut-laptop", "-n", Namespace, "-s", sig)
		c.Stdin = strings.NewReader(string(raw))
		if out, err := c.CombinedOutput(); err != nil {
			t.Errorf("%s: ssh-keygen: %v: %s", name, err, out)
		}
		// And the other way: what ssh-keygen signs is taken, for reports only.
		for space, good := range map[string]bool{Namespace: true, "file": false} {
			c := exec.Command(keygen, "-Y", "sign", "-f", file, "-n", space)
			c.Stdin = strings.NewReader(string(raw))
			theirs, err := c.Output()
			if err != nil {
				t.Fatal(name, err)
			}
			if _, err := Check(raw, theirs); (err == nil) != good {
				t.Errorf("%s, %s: %v", name, space, err)
			}
		}
	}
}

func TestAnAgentSigns(t *testing.T) {
	private := keys(t)["ed25519"].(ed25519.PrivateKey)
	ring := agent.NewKeyring()
	if err := ring.Add(agent.AddedKey{PrivateKey: private}); err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "agent") // a socket's path is short
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("unix", filepath.Join(dir, "s"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(ring, c)
		}
	}()
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "key.pub")
	if err := os.WriteFile(file, ssh.MarshalAuthorizedKey(public), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SSH_AUTH_SOCK", "")
	if _, _, err := sshsig.Signer(file, host.Host{Environ: os.Environ()}); err == nil || !strings.Contains(err.Error(), "no agent runs") {
		t.Error(err)
	}
	t.Setenv("SSH_AUTH_SOCK", l.Addr().String())
	signer, done, err := sshsig.Signer(file, host.Host{Environ: os.Environ()})
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	raw := made(t, "hut-laptop", nil)
	signature, err := Sign(raw, signer)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Check(raw, signature); err != nil {
		t.Error(err)
	}
	other, err := ssh.NewPublicKey(keys(t)["ed25519"].(ed25519.PrivateKey).Public())
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(file, ssh.MarshalAuthorizedKey(other), 0o600)
	if _, _, err := sshsig.Signer(file, host.Host{Environ: os.Environ()}); err == nil || !strings.Contains(err.Error(), "does not have the key") {
		t.Error(err)
	}
}

func load(t *testing.T, reports ...[]byte) []Loaded {
	t.Helper()
	dir := t.TempDir()
	for i, raw := range reports {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%03d.json", i)), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	list, err := Load([]string{dir}, nil, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return list
}

func TestCompareFindsTheOddOneOut(t *testing.T) {
	same := []string{"hut-laptop", "lab-desk", "shore-desk", "weir-desk"}
	for name, x := range map[string]struct {
		change func(*proof.Report, *Facts)
		item   string
		what   string
		there  string
	}{
		"a changed file": {func(r *proof.Report, _ *Facts) {
			r.Parts[1].State, r.Parts[1].Differs = proof.Drift, []string{"lib/npm/package.json changed"}
		}, "node 22.11.0", "lib/npm/package.json changed", "trammel fit node"},
		"a missing part":  {func(r *proof.Report, _ *Facts) { r.Parts[0].State = proof.Missing }, "go 1.24.6", "missing", "trammel fit go"},
		"another tree":    {func(r *proof.Report, _ *Facts) { r.Parts[0].Tree = "blake3:cc" }, "go 1.24.6", "its tree is another", "trammel fit go"},
		"a variable":      {func(_ *proof.Report, f *Facts) { f.Variables["WEIR_UNITS"] = "fish" }, "variables", "WEIR_UNITS", ""},
		"a variable more": {func(_ *proof.Report, f *Facts) { f.Variables["EXTRA"] = "1" }, "variables", "EXTRA", ""},
		"a due step": {func(r *proof.Report, _ *Facts) {
			r.Rows[1] = proof.Row{Check: "steps", State: proof.Due, Text: "schema: db/schema.sql changed"}
		}, "steps", "db/schema.sql", "trammel fit"},
	} {
		var all [][]byte
		for _, m := range same {
			all = append(all, made(t, m, nil))
		}
		all = append(all, made(t, "ci-runner", x.change))
		c, err := Compare(load(t, all...), "", false)
		if err != nil {
			t.Fatal(name, err)
		}
		if len(c.Differences) != 1 {
			t.Fatalf("%s: %+v", name, c.Differences)
		}
		d := c.Differences[0]
		if d.Machine != "ci-runner" || d.Item != x.item || !strings.Contains(d.What, x.what) || x.there != "" && d.There != x.there {
			t.Errorf("%s: %+v", name, d)
		}
	}
}

func TestOtherLocksAndPlatformsAreNoDrift(t *testing.T) {
	arm := made(t, "shore-desk", func(r *proof.Report, _ *Facts) {
		r.Platform, r.Environment = "linux/arm64", "sha256:0aa0"
		r.Parts[0].Tree, r.Parts[1].Tree = "blake3:dd", "blake3:ee"
	})
	old := made(t, "old-desk", func(r *proof.Report, f *Facts) {
		r.Lock, r.Parts[0].Version = "sha256:0000", "1.23.1"
		f.Made = f.Made.Add(-time.Hour)
	})
	c, err := Compare(load(t, made(t, "hut-laptop", nil), made(t, "lab-desk", nil), arm, old), "", false)
	if err != nil || !c.OK() || !c.Machines[2].Stale || c.Machines[3].Stale {
		t.Errorf("%+v, %v", c, err)
	}
	c, err = Compare(load(t, made(t, "hut-laptop", nil)), "", true)
	if err != nil || c.OK() || c.Differences[0].Item != "signature" {
		t.Errorf("%+v, %v", c, err)
	}
	other := made(t, "x", func(r *proof.Report, _ *Facts) { r.Project = "heronweir-archive" })
	if _, err := Compare(load(t, made(t, "hut-laptop", nil), other), "", false); err == nil {
		t.Error("two projects are compared")
	}
}

func TestTheNewestReportOfAMachineCounts(t *testing.T) {
	bad := made(t, "hut-laptop", func(r *proof.Report, f *Facts) {
		r.Parts[0].State = proof.Missing
		f.Made = f.Made.Add(-time.Hour)
	})
	list := load(t, bad, made(t, "hut-laptop", nil))
	if c, err := Compare(list, "", false); err != nil || len(c.Machines) != 1 || !c.OK() {
		t.Errorf("%+v, %v", c, err)
	}
}
