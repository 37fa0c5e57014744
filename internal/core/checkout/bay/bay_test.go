package bay

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/written/declare"
)

func testBay(t *testing.T, name string) Bay {
	t.Helper()
	state := t.TempDir()
	b, err := Open(place.Places{State: state}, &declare.Declaration{Project: "heronweir", Dir: "/weir"}, name)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// freePort is a number that nothing uses at this moment.
func freePort(t *testing.T) int {
	t.Helper()
	for range 1000 {
		n := 20000 + rand.IntN(12000)
		if free(n) {
			return n
		}
	}
	t.Fatal("no port is free")
	return 0
}

func listenOn(n int, share bool) (net.Listener, error) {
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		value := 0
		if share {
			value = 1
		}
		return c.Control(func(fd uintptr) { syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, value) })
	}}
	return config.Listen(context.Background(), "tcp4", "127.0.0.1:"+strconv.Itoa(n))
}

func TestAClaimedPortIsForTheServiceAlone(t *testing.T) {
	n := freePort(t)
	claim, err := Take(n)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Take(n); !errors.Is(err, ErrTaken) {
		t.Errorf("claimed twice: %v", err)
	}
	if l, err := listenOn(n, false); err == nil {
		l.Close()
		t.Error("a stranger that does not share addresses got the port")
	}
	for range 3 { // the service, and its restarts
		l, err := listenOn(n, true)
		if err != nil {
			t.Fatalf("the service cannot listen on its own port: %v", err)
		}
		c, err := net.Dial("tcp4", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		c.Close()
		l.Close()
	}
	claim.Release()
	again, err := Take(n) // past connections that linger
	if err != nil {
		t.Fatalf("a released port: %v", err)
	}
	again.Release()
}

func TestAPortThatSomebodyListensOnIsTaken(t *testing.T) {
	n := freePort(t)
	for _, share := range []bool{false, true} {
		l, err := listenOn(n, share)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := Take(n); !errors.Is(err, ErrTaken) {
			t.Errorf("a listener that shares (%v): %v, %v", share, c, err)
		}
		l.Close()
	}
}

// What another user's claim was once: a socket that is bound, shares its address and does not
// listen. Sharing with it would give both the number.
func TestAPortThatSomebodyIsAboutToListenOnIsTaken(t *testing.T) {
	for _, share := range []bool{false, true} {
		n := freePort(t)
		socket, err := bind(n, share)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := Take(n); !errors.Is(err, ErrTaken) {
			t.Errorf("a socket that shares (%v): %v, %v", share, c, err)
		}
		unix.Close(socket)
		c, err := Take(n)
		if err != nil {
			t.Fatalf("afterwards: %v", err)
		}
		c.Release()
	}
}

// Of many that want one number at once one gets it.
func TestOneOfManyGetsANumber(t *testing.T) {
	n := freePort(t)
	var got atomic.Int32
	var all sync.WaitGroup
	claims := make([]*Claim, 50)
	for i := range claims {
		all.Go(func() {
			c, err := Take(n)
			if err == nil {
				claims[i] = c
				got.Add(1)
			} else if !errors.Is(err, ErrTaken) {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if got.Load() != 1 {
		t.Errorf("%d have it", got.Load())
	}
	for _, c := range claims {
		if c != nil {
			c.Release()
		}
	}
}

func TestPortsStayAndDoNotClash(t *testing.T) {
	n := freePort(t)
	d := &declare.Declaration{Project: "heronweir", Dir: "/weir", Services: []declare.Service{
		{Name: "lane", Copies: 3, Ports: []declare.Port{{Name: "http", Wanted: n}}},
		{Name: "board", Copies: 1, Ports: []declare.Port{{Name: "http", Wanted: n + 1}}}, // wanted by lane.2 as well
	}}
	b := testBay(t, Main)
	ports, err := b.AssignPorts(context.Background(), d)
	if err != nil {
		t.Fatal(err)
	}
	if ports[PortKey("lane", 1, "http")] != n {
		t.Errorf("a free wanted port was not given: %v", ports)
	}
	seen := map[int]bool{}
	for key, p := range ports {
		if seen[p] || p == 0 {
			t.Errorf("%s has %d: %v", key, p, ports)
		}
		seen[p] = true
	}
	again, err := b.AssignPorts(context.Background(), d)
	if err != nil || len(again) != len(ports) {
		t.Fatalf("%v, %v", again, err)
	}
	for key := range ports {
		if again[key] != ports[key] {
			t.Errorf("%s moved", key)
		}
	}
	// What is derived depends on the bay, so two bays seldom meet.
	other := testBay(t, "spring")
	if b.Choose(Ports{}, "lane.1/http", 0) == other.Choose(Ports{}, "lane.1/http", 0) {
		t.Error("two bays derive the same port")
	}
}

func TestBayNames(t *testing.T) {
	d := &declare.Declaration{Project: "heronweir", Dir: "/weir"}
	for name, good := range map[string]bool{"main": true, "spring-run-2": true, "": false, "../x": false, "Main": false, "2nd": false, "a/b": false} {
		if _, err := Open(place.Places{State: t.TempDir()}, d, name); (err == nil) != good {
			t.Errorf("%q: %v", name, err)
		}
	}
}

func TestPortsHaveNamesForPeople(t *testing.T) {
	for key, want := range map[string]string{PortKey("lane", 1, "http"): "port http of lane", PortKey("ledger-desk", 3, "admin"): "port admin of ledger-desk, copy 3", "odd": "odd"} {
		if got := PortName(key); got != want {
			t.Errorf("%s is called %q", key, got)
		}
	}
}
