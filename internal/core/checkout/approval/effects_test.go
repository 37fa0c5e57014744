package approval_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/written/lock"
)

// opened is the State of a checkout with one declaration and a lock with one tool.
func opened(t *testing.T, text string, change func(l *lock.Lock), environ ...string) *checkout.State {
	t.Helper()
	dir, home := filepath.Join(t.TempDir(), "heronweir"), t.TempDir()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "trammel.toml"), []byte("format = 1\nproject = \"heronweir\"\n"+text), 0o644); err != nil {
		t.Fatal(err)
	}
	return stateOf(t, dir, home, change, environ...)
}

func stateOf(t *testing.T, dir, home string, change func(l *lock.Lock), environ ...string) *checkout.State {
	t.Helper()
	s, err := checkout.Open(checkout.Asked{Host: host.Host{Environ: append(environ, "HOME="+home, "TRAMMEL_HOME="+home), Dir: dir}, Dir: dir, Bay: "main"}, checkout.Locate{})
	if err != nil {
		t.Fatal(err)
	}
	l := &lock.Lock{Items: map[string]lock.Item{}}
	l.Declaration.Project = "heronweir"
	if change != nil {
		change(l)
	}
	with, err := s.WithLock(s.Written, l)
	if err != nil {
		t.Fatal(err)
	}
	return with
}

func find(l approval.List, name string) (approval.Effect, bool) {
	i := slices.IndexFunc(l.Effects, func(e approval.Effect) bool { return e.Name == name })
	if i < 0 {
		return approval.Effect{}, false
	}
	return l.Effects[i], true
}

// keeper is a tool of a lock, with a card that sets, asks and serves.
func keeper(l *lock.Lock) {
	l.Items["keeper"] = lock.Item{
		Source: "c", Version: "1.0", Answer: "keeper --version", Match: "(.*)", Variables: map[string]string{"KEEPER_HOME": "@{home}"},
		Service: map[string]string{"run": "keeper --at @{data}"},
	}
}

func TestWhatIsDeclaredIsAnEffectOnce(t *testing.T) {
	for _, c := range []struct{ text, name, does, says, from string }{
		{"[step.a]\nrun = \"make db\"\n", "step a", approval.Runs, "make db", "trammel.toml:3"},
		{"[param.p]\nkind = \"text\"\ndefault = \"boom\"\n[step.a]\nrun = \"say '@{param.p}'\"\n", "step a", approval.Runs, "boom", "trammel.toml:6"},
		{"[step.a]\nrun = \"x\"\nevidence = \"psql -c 1\"\n", "evidence of a", approval.Runs, "psql -c 1", "trammel.toml:3"},
		{"[routine.r]\nrun = [\"weir\", \"--all\"]\n", "routine r", approval.Runs, "weir --all", "trammel.toml:3"},
		{"[service.s]\nrun = \"serve\"\nready = { command = \"probe\" }\n", "service s", approval.Runs, "serve", "trammel.toml:3"},
		{"[variables]\nA = \"b\"\n", "variable A", approval.Sets, "b", "trammel.toml:4"},
		{"[secret.K]\nfrom = \"command:pass show k\"\n", "secret K", "", "pass show k", "trammel.toml:3"},
		{"[secret.K]\nfrom = \"file:/etc/shadow\"\n", "secret K", approval.Reads, "/etc/shadow", "trammel.toml:3"},
		{"[file.\"a/b\"]\ntemplate = \"t\"\n", "file a/b", approval.Writes, "t", "trammel.toml:3"},
		{"isolation = \"open\"\n", "isolation", approval.Shows, "open", "trammel.toml"},
		{"host = [\"curl\"]\n", "host command curl", approval.Shows, "", "trammel.toml"},
		{"[source.g]\nkind = \"gomod\"\nurl = \"https://proxy.example\"\nsumdb = \"off\"\n", "source g", approval.Fetches, "NO CHECKSUM DATABASE", "trammel.toml:3"},
		{"[addon.x]\nwant = [\"one\"]\nlist = \"l\"\nadd = \"install @{item}\"\n", "add-on x adds", approval.Runs, "install", "trammel.toml:3"},
	} {
		list := approval.Effects(opened(t, c.text, nil))
		e, ok := find(list, c.name)
		if !ok || c.does != "" && e.Does != c.does || !strings.Contains(e.Text, c.says) || !strings.HasPrefix(e.From, c.from) || e.Digest == "" {
			t.Errorf("%q: %+v in %+v", c.text, e, list.Effects)
		}
		seen := map[string]bool{}
		for _, e := range list.Effects {
			if seen[e.Does+" "+e.Name] {
				t.Errorf("%q: twice: %+v", c.text, e)
			}
			seen[e.Does+" "+e.Name] = true
		}
	}
}

