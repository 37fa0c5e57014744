package main

import (
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/running/service"
)

// What services do when something that they go by is not what it was; what steps do in the
// life of a bay; settings, dumps and segments.

// changing is a project with a service that reads files and needs a step.
func changing(t *testing.T, more string) *hut {
	t.Helper()
	linuxOnly(t)
	h := newHut(t, nil, fmt.Sprintf(`format = 1
project = "heronweir"
isolation = "open"

[step.packages]
run   = "echo ran >> packages.log"
reads = ["packages.json"]

[service.api]
%s
reads = ["src/**", "!src/vendor/**"]
needs = ["step.packages"]
%s

[service.board]
run   = "sleep 600"
needs = ["service.api"]

[service.aside]
run = "sleep 600"
`, serves(t, "signals", ""), more))
	for _, name := range []string{"src/server.js", "src/deep/lane.js", "src/vendor/x.js", "docs/x.md", "packages.json"} {
		h.write(name, "1")
	}
	h.ok("lock")
	h.ok("start")
	return h
}

func pidsOf(t *testing.T, h *hut) map[string]int {
	t.Helper()
	out := map[string]int{}
	for _, st := range statuses(t, h) {
		if st.State != service.Ready {
			t.Errorf("%s is %s: %s", st.Name, st.State, st.Reason)
		}
		out[st.Name] = st.Pid
	}
	return out
}

func TestAServiceTakesOnWhatItReads(t *testing.T) {
	t.Parallel()
	h := changing(t, "")
	before := pidsOf(t, h)
	for _, c := range []struct {
		change func()
		why    string // "" leaves it alone
	}{
		{func() {}, ""},
		{func() { h.write("docs/x.md", "2") }, ""},
		{func() { h.write("src/vendor/x.js", "2") }, ""},
		{func() { h.write("src/server.js", "2") }, "started anew: src/server.js changed"},
		{func() { h.write("src/new.js", "2") }, "started anew: src/new.js is new"},
		{func() { os.Remove(filepath.Join(h.dir, "src/deep/lane.js")) }, "started anew: src/deep/lane.js is gone"},
		{func() { h.write("packages.json", "2") }, "started anew: step packages changed"},
		{func() { h.change("run   = \"echo ran", "run   = \"echo again"); h.ok("lock"); h.ok("approve", "--yes") }, "started anew: step packages changed"},
	} {
		c.change()
		shown := h.ok("show")
		if strings.Contains(shown, "changed since they started: api") != (c.why != "" && !strings.Contains(c.why, "step")) {
			t.Errorf("%q: show says\n%s", c.why, shown)
		}
		o := h.try("start")
		now := pidsOf(t, h)
		if o.code != 0 || !strings.Contains(o.err, c.why) || c.why == "" && strings.Contains(o.err, "anew") {
			t.Errorf("%q: %+v", c.why, o)
		}
		if (now["api"] != before["api"]) != (c.why != "") || (now["board"] != before["board"]) != (c.why != "") || now["aside"] != before["aside"] {
			t.Errorf("%q: %v, then %v", c.why, before, now)
		}
		before = now
	}
}

func TestAServiceIsToldOrLeftAlone(t *testing.T) {
	t.Parallel()
	h := changing(t, `when-changed = "HUP"`)
	eventually(t, "it counts", func() bool { return strings.Contains(h.ok("logs", "api"), "counting") })
	before := pidsOf(t, h)
	h.write("src/server.js", "2")
	if o := h.try("start"); !strings.Contains(o.err, "was sent SIGHUP: src/server.js changed") {
		t.Errorf("%+v", o)
	}
	eventually(t, "it got the signal", func() bool { return strings.Contains(h.ok("logs", "api"), "got hangup") })
	if o := h.try("start"); strings.Contains(o.err, "SIGHUP") {
		t.Errorf("twice: %+v", o)
	}
	h.change(`"HUP"`, `"nothing"`)
	h.ok("lock")
	h.ok("approve", "--yes")
	h.write("src/server.js", "3")
	h.write("packages.json", "3")
	if o := h.try("start"); strings.Contains(o.err, "anew") {
		t.Errorf("%+v", o)
	}
	if now := pidsOf(t, h); now["api"] != before["api"] || now["board"] != before["board"] {
		t.Errorf("%v, then %v", before, now)
	}
	h.fails(2, []string{"when-changed", "restart"}, "lock", "--check", "--dir", declaredIn(t, "[service.x]\nrun = \"true\"\nwhen-changed = \"wink\"\n"))
}

