package report

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/proven/proof"
)

// signing makes a key that can sign.
func signing(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

// folder is a folder of reports, signed or not, and a file of signers.
type folder struct {
	t       *testing.T
	dir     string
	signers string
	count   int
}

func newFolder(t *testing.T) *folder {
	t.Helper()
	return &folder{t: t, dir: t.TempDir()}
}

func (f *folder) allow(names string, key ssh.Signer, options string) {
	f.signers += strings.TrimSpace(names+" "+options) + " " + string(ssh.MarshalAuthorizedKey(key.PublicKey()))
}

// add puts a report into the folder; by is nil for one that nobody signs.
func (f *folder) add(machine string, age time.Duration, ok bool, by ssh.Signer) {
	f.t.Helper()
	raw := made(f.t, machine, func(r *proof.Report, x *Facts) {
		x.Made = time.Now().Add(-age)
		if !ok {
			r.Rows[1] = proof.Row{Check: "steps", State: proof.Drift, Text: "frame: 1 of 5 links differs"}
		}
	})
	file := filepath.Join(f.dir, fmt.Sprintf("%03d.json", f.count))
	f.count++
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		f.t.Fatal(err)
	}
	if by != nil {
		signature, err := Sign(raw, by)
		if err != nil {
			f.t.Fatal(err)
		}
		if err := os.WriteFile(SignatureOf(file), signature, 0o600); err != nil {
			f.t.Fatal(err)
		}
	}
}

func (f *folder) compare() *Comparison {
	f.t.Helper()
	path := filepath.Join(f.t.TempDir(), "allowed_signers")
	if err := os.WriteFile(path, []byte(f.signers), 0o600); err != nil {
		f.t.Fatal(err)
	}
	signers, err := ReadSigners(path)
	if err != nil {
		f.t.Fatal(err)
	}
	list, err := Load([]string{f.dir}, signers, time.Now())
	if err != nil {
		f.t.Fatal(err)
	}
	c, err := Compare(list, "", true)
	if err != nil {
		f.t.Fatal(err)
	}
	return c
}

func TestASignatureCountsOnlyForTheMachineThatItsSignerMaySpeakFor(t *testing.T) {
	desk, other := signing(t), signing(t)
	for _, c := range []struct {
		names   string // of the key that signs
		options string
		machine string
		good    bool
	}{
		{"lab-desk", "", "lab-desk", true},
		{"lab-desk", "", "hut-laptop", false},
		{"*", "", "lab-desk", true},
		{"*-desk", "", "lab-desk", true},
		{"*-desk", "", "hut-laptop", false},
		{"lab-des?", "", "lab-desk", true},
		{"lab-des?", "", "lab-des", false},
		{"lab-desk,hut-laptop", "", "hut-laptop", true},
		{"!lab-desk,*", "", "lab-desk", false},
		{"!lab-desk,*", "", "hut-laptop", true},
		{"*,!lab-desk", "", "lab-desk", false},
		{"!lab-desk", "", "hut-laptop", false}, // nothing fits that is not taken out
		{"LAB-DESK", "", "lab-desk", false},
		{"lab-desk", `namespaces="trammel-report"`, "lab-desk", true},
		{"lab-desk", `namespaces="file,trammel-*"`, "lab-desk", true},
		{"lab-desk", `namespaces="file"`, "lab-desk", false},
		{"lab-desk", `valid-after="20200101"`, "lab-desk", true},
		{"lab-desk", `valid-before="20200101"`, "lab-desk", false},
		{"lab-desk", `valid-after="20990101"`, "lab-desk", false},
		{"lab-desk", "cert-authority", "lab-desk", false},
	} {
		f := newFolder(t)
		f.allow(c.names, desk, c.options)
		f.allow("ci-runner", other, "")
		f.add(c.machine, time.Hour, true, desk)
		if got := f.compare(); got.OK() != c.good {
			t.Errorf("%s %s for %s: %v %+v", c.names, c.options, c.machine, got.OK(), got.Differences)
		}
	}
}

func TestNobodyTakesThePlaceOfASignedReport(t *testing.T) {
	desk, other := signing(t), signing(t)
	for name, add := range map[string]func(f *folder){
		"unsigned and newer":          func(f *folder) { f.add("lab-desk", time.Minute, true, nil) },
		"unsigned, from the future":   func(f *folder) { f.add("lab-desk", -80*365*24*time.Hour, true, nil) },
		"signed by another and newer": func(f *folder) { f.add("lab-desk", time.Minute, true, other) },
		"signed by a stranger":        func(f *folder) { f.add("lab-desk", time.Minute, true, signing(t)) },
		"its own, from the future":    func(f *folder) { f.add("lab-desk", -24*time.Hour, true, desk) },
		"its own, older":              func(f *folder) { f.add("lab-desk", 48*time.Hour, true, desk) },
	} {
		f := newFolder(t)
		f.allow("lab-desk", desk, "")
		f.allow("mallory-desk", other, "")
		f.add("lab-desk", time.Hour, false, desk)
		f.add("mallory-desk", time.Hour, true, other)
		add(f)
		c := f.compare()
		if c.OK() || !strings.Contains(fmt.Sprint(c.Differences), "1 of 5 links") {
			t.Errorf("%s: the drift is gone: %+v", name, c.Differences)
		}
		for _, m := range c.Machines {
			if m.Name == "lab-desk" && m.SignedBy != "lab-desk" {
				t.Errorf("%s: it counts as signed by %q", name, m.SignedBy)
			}
		}
	}
}

