package listen_test

import (
	"errors"
	"net"
	"os"
	"testing"

	"trammel.example/trammel/internal/core/kernel/listen"
)

func TestTheTableHoldsWhatListensAndWhose(t *testing.T) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	sockets, err := listen.Sockets()
	if errors.Is(err, listen.ErrNone) {
		t.Skip(err)
	}
	if err != nil || !listen.On(sockets, port) {
		t.Fatalf("port %d is not among %v, %v", port, sockets, err)
	}
	held := listen.Held(listen.Below(os.Getpid()))
	for _, s := range sockets {
		if int(s.At.Port()) == port && (held[s.Inode] == "" || s.User != os.Getuid()) {
			t.Errorf("%+v is not mine", s)
		}
	}
	l.Close()
	if sockets, _ = listen.Sockets(); listen.On(sockets, port) {
		t.Error("a socket that is closed is still there")
	}
	if u := listen.UseOf([]int{os.Getpid()}); u.Memory < 1<<16 {
		t.Errorf("%+v", u)
	}
}

func TestEveryAddressThatTakesLoopbackConnectionsCounts(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "0.0.0.0:0", "[::]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			continue // no IPv6 here
		}
		sockets, err := listen.Sockets()
		if err == nil && !listen.On(sockets, l.Addr().(*net.TCPAddr).Port) {
			t.Errorf("%s: %v", address, sockets)
		}
		l.Close()
	}
}