// declaredIn is a folder with a declaration.
func declaredIn(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "trammel.toml"), []byte("format = 1\nproject = \"heronweir\"\n"+text), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

// An attached start, and the page, take on changes by themselves.
func TestChangesOfFilesAreFollowed(t *testing.T) {
	t.Parallel()
	h := changing(t, "")
	before := pidsOf(t, h)
	c := h.command("start", "--attach")
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer read.Close()
	c.Stdout, c.Stderr = write, write
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	write.Close()
	said := make(chan string, 1)
	go func() {
		b := make([]byte, 1<<20)
		n := 0
		for n < len(b) {
			k, err := read.Read(b[n:])
			if n += k; err != nil {
				break
			}
		}
		said <- string(b[:n])
	}()
	eventually(t, "it is attached", func() bool {
		h.write("src/server.js", fmt.Sprint(time.Now().UnixNano()))
		return pidsOf2(h)["api"] != before["api"]
	})
	// Many changes that come together are one: the same service starts again once they are over.
	time.Sleep(time.Second)
	settled := pidsOf2(h)["api"]
	for i := range 20 {
		h.write(fmt.Sprintf("src/%d.js", i), "x")
	}
	eventually(t, "it took them on", func() bool { now := pidsOf2(h)["api"]; return now != settled && now != 0 })
	c.Process.Signal(syscall.SIGINT)
	c.Wait()
	// The supervisor says it in the log, and then this command, unless Ctrl-C came before.
	if out := <-said; strings.Count(out, "src/0.js is new and ") > 2 || !strings.Contains(out, "is started anew: src/0.js is new and ") {
		t.Errorf("%s", out)
	}
	// The page: somebody looks at it, and what changes is taken on.
	settled = pidsOf2(h)["api"]
	h.seen("heronweir.localhost", "/state")
	h.write("src/server.js", "a last word")
	eventually(t, "the page takes it on", func() bool {
		h.seen("heronweir.localhost", "/state")
		now := pidsOf2(h)["api"]
		return now != settled && now != 0
	})
}

// pidsOf2 is pidsOf while things are on the move.
func pidsOf2(h *hut) map[string]int {
	out := map[string]int{}
	for _, st := range statuses(h.t, h) {
		if st.State == service.Ready {
			out[st.Name] = st.Pid
		}
	}
	return out
}

