package main

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/standin"
)

// browser is a real Chromium, driven over WebDriver (W3C Recommendation, 5 June 2018).
type browser struct {
	t    *testing.T
	base string // of the session
}

// openBrowser starts one; without it on this machine the test is skipped.
func openBrowser(t *testing.T) *browser {
	t.Helper()
	return openBrowserAt(t, t.TempDir())
}

// openBrowserAt starts one for an account whose home folder is named.
func openBrowserAt(t *testing.T, home string) *browser {
	t.Helper()
	driver, err := exec.LookPath("chromedriver")
	chromium, missing := exec.LookPath("chromium")
	if err != nil || missing != nil {
		lacks.Program(t, "chromium with chromedriver")
	}
	port := freeNumber(t)
	c := exec.Command(driver, "--port="+strconv.Itoa(port))
	c.Env = append(os.Environ(), "HOME="+home, "TMPDIR="+home)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { // with the browser that it started
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
	})
	b := &browser{t: t, base: fmt.Sprintf("http://127.0.0.1:%d", port)}
	eventually(t, "the browser's driver answers", func() bool {
		resp, err := http.Get(b.base + "/status")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == 200
	})
	var session struct{ SessionID string }
	b.ask("POST", "/session", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{
		"browserName": "chrome",
		"goog:chromeOptions": map[string]any{
			"binary": chromium, "args": []string{"--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,800", "--user-data-dir=" + filepath.Join(home, "profile")},
			"prefs": map[string]any{"download.default_directory": filepath.Join(home, "saved")},
		},
	}}}, &session)
	b.base += "/session/" + session.SessionID
	t.Cleanup(func() {
		if t.Failed() && os.Getenv("WEIR_PICTURES") != "" {
			b.picture(filepath.Join(os.Getenv("WEIR_PICTURES"), "failed.png"))
		}
	})
	return b
}

// ask sends a command and reads its value.
func (b *browser) ask(method, path string, body, into any) {
	b.t.Helper()
	if err := b.try(method, path, body, into); err != nil {
		b.t.Fatal(err)
	}
}

