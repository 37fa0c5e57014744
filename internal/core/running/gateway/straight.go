package gateway

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/kernel/network"
)

// straight carries requests to services. A large answer and an upgraded connection (RFC 9110,
// section 7.8) are handed to the client's own connection, between which and the service's the
// kernel moves the bytes (splice(2)); everything else goes as net/http has it.
type straight struct {
	beside http.RoundTripper // for requests that have a body
	idle   idlers
}

// errHanded is an answer that has gone to the client's connection already.
var errHanded = errors.New("the answer was handed on")

// largeAnswer is from how many bytes on an answer is handed on: below, the client keeps its
// connection, which is worth more.
const largeAnswer = 1 << 20

type clientKey struct{}

// withClient has the answers of a request be handed to where the client is.
func withClient(r *http.Request, w http.ResponseWriter) *http.Request {
	if r.ProtoMajor != 1 { // its connection is for other requests too
		return r
	}
	return r.WithContext(context.WithValue(r.Context(), clientKey{}, w))
}

// RoundTrip sends a request and reads the head of its answer.
func (s *straight) RoundTrip(r *http.Request) (*http.Response, error) {
	client, _ := r.Context().Value(clientKey{}).(http.ResponseWriter)
	if client == nil || r.Body != nil && r.Body != http.NoBody || r.Method != http.MethodGet && r.Method != http.MethodHead {
		return s.beside.RoundTrip(r)
	}
	for {
		up, again, err := s.idle.get(r.Context(), r.URL.Host)
		if err != nil {
			return nil, err
		}
		stop := context.AfterFunc(r.Context(), func() { up.Close() })
		resp, err := up.ask(r)
		if err != nil {
			stop()
			up.Close()
			if again && r.Context().Err() == nil { // it had been closed while nobody used it
				continue
			}
			return nil, err
		}
		upgraded := resp.StatusCode == http.StatusSwitchingProtocols
		if upgraded && (r.Header.Get("Upgrade") == "" || !strings.EqualFold(r.Header.Get("Upgrade"), resp.Header.Get("Upgrade"))) {
			stop()
			up.Close()
			return nil, errors.New("it changed to a protocol that nobody asked for")
		}
		if (upgraded || resp.ContentLength >= largeAnswer && r.Method == http.MethodGet) && stop() {
			return nil, s.hand(client, up, resp, upgraded)
		}
		resp.Body = &body{ReadCloser: resp.Body, done: func(whole bool) {
			if stop() && whole && !resp.Close {
				s.idle.put(up)
			} else {
				up.Close()
			}
		}}
		return resp, nil
	}
}

// hand writes an answer to the client's own connection. It always ends with an error: errHanded,
// or what went wrong before anything was written.
func (s *straight) hand(client http.ResponseWriter, up *upstream, resp *http.Response, upgraded bool) error {
	hijacker, ok := client.(http.Hijacker)
	if !ok {
		up.Close()
		return errors.New("the client's connection cannot be had")
	}
	down, sent, err := hijacker.Hijack()
	if err != nil {
		up.Close()
		return err
	}
	defer down.Close()
	_ = down.SetDeadline(time.Time{})
	if !upgraded {
		for _, name := range hopByHop(resp.Header) {
			resp.Header.Del(name)
		}
		resp.Header.Set("Connection", "close")
	}
	head := bufio.NewWriter(down)
	_, _ = head.WriteString("HTTP/1.1 " + resp.Status + "\r\n")
	_ = resp.Header.Write(head)
	if !upgraded && resp.ContentLength >= 0 && resp.Header.Get("Content-Length") == "" {
		_, _ = head.WriteString("Content-Length: " + strconv.FormatInt(resp.ContentLength, 10) + "\r\n")
	}
	_, _ = head.WriteString("\r\n")
	left := resp.ContentLength
	early := up.read.Buffered() // what came with the head
	if !upgraded {
		early = int(min(int64(early), left))
	}
	if early > 0 {
		_, _ = io.CopyN(head, up.read, int64(early))
		left -= int64(early)
	}
	if err := head.Flush(); err != nil {
		up.Close()
		return errHanded
	}
	if upgraded {
		if n := sent.Reader.Buffered(); n > 0 {
			_, _ = io.CopyN(up.Conn, sent.Reader, int64(n))
		}
		network.Join(down, up.Conn)
		return errHanded
	}
	defer up.Close()
	_, _ = io.Copy(down, &io.LimitedReader{R: up.Conn, N: left})
	return errHanded
}

// hopByHop are the fields that are for this connection alone (RFC 9110, section 7.6.1).
func hopByHop(h http.Header) []string {
	out := []string{"Connection", "Keep-Alive", "Proxy-Connection", "Te", "Trailer", "Transfer-Encoding", "Upgrade"}
	for _, line := range h["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			out = append(out, strings.TrimSpace(name))
		}
	}
	return out
}

// upstream is a connection to a service.
type upstream struct {
	net.Conn
	host string
	read *bufio.Reader
	idle time.Time // since when
}

// ask sends a request and reads the head of the answer; provisional ones are left out.
func (u *upstream) ask(r *http.Request) (*http.Response, error) {
	if err := r.Write(u.Conn); err != nil {
		return nil, err
	}
	for {
		resp, err := http.ReadResponse(u.read, r)
		if err != nil || resp.StatusCode >= 200 || resp.StatusCode == http.StatusSwitchingProtocols {
			return resp, err
		}
		if trace := httptrace.ContextClientTrace(r.Context()); trace != nil && trace.Got1xxResponse != nil { // such as 103 Early Hints (RFC 8297)
			if err := trace.Got1xxResponse(resp.StatusCode, textproto.MIMEHeader(resp.Header)); err != nil {
				return nil, err
			}
		}
	}
}

// body tells when an answer has been read.
type body struct {
	io.ReadCloser
	once  sync.Once
	ended bool
	done  func(whole bool)
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF {
		b.ended = true
	}
	return n, err
}

func (b *body) Close() error {
	err := b.ReadCloser.Close()
	b.once.Do(func() { b.done(b.ended) })
	return err
}

const (
	mostIdle = 16               // connections that are kept to a service
	idleFor  = 20 * time.Second // services may end theirs sooner
)

// idlers keeps connections that nobody uses.
type idlers struct {
	mu  sync.Mutex
	all []*upstream
}

// get takes a connection, or makes one. again tells that it had been used before.
func (i *idlers) get(ctx context.Context, host string) (u *upstream, again bool, err error) {
	i.mu.Lock()
	for k := len(i.all) - 1; k >= 0; k-- {
		u := i.all[k]
		if old := time.Since(u.idle) > idleFor; old || u.host == host {
			i.all = slices.Delete(i.all, k, k+1)
			if !old {
				i.mu.Unlock()
				return u, true, nil
			}
			u.Close()
		}
	}
	i.mu.Unlock()
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, false, err
	}
	return &upstream{Conn: c, host: host, read: bufio.NewReaderSize(c, 32<<10)}, false, nil
}

func (i *idlers) put(u *upstream) {
	i.mu.Lock()
	defer i.mu.Unlock()
	same := 0
	for _, x := range i.all {
		if x.host == u.host {
			same++
		}
	}
	if same >= mostIdle || u.read.Buffered() > 0 {
		u.Close()
		return
	}
	u.idle = time.Now()
	i.all = append(i.all, u)
}
