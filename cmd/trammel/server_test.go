package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The test program is also a server with the habits of real ones, for services of
// tests: run = ["SELF"], variables = { WEIR_SERVER = "HABIT" }.

// serverHabit is the variable that makes the test program a server.
const serverHabit = "WEIR_SERVER"

// server serves on the port in WEIR_PORT. It ends by itself after ten minutes.
func server(habit string) {
	time.AfterFunc(10*time.Minute, func() { os.Exit(9) })
	listen := func() net.Listener {
		l, err := net.Listen("tcp4", "127.0.0.1:"+os.Getenv("WEIR_PORT"))
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		return l
	}
	switch habit {
	case "measured": // runs a command and writes the most memory that it had, in KiB, where WEIR_MOST says
		c := exec.Command(os.Args[1], os.Args[2:]...)
		c.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "WEIR_") })
		c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
		_ = c.Run()
		_ = os.WriteFile(os.Getenv("WEIR_MOST"), []byte(itoa(int(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss))), 0o600)
		os.Exit(c.ProcessState.ExitCode())
	case "try":
		tryAll(os.Args[1:])
	case "ask":
		askFor(os.Args[1], os.Args[2], os.Args[3:])
	case "web": // HTTP, WebSocket, a stream; sick while the file in WEIR_SICK is there
		mux := http.NewServeMux()
		mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, "lane %s for %s, forwarded for %s\n", os.Getenv("WEIR_LANE"), r.Host, r.Header.Get("X-Forwarded-For"))
		})
		mux.HandleFunc("/told", func(w http.ResponseWriter, r *http.Request) { // all that it is told of who asks
			http.SetCookie(w, &http.Cookie{Name: "day", Value: "1", Domain: "lane.heronweir.localhost", Path: "/"})
			_ = r.Header.Write(w)
			fmt.Fprintf(w, "Host: %s\r\nPath: %s\r\n", r.Host, r.URL.RequestURI())
		})
		mux.HandleFunc("/home", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://"+r.Host+"/told?day=2", http.StatusFound)
		})
		mux.HandleFunc("/health", func(w http.ResponseWriter, r *http.Request) {
			if _, err := os.Stat(os.Getenv("WEIR_SICK")); err == nil {
				http.Error(w, "sick", http.StatusInternalServerError)
			}
		})
		mux.HandleFunc("/ws", socket)
		mux.HandleFunc("/early", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", "</board.css>; rel=preload; as=style")
			w.WriteHeader(http.StatusEarlyHints)
			fmt.Fprintln(w, "spoken", r.Proto)
		})
		mux.HandleFunc("/large", func(w http.ResponseWriter, r *http.Request) {
			http.ServeContent(w, r, "passings.bin", time.Time{}, bytes.NewReader(largeDay()))
		})
		mux.HandleFunc("/chunked", func(w http.ResponseWriter, r *http.Request) {
			day := largeDay()
			for len(day) > 0 {
				n := min(len(day), 300<<10)
				_, _ = w.Write(day[:n])
				w.(http.Flusher).Flush()
				day = day[n:]
			}
		})
		mux.HandleFunc("/cut", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", strconv.Itoa(len(largeDay())))
			_, _ = w.Write(largeDay()[:2<<20])
			panic(http.ErrAbortHandler)
		})
		mux.HandleFunc("/stream", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/event-stream")
			for i := range 3 {
				fmt.Fprintf(w, "data: passing %d\n\n", i)
				w.(http.Flusher).Flush()
				if i < 2 { // the last one only comes when the first was seen
					time.Sleep(50 * time.Millisecond)
				}
			}
			<-r.Context().Done()
		})
		http.Serve(listen(), mux)
	case "calls": // HTTP/2 without TLS, as servers of gRPC speak it, and HTTP/1.1: what comes is sent back as it comes, then a trailer
		both := new(http.Protocols)
		both.SetHTTP1(true)
		both.SetUnencryptedHTTP2(true)
		calls := &http.Server{Protocols: both, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Trailer", "Grpc-Status")
			w.Header().Set("Spoken", r.Proto)
			_ = http.NewResponseController(w).EnableFullDuplex()
			w.WriteHeader(http.StatusOK)
			w.(http.Flusher).Flush()
			buffer := make([]byte, 100)
			for {
				n, err := r.Body.Read(buffer)
				if n > 0 {
					fmt.Fprintf(w, "heard %s", buffer[:n])
					w.(http.Flusher).Flush()
				}
				if err != nil {
					break
				}
			}
			w.Header().Set("Grpc-Status", "7")
		})}
		calls.Serve(listen())
	case "slow": // says so in a file, listens a while later, and ends when it cannot
		_ = os.WriteFile(os.Getenv("WEIR_BEGUN"), nil, 0o600)
		after, _ := time.ParseDuration(os.Getenv("WEIR_AFTER"))
		time.Sleep(after)
		http.Serve(listen(), http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, os.Getenv("WEIR_NAME")) }))
	case "leaves": // gives its port back when it is told to, and goes on
		l := listen()
		asked := make(chan os.Signal, 1)
		signal.Notify(asked, syscall.SIGUSR1)
		fmt.Println("counting")
		<-asked
		l.Close()
		fmt.Println("left")
		select {}
	case "silent": // never listens
		fmt.Println("counting")
		select {}
	case "background": // starts itself anew and ends
		self, _ := os.Executable()
		c := exec.Command(self)
		c.Env = append(os.Environ(), serverHabit+"=web")
		if err := c.Start(); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	case "signals": // prints the signals that it gets
		asked := make(chan os.Signal, 8)
		signal.Notify(asked, syscall.SIGHUP, syscall.SIGUSR1, syscall.SIGUSR2)
		fmt.Println("counting")
		for s := range asked {
			fmt.Println("got", s)
		}
	case "everywhere": // listens on a second port, and for other machines too
		listen()
		if _, err := net.Listen("tcp4", "0.0.0.0:"+os.Getenv("WEIR_SECOND")); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		select {}
	case "reach": // says which ports of its own network it reaches
		for _, port := range strings.Fields(os.Getenv("WEIR_REACH")) {
			said := "refused"
			if c, err := net.Dial("tcp4", "127.0.0.1:"+port); err == nil {
				c.SetDeadline(time.Now().Add(10 * time.Second))
				io.WriteString(c, "GET /health HTTP/1.0\r\n\r\n")
				if b, _ := io.ReadAll(c); strings.HasPrefix(string(b), "HTTP/1.0 200") {
					said = "reached"
				}
				c.Close()
			}
			fmt.Println(port, said)
		}
		fmt.Println("tried")
		select {}
	case "notify":
		c, err := net.Dial("unixgram", os.Getenv("NOTIFY_SOCKET"))
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		io.WriteString(c, "STATUS=reading the ledger\n")
		time.Sleep(300 * time.Millisecond)
		fmt.Println("telling")
		io.WriteString(c, "READY=1\nSTATUS=counting\n")
		select {}
	case "more": // opens a port that nobody declared, when it may
		listen()
		for end := time.Now().Add(time.Minute); os.Getenv("WEIR_MAY") != "" && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			if _, err := os.Stat(os.Getenv("WEIR_MAY")); err == nil {
				break
			}
		}
		l, err := net.Listen("tcp4", "127.0.0.1:0")
		if err == nil {
			fmt.Println("also on", l.Addr())
		}
		select {}
	case "keep": // keeps what it is sent and says when it is on disk
		http.Serve(listen(), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			f, err := os.OpenFile(os.Getenv("WEIR_ROWS"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
			if err == nil {
				_, err = io.Copy(f, r.Body)
			}
			if err == nil {
				err = f.Sync()
			}
			if err != nil {
				http.Error(w, err.Error(), 500)
			}
			f.Close()
		}))
	case "flood":
		out := bufio.NewWriterSize(os.Stdout, 1<<16)
		var size int64
		fmt.Sscan(os.Getenv("WEIR_BYTES"), &size)
		for i := int64(0); i*50 < size; i++ {
			fmt.Fprintf(out, "%08d silverfin redgill mill trout weir eel passing\n", i)
		}
		out.Flush()
		fmt.Println("flooded")
		select {}
	}
	os.Exit(2)
}

