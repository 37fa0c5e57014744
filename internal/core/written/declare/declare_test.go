package declare

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/fault"
)

const heronweir = `# Counts fish.
format    = 1
project   = "heronweir"
about     = "Counts fish passing the ladder at a weir"
platforms = ["linux/arm64", "linux/amd64"]
isolation = "open"
host      = ["git", "ssh"]

[source.hut]
kind = "catalog"
url  = "tools"

[toolchain]
go    = "1.24"
node  = { version = ">=22.5, <23", from = "npm" }

[variables]
LEDGER_URL = "@{service.ledger.url}"

[step.modules]
run   = ["go", "mod", "download"]
reads = ["go.mod", "go.sum"]

[service.ledger]
run   = "tallydb serve --listen 127.0.0.1:@{port.main}"
ports = { main = 8590 }
stop  = { signal = "INT", within = "15s" }

[service.lane]
run    = "lane --number @{copy}"
copies = 3
needs  = ["service.ledger", "step.modules"]
ports  = { http = 8600 }
ready  = { http = "/health" }

[routine.test]
run   = "set -o pipefail; go test | cat"
shell = ["bash", "-c"]
`

func parse(t *testing.T, text string) *Declaration {
	t.Helper()
	d, err := Parse("/weir/trammel.toml", []byte(text))
	if err != nil {
		t.Fatalf("%v", err)
	}
	return d
}

func TestAWholeDeclaration(t *testing.T) {
	d := parse(t, heronweir)
	if d.Dir != "/weir" || d.Isolation != Open || len(d.Platforms) != 2 || d.Platforms[0].Arch != "amd64" {
		t.Errorf("%+v", d)
	}
	lane, _ := d.Service("lane")
	if lane.Copies != 3 || lane.Ready.Port != "http" || lane.CopyName(2) != "lane.2" || !lane.Auto || lane.Restart != RestartNever {
		t.Errorf("%+v", lane)
	}
	if x := d.Toolchains[1]; x.From != "npm" || x.AskAt.Line != 15 || x.AskAt.Column != 21 {
		t.Errorf("%+v", x)
	}
	if r, _ := d.Routine("test"); !slices.Equal(r.Run.Shell, []string{"bash", "-c"}) {
		t.Errorf("%+v", r)
	}
}

func TestTheDigestIsOfTheMeaning(t *testing.T) {
	base := parse(t, heronweir).Digest()
	same := map[string]string{
		"comments":    "# another\n" + strings.ReplaceAll(heronweir, "[step.modules]", "[step.modules] # once"),
		"about":       strings.Replace(heronweir, "Counts fish passing the ladder at a weir", "Counts", 1),
		"layout":      strings.ReplaceAll(heronweir, "    ", " "),
		"an address":  strings.Replace(heronweir, `"tools"`, `"https://catalog.heronweir.example/"`, 1),
		"table order": strings.Replace(heronweir, "[toolchain]\n", "", 1),
	}
	same["table order"] = strings.Replace(same["table order"], "go    = \"1.24\"\nnode  = { version = \">=22.5, <23\", from = \"npm\" }\n", "", 1) +
		"\n[toolchain]\nnode = { from = \"npm\", version = \">=22.5, <23\" }\ngo = \"1.24\"\n"
	for name, text := range same {
		if parse(t, text).Digest() != base {
			t.Errorf("%s change the digest", name)
		}
	}
	for _, change := range [][2]string{
		{`"1.24"`, `"1.25"`}, {"open", "clean"}, {`"git", `, ""}, {"copies = 3", "copies = 4"}, {"15s", "16s"},
		{"go.sum", "go.work"}, {"main = 8590", "main = 8591"}, {"heronweir\"", "heronweir-archive\""}, {"LEDGER_URL", "LEDGER"},
		{`"mod", `, ""}, {"pipefail", "noglob"}, {"/health", "/"},
	} {
		if parse(t, strings.Replace(heronweir, change[0], change[1], 1)).Digest() == base {
			t.Errorf("%s → %s does not change the digest", change[0], change[1])
		}
	}
}

func TestEveryFaultIsReportedWithItsPlace(t *testing.T) {
	text := `format = 1
project = "Heron"
isolaton = "clean"
[toolchain]
go = "1.24"
node = { version = ">=22", frm = "npm", from = "npn" }
x = 1.2
[variables]
PATH = "x"
A = "b @{service.ledgr.url}"
[step.a]
run = "echo 'x"
needs = ["step.b", "servic.q"]
[step.b]
run = ["a"]
needs = ["step.a"]
reads = ["../x"]
[service.ledger]
run = "tallydb @{port.htp} @{copy}"
ports = { http = 99999 }
ready = { tcp = "http", within = "3 s" }
[routine.r]
run = "echo @{copy}"
`
	_, err := Parse("trammel.toml", []byte(text))
	var found fault.Findings
	if !errors.As(err, &found) {
		t.Fatal(err)
	}
	var got []string
	for _, f := range found {
		got = append(got, f.Place.String()+" "+f.What)
		if f.Text != strings.Split(text, "\n")[f.Line-1] {
			t.Errorf("%s shows the line %q", f.Place, f.Text)
		}
	}
	golden := filepath.Join("testdata", "faults.golden")
	if os.Getenv("UPDATE") != "" {
		os.MkdirAll("testdata", 0o755)
		os.WriteFile(golden, []byte(err.Error()+"\n"), 0o644)
	}
	want, _ := os.ReadFile(golden)
	if err.Error()+"\n" != string(want) {
		t.Errorf("the messages are not those of %s:\n%s", golden, err)
	}
	if len(got) != 15 {
		t.Errorf("%d faults:\n%s", len(got), strings.Join(got, "\n"))
	}
}

func TestCycleAtLengthOne(t *testing.T) {
	_, err := Parse("trammel.toml", []byte("format = 1\nproject = \"w\"\n[step.a]\nrun = \"a\"\nneeds = [\"step.a\"]\n"))
	if err == nil || !strings.Contains(err.Error(), "step.a → step.a") {
		t.Error(err)
	}
}

// Whatever bytes a file holds, reading it ends with a declaration or with
// findings, never with a crash.
func FuzzParse(f *testing.F) {
	f.Add([]byte(heronweir))
	f.Add([]byte("format = 1\nproject = \"a\"\n[[step]]\n"))
	f.Add([]byte("a.b.c = {d.e = [1, {f = 2}]}\n[a.b]\n[[x]]\n[x.y]\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		d, err := Parse("trammel.toml", source)
		if (d == nil) == (err == nil) {
			t.Fatalf("%v, %v", d, err)
		}
		if err != nil {
			_ = err.Error()
		}
	})
}

func TestMutilatedDeclarationsNeverCrash(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		b := []byte(heronweir)
		for range 1 + r.IntN(4) {
			switch i := r.IntN(len(b)); r.IntN(3) {
			case 0:
				b = slices.Delete(b, i, min(i+r.IntN(30), len(b)))
			case 1:
				b[i] = "[]{}=\".,@\n#'"[r.IntN(12)]
			case 2:
				b = slices.Insert(b, i, b[i:min(i+r.IntN(30), len(b))]...)
			}
		}
		if _, err := Parse("trammel.toml", b); err != nil {
			_ = err.Error()
		}
	}
}
