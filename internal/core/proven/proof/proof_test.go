package proof

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/stored/frame"
	"app.example/trammel/internal/core/stored/libraries"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// madeUp is a machine on which all is as it should be, until a case changes something.
type madeUp struct {
	state *checkout.State

	noConsent  bool
	parts      map[string]store.Checked // by label
	unreadable map[string]error         // parts, by label
	marked     []string

	shown    []frame.Difference
	says     map[string]string // tool → version
	deaf     map[string]error  // tools that cannot be asked
	at       map[string]string // tool → where it stands
	mods     []libraries.Modules
	homeDir  string
	values   []environ.Variable
	secret   map[string]bool
	shell    map[string]string
	paths    map[string]string // command → what the shell finds
	rendered []render.Status
	due      []step.Status
	proofs   []setup.Evidence
	lastLeft map[string][]string
	pictures map[string][]string
	running  []service.Status
	specs    map[string]service.Spec
	ground   map[string][]string // service → what its processes and sockets say
	where    string
	live     []Detail

	errs map[string]error // by the name of what is asked
}

func (m *madeUp) consented() bool { return !m.noConsent }
func (m *madeUp) part(p lock.PartOn, _ bool) (store.Checked, error) {
	return m.parts[p.Label()], m.unreadable[p.Label()]
}
func (m *madeUp) changed(lock.PartOn, string) time.Time {
	return time.Date(2026, 11, 20, 10, 2, 0, 0, time.UTC)
}
func (m *madeUp) place(p lock.PartOn) string               { return "/store/" + p.Label() }
func (m *madeUp) damaged(p lock.PartOn)                    { m.marked = append(m.marked, p.Label()) }
func (m *madeUp) commands() (int, []frame.Difference)      { return 2, m.shown }
func (m *madeUp) modules() []libraries.Modules             { return m.mods }
func (m *madeUp) home() string                             { return m.homeDir }
func (m *madeUp) variables() []environ.Variable            { return m.values }
func (m *madeUp) living() map[string]string                { return m.shell }
func (m *madeUp) files() ([]render.Status, error)          { return m.rendered, m.errs["files"] }
func (m *madeUp) steps() ([]step.Status, error)            { return m.due, m.errs["steps"] }
func (m *madeUp) wanted() (map[string]service.Spec, error) { return m.specs, m.errs["wanted"] }
func (m *madeUp) bin() (string, []string)                  { return "/frame/bin", []string{"sluice"} }
func (m *madeUp) asked(_ context.Context, _ *lock.Lock, item lock.Item) (string, error) {
	tool := strings.TrimSuffix(item.Answer, " --version")
	return m.says[tool], m.deaf[tool]
}
func (m *madeUp) stands(_ context.Context, _ *lock.Lock, _ lock.Item, name string) (string, bool, error) {
	folder := m.at[name]
	return folder, folder == "" || strings.HasPrefix(folder, "/store/"), m.errs["stands "+name]
}
func (m *madeUp) wantedValue(v environ.Variable) (string, bool) { return v.Value, !m.secret[v.Name] }
func (m *madeUp) found(command, _ string) (string, error) {
	if at, ok := m.paths[command]; ok {
		return at, nil
	}
	return "", errors.New("not there")
}
func (m *madeUp) evidence(context.Context) ([]setup.Evidence, error) {
	return m.proofs, m.errs["evidence"]
}
func (m *madeUp) left(s declare.Step) ([]string, bool) {
	lines, ok := m.lastLeft[s.Name]
	return lines, ok
}
func (m *madeUp) picture(_ context.Context, a declare.Addon) ([]string, error) {
	return m.pictures[a.Name], m.errs["picture "+a.Name]
}
func (m *madeUp) statuses(context.Context) ([]service.Status, error) {
	return m.running, m.errs["statuses"]
}
func (m *madeUp) behind(st service.Status, _ service.Spec) ([]string, error) {
	return m.ground[st.Name], m.errs["behind "+st.Name]
}
func (m *madeUp) cluster(context.Context) (string, []Detail, error) {
	return m.where, m.live, m.errs["cluster"]
}

