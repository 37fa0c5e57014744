package gateway

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"sync"
	"time"
)

// HTTP/2 by name: a client may speak it over TLS, as ALPN says, or without TLS when it knows beforehand (RFC 9113, section
// 3.3). A service that speaks it without TLS, such as one of gRPC, gets those requests so, trailers and streams both ways
// included; any other gets them over HTTP/1.1.

// both are the protocols of a server of names.
func both() *http.Protocols {
	p := new(http.Protocols)
	p.SetHTTP1(true)
	p.SetHTTP2(true)
	p.SetUnencryptedHTTP2(true)
	return p
}

// straight2 carries requests to services that speak HTTP/2 without TLS.
var straight2 = func() *http.Transport {
	p := new(http.Protocols)
	p.SetUnencryptedHTTP2(true)
	return &http.Transport{Protocols: p, IdleConnTimeout: 30 * time.Second, DisableCompression: true}
}()

// spoken remembers what was found out of a socket that listens, by its inode: a server does not change what it speaks on it.
var spoken = struct {
	mu sync.Mutex
	by map[uint64]bool
}{by: map[uint64]bool{}}

// mostSpoken is how many sockets are remembered.
const mostSpoken = 1000

// speaks2 asks a service whether it speaks HTTP/2 without TLS.
func (w Way) speaks2(ctx context.Context) bool {
	spoken.mu.Lock()
	yes, known := spoken.by[w.Socket]
	spoken.mu.Unlock()
	if known && w.Socket != 0 {
		return yes
	}
	yes = asks2(ctx, w.host())
	spoken.mu.Lock()
	defer spoken.mu.Unlock()
	if len(spoken.by) >= mostSpoken {
		clear(spoken.by)
	}
	spoken.by[w.Socket] = yes
	return yes
}

// preface is what a client of HTTP/2 sends first, with an empty SETTINGS frame behind it (RFC 9113, sections 3.4 and 6.5).
const preface = "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + "\x00\x00\x00\x04\x00\x00\x00\x00\x00"

// asks2 tells whether a server answers the preface with a SETTINGS frame, which one of HTTP/2 must do first.
func asks2(ctx context.Context, host string) bool {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return false
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(time.Second))
	if _, err := io.WriteString(c, preface); err != nil {
		return false
	}
	var head [9]byte
	if _, err := io.ReadFull(c, head[:]); err != nil {
		return false
	}
	const settings = 4
	return head[3] == settings && binary.BigEndian.Uint32(head[5:])&^(1<<31) == 0
}
