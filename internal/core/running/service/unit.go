package service

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/mask"
	"trammel.example/trammel/internal/core/checkout/bay"
	"trammel.example/trammel/internal/core/kernel/listen"
	"trammel.example/trammel/internal/core/kernel/proctree"
	"trammel.example/trammel/internal/core/written/declare"
)

// How a service that keeps ending is treated: pauses grow from first to longest
// and go back after steady time of being ready; more than limit starts within
// window end in failed.
const (
	firstPause   = 100 * time.Millisecond
	longestPause = 10 * time.Second
	steady       = 10 * time.Second
	startLimit   = 6
	startWindow  = 60 * time.Second
)

// unit is one copy of a service under supervision.
type unit struct {
	spec Spec
	log  *logWriter
	g    *ground
	bay  bay.Bay

	mu      sync.Mutex
	status  Status
	changed chan struct{} // closed and replaced at each change of state
	stop    context.CancelFunc
	gone    chan struct{} // closed when nothing of it runs any more
}

func newUnit(spec Spec, log *logWriter, g *ground, b bay.Bay) *unit {
	return &unit{
		spec: spec, log: log, g: g, bay: b, changed: make(chan struct{}), gone: make(chan struct{}),
		status: Status{Name: spec.Name, Service: spec.Service, State: Starting, Since: time.Now(), Ports: spec.Reached(), Config: spec.Config, Build: spec.Build},
	}
}

// Status is a copy of what is known now.
func (u *unit) Status() Status {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.status
}

// set changes the state and wakes all who wait for one.
func (u *unit) set(change func(*Status)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	before := u.status.State
	change(&u.status)
	if u.status.State != before {
		u.status.Since = time.Now()
		u.log.line("sup", []byte(strings.TrimSpace(u.status.State+" "+u.status.Reason)))
	}
	close(u.changed)
	u.changed = make(chan struct{})
}

// settled waits until the service is neither starting nor about to be.
func (u *unit) settled(ctx context.Context) Status {
	for {
		u.mu.Lock()
		status, changed := u.status, u.changed
		u.mu.Unlock()
		if status.State != Starting {
			return status
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return status
		}
	}
}

