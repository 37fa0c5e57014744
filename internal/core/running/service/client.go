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
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/peer"
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
		DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return Dial(ctx, b.Socket()) },
		DisableKeepAlives: true,
	}}}
}

// Dial connects to the control socket of a bay's supervisor.
func Dial(ctx context.Context, socket string) (net.Conn, error) {
	short, done, err := shortPath(socket)
	if err != nil {
		return nil, err
	}
	defer done()
	var d net.Dialer
	return d.DialContext(ctx, "unix", short)
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
	r.Header.Set(askedAt, strconv.FormatInt(time.Now().UnixNano(), 10))
	listening, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go c.pulse(listening, stop)
	resp, err := c.http.Do(r.WithContext(listening))
	switch {
	case err != nil && ctx.Err() != nil:
		return context.Cause(ctx)
	case err != nil && errors.Is(context.Cause(listening), errDeaf):
		return c.deaf()
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
	const again = 200 * time.Millisecond // until another one is started, should the first have gone
	began := time.Now()
	deadline, spawn := began.Add(15*time.Second), began
	for {
		err := c.call(ctx, http.MethodPost, path, question, answer)
		if !errors.Is(err, errNobody) {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the supervisor of bay %s does not come up; see %s", c.bay.Name, c.bay.SupervisorLog())
		}
		if !time.Now().Before(spawn) {
			if err := c.spawn(); err != nil {
				return err
			}
			spawn = time.Now().Add(again)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(min(max(time.Millisecond, time.Since(began)/20), 50*time.Millisecond)):
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
		if err = c.helped(cmd); err == nil {
			go func() { _ = cmd.Wait() }()
			return nil
		}
	}
	return fmt.Errorf("starting the supervisor: %w", err)
}

// helped starts a supervisor, and the helper that it needs where it is not in this process's
// namespace of users (package peer).
func (c *Client) helped(cmd *exec.Cmd) error {
	if !apart(cmd.SysProcAttr) {
		return cmd.Start()
	}
	asks, answers, err := pair()
	if err != nil {
		return err
	}
	defer asks.Close()
	defer answers.Close()
	helper := &exec.Cmd{
		Path: c.host.Program, Args: []string{peer.HelperName, c.bay.Door()}, Dir: "/", Env: []string{},
		ExtraFiles: []*os.File{answers}, SysProcAttr: &syscall.SysProcAttr{Setsid: true},
	}
	cmd.Args, cmd.ExtraFiles = append(cmd.Args, Helped), []*os.File{asks}
	if err := cmd.Start(); err != nil {
		return err
	}
	if err := helper.Start(); err != nil { // then the supervisor knows nobody, and says so
		return fmt.Errorf("its helper: %w", err)
	}
	go func() { _ = helper.Wait() }()
	return nil
}

// Helped is the argument behind a supervisor's bay that says that it has a helper.
const Helped = "helped"

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

// Running are the names of the copies of services that run.
func (c *Client) Running(ctx context.Context) (names []string, err error) {
	var out []struct{ Name, State string }
	err = c.call(ctx, http.MethodGet, "/status?brief=1", nil, &out)
	if errors.Is(err, errNobody) {
		return nil, nil
	}
	for _, st := range out {
		if (Status{State: st.State}).Running() {
			names = append(names, st.Name)
		}
	}
	return names, err
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

// Claim holds ports for services. It waits until nothing of a supervisor that was killed is
// alive any more, and says so.
func (c *Client) Claim(ctx context.Context, o Order) (Claimed, error) {
	var out Claimed
	err := c.insist(ctx, "/claim", o, &out)
	if err == nil && len(out.Earlier) > 0 {
		event.Say(ctx, "what an earlier supervisor of this bay ran is still ending: "+strings.Join(out.Earlier, ", ")+"; waiting for it")
		o.Patient = true
		err = c.insist(ctx, "/claim", o, &out)
	}
	return out, err
}

// Drop ends copies of services, and nothing that needs them.
func (c *Client) Drop(ctx context.Context, o Surplus) error {
	var out []Status
	err := c.call(ctx, http.MethodPost, "/drop", o, &out)
	if errors.Is(err, errNobody) {
		return nil
	}
	return err
}

// Signal sends a signal, by its name without SIG, to the programs of services.
func (c *Client) Signal(ctx context.Context, o Signal) ([]Signalled, error) {
	var out []Signalled
	err := c.call(ctx, http.MethodPost, "/signal", o, &out)
	if errors.Is(err, errNobody) {
		return nil, nil
	}
	return out, err
}

// How long a supervisor may be silent before it is asked whether it is there at all, and how
// long it may take to say so. What it was asked for may take any time; this takes none.
const (
	silence = 2 * time.Second
	pulse   = 3 * time.Second
)

// askedAt is the header that says when something was asked for. A supervisor that was
// suspended must not do, once it wakes, what a person was told did not happen.
const (
	askedAt = "Asked-At" // nanoseconds since 1970
	tooLate = silence + pulse - time.Second
)

// errDeaf is the cause of a call's end when the supervisor does not answer anything.
var errDeaf = errors.New("the supervisor does not answer")

// pulse asks a supervisor that is silent whether it is there, and ends the call when it is
// not.
func (c *Client) pulse(ctx context.Context, end context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(silence):
		}
		asking, done := context.WithTimeout(ctx, pulse)
		r, err := http.NewRequestWithContext(asking, http.MethodGet, "http://supervisor/pulse", nil)
		if err == nil {
			var resp *http.Response
			if resp, err = c.http.Do(r); err == nil {
				resp.Body.Close()
			}
		}
		deaf := err != nil && errors.Is(asking.Err(), context.DeadlineExceeded)
		done()
		if deaf && ctx.Err() == nil {
			end(errDeaf)
			return
		}
	}
}

// deaf says how to end a supervisor that does not answer.
func (c *Client) deaf() error {
	raw, _ := disk.Read(c.bay.SupervisorLock(), 64)
	pid, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	if err != nil {
		return fault.New(fault.ErrNotReady, "the supervisor of bay %s does not answer", c.bay.Name).
			Advise("Its log: %s", c.bay.SupervisorLog())
	}
	return fault.New(fault.ErrNotReady, "the supervisor of bay %s (pid %d) does not answer", c.bay.Name, pid).
		Advise("Where it was suspended, wake it: kill -CONT %d\nOtherwise end it, and its services with it: kill -KILL %d\nThen: trammel start. Its log: %s", pid, pid, c.bay.SupervisorLog())
}

// Start starts a service and waits until it is ready, done or failed. A person consented
// to what the spec says.
func (c *Client) Start(ctx context.Context, g approval.Given, s Spec) (Status, error) {
	var out Status
	if !g.Holds() {
		return out, fault.New(fault.ErrNotApproved, "nobody has approved service %s", s.Name).Advise("Read it and decide: trammel approve")
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
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if lock, err := disk.WaitLock(ctx, c.bay.SupervisorLock()); err == nil {
		lock.Close()
	}
	return out, nil
}
