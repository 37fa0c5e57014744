package network

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"time"
)

// Proxy is the way out of a network: an HTTP proxy with CONNECT (RFC 9110, section
// 9.3.6) whose connections are made outside.
func Proxy() http.Handler {
	var d net.Dialer
	plain := &httputil.ReverseProxy{
		Rewrite:       func(r *httputil.ProxyRequest) { r.Out.URL.Host = r.In.URL.Host },
		Transport:     &http.Transport{DialContext: d.DialContext, Proxy: http.ProxyFromEnvironment},
		FlushInterval: -1,
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodConnect {
			if !r.URL.IsAbs() {
				http.Error(w, "this is a proxy", http.StatusBadRequest)
				return
			}
			plain.ServeHTTP(w, r)
			return
		}
		ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
		defer cancel()
		out, err := d.DialContext(ctx, "tcp", r.Host)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		in, buffered, err := w.(http.Hijacker).Hijack()
		if err != nil {
			out.Close()
			return
		}
		_, _ = io.WriteString(in, "HTTP/1.1 200 OK\r\n\r\n")
		if n := buffered.Reader.Buffered(); n > 0 {
			early, _ := buffered.Peek(n)
			_, _ = out.Write(early)
		}
		Join(in, out)
	})
}