// What a person typed into their own database stays when a team changes what comes first.
func TestAFirstStepIsDoneOnceInABaysLife(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format = 1
project = "heronweir"
isolation = "open"

[step.migrate]
run   = "cat db/*.sql >> @{bay.dir}/schema"
reads = ["db/*.sql"]
per   = "bay"

[step.seed]
run   = "cat db/seed.txt > @{bay.dir}/rows"
reads = ["db/seed.txt"]
after = ["step.migrate"]
when  = "first"

[step.later]
run   = "echo later >> @{bay.dir}/later"
after = ["step.migrate"]
per   = "bay"

[service.ledger]
run   = "sleep 600"
needs = ["step.seed"]
`)
	h.write("db/1.sql", "create table lanes\n")
	h.write("db/seed.txt", "silverfin\n")
	h.ok("lock")
	h.ok("start")
	rows, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/rows"))
	keep := func(want string) {
		t.Helper()
		raw, _ := os.ReadFile(rows[0])
		if string(raw) != want {
			t.Errorf("the rows are %q", raw)
		}
	}
	keep("silverfin\n")
	if err := os.WriteFile(rows[0], []byte("silverfin\nredgill, of my own\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.ok("fit")
	// The team's new migration, and its new seed.
	h.write("db/2.sql", "create table passings\n")
	h.write("db/seed.txt", "silverfin\ntrout\n")
	if out := h.ok("show"); !strings.Contains(out, "migrate  due") || strings.Contains(out, "seed     due") || strings.Contains(out, "later    due") {
		t.Error(out)
	}
	h.ok("start")
	h.ok("fit")
	keep("silverfin\nredgill, of my own\n")
	schema, _ := os.ReadFile(filepath.Join(filepath.Dir(rows[0]), "schema"))
	if !strings.Contains(string(schema), "passings") {
		t.Errorf("the migration did not run: %q", schema)
	}
	if later, _ := os.ReadFile(filepath.Join(filepath.Dir(rows[0]), "later")); string(later) != "later\n" {
		t.Errorf("a step that comes after another ran for it: %q", later)
	}
	h.ok("fit", "--again", "seed") // asked for by name it does
	keep("silverfin\ntrout\n")
	h.ok("--bay", "trial", "start")
	trial, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/trial/rows"))
	if raw, _ := os.ReadFile(trial[0]); string(raw) != "silverfin\ntrout\n" {
		t.Errorf("another bay has %q", raw)
	}
	for text, words := range map[string][]string{
		"[step.a]\nrun = \"true\"\nafter = [\"step.b\"]\n":                                                 {"step.b"},
		"[step.a]\nrun = \"true\"\nafter = [\"step.b\"]\n[step.b]\nrun = \"true\"\nafter = [\"step.a\"]\n": {"circle"},
		"[step.a]\nrun = \"true\"\nafter = [\"service.s\"]\n[service.s]\nrun = \"true\"\n":                 {"step.NAME"},
		"[step.a]\nrun = \"true\"\nwhen = \"first\"\nper = \"checkout\"\n":                                 {"once in each bay"},
		"[step.a]\nrun = \"trap 'rm x' TERM\\nsleep 5\"\n":                                                 {"no trap for the signal TERM", "shell ="},
		"[service.a]\nrun = \"server &\\ntrap 'kill $!' INT\\nwait\"\n":                                    {"no trap for the signal INT"},
		"[step.a]\nrun = \"trap 'rm x' EXIT\"\n[service.b]\noptions = [\"-v\"]\nrun = \"true\"\n":          {"options are for what a tool's card runs"},
	} {
		h.fails(2, words, "--dir", declaredIn(t, text), "lock")
	}
}

// Settings reach a server as they are written, whatever is in them, and never as a part of a
// script.
func TestSettingsAreArgumentsAndVariables(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	nasty := `it's "$(touch EVIL)" ; touch EVIL2 #`
	h := stranger(t, fmt.Sprintf(`
[param.size]
kind = "integer"
default = 7

[service.db]
tool     = "keeper"
settings = { "max-size" = 12, "log.where" = %q, user = %q, sized = "@{param.size}", plain = true }
options  = ["--last", %q]
`, nasty, nasty, nasty)+catalogOf("keeper"), tool{"keeper", `for a in "$@"; do printf '<%s>\n' "$a"; done; exec sleep 600`, `answer = { run = "echo 1.0", match = '(1\.0)' }
[service]
once    = "printf '%s' \"$SETTING_USER\" > '@{data}/once'"
run     = ["keeper", "--user", "@{user}", "@{any}", "@{options}"]
any     = ["--@{name}=@{value}"]
settle  = "printf '%s\\n' \"$SETTING_USER\" >> '@{data}/settled'"
console = "printf '%s\\n' \"$SETTING_USER\" \"$@\""
[service.ready]
command = ["true"]
[service.setting]
user = "x"
`})
	h.ok("lock")
	shown := h.try("approve", "--yes").out
	for _, word := range []string{"setting log.where of db", "setting user of db", "options", "setting max-size of db"} {
		if !strings.Contains(shown, word) {
			t.Errorf("approve does not show %q:\n%s", word, shown)
		}
	}
	h.ok("start")
	want := []string{"--user", nasty, "--log.where=" + nasty, "--max-size=12", "--plain=true", "--sized=7", "--last", nasty}
	eventually(t, "it has said what it was given", func() bool { return strings.Contains(h.ok("logs", "db"), "<--last>") })
	out := h.ok("logs", "db")
	for _, arg := range want {
		if !strings.Contains(out, "<"+arg+">") {
			t.Errorf("%q is not among its arguments:\n%s", arg, out)
		}
	}
	data, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/data/db"))
	read := func(name string) string { raw, _ := os.ReadFile(filepath.Join(data[0], name)); return string(raw) }
	if read("once") != nasty || read("settled") != nasty+"\n" {
		t.Errorf("once %q, settled %q", read("once"), read("settled"))
	}
	if out := h.ok("do", "db-console", "a b"); out != nasty+"\na b\n" {
		t.Errorf("the console: %q", out)
	}
	h.ok("start")
	h.ok("stop")
	h.ok("start")
	if read("settled") != nasty+"\n" {
		t.Errorf("settled again with nothing new: %q", read("settled"))
	}
	h.change(`plain = true`, `plain = false`)
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("start")
	eventually(t, "it runs with the other", func() bool { return strings.Contains(h.ok("logs", "db"), "<--plain=false>") })
	for _, evil := range []string{"EVIL", "EVIL2"} {
		if h.there(evil) {
			t.Errorf("%s was made", evil)
		}
	}
	// What a card has no place for is refused when it is locked in.
	before := h.read("trammel.lock")
	h.publish(tool{"keeper", "sleep 600", "[service]\nrun = [\"keeper\", \"@{options}\"]\n[service.setting]\nuser = \"x\"\n"})
	h.fails(2, []string{`it has no setting "`}, "lock", "--renew", "keeper")
	h.publish(tool{"keeper", "sleep 600", "[service]\nrun = \"keeper '@{user}'\"\n[service.setting]\nuser = \"x\"\n"})
	h.fails(2, []string{"puts the setting user into the text of a script", "$SETTING_USER"}, "lock", "--renew", "keeper")
	if h.read("trammel.lock") != before {
		t.Error("the lock was changed")
	}
}

