package listen_test

import (
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"strings"
	"testing"

	"app.example/trammel/internal/core/kernel/listen"
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

func TestAListenerIsNamed(t *testing.T) {
	l, err := net.Listen("tcp4", "0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	sockets, err := listen.Sockets()
	if errors.Is(err, listen.ErrNone) {
		t.Skip(err)
	}
	at := listen.At(sockets, port)
	if len(at) != 1 || !at[0].Open() {
		t.Fatalf("%v", at)
	}
	h := listen.HolderOf(at[0])
	if h.Pid != os.Getpid() || h.User != os.Getuid() || h.Command == "" {
		t.Errorf("%+v", h)
	}
	for holder, want := range map[listen.Holder]string{
		{Pid: 12, Command: "perl", User: 4294967}:        "perl (pid 12) of user 4294967",
		{Pid: 12, Command: "a\nb\x1b[2J", User: 4294967}: "a\\nb\\x1b[2J (pid 12) of user 4294967",
		{User: 4294967}: "a program of user 4294967",
	} {
		if holder.String() != want {
			t.Errorf("%q", holder)
		}
	}
	if u, err := user.Current(); err == nil && !strings.HasSuffix(h.String(), " of user "+u.Username) {
		t.Errorf("%q", h)
	}
}

// What a listener started holds its socket too, and is not the one that is named.
func TestTheFirstOfSeveralHoldersIsNamed(t *testing.T) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	sockets, err := listen.Sockets()
	if errors.Is(err, listen.ErrNone) {
		t.Skip(err)
	}
	file, err := l.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	heir := exec.Command("sleep", "30")
	heir.ExtraFiles = []*os.File{file}
	if err := heir.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = heir.Process.Kill(); _ = heir.Wait() }()
	at := listen.At(sockets, l.Addr().(*net.TCPAddr).Port)
	if len(at) != 1 {
		t.Fatalf("%v", at)
	}
	if held := listen.Held([]int{heir.Process.Pid}); held[at[0].Inode] == "" {
		t.Fatalf("the heir holds %v", held)
	}
	if h := listen.HolderOf(at[0]); h.Pid != os.Getpid() {
		t.Errorf("%+v, and this is process %d", h, os.Getpid())
	}
	file.Close()
	l.Close()
	if h := listen.HolderOf(at[0]); h.Pid != heir.Process.Pid {
		t.Errorf("%+v, when the heir alone is left: process %d", h, heir.Process.Pid)
	}
}

// Only connections that end by themselves are lingering: not a listener, not what still talks,
// not what is bound, and not nothing.
func TestLingering(t *testing.T) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := listen.Sockets(); errors.Is(err, listen.ErrNone) {
		t.Skip(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	is := func(want bool, when string) {
		t.Helper()
		if all, err := listen.All(); err != nil || listen.Lingering(all, port) != want {
			t.Errorf("%s: lingering is %v, %v", when, !want, err)
		}
	}
	is(false, "listening")
	far, err := net.Dial("tcp4", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	near, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	is(false, "a connection that talks")
	near.Close() // the server's side closes first and lingers
	io.Copy(io.Discard, far)
	far.Close()
	is(true, "a connection that was closed")
	free, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port = free.Addr().(*net.TCPAddr).Port
	free.Close()
	is(false, "nothing at all")
}
