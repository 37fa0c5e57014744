package main

import (
	"fmt"
	"io"
	"net"
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
	liveArchive(t)
	h := archiveHut(t, fiveServers)
	h.home = sharedHome
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
	if code, got := h.seen("board.trial.heronweir.localhost", "/"); code != 200 || got != "<h1>Heron Weir</h1>\n" {
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