// A dump that was cut is refused whole, as a file, compressed, and in a stream.
func TestACutDumpChangesNothing(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := stranger(t, "\n[service.db]\ntool = \"keeper\"\n[service.api]\nrun = \"sleep 600\"\nneeds = [\"service.db\"]\n"+catalogOf("keeper"), tool{"keeper", "exec sleep 600", `answer = { run = "echo 1.0", match = '(1\.0)' }
[service]
run = ["keeper"]
[service.ready]
command = ["true"]
[service.data]
save   = "cat '@{data}/rows'"
load   = "cat > '@{data}/rows'"
begins = '^-- dump of keeper\n'
ends   = '\n-- complete\n$'
`})
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("start")
	data, _ := filepath.Glob(filepath.Join(h.home, "state/bays/*/main/data/db"))
	rows := filepath.Join(data[0], "rows")
	whole := "-- dump of keeper\n" + strings.Repeat("silverfin\n", 2000) + "-- complete\n"
	h.write("whole.dump", whole)
	api := find(t, h, "api").Pid
	if o := h.try("data", "load", "db", "whole.dump"); o.code != 0 || !strings.Contains(o.err, "started again afterwards: api") {
		t.Errorf("%+v", o)
	}
	if now := find(t, h, "api"); now.Pid == api || now.State != service.Ready {
		t.Errorf("what needs it goes on with the old data: %+v", now)
	}
	holds := func(what, want string) {
		t.Helper()
		if raw, _ := os.ReadFile(rows); string(raw) != want {
			t.Errorf("%s: %d bytes of %d are there", what, len(raw), len(want))
		}
	}
	holds("a whole one", whole)
	h.write("packed.gz", gzipped(t, whole))
	for _, part := range []int{1, 17, 18, 40, 4096, len(whole) / 2, len(whole) - 12, len(whole) - 1} {
		cut := whole[:part]
		h.write("cut.dump", cut)
		h.write("cut.gz", gzipped(t, cut)) // cut before it was compressed
		for _, file := range []string{"cut.dump", "cut.gz"} {
			o := h.try("data", "load", "db", file)
			if part < 18 { // it does not begin as one of the tool's own
				continue
			}
			if o.code != 2 || !strings.Contains(o.err, "ends too early") {
				t.Errorf("%s of %d bytes: %+v", file, part, o)
			}
			holds(fmt.Sprintf("%s of %d bytes", file, part), whole)
		}
		if part < 18 {
			h.ok("data", "load", "db", "whole.dump")
			continue
		}
		c := exec.Command("sh", "-c", fmt.Sprintf("head -c %d whole.dump | %s data load db -", part, program))
		c.Dir, c.Env = h.dir, h.env
		if out, err := c.CombinedOutput(); err == nil || !strings.Contains(string(out), "ends too early") {
			t.Errorf("a stream of %d bytes: %v, %s", part, err, out)
		}
		holds(fmt.Sprintf("a stream of %d bytes", part), whole)
	}
	packed := h.read("packed.gz")
	for _, part := range []int{3, 30, len(packed) / 2, len(packed) - 1} {
		h.write("cut.gz", packed[:part])
		h.fails(2, []string{"Nothing was changed"}, "data", "load", "db", "cut.gz")
		holds(fmt.Sprintf("packed, %d bytes", part), whole)
	}
	h.ok("data", "load", "db", "packed.gz")
	holds("packed", whole)
}

