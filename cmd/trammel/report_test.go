package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/demo"
	"app.example/trammel/internal/standin"
)

// fiveMachines are machines with the demo's project in the same state, each with a
// home, a store and a checkout of its own, and the folder that they put reports into.
func fiveMachines(t *testing.T) (machines []*hut, names []string, reports string) {
	t.Helper()
	linuxOnly(t)
	names = []string{"hut-laptop", "lab-desk", "shore-desk", "weir-desk", "ci-runner"}
	reports = filepath.Join(t.TempDir(), "reports")
	if err := os.MkdirAll(reports, 0o755); err != nil {
		t.Fatal(err)
	}
	lock := ""
	for range names {
		h := newHut(t, nil, "")
		if err := demo.Write(filepath.Dir(h.dir), engine); err != nil {
			t.Fatal(err)
		}
		if lock == "" {
			h.ok("lock")
			h.ok("fit")
			lock = h.read("trammel.lock")
		} else {
			h.write("trammel.lock", lock)
			h.ok("fit")
		}
		machines = append(machines, h)
	}
	return machines, names, reports
}

func TestFiveMachinesAreIdenticalOrTheOddOneIsNamed(t *testing.T) {
	t.Parallel()
	machines, names, reports := fiveMachines(t)
	report := func(i int) {
		h := machines[i]
		h.try("--quiet", "verify", "--report", filepath.Join(reports, names[i]+".json"), "--machine", names[i])
	}
	for i := range machines {
		report(i)
	}
	if out := machines[0].ok("compare", reports); !strings.Contains(out, "5 machines hold the identical environment.") {
		t.Error(out)
	}
	part := func(h *hut, name string) string {
		found, _ := filepath.Glob(filepath.Join(h.home, "data/store/*-"+name+"*"))
		if len(found) == 0 {
			t.Fatalf("no part of %s", name)
		}
		writable(found[0])
		return found[0]
	}
	odd := machines[4]
	for name, x := range map[string]struct {
		plant func()
		words []string
	}{
		"a changed file":     {func() { write(t, part(odd, "sluice")+"/share/sluice.txt", "other\n") }, []string{"sluice 1.4.2", "share/sluice.txt changed", "trammel fit sluice"}},
		"a changed mode":     {func() { os.Chmod(part(odd, "sluice")+"/share/sluice.txt", 0o755) }, []string{"sluice 1.4.2", "share/sluice.txt", "trammel fit sluice"}},
		"a file more":        {func() { write(t, part(odd, "tallydb")+"/extra", "x") }, []string{"tallydb 2.1.0", "extra", "trammel fit tallydb"}},
		"a missing file":     {func() { os.Remove(part(odd, "ladderweb-0") + "/share/ladderweb.txt") }, []string{"ladderweb", "share/ladderweb.txt", "trammel fit ladderweb"}},
		"a link for a file":  {func() { f := part(odd, "sluice") + "/share/sluice.txt"; os.Remove(f); os.Symlink("/etc/hostname", f) }, []string{"sluice 1.4.2", "share/sluice.txt", "trammel fit sluice"}},
		"a missing part":     {func() { d := part(odd, "sluice"); os.RemoveAll(d) }, []string{"sluice 1.4.2", "missing", "trammel fit sluice"}},
		"a due step":         {func() { odd.write("data/passings.csv", "minute,lane,species,length_mm\n361,1,silverfin,212\n") }, []string{"steps", "data/passings.csv changed", "trammel fit"}},
		"a command too many": {func() { os.Symlink("/bin/true", frameOf(t, odd)+"/intruder") }, []string{"commands", "intruder", "trammel fit"}},
	} {
		t.Run(name, func(t *testing.T) {
			x.plant()
			report(4)
			o := machines[0].fails(3, append(x.words, "\nci-runner  ", "←"), "compare", reports)
			if strings.Contains(o.out, "\nlab-desk  ") {
				t.Errorf("another one is named:\n%s", o.out)
			}
			odd.ok("fit", "sluice", "tallydb", "ladderweb")
			odd.ok("fit")
			report(4)
			if o := machines[0].try("compare", reports); !strings.Contains(o.out, "5 machines hold the identical environment.") {
				t.Errorf("%s%s%s", o.out, odd.try("verify").out, stamps(odd))
			}
		})
	}
}

