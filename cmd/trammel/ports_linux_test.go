package main

import (
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"
)

// A start while a stop is under way, a raised count, one that is started anew: what the bay's own processes listen on is
// no stranger's, and numbers stay.
func TestAServicesOwnProcessIsNoStranger(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	a, b := freeNumber(t), freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[param.relays]\nkind = \"integer\"\ndefault = 1\n\n[service.gauge]\n%sports = { main = %d }\nvariables = { RELAYS = \"@{param.relays}\" }\n\n[service.relay]\n%sports = { main = %d }\ncopies = \"@{param.relays}\"\nneeds = [\"service.gauge\"]\n",
		serves(t, "keep", `, WEIR_PORT = "@{port.main}", WEIR_ROWS = "@{bay.dir}/rows"`), a, serves(t, "keep", `, WEIR_PORT = "@{port.main}", WEIR_ROWS = "@{bay.dir}/rows-@{port.main}"`), b))
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), "variables = { RELAYS = \"@{param.relays}\" }\n", "", 1))
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("start")
	before := map[string]int{}
	for _, st := range statuses(t, h) {
		before[st.Name] = st.Ports["main"]
	}
	for range 8 {
		var both sync.WaitGroup
		both.Go(func() { h.try("stop") })
		o := h.try("start")
		both.Wait()
		if strings.Contains(o.err, "is taken by") {
			t.Fatalf("its own process is called a stranger:\n%s", o.err)
		}
		if o = h.try("start"); o.code != 0 || strings.Contains(o.err, "is taken by") {
			t.Fatalf("%d %s", o.code, o.err)
		}
		for _, st := range statuses(t, h) {
			if was := before[st.Name]; st.Running() && was != 0 && st.Ports["main"] != was {
				t.Fatalf("%s had %d and has %d", st.Name, was, st.Ports["main"])
			}
		}
	}
	for _, count := range []string{"3", "1", "4"} {
		o := h.try("start", "--param", "relays="+count)
		if o.code != 0 || strings.Contains(o.err, "trammel.test (pid") {
			t.Errorf("%s relays: %d %s", count, o.code, o.err)
		}
	}
	if o := h.try("start", "--again", "gauge"); o.code != 0 || strings.Contains(o.err, "is taken by") {
		t.Errorf("anew: %d %s", o.code, o.err)
	}
	h.ok("stop")
}

// A server that listens at ::1 alone is ready, has a name, and is told with the address that it has.
func TestAServerAtV6LoopbackIsReached(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	if l, err := net.Listen("tcp6", "[::1]:0"); err != nil {
		t.Skip("this machine has no ::1")
	} else {
		l.Close()
	}
	port := freeNumber(t)
	h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nhost = [\"python3\"]\n\n[service.board]\nrun = \"python3 -m http.server --bind ::1 @{port.http}\"\nports = { http = %d, debug = %d }\nready = { http = \"/\", within = \"20s\", every = \"1s\" }\n", port, freeNumber(t)))
	h.ok("lock")
	// The port that is called http is the one to ask; the other is not listened on, and nobody waits for it.
	h.ok("start", "--approve")
	if out := h.ok("show"); !strings.Contains(out, fmt.Sprintf("[::1]:%d", port)) {
		t.Errorf("show:\n%s", out)
	}
	if code, text := h.seen("board.heronweir.localhost", "/"); code != 200 || !strings.Contains(text, "trammel.toml") {
		t.Errorf("by name: %d %s", code, text)
	}
	h.ok("stop")
	h.change(`every = "1s"`, `every = "5ms"`)
	h.fails(2, []string{"repeated every 100ms at the most often"}, "lock")
}