const declared = `format = 1
project = "heronweir"

[variables]
SEASON = "spring"

[addon.editor]
list = "code --list"
add  = "code --add"

[file."conf/lanes.ini"]
template = "lanes.tmpl"

[step.load]
run = "load"

[service.ledger]
run = "tallydb"
ports = { main = 7700 }

[service.board]
run = "board"
`

// sound is a machine on which everything holds.
func sound(t *testing.T) *madeUp {
	t.Helper()
	dir := t.TempDir()
	put(dir, "lanes.tmpl")
	d, err := declare.Parse(filepath.Join(dir, "trammel.toml"), []byte(declared))
	if err != nil {
		t.Fatal(err)
	}
	l := &lock.Lock{
		Declaration: lock.Declaration{Digest: d.Digest(), Platforms: []string{platform.Here().String()}},
		Items:       map[string]lock.Item{"sluice": {Version: "1.4.2", Answer: "sluice --version"}, "tallydb": {Version: "2.1.0", Answer: "tallydb --version"}, "chart": {Version: "1"}},
		Variables:   map[string]string{"SEASON": canon.Digest(d.Variables[0].Text())},
		Evidence:    map[string][]string{"load": {"212 rows"}},
		Pictures:    map[string][]string{"editor": {"plain 1.0"}},
	}
	part := func(name string) lock.PartOn {
		return lock.PartOn{Item: name, Name: name, Part: lock.Part{Version: "1"}}
	}
	root := lock.PartOn{Item: "tallydb", Name: "trixie", Part: lock.Part{Version: "2026-11-01", Format: lock.RootFormat}}
	return &madeUp{
		state: &checkout.State{Written: d, Declaration: d, Lock: l, Platform: platform.Here(), Bay: bay.Bay{Name: "main"}, Parts: []lock.PartOn{part("sluice"), root}},
		parts: map[string]store.Checked{"sluice": {Files: 5214}, "root trixie": {Files: 3}}, unreadable: map[string]error{},
		says: map[string]string{"sluice": "1.4.2", "tallydb": "2.1.0", "nano": "7.2"}, deaf: map[string]error{}, homeDir: filepath.Join(dir, "home"),
		values: []environ.Variable{{Name: "SEASON", Value: "spring"}, {Name: "TOKEN", Value: "x"}}, secret: map[string]bool{"TOKEN": true},
		shell: map[string]string{}, paths: map[string]string{"sluice": "/frame/bin/sluice"},
		rendered: []render.Status{{File: d.Files[0], State: render.OK}}, due: []step.Status{{Step: d.Steps[0]}},
		proofs: []setup.Evidence{{Step: d.Steps[0], Locked: []string{"212 rows"}, Now: []string{"212 rows"}}}, lastLeft: map[string][]string{},
		pictures: map[string][]string{"editor": {"plain 1.0"}},
		running: []service.Status{
			{Name: "ledger", Service: "ledger", State: service.Ready, Build: "b", Config: "c"},
			{Name: "board", Service: "board", State: service.Ready, Build: "b", Config: "d"},
		},
		specs:  map[string]service.Spec{"ledger": {Build: "b", Config: "c"}, "board": {Build: "b", Config: "d"}},
		ground: map[string][]string{}, errs: map[string]error{},
	}
}

// own gives the person a tool of their own.
func own(m *madeUp) {
	m.state.OverlayLock = &lock.Lock{Items: map[string]lock.Item{"nano": {Version: "7.2", Answer: "nano --version"}}}
	m.state.OwnParts = []lock.PartOn{{Item: "nano", Name: "nano", Part: lock.Part{Version: "7.2"}}}
	m.parts["nano"] = store.Checked{Files: 1}
}

func differs(path, what string) store.Checked {
	return store.Checked{Files: 5214, Differences: []tree.Difference{{Path: path, What: what}}}
}