// stamps are what a hut's store recorded of its files, and what they have.
func stamps(h *hut) (out string) {
	records, _ := filepath.Glob(filepath.Join(h.home, "data/store/*.stamps"))
	for _, record := range records {
		raw, _ := os.ReadFile(record)
		out += fmt.Sprintf("%s:\n%s", filepath.Base(record), raw)
		_ = filepath.WalkDir(strings.TrimSuffix(record, ".stamps"), func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				out += fmt.Sprintf("  %s %+v\n", filepath.Base(path), disk.LinkStampOf(path))
			}
			return nil
		})
	}
	return out
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// frameOf is the folder of commands of a hut's environment.
func frameOf(t *testing.T, h *hut) string {
	t.Helper()
	found, _ := filepath.Glob(filepath.Join(h.home, "data/frames/*/bin"))
	if len(found) != 1 {
		t.Fatalf("frames: %v", found)
	}
	writable(found[0])
	return found[0]
}

func TestReportsAreSignedAndHeldToTheirSigners(t *testing.T) {
	t.Parallel()
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		lacks.Program(t, "ssh-keygen")
	}
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	dir := t.TempDir()
	key := filepath.Join(dir, "key")
	if out, err := exec.Command(keygen, "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	h.fails(2, []string{"about a report"}, "verify", "--sign", key)
	h.ok("verify", "--report", "reports/hut.json", "--machine", "hut-laptop", "--sign", key)
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	h.write("allowed_signers", "hut-laptop "+string(public))
	verify := exec.Command(keygen, "-Y", "verify", "-f", filepath.Join(h.dir, "allowed_signers"), "-I", "hut-laptop", "-n", "trammel-report", "-s", filepath.Join(h.dir, "reports/hut.json.sig"))
	verify.Stdin = strings.NewReader(h.read("reports/hut.json"))
	if out, err := verify.CombinedOutput(); err != nil {
		t.Errorf("ssh-keygen: %v %s", err, out)
	}
	if out := h.ok("compare", "reports", "--signers", "allowed_signers", "--html", "machines.html"); !strings.Contains(out, "hut-laptop") {
		t.Error(out)
	}
	if page := h.read("machines.html"); !strings.Contains(page, "<td") || !strings.Contains(page, "hut-laptop") || strings.Contains(page, "http://") || strings.Contains(page, "https://") {
		t.Error("the page is not whole in itself")
	}
	var out struct {
		OK       bool
		Machines []struct {
			SignedBy string `json:"signed_by"`
		}
	}
	if err := json.Unmarshal([]byte(h.ok("compare", "reports", "--signers", "allowed_signers", "--json")), &out); err != nil || !out.OK || out.Machines[0].SignedBy != "hut-laptop" {
		t.Errorf("%+v, %v", out, err)
	}
	good := h.read("reports/hut.json")
	for name, text := range map[string]string{
		"one word": strings.Replace(good, `"ok":true`, `"ok":false`, 1), "the machine": strings.Replace(good, "hut-laptop", "hut-laptoq", 1),
	} {
		h.write("reports/hut.json", text)
		if o := h.fails(3, []string{"the signature is not of this report"}, "compare", "reports", "--signers", "allowed_signers"); o.code != 3 {
			t.Error(name)
		}
	}
	h.write("reports/hut.json", good)
	h.write("nobody", "")
	h.fails(3, []string{"signed by nobody that is allowed to"}, "compare", "reports", "--signers", "nobody")
	h.write("reports/hut.json", good[:len(good)/2])
	h.fails(2, []string{"reports/hut.json", "it is no report"}, "compare", "reports")
	h.fails(2, []string{"name the reports"}, "compare")
	h.ok("verify", "--report", "reports/hut.json", "--machine", "hut-laptop") // not signed any more
	if _, err := os.Stat(filepath.Join(h.dir, "reports/hut.json.sig")); err == nil {
		t.Error("an old signature lies beside a new report")
	}
	// Nothing of the person or the machine's folders is in it.
	for _, bad := range []string{h.home, h.dir, "/tmp/"} {
		if strings.Contains(h.read("reports/hut.json"), bad) {
			t.Errorf("%q is in the report", bad)
		}
	}
}

