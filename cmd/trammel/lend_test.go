package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/lend"
)

// loan is a trammel lend that runs.
type loan struct {
	t         *testing.T
	cmd       *exec.Cmd
	Link      string
	Authority string
	base      string // the link without its secret
	secret    string

	said  bytes.Buffer
	ended chan error
	end   lend.Record // once it ended
}

// lent starts lending and waits for the link.
func (h *hut) lent(args ...string) *loan {
	h.t.Helper()
	l := &loan{t: h.t, ended: make(chan error, 1)}
	l.cmd = h.command(append([]string{"lend", "--json", "--yes"}, args...)...)
	out, err := l.cmd.StdoutPipe()
	if err != nil {
		h.t.Fatal(err)
	}
	l.cmd.Stderr = &l.said
	if err := l.cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
	decoder := json.NewDecoder(out)
	if err := decoder.Decode(l); err != nil || l.Link == "" {
		_ = l.cmd.Wait()
		h.t.Fatalf("%v %s", err, l.said.String())
	}
	u, err := url.Parse(l.Link)
	if err != nil || u.Scheme != "https" {
		h.t.Fatal(l.Link, err)
	}
	l.secret = u.Query().Get("lent")
	l.base = "https://" + u.Host
	go func() {
		var last struct{ Loans []lend.Record }
		err := decoder.Decode(&last)
		if len(last.Loans) > 0 {
			l.end = last.Loans[0]
		}
		if waited := l.cmd.Wait(); waited != nil {
			err = waited
		}
		l.ended <- err
	}()
	h.t.Cleanup(func() { l.stop() })
	return l
}

func (l *loan) stop() lend.Record {
	_ = l.cmd.Process.Signal(os.Interrupt)
	select {
	case err := <-l.ended:
		if err != nil {
			l.t.Errorf("the loan ended with %v: %s", err, l.said.String())
		}
		l.ended <- nil
	case <-time.After(30 * time.Second):
		_ = l.cmd.Process.Kill()
		l.t.Error("the loan does not end")
	}
	return l.end
}

// visitor is a browser without a window.
func visitor(t *testing.T) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Jar: jar, Transport: transport, Timeout: 30 * time.Second}
}

// fetched is what an address answers with.
func fetched(t *testing.T, c *http.Client, address string, with func(*http.Request)) (int, string) {
	t.Helper()
	r, err := http.NewRequest("GET", address, nil)
	if err != nil {
		t.Fatal(err)
	}
	if with != nil {
		with(r)
	}
	resp, err := c.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return 0, err.Error()
	}
	return resp.StatusCode, string(body)
}

