package main

import (
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
)

// A seed that is done once does not cut off the migrations behind it: who pulls one has it with start, and what needs
// the seed is started anew.
func TestAMigrationBehindASeedIsRunByStart(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[step.migrate]
run   = "for f in db/*.sql; do echo ran $f; done; ls db > rows"
reads = ["db/*"]

[step.seed]
run   = "echo seed >> seeds"
when  = "first"
needs = ["step.migrate"]

[service.api]
run   = "cat rows; exec sleep 300"
needs = ["step.seed"]
`)
	h.write("db/1.sql", "one")
	h.ok("lock")
	h.ok("start", "--approve")
	pid := find(t, h, "api").Pid
	h.ok("start")
	if now := find(t, h, "api").Pid; now != pid {
		t.Error("a second start starts it anew")
	}
	h.write("db/2.sql", "two")
	h.git("init", "-q", ".") // what version control knows as data asks nobody
	o := h.try("start", "--approve")
	if o.code != 0 || !strings.Contains(o.err, "step migrate") || !strings.Contains(h.read("rows"), "2.sql") {
		t.Errorf("start after a pull: %d\n%s%s", o.code, o.out, o.err)
	}
	if now := find(t, h, "api").Pid; now == pid {
		t.Error("what needs the seed goes on with the old tables")
	}
	if h.read("seeds") != "seed\n" {
		t.Errorf("seeded %q", h.read("seeds"))
	}
	// What a step printed is read as what a service did.
	if out := h.ok("logs", "migrate"); !strings.Contains(out, "ran db/2.sql") {
		t.Errorf("its log:\n%s", out)
	}
	if out := h.ok("logs", "migrate", "--since", "2001-01-01", "--json"); !strings.Contains(out, `"service":"step-migrate"`) {
		t.Errorf("as JSON:\n%s", out)
	}
	h.fails(2, []string{"is no time", "09:30"}, "logs", "migrate", "--since", "yesterday")
	h.fails(2, []string{`no service or step is named "migrat"`, "migrate"}, "logs", "migrat")
	h.ok("stop")
}

// start does all that a person who pulled must have, in one order, and says of each what it waited for.
func TestStartDoesAllThatIsDue(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[param.lanes]
kind    = "integer"
default = 3

[file."lanes.conf"]
template = "lanes.tmpl"

[addon.charts]
list   = "cat charts 2>/dev/null || true"
add    = "echo @{item} >> charts"
want   = ["bars 1.0"]

[step.alone]
run   = "echo alone > alone; echo it was counted"
makes = ["alone"]

[step.table]
run   = "echo table >> tables"

[service.ledger]
run   = "exec sleep 300"
needs = ["step.table"]

[service.spare]
run  = "exec sleep 300"
auto = false
`)
	h.write("lanes.tmpl", "lanes = {{ .param.lanes }}\n")
	h.ok("lock")
	// One service alone is narrow, and says what it left.
	if o := h.try("start", "ledger", "--approve"); o.code != 0 || !strings.Contains(o.out+o.err, "Due: alone") || h.there("alone") || h.there("charts") {
		t.Errorf("%d %s%s", o.code, o.out, o.err)
	}
	o := h.try("start")
	if o.code != 0 || !strings.Contains(o.err, "step alone") || !strings.Contains(o.err, "add-on charts") {
		t.Errorf("%d\n%s%s", o.code, o.out, o.err)
	}
	for name, want := range map[string]string{"alone": "alone\n", "charts": "bars 1.0\n", "lanes.conf": "lanes = 3\n", "tables": "table\n"} {
		if got := h.read(name); got != want {
			t.Errorf("%s is %q", name, got)
		}
	}
	if !strings.Contains(o.out+o.err, "trammel.lock now; commit it") || !strings.Contains(h.read("trammel.lock"), "bars 1.0") {
		t.Errorf("what it learned is not in the lock, or not said:\n%s%s", o.out, o.err)
	}
	for _, st := range statuses(t, h) {
		if st.Service == "spare" && st.Running() {
			t.Error("a service that nobody asked for runs")
		}
	}
	if o := h.try("start"); o.code != 0 || strings.Contains(o.err, "step") || strings.Contains(o.err, "add-on") || strings.Contains(o.out, "Due") {
		t.Errorf("a second start: %d\n%s%s", o.code, o.out, o.err)
	}
	// After a change of what was pulled, again.
	h.change(`want   = ["bars 1.0"]`, `want   = ["bars 1.0", "lines 2.0"]`)
	h.write("lanes.tmpl", "all lanes = {{ .param.lanes }}\n")
	h.ok("lock")
	h.ok("start", "--approve")
	if h.read("charts") != "bars 1.0\nlines 2.0\n" || h.read("lanes.conf") != "all lanes = 3\n" {
		t.Errorf("after a change: %q, %q", h.read("charts"), h.read("lanes.conf"))
	}
	h.change(`echo table >> tables`, `echo table >> tables; sleep 0.1`)
	h.ok("lock")
	o = h.try("start", "--approve", "--verbose")
	if !regexp.MustCompile(`service ledger +done .*after step table`).MatchString(o.err) {
		t.Errorf("it does not say what it waited for:\n%s", o.err)
	}
	h.ok("stop")
}