// run supervises until the service is stopped, done or failed.
func (u *unit) run(ctx context.Context) {
	defer close(u.gone)
	defer u.log.close()
	endForward, err := u.g.forward(u.spec)
	if err != nil {
		u.set(func(s *Status) { s.State, s.Reason = Failed, "its ports cannot be forwarded: "+err.Error() })
		return
	}
	defer endForward()
	var starts []time.Time
	wait := firstPause
	for {
		now := time.Now()
		starts = append(starts, now)
		for len(starts) > 0 && now.Sub(starts[0]) > startWindow {
			starts = starts[1:]
		}
		exit, wasReady, problem, ended := u.once(ctx)
		if ctx.Err() != nil {
			u.set(func(s *Status) { s.State, s.Reason, s.Pid = Stopped, "", 0 })
			return
		}
		if problem == "" && wasReady == 0 && !exit.OK() {
			problem = u.portTaken()
		}
		if wasReady > steady {
			wait = firstPause
			starts = starts[len(starts)-1:]
		}
		why := cmp.Or(problem, ended, exit.String())
		failed := ended != "" || !exit.OK()
		again := problem == "" && (u.spec.Restart == declare.RestartAlways || u.spec.Restart == declare.RestartOnFailure && failed)
		switch {
		case again && len(starts) >= startLimit:
			u.set(func(s *Status) {
				s.State, s.Pid = Failed, 0
				s.Reason = fmt.Sprintf("ended %d times within %s, the last time with %s", len(starts), startWindow, why)
			})
			return
		case !again && problem == "" && !failed:
			u.set(func(s *Status) { s.State, s.Reason, s.Pid = Done, "", 0 })
			return
		case !again:
			u.set(func(s *Status) { s.State, s.Reason, s.Pid = Failed, why, 0 })
			return
		}
		pause := wait/2 + rand.N(wait)
		u.set(func(s *Status) {
			s.State, s.Pid = Starting, 0
			s.Reason = "again after " + why
			s.Restarts++
		})
		wait = min(wait*2, longestPause)
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
}

// once runs the service one time. problem is set when the service could not be
// started or did not get ready, which another start would not help; ended when it was
// made to end because it failed.
func (u *unit) once(ctx context.Context) (exit proctree.Exit, ready time.Duration, problem, ended string) {
	outRead, outWrite, err := os.Pipe()
	if err != nil {
		return exit, 0, err.Error(), ""
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		outRead.Close()
		outWrite.Close()
		return exit, 0, err.Error(), ""
	}
	defer outRead.Close()
	defer errRead.Close()
	for _, name := range u.spec.Stale {
		// Only one supervisor has this bay, and nothing of an earlier one is alive: what
		// process such a file names means nothing any more. It goes only from the bay.
		if _, err := os.Lstat(filepath.Join(u.bay.Dir, name)); err != nil {
			continue
		}
		if err := disk.RemoveWithin(u.bay.Dir, name); err == nil {
			u.log.line("sup", []byte("removed "+name+" of an earlier run"))
		} else {
			u.log.line("sup", []byte(name+" of an earlier run is not removed: "+err.Error()))
		}
	}
	env := append(slices.Clone(u.spec.Env), u.g.variables()...)
	var told <-chan struct{}
	if u.spec.Ready.Notify {
		n, err := listenNotify(u.bay.Dir, u.spec.Name, u.g, func(text string) { u.set(func(s *Status) { s.Says = text }) })
		if err != nil {
			outWrite.Close()
			errWrite.Close()
			return exit, 0, "cannot make its NOTIFY_SOCKET: " + err.Error(), ""
		}
		defer n.close()
		env, told = append(env, n.variable()), n.ready
	}
	probe := u.spec.prober(u.g, u.log, told, time.Now())
	tree, err := proctree.Start(proctree.Spec{Path: u.spec.Path, Argv: u.spec.Argv, Env: env, Dir: u.spec.Dir, Stdout: outWrite, Stderr: errWrite, On: u.g.on()})
	outWrite.Close()
	errWrite.Close()
	if err != nil {
		return exit, 0, "cannot start: " + err.Error(), ""
	}
	var logs sync.WaitGroup
	logs.Go(func() { u.log.keep("out", mask.Reader(outRead, u.spec.Mask)) })
	logs.Go(func() { u.log.keep("err", mask.Reader(errRead, u.spec.Mask)) })
	u.set(func(s *Status) { s.State, s.Pid, s.Weak = Starting, tree.Pid, tree.Weak })

	probing, stopProbing := context.WithCancel(ctx)
	probed := make(chan error, 1)
	go func() { probed <- await(probing, u.spec, probe, u.g, u.log) }()
	var readyAt time.Time
	select {
	case err := <-probed:
		switch {
		case ctx.Err() != nil:
		case err != nil:
			problem = fmt.Sprintf("not ready within %s: %v", u.spec.Ready.Within, err)
			u.end(tree)
		default:
			select {
			case <-tree.Done(): // somebody else answered on its port
			default:
				readyAt = time.Now()
				u.set(func(s *Status) { s.State, s.Reason = Ready, "" })
				ended = u.watch(ctx, tree, probe)
			}
		}
	case <-tree.Done():
	case <-ctx.Done():
	}
	stopProbing()
	select {
	case <-tree.Done():
	case <-ctx.Done():
		u.end(tree)
	}
	exit = tree.Wait()
	deadline := time.Now().Add(time.Second)
	_ = outRead.SetReadDeadline(deadline)
	_ = errRead.SetReadDeadline(deadline)
	logs.Wait()
	if !readyAt.IsZero() {
		ready = time.Since(readyAt)
	}
	return exit, ready, problem, ended
}

// watch probes a service that is ready until it ends. One that fails for as long as it
// may take to get ready is ended when it would be started again after a failure; then
// it says why.
func (u *unit) watch(ctx context.Context, tree *proctree.Tree, probe func(context.Context) error) (ended string) {
	every := u.spec.liveness()
	if every == 0 {
		return ""
	}
	var h health
	var failingSince time.Time
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-tree.Done():
			return ""
		case <-ctx.Done():
			return ""
		case <-tick.C:
		}
		err := u.spec.alive(ctx, u.g, probe)
		if ctx.Err() != nil {
			return ""
		}
		if h.see(err == nil) {
			if h.failing {
				failingSince = time.Now()
				tick.Reset(min(every, time.Second))
				u.set(func(s *Status) { s.State, s.Reason = Failing, err.Error() })
			} else {
				tick.Reset(every)
				u.set(func(s *Status) { s.State, s.Reason = Ready, "" })
			}
		}
		// Time spent asleep does not count: the clock that this reads stands still then.
		if h.failing && u.spec.Restart != declare.RestartNever && time.Since(failingSince) > u.spec.Ready.Within {
			u.log.line("sup", fmt.Appendf(nil, "failing for %s, ended to be started again", u.spec.Ready.Within))
			u.end(tree)
			return "failing for " + u.spec.Ready.Within.String()
		}
	}
}

// portTaken says who else listens on a port of a service that just ended: another
// start would not help.
func (u *unit) portTaken() string {
	table, err := u.g.sockets()
	if err != nil {
		return ""
	}
	for name, port := range u.spec.Ports {
		if listen.On(table, port) {
			return fmt.Sprintf("port %s (%d) is used by another program", name, port)
		}
	}
	return ""
}

// signals by the names that a declaration may use.
var signals = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP,
	"USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2, "KILL": syscall.SIGKILL,
}

// end asks the service to stop and makes it stop when its time is over.
func (u *unit) end(tree *proctree.Tree) {
	tree.Signal(signals[u.spec.Signal])
	select {
	case <-tree.Done():
	case <-time.After(u.spec.Within):
		u.log.line("sup", fmt.Appendf(nil, "did not end within %s of SIG%s, killed", u.spec.Within, u.spec.Signal))
		tree.Kill()
		<-tree.Done()
	}
}
