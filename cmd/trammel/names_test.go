package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/core/running/gateway"
)

// named asks the router of a hut for a name.
func (h *hut) named(method, name, path string, header map[string]string, body string) (*http.Response, error) {
	port := gateway.RouterPort(h.home + "/state")
	r, err := http.NewRequest(method, fmt.Sprintf("http://127.0.0.1:%d%s", port, path), strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Host = fmt.Sprintf("%s:%d", name, port)
	for k, v := range header {
		r.Header.Set(k, v)
	}
	return asIs.Do(r)
}

// asIs follows no redirect.
var asIs = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// invited has a browser come by an invitation, and gives the cookie that it keeps.
func (h *hut) invited(name, address string) string {
	h.t.Helper()
	_, key, ok := strings.Cut(strings.TrimSpace(address), "/?")
	if !ok {
		h.t.Fatalf("no invitation: %q", address)
	}
	resp, err := h.named("GET", name, "/?"+key, nil, "")
	if err != nil {
		h.t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusSeeOther || resp.Header.Get("Location") != "/" || len(resp.Cookies()) != 1 {
		h.t.Fatalf("%d %v", resp.StatusCode, resp.Header)
	}
	c := resp.Cookies()[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Domain != "" || c.MaxAge < 3600 {
		h.t.Errorf("%+v", c)
	}
	return c.Name + "=" + c.Value
}

func (h *hut) seen(name, path string) (int, string) {
	h.t.Helper()
	resp, err := h.named("GET", name, path, nil, "")
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		h.t.Fatal(err)
	}
	return resp.StatusCode, string(b)
}

func webHut(t *testing.T, more string) *hut {
	t.Helper()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n"+more+"\n[service.lane]\n"+
		serves(t, "web", `, WEIR_PORT = "@{port.http}", WEIR_SICK = "@{bay.dir}/sick"`)+
		"copies = 2\nports = { http = 8600 }\nready = { http = \"/health\", every = \"200ms\", within = \"20s\" }\n\n[routine.count]\nabout = \"Totals\"\nrun = \"echo 42 passings\"\n\n[service.desk]\n"+
		serves(t, "web", `, WEIR_PORT = "@{port.http}"`)+"auto = false\nports = { http = 8700 }\n")
	h.ok("lock")
	h.ok("fit")
	h.ok("start")
	return h
}

func TestServicesHaveNames(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	lanes := map[string]bool{}
	for range 4 {
		code, text := h.seen("lane.heronweir.localhost", "/")
		if code != 200 || !strings.Contains(text, "for lane.heronweir.localhost:") || !strings.Contains(text, "forwarded for 127.0.0.1") {
			t.Errorf("%d %q", code, text)
		}
		lanes[text[:6]] = true
	}
	if len(lanes) != 2 {
		t.Errorf("the copies take turns: %v", lanes)
	}
	h.ok("--bay", "trial", "start")
	if _, text := h.seen("lane.trial.heronweir.localhost", "/"); !strings.Contains(text, "for lane.trial.heronweir.localhost") {
		t.Error(text)
	}
	if code, text := h.seen("nobody.heronweir.localhost", "/"); code != 404 || !strings.Contains(text, "http://lane.heronweir.localhost:") || !strings.Contains(text, "http://trial.heronweir.localhost:") {
		t.Errorf("%d %s", code, text)
	}
	if code, _ := h.seen("heronweir.example", "/"); code != http.StatusMisdirectedRequest {
		t.Errorf("a foreign name got %d", code)
	}
	if out := h.ok("show"); !strings.Contains(out, "http://lane.heronweir.localhost:") {
		t.Error(out)
	}
	// The holder of the names goes; the other bay's supervisor takes them over.
	h.ok("stop")
	eventually(t, "the names are served again", func() bool {
		resp, err := h.named("GET", "lane.trial.heronweir.localhost", "/", nil, "")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == 200
	})
	if code, _ := h.seen("lane.heronweir.localhost", "/"); code != 404 {
		t.Errorf("a service that is stopped still has its name: %d", code)
	}
}

func TestWebSocketsAndStreamsPassTheRouter(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	port := gateway.RouterPort(h.home + "/state")
	c, err := net.Dial("tcp4", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	fmt.Fprintf(c, "GET /ws HTTP/1.1\r\nHost: lane.heronweir.localhost:%d\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n", port)
	in := bufio.NewReader(c)
	resp, err := http.ReadResponse(in, nil)
	if err != nil || resp.StatusCode != 101 || resp.Header.Get("Sec-WebSocket-Accept") != "s3pPLMBiTxaQ9kYGzzhZRbK+xOo=" { // the example of RFC 6455, section 1.3
		t.Fatal(resp, err)
	}
	for _, text := range []string{"silverfin", "redgill"} {
		mask := []byte{1, 2, 3, 4}
		frame := append([]byte{0x81, 0x80 | byte(len(text))}, mask...)
		for i := range text {
			frame = append(frame, text[i]^mask[i%4])
		}
		c.Write(frame)
		echo := make([]byte, 2+len(text))
		if _, err := io.ReadFull(in, echo); err != nil || string(echo[2:]) != text {
			t.Errorf("%q, %v", echo, err)
		}
	}
	stream, err := h.named("GET", "lane.heronweir.localhost", "/stream", nil, "")
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	lines := bufio.NewReader(stream.Body)
	for i := range 3 { // the server never ends it: nothing may wait for that
		line, err := lines.ReadString('\n')
		if want := fmt.Sprintf("data: passing %d\n", i); line != want || err != nil {
			t.Errorf("%q, %v", line, err)
		}
		lines.ReadString('\n')
	}
}

// Data that was on its way to a browser when the supervisor was killed does not stay behind.
func TestAKilledSupervisorLeavesNoDataBehind(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	records, _ := filepath.Glob(filepath.Join(h.home, "state/records/*/main"))
	if len(records) != 1 {
		t.Fatalf("%v", records)
	}
	left := filepath.Join(records[0], ".save-1")
	if err := errors.Join(os.Mkdir(left, 0o700), os.WriteFile(filepath.Join(left, "dump.gz"), []byte("passings"), 0o600)); err != nil {
		t.Fatal(err)
	}
	pid := supervisorOf(t, h, "main")
	_ = syscall.Kill(pid, syscall.SIGKILL)
	gone(t, []int{pid})
	h.ok("start")
	if _, err := os.Stat(left); err == nil {
		t.Error("it is there still")
	}
}

// Large answers, which the kernel moves, arrive as they are: whole, in part, cut, and several at
// once over connections that are used again.
func TestLargeAnswersPassTheRouter(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	want := largeDay()
	ask := func(method, path string, header map[string]string) (*http.Response, []byte, error) {
		t.Helper()
		resp, err := h.named(method, "lane.heronweir.localhost", path, header, "")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		return resp, b, err
	}
	for _, path := range []string{"/large", "/chunked", "/large"} {
		if resp, b, err := ask("GET", path, nil); err != nil || resp.StatusCode != 200 || !bytes.Equal(b, want) {
			t.Errorf("%s: %d bytes, %d, %v", path, len(b), resp.StatusCode, err)
		}
	}
	if resp, b, err := ask("GET", "/large", map[string]string{"Range": "bytes=1000-5000999"}); err != nil || resp.StatusCode != 206 || !bytes.Equal(b, want[1000:5001000]) || resp.Header.Get("Content-Range") == "" {
		t.Errorf("a range: %d bytes, %v, %v", len(b), resp.Header, err)
	}
	if resp, b, err := ask("HEAD", "/large", nil); err != nil || len(b) != 0 || resp.ContentLength != int64(len(want)) {
		t.Errorf("HEAD: %d bytes of %d, %v", len(b), resp.ContentLength, err)
	}
	if _, b, err := ask("GET", "/cut", nil); err == nil || len(b) >= len(want) {
		t.Errorf("an answer that was cut is whole: %d bytes, %v", len(b), err)
	}
	// Somebody who goes in the middle leaves the others alone.
	resp, err := h.named("GET", "lane.heronweir.localhost", "/large", nil, "")
	if err != nil {
		t.Fatal(err)
	}
	_, _ = io.ReadFull(resp.Body, make([]byte, 1<<20))
	resp.Body.Close()
	var all sync.WaitGroup
	for i := range 24 {
		all.Go(func() {
			path := []string{"/", "/large", "/health"}[i%3]
			for range 4 {
				resp, err := h.named("GET", "lane.heronweir.localhost", path, nil, "")
				if err != nil {
					t.Error(err)
					return
				}
				b, err := io.ReadAll(resp.Body)
				resp.Body.Close()
				if err != nil || resp.StatusCode != 200 || path == "/large" && !bytes.Equal(b, want) {
					t.Errorf("%s: %d, %d bytes, %v", path, resp.StatusCode, len(b), err)
				}
			}
		})
	}
	all.Wait()
	// A service that was started anew is reached at once, whatever connections there were.
	for range 3 {
		h.ok("start", "--again", "lane")
		if code, text := h.seen("lane.heronweir.localhost", "/"); code != 200 || !strings.HasPrefix(text, "lane ") {
			t.Errorf("after a start anew: %d %s", code, text)
		}
	}
}

func TestThePageShowsAndDoes(t *testing.T) {
	t.Parallel()
	h := webHut(t, "\n[step.sweep]\nrun = \"true\"\nreads = [\"day.csv\"]\n")
	h.write("day.csv", "silverfin")
	code, text := h.seen("heronweir.localhost", "/")
	if code != 200 || strings.Contains(text, "http://") && strings.Contains(text, "<link") {
		t.Fatalf("%d %s", code, text)
	}
	pass := h.invited("heronweir.localhost", h.ok("open", "--print"))
	var state struct {
		Environment string
		Due         []struct{ Name string }
		Routines    []struct{ Name string }
		Services    []struct{ Name, State, Address string }
	}
	look := func() {
		t.Helper()
		_, text := h.seen("heronweir.localhost", "/state")
		if err := json.Unmarshal([]byte(text), &state); err != nil {
			t.Fatal(err)
		}
	}
	for _, path := range []string{"/", "/state", "/logs"} { // none of it is another page's
		resp, err := h.named("GET", "heronweir.localhost", path, nil, "")
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.Header.Get("X-Content-Type-Options") != "nosniff" || resp.Header.Get("Cross-Origin-Resource-Policy") != "same-origin" || resp.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: %v", path, resp.Header)
		}
	}
	look()
	if state.Environment == "" || len(state.Due) != 1 || state.Due[0].Name != "sweep" || len(state.Routines) != 1 || len(state.Services) != 3 || state.Services[2].State != "stopped" || !strings.Contains(state.Services[0].Address, "lane.heronweir") {
		t.Errorf("%+v", state)
	}
	act := func(header map[string]string, body string) (int, string) {
		t.Helper()
		resp, err := h.named("POST", "heronweir.localhost", "/act", header, body)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	own := fmt.Sprintf("http://heronweir.localhost:%d", gateway.RouterPort(h.home+"/state"))
	good := map[string]string{"Cookie": pass, "Origin": own, "Content-Type": "application/json", "Sec-Fetch-Site": "same-origin"}
	for name, header := range map[string]map[string]string{
		"nothing": {}, "no cookie": {"Origin": own}, "another's cookie": {"Cookie": pass + "x", "Origin": own},
		"no origin": {"Cookie": pass}, "a null origin": {"Cookie": pass, "Origin": "null"},
		"from elsewhere": {"Cookie": pass, "Origin": "http://bad.example"}, "from a service": {"Cookie": pass, "Origin": strings.Replace(own, "//", "//lane.", 1)},
		"another port": {"Cookie": pass, "Origin": own + "1"}, "cross-site": {"Cookie": pass, "Origin": own, "Sec-Fetch-Site": "cross-site"},
		"same-site": {"Cookie": pass, "Origin": own, "Sec-Fetch-Site": "same-site"},
	} {
		if code, _ := act(header, `{"what":"stop","name":"lane"}`); code != http.StatusForbidden {
			t.Errorf("%s: %d", name, code)
		}
	}
	for _, body := range []string{`{"what":"wipe","name":"lane"}`, `{"what":"start","name":"--again"}`, `nonsense`, `{}`} {
		if code, _ := act(good, body); code != http.StatusBadRequest {
			t.Errorf("%s: %d", body, code)
		}
	}
	if code, text := act(good, `{"what":"start","name":"desk"}`); code != http.StatusNoContent {
		t.Errorf("%d %s", code, text)
	}
	before := find(t, h, "lane.1").Pid
	if code, text := act(good, `{"what":"restart","name":"lane"}`); code != http.StatusNoContent || find(t, h, "lane.1").Pid == before {
		t.Errorf("%d %s", code, text)
	}
	if code, text := act(good, `{"what":"do","name":"count"}`); code != http.StatusNoContent {
		log, _ := os.ReadFile(bayDir(t, h, "main") + "/logs/routine-count.log")
		t.Errorf("%d %s\n%s", code, text, log)
	}
	if code, text := act(good, `{"what":"stop","name":"nobody"}`); code != http.StatusConflict || !strings.Contains(text, "no service is named") {
		t.Errorf("%d %s", code, text)
	}
	look()
	if len(state.Services) != 3 || state.Services[2].Name != "desk" || state.Services[2].State != "ready" {
		t.Errorf("%+v", state.Services)
	}
	logs, err := h.named("GET", "heronweir.localhost", "/logs?of=routine-count", nil, "")
	if err != nil {
		t.Fatal(err)
	}
	defer logs.Body.Close()
	guard := time.AfterFunc(10*time.Second, func() { logs.Body.Close() })
	defer guard.Stop()
	lines := bufio.NewScanner(logs.Body)
	found := false
	for !found && lines.Scan() {
		found = strings.Contains(lines.Text(), `"text":"42 passings"`)
	}
	if !found {
		t.Error("what a routine printed is not in its log")
	}
	if code, _ := h.seen("heronweir.localhost", "/logs?of=../../secret"); code != 404 {
		t.Errorf("a log of another place: %d", code)
	}
	if os.Getuid() != 0 {
		return
	}
	curl, err := exec.LookPath("curl")
	if err != nil {
		return
	}
	for _, name := range []string{"heronweir.localhost", "localhost"} { // the page, and what lists all of the user's
		c := exec.Command(curl, "-s", "-o", "/dev/null", "-w", "%{http_code}", "-H", "Host: "+name, fmt.Sprintf("http://127.0.0.1:%d/", gateway.RouterPort(h.home+"/state")))
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		if out, err := c.Output(); string(out) != "403" {
			t.Errorf("another user of the machine got %s of %s, %v", out, name, err)
		}
	}
	for _, header := range []map[string]string{{}, {"Origin": own}, {"Cookie": pass}} { // data goes to the page alone, too
		resp, err := h.named("POST", "heronweir.localhost", "/save", header, `{"what":"save","name":"lane"}`)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusForbidden {
			t.Errorf("data for %v: %d", header, resp.StatusCode)
		}
	}
}

func TestAServiceThatFallsSickIsFailingThenStartedAgain(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.change(`every = "200ms", within = "20s"`, `every = "200ms", within = "2s"`)
	h.change("copies = 2", "restart = \"on-failure\"")
	h.ok("lock")
	h.ok("start", "--approve")
	pid := find(t, h, "lane").Pid
	dir := bayDir(t, h, "main")
	if err := os.WriteFile(dir+"/sick", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	// The liveness of an HTTP probe is looked at every ten seconds, then each second.
	eventually(t, "it is failing", func() bool {
		st := find(t, h, "lane")
		return st.State == "failing" && strings.Contains(st.Reason, "answers 500")
	})
	eventually(t, "it was ended", func() bool { return find(t, h, "lane").Restarts > 0 })
	os.Remove(dir + "/sick")
	eventually(t, "it is ready", func() bool { st := find(t, h, "lane"); return st.State == "ready" && st.Pid != pid })
	if out := h.ok("logs", "lane", "--lines", "100"); !strings.Contains(out, "failing for 2s, ended to be started again") {
		t.Error(out)
	}
}

// Who starts a service that is sick just now waits for it as for one that starts.
func TestAStartWaitsForAServiceThatIsSick(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.ok("start", "--approve")
	sick := filepath.Join(bayDir(t, h, "main"), "sick")
	if err := os.WriteFile(sick, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is failing", func() bool { return find(t, h, "lane.1").State == "failing" })
	done := make(chan outcome)
	go func() { done <- h.try("start", "lane") }()
	select {
	case o := <-done:
		t.Errorf("it did not wait: %+v", o)
		return
	case <-time.After(500 * time.Millisecond):
	}
	if err := os.Remove(sick); err != nil {
		t.Fatal(err)
	}
	if o := <-done; o.code != 0 || !strings.Contains(o.out, "ready") || strings.Contains(o.out, "failing") {
		t.Errorf("%+v", o)
	}
	// For as long as it may take to get ready, and no longer.
	h.change(`every = "200ms", within = "20s"`, `every = "200ms", within = "1s"`)
	h.change("copies = 2", "restart = \"never\"")
	h.ok("lock")
	h.ok("start", "--approve")
	if err := os.WriteFile(sick, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is failing for good", func() bool { return find(t, h, "lane").State == "failing" })
	h.fails(6, []string{"lane", "answers 500"}, "start", "lane")
}

func TestOtherWaysToBeReady(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.teller]\n"+serves(t, "notify", "")+
		"ready = { notify = true, within = \"20s\" }\n\n[service.late]\nrun = \"sleep 0.4; echo > @{bay.dir}/up; exec sleep 1000\"\nready = { file = \"@{bay.dir}/up\", within = \"20s\" }\n\n[service.mute]\nauto = false\nrun = \"exec sleep 1000\"\nready = { notify = true, within = \"300ms\" }\n")
	h.ok("lock")
	h.ok("start")
	if out := h.ok("logs", "teller"); !strings.Contains(out, "telling") {
		t.Error("it was ready before it said so", out)
	}
	if st := find(t, h, "teller"); st.Says != "counting" || st.State != "ready" {
		t.Errorf("%+v", st)
	}
	h.fails(6, []string{"has not sent READY=1"}, "start", "mute")
	h.ok("stop")
	begun := time.Now()
	h.ok("start") // the file of the last run does not count
	if time.Since(begun) < 400*time.Millisecond {
		t.Error("the old file was taken for the new one")
	}
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "notify = true, within = \"20s\"", "notify = true, log = \"x\"", 1))
	h.fails(2, []string{"2 probes, not one"}, "lock")
}

func TestPortsThatNobodyDeclaredAreNoticed(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.lane]\n"+serves(t, "more", `, WEIR_PORT = "@{port.main}"`)+"ports = { main = 8600 }\n")
	h.ok("lock")
	h.ok("start")
	eventually(t, "it has said where", func() bool { return strings.Contains(h.ok("logs", "lane"), "also on") })
	at := regexp.MustCompile(`also on (127\.0\.0\.1:\d+)`).FindStringSubmatch(h.ok("logs", "lane"))[1]
	st := find(t, h, "lane")
	if len(st.More) != 1 || st.More[0].At != at || st.More[0].Command == "" || st.Memory == 0 {
		t.Errorf("%+v, not %s", st, at)
	}
	if out := h.ok("show"); !strings.Contains(out, "also "+at) {
		t.Error(out)
	}
}

