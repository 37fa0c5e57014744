package main

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/running/gateway"
)

// Services have names over HTTP/2: one that speaks it gets it, with streams both ways and trailers, over TLS and without;
// one that does not gets HTTP/1.1. Early hints come through.
func TestNamesOverHTTP2(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format  = 1\nproject = \"heronweir\"\nisolation = \"open\"\n\n[service.calls]\n"+serves(t, "calls", `, WEIR_PORT = "@{port.http}"`)+"ports = { http = 8620 }\n\n[service.lane]\n"+
		serves(t, "web", `, WEIR_PORT = "@{port.http}", WEIR_SICK = "@{bay.dir}/sick"`)+"ports = { http = 8600 }\n")
	h.ok("lock")
	h.ok("start", "--approve")
	plain := new(http.Protocols)
	plain.SetUnencryptedHTTP2(true)
	overTLS := new(http.Protocols)
	overTLS.SetHTTP2(true)
	port, secure := gateway.RouterPort(h.home+"/state"), gateway.SecurePort(h.home+"/state")
	dial := func(ctx context.Context, _, address string) (net.Conn, error) {
		_, number, _ := net.SplitHostPort(address)
		return (&net.Dialer{}).DialContext(ctx, "tcp4", "127.0.0.1:"+number)
	}
	for scheme, c := range map[string]struct {
		client *http.Client
		port   int
	}{
		"http":  {&http.Client{Transport: &http.Transport{Protocols: plain, DialContext: dial}}, port},
		"https": {&http.Client{Transport: &http.Transport{Protocols: overTLS, DialContext: dial, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}, secure},
	} {
		url := func(name, path string) string {
			return fmt.Sprintf("%s://%s.heronweir.localhost:%d%s", scheme, name, c.port, path)
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		read, write := io.Pipe()
		r, _ := http.NewRequestWithContext(ctx, "POST", url("calls", "/weir.Ladder/Count"), read)
		r.Header.Set("Content-Type", "application/grpc")
		r.Header.Set("TE", "trailers")
		go func() { io.WriteString(write, "silverfin") }()
		resp, err := c.client.Do(r)
		if err != nil {
			t.Fatalf("%s: %v", scheme, err)
		}
		if resp.ProtoMajor != 2 || resp.Header.Get("Spoken") != "HTTP/2.0" {
			t.Errorf("%s: %s, and the service was asked by %s", scheme, resp.Proto, resp.Header.Get("Spoken"))
		}
		// Each message comes back before the next one is sent.
		buffer := make([]byte, 100)
		for _, word := range []string{"silverfin", "redgill", "mill trout"} {
			if word != "silverfin" {
				io.WriteString(write, word)
			}
			want := "heard " + word
			n, err := io.ReadAtLeast(resp.Body, buffer[:len(want)], len(want))
			if err != nil || string(buffer[:n]) != want {
				t.Fatalf("%s: %q, %v", scheme, buffer[:n], err)
			}
		}
		write.Close()
		io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		if resp.Trailer.Get("Grpc-Status") != "7" {
			t.Errorf("%s: the trailer is lost: %v", scheme, resp.Trailer)
		}
		// One that speaks HTTP/1.1 alone, with a large answer, which no connection can be handed to.
		hints := ""
		traced := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: func(code int, header textproto.MIMEHeader) error {
			hints = fmt.Sprint(code, header.Get("Link"))
			return nil
		}})
		r, _ = http.NewRequestWithContext(traced, "GET", url("lane", "/early"), nil)
		resp, err = c.client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.ProtoMajor != 2 || string(text) != "spoken HTTP/1.1\n" || !strings.HasPrefix(hints, "103</board.css>") {
			t.Errorf("%s: %s %q, hints %q", scheme, resp.Proto, text, hints)
		}
		resp, err = c.client.Get(url("lane", "/large"))
		if err != nil {
			t.Fatal(err)
		}
		large, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || len(large) != len(largeDay()) {
			t.Errorf("%s: %d bytes, %v", scheme, len(large), err)
		}
	}
	// Over HTTP/1.1 too.
	hints := 0
	r, _ := http.NewRequestWithContext(httptrace.WithClientTrace(context.Background(), &httptrace.ClientTrace{Got1xxResponse: func(code int, _ textproto.MIMEHeader) error { hints = code; return nil }}), "GET", fmt.Sprintf("http://127.0.0.1:%d/early", port), nil)
	r.Host = fmt.Sprintf("lane.heronweir.localhost:%d", port)
	if resp, err := asIs.Do(r); err != nil || hints != 103 {
		t.Errorf("%v, hints %d", err, hints)
	} else {
		resp.Body.Close()
	}
	h.ok("stop")
}