// A port that moves is moved before files, fingerprints and specs are made of it: the next start finds nothing due.
func TestAPortMovesBeforeAnythingIsMadeOfIt(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	taken := l.Addr().(*net.TCPAddr).Port
	h := newHut(t, nil, `format  = 1
project = "heronweir"

[file."board.conf"]
template = "board.tmpl"

[step.note]
run   = "cp board.conf noted"
needs = ["file.board.conf"]

[service.board]
run   = "python3 -m http.server --bind 127.0.0.1 @{port.http}"
ports = { http = `+itoa(taken)+` }
needs = ["file.board.conf", "step.note"]
host  = ["python3"]
`)
	h.change("host  = [\"python3\"]\n", "")
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "project = \"heronweir\"\n", "project = \"heronweir\"\nhost = [\"python3\"]\n", 1))
	h.write("board.tmpl", "port = {{ .service.board.port.http }}\n")
	h.ok("lock")
	h.ok("start", "--approve")
	st := find(t, h, "board")
	want := "port = " + itoa(st.Ports["http"]) + "\n"
	if st.Ports["http"] == taken || h.read("board.conf") != want || h.read("noted") != want {
		t.Errorf("port %d: the file says %q, the step noted %q", st.Ports["http"], h.read("board.conf"), h.read("noted"))
	}
	o := h.try("start")
	if now := find(t, h, "board"); o.code != 0 || now.Pid != st.Pid || strings.Contains(o.err, "step note") || strings.Contains(o.err, "is taken") {
		t.Errorf("a second start: %d\n%s%s", o.code, o.out, o.err)
	}
	h.ok("stop")
}

// The first error is shown beside the last lines, of a step and of a service.
func TestTheFirstErrorIsShown(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	noise := "i=0; while [ $i -lt 40 ]; do echo frame $i of the trace; i=$((i+1)); done"
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[step.build]\nrun = '''\necho compiling\necho 'lane.c:7: error: silverfin undeclared'\n"+noise+"\nexit 1\n'''\n\n[service.lane]\nrun = '''\necho starting\necho 'panic: the ladder is closed'\n"+noise+"\nexit 2\n'''\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	o := h.fails(1, []string{"| lane.c:7: error: silverfin undeclared", "| frame 39 of the trace", "more lines", "trammel logs build"}, "fit")
	if strings.Contains(o.err, "frame 3 of") {
		t.Errorf("it shows all:\n%s", o.err)
	}
	h.fails(6, []string{"| panic: the ladder is closed", "| frame 39 of the trace"}, "start", "lane")
	if logs, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/logs/step-build.log")); len(logs) != 1 {
		t.Errorf("logs: %v", logs)
	} else if raw, err := os.ReadFile(logs[0]); err != nil || !strings.Contains(string(raw), "compiling") {
		t.Errorf("%v %s", err, raw)
	}
}

// A file has the addresses that hold for who reads it: inside of a private network for a service, outside for everybody
// else. One that both read is refused, with the way out.
func TestAFileHasTheAddressesOfItsReader(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	wanted := freeNumber(t)
	l, err := net.Listen("tcp4", "127.0.0.1:"+itoa(wanted))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	h := newHut(t, nil, `format  = 1
project = "heronweir"
network = "private"
host    = ["python3"]

[file."inside.conf"]
template = "sources.tmpl"

[file."outside.conf"]
template = "sources.tmpl"

[step.note]
run   = "cp outside.conf noted"
needs = ["file.outside.conf", "service.ledger"]

[service.ledger]
run   = "python3 -m http.server --bind 127.0.0.1 @{port.main}"
ports = { main = `+itoa(wanted)+` }

[service.board]
run   = "cat inside.conf; exec sleep 300"
needs = ["service.ledger", "file.inside.conf", "step.note"]
`)
	h.write("sources.tmpl", "ledger = {{ .service.ledger.host }}:{{ .service.ledger.port.main }}\n")
	h.ok("lock")
	h.ok("start", "--approve")
	outer := find(t, h, "ledger").Ports["main"]
	for name, want := range map[string]int{"inside.conf": wanted, "outside.conf": outer, "noted": outer} {
		if got := h.read(name); outer == wanted || got != "ledger = 127.0.0.1:"+itoa(want)+"\n" {
			t.Errorf("%s says %q; inside it is %d, outside %d", name, got, wanted, outer)
		}
	}
	if o := h.try("start"); o.code != 0 || strings.Contains(o.err, "step note") {
		t.Errorf("a second start: %d %s", o.code, o.err)
	}
	h.ok("verify")
	h.ok("stop")
	h.change(`"file.outside.conf", `, `"file.inside.conf", `)
	h.fails(2, []string{"inside.conf has addresses of services", "service.board", "step.note", "Render two files"}, "lock")
	h.write("sources.tmpl", "lanes = 3\n") // without an address both may
	h.ok("lock")
}