func (b *browser) try(method, path string, body, into any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	if method == http.MethodGet {
		raw = nil
	}
	r, err := http.NewRequest(method, b.base+path, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	resp, err := (&http.Client{Timeout: time.Minute}).Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var answer struct{ Value json.RawMessage }
	if err := json.NewDecoder(resp.Body).Decode(&answer); err != nil {
		return err
	}
	if resp.StatusCode != 200 {
		return fmt.Errorf("%s %s: %.400s", method, path, answer.Value)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(answer.Value, into)
}

func (b *browser) visit(address string) {
	b.t.Helper()
	if err := b.load(address); err != nil {
		b.t.Fatal(err)
	}
}

// load is visit where it may be that nothing comes. Where the machine's interfaces change, as beside
// tests of networks, a browser drops what it loads, and is asked again.
func (b *browser) load(address string) error {
	b.t.Helper()
	for range 20 {
		err := b.try("POST", "/url", map[string]any{"url": address}, nil)
		shows := b.says("location.protocol + document.body.innerText")
		if err != nil {
			shows += err.Error()
		}
		if !strings.Contains(shows, "ERR_NETWORK_CHANGED") {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
	return fmt.Errorf("%s cannot be visited", address)
}

// says runs a script in the page and gives what it returns, as text.
func (b *browser) says(script string) string {
	b.t.Helper()
	var out any
	b.ask("POST", "/execute/sync", map[string]any{"script": "return " + script, "args": []any{}}, &out)
	return fmt.Sprint(out)
}

// until waits for an expression of the page to be true.
func (b *browser) until(what, expression string) {
	b.t.Helper()
	for range 300 { // what is said is what the page has in the end, so that a failure can be read
		if b.says("!!("+expression+")") == "true" {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	b.t.Fatalf("never came true: %s\n%.2000s", what, b.says("location.href + '\\n' + document.body.innerText"))
}

// press clicks as a person does: where the element is, when it can be seen.
func (b *browser) press(selector string) {
	b.t.Helper()
	// A page that draws itself anew meanwhile has another element by then.
	eventually(b.t, "it can be pressed: "+selector, func() bool {
		var found map[string]string
		if b.try("POST", "/element", map[string]any{"using": "css selector", "value": selector}, &found) != nil {
			return false
		}
		for _, id := range found {
			return b.try("POST", "/element/"+id+"/click", map[string]any{}, nil) == nil
		}
		return false
	})
}

// keys types where the focus is.
func (b *browser) keys(text string) {
	b.t.Helper()
	var actions []map[string]string
	for _, r := range text {
		actions = append(actions, map[string]string{"type": "keyDown", "value": string(r)}, map[string]string{"type": "keyUp", "value": string(r)})
	}
	b.ask("POST", "/actions", map[string]any{"actions": []any{map[string]any{"type": "key", "id": "keyboard", "actions": actions}}}, nil)
}

// Keys without a letter (WebDriver, section 17.4.2).
const (
	keyEnter  = "\ue007"
	keyEscape = "\ue00c"
	keyUp     = "\ue013"
	keyDown   = "\ue015"
)

func (b *browser) picture(file string) {
	var text string
	if err := b.try("GET", "/screenshot", nil, &text); err != nil {
		b.t.Log(err)
		return
	}
	if raw, err := base64.StdEncoding.DecodeString(text); err == nil {
		if err := os.WriteFile(file, raw, 0o644); err != nil {
			b.t.Log(err)
		}
	}
}

// sized is a window of a size, and pictured what is in it where somebody wants to see.
func (b *browser) sized(name string, width, height int) {
	b.t.Helper()
	b.ask("POST", "/goog/cdp/execute", map[string]any{"cmd": "Emulation.setDeviceMetricsOverride", "params": map[string]any{"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false}}, nil)
	if dir := os.Getenv("WEIR_PICTURES"); dir != "" {
		b.picture(filepath.Join(dir, name+".png"))
	}
}

// pageHut is a project with all that a page shows.
func pageHut(t *testing.T) *hut {
	t.Helper()
	linuxOnly(t)
	s, weir, oldweir := archives(t)
	weir.Put(fakeDatabase(), standin.Deb{Name: "postgresql-client-17", Version: "17.2-1", Arch: "all"})
	weir.Publish()
	h := sealedHut(t, s, weir, oldweir, "open", `postgresql = { version = "17", from = "weir" }

[param.spring-run]
kind    = "choice"
of      = ["off", "on"]
default = "off"
about   = "The banner of the spring run"

[param.visitors]
kind    = "integer"
min     = 1
max     = 40
default = 12

[step.tables]
run   = "echo made the tables"
reads = ["schema.sql"]

[service.ledger]
tool = "postgresql"

[service.lane]
`+serves(t, "web", `, WEIR_PORT = "@{port.http}", RUN = "@{param.spring-run}"`)+`copies = 2
ports  = { http = `+itoa(freeNumber(t))+` }
ready  = { http = "/health", within = "30s" }

[service.desk]
`+serves(t, "web", `, WEIR_PORT = "@{port.http}"`)+`auto  = false
ports = { http = `+itoa(freeNumber(t))+` }

[routine.count]
about = "Totals of a day"
run   = "echo 42 passings"
`)
	h.write("schema.sql", "create table passings")
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	return h
}

func TestThePageInABrowser(t *testing.T) {
	t.Parallel()
	h := pageHut(t)
	b := openBrowser(t)
	port := gateway.RouterPort(h.home + "/state")
	at := func(name string) string { return fmt.Sprintf("http://%s:%d/", name, port) }
	row := func(name string) string {
		return `[...document.querySelectorAll("#services tr")].find(r => r.querySelector("th")?.textContent === "` + name + `")?.textContent`
	}

	b.visit(at("heronweir.localhost"))
	b.until("the services are shown", row("lane.1")+`?.includes("ready")`)
	if got := b.says(`document.querySelector("h1").textContent`); got != "heronweir" {
		t.Errorf("the heading is %q", got)
	}
	b.until("memory is shown", `/\d+ [KM]iB  \d+ %/.test(`+row("lane.2")+`)`)
	b.until("each copy has its own link", `document.querySelector('a[href="`+at("2.lane.heronweir.localhost")+`"]')`)
	// Who just comes may look.
	if got := b.says(`document.querySelectorAll("main button:not([hidden])").length + " " + !document.querySelector("#may").hidden`); got != "0 true" {
		t.Errorf("a browser that was not invited has buttons: %s", got)
	}
	if got := b.says(`fetch("act", {method: "POST", body: JSON.stringify({what: "start", name: "desk"})}).then(r => r.status)`); got != "403" {
		t.Errorf("a browser that was not invited acts: %s", got)
	}
	b.sized("page-looking", 1280, 800)
	b.visit(strings.TrimSpace(h.ok("open", "--print")))
	b.until("it may act", `!!document.querySelector('[aria-label="start desk"]')`)
	if got := b.says(`location.pathname + location.search + document.cookie`); got != "/" {
		t.Errorf("the invitation or the cookie can be read: %s", got)
	}
	b.sized("page", 1280, 800)

	b.press(`[aria-label="start desk"]`)
	b.until("desk is ready", row("desk")+`?.includes("ready")`)
	if st := find(t, h, "desk"); st.State != service.Ready {
		t.Errorf("%+v", st)
	}
	b.press(`[aria-label="stop desk"]`)
	b.until("desk is stopped", row("desk")+`?.includes("stopped")`)

	h.write("schema.sql", "create table passings, lanes")
	b.until("a step is due", `document.querySelector("#due").textContent.includes("tables")`)
	b.press("#fit")
	b.until("nothing is due", `document.querySelector("#due").textContent.includes("Nothing is due")`)
	b.until("what was due has a log", `document.querySelector("#log").textContent.includes("started from the page")`)

	b.press(`[aria-label="run count"]`)
	b.until("the routine's log is shown", `document.querySelector("#log").textContent.includes("42 passings")`)

	// A param is chosen with its own control; what runs takes it on, and what does not stays so.
	if got := b.says(`document.querySelector('[aria-label="choose spring-run"]').disabled`); got != "true" {
		t.Error("what is chosen already can be chosen")
	}
	before := find(t, h, "lane.1").Pid
	b.says(`(() => { const s = document.querySelector('select[aria-label="spring-run"]'); s.value = "on"; s.dispatchEvent(new Event("input")) })()`)
	b.press(`[aria-label="choose spring-run"]`)
	b.until("the param is taken on", `document.querySelector("#said").textContent === "spring-run is on: done"`)
	if got := h.ok("show", "params"); !strings.Contains(got, "on") || find(t, h, "lane.1").Pid == before {
		t.Errorf("the param is not taken on:\n%s", got)
	}
	if st := find(t, h, "desk"); st.State == service.Ready {
		t.Errorf("what did not run was started: %+v", st)
	}
	b.press(`input[aria-label="visitors"]`)
	b.says(`document.querySelector('input[aria-label="visitors"]').select()`)
	b.keys("99" + keyEnter)
	b.until("a value that may not be is refused in words", `document.querySelector("#said").className === "bad" && document.querySelector("#said").textContent.includes("40")`)
	b.keys(keyEscape)

	// Data is saved as a file of the browser's.
	b.says(`(() => { window.got = null; URL.createObjectURL = blob => { blob.arrayBuffer().then(a => window.got = btoa(String.fromCharCode(...new Uint8Array(a)))); return "#" } })()`)
	b.press(`[aria-label="save the data of ledger"]`)
	b.until("the data is there", `window.got`)
	raw, _ := base64.StdEncoding.DecodeString(b.says(`window.got`))
	if z, err := gzip.NewReader(bytes.NewReader(raw)); err != nil {
		t.Errorf("what is saved is no gzip: %q", raw)
	} else if text, _ := io.ReadAll(z); !strings.HasPrefix(string(text), "dump with ") {
		t.Errorf("what is saved is %q", text)
	}
	if left, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main/.save-*")); len(left) > 0 {
		t.Errorf("left over: %v", left)
	}

	// The keyboard alone is enough.
	b.visit(at("heronweir.localhost"))
	b.until("the services are shown again", row("desk")+`?.includes("stopped")`)
	b.keys("/")
	b.keys("silver")
	if got := b.says(`document.activeElement.id + " " + document.activeElement.value`); got != "words silver" {
		t.Errorf("after /: %q", got)
	}
	b.keys(keyEscape + keyDown)
	first := b.says(`document.activeElement.getAttribute("aria-label")`)
	b.keys(keyDown)
	second := b.says(`document.activeElement.getAttribute("aria-label")`)
	b.keys(keyUp)
	if again := b.says(`document.activeElement.getAttribute("aria-label")`); first == "<nil>" || first == second || again != first {
		t.Errorf("up and down go %q, %q, %q", first, second, again)
	}
	for range 30 {
		if b.says(`document.activeElement.getAttribute("aria-label")`) == "start desk" {
			break
		}
		b.keys(keyDown)
	}
	b.keys(keyEnter)
	b.until("desk is started by the keyboard", row("desk")+`?.includes("ready")`)

	// On no screen anything is cut off, and dark is dark.
	for _, width := range []int{1600, 1280, 1024, 820, 640, 390, 320} {
		b.sized("page-"+itoa(width), width, 800)
		out := b.says(`JSON.stringify([...document.querySelectorAll("section button, section a, section input, section td")].filter(e => e.offsetParent && e.getBoundingClientRect().right > e.closest("section").getBoundingClientRect().right + 1).map(e => e.outerHTML))`)
		if wide := b.says(`document.documentElement.scrollWidth`); out != "[]" || wide > itoa(width) && len(wide) >= len(itoa(width)) {
			t.Errorf("at %d the page is %s wide, and cut off are %s", width, wide, out)
		}
	}
	b.ask("POST", "/goog/cdp/execute", map[string]any{"cmd": "Emulation.setEmulatedMedia", "params": map[string]any{"features": []any{map[string]any{"name": "prefers-color-scheme", "value": "dark"}}}}, nil)
	light := func(of, what string) string {
		return `(c => { const [r, g, b] = c.match(/\d+/g).map(Number); return (r * 3 + g * 6 + b) / 10 })(getComputedStyle(document.querySelector("` + of + `")).` + what + `)`
	}
	if got := b.says(light("body", "backgroundColor") + " < 60 && " + light("body", "color") + " > 180 && " + light("button", "color") + " > 120"); got != "true" {
		t.Errorf("dark is not dark: %s on %s", b.says(light("body", "color")), b.says(light("body", "backgroundColor")))
	}
	b.sized("page-dark", 1280, 800)

	// A copy's own name leads to that copy, and everything of the user is listed.
	b.visit(at("2.lane.heronweir.localhost"))
	if got := b.says(`document.body.textContent`); !strings.HasPrefix(got, "lane 2") {
		t.Errorf("the copy says %q", got)
	}
	h.ok("--bay", "trial", "fit")
	b.visit(at("localhost"))
	all := b.says(`document.body.textContent`)
	for _, want := range []string{"bay main", "bay trial", "stopped", "lane.2", "ledger", h.dir} {
		if !strings.Contains(all, want) {
			t.Errorf("the overview is without %q:\n%s", want, all)
		}
	}
	b.sized("overview", 1280, 800)
	b.press(`a[href="` + at("heronweir.localhost") + `"]`)
	b.until("it leads to the page", `document.querySelector("#services")`)

	// When nobody supervises the bay any more, the page says so.
	h.ok("stop")
	b.until("the page says that it is over", `document.querySelector("#link").textContent.includes("stopped")`)

	// A bookmark of it goes on working, under another supervisor.
	h.ok("start")
	if gateway.RouterPort(h.home+"/state") == port {
		b.visit(at("heronweir.localhost"))
		b.press(`[aria-label="start desk"]`)
		b.until("desk is ready after a restart", row("desk")+`?.includes("ready")`)
	}
}
