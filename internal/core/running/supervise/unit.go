package supervise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/base/mask"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/written/declare"
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
	spec service.Spec
	log  *logbook.Writer
	g    *ground
	bay  bay.Bay

	beside []*ground // of other segments, where its ports are reached too

	mu      sync.Mutex
	status  service.Status
	inputs  map[string]string // what it goes by while it runs, as far as it knows
	lost    string            // name of the port that a stranger has
	holds   *holding          // of the present run
	changed chan struct{}     // closed and replaced at each change of state
	stop    context.CancelFunc
	gone    chan struct{} // closed when nothing of it runs any more

	note func(name string, pid int) error // notes a tree before it runs anything
	turn func()                           // is called when the state has changed
}

func newUnit(spec service.Spec, log *logbook.Writer, g *ground, b bay.Bay) *unit {
	return &unit{
		spec: spec, log: log, g: g, bay: b, changed: make(chan struct{}), gone: make(chan struct{}),
		note: func(string, int) error { return nil }, turn: func() {},
		inputs: spec.Inputs,
		status: service.Status{Inputs: spec.Fingerprint(), Name: spec.Name, Service: spec.Service, State: service.Starting, Since: time.Now(), Ports: spec.Reached(), UDP: spec.UDP, Config: spec.Config, Build: spec.Build},
	}
}

// Status is a copy of what is known now.
func (u *unit) Status() service.Status {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.status
}

// set changes the state and wakes all who wait for one.
func (u *unit) set(change func(*service.Status)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	before := u.status.State
	change(&u.status)
	if u.status.State != before {
		u.status.Since = time.Now()
		u.log.Say("sup", []byte(strings.TrimSpace(u.status.State+" "+u.status.Reason)))
	}
	close(u.changed)
	u.changed = make(chan struct{})
	if u.status.State != before {
		u.turn()
	}
}

// news says which of what it goes by is not what it was when it was told last; "" when
// nothing is, or it need not be told.
func (u *unit) news(spec service.Spec) string {
	u.mu.Lock()
	defer u.mu.Unlock()
	return canon.Changed(u.inputs, spec.Inputs)
}

// knows notes that it knows of its inputs as they are.
func (u *unit) knows(spec service.Spec) {
	u.mu.Lock()
	u.inputs = spec.Inputs
	u.mu.Unlock()
	u.set(func(s *service.Status) { s.Inputs = spec.Fingerprint() })
}

// present is what tells of the ports of the present run, and the pid of its tree.
func (u *unit) present() *holding {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.holds
}

// settled waits until the service is neither starting nor about to be. One that is up and whose probe
// fails is waited for as long as one that starts may take: it may only have been kept waiting by
// something that is started anew.
func (u *unit) settled(ctx context.Context) service.Status {
	var sick <-chan time.Time
	for {
		u.mu.Lock()
		status, changed := u.status, u.changed
		u.mu.Unlock()
		switch {
		case status.State == service.Failing && sick == nil:
			late := time.NewTimer(u.spec.Ready.Within)
			defer late.Stop()
			sick = late.C
		case status.State != service.Starting && status.State != service.Failing:
			return status
		}
		select {
		case <-changed:
		case <-sick:
			if status.State == service.Failing {
				return status
			}
			sick = nil
		case <-ctx.Done():
			return status
		}
	}
}

