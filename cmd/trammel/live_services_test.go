package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"
)

// fiveServers are all servers whose cards say how they run.
const fiveServers = `format    = 1
project   = "heronweir"
isolation = "sealed"
network   = "private"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
postgresql = "17"
redis      = "latest"
mariadb    = "latest"
nginx      = "latest"
memcached  = "latest"

[service.ledger]
tool     = "postgresql"
settings = { database = "weir", user = "weir", extensions = "pg_trgm" }

[service.tally]
tool = "redis"

[service.archive]
tool = "mariadb"

[service.board]
tool     = "nginx"
settings = { pages = "@{project.dir}/pages" }

[service.shelf]
tool = "memcached"
`

func TestLiveFiveServersFromTheirCards(t *testing.T) {
	long(t)
	liveArchive(t)
	h := archiveHut(t, fiveServers)
	h.write("pages/index.html", "<h1>Heron Weir</h1>\n")
	h.fitted()
	h.ok("start")
	h.ok("--bay", "trial", "start") // the same ports, in a network of its own
	ports := map[string]int{}
	for _, st := range statuses(t, h) {
		for _, n := range st.Ports {
			ports[st.Name] = n
		}
	}
	if ports["board"] == 0 {
		t.Fatal(h.ok("show", "--json"), h.ok("logs"))
	}
	if got := get(t, fmt.Sprintf("http://127.0.0.1:%d/", ports["board"])); got != "<h1>Heron Weir</h1>\n" {
		t.Errorf("%q", got)
	}
	name := "" // which of the projects of that name has it is decided by who began first
	for _, st := range statusesIn(t, h, "trial") {
		if st.Name == "board" {
			name, _, _ = strings.Cut(strings.TrimPrefix(st.Address, "http://"), ":")
		}
	}
	if code, got := h.seen(name, "/"); code != 200 || got != "<h1>Heron Weir</h1>\n" {
		t.Errorf("%d %q", code, got)
	}
	c, err := net.Dial("tcp4", fmt.Sprintf("127.0.0.1:%d", ports["shelf"]))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(c, "set silverfin 0 0 2\r\n42\r\nquit\r\n")
	if b, _ := io.ReadAll(c); string(b) != "STORED\r\n" {
		t.Errorf("%q", b)
	}
	// Data goes from one bay to another.
	h.ok("do", "ledger-console", "-qc", "create table passings as select 'silverfin' as species, g as lane from generate_series(1, 1000) g; create index on passings using gin (species gin_trgm_ops)")
	h.ok("do", "archive-console", "-e", "create table passings (lane int); insert into passings values (1), (2), (3)")
	h.ok("do", "tally-console", "set", "silverfin", "42")
	for service, question := range map[string][]string{
		"ledger": {"-Atc", "select count(*) from passings"}, "archive": {"-N", "-e", "select 997 + count(*) from passings"}, "tally": {"get", "silverfin"},
	} {
		h.ok("data", "save", service, service+".dump.gz")
		h.ok("--bay", "trial", "data", "load", service, service+".dump.gz")
		want := map[string]string{"ledger": "1000\n", "archive": "1000\n", "tally": "42\n"}[service]
		if got := h.ok(append([]string{"--bay", "trial", "do", service + "-console"}, question...)...); got != want {
			t.Errorf("%s: %q", service, got)
		}
	}
	// Every process of the bay is killed, each by its own id; nothing that was
	// acknowledged is lost.
	supervisor := supervisorOf(t, h, "main")
	pids := append(tree(statuses(t, h)), supervisor)
	for _, pid := range pids {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	gone(t, pids)
	h.ok("start")
	if got := h.ok("do", "ledger-console", "-Atc", "select count(*) from passings"); got != "1000\n" {
		t.Errorf("after kill -9: %q", got)
	}
	if got := h.ok("do", "archive-console", "-N", "-e", "select count(*) from passings"); got != "3\n" {
		t.Errorf("after kill -9: %q", got)
	}
	h.ok("verify")
	h.ok("clear", "--yes", "--all")
	if os.Getuid() != 0 {
		return
	}
	// The same for an ordinary user, with a home of their own.
	other := newHut(t, nil, fiveServers)
	other.write("pages/index.html", "<h1>Heron Weir</h1>\n")
	other.write("trammel.lock", h.read("trammel.lock"))
	asOrdinaryUser(t, other)
	other.ok("fit")
	other.ok("start")
	if got := other.ok("do", "ledger-console", "-Atc", "select 6 * 7"); got != "42\n" {
		t.Errorf("%q", got)
	}
	if got := other.ok("do", "archive-console", "-N", "-e", "select 6 * 7"); !strings.Contains(got, "42") {
		t.Errorf("%q", got)
	}
	if got := get(t, fmt.Sprintf("http://127.0.0.1:%d/", find(t, other, "board").Ports["http"])); got != "<h1>Heron Weir</h1>\n" {
		t.Errorf("%q", got)
	}
	other.ok("stop")
}

// moreServers are the servers besides those, each as its card has it, and two of npm without
// a card.
const moreServers = `format    = 1
project   = "heronweir"
isolation = %q

[source.trixie]
kind  = "debian"
suite = "trixie"

[source.npm]
kind = "npm"

[toolchain]
postgresql    = "17"
redis         = "latest"
mariadb       = "latest"
mosquitto     = "latest"
nats          = "latest"
prometheus    = "latest"
node-exporter = "latest"
adminer       = "latest"
rabbitmq      = "latest"
node          = "22"
s3rver        = { version = "latest", from = "npm", package = "s3rver" }
maildev       = { version = "2", from = "npm", package = "maildev" }

[service.ledger]
tool     = "postgresql"
settings = { database = "weir", extensions = "vector, pg_stat_statements", shared_preload_libraries = "pg_stat_statements", max_connections = 37, "pg_stat_statements.max" = 1234 }
options  = ["-c", "log_min_messages=log"]

[service.tally]
tool     = "redis"
settings = { maxmemory = "32mb", appendonly = "yes", hz = 17 }
options  = ["--timeout", "77"]

[service.archive]
tool     = "mariadb"
settings = { max-connections = 41 }

[service.things]
tool = "mosquitto"

[service.bus]
tool    = "nats"
options = ["--jetstream"]

[service.measures]
tool     = "prometheus"
settings = { "storage.tsdb.retention.time" = "1d" }

[service.machine]
tool = "node-exporter"

[service.tables]
tool = "adminer"

[service.queue]
tool = "rabbitmq"

[service.objects]
run   = "s3rver --directory @{bay.dir}/objects --address 127.0.0.1 --port @{port.http} --configure-bucket passings"
ports = { http = 4568 }

[service.post]
run   = "maildev --ip 127.0.0.1 --smtp @{port.smtp} --web-ip 127.0.0.1 --web @{port.http}"
ports = { smtp = 1025, http = 1080 }
`

func TestLiveEveryServerAsItsCardSays(t *testing.T) {
	long(t)
	liveArchive(t)
	for _, who := range []string{"root", "ordinary"} {
		if who == "ordinary" && os.Getuid() != 0 {
			continue // the first was one
		}
		isolation := map[string]string{"root": "clean", "ordinary": "sealed"}[who]
		h := newHut(t, nil, fmt.Sprintf(moreServers, isolation))
		if who == "root" {
			h = archiveHut(t, fmt.Sprintf(moreServers, isolation))
		} else {
			asOrdinaryUser(t, h)
		}
		h.fitted()
		h.ok("start")
		ask := func(want string, args ...string) {
			t.Helper()
			if got := strings.TrimSpace(h.ok(append([]string{"do"}, args...)...)); !strings.Contains(got, want) {
				t.Errorf("%s, %v: %q, not %q", who, args, got, want)
			}
		}
		port := func(name, port string) int { return find(t, h, name).Ports[port] }
		page := func(name, path, want string) {
			t.Helper()
			if got := get(t, fmt.Sprintf("http://127.0.0.1:%d%s", port(name, "http"), path)); !strings.Contains(got, want) {
				t.Errorf("%s, %s: %.300q", who, name, got)
			}
		}
		// Settings and extensions arrive.
		ask("37", "ledger-console", "-Atc", "show max_connections")
		ask("1234", "ledger-console", "-Atc", "show pg_stat_statements.max")
		ask("log", "ledger-console", "-Atc", "show log_min_messages")
		ask("pg_stat_statements\nvector", "ledger-console", "-Atc", "select extname from pg_extension where extname in ('vector', 'pg_stat_statements') order by 1")
		ask("5", "ledger-console", "-Atc", "select '[1,2]'::vector <-> '[4,6]'::vector")
		ask("33554432", "tally-console", "config", "get", "maxmemory")
		ask("17", "tally-console", "config", "get", "hz")
		ask("77", "tally-console", "config", "get", "timeout")
		ask("yes", "tally-console", "config", "get", "appendonly")
		ask("41", "archive-console", "-N", "-e", "select @@max_connections")
		// The rest answers in its own way.
		ask("heronweir\t[administrator]", "queue-console", "list_users")
		if out := h.ok("run", "--", "mosquitto_pub", "-p", itoa(port("things", "main")), "-t", "lanes/1", "-m", "silverfin", "-r"); out != "" {
			t.Error(out)
		}
		if out := h.ok("run", "--", "mosquitto_sub", "-p", itoa(port("things", "main")), "-t", "lanes/#", "-C", "1"); out != "silverfin\n" {
			t.Error(out)
		}
		if c, err := net.Dial("tcp4", fmt.Sprintf("127.0.0.1:%d", port("bus", "main"))); err != nil {
			t.Error(err)
		} else {
			hello := make([]byte, 4096)
			n, _ := c.Read(hello)
			if !strings.Contains(string(hello[:n]), `"jetstream":true`) {
				t.Errorf("%q", hello[:n])
			}
			c.Close()
		}
		page("measures", "/api/v1/status/flags", `"storage.tsdb.retention.time":"1d"`)
		if isolation == "clean" { // a sealed root does not show the machine, which this is about
			page("machine", "/metrics", "node_cpu_seconds_total")
		}
		page("tables", "/", "Adminer")
		page("post", "/", "MailDev")
		if code := status(fmt.Sprintf("http://127.0.0.1:%d/passings", port("objects", "http"))); code != 200 {
			t.Errorf("the objects answer %d", code)
		}
		for _, st := range statuses(t, h) {
			if at := st.Exposed(); len(at) > 0 {
				t.Errorf("%s is open to other machines: %v", st.Name, at)
			}
		}
		// A dump that was cut is refused, and nothing of the data goes.
		h.ok("do", "ledger-console", "-qc", "create table passings as select g as lane, repeat('silverfin', 40) as species from generate_series(1, 5000) g; create index on passings (lane)")
		h.ok("do", "archive-console", "-e", "create table passings (lane int); insert into passings values (1), (2), (3)")
		h.ok("do", "tally-console", "set", "silverfin", strings.Repeat("x", 2000))
		for _, name := range []string{"ledger", "archive", "tally"} {
			h.ok("data", "save", name, name+".dump")
			whole := h.read(name + ".dump")
			for _, part := range []int{3, 10, 50, 90, 99} {
				h.write(name+".cut", whole[:len(whole)*part/100])
				if o := h.try("data", "load", name, name+".cut"); o.code == 0 {
					t.Errorf("%s, %s: a dump of %d%% was loaded", who, name, part)
				}
			}
			h.write(name+".cut", whole[:len(whole)-40])
			if o := h.try("data", "load", name, name+".cut"); o.code == 0 {
				t.Errorf("%s, %s: a dump without its last bytes was loaded", who, name)
			}
		}
		ask("5000", "ledger-console", "-Atc", "select count(*) from passings")
		ask("1", "ledger-console", "-Atc", "select count(*) from pg_indexes where tablename = 'passings'")
		ask("3", "archive-console", "-N", "-e", "select count(*) from passings")
		ask("2000", "tally-console", "strlen", "silverfin")
		h.ok("data", "load", "tally", "tally.dump")
		ask("2000", "tally-console", "strlen", "silverfin")
		// An extension that is asked for later is made with the data in place.
		h.change("vector, pg_stat_statements", "vector, pg_stat_statements, hypopg")
		h.ok("lock")
		h.ok("approve", "--yes")
		h.ok("start")
		ask("hypopg", "ledger-console", "-Atc", "select extname from pg_extension where extname = 'hypopg'")
		ask("5000", "ledger-console", "-Atc", "select count(*) from passings")
		h.ok("verify")
		h.ok("clear", "--yes", "--all")
	}
}

// status is the code of an answer; 0 when there is none.
func status(url string) int {
	resp, err := http.Get(url)
	if err != nil {
		return 0
	}
	resp.Body.Close()
	return resp.StatusCode
}