// The id is the same for equal checkouts wherever they lie, and another one for any change.
func TestTheIDIsOfWhatWouldHappen(t *testing.T) {
	const text = "[step.a]\nrun = \"x\"\n[variables]\nA = \"b\"\n"
	id := approval.Effects(opened(t, text, keeper)).ID()
	if again := approval.Effects(opened(t, text, keeper)).ID(); again != id {
		t.Errorf("elsewhere it is %s and not %s", again, id)
	}
	if about := approval.Effects(opened(t, "about = \"words\"\n"+text, keeper)).ID(); about == "" {
		t.Error("no id")
	}
	for name, other := range map[string]approval.List{
		"a step":             approval.Effects(opened(t, strings.Replace(text, `"x"`, `"y"`, 1), keeper)),
		"a variable":         approval.Effects(opened(t, strings.Replace(text, `"b"`, `"c"`, 1), keeper)),
		"no tool":            approval.Effects(opened(t, text, nil)),
		"its card's set":     approval.Effects(opened(t, text, func(l *lock.Lock) { keeper(l); l.Items["keeper"].Variables["LD_PRELOAD"] = "x" })),
		"its card's service": approval.Effects(opened(t, "[toolchain]\nkeeper = \"1\"\n[service.db]\ntool = \"keeper\"\n"+text, keeper)),
	} {
		if other.ID() == id {
			t.Errorf("%s makes no difference", name)
		}
	}
}

func TestChangesAreSaidInTheOrderOfTheirWeight(t *testing.T) {
	e := func(does, name, text, digest string) approval.Effect {
		return approval.Effect{Does: does, Name: name, Text: text, Digest: digest}
	}
	old := []approval.Effect{e(approval.Runs, "step a", "x", "1"), e(approval.Sets, "variable V", "1", "1"), e(approval.Fetches, "toolchain go", "1.24 from go", "1"), e(approval.Fetches, "toolchain node", "22 from npm", "1"), e(approval.Shows, "isolation", "clean", "1")}
	now := []approval.Effect{e(approval.Runs, "step a", "y", "2"), e(approval.Runs, "step b", "z", "1"), e(approval.Fetches, "toolchain go", "1.24 from go", "2"), e(approval.Fetches, "toolchain node", "23 from npm", "2"), e(approval.Shows, "isolation", "clean", "1")}
	var got []string
	for _, c := range approval.Changes(old, now) {
		got = append(got, c.Name+" "+c.What)
		if c.Loud != strings.Contains(c.What, "OTHER BYTES") {
			t.Errorf("%+v", c)
		}
	}
	want := []string{"toolchain go has OTHER BYTES under the same version", "step a changed", "step b is new", "variable V is gone", "toolchain node changed"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, not %q", got, want)
	}
	if same := approval.Changes(old, old); len(same) > 0 {
		t.Errorf("%v", same)
	}
}

// Consent is to one list: it holds for the State it was given to and what is derived from
// that, and ends with any difference.
func TestConsentIsToOneListAlone(t *testing.T) {
	dir, home := filepath.Join(t.TempDir(), "heronweir"), t.TempDir()
	write := func(text string) {
		t.Helper()
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "trammel.toml"), []byte("format = 1\nproject = \"heronweir\"\n"+text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("[step.a]\nrun = \"sh a.sh\"\n")
	script := filepath.Join(dir, "a.sh")
	if err := os.WriteFile(script, []byte("true\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := stateOf(t, dir, home, keeper)
	if g, err := approval.Check(s); err == nil || g.Holds() {
		t.Fatal("consent without anybody's")
	}
	shown := approval.Effects(s)
	if err := os.WriteFile(script, []byte("evil\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if g, err := approval.Give(s, shown); err == nil || g.Holds() {
		t.Fatal("the script changed while the list was read")
	}
	g, err := approval.Give(s, approval.Effects(s))
	if err != nil || !g.Holds() {
		t.Fatal(err)
	}
	if again, err := approval.Check(stateOf(t, dir, home, keeper)); err != nil || !again.Holds() {
		t.Errorf("it is not kept: %v", err)
	}
	if g.For(stateOf(t, dir, home, keeper)).Holds() {
		t.Error("it holds for another reading")
	}
	for name, change := range map[string]func(){
		"a script":   func() { os.WriteFile(script, []byte("other\n"), 0o644) },
		"a variable": func() { write("[step.a]\nrun = \"sh a.sh\"\n[variables]\nLD_PRELOAD = \"x\"\n") },
	} {
		change()
		if _, err := approval.Check(stateOf(t, dir, home, keeper)); err == nil {
			t.Errorf("%s: consent goes on", name)
		}
	}
	// A machine without a person names the id of all of it.
	now := stateOf(t, dir, home, keeper)
	id := string(approval.Effects(now).ID())
	for named, ok := range map[string]bool{id: true, strings.TrimPrefix(id, "sha256:"): true, "": false, id[:20]: false, "sha256:" + strings.Repeat("0", 64): false, string(now.Lock.ID()): false} {
		if _, err := approval.Check(stateOf(t, dir, home, keeper, approval.Variable+"="+named)); (err == nil) != ok {
			t.Errorf("%s=%s: %v", approval.Variable, named, err)
		}
	}
	if err := approval.Revoke(now.Places, dir); err != nil {
		t.Error(err)
	}
	if _, had := approval.Last(now.Places, dir); had {
		t.Error("it was not taken back")
	}
}
