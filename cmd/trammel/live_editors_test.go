package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"

	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/draft"
)

// The schema is taken by a validator of the standard that others wrote, which takes what Parse
// takes and refuses what it should.
func TestLiveAValidatorFromNPMGoesByTheSchema(t *testing.T) {
	liveRegistries(t)
	shareHome()
	h := archiveHut(t, "format = 1\nproject = \"heronweir\"\n\n[toolchain]\nnode = \"24\"\najv  = { version = \"latest\", from = \"npm\", package = \"ajv-cli\" }\n")
	h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home)
	h.ok("lock")
	h.ok("fit")
	h.ok("export", "schema", "--output", "trammel.schema.json")
	count := 0
	put := func(folder, text string) {
		t.Helper()
		var v map[string]any
		if err := toml.Unmarshal([]byte(text), &v); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		raw, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		count++
		h.write(fmt.Sprintf("%s/%d.json", folder, count), string(raw))
	}
	for page, blocks := range pages(t) {
		for _, b := range blocks {
			if b.lang != "toml" || b.more == "policy" || b.more == "sources" || page == "docs/catalog.md" {
				continue
			}
			text := b.text
			if !strings.Contains(text, "format") {
				text = "format = 1\nproject = \"heronweir\"\n" + text
			}
			if _, err := declare.Parse("trammel.toml", []byte(text)); err == nil {
				put("good", text)
			}
		}
	}
	names, _ := draft.Starters()
	for _, name := range names {
		files, _ := draft.Starter(name, "heronweir", "trixie")
		for _, f := range files {
			if f.Path == declare.FileName {
				put("good", string(f.Content))
			}
		}
	}
	if count < 25 {
		t.Errorf("only %d declarations", count)
	}
	validate := func(folder string) outcome {
		return h.try("run", "--", "ajv", "validate", "--spec=draft2020", "--strict=false", "-c", "ajv-formats", "-s", "trammel.schema.json", "-d", folder+"/*.json")
	}
	o := validate("good")
	if strings.Contains(o.err, "ajv-formats") { // that program has formats beside it, or leaves them out
		o = h.try("run", "--", "ajv", "validate", "--spec=draft2020", "--strict=false", "--validate-formats=false", "-s", "trammel.schema.json", "-d", "good/*.json")
	}
	if o.code != 0 || strings.Count(o.out, " valid") != count {
		t.Errorf("%d declarations: %+v", count, o)
	}
	for i, text := range []string{
		"project = \"heronweir\"\n", "format = 2\nproject = \"heronweir\"\n", "format = 1\nproject = \"Heron Weir\"\n",
		"format = 1\nproject = \"heronweir\"\nisolaton = \"clean\"\n", "format = 1\nproject = \"heronweir\"\nisolation = \"tight\"\n",
		"format = 1\nproject = \"heronweir\"\n[service.board]\nrun = 3\n", "format = 1\nproject = \"heronweir\"\n[service.board]\nrun = \"x\"\nrestart = \"sometimes\"\n",
		"format = 1\nproject = \"heronweir\"\n[step.a]\nrun = \"x\"\nper = \"person\"\n", "format = 1\nproject = \"heronweir\"\n[toolchain]\ngo = 1.24\n",
	} {
		folder := fmt.Sprintf("bad%d", i)
		put(folder, text)
		if o := h.try("run", "--", "ajv", "validate", "--spec=draft2020", "--strict=false", "--validate-formats=false", "-s", "trammel.schema.json", "-d", folder+"/*.json"); o.code == 0 {
			t.Errorf("it takes\n%s", text)
		}
	}
}