func TestLendingReachesOneServiceByTheLinkAlone(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	l := h.lent("lane", "--to", "127.0.0.1")

	// Without the link nothing is learnt, whatever is asked.
	for _, path := range []string{"/", "/told", "/?lent=", "/?lent=wrong", "/?lent=" + l.secret[1:], "/ws"} {
		code, body := fetched(t, visitor(t), l.base+path, func(r *http.Request) {
			r.Header.Set("Cookie", "__Host-trammel-lent="+l.secret) // the link is no pass
			r.Header.Set("Authorization", "Bearer x")
		})
		if code != 403 || strings.Contains(body, "lane") || strings.Contains(body, "heronweir") {
			t.Errorf("%s: %d %s", path, code, body)
		}
	}
	for i := range 30 { // a stranger who calls themselves something else each time is one
		fetched(t, visitor(t), l.base+"/", func(r *http.Request) { r.Header.Set("User-Agent", fmt.Sprint("eel ", i)) })
	}
	c := visitor(t)
	code, body := fetched(t, c, l.Link, nil)
	if code != 200 || !strings.HasPrefix(body, "lane ") {
		t.Errorf("by the link: %d %s", code, body)
	}
	// The secret is in no address after that, and the service does not get the pass.
	code, body = fetched(t, c, l.base+"/home", func(r *http.Request) { r.Header.Set("Origin", l.base) })
	for _, words := range []string{"Path: /told?day=2", "Host: lane.heronweir.localhost:"} {
		if code != 200 || !strings.Contains(body, words) {
			t.Errorf("%d, no %q:\n%s", code, words, body)
		}
	}
	if code, body = fetched(t, c, l.base+"/told", nil); code != 200 || strings.Contains(body, "__Host-trammel") || strings.Contains(body, l.secret) || !strings.Contains(body, "Cookie: day=1") {
		t.Errorf("%d, the service is told\n%s", code, body)
	}
	// A name for something else reaches this service all the same.
	for _, name := range []string{"heronweir.localhost", "localhost", "other.heronweir.localhost"} {
		if code, body := fetched(t, c, l.base+"/", func(r *http.Request) { r.Host = name; r.Header.Set("Authorization", "Bearer "+l.secret) }); code != 200 || !strings.Contains(body, "for lane.heronweir.localhost:") {
			t.Errorf("asked for %s: %d %s", name, code, body)
		}
	}
	// Programs carry it in a header.
	if code, body := fetched(t, visitor(t), l.base+"/told", func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+l.secret) }); code != 200 || strings.Contains(body, "Authorization") {
		t.Errorf("%d %s", code, body)
	}
	record := l.stop()
	if record.Service != "lane" || len(record.Visitors) != 2 || record.Visitors[1].Requests < 6 || record.Visitors[0].Refused < 36 || record.Visitors[1].From != "127.0.0.1" || record.Ended.IsZero() {
		t.Errorf("noted: %+v", record)
	}
	if out := h.ok("lend"); !strings.Contains(out, "lane") || !strings.Contains(out, "127.0.0.1") || strings.Contains(out, l.secret) {
		t.Errorf("lend alone says\n%s", out)
	}
}

