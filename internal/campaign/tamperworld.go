package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/acting/publish"
	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/kernel/sandbox"
	"app.example/trammel/internal/demo"
	"app.example/trammel/internal/standin"
)

// fitted is a machine with everything that verify asks: a root, libraries of three languages, a person's
// own tool, an add-on, evidence, services with a rendered file and settings, reports, a depot and an image.
type fitted struct {
	*world
	registry *standin.Server
	archive  *standin.Archive
	team     ssh.Signer // who publishes the catalog of the team
	bay      string     // its folder of records
}

// tampered is the declaration of that machine. Its Python, R and Node.js are stand-ins; what is asked of
// them is the same.
const tampered = `format    = 1
project   = "heronweir"
isolation = "clean"

[source.weir]
kind    = "debian"
suite   = "weir"
url     = "WEIR"
keyring = "keys/weir.asc"

[source.hut]
kind = "catalog"
url  = "../tools"

[source.team]
kind = "catalog"
url  = "../catalog"
keys = ["TEAMKEY"]

[source.shelf]
kind = "wheel"
url  = "SHELF"

[source.cran]
kind = "r"
url  = "CRAN"

[toolchain]
node    = "22"
python  = { version = "=3.13.5", from = "hut" }
weirs   = { version = "1", from = "hut" }
tallydb = { version = "2", from = "team" }
r       = { version = "4.5", from = "weir" }
lure    = { version = "1", from = "weir", package = "lure" }

[libraries.survey]
kind = "python"
want = ["tally", "grid"]

[libraries.board]
kind  = "node"
files = ["package.json"]

[libraries.rungs]
kind = "r"
want = ["rladder"]

[variables]
LEDGER = "@{service.ledger.address}"
SEASON = "spring"

[param.lanes]
kind    = "integer"
default = 3

[file."lanes.conf"]
template = "lanes.tmpl"

[addon.charts]
list   = "cat ../addons.txt 2>/dev/null || true"
add    = "echo @{item} >> ../addons.txt"
remove = "grep -v -x -F @{item} ../addons.txt > ../addons.new; mv ../addons.new ../addons.txt"
want   = ["bars 1.0", "lines 2.1"]

[step.load]
run      = "mkdir -p out && cat in/count > out/load"
makes    = ["out/load"]
reads    = ["in/*"]
evidence = "cat out/load"

[service.ledger]
run   = "tallydb serve --listen 127.0.0.1:@{port.main} --file @{bay.dir}/data/ledger.tally"
ports = { main = 18590 }

[service.lane]
run   = "SELF lanes.conf @{port.http}"
needs = ["service.ledger", "file.lanes.conf"]
ports = { http = 18600 }

[depot]
url = "../depot"
`