func TestWhatDependsOnAChangedServiceStartsAnewAndTheRestStays(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, `format  = 1
project = "heronweir"
isolation = "open"

[service.ledger]
run = "echo one; exec sleep 1000"

[service.lane]
run = "exec sleep 1000"
needs = ["service.ledger"]

[service.board]
run = "exec sleep 1000"
needs = ["service.lane"]

[service.desk]
run = "exec sleep 1000"
`)
	h.ok("lock")
	h.ok("start")
	pids := func() map[string]int {
		out := map[string]int{}
		for _, st := range statuses(t, h) {
			if st.State == "ready" {
				out[st.Name] = st.Pid
			}
		}
		return out
	}
	before := pids()
	h.change("echo one", "echo two")
	h.ok("lock")
	h.ok("start", "ledger", "--approve") // only what was asked for, and what hangs on it
	eventually(t, "all run again", func() bool { return len(pids()) == 4 })
	after := pids()
	for name, changed := range map[string]bool{"ledger": true, "lane": true, "board": true, "desk": false} {
		if (before[name] != after[name]) != changed {
			t.Errorf("%s: %d, then %d", name, before[name], after[name])
		}
	}
	h.ok("start")
	if now := pids(); now["board"] != after["board"] || now["ledger"] != after["ledger"] {
		t.Error("a start with nothing changed starts nothing")
	}
	h.ok("start", "--again", "desk")
	if now := pids(); now["desk"] == after["desk"] || now["board"] != after["board"] {
		t.Errorf("%v, then %v", after, now)
	}
}

