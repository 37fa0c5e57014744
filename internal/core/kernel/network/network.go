// Package network gives the services of a bay a network of their own, in which each
// keeps its standard port whatever the machine's other programs do.
//
// A network is a Linux network namespace with a loopback and nothing else. One thread
// of this process lives in it for good; sockets that it makes belong to the network
// and can be used from every thread, so that forwarding into it and out of it costs
// no further process (network_namespaces(7)). It is gone with the last process and
// socket in it.
package network

import (
	"context"
	"errors"
	"io"
	"net"
	"strconv"
	"sync"
	"syscall"
	"time"
)

// ErrNone means that this system gives no private networks to this user.
var ErrNone = errors.New("this machine gives no private networks")

// Network is a private network.
type Network struct {
	work chan func()
}

// New makes a network.
func New() (*Network, error) {
	n := &Network{work: make(chan func())}
	ready := make(chan error)
	go n.live(ready)
	if err := <-ready; err != nil {
		return nil, err
	}
	return n, nil
}

// Do runs f on the thread that is in the network: what f forks is in it too.
func (n *Network) Do(f func()) {
	done := make(chan struct{})
	n.work <- func() { defer close(done); f() }
	<-done
}

// Close lets the thread go; nothing may be done in the network afterwards.
func (n *Network) Close() { close(n.work) }

// Dial connects to a port of the network's 127.0.0.1, or where nobody listens there of its ::1.
func (n *Network) Dial(ctx context.Context, port int) (net.Conn, error) {
	var d net.Dialer
	var c net.Conn
	var err error
	// A connection to a loopback is made or refused at once.
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	n.Do(func() {
		if c, err = d.DialContext(ctx, "tcp4", "127.0.0.1:"+strconv.Itoa(port)); errors.Is(err, syscall.ECONNREFUSED) {
			if six, sixErr := d.DialContext(ctx, "tcp6", "[::1]:"+strconv.Itoa(port)); sixErr == nil {
				c, err = six, nil
			}
		}
	})
	return c, err
}

// Listen listens on a port of the network's 127.0.0.1.
func (n *Network) Listen(port int) (net.Listener, error) {
	var l net.Listener
	var err error
	n.Do(func() { l, err = net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(port)) })
	return l, err
}

// ListenUDP takes datagrams at a port of the network's 127.0.0.1.
func (n *Network) ListenUDP(port int) (l net.PacketConn, err error) {
	n.Do(func() { l, err = net.ListenPacket("udp4", "127.0.0.1:"+strconv.Itoa(port)) })
	return l, err
}

// DialUDP makes a socket that sends datagrams to a port of the network's 127.0.0.1.
func (n *Network) DialUDP(port int) (c net.Conn, err error) {
	n.Do(func() { c, err = net.Dial("udp4", "127.0.0.1:"+strconv.Itoa(port)) })
	return c, err
}

// How long a sender of datagrams is remembered after its last one, how many are at once, and how large a datagram is.
const (
	senderTime   = 60 * time.Second
	mostSenders  = 512
	mostDatagram = 64 << 10
)

// ForwardPackets takes the datagrams that come to l and sends each sender's on by a socket of its own that dial makes, and
// the answers back, until l is closed. A datagram that finds no room is lost, as datagrams are.
func ForwardPackets(l net.PacketConn, dial func() (net.Conn, error)) {
	var mu sync.Mutex
	senders := map[string]net.Conn{}
	defer func() {
		mu.Lock()
		defer mu.Unlock()
		for _, c := range senders {
			c.Close()
		}
	}()
	buffer := make([]byte, mostDatagram)
	for {
		n, from, err := l.ReadFrom(buffer)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // that nobody was there for an earlier one, say
			continue
		}
		key := from.String()
		mu.Lock()
		c := senders[key]
		if c == nil && len(senders) < mostSenders {
			if c, err = dial(); err == nil {
				senders[key] = c
				go func() {
					answers(l, from, c)
					mu.Lock()
					delete(senders, key)
					mu.Unlock()
				}()
			}
		}
		mu.Unlock()
		if c != nil {
			_ = c.SetReadDeadline(time.Now().Add(senderTime))
			_, _ = c.Write(buffer[:n])
		}
	}
}

// answers brings what comes to a sender's socket back to it, until nothing came or went for a while.
func answers(l net.PacketConn, to net.Addr, c net.Conn) {
	defer c.Close()
	buffer := make([]byte, mostDatagram)
	for {
		n, err := c.Read(buffer)
		if errors.Is(err, syscall.ECONNREFUSED) { // nobody is there yet
			continue
		}
		if err != nil {
			return
		}
		_ = c.SetReadDeadline(time.Now().Add(senderTime))
		if _, err := l.WriteTo(buffer[:n], to); errors.Is(err, net.ErrClosed) {
			return
		}
	}
}

// Forward takes connections of a listener and hands each to a connection that dial
// makes, both ways, until the listener is closed. The kernel moves the bytes
// (splice(2)) where both are TCP.
func Forward(l net.Listener, dial func(context.Context) (net.Conn, error)) {
	for {
		from, err := l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(10 * time.Millisecond) // out of descriptors, say
			continue
		}
		go func() {
			to, err := dial(context.Background())
			if err != nil {
				if c, ok := from.(*net.TCPConn); ok {
					_ = c.SetLinger(0) // refused, as it would be without a forwarder
				}
				from.Close()
				return
			}
			Join(from, to)
		}()
	}
}

// Join copies between two connections until both sides have ended, and closes them.
func Join(a, b net.Conn) {
	var wait sync.WaitGroup
	move := func(to, from net.Conn) {
		_, _ = io.Copy(to, from)
		if c, ok := to.(interface{ CloseWrite() error }); ok {
			_ = c.CloseWrite()
		} else {
			to.Close()
		}
	}
	wait.Go(func() { move(a, b) })
	wait.Go(func() { move(b, a) })
	wait.Wait()
	a.Close()
	b.Close()
}