// run supervises until the service is stopped, done or failed.
func (u *unit) run(ctx context.Context) {
	defer close(u.gone)
	defer u.log.Close()
	endForward, err := u.g.forward(u.spec, u.beside)
	if err != nil {
		_ = u.other(err)
		u.set(func(s *service.Status) { s.State, s.Reason, s.Taken = service.Failed, err.Error(), u.lost })
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
			u.set(func(s *service.Status) {
				reason := ""
				if s.State == service.Starting {
					reason = "it was stopped while it was starting"
				}
				s.State, s.Reason, s.Pid, s.Open = service.Stopped, reason, 0, nil
			})
			return
		}
		if problem == "" && ended == "" {
			switch {
			case !exit.OK() && wasReady < 2*patience:
				problem = u.portTaken()
			case exit.OK() && exit.Left != "":
				problem = fmt.Sprintf("it went to the background: its command ended and left %s running, which was ended too. Have it stay in the foreground", foreign.Line(exit.Left))
			}
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
			u.set(func(s *service.Status) {
				s.State, s.Pid = service.Failed, 0
				s.Reason = fmt.Sprintf("ended %d times within %s, the last time with %s", len(starts), startWindow, why)
			})
			return
		case !again && problem == "" && !failed:
			u.set(func(s *service.Status) { s.State, s.Reason, s.Pid, s.Open = service.Done, "", 0, nil })
			return
		case !again:
			u.set(func(s *service.Status) {
				s.State, s.Reason, s.Pid, s.Open, s.Taken = service.Failed, why, 0, nil, u.lost
			})
			return
		}
		pause := wait/2 + rand.N(wait)
		u.set(func(s *service.Status) {
			s.State, s.Pid, s.Open = service.Starting, 0, nil
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
func (u *unit) once(ctx context.Context) (exit process.Exit, ready time.Duration, problem, ended string) {
	out, err := openOutputs()
	if err != nil {
		return exit, 0, "cannot start: " + inPlainWords(err).Error(), ""
	}
	defer out.close()
	u.removeStale()
	env := append(slices.Clone(u.spec.Env), u.g.variables()...)
	var told <-chan struct{}
	if u.spec.Ready.Notify {
		n, err := listenNotify(u.bay.Dir, u.spec.Name, u.g, func(text string) { u.set(func(s *service.Status) { s.Says = text }) })
		if err != nil {
			return exit, 0, "cannot make its NOTIFY_SOCKET: " + err.Error(), ""
		}
		defer n.close()
		env, told = append(env, n.variable()), n.ready
	}
	probe := prober(u.spec, u.g, u.log, told, time.Now())
	tree, err := process.Start(process.Spec{
		Path: u.spec.Path, Argv: u.spec.Argv, Env: env, Dir: u.spec.Dir, Stdout: out[0].write, Stderr: out[1].write, On: u.g.on(),
		Born: func(pid int) error { return u.note(u.spec.Name, pid) },
	})
	if err != nil {
		return exit, 0, "cannot start: " + inPlainWords(err).Error(), ""
	}
	logged := out.logged(u.log, u.spec.Mask)
	holds := newHolding(u.spec, u.g, tree)
	u.mu.Lock()
	u.holds, u.lost = holds, ""
	u.mu.Unlock()
	own, program := tree.Own(), tree.Program()
	u.set(func(s *service.Status) { s.State, s.Pid, s.Weak = service.Starting, program, tree.Weak })

	probing, stopProbing := context.WithCancel(ctx)
	probed := make(chan error, 1)
	go func() { probed <- await(probing, u.spec, probe, holds, u.log) }()
	var readyAt time.Time
	select {
	case err := <-probed:
		switch {
		case ctx.Err() != nil:
		case err != nil:
			if problem = u.other(err); problem == "" {
				problem = fmt.Sprintf("not ready within %s: %v; one that needs longer: ready = { …, within = %q }", u.spec.Ready.Within, err, (3 * u.spec.Ready.Within).Round(time.Second))
			}
			u.end(tree)
		default:
			// Its program may end now, and what listens with it; or it has, and its init is about to say so.
			if holds.indirect() || tree.Own() != own {
				holds.lasts(ctx, grace)
			}
			select {
			case <-tree.Done():
			default:
				readyAt = time.Now()
				open, pid, six := holds.open(), tree.Program(), holds.onlyV6()
				u.set(func(s *service.Status) {
					s.State, s.Reason, s.Open, s.Pid = service.Ready, "", open, pid
					if u.g.net == nil {
						s.Six = six
					}
				})
				ended = u.watch(ctx, tree, probe, holds)
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
	logged()
	if !readyAt.IsZero() {
		ready = time.Since(readyAt)
	}
	return exit, ready, problem, ended
}

// removeStale removes the files of an earlier run that name a process. Only one supervisor has
// this bay, and nothing of an earlier one is alive: what process such a file names means nothing
// any more. It goes only from the bay.
func (u *unit) removeStale() {
	for _, name := range u.spec.Stale {
		if _, err := os.Lstat(filepath.Join(u.bay.Dir, name)); err != nil {
			continue
		}
		if err := disk.RemoveWithin(u.bay.Dir, name); err == nil {
			u.log.Say("sup", []byte("removed "+name+" of an earlier run"))
		} else {
			u.log.Say("sup", []byte(name+" of an earlier run is not removed: "+err.Error()))
		}
	}
}

// outputs are the pipes of a program's standard output and standard error.
type outputs [2]struct{ read, write *os.File }

func openOutputs() (*outputs, error) {
	o := &outputs{}
	for i := range o {
		var err error
		if o[i].read, o[i].write, err = os.Pipe(); err != nil {
			o.close()
			return nil, err
		}
	}
	return o, nil
}

// logged keeps what comes in a log, now that the program has its ends. What it returns waits for the rest
// of it, a second at most: what was left behind may hold a pipe for ever.
func (o *outputs) logged(log *logbook.Writer, secrets []string) (rest func()) {
	var both sync.WaitGroup
	for i, name := range []string{"out", "err"} {
		o[i].write.Close()
		both.Go(func() { log.Keep(name, mask.Reader(o[i].read, secrets)) })
	}
	return func() {
		deadline := time.Now().Add(time.Second)
		for i := range o {
			_ = o[i].read.SetReadDeadline(deadline)
		}
		both.Wait()
	}
}

// close closes what is open of them.
func (o *outputs) close() {
	for i := range o {
		for _, f := range []*os.File{o[i].read, o[i].write} {
			if f != nil {
				f.Close()
			}
		}
	}
}

// watch probes a service that is ready until it ends. One that fails for as long as it
// may take to get ready is ended when it would be started again after a failure; then
// it says why.
func (u *unit) watch(ctx context.Context, tree *process.Tree, probe func(context.Context) error, holds *holding) (ended string) {
	every := liveness(u.spec)
	if every == 0 {
		return ""
	}
	var h health
	var failingSince time.Time
	timer := time.NewTimer(u.g.next(every))
	defer timer.Stop()
	for {
		select {
		case <-tree.Done():
			return ""
		case <-ctx.Done():
			return ""
		case <-timer.C:
		}
		err := alive(ctx, u.spec, holds, probe)
		if ctx.Err() != nil {
			return ""
		}
		if h.see(err == nil) {
			if h.failing {
				failingSince = time.Now()
				u.set(func(s *service.Status) { s.State, s.Reason = service.Failing, err.Error() })
			} else {
				u.set(func(s *service.Status) { s.State, s.Reason = service.Ready, "" })
			}
		}
		if h.fails > 0 || h.failing {
			timer.Reset(min(every, time.Second))
		} else {
			timer.Reset(u.g.next(every))
		}
		// Time spent asleep does not count: the clock that this reads stands still then.
		if h.failing && u.spec.Restart != declare.RestartNever && time.Since(failingSince) > u.spec.Ready.Within {
			u.log.Say("sup", fmt.Appendf(nil, "failing for %s, ended to be started again", u.spec.Ready.Within))
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
	for name, number := range u.spec.Ports {
		port := door{number, slices.Contains(u.spec.UDP, name)}
		if at := port.in(table); len(at) > 0 {
			return u.other(&stranger{name, port, listen.HolderOf(at[0])})
		}
	}
	return ""
}

// other is what to say of a stranger on one of the unit's ports; "" when err is none.
func (u *unit) other(err error) string {
	var s *stranger
	if !errors.As(err, &s) {
		return ""
	}
	if _, declared := u.spec.Ports[s.name]; declared {
		u.mu.Lock()
		u.lost = s.name
		u.mu.Unlock()
	}
	return s.Error()
}

// end asks the service to stop and makes it stop when its time is over.
func (u *unit) end(tree *process.Tree) {
	number, _ := service.SignalOf(u.spec.Signal)
	tree.Signal(number)
	select {
	case <-tree.Done():
	case <-time.After(u.spec.Within):
		u.log.Say("sup", fmt.Appendf(nil, "did not end within %s of SIG%s, killed", u.spec.Within, u.spec.Signal))
		tree.Kill()
		<-tree.Done()
	}
}
