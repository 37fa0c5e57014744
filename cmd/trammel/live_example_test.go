package main

import (
	"fmt"
	"strings"
	"testing"
)

// The example of the documentation, whole.
const fullExample = `format    = 1
project   = "heronweir"
about     = "Counts fish passing the ladder at a weir"
isolation = "clean"
host      = ["git", "ssh"]

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
go         = "1.24"
node       = ">=22.5, <23"
postgresql = { version = "17", from = "trixie" }

[variables]
WEIR_UNITS = "fish-per-hour"
LEDGER_URL = "@{service.ledger.url}"
BANNER     = { when = "param.spring-run", then = "on", else = "off" }

[secret.WEIR_TOKEN]
from = "file:.secrets/weir-token"

[param.lanes]
kind    = "integer"
default = 1
min     = 1
max     = 12
about   = "Counting lanes to run"

[param.spring-run]
kind  = "flag"
about = "Show the spring-run banner"

[file."var/board.json"]
template = "templates/board.json.tmpl"

[step.modules]
run   = "go mod download"
reads = ["go.mod", "go.sum"]

[step.schema]
about    = "Create the tables"
needs    = ["service.ledger"]
run      = "psql -q \"$LEDGER_URL\" -f db/schema.sql"
reads    = ["db/schema.sql"]
per      = "bay"
evidence = "psql -Atc \"select table_name from information_schema.tables where table_schema = 'public' order by 1\" \"$LEDGER_URL\""

[step.sample]
about = "Load a day of sample passings"
needs = ["step.schema"]
run   = "psql -q \"$LEDGER_URL\" -c \"truncate passings\" -c \"\\\\copy passings from db/sample.csv csv\""
reads = ["db/sample.csv"]
per   = "bay"

[service.ledger]
tool     = "postgresql"
settings = { database = "weir", user = "weir" }

[service.lane]
run     = "go run ./cmd/lane"
copies  = "@{param.lanes}"
needs   = ["service.ledger", "step.schema", "step.modules"]
ports   = { http = 8600 }
ready   = { http = "/health", port = "http", within = "15m" }
restart = "on-failure"
variables = { LANE_LISTEN = "127.0.0.1:@{port.http}", LANE = "@{copy}", TOKEN = "@{secret.WEIR_TOKEN}" }

[service.board]
run   = "node board/server.mjs"
needs = ["service.lane", "file.var/board.json"]
ports = { http = 8700 }
ready = { http = "/", port = "http" }
variables = { LANES = "@{service.lane.addresses}", PORT = "@{port.http}" }

[routine.count]
about = "Totals by species"
needs = ["service.ledger"]
run   = "psql -At \"$LEDGER_URL\" -c \"select species, count(*) from passings group by 1 order by 1\""
`

var fullFiles = map[string]string{
	"db/schema.sql": `create table if not exists passings (minute int, lane int, species text, length_mm int);
`,
	"db/sample.csv": `361,1,silverfin,212
362,2,mill trout,300
363,1,silverfin,199
`,
	"go.mod": `module heronweir.example/weir

go 1.24
`,
	"templates/board.json.tmpl": `{"lanes": {{ .param.lanes }}, "spring": {{ index .param "spring-run" }}}
`,
	"cmd/lane/main.go": `package main

import (
	"fmt"
	"net/http"
	"os"
)

func main() {
	fmt.Println("token", os.Getenv("TOKEN"))
	http.HandleFunc("/health", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok lane", os.Getenv("LANE")) })
	panic(http.ListenAndServe(os.Getenv("LANE_LISTEN"), nil))
}
`,
	"board/server.mjs": `import http from "node:http"; import fs from "node:fs";
http.createServer(async (_, res) => { const all = await Promise.all(process.env.LANES.split(",").map(a => fetch("http://" + a + "/health").then(r => r.text())));
  res.end("banner " + process.env.BANNER + " " + fs.readFileSync("var/board.json") + all.join("")); }).listen(Number(process.env.PORT), "127.0.0.1");
`,
	".secrets/weir-token": `heron-secret
`,
	"go.sum": "",
}

func TestLiveTheWholeExampleFromAFreshClone(t *testing.T) {
	long(t)
	liveArchive(t)
	h := archiveHut(t, fullExample)
	h.env = append(h.env, settingsOf(t)...)
	for name, content := range fullFiles {
		h.write(name, content)
	}
	h.ok("lock")
	h.wary = true
	h.fails(4, []string{"nobody has approved"}, "fit")
	h.ok("approve", "--yes")
	out := h.ok("fit")
	for _, words := range []string{"var/board.json", "modules, schema, sample"} {
		if !strings.Contains(out, words) {
			t.Errorf("day one does not say %q:\n%s", words, out)
		}
	}
	h.wary = false
	if out := h.ok("fit"); !strings.Contains(out, "nothing to do") {
		t.Errorf("the second fit:\n%s", out)
	}
	h.ok("start")
	page := func() string {
		board := find(t, h, "board")
		return get(t, fmt.Sprintf("http://127.0.0.1:%d/", board.Ports["http"]))
	}
	if got := page(); !strings.Contains(got, "banner off") || strings.Count(got, "ok lane") != 1 {
		t.Errorf("the board shows %q", got)
	}
	h.ok("start", "--param", "lanes=4", "--param", "spring-run=true")
	if got := page(); !strings.Contains(got, "banner on") || strings.Count(got, "ok lane") != 4 || !strings.Contains(got, `"lanes": 4`) {
		t.Errorf("the board shows %q", got)
	}
	if got := h.ok("do", "count"); got != "mill trout|1\nsilverfin|2\n" {
		t.Errorf("counted %q", got)
	}
	if strings.Contains(h.ok("logs", "lane"), "heron-secret") {
		t.Error("the log has the secret")
	}
	h.ok("verify")
	h.ok("run", "--", "sh", "-c", `psql -q "$LEDGER_URL" -c "drop table passings"`)
	h.fails(3, []string{"evidence", "- passings", "trammel fit schema"}, "verify")
	h.ok("fit")
	h.ok("verify")
	h.write("db/schema.sql", fullFiles["db/schema.sql"]+"create table if not exists lanes (lane int);\n")
	if out := h.ok("show"); !strings.Contains(out, "db/schema.sql changed") {
		t.Error(out)
	}
	if out := h.ok("fit"); !strings.Contains(out, "schema") || strings.Contains(out, "modules") {
		t.Errorf("a changed schema: %s", out)
	}
	h.fails(3, []string{"+ lanes"}, "verify")
	h.ok("lock")
	h.ok("fit")
	h.ok("verify")
	h.ok("stop")
}