// Editors of the archive find the project's commands as the page on editors says.
func TestLiveEditorsFindTheCommandsOfTheProject(t *testing.T) {
	liveRegistries(t)
	if os.Getenv("TRAMMEL_LIVE") != "all" {
		t.Skip("fetches four editors: TRAMMEL_LIVE=all")
	}
	shareHome()
	suite := source.AptSuite(&source.Machine{Getenv: os.Getenv})
	if suite == "" {
		t.Skip("this machine has no Debian archive")
	}
	h := archiveHut(t, fmt.Sprintf(`format = 1
project = "heronweir"

[source.%[1]s]
kind  = "debian"
suite = %[1]q

[toolchain]
node = "24"
vim    = { version = "latest", from = %[1]q, package = "vim" }
neovim = { version = "latest", from = %[1]q, package = "neovim" }
emacs  = { version = "latest", from = %[1]q, package = "emacs-nox" }
kakoune = { version = "latest", from = %[1]q, package = "kakoune" }
`, suite))
	h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home)
	h.ok("lock")
	h.ok("fit")
	bin := filepath.Join(h.dir, ".trammel", "bin")
	for name, args := range map[string][]string{
		"vim.basic": {"-es", "-u", "NONE", "-c", "let $PATH = getcwd() . '/.trammel/bin:' . $PATH", "-c", "call writefile([exepath('node'), system('node --version')], 'said-vim.basic')", "-c", "qa!"},
		"nvim":      {"--headless", "-u", "NONE", "-c", "lua vim.env.PATH = vim.fn.getcwd() .. '/.trammel/bin:' .. vim.env.PATH", "-c", "lua vim.fn.writefile({vim.fn.exepath('node'), vim.fn.system('node --version')}, 'said-nvim')", "-c", "qa!"},
		"emacs": {"--batch", "--eval", `(let ((bin (expand-file-name ".trammel/bin")))
  (setenv "PATH" (concat bin ":" (getenv "PATH")))
  (add-to-list 'exec-path bin)
  (with-temp-file "said-emacs" (insert (executable-find "node") "\n" (shell-command-to-string "node --version"))))`},
		"kak": {"-n", "-ui", "dummy", "-e", `eval %sh{ PATH=$PWD/.trammel/bin:$PATH; { command -v node; node --version; } > said-kak; echo kill! }`},
	} {
		c := exec.Command(filepath.Join(bin, name), args...)
		c.Dir, c.Env = h.dir, append(ownMachine(), "TRAMMEL_HOME="+h.home)
		out, err := c.CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
			continue
		}
		said := strings.Fields(h.read("said-" + name))
		if len(said) != 2 || said[0] != filepath.Join(bin, "node") || !strings.HasPrefix(said[1], "v24.") {
			t.Errorf("%s finds %v\n%s", name, said, out)
		}
	}
}

// A language server of the lock answers to an editor by its path, and a debugger finds a service
// at its declared port.
func TestLiveLanguageServersAndDebuggersComeFromTheEnvironment(t *testing.T) {
	liveRegistries(t)
	shareHome()
	h := archiveHut(t, `format = 1
project = "heronweir"

[toolchain]
node = "24"
typescript = { version = "5", from = "npm", package = "typescript" }
typescript-language-server = { version = "latest", from = "npm", package = "typescript-language-server" }

[service.board]
run   = "node --inspect=127.0.0.1:@{port.debug} server.mjs"
ports = { http = 8700, debug = 9229 }
variables = { PORT = "@{port.http}" }
`)
	h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home)
	h.write("server.mjs", "import { createServer } from 'node:http';\ncreateServer((q, a) => a.end('3 fish')).listen(Number(process.env.PORT), '127.0.0.1');\n")
	h.ok("lock")
	h.ok("start", "--approve")
	port := find(t, h, "board").Ports["debug"]
	resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/json/version", port))
	if err != nil {
		t.Fatal(err)
	}
	said, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if !strings.Contains(string(said), "node.js/v24.") {
		t.Errorf("at the debugger's port %d: %s", port, said)
	}
	tsc := strings.TrimSpace(h.ok("run", "--", "sh", "-c", "readlink -f $(command -v tsc)"))
	lib := filepath.Join(filepath.Dir(filepath.Dir(tsc)), "lib")
	// As an editor starts it (Language Server Protocol 3.17, base protocol).
	c := exec.Command(filepath.Join(h.dir, ".trammel", "bin", "typescript-language-server"), "--stdio")
	c.Dir, c.Env = h.dir, append(ownMachine(), "TRAMMEL_HOME="+h.home)
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	guard := time.AfterFunc(time.Minute, func() { _ = c.Process.Kill() })
	defer guard.Stop()
	ask := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"processId":null,"rootUri":"file://` + h.dir + `","capabilities":{},"initializationOptions":{"tsserver":{"path":"` + lib + `"}}}}`
	fmt.Fprintf(in, "Content-Length: %d\r\n\r\n%s", len(ask), ask)
	reader := bufio.NewReader(out)
	for {
		line, err := reader.ReadString('\n')
		if err != nil {
			t.Fatalf("the language server ended: %v", err)
		}
		length, ok := strings.CutPrefix(strings.TrimSpace(line), "Content-Length: ")
		if !ok {
			continue
		}
		n, err := strconv.Atoi(length)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := reader.ReadString('\n'); err != nil { // the empty line
			t.Fatal(err)
		}
		body := make([]byte, n)
		if _, err := io.ReadFull(reader, body); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(body), `"id":1`) {
			if !strings.Contains(string(body), "completionProvider") {
				t.Errorf("it says %.300s", body)
			}
			return
		}
	}
}