// A variable of a card can be taken away, for all or for one service.
func TestAVariableOfACardIsUnset(t *testing.T) {
	t.Parallel()
	s := registry(t)
	h := newHut(t, s, strings.Replace(goAndNode, "[variables]\n", "[variables]\nSEASON = \"spring\"\n", 1)+"\n[service.lane]\nrun = \"echo goroot=${GOROOT-none} season=${SEASON-none}; exec sleep 300\"\nvariables = { SEASON = false }\n")
	h.ok("lock")
	h.ok("fit", "--approve")
	before := h.ok("run", "--", "env")
	name := ""
	for _, v := range []string{"GOPATH", "GOMODCACHE", "GOTOOLCHAIN", "npm_config_cache"} {
		if strings.Contains(before, "\n"+v+"=") {
			name = v
		}
	}
	if name == "" {
		t.Fatalf("no card sets a variable here:\n%s", before)
	}
	h.ok("start")
	if out := h.ok("logs", "lane"); !strings.Contains(out, "season=none") {
		t.Errorf("of the service:\n%s", out)
	}
	h.ok("stop")
	h.change("SEASON = \"spring\"\n", "SEASON = \"spring\"\n"+name+" = false\n")
	h.ok("lock")
	if out := h.ok("approve", "--json"); !strings.Contains(out, "is not set") {
		t.Error("it is not on the list of effects")
	}
	h.ok("approve", "--yes")
	if after := h.ok("run", "--", "env"); strings.Contains(after, "\n"+name+"=") || !strings.Contains(after, "SEASON=spring") {
		t.Errorf("%s is still there:\n%s", name, after)
	}
	h.ok("verify")
	h.change(name+" = false", name+" = true")
	h.fails(2, []string{name}, "lock")
}

// trap … EXIT is run when a service is stopped, and when a step or a routine is interrupted, with the variables that the
// script has come to; the trap of a shell within is not the script's.
func TestATrapIsRunWhateverEndsAScript(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	body := "lanes=3\ntidy() { echo \"tidied $lanes $1\" >> NAME; }\ntrap 'tidy now' EXIT\n( trap 'echo inner >> NAME' EXIT; true ) > NAME.inner\nlanes=4\necho up > up-NAME\nsleep 60\necho never >> NAME\n"
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[service.lane]\nrun = '''\n"+strings.ReplaceAll(body, "NAME", "service")+"'''\n\n[step.load]\nwhen = \"first\"\nrun = '''\n"+strings.ReplaceAll(body, "NAME", "step")+"'''\n\n[routine.count]\nrun = '''\n"+strings.ReplaceAll(body, "NAME", "routine")+"'''\n")
	h.ok("lock")
	h.ok("approve", "--yes")
	wait := func(name string) {
		t.Helper()
		eventually(t, name, func() bool { return h.there(name) })
	}
	h.ok("start", "lane")
	wait("up-service")
	h.ok("stop")
	for name, args := range map[string][]string{"step": {"fit"}, "routine": {"do", "count"}} {
		for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
			os.Remove(filepath.Join(h.dir, "up-"+name))
			os.Remove(filepath.Join(h.dir, name))
			c := h.command(args...)
			c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			wait("up-" + name)
			_ = syscall.Kill(-c.Process.Pid, sig)
			_ = c.Wait()
			if got := h.read(name); got != "tidied 4 now\n" && got != "inner\ntidied 4 now\n" {
				t.Errorf("%s, %v: %q", name, sig, got)
			}
		}
	}
	if got := h.read("service"); got != "tidied 4 now\n" && got != "inner\ntidied 4 now\n" {
		t.Errorf("service: %q", got)
	}
}