// Each case changes one thing of a machine on which all holds. want is the row that tells of it, as
// "name: state: text", with "*" for a row that holds like all others; mend is the command that is named.
func TestEveryRowIsOfTheThingItself(t *testing.T) {
	closed := errors.New("permission denied")
	for _, c := range []struct {
		name   string
		change func(m *madeUp)
		want   []string
		mend   []string
	}{
		{name: "all holds", change: func(*madeUp) {}},

		{"no lock", func(m *madeUp) { m.state.Lock, m.state.LockErr = nil, errors.New("there is no trammel.lock\nmore") }, []string{
			"lock: drift: there is no trammel.lock", "files: not checked: the row above comes first", "commands: not checked", "versions: not checked", "variables: not checked", "steps: not checked", "services: not checked"}, []string{"trammel lock"}},
		{"another declaration", func(m *madeUp) { m.state.Lock.Declaration.Digest = "sha256:00" }, []string{"lock: drift: the declaration changed"}, []string{"trammel lock"}},
		{"another platform", func(m *madeUp) { m.state.Lock.Declaration.Platforms = []string{"plan9/arm"} }, []string{
			"lock: drift: not locked for", "files: not checked", "commands: not checked", "versions: not checked", "variables: not checked", "steps: not checked", "services: not checked"}, []string{"trammel lock"}},

		{"a changed file", func(m *madeUp) { m.parts["sluice"] = differs("lib/gate.so", tree.Changed) }, []string{"files: drift: sluice 1: 1 of 5,214 files differs [lib/gate.so changed 20 Nov 10:02]"}, []string{"trammel fit sluice"}},
		{"a missing file", func(m *madeUp) { m.parts["sluice"] = differs("lib/gate.so", "missing") }, []string{"files: drift: sluice 1: 1 of 5,214 files differs [lib/gate.so missing]"}, []string{"trammel fit sluice"}},
		{"two files", func(m *madeUp) {
			m.parts["sluice"] = store.Checked{Files: 7, Differences: []tree.Difference{{Path: "a", What: "extra"}, {Path: "b", What: "missing"}}}
		}, []string{"files: drift: sluice 1: 2 of 7 files differ"}, []string{"trammel fit sluice"}},
		{"a part that is not there", func(m *madeUp) { m.parts["sluice"] = store.Checked{Missing: true} }, []string{"files: missing: sluice 1 is not there"}, []string{"trammel fit sluice"}},
		{"a damaged manifest", func(m *madeUp) { m.parts["sluice"] = store.Checked{Record: "its manifest cannot be read"} }, []string{"files: drift: sluice 1: its manifest cannot be read"}, []string{"trammel fit sluice"}},
		{"a changed root", func(m *madeUp) { m.parts["root trixie"] = differs("usr/bin/tallydb", tree.Changed) }, []string{"files: drift: root trixie"}, []string{"trammel fit"}},
		{"a closed part", func(m *madeUp) { m.unreadable["sluice"] = closed }, []string{"files: not checked: sluice 1: permission denied"}, []string{"chmod -R u+rX /store/sluice"}},
		{"a closed part and a changed one", func(m *madeUp) { m.unreadable["sluice"], m.parts["root trixie"] = closed, differs("a", "extra") }, []string{"files: drift: sluice 1: permission denied; root trixie"}, []string{"chmod -R u+rX /store/sluice", "trammel fit"}},
		{"a missing part and a changed one", func(m *madeUp) {
			m.parts["sluice"], m.parts["root trixie"] = differs("a", "extra"), store.Checked{Missing: true}
		}, []string{"files: drift"}, []string{"trammel fit"}},

		{"an extra command", func(m *madeUp) { m.shown = []frame.Difference{{Command: "evil", What: "extra"}} }, []string{"commands: drift: shows other commands than the lock [evil extra]"}, []string{"trammel fit"}},
		{"a launcher of somebody else", func(m *madeUp) { m.shown = []frame.Difference{{Command: "launch", What: "is another one"}} }, []string{"commands: drift"}, []string{"trammel fit"}},

		{"a tool of another version", func(m *madeUp) { m.says["sluice"] = "1.2.0" }, []string{`versions: drift: a tool is not what the lock says [sluice says "1.2.0" and 1.4.2 is locked]`}, []string{"trammel fit sluice"}},
		{"a tool that cannot be started", func(m *madeUp) { m.deaf["tallydb"] = errors.New("ended with exit code 127") }, []string{"versions: drift: a tool is not what the lock says [tallydb ended with exit code 127]"}, []string{"trammel fit tallydb"}},
		{"a card that asks the host", func(m *madeUp) { m.deaf["tallydb"] = fmt.Errorf("ls is /bin/ls, %w", errNotOurs) }, []string{"versions: drift"}, nil},
		{"a tool that leans on the host", func(m *madeUp) { stand(m, "sluice", "/usr/local/sluice") }, []string{"versions: drift: a tool is not what the lock says [sluice uses the files in /usr/local/sluice, which is not of this environment]"}, []string{"trammel lock --renew sluice"}},
		{"a tool that stands on its own", func(m *madeUp) { stand(m, "sluice", "/store/sluice") }, nil, nil},
		{"a tool that does not say where it stands", func(m *madeUp) { stand(m, "sluice", ""); m.errs["stands sluice"] = closed }, []string{"versions: drift: a tool is not what the lock says [sluice permission denied]"}, []string{"trammel fit sluice"}},
		{"nobody consented", func(m *madeUp) { m.noConsent = true }, []string{"versions: not checked: nobody approved", "evidence: not checked: nobody approved", "add-ons: not checked: nobody approved"}, []string{"trammel approve"}},

		{"a variable that was not locked", func(m *madeUp) { m.state.Lock.Variables["SEASON"] = "sha256:00" }, []string{"variables: drift: differ from the lock [SEASON is not what was locked]"}, []string{"trammel lock"}},
		{"inside its shell", func(m *madeUp) { inside(m) }, []string{"*variables: ok: 2, and this shell has them"}, nil},
		{"inside, another value", func(m *madeUp) { inside(m); m.shell["SEASON"] = "autumn" }, []string{"variables: drift: differ from the lock [SEASON has another value in this shell]"}, []string{"leave this shell and open a new one: trammel shell"}},
		{"inside, a variable is gone", func(m *madeUp) { inside(m); delete(m.shell, "SEASON") }, []string{"variables: drift: differ from the lock [SEASON is not set in this shell]"}, []string{"leave this shell and open a new one: trammel shell"}},
		{"inside, a secret is not compared without consent", func(m *madeUp) { inside(m); m.shell["TOKEN"] = "other" }, nil, nil},
		{"inside, a secret of another value", func(m *madeUp) { inside(m); m.shell["TOKEN"] = "other"; m.secret = nil }, []string{"variables: drift: differ from the lock [TOKEN has another value in this shell]"}, []string{"leave this shell and open a new one: trammel shell"}},
		{"inside, a shadowed tool", func(m *madeUp) { inside(m); m.paths["sluice"] = "/usr/local/bin/sluice" }, []string{"variables: drift: differ from the lock [sluice is shadowed by /usr/local/bin/sluice"}, []string{"leave this shell and open a new one: trammel shell"}},
		{"inside, a tool that is not on PATH", func(m *madeUp) { inside(m); delete(m.paths, "sluice") }, []string{"variables: drift: differ from the lock [sluice is not on this shell's PATH]"}, []string{"leave this shell and open a new one: trammel shell"}},
		{"inside another bay's shell", func(m *madeUp) { inside(m); m.shell["TRAMMEL_BAY"] = "preview"; delete(m.shell, "SEASON") }, nil, nil},

		{"a tool of one's own", own, []string{"*your own tools: ok: yours, not the team's: nano 7.2"}, nil},
		{"one's own, a changed file", func(m *madeUp) { own(m); m.parts["nano"] = differs("bin/nano", tree.Changed) }, []string{"your own tools: drift: your own toolchains [nano 7.2 of your own: nano 7.2: 1 of 5,214 files differs, bin/nano changed 20 Nov 10:02]"}, []string{"trammel fit nano"}},
		{"one's own, missing", func(m *madeUp) { own(m); m.parts["nano"] = store.Checked{Missing: true} }, []string{"your own tools: missing"}, []string{"trammel fit nano"}},
		{"one's own, closed", func(m *madeUp) { own(m); m.unreadable["nano"] = closed }, []string{"your own tools: not checked: your own toolchains [nano 7.2 not checked: nano 7.2: permission denied]"}, []string{"chmod -R u+rX /store/nano"}},
		{"one's own, another version", func(m *madeUp) { own(m); m.says["nano"] = "7.1" }, []string{`your own tools: drift: your own toolchains [nano says "7.1" and 7.2 is locked]`}, []string{"trammel fit nano"}},
		{"one's own, nobody consented", func(m *madeUp) { own(m); m.noConsent = true }, []string{"versions: not checked", "your own tools: not checked: your own toolchains [versions not checked: nobody approved]", "evidence: not checked", "add-ons: not checked"}, []string{"trammel approve"}},

		{"a file that a person changed", func(m *madeUp) { m.rendered[0].State, m.rendered[0].Why = render.Drifted, "it was changed by hand" }, []string{"rendered files: drift: 1 rendered [conf/lanes.ini it was changed by hand]"}, []string{"trammel fit"}},
		{"a file whose template changed", func(m *madeUp) { m.rendered[0].State = render.Due }, []string{"rendered files: due"}, []string{"trammel fit"}},
		{"a file of the project in its place", func(m *madeUp) { m.rendered[0].State = render.Blocked }, []string{"rendered files: drift"}, []string{"mv conf/lanes.ini conf/lanes.ini.before", "trammel fit"}},
		{"the worst file decides, first", func(m *madeUp) {
			m.rendered = append([]render.Status{{File: m.rendered[0].File, State: render.Drifted}}, render.Status{File: m.rendered[0].File, State: render.Due})
		}, []string{"rendered files: drift"}, []string{"trammel fit"}},
		{"the worst file decides, last", func(m *madeUp) {
			m.rendered = append([]render.Status{{File: m.rendered[0].File, State: render.Due}}, render.Status{File: m.rendered[0].File, State: render.Drifted})
		}, []string{"rendered files: drift"}, []string{"trammel fit"}},
		{"files that cannot be asked", func(m *madeUp) { m.errs["files"] = closed }, []string{"rendered files: not checked: permission denied"}, []string{"trammel fit"}},

		{"a step is due", func(m *madeUp) { m.due[0].Due, m.due[0].Why = true, "db/schema.sql changed" }, []string{"steps: due: load: db/schema.sql changed"}, []string{"trammel fit load"}},
		{"steps that cannot be asked", func(m *madeUp) { m.errs["steps"] = closed }, []string{"steps: not checked: permission denied"}, []string{"trammel fit"}},

		{"other evidence", func(m *madeUp) { m.proofs[0].Now = []string{"211 rows"} }, []string{"evidence: drift: a step left behind something else than is locked [load - 212 rows, load + 211 rows]"}, []string{"trammel fit load"}},
		{"evidence that the step itself left", func(m *madeUp) { m.proofs[0].Now = []string{"211 rows"}; m.lastLeft["load"] = []string{"211 rows"} }, []string{"evidence: drift"}, []string{"trammel lock"}},
		{"evidence that cannot be asked", func(m *madeUp) { m.proofs[0].Not = "ledger does not run: trammel start ledger" }, []string{"evidence: not checked: load: ledger does not run"}, []string{"trammel start"}},
		{"no evidence at all can be asked", func(m *madeUp) { m.errs["evidence"] = closed }, []string{"evidence: not checked: permission denied"}, []string{"trammel start"}},
		{"one differs and one cannot be asked", func(m *madeUp) {
			m.proofs[0].Now = nil
			m.proofs = append(m.proofs, setup.Evidence{Step: declare.Step{Name: "sum"}, Not: "no"})
		}, []string{"evidence: drift"}, []string{"trammel fit load", "trammel start"}},

		{"an add-on more", func(m *madeUp) { m.pictures["editor"] = []string{"other 2.0", "plain 1.0"} }, []string{"add-ons: drift: differ from their pictures [editor + other 2.0]"}, []string{"trammel fit --exact"}},
		{"an add-on less", func(m *madeUp) { m.pictures["editor"] = nil }, []string{"add-ons: drift"}, []string{"trammel fit --exact"}},
		{"an add-on without a picture", func(m *madeUp) { delete(m.state.Lock.Pictures, "editor") }, []string{"add-ons: drift: differ from their pictures [editor has no picture in the lock yet]"}, []string{"trammel fit --exact"}},
		{"an installer that does not answer", func(m *madeUp) { m.errs["picture editor"] = errors.New("there is no command code") }, []string{"add-ons: not checked: an installer did not say what it has [editor not checked: there is no command code]"}, []string{"trammel fit --exact"}},

		{"nothing runs", func(m *madeUp) { m.running = nil }, []string{"*services: ok: none runs"}, nil},
		{"one stopped", func(m *madeUp) { m.running[1].State = service.Stopped; m.running[1].Config = "old" }, []string{"*services: ok: 1 runs the locked build"}, nil},
		{"another configuration", func(m *madeUp) { m.running[0].Config = "old" }, []string{"services: drift: a running service is not the locked one [ledger runs with another configuration]"}, []string{"trammel start ledger"}},
		{"another environment", func(m *madeUp) { m.running[0].Build = "old" }, []string{"services: drift: a running service is not the locked one [ledger runs another environment: "}, []string{"trammel start ledger"}},
		{"one that is not declared", func(m *madeUp) { delete(m.specs, "board") }, []string{"services: drift: a running service is not the locked one [board runs and is not declared any more]"}, []string{"trammel stop board"}},
		{"a failing one", func(m *madeUp) { m.running[0].State, m.running[0].Reason = service.Failing, "500" }, []string{"services: drift: a running service is not the locked one [ledger runs and is failing: 500]"}, []string{"trammel logs ledger"}},
		{"a failing one of an old configuration", func(m *madeUp) { m.running[0].State, m.running[0].Config = service.Failing, "old" }, []string{"services: drift: a running service is not the locked one [ledger runs and is failing: "}, []string{"trammel start ledger", "trammel logs ledger"}},
		{"a starting one of an old configuration", func(m *madeUp) { m.running[0].State, m.running[0].Config = service.Starting, "old" }, []string{"services: drift"}, []string{"trammel start ledger"}},
		{"somebody else's port", func(m *madeUp) { m.ground["ledger"] = []string{"port main (7700) is answered by perl"} }, []string{"services: drift: a running service is not the locked one [ledger port main (7700) is answered by perl]"}, []string{"trammel start --again ledger"}},
		{"a process that may not be looked at", func(m *madeUp) { m.errs["behind ledger"] = closed }, []string{"services: not checked: a running service could not be asked [ledger not checked: permission denied]"}, []string{"trammel start --again ledger"}},
		{"a supervisor that is silent", func(m *madeUp) { m.errs["statuses"] = errors.New("it does not answer") }, []string{"services: not checked: it does not answer"}, []string{"trammel start"}},
		{"a service that cannot be told", func(m *madeUp) { m.errs["wanted"] = closed }, []string{"services: not checked: permission denied"}, []string{"trammel fit"}},
		{"in a cluster", func(m *madeUp) { m.where = "hut/heronweir-main" }, []string{"*services: ok: run the locked environment, in hut/heronweir-main"}, nil},
		{"in a cluster, a foreign image", func(m *madeUp) { m.where, m.live = "hut/weir", []Detail{{"board", "runs image evil.example/x"}} }, []string{"services: drift: what runs in hut/weir is not what is locked [board runs image evil.example/x]"}, []string{"trammel --bay main start"}},
		{"a cluster that is silent", func(m *madeUp) { m.where, m.errs["cluster"] = "hut/weir", errors.New("it did not answer") }, []string{"services: not checked: it did not answer"}, []string{"trammel --bay main start"}},
		{"a cluster's record that cannot be read", func(m *madeUp) { m.errs["cluster"] = errors.New("no record") }, []string{"services: not checked: no record"}, []string{"trammel --bay main start"}},

		{"a user's own library", func(m *madeUp) {
			m.state.Declaration.Addons = nil
			m.state.Lock.Items["python"] = lock.Item{Version: "3.13"}
			put(m.homeDir, "python/lib/python3.13/site-packages/evil.py")
		}, []string{"libraries: drift: more or other than the lock says ["}, []string{"rm -r HOME/python/lib/python3.13/site-packages/evil.py"}},
		{"a user's own library, of no tool that is here", func(m *madeUp) {
			m.state.Declaration.Addons = nil
			put(m.homeDir, "python/lib/python3.13/site-packages/evil.py")
		}, nil, nil},
		{"a start-up file of a sealed home", func(m *madeUp) {
			m.state.Declaration.Isolation, m.state.Declaration.Steps = declare.Sealed, nil
			put(m.homeDir, ".Rprofile")
		}, []string{"libraries: drift: more or other than the lock says ["}, []string{"rm -r HOME/.Rprofile"}},
		{"a user's own library, which an add-on may have put there", func(m *madeUp) {
			m.state.Lock.Items["python"] = lock.Item{Version: "3.13"}
			put(m.homeDir, "python/lib/python3.13/site-packages/mine.py")
		}, nil, nil},
		{"a command of nobody", func(m *madeUp) { m.state.Declaration.Addons = nil; put(m.homeDir, "bin/evil") }, []string{"libraries: drift"}, []string{"rm -r HOME/bin/evil"}},
		{"a start-up file that a step may have put there", func(m *madeUp) { m.state.Declaration.Isolation = declare.Sealed; put(m.homeDir, ".Rprofile") }, nil, nil},
		{"a start-up file of a person's home", func(m *madeUp) { put(m.homeDir, ".Rprofile") }, nil, nil},
		{"a package of no set", func(m *madeUp) {
			m.mods = []libraries.Modules{{Checkout: m.state.Dir(), Folder: "node_modules", Links: map[string]string{"react": "/store/react"}}}
			put(m.state.Dir(), "node_modules/evil")
		}, []string{"libraries: drift: more or other than the lock says [node_modules/evil is of no set"}, []string{"rm -r node_modules/evil", "trammel fit"}},

		{"a policy that refuses", func(m *madeUp) {
			p, err := policy.Parse("policy.toml", []byte("format = 1\nname = \"Weir\"\n[environment]\nisolation = [\"sealed\"]\n"))
			if err != nil {
				panic(err)
			}
			m.state.Policies = policy.List{p}
		}, []string{"policy: drift"}, []string{"take out of the declaration what the policy refuses"}},
		{"everything at once has its order", func(m *madeUp) {
			m.state.Lock.Declaration.Digest = "sha256:00"
			m.parts["sluice"] = differs("a", "extra")
			m.running[0].Config = "old"
			m.noConsent = true
		}, []string{"lock: drift", "files: drift", "versions: not checked", "evidence: not checked", "add-ons: not checked", "services: drift"},
			[]string{"trammel lock", "trammel approve", "trammel fit sluice", "trammel start ledger"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := sound(t)
			c.change(m)
			r := m.verify(t, nil)
			rows := map[string]string{}
			for _, x := range r.Rows {
				text := fmt.Sprintf("%s: %s: %s", x.Name, x.State, x.Text)
				var details []string
				for _, d := range x.Details {
					details = append(details, d.Thing+" "+d.What)
				}
				if len(details) > 0 {
					text += " [" + strings.Join(details, ", ") + "]"
				}
				rows[x.Name] = text
				if x.Name != Named(x.Check) {
					t.Errorf("the check %s is called %s", x.Check, x.Name)
				}
				told := slices.ContainsFunc(c.want, func(w string) bool { return strings.HasPrefix(w, x.Name+": ") })
				if !told && x.State != OK {
					t.Errorf("unexpected: %s", text)
				}
			}
			for _, w := range c.want {
				w, holds := strings.CutPrefix(w, "*")
				name, _, _ := strings.Cut(w, ":")
				if !strings.HasPrefix(rows[name], w) {
					t.Errorf("the row is %q\nand should be %q", rows[name], w)
				}
				if holds == (r.Rows[slices.IndexFunc(r.Rows, func(x Row) bool { return x.Name == name })].State != OK) {
					t.Errorf("%s counts wrongly", name)
				}
			}
			want := slices.Clone(c.mend)
			for i := range want {
				want[i] = strings.ReplaceAll(want[i], "HOME", m.homeDir)
			}
			if !slices.Equal(r.Mend, want) {
				t.Errorf("mend: %q, not %q", r.Mend, want)
			}
			if len(c.want) == 0 && !r.OK() {
				t.Error("it does not hold")
			}
			if bad := slices.ContainsFunc(c.want, func(w string) bool { return !strings.HasPrefix(w, "*") }); r.OK() == bad {
				t.Errorf("OK is %v", r.OK())
			}
		})
	}
}