// socket echoes the text frames of a WebSocket (RFC 6455): short ones, masked by the
// client as it must.
func socket(w http.ResponseWriter, r *http.Request) {
	sum := sha1.Sum([]byte(r.Header.Get("Sec-WebSocket-Key") + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"))
	c, buffered, err := w.(http.Hijacker).Hijack()
	if err != nil {
		return
	}
	defer c.Close()
	fmt.Fprintf(c, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: %s\r\n\r\n", base64.StdEncoding.EncodeToString(sum[:]))
	for {
		head := make([]byte, 6)
		if _, err := io.ReadFull(buffered, head); err != nil {
			return
		}
		text := make([]byte, head[1]&0x7f)
		if _, err := io.ReadFull(buffered, text); err != nil {
			return
		}
		for i := range text {
			text[i] ^= head[2+i%4]
		}
		c.Write(append([]byte{head[0], byte(len(text))}, text...))
	}
}

// serves is the part of a declaration that makes the test program a service.
func serves(t *testing.T, habit, more string) string {
	t.Helper()
	self := serverFile(t)
	return fmt.Sprintf("run = [%q]\nvariables = { %s = %q, WEIR_LANE = \"@{copy}\"%s }\n", self, serverHabit, habit, more)
}

// largeDay are many bytes, the same each time.
func largeDay() []byte {
	out := make([]byte, 9<<20+13)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(out)
	return out
}

// serverFile is the test program where every user may run it.
func serverFile(t *testing.T) string {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	if os.Getuid() != 0 {
		return self
	}
	dir := t.TempDir()
	for d := dir; len(d) > len(os.TempDir()); d = filepath.Dir(d) {
		os.Chmod(d, 0o755)
	}
	to := filepath.Join(dir, filepath.Base(self))
	if err := os.Link(self, to); err != nil {
		t.Fatal(err)
	}
	return to
}

// askFor asks for an address and prints the answer: its status in a number and what it holds. Lines are
// headers, but for Body, which is sent, Unix, a socket to ask at, and Proxy.
func askFor(method, address string, lines []string) {
	time.AfterFunc(30*time.Second, func() { os.Exit(8) })
	transport := &http.Transport{}
	r, err := http.NewRequest(method, address, nil)
	for _, line := range lines {
		name, value, _ := strings.Cut(line, ": ")
		switch name {
		case "Host":
			r.Host = value
		case "Body":
			r.Body = io.NopCloser(strings.NewReader(value))
		case "Unix":
			transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
				return new(net.Dialer).DialContext(ctx, "unix", value)
			}
		case "Proxy":
			transport.Proxy = func(*http.Request) (*url.URL, error) { return url.Parse(value) }
		default:
			r.Header.Set(name, value)
		}
	}
	if err == nil {
		var resp *http.Response
		if resp, err = (&http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(r); err == nil {
			defer resp.Body.Close()
			ended := time.AfterFunc(3*time.Second, func() { resp.Body.Close() }) // a stream has no end
			defer ended.Stop()
			fmt.Printf("%d ", resp.StatusCode)
			_, _ = io.Copy(os.Stdout, resp.Body)
			for _, c := range resp.Cookies() {
				fmt.Printf("cookie %s=%s", c.Name, c.Value)
			}
			os.Exit(0)
		}
	}
	fmt.Println("0", err)
	os.Exit(0)
}