// A service in two segments is where both meet, and nobody reaches through it.
func TestSegments(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, fmt.Sprintf(`format = 1
project = "heronweir"
isolation = "open"
network = "private"

[service.db]
segment = "back"
%[1]s
ports = { main = 5432 }

[service.api]
segment = ["front", "back"]
needs = ["service.db"]
%[1]s
ports = { main = 8080 }

[service.board]
segment = "front"
needs = ["service.api"]
%[1]s
ports = { main = 8090 }

[service.from-board]
segment = "front"
needs = ["service.board"]
%[2]s

[service.from-api]
segment = ["back", "front"]
needs = ["service.board"]
%[2]s

[service.from-db]
segment = "back"
needs = ["service.api"]
%[2]s
`, serves(t, "web", `, WEIR_PORT = "@{port.main}"`), serves(t, "reach", `, WEIR_REACH = "5432 8080 8090"`)))
	h.ok("lock")
	if o := h.try("start"); strings.Contains(o.err, "gives no private networks") {
		t.Skip("no namespaces of users here")
	} else if o.code != 0 {
		t.Fatal(o)
	}
	for name, want := range map[string][]string{
		"from-board": {"5432 refused", "8080 reached", "8090 reached"},
		"from-api":   {"5432 reached", "8080 reached", "8090 reached"},
		"from-db":    {"5432 reached", "8080 reached", "8090 refused"},
	} {
		eventually(t, name+" has tried all", func() bool { return strings.Contains(h.ok("logs", name), "tried") })
		out := h.ok("logs", name)
		for _, line := range want {
			if !strings.Contains(out, line) {
				t.Errorf("%s: not %q:\n%s", name, line, out)
			}
		}
	}
	two := "network = \"private\"\n[service.db]\nsegment = \"back\"\nrun = \"true\"\nports = { main = 5432 }\n[service.board]\nsegment = \"front\"\nrun = \"true\"\n"
	for text, words := range map[string][]string{
		two + "needs = [\"service.db\"]\n":                                {"service board cannot reach service db", "back", "front"},
		two + "variables = { DB = \"@{service.db.address}\" }\n":          {"service board cannot reach service db"},
		two + "[service.other]\nrun = \"echo @{service.db.port.main}\"\n": {"service other cannot reach service db", "common"},
		two + "[service.both]\nsegment = [\"back\", \"front\"]\nrun = \"true\"\n[service.x]\nsegment = \"front\"\nrun = \"true\"\nports = { main = 5432 }\n": {"both have port 5432"},
		"[service.db]\nsegment = [\"back\", \"Front!\"]\nrun = \"true\"\n":                                                                                   {"cannot name a segment"},
	} {
		h.fails(2, words, "--dir", declaredIn(t, text), "lock")
	}
}

// clear asks before data goes, and names how much.
func TestClearAsksBeforeDataGoes(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n[service.ledger]\nrun = \"mkdir -p @{bay.dir}/data/ledger && head -c 3000000 /dev/zero > @{bay.dir}/data/ledger/new && mv @{bay.dir}/data/ledger/new @{bay.dir}/data/ledger/rows && exec sleep 600\"\nready = { file = \"@{bay.dir}/data/ledger/rows\" }\n")
	h.ok("lock")
	h.ok("start")
	h.fails(2, []string{"would remove data: ledger in bay main, 2.9 MiB", "--yes"}, "clear", "main")
	if st := find(t, h, "ledger"); st.State != service.Ready {
		t.Errorf("a clear that asked stopped it: %+v", st)
	}
	h.ok("clear", "--yes", "main")
	h.ok("--bay", "empty", "fit")
	h.ok("clear", "empty") // nothing of a person's
}

func gzipped(t *testing.T, text string) string {
	t.Helper()
	var b strings.Builder
	z := gzip.NewWriter(&b)
	if _, err := z.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	z.Close()
	return b.String()
}