// A port may take datagrams: it is waited for, claimed, looked after and forwarded into a private network.
func TestAPortForDatagrams(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for _, network := range []string{"", "network = \"private\"\n"} {
		port := freeNumber(t)
		h := newHut(t, nil, fmt.Sprintf("format = 1\nproject = \"heronweir\"\nhost = [\"python3\"]\n%s\n[service.echo]\nrun = \"python3 -u echo.py @{port.main}\"\nports = { main = { number = %d, udp = true } }\n", network, port))
		h.write("echo.py", "import socket, sys, time\ntime.sleep(0.3)\ns = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\ns.bind(('127.0.0.1', int(sys.argv[1])))\nwhile True:\n    data, who = s.recvfrom(65536)\n    s.sendto(b'heard ' + data, who)\n")
		h.ok("lock")
		h.ok("start", "--approve")
		st := find(t, h, "echo")
		if out := h.ok("show"); !strings.Contains(out, fmt.Sprintf("127.0.0.1:%d/udp", st.Ports["main"])) {
			t.Errorf("%sshow:\n%s", network, out)
		}
		for i := range 3 {
			c, err := net.Dial("udp4", fmt.Sprintf("127.0.0.1:%d", st.Ports["main"]))
			if err != nil {
				t.Fatal(err)
			}
			_ = c.SetDeadline(time.Now().Add(20 * time.Second))
			buffer := make([]byte, 100)
			fmt.Fprintf(c, "silverfin %d", i)
			n, err := c.Read(buffer)
			if want := fmt.Sprintf("heard silverfin %d", i); err != nil || string(buffer[:n]) != want {
				t.Errorf("%sanswer %q, %v", network, buffer[:n], err)
			}
			c.Close()
		}
		h.ok("verify")
		h.ok("stop")
		if network != "" {
			continue
		}
		// Somebody else's socket is seen.
		l, err := net.ListenPacket("udp4", fmt.Sprintf("127.0.0.1:%d", st.Ports["main"]))
		if err != nil {
			t.Fatal(err)
		}
		if o := h.try("start"); o.code != 0 || !strings.Contains(o.err, fmt.Sprintf("port %d is taken by trammel.test (pid %d)", st.Ports["main"], os.Getpid())) {
			t.Errorf("taken: %d %s", o.code, o.err)
		}
		l.Close()
		h.ok("stop")
	}
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[service.echo]\nrun = \"sleep 9\"\nports = { main = { number = 5353, udp = true } }\nready = { tcp = \"main\" }\n")
	h.fails(2, []string{`port "main" takes datagrams, which no tcp probe asks`, "command, log or notify"}, "lock")
}

// What is said of a port that cannot be had is the true reason.
func TestWhyAPortCannotBeHad(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[service.lane]\nrun = \"sleep 9\"\nports = { main = 65534 }\ncopies = 3\n")
	h.fails(2, []string{`port "main" of copy 3 would be 65536`, "the last port is 65535"}, "lock")
	port := freeNumber(t)
	declaration := fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.ledger]\n%sports = { main = %d }\n", serves(t, "keep", `, WEIR_PORT = "@{port.main}", WEIR_ROWS = "@{bay.dir}/rows"`), port)
	h = newHut(t, nil, declaration)
	h.ok("lock")
	h.ok("start", "--approve")
	o := h.try("--bay", "trial", "start")
	if o.code != 0 || !strings.Contains(o.err, fmt.Sprintf("port %d is ", port)) || !strings.Contains(o.err, "trammel.test (pid") && !strings.Contains(o.err, "bay main of heronweir") {
		t.Errorf("which bay has it is not said: %d %s", o.code, o.err)
	}
	h.ok("--bay", "trial", "stop")
	h.ok("stop")
	if os.Getuid() != 0 {
		t.Skip("the rest needs another user")
	}
	other := newHut(t, nil, strings.Replace(declaration, fmt.Sprint(port), "81", 1))
	asOrdinaryUser(t, other)
	other.ok("lock")
	if o := other.try("start", "--approve"); !strings.Contains(o.err, "port 81 needs rights that you do not have") {
		t.Errorf("%d %s", o.code, o.err)
	}
	other.ok("stop")
	// An ordinary user is told which of their own programs has a port.
	squat := freeNumber(t)
	other.write("squat.py", "import socket, time\ns = socket.socket()\ns.bind(('127.0.0.1', "+itoa(squat)+"))\ns.listen()\nopen('up', 'w')\ntime.sleep(60)\n")
	c := other.command("run", "--isolation", "open", "--", "python3", "squat.py")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	for end := time.Now().Add(20 * time.Second); !other.there("up") && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	other.change("81", itoa(squat))
	other.ok("lock")
	other.ok("clear", "main", "--yes")
	if o := other.try("start", "--approve"); !strings.Contains(o.err, fmt.Sprintf("port %d is taken by python3 (pid ", squat)) {
		t.Errorf("%d %s", o.code, o.err)
	}
	other.ok("stop")
}