func TestAnExpiredKeyDoesNotCountForAReportThatDatesItselfBack(t *testing.T) {
	desk := signing(t)
	f := newFolder(t)
	f.allow("lab-desk", desk, `valid-before="`+time.Now().Add(-48*time.Hour).UTC().Format("20060102")+`Z"`)
	f.add("lab-desk", 10*24*time.Hour, true, desk)
	if c := f.compare(); c.OK() {
		t.Errorf("it counts: %+v", c.Machines)
	}
}

func TestADateInTheFutureIsADifference(t *testing.T) {
	f := newFolder(t)
	desk := signing(t)
	f.allow("*", desk, "")
	f.add("lab-desk", -time.Hour, true, desk)
	if c := f.compare(); c.OK() || c.Differences[0].Item != "date" {
		t.Errorf("%+v", c.Differences)
	}
	f = newFolder(t)
	f.allow("*", desk, "")
	f.add("lab-desk", -time.Minute, true, desk) // clocks differ
	if c := f.compare(); !c.OK() {
		t.Errorf("a minute ahead: %+v", c.Differences)
	}
}

func TestOnlyRegularFilesAreReadAsReports(t *testing.T) {
	for name, put := range map[string]func(path string) error{
		"a link to an endless file": func(p string) error { return os.Symlink("/dev/zero", p) },
		"a pipe":                    func(p string) error { return unix.Mkfifo(p, 0o600) },
		"a folder":                  func(p string) error { return os.Mkdir(p, 0o700) },
		"a link out of the folder":  func(p string) error { return os.Symlink("/etc/hostname", p) },
		"a file of gigabytes": func(p string) error {
			f, err := os.Create(p)
			if err == nil {
				err = f.Truncate(8 << 30)
				f.Close()
			}
			return err
		},
	} {
		for _, end := range []string{".json", ".json.sig"} {
			f := newFolder(t)
			f.add("lab-desk", time.Hour, true, nil)
			path := filepath.Join(f.dir, "zz"+end)
			if end == ".json.sig" {
				path = filepath.Join(f.dir, "000.json.sig")
			}
			if err := put(path); err != nil {
				t.Fatal(err)
			}
			list, err := Load([]string{f.dir}, nil, time.Now())
			if end == ".json" && err == nil {
				t.Errorf("%s is read as a report", name)
			}
			if end == ".json.sig" && (err != nil || list[0].Unsigned == "" || list[0].Unsigned == "not signed") {
				t.Errorf("%s as a signature: %v, %+v", name, err, list)
			}
		}
	}
}

// A report that is left out is named with the reason. One that somebody made for another machine is a
// difference, also where that machine's own report is there.
func TestWhatIsLeftOutIsSaid(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	one := func(file, unsigned, odd string, after time.Duration) Loaded {
		return Loaded{File: file, Report: &Statement{Predicate: Predicate{Machine: "hut", Project: "heronweir", Lock: "sha256:1", Environment: "sha256:2", Platform: "linux/amd64"}}, Unsigned: unsigned, Odd: odd, At: at.Add(after)}
	}
	for name, c := range map[string]struct {
		beside Loaded
		signed bool
		why    string
		counts bool // it is a difference
	}{
		"older":                      {one("old.json", "", "", -time.Hour), true, "older than own.json", false},
		"of the same moment":         {one("same.json", "", "", 0), true, "of the same moment as own.json", false},
		"by another":                 {one("forged.json", "signed by eel, whose key may not speak for hut now", "", time.Hour), true, "signed by eel", true},
		"by nobody":                  {one("loose.json", "not signed", "", time.Hour), true, "not signed", true},
		"by nobody, where none sign": {one("loose.json", "not signed", "", -time.Hour), false, "not signed", false},
		"of tomorrow":                {one("late.json", "", "it is dated in the future: x", 48*time.Hour), true, "dated in the future", true},
		"of tomorrow, unsigned":      {one("late.json", "not signed", "it is dated in the future: x", 48*time.Hour), false, "dated in the future", true},
	} {
		list := newest([]Loaded{one("own.json", "", "", 0), c.beside})
		if len(list) != 1 || list[0].File != "own.json" {
			t.Errorf("%s: %+v counts", name, list)
			continue
		}
		r, err := Compare(list, "", c.signed)
		if err != nil {
			t.Fatal(err)
		}
		if len(r.LeftOut) != 1 || r.LeftOut[0].File != c.beside.File || r.LeftOut[0].Machine != "hut" || !strings.Contains(r.LeftOut[0].Why, c.why) {
			t.Errorf("%s: left out %+v", name, r.LeftOut)
		}
		if r.OK() == c.counts {
			t.Errorf("%s: differences %+v", name, r.Differences)
		}
	}
}