// newFitted makes that machine. Errors: a notHere where the machine has no namespaces, or no base system can
// be taken from it.
func newFitted(root, program string) (_ *fitted, err error) {
	if err := sandbox.Available(); err != nil {
		return nil, notHere("the kernel gives no namespaces")
	}
	w := &world{root: root, program: program, dir: filepath.Join(root, "heronweir")}
	f := &fitted{world: w, registry: standin.New()}
	s := f.registry
	defer func() {
		if err != nil {
			w.end()
			s.Close()
		}
	}()
	f.archive = s.Debian("weir", "weir")
	if !f.archive.PutHostBase(append(debian.Base(), "tar", "gzip")) {
		return nil, notHere("no base system can be taken from this machine")
	}
	deb := func(name, version, script string, more ...standin.File) standin.Deb {
		return standin.Deb{Name: name, Version: version, Arch: "all", Packed: "xz", Fields: map[string]string{"Depends": "bash, tar, gzip"},
			Files: append(more, standin.File{Name: "./usr/bin/" + name, Content: script, Mode: 0o755}, standin.File{Name: "./usr/share/doc/" + name + "/README", Content: "about\n"})}
	}
	says := func(name, version string) string {
		return "#!/bin/sh\n[ \"$1\" = --version ] && echo " + name + " " + version + " && exit\ncat /usr/share/" + name + "/is\n"
	}
	base := deb("r-base-core", "4.5.0-1", "#!/bin/sh\n", standin.File{Name: "./usr/bin/R", Mode: 0o755, Content: `#!/bin/sh
[ "$1" = --version ] && echo 'R version 4.5.0 (2025-04-11) -- "How About"' && exit
[ "$1" = RHOME ] && echo /usr/lib/R && exit
for a; do case $a in --library=*) to=${a#--library=};; esac; last=$a; done
mkdir -p "$to/$(basename "$last")"
cat "$last/DESCRIPTION" > "$to/$(basename "$last")/DESCRIPTION"
cat "$last"/R/* > "$to/$(basename "$last")/code"
`}, standin.File{Name: "./usr/bin/Rscript", Mode: 0o755, Content: "#!/bin/sh\n"}, standin.File{Name: "./usr/lib/R/etc/Renviron.ucf", Content: "R=1\n"})
	f.archive.Put(base, deb("lure", "1.4-1", says("lure", "1.4"), standin.File{Name: "./usr/share/lure/is", Content: "lure\n"}),
		deb("probe", "2.0-1", says("probe", "2.0"), standin.File{Name: "./usr/share/probe/is", Content: "probe\n"}))
	f.archive.Publish()
	s.PutNode("22.12.0")
	for name, text := range map[string]string{"tally": "version = '1.0'\n", "grid": "version = '2.0'\n"} {
		s.PutWheel("shelf", standin.Wheel{Name: name, Version: "1.0", Files: []standin.File{{Name: name + "/__init__.py", Content: text}, {Name: name + "/lanes.py", Content: strings.Repeat(text, 40)}}})
	}
	for _, name := range []string{"charts", "tables"} {
		s.PutNPM(name, "1.0.0", s.Day, nil, standin.File{Name: "package.json", Content: `{"name": "` + name + `", "version": "1.0.0"}`}, standin.File{Name: "index.js", Content: strings.Repeat(name+"\n", 30)})
	}
	s.PutR("cran", standin.RPackage{Name: "rladder", Version: "0.2", Exports: "export(rungs)", Files: []standin.File{{Name: "R/l.R", Content: "rungs <- function(n) n\n"}}})
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	w.env = []string{
		"PATH=" + filepath.Dir(program) + ":" + os.Getenv("PATH"), "TRAMMEL_HOME=" + w.home(), "HOME=" + root, "CI=true", "TRAMMEL_CAMPAIGN=" + root,
		"npm_config_registry=" + s.NPM(), "GOPROXY=off",
	}
	if err := f.publish(filepath.Dir(program)); err != nil {
		return nil, err
	}
	team, err := f.signCatalog()
	if err != nil {
		return nil, err
	}
	text := strings.NewReplacer("WEIR", f.archive.URL(), "SHELF", s.Python("shelf"), "CRAN", s.R("cran"), "SELF", self+" "+serveWord, "TEAMKEY", team).Replace(tampered)
	for name, text := range map[string]string{
		"trammel.toml": text, "keys/weir.asc": f.archive.Keys(), "in/count": "silverfin 212\n", "lanes.tmpl": "lanes = {{ .param.lanes }}\n", "package.json": `{"name": "board", "dependencies": {"charts": "^1", "tables": "^1"}}`,
		"trammel.local.toml": "[toolchain]\nprobe = { version = \"2\", from = \"weir\", package = \"probe\" }\n",
	} {
		if err := w.put(name, text); err != nil {
			return nil, err
		}
	}
	if err := w.put("../addons.txt", ""); err != nil {
		return nil, err
	}
	if err := f.key(); err != nil {
		return nil, err
	}
	if err := w.must([]string{"lock"}, []string{"fit", "--approve"}, []string{"start"}, []string{"lock"}, []string{"approve", "--yes"}, []string{"fit"}, []string{"start"}, []string{"stock"}, []string{"verify", "--deep"}); err != nil {
		return nil, err
	}
	records, _ := filepath.Glob(filepath.Join(w.home(), "state/records/*/main"))
	if len(records) != 1 {
		return nil, fmt.Errorf("records of the bay: %v", records)
	}
	f.bay = records[0]
	return f, w.must([]string{"export", "oci", "../image"})
}

