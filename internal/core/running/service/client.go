package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/host"
	"trammel.example/trammel/internal/core/checkout/approval"
	"trammel.example/trammel/internal/core/checkout/bay"
)

// Client talks to the supervisor of a bay.
type Client struct {
	bay  bay.Bay
	host host.Host
	http *http.Client
}

// Connect makes a client; nothing is started or asked. A supervisor that it has to start
// gets the host's environment.
func Connect(b bay.Bay, h host.Host) *Client {
	return &Client{b, h, &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			short, done, err := shortPath(b.Socket())
			if err != nil {
				return nil, err
			}
			defer done()
			var d net.Dialer
			return d.DialContext(ctx, "unix", short)
		},
		DisableKeepAlives: true,
	}}}
}

// errNobody means that the bay has no supervisor now.
var errNobody = errors.New("the bay has no supervisor")

func (c *Client) call(ctx context.Context, method, path string, question, answer any) error {
	var body io.Reader
	if question != nil {
		raw, err := json.Marshal(question)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://supervisor"+path, body)
	if err != nil {
		return err
	}
	resp, err := c.http.Do(r)
	switch {
	case err != nil && ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return errNobody
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF):
		return errNobody // it went, or was killed, while it was being asked
	case err != nil:
		return fmt.Errorf("the supervisor of bay %s: %w", c.bay.Name, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusServiceUnavailable {
		return errNobody
	}
	if resp.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
		return fmt.Errorf("the supervisor of bay %s: %s", c.bay.Name, strings.TrimSpace(string(text)))
	}
	return json.NewDecoder(resp.Body).Decode(answer)
}

// insist calls, starting a supervisor when there is none.
func (c *Client) insist(ctx context.Context, path string, question, answer any) error {
	deadline := time.Now().Add(15 * time.Second)
	for wait := time.Millisecond; ; wait = min(wait*2, 50*time.Millisecond) {
		err := c.call(ctx, http.MethodPost, path, question, answer)
		if !errors.Is(err, errNobody) {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the supervisor of bay %s does not come up; see %s", c.bay.Name, c.bay.SupervisorLog())
		}
		if wait == time.Millisecond || wait == 50*time.Millisecond {
			if err := c.spawn(); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
}

// spawn starts a supervisor in a session of its own, so that it outlives this
// process and its terminal.
func (c *Client) spawn() error {
	for _, folder := range []string{c.bay.Dir, c.bay.Records} {
		if err := disk.Private(folder); err != nil {
			return err
		}
	}
	if err := disk.Lockable(c.bay.SupervisorLock()); err != nil {
		return err
	}
	log, err := disk.AppendOwn(c.bay.SupervisorLog())
	if err != nil {
		return err
	}
	defer log.Close()
	told, err := json.Marshal(c.bay)
	if err != nil {
		return err
	}
	for _, attributes := range sessions() {
		cmd := &exec.Cmd{
			Path: c.host.Program, Args: []string{SupervisorName, string(told)},
			Dir: "/", Env: c.host.Environ, Stdout: log, Stderr: log, SysProcAttr: attributes,
		}
		if err = cmd.Start(); err == nil {
			go func() { _ = cmd.Wait() }()
			return nil
		}
	}
	return fmt.Errorf("starting the supervisor: %w", err)
}

// Status lists the services that the supervisor knows; none when there is no
// supervisor.
func (c *Client) Status(ctx context.Context) ([]Status, error) {
	var out []Status
	err := c.call(ctx, http.MethodGet, "/status", nil, &out)
	if errors.Is(err, errNobody) {
		return nil, nil
	}
	return out, err
}

// StatusInFull is Status with what services use, and the ports that they opened beyond
// those that are declared.
func (c *Client) StatusInFull(ctx context.Context) ([]Status, error) {
	var out []Status
	err := c.call(ctx, http.MethodGet, "/status?full=1", nil, &out)
	if errors.Is(err, errNobody) {
		return nil, nil
	}
	return out, err
}

// Claim holds ports for services: wanted numbers by port key.
func (c *Client) Claim(ctx context.Context, wanted bay.Ports) (Claimed, error) {
	var out Claimed
	err := c.insist(ctx, "/claim", wanted, &out)
	return out, err
}

// Start starts a service and waits until it is ready, done or failed. A person consented
// to what the spec says.
func (c *Client) Start(ctx context.Context, g approval.Given, s Spec) (Status, error) {
	var out Status
	if !g.Holds() {
		return out, fault.New(fault.NotApproved, "nobody has approved service %s", s.Name).Advise("Read it and decide: trammel approve")
	}
	err := c.insist(ctx, "/start", s, &out)
	return out, err
}

// Stop stops services by name and those that need them, or all. When nothing is
// left it returns only after the supervisor has gone too.
func (c *Client) Stop(ctx context.Context, names []string) ([]Status, error) {
	if names == nil {
		names = []string{}
	}
	var out []Status
	err := c.call(ctx, http.MethodPost, "/stop", names, &out)
	if errors.Is(err, errNobody) {
		return nil, nil
	}
	if err != nil {
		return out, err
	}
	for _, s := range out {
		if s.State != Stopped {
			return out, nil
		}
	}
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		lock, err := disk.LockFile(c.bay.SupervisorLock())
		if err == nil {
			lock.Close()
			break
		}
	}
	return out, nil
}
