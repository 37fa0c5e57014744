package cluster

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// KeeperName is the argv[0] under which this program stands here for a service that runs in a
// cluster; argv[1] is its order.
const KeeperName = "trammel-keeper"

// Order says for what a keeper stands.
type Order struct {
	Program  string         `json:"program"` // kubectl
	Args     []string       `json:"args"`    // those that every command of it begins with
	Selector string         `json:"selector"`
	Pod      string         `json:"pod"`   // that very pod; "": any that is ready
	Ports    map[string]int `json:"ports"` // name → number here
	Inside   map[string]int `json:"inside"`
	Since    time.Time      `json:"since"` // what pods printed before is not printed again
}

// Keep is the life of a keeper. It listens at the service's numbers on this machine, passes
// connections on into a pod, prints what the pod prints, and goes over to another pod when that
// one ends. A supervisor has it as it has a service's own program.
func Keep() {
	var o Order
	if len(os.Args) < 2 || json.Unmarshal([]byte(os.Args[1]), &o) != nil {
		fmt.Fprintln(os.Stderr, "trammel: it is started by trammel itself")
		os.Exit(126)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	k := &keeper{Order: o, inner: map[int]int{}}
	k.moved.L = &k.mu
	for name, port := range o.Ports {
		l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		go k.accept(ctx, l, o.Inside[name])
	}
	k.run(ctx)
}

type keeper struct {
	Order

	mu    sync.Mutex
	moved sync.Cond
	inner map[int]int // port of the pod → port here that leads to it now
}

// tell tells the supervisor (sd_notify(3)).
func (k *keeper) tell(text string) {
	socket := os.Getenv("NOTIFY_SOCKET")
	if socket == "" {
		return
	}
	if strings.HasPrefix(socket, "@") {
		socket = "\x00" + socket[1:]
	}
	if c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: socket, Net: "unixgram"}); err == nil {
		_, _ = c.Write([]byte(text))
		c.Close()
	}
}

func (k *keeper) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, k.Program, append(append([]string{}, k.Args[1:]...), args...)...)
	cmd.WaitDelay = 2 * time.Second
	return cmd
}

// run watches the pods, and has the one that is ready forwarded and its lines printed.
func (k *keeper) run(ctx context.Context) {
	var current string
	var stop context.CancelFunc = func() {}
	lost := time.AfterFunc(time.Hour, func() {})
	lost.Stop()
	since := k.Since
	for ctx.Err() == nil {
		cmd := k.command(ctx, "get", "pods", "--selector", k.Selector, "--watch", "--output-watch-events", "-o", "json")
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return
		}
		ready := map[string]bool{}
		events := json.NewDecoder(out)
		for {
			var e struct {
				Type   string `json:"type"`
				Object Item   `json:"object"`
			}
			if err := events.Decode(&e); err != nil {
				break
			}
			name := e.Object.Metadata.Name
			if name == "" || k.Pod != "" && name != k.Pod {
				continue
			}
			up := e.Type != "DELETED" && e.Object.Metadata.Deleted == "" && len(e.Object.Status.Containers) > 0
			state := e.Object.Status.Phase
			for _, c := range e.Object.Status.Containers {
				up = up && c.Ready
				if c.State.Waiting != nil {
					state = c.State.Waiting.Reason
				}
			}
			if up {
				ready[name] = true
			} else {
				delete(ready, name)
			}
			switch {
			case current != "" && !ready[current]:
				k.tell("STATUS=pod " + current + " is not ready: " + strings.ToLower(state))
				// What is away for longer than connections wait is not called ready: this process ends, and the
				// next one is ready when a pod is.
				gone := current
				lost = time.AfterFunc(patience, func() {
					fmt.Fprintf(os.Stderr, "pod %s is not there any more, and no other is ready\n", gone)
					os.Exit(1)
				})
				stop()
				current, stop = "", func() {}
				k.forget()
				fallthrough
			case current == "":
				for pod := range ready {
					lost.Stop()
					current = pod
					inner, cancel := context.WithCancel(ctx)
					stop = cancel
					from := since
					go k.forward(inner, pod)
					go k.print(inner, pod, from)
					since = time.Now()
					break
				}
			}
		}
		_ = cmd.Wait()
		select { // the connection of the watch broke: it is made anew
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
	stop()
}

func (k *keeper) forget() {
	k.mu.Lock()
	k.inner = map[int]int{}
	k.mu.Unlock()
}

// forward keeps a forwarding into a pod up.
func (k *keeper) forward(ctx context.Context, pod string) {
	if len(k.Inside) == 0 {
		k.ready(pod)
		<-ctx.Done()
		return
	}
	for ctx.Err() == nil {
		args := []string{"port-forward", "--address", "127.0.0.1", "pod/" + pod}
		for _, n := range k.Inside {
			args = append(args, ":"+strconv.Itoa(n))
		}
		cmd := k.command(ctx, args...)
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return
		}
		found := 0
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var here, there int
			if n, _ := fmt.Sscanf(lines.Text(), "Forwarding from 127.0.0.1:%d -> %d", &here, &there); n == 2 {
				k.mu.Lock()
				k.inner[there] = here
				k.moved.Broadcast()
				k.mu.Unlock()
				if found++; found == len(k.Inside) {
					k.ready(pod)
				}
			}
		}
		_ = cmd.Wait()
		if ctx.Err() == nil {
			k.forget()
		}
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

func (k *keeper) ready(pod string) {
	k.tell("READY=1\nSTATUS=pod " + pod)
}

// print prints what a pod prints, also after its container was started anew.
func (k *keeper) print(ctx context.Context, pod string, since time.Time) {
	for ctx.Err() == nil {
		cmd := k.command(ctx, "logs", "--follow", "pod/"+pod, "--since-time", since.UTC().Format(time.RFC3339))
		cmd.Stdout = os.Stdout
		since = time.Now()
		_ = cmd.Run()
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

// patience is how long a connection waits for a pod that is just being replaced.
const patience = 20 * time.Second

// accept passes connections on. One that comes while no pod is there waits for the next.
func (k *keeper) accept(ctx context.Context, l net.Listener, inside int) {
	go func() { <-ctx.Done(); l.Close() }()
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			inner, err := k.dial(ctx, inside)
			if err != nil {
				return
			}
			defer inner.Close()
			go func() {
				_, _ = io.Copy(inner, c)
				_ = inner.(*net.TCPConn).CloseWrite()
			}()
			_, _ = io.Copy(c, inner)
		}()
	}
}

func (k *keeper) dial(ctx context.Context, inside int) (net.Conn, error) {
	wake := time.AfterFunc(patience, func() { k.mu.Lock(); k.moved.Broadcast(); k.mu.Unlock() })
	defer wake.Stop()
	end := time.Now().Add(patience)
	for {
		k.mu.Lock()
		for k.inner[inside] == 0 && time.Now().Before(end) && ctx.Err() == nil {
			k.moved.Wait()
		}
		port := k.inner[inside]
		k.mu.Unlock()
		if port == 0 {
			return nil, os.ErrDeadlineExceeded
		}
		c, err := net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(port), 5*time.Second)
		if err == nil {
			return c, nil
		}
		k.mu.Lock()
		if k.inner[inside] == port {
			delete(k.inner, inside)
		}
		k.mu.Unlock()
	}
}