// publish writes the catalogs: of the demo, and one with a Python and a tool of many files.
func (f *fitted) publish(programs string) error {
	if err := demo.WriteCatalog(filepath.Join(f.root, "catalog"), filepath.Join(programs, "engine")); err != nil {
		return err
	}
	python := standin.TarGz(standin.File{Name: "bin/python", Content: "#!/bin/sh\necho Python 3.13.5\n", Mode: 0o755}, standin.File{Name: "lib/os.py", Content: strings.Repeat("import sys\n", 50)})
	weirs := []standin.File{{Name: "bin/weirs", Mode: 0o755, Content: "#!/bin/sh\necho weirs 1.0\n"}, {Name: "lib/gate.so", Content: strings.Repeat("gate", 500)}, {Name: "share/empty", Content: ""}}
	for i := range 40 {
		weirs = append(weirs, standin.File{Name: fmt.Sprintf("share/%02d/lane.txt", i), Content: strings.Repeat(fmt.Sprintf("lane %d\n", i), 20)})
	}
	return standin.Publish(filepath.Join(f.root, "tools"), []standin.Tool{
		{Name: "python", Versions: []string{"3.13.5"}, Archives: [][]byte{python}, Card: "answer = { run = \"python --version\", match = 'Python (\\S+)' }\n[variables]\nPYTHONUSERBASE = \"@{home}/python\"\n"},
		{Name: "weirs", Archives: [][]byte{standin.TarGz(weirs...)}, Card: "answer = { run = \"weirs\", match = 'weirs (\\S+)' }\n"},
	})
}

// signCatalog signs the catalog of the team, and says by which key.
func (f *fitted) signCatalog() (string, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	if f.team, err = ssh.NewSignerFromKey(private); err != nil {
		return "", err
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(f.team.PublicKey()))), publish.Sign(filepath.Join(f.root, "catalog"), f.team)
}

// key makes the keys that reports are signed with, one for each machine and one of a stranger, and says who may
// speak for whom.
func (f *fitted) key() error {
	allowed := ""
	for _, name := range []string{"hut-laptop", "lab-desk", "stranger"} {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(f.root, "key-"+name), pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
		key, err := ssh.NewPublicKey(public)
		if err != nil {
			return err
		}
		if name != "stranger" {
			allowed += name + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + "\n"
		}
	}
	return os.WriteFile(filepath.Join(f.root, "allowed"), []byte(allowed), 0o644)
}

// proof is what verify --json says.
type proof struct {
	OK     bool `json:"ok"`
	Checks []struct {
		Row     string `json:"row"`
		State   string `json:"state"`
		Text    string `json:"text"`
		Details []struct {
			Thing string `json:"thing"`
			What  string `json:"what"`
		} `json:"details"`
	} `json:"checks"`
	Mend  []string `json:"mend"`
	Parts []struct {
		Label string `json:"label"`
		Tree  string `json:"tree"`
	} `json:"parts"`

	said string
}

// verify asks for the proof. A command that ends otherwise is an error.
func (f *fitted) verify(more ...string) (p proof, err error) {
	cmd, out := f.command(append([]string{"verify", "--json"}, more...)...)
	var errs strings.Builder
	cmd.Stderr = &errs
	err = cmd.Run()
	if code := cmd.ProcessState.ExitCode(); code != 0 && code != 3 {
		p.said = out.String() + errs.String()
		return p, fmt.Errorf("verify ended with %d: %w\n%s", code, err, p.said)
	}
	if err := json.Unmarshal(out.Bytes(), &p); err != nil {
		return p, fmt.Errorf("verify says no JSON: %w\n%s%s", err, out, &errs)
	}
	for _, x := range p.Checks {
		if text := p.told(x.Row); text != "" {
			p.said += x.Row + ": " + text + "\n"
		}
	}
	p.said += fmt.Sprintf("Mend: %q\n%s", p.Mend, &errs)
	return p, nil
}

// told is what a row says, "" when it holds.
func (p proof) told(row string) string {
	for _, x := range p.Checks {
		if x.Row != row || x.State == "ok" {
			continue
		}
		text := x.State + " " + x.Text
		for _, d := range x.Details {
			text += "\n" + d.Thing + " " + d.What
		}
		return text
	}
	return ""
}

// mends runs a command that verify named.
func (f *fitted) mends(command string) error {
	switch {
	case command == "trammel approve":
		command = "trammel approve --yes"
	case strings.HasPrefix(command, "trammel logs"):
		return nil // it says where to look
	}
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir, cmd.Env = f.dir, f.env
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", command, err, out)
	}
	return nil
}