// upgraded opens a WebSocket by the link.
func (l *loan) upgraded() net.Conn {
	l.t.Helper()
	c, err := tls.Dial("tcp", strings.TrimPrefix(l.base, "https://"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		l.t.Fatal(err)
	}
	_ = c.SetDeadline(time.Now().Add(30 * time.Second))
	fmt.Fprintf(c, "GET /ws HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n", l.secret)
	resp, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil || resp.StatusCode != 101 {
		l.t.Fatal(resp, err)
	}
	return c
}

func TestALoanEndsWithItsTimeAndCutsWhatIsOpen(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	l := h.lent("lane", "--to", "127.0.0.1", "--for", "3s")
	c := l.upgraded()
	defer c.Close()
	if _, err := io.ReadAll(c); err != nil && strings.Contains(err.Error(), "timeout") {
		t.Error("the connection outlived the loan")
	}
	if err := <-l.ended; err != nil {
		t.Errorf("it ended with %v: %s", err, l.said.String())
	}
	l.ended <- nil
	if code, body := fetched(t, visitor(t), l.Link, nil); code != 0 {
		t.Errorf("after its end: %d %s", code, body)
	}
	// And with the service, which is then said to be away; a new start is lent again.
	l = h.lent("lane", "--to", "127.0.0.1")
	h.ok("stop", "lane")
	client := visitor(t)
	if code, body := fetched(t, client, l.Link, nil); code != 404 && code != 502 {
		t.Errorf("with the service stopped: %d %s", code, body)
	}
	h.ok("start", "lane")
	eventually(t, "it is there again", func() bool { code, _ := fetched(t, client, l.base+"/", nil); return code == 200 })
}

func TestLendingAsksAndRefuses(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.fails(6, []string{"board does not run", "trammel start board"}, "lend", "board")
	h.ok("start")
	h.fails(4, []string{"nobody is asked", "--yes"}, "lend", "board")
	h.fails(2, []string{"ledger speaks no HTTP"}, "lend", "ledger", "--yes")
	h.fails(2, []string{`no service is named "bord"`, "board"}, "lend", "bord", "--yes")
	h.fails(2, []string{"a loan lasts between"}, "lend", "board", "--yes", "--for", "1000h")
	h.fails(2, []string{"names no SSH server"}, "lend", "board", "--yes", "--through", "-oProxyCommand=x")
	h.fails(1, []string{"cannot be listened on"}, "lend", "board", "--yes", "--to", "203.0.113.9")
	if out := h.ok("lend"); !strings.Contains(out, "Nothing of bay main was lent yet") {
		t.Error(out)
	}
}

// Through a real SSH server, whose rules say who reaches the port.
func TestLendingThroughAnSSHServer(t *testing.T) {
	sshd, err := exec.LookPath("sshd")
	if err != nil {
		if sshd = "/usr/sbin/sshd"; !exists(sshd) {
			lacks.Program(t, "sshd")
		}
	}
	t.Parallel()
	h := webHut(t, "")
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"host", "person"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, name)).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	public, _ := os.ReadFile(filepath.Join(dir, "person.pub"))
	host, _ := os.ReadFile(filepath.Join(dir, "host.pub"))
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // where it goes before anybody has logged in
			t.Fatal(err)
		}
	}
	port := freeNumber(t)
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	keys := write("keys", string(public))
	known := write("known", fmt.Sprintf("[localhost]:%d %s", port, host))
	server := exec.Command(sshd, "-D", "-e", "-f", write("sshd_config", fmt.Sprintf(
		"Port %d\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPidFile none\nPermitRootLogin prohibit-password\nGatewayPorts no\n", port, dir, keys)))
	var said bytes.Buffer
	server.Stderr = &said
	server.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(-server.Process.Pid, syscall.SIGKILL); _ = server.Wait() })
	eventually(t, "sshd listens", func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	// The person's own ssh, with settings that lie in this test's folder.
	config := write("config", fmt.Sprintf("Host *\n IdentityFile %s/person\n IdentitiesOnly yes\n UserKnownHostsFile %s\n StrictHostKeyChecking yes\n BatchMode yes\n", dir, known))
	bin := filepath.Join(dir, "bin")
	if err := os.Mkdir(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	real, err := exec.LookPath("ssh")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(bin, "ssh"), []byte("#!/bin/sh\nexec "+real+" -F "+config+" \"$@\"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	h.env = append(h.env, "PATH="+bin+":"+os.Getenv("PATH"))
	through := fmt.Sprintf("%s@localhost:%d", me.Username, port)
	l := h.lent("lane", "--through", through)
	if !strings.HasPrefix(l.Link, "https://localhost:") {
		t.Errorf("the link is %s", l.Link)
	}
	// The server gives the port on its own loopback, which is this machine's: not that of the loan.
	if code, body := fetched(t, visitor(t), l.Link, nil); code != 200 || !strings.HasPrefix(body, "lane ") {
		t.Fatalf("through the server: %d %s\n%s", code, body, said.String())
	}
	if code, _ := fetched(t, visitor(t), l.base+"/", nil); code != 403 {
		t.Errorf("without the link: %d", code)
	}
	record := l.stop()
	if len(record.Visitors) == 0 {
		t.Error("nobody is noted")
	}
	eventually(t, "the server's port is closed", func() bool { code, _ := fetched(t, visitor(t), l.Link, nil); return code == 0 })
	// One that is killed takes its ssh along.
	l = h.lent("lane", "--through", through)
	_ = l.cmd.Process.Kill()
	<-l.ended
	l.ended <- nil
	eventually(t, "the way is closed", func() bool { code, _ := fetched(t, visitor(t), l.Link, nil); return code == 0 })
	h.fails(5, []string{"does not forward"}, "lend", "lane", "--yes", "--through", fmt.Sprintf("%s@localhost:%d", me.Username, freeNumber(t)))
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

// A colleague's machine, made of a network of its own and a cable between the two.
func TestLendingToAnotherMachine(t *testing.T) {
	ip, err := exec.LookPath("ip")
	if os.Getuid() != 0 {
		t.Skip("making a second machine needs root")
	}
	if err != nil {
		lacks.Program(t, "ip")
	}
	curl, err := exec.LookPath("curl")
	if err != nil {
		lacks.Program(t, "curl")
	}
	t.Parallel()
	name := "weir" + strconv.Itoa(os.Getpid()%100000)
	run := func(args ...string) error {
		out, err := exec.Command(ip, args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("ip %v: %v %s", args, err, out)
		}
		return nil
	}
	if err := run("netns", "add", name); err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { _ = run("netns", "del", name); _ = run("link", "del", name+"a") })
	third := strconv.Itoa(os.Getpid() % 250)
	here, there := "10.213."+third+".1", "10.213."+third+".2"
	for _, args := range [][]string{
		{"link", "add", name + "a", "type", "veth", "peer", "name", name + "b"}, {"link", "set", name + "b", "netns", name},
		{"addr", "add", here + "/24", "dev", name + "a"}, {"link", "set", name + "a", "up"},
		{"-n", name, "addr", "add", there + "/24", "dev", name + "b"}, {"-n", name, "link", "set", name + "b", "up"}, {"-n", name, "link", "set", "lo", "up"},
	} {
		if err := run(args...); err != nil {
			t.Skip(err)
		}
	}
	h := webHut(t, "")
	l := h.lent("lane", "--to", here)
	colleague := func(args ...string) (string, error) {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		c := exec.CommandContext(ctx, ip, append([]string{"netns", "exec", name, curl, "-sS", "--noproxy", "*"}, args...)...)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	jar := filepath.Join(t.TempDir(), "jar")
	if out, err := colleague("-L", "-c", jar, "-b", jar, "--cacert", l.Authority, l.Link); err != nil || !strings.HasPrefix(out, "lane ") {
		t.Fatalf("%v\n%s", err, out)
	}
	if out, err := colleague("--cacert", l.Authority, l.base); err != nil || !strings.Contains(out, "Nothing is lent") {
		t.Errorf("without the link: %v %s", err, out)
	}
	if out, err := colleague(l.Link); err == nil {
		t.Errorf("the certificate was believed by somebody who was not told to: %s", out)
	}
	// Neither the service's own port nor the page is open to that machine.
	for _, port := range []int{gateway.RouterPort(h.home + "/state"), gateway.SecurePort(h.home + "/state"), find(t, h, "lane.1").Ports["http"]} {
		if out, err := colleague("-m", "5", fmt.Sprintf("http://%s:%d/", here, port)); err == nil {
			t.Errorf("port %d answers: %s", port, out)
		}
	}
	if record := l.stop(); len(record.Visitors) != 2 || record.Visitors[0].From != there || record.Visitors[0].Requests == 0 {
		t.Errorf("noted: %+v", record.Visitors)
	}
}

// The names of services over https, in a real browser that was told of this machine's authority
// and in one that was not.
func TestNamesOverHTTPSInABrowser(t *testing.T) {
	t.Parallel()
	certutil, err := exec.LookPath("certutil")
	if err != nil {
		lacks.Program(t, "certutil")
	}
	h := webHut(t, "")
	st := find(t, h, "lane.1")
	if !strings.HasPrefix(st.Secure, "https://lane.heronweir.localhost:") {
		t.Fatalf("its address over https is %q", st.Secure)
	}
	if out := h.ok("show", "lane"); !strings.Contains(out, strings.TrimSuffix(st.Secure, "/")) {
		t.Errorf("show lane does not name it:\n%s", out)
	}
	home := t.TempDir()
	store := filepath.Join(home, ".pki", "nssdb")
	if err := os.MkdirAll(store, 0o700); err != nil {
		t.Fatal(err)
	}
	authority := filepath.Join(h.home, "state", "authority", "authority.pem")
	for _, args := range [][]string{{"-N", "--empty-password"}, {"-A", "-t", "C,,", "-n", "trammel", "-i", authority}} {
		if out, err := exec.Command(certutil, append([]string{"-d", "sql:" + store}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("certutil %v: %v %s", args, err, out)
		}
	}
	b := openBrowserAt(t, home)
	b.visit(st.Secure)
	if text := b.says("document.body.innerText + ' ' + isSecureContext + ' ' + location.protocol"); !strings.HasPrefix(text, "lane ") || !strings.HasSuffix(text, "true https:") {
		t.Errorf("the browser shows %s", text)
	}
	b.visit(strings.Replace(st.Secure, "lane.", "", 1))
	b.until("the page of the bay comes over https, and knows the service", "document.body.innerText.includes('lane') && location.protocol == 'https:'")
	stranger := openBrowser(t)
	if err := stranger.load(st.Secure); err != nil {
		t.Log(err)
	}
	if text := stranger.says("document.body.innerText"); !strings.Contains(text, "ERR_CERT_AUTHORITY_INVALID") {
		t.Errorf("a browser that was told nothing believes it: %s", text)
	}
	// What the authority may not vouch for, no browser believes, though it has its key.
	if info, err := os.Stat(filepath.Join(filepath.Dir(authority), "key.pem")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key: %v %v", info.Mode(), err)
	}
}

// Whoever has the link, and whoever guesses at it, can have only so much kept and told; and neither learns
// of anything but the service, whatever happens to it meanwhile.
func TestALoanIsBounded(t *testing.T) {
	t.Parallel()
	h := webHut(t, "")
	h.ok("--bay", "desk2", "fit")
	h.fails(2, []string{"a bay and a service cannot both be called desk", "trammel clear desk"}, "--bay", "desk", "start")
	l := h.lent("lane", "--to", "127.0.0.1")
	host := strings.TrimPrefix(l.base, "https://")
	for _, suite := range []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256, tls.TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA} {
		if c, err := tls.Dial("tcp", host, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{suite}}); err == nil {
			c.Close()
			t.Errorf("%s is taken", tls.CipherSuiteName(suite))
		}
	}
	if c, err := tls.Dial("tcp", host, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12}); err != nil {
		t.Errorf("TLS 1.2 with what is modern: %v", err)
	} else {
		c.Close()
	}
	c := visitor(t)
	fetched(t, c, l.Link, nil)
	for i := range 1200 {
		fetched(t, c, l.base+"/", func(r *http.Request) {
			r.Header.Set("User-Agent", fmt.Sprintf("eel %d %s", i, strings.Repeat("x", 300)))
		})
	}
	slow := 0
	guesser := visitor(t)
	var all sync.WaitGroup
	var turn sync.Mutex
	for range 40 { // of which the later ones wait, and few at a time
		all.Go(func() {
			resp, err := guesser.Get(l.base + "/?lent=wrong")
			if err != nil {
				return
			}
			resp.Body.Close()
			turn.Lock()
			defer turn.Unlock()
			if resp.StatusCode == http.StatusTooManyRequests {
				slow++
			} else if resp.StatusCode != http.StatusForbidden {
				t.Errorf("a guess got %d", resp.StatusCode)
			}
		})
	}
	all.Wait()
	if slow == 0 {
		t.Error("forty guesses at once were all looked at")
	}
	// While the service is started anew nothing else answers in its place.
	over := make(chan struct{})
	go func() {
		defer close(over)
		for range 3 {
			h.try("start", "--again", "lane")
		}
		h.try("stop", "lane")
		h.try("start", "lane")
	}()
	for going := true; going; {
		select {
		case <-over:
			going = false
		default:
		}
		if code, body := fetched(t, c, l.base+"/", nil); code != 200 && code != 502 || strings.Contains(body, "Names that lead") || strings.Contains(body, "desk") {
			t.Errorf("%d %s", code, body)
		}
	}
	record := l.stop()
	guesses := 0
	for _, v := range record.Visitors {
		guesses += v.Guesses
	}
	if guesses != 40 {
		t.Errorf("%d guesses are noted", guesses)
	}
	if len(record.Visitors) > 260 || record.Visitors[len(record.Visitors)-1].From != "others" && record.Visitors[len(record.Visitors)-2].From != "others" {
		t.Errorf("%d visitors are kept", len(record.Visitors))
	}
	file := globs(h.home, "state/records/*/main/lent.jsonl")[0]
	if info, err := os.Stat(file); err != nil || info.Size() > 300<<10 {
		t.Errorf("the record is %d bytes long, %v", info.Size(), err)
	}
	// One that grew too long in an earlier version, or otherwise, makes room.
	if err := os.Truncate(file, 300<<20); err != nil {
		t.Fatal(err)
	}
	h.ok("lend")
	l = h.lent("lane", "--to", "127.0.0.1")
	l.stop()
	if out := h.ok("lend"); !strings.Contains(out, "lane") {
		t.Errorf("the newest loan is not listed:\n%s", out)
	}
}
