package network_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/kernel/network"
)

func private(t *testing.T) *network.Network {
	t.Helper()
	n, err := network.New()
	if errors.Is(err, network.ErrNone) {
		t.Skip(err) // an ordinary user has one only below a namespace of users
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(n.Close)
	return n
}

func echo(l net.Listener, name string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			io.WriteString(c, name+" ")
			io.Copy(c, c)
			c.Close()
		}()
	}
}

func TestTwoNetworksHaveOnePortEach(t *testing.T) {
	for _, name := range []string{"one", "two"} {
		n := private(t)
		l, err := n.Listen(543) // a standard port, and a low one
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go echo(l, name)
		out, err := net.Listen("tcp4", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer out.Close()
		go network.Forward(out, func(ctx context.Context) (net.Conn, error) { return n.Dial(ctx, 543) })
		c, err := net.Dial("tcp4", out.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(c, strings.Repeat("silverfin ", 100_000))
		c.(*net.TCPConn).CloseWrite()
		b, err := io.ReadAll(c)
		if err != nil || len(b) != 1_000_000+4 || !strings.HasPrefix(string(b), name+" silverfin") {
			t.Errorf("%s: %d bytes, %v", name, len(b), err)
		}
		if _, err := n.Dial(t.Context(), 544); err == nil {
			t.Error("nothing listens there")
		}
	}
}

// elsewhere is another machine, as far as this one can tell: a network with a cable between them. It has an
// address of its own, one that is valid on a link and one where clouds keep credentials.
func elsewhere(t *testing.T) (name string, far, near string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root lays cables")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("iproute2 is not here")
	}
	name = fmt.Sprintf("weir%d", os.Getpid()%100000)
	net3 := os.Getpid() % 250
	far, near = fmt.Sprintf("10.213.%d.2", net3), fmt.Sprintf("10.213.%d.1", net3)
	for _, line := range []string{
		"netns add " + name, "link add " + name + "a type veth peer name " + name + "b netns " + name,
		"addr add " + near + "/24 dev " + name + "a", "link set " + name + "a up",
		"-n " + name + " addr add " + far + "/24 dev " + name + "b", "-n " + name + " addr add 169.254.169.254/32 dev " + name + "b",
		"-n " + name + " addr add 100.100.100.200/32 dev " + name + "b", "-n " + name + " link set " + name + "b up", "-n " + name + " link set lo up",
		"route add 169.254.169.254/32 dev " + name + "a", "route add 100.100.100.200/32 dev " + name + "a",
	} {
		if out, err := exec.Command("ip", strings.Fields(line)...).CombinedOutput(); err != nil {
			_ = exec.Command("ip", "netns", "del", name).Run()
			t.Skipf("ip %s: %s", line, out)
		}
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
	return name, far, near
}

// server serves a text on port 80 of a network that ip(8) made.
func server(t *testing.T, name string) {
	t.Helper()
	c := exec.Command("ip", "netns", "exec", name, os.Args[0], "-test.run", "^TestMain$")
	c.Env = append(os.Environ(), "NETWORK_TEST_SERVER=:80")
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	if _, err := io.ReadFull(out, make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
}

func TestMain(m *testing.M) {
	if at := os.Getenv("NETWORK_TEST_SERVER"); at != "" {
		l, err := net.Listen("tcp", at)
		if err != nil {
			os.Exit(1)
		}
		fmt.Print("!")
		go func() { time.Sleep(2 * time.Minute); os.Exit(0) }()
		_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "outside") }))
	}
	os.Exit(m.Run())
}

// The way out leads to other machines, and neither to this one nor to where clouds keep credentials,
// whether it is asked to fetch or to connect.
func TestTheWayOutLeadsToOtherMachinesOnly(t *testing.T) {
	name, far, near := elsewhere(t)
	server(t, name)
	host, err := net.Listen("tcp4", "0.0.0.0:0") // something of this machine, at all of its addresses
	if err != nil {
		t.Fatal(err)
	}
	defer host.Close()
	go http.Serve(host, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "the host's") }))
	port := strconv.Itoa(host.Addr().(*net.TCPAddr).Port)
	n := private(t)
	l, err := n.Listen(3128)
	if err != nil {
		t.Fatal(err)
	}
	out := network.NewOut()
	proxy := &http.Server{Handler: out}
	go proxy.Serve(l)
	defer proxy.Close()
	fetch := func(address string) (string, int) {
		transport := &http.Transport{Proxy: func(*http.Request) (*url.URL, error) { return url.Parse("http://127.0.0.1:3128") }, DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return n.Dial(ctx, 3128) }}
		resp, err := (&http.Client{Transport: transport, Timeout: 20 * time.Second}).Get("http://" + address + "/")
		if err != nil {
			return err.Error(), 0
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return string(b), resp.StatusCode
	}
	connect := func(address string) string {
		c, err := n.Dial(t.Context(), 3128)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(20 * time.Second))
		fmt.Fprintf(c, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", address, address)
		head := make([]byte, 12)
		_, _ = io.ReadFull(c, head)
		return string(head[9:])
	}
	for address, reached := range map[string]bool{
		far + ":80": true, "127.0.0.1:" + port: false, "localhost:" + port: false, "127.1.2.3:" + port: false, "0.0.0.0:" + port: false, "0.0.0.7:" + port: false,
		near + ":" + port: false, "[::1]:" + port: false, "[::ffff:127.0.0.1]:" + port: false, "[::]:" + port: false, "[64:ff9b::7f00:1]:" + port: false,
		"[2002:7f00:1::]:" + port: false, "169.254.169.254:80": false, "100.100.100.200:80": false, "[::ffff:169.254.169.254]:80": false, "[fe80::1]:80": false, "224.0.0.1:80": false,
	} {
		text, code := fetch(address)
		if got := code == 200 && text == "outside"; got != reached || !reached && code != 403 {
			t.Errorf("GET %s: %d %s", address, code, text)
		}
		if got := connect(address); (got == "200") != reached || !reached && got != "403" {
			t.Errorf("CONNECT %s: %s", address, got)
		}
	}
	out.Set(network.Reach{Only: true, Hosts: []string{"weir.example:443"}})
	if _, code := fetch(far + ":80"); code != 403 {
		t.Errorf("a host that is not named: %d", code)
	}
	out.Set(network.Reach{Only: true, Hosts: []string{far}})
	if text, _ := fetch(far + ":80"); text != "outside" {
		t.Errorf("a host that is named: %s", text)
	}
	out.Set(network.Reach{Only: true, Hosts: []string{far + ":443"}})
	if _, code := fetch(far + ":80"); code != 403 {
		t.Errorf("another port of a host that is named: %d", code)
	}
}

func TestHostsOfADeclaration(t *testing.T) {
	for _, good := range []string{"weir.example", "*.weir.example", "weir.example:443", "10.0.0.7", "192.0.2.7:5432", "[2001:db8::7]:80", "2001:db8::7", "WEIR.example", "_srv.weir.example"} {
		if err := network.CheckHost(good); err != nil {
			t.Errorf("%s: %v", good, err)
		}
	}
	for _, bad := range []string{"", "*", "a b", "weir.example:0", "weir.example:x", "http://weir.example", "weir..example", "localhost", "lane.localhost:4280", "127.0.0.1", "127.0.0.1:80", "::1", "[::1]:80", "169.254.169.254", "0.0.0.0", "fe80::1", "::ffff:127.0.0.1", "a/b", "-a.example", "*.*.example"} {
		if network.CheckHost(bad) == nil {
			t.Errorf("%q names a host", bad)
		}
	}
}
