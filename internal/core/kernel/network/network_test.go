package network_test

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

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

func TestTheProxyIsTheWayOut(t *testing.T) {
	n := private(t)
	for _, start := range []func(http.Handler) *httptest.Server{httptest.NewServer, httptest.NewTLSServer} {
		world := start(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "outside") }))
		defer world.Close()
		l, err := n.Listen(3128)
		if err != nil {
			t.Fatal(err)
		}
		proxy := &http.Server{Handler: network.Proxy()}
		go proxy.Serve(l)
		transport := world.Client().Transport.(*http.Transport).Clone()
		transport.Proxy = func(*http.Request) (*url.URL, error) { return url.Parse("http://127.0.0.1:3128") }
		transport.DialContext = func(ctx context.Context, _, address string) (net.Conn, error) { return n.Dial(ctx, 3128) }
		resp, err := (&http.Client{Transport: transport}).Get(world.URL)
		if err != nil {
			t.Fatal(err)
		}
		if b, _ := io.ReadAll(resp.Body); string(b) != "outside" {
			t.Errorf("%q", b)
		}
		resp.Body.Close()
		proxy.Close()
	}
}