func inside(m *madeUp) {
	m.shell = map[string]string{"TRAMMEL_DIR": m.state.Dir(), "TRAMMEL_BAY": "main", "SEASON": "spring", "TOKEN": "x", "HOME": "/nowhere"}
}

// stand has a tool say where it stands.
func stand(m *madeUp, tool, folder string) {
	item := m.state.Lock.Items[tool]
	item.Place = tool + " --where"
	m.state.Lock.Items[tool] = item
	m.at = map[string]string{tool: folder}
}

func put(dir, name string) {
	file := filepath.Join(dir, name)
	_ = os.MkdirAll(filepath.Dir(file), 0o755)
	_ = os.WriteFile(file, nil, 0o644)
}

func (m *madeUp) verify(t *testing.T, notFitted error) *Report {
	t.Helper()
	o := Options{}
	if m.noConsent {
		o.NotGiven = errors.New("nobody approved\nmore")
	}
	r, err := verify(context.Background(), m.state, o, m, func() (machine, error) { return m, notFitted })
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestWhatDiffersIsMarkedAndWhatCannotBeReadIsNot(t *testing.T) {
	m := sound(t)
	own(m)
	m.parts["nano"], m.unreadable["sluice"] = differs("a", "extra"), errors.New("permission denied")
	m.verify(t, nil)
	if !slices.Equal(m.marked, []string{"nano"}) {
		t.Errorf("marked: %v", m.marked)
	}
}

func TestWhatIsNotFittedIsSaidOnce(t *testing.T) {
	m := sound(t)
	m.parts["sluice"] = store.Checked{Missing: true}
	r := m.verify(t, checkout.NotFitted("sluice 1"))
	for _, x := range r.Rows[2:] {
		if x.State != NotChecked {
			t.Errorf("%+v", x)
		}
	}
	if !slices.Equal(r.Mend, []string{"trammel fit sluice"}) || r.OK() {
		t.Errorf("%q", r.Mend)
	}
	m = sound(t)
	r = m.verify(t, fault.New(fault.ErrFailed, "the folder .trammel is a link"))
	if x := r.Rows[2]; x.Name != "commands" || x.State != NotChecked || x.Text != "the folder .trammel is a link" || !slices.Equal(r.Mend, []string{"trammel fit"}) {
		t.Errorf("%+v, %q", x, r.Mend)
	}
}

func TestAnInterruptedVerifyIsNoProof(t *testing.T) {
	m := sound(t)
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(errors.New("interrupted"))
	if r, err := verify(ctx, m.state, Options{}, m, func() (machine, error) { return m, nil }); err == nil {
		t.Errorf("%+v", r)
	}
}

func TestPartsAreReportedOneByOne(t *testing.T) {
	m := sound(t)
	m.parts["sluice"], m.unreadable["root trixie"] = differs("lib/gate.so", tree.Changed), errors.New("permission denied")
	r := m.verify(t, nil)
	states := map[string]string{}
	for _, p := range r.Parts {
		states[p.Label] = p.State + " " + strings.Join(p.Differs, ",")
	}
	if states["sluice"] != "drift lib/gate.so changed" || states["root trixie"] != "not checked " {
		t.Errorf("%v", states)
	}
}