func TestGoodMirrorsProveIdenticalAndABadOneIsRefused(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	g := standin.NewGit()
	defer g.Close()
	declaration := "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[toolchain]\nnode = \"22\"\n"
	first := newHut(t, registry(t), declaration)
	first.ok("lock")
	first.ok("fit")
	for _, who := range []string{"hut-laptop", "lab-desk"} {
		h := first
		if who == "lab-desk" { // another home, mirror and, where that can be had, user
			h = first.elsewhere(registry(t))
			if os.Getuid() == 0 {
				asOrdinaryUser(t, h)
			}
			h.ok("fit")
		}
		h.ok("verify", "--deep", "--report", "report.json", "--machine", who)
		g.Commit("", standin.File{Name: "reports/" + who + ".json", Content: h.read("report.json")})
	}
	// The team keeps its reports on a branch of a repository.
	if out := first.ok("compare", g.URL+"#main:reports"); !strings.Contains(out, "2 machines hold the identical environment.") {
		t.Error(out)
	}
	mirror := registry(t)
	mirror.Fail("-22.12.0.tgz", standin.WrongBytes)
	bad := first.elsewhere(mirror)
	bad.fails(5, []string{"22.12.0"}, "fit")
	if parts, _ := filepath.Glob(filepath.Join(bad.home, "data/store/*-node-22*")); len(parts) > 0 {
		t.Errorf("the store has %v", parts)
	}
	bad.fails(3, []string{"is not there"}, "verify")
}

func TestHundredsOfMachinesAreToldByTheirStates(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	h.ok("verify", "--report", "one.json", "--machine", "hut-000")
	one := h.read("one.json")
	for i := range 300 {
		text := strings.Replace(one, "hut-000", fmt.Sprintf("hut-%03d", i), 1)
		if i == 150 {
			text = strings.Replace(text, `"state":"ok","tree":"blake3:`, `"state":"ok","tree":"blake3:00`, 1)
		}
		h.write(fmt.Sprintf("reports/%03d.json", i), text)
	}
	o := h.fails(3, []string{"300 machines in 2 states", "alike on all: ", "299 machines", "as most have it", "hut-007 and 291 more", "1 machine ", "hut-150", "its tree is another"}, "compare", "reports", "--html", "all.html")
	for line := range strings.Lines(o.out) {
		if len([]rune(line)) > 140 {
			t.Errorf("a line of %d: %s", len(line), line)
		}
	}
	if page := h.read("all.html"); !strings.Contains(page, "299 machines") || len(page) > 100_000 {
		t.Errorf("a page of %d bytes", len(page))
	}
}

// What a card asks of another program proves nothing of its tool, and no fit mends a card.
func TestAnAnswerOfAnotherProgramIsTheCardsFault(t *testing.T) {
	t.Parallel()
	for _, isolation := range []string{"open", "clean"} {
		h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \""+isolation+"\"\n[source.hut]\nkind = \"catalog\"\nurl = \"../catalog\"\n[toolchain]\nsluice = \"1\"\n")
		tool := standin.Tool{Name: "sluice", Card: "answer = { run = \"sh -c 'echo 1.0'\", match = '(\\d+\\.\\d+)' }\n",
			Archives: [][]byte{standin.TarGz(standin.File{Name: "bin/sluice", Mode: 0o755, Content: "#!/bin/sh\necho 1.0\n"})}}
		if err := standin.Publish(filepath.Join(filepath.Dir(h.dir), "catalog"), []standin.Tool{tool}); err != nil {
			t.Fatal(err)
		}
		h.ok("lock")
		h.ok("fit")
		if o := h.fails(3, []string{"sh is /", "not of this environment: the card's answer must begin with a command of the tool"}, "verify"); strings.Contains(o.out+o.err, "Mend:") {
			t.Errorf("%s: %s%s", isolation, o.out, o.err)
		}
	}
}