func TestWhatWasWantedComesBackAfterACrash(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.ok("start", "desk") // which does not start by itself
	pid := find(t, h, "desk").Pid
	supervisor := supervisorOf(t, h, "main")
	if err := syscall.Kill(supervisor, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	gone(t, []int{pid, supervisor})
	h.ok("start")
	if st := find(t, h, "desk"); st.State != "ready" {
		t.Errorf("%+v", st)
	}
	h.ok("stop", "desk")
	h.ok("start")
	for _, st := range statuses(t, h) {
		if st.Name == "desk" && st.State == "ready" {
			t.Error("what somebody stopped came back")
		}
	}
}

func TestAttachedServicesStopWithTheirStart(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.ok("stop", "lane")
	h.ok("start", "desk")
	c := h.command("start", "--attach")
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { c.Process.Kill() })
	defer stop()
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "· ready") && strings.Contains(lines.Text(), "lane.2") {
			break
		}
	}
	c.Process.Signal(syscall.SIGINT)
	io.Copy(io.Discard, out)
	c.Wait()
	if c.ProcessState.ExitCode() != 130 {
		t.Errorf("exit code %d", c.ProcessState.ExitCode())
	}
	for _, st := range statuses(t, h) {
		if want := map[bool]string{true: "ready", false: "stopped"}[st.Name == "desk"]; st.State != want {
			t.Errorf("%s is %s", st.Name, st.State)
		}
	}
}
