// Package supervise runs the services of a bay: it is the supervisor, a detached copy of this program
// that starts when the first service does and goes when the last one stops.
//
// It keeps each service in a process tree of its own, holds its ports, probes it, keeps its log,
// starts it again by its rule, and answers on a control socket. When it dies, by whatever cause, its
// services die with it. It knows nothing of declarations: it is given complete specs (package service),
// and the order of starting is the client's business (package setup).
package supervise

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/peer"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
)

// idle is how long a supervisor without services waits for the first one, and shown how long
// it stays when all of them failed or are done.
const (
	idle  = 10 * time.Second
	shown = 30 * time.Minute
)

// calmness is how long nothing has happened when it is worth giving memory back.
const calmness = 5 * time.Second

// Main is the life of a supervisor. main calls it when argv[0] is
// service.SupervisorName; it does not return. A second one for the same bay goes at once.
func Main() {
	var b bay.Bay
	helped := len(os.Args) == 3 && os.Args[2] == service.Helped
	if len(os.Args) != 2 && !helped || json.Unmarshal([]byte(os.Args[1]), &b) != nil || !filepath.IsAbs(b.Dir) || !filepath.IsAbs(b.Records) {
		os.Exit(2)
	}
	keepRights()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := supervise(b, peer.Open(b.Door(), helped), log); err != nil {
		log.Error("the supervisor ends", "error", err)
		os.Exit(1)
	}
	os.Exit(0)
}

func supervise(b bay.Bay, who *peer.Looker, log *slog.Logger) error {
	lock, err := disk.LockFile(b.SupervisorLock())
	if errors.Is(err, disk.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	// Whoever finds this one deaf is told its number.
	if err := lock.Truncate(0); err == nil {
		_, _ = lock.WriteAt([]byte(strconv.Itoa(os.Getpid())), 0)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s := &supervisor{
		bay: b, log: log, ctx: ctx, cancel: cancel,
		units: map[string]*unit{}, claims: map[string]*bay.Claim{}, said: map[string]string{}, activity: time.Now(),
		grounds: map[string]*ground{"": {begun: time.Now()}},
		stirred: make(chan struct{}, 1), unsaid: make(chan struct{}, 1),
	}
	if err := b.MakeDoor(); err != nil {
		log.Warn("views cannot be let ask for names", "error", err)
	}
	s.earlier = openTrees(b, func(text string) { log.Info(text) })
	if s.label, s.held = gateway.Label(b); s.held == nil {
		log.Info("another checkout has the name", "project", b.Project, "label", s.label)
	}
	page := gateway.NewPage(ctx, b, s.page(), log)
	listener, err := service.ListenControl(s.bay.Socket(), who)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: s.routes(page), ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	service.Told(server)
	go func() { _ = server.Serve(listener) }()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	log.Info("the supervisor is there", "pid", os.Getpid())
	go s.publishing(ctx)
	go gateway.Serve(ctx, b, page.Self, who, log)
	defer gateway.Withdraw(b)
	timer, calm := time.NewTimer(0), time.NewTimer(calmness)
	defer timer.Stop()
	defer calm.Stop()
	for {
		select {
		case got := <-signals:
			log.Info("stopping everything", "signal", got)
			s.stop(context.Background(), nil)
			s.mu.Lock()
			s.closing = true
			s.mu.Unlock()
		case <-s.stirred: // a request ended, or a service is in another state
			calm.Reset(calmness)
		case <-calm.C: // what many starts at once took is given back
			debug.FreeOSMemory()
		case <-timer.C: // nothing did for as long as was waited for
		}
		s.mu.Lock()
		wait, ends := s.unused()
		s.closing = s.closing || ends && wait <= 0
		closing := s.closing
		s.mu.Unlock()
		timer.Stop()
		if ends {
			timer.Reset(max(wait, time.Millisecond))
		}
		if closing {
			// Whoever connects from here on finds no socket and starts a new one.
			os.Remove(s.bay.Socket())
			grace, done := context.WithTimeout(context.Background(), 2*time.Second)
			defer done()
			_ = server.Shutdown(grace)
			log.Info("the supervisor goes")
			return nil
		}
	}
}

type supervisor struct {
	bay    bay.Bay
	label  string   // what its names on the router end in
	held   *os.File // keeps that from other checkouts; nil when the label is its own
	log    *slog.Logger
	ctx    context.Context
	cancel context.CancelFunc

	mu        sync.Mutex
	units     map[string]*unit
	claims    map[string]*bay.Claim // by port key
	said      map[string]string     // what was told last of a port, by its key
	grounds   map[string]*ground    // by name of the network's segment
	wanted    map[string]bool       // services that are to run
	unnoted   bool                  // that is not in the file yet
	noting    sync.Mutex            // of who writes it
	last      map[string]sample     // of use, by name
	published gateway.Routes        // what was said last of names
	requests  int                   // being answered
	activity  time.Time             // the last request's end
	closing   bool
	dismissed bool // all was stopped, so that nothing is waited for

	earlier *trees        // of a supervisor that was killed, and of this one
	stirred chan struct{} // something happened that may be the end
	unsaid  chan struct{} // what is published is not so any more
}

// stir has the supervisor look whether it is still needed.
func (s *supervisor) stir() {
	select {
	case s.stirred <- struct{}{}:
	default: // it is about to look
	}
}

// unused tells whether nothing runs and nobody asks, and how long this must stay so until
// the supervisor ends; s.mu is held. Services that failed or are done hold nothing, and
// their last state is in their logs, but they are shown for a while.
func (s *supervisor) unused() (wait time.Duration, ends bool) {
	if s.requests > 0 {
		return 0, false
	}
	after := time.Duration(0)
	if len(s.units) == 0 || len(s.claims) > 0 { // ports are held for what is about to start
		after = idle
	}
	if s.dismissed {
		after = 0
	}
	for _, u := range s.units {
		switch u.Status().State {
		case service.Stopped:
		case service.Failed, service.Done:
			after = shown
		default:
			return 0, false
		}
	}
	return after - time.Since(s.activity), true
}

func (s *supervisor) routes(page *gateway.Page) http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, f func(r *http.Request) (any, error)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if service.Late(r) {
				http.Error(w, "too late", http.StatusServiceUnavailable)
				return
			}
			s.mu.Lock()
			if s.closing {
				s.mu.Unlock()
				http.Error(w, "closing", http.StatusServiceUnavailable)
				return
			}
			s.requests++
			s.mu.Unlock()
			defer func() { // also when it panics, which the server catches
				s.mu.Lock()
				s.requests--
				s.activity = time.Now()
				s.mu.Unlock()
				s.stir()
			}()
			answer, err := f(r)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
			} else {
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).Encode(answer)
			}
		})
	}
	handle("GET /status", func(r *http.Request) (any, error) {
		list := s.statuses()
		switch {
		case r.URL.Query().Has("full"):
			s.notice(list)
		case r.URL.Query().Has("brief"): // who runs, for who asks no more
			type brief struct {
				Name  string `json:"name"`
				State string `json:"state"`
			}
			out := make([]brief, len(list))
			for i, st := range list {
				out[i] = brief{st.Name, st.State}
			}
			return out, nil
		}
		return list, nil
	})
	handle("POST /claim", s.claim)
	handle("POST /start", s.start)
	handle("POST /stop", func(r *http.Request) (any, error) {
		var names []string
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&names); err != nil {
			return nil, err
		}
		s.stop(r.Context(), names)
		return s.statuses(), nil
	})
	handle("POST /drop", func(r *http.Request) (any, error) {
		var o service.Surplus
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&o); err != nil {
			return nil, err
		}
		s.drop(o)
		return s.statuses(), nil
	})
	handle("POST /signal", s.signal)
	mux.HandleFunc("GET /pulse", func(http.ResponseWriter, *http.Request) {}) // that it answers is the answer
	page.Handle(mux)
	return mux
}

func (s *supervisor) statuses() []service.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := gateway.NamesOf(s.bay, s.label)
	out := make([]service.Status, 0, len(s.units))
	for _, u := range s.units {
		st := u.Status()
		// Somebody may have come since the last look: nothing is called ready for their sake.
		if h := u.present(); h != nil && st.State == service.Ready {
			if err := h.strangers(); err != nil {
				st.State, st.Reason = service.Failing, err.Error()
			}
			if !process.ProcessOf(st.Pid).Alive() { // a script runs one program after the other
				st.Pid = h.tree.Program()
			}
		}
		if u.spec.Web != "" && st.Running() {
			st.Address, st.Secure = names.Address(u.spec.Service), names.Secure(u.spec.Service)
			if copy, ok := service.CopyOf(u.spec.Name, u.spec.Service); ok {
				st.Own = names.Address(copy + "." + u.spec.Service)
			}
		}
		out = append(out, st)
	}
	slices.SortFunc(out, func(a, b service.Status) int { return service.CompareNames(a.Name, b.Name) })
	return out
}

// readSpec reads what is to be started.
func readSpec(from io.Reader) (spec service.Spec, err error) {
	if err := json.NewDecoder(io.LimitReader(from, 16<<20)).Decode(&spec); err != nil {
		return spec, err
	}
	if len(spec.Argv) == 0 || spec.Name == "" || filepath.Base(spec.Name) != spec.Name {
		return spec, errors.New("not a service")
	}
	return spec, nil
}

// start starts one service and answers when it is ready, has failed or is done. One
// that runs with the same configuration is left alone. One that runs with another is
// started anew, and then all that need it, which may have taken something from it that
// is gone; those are stopped first.
func (s *supervisor) start(r *http.Request) (any, error) {
	spec, err := readSpec(r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.earlier.wait(r.Context()); err != nil {
		return nil, err
	}
	var followers []service.Spec
	why := ""
	for {
		s.mu.Lock()
		old := s.units[spec.Name]
		if old != nil {
			status := old.Status()
			if status.Running() && status.Config == spec.Config && status.Build == spec.Build && !spec.Again {
				news := old.news(spec)
				if news == "" || spec.WhenChanged != declare.Restarted {
					s.mu.Unlock()
					return s.told(r.Context(), old, spec, news), nil
				}
				why = news
			} else if status.Running() && !spec.Again {
				why = "its configuration changed"
				if status.Build != spec.Build {
					why = "its environment changed"
				}
			}
			if status.Running() {
				s.mu.Unlock()
				if why != "" {
					old.log.Say("sup", []byte("is started anew: "+why))
				}
				followers = append(followers, s.dependants(spec.Name)...)
				s.halt([]string{spec.Name})
				spec.Again = false
				continue
			}
		}
		u, err := s.launch(spec)
		s.mu.Unlock()
		if err != nil {
			return nil, err
		}
		status := u.settled(r.Context())
		if status.State == service.Ready || status.State == service.Done {
			s.follow(followers)
		}
		if status.Why = why; why != "" {
			status.Why = "started anew: " + why
		}
		return status, nil
	}
}

// told has a service that goes on running know of what changed, by a signal where it wants
// one.
func (s *supervisor) told(ctx context.Context, u *unit, spec service.Spec, news string) service.Status {
	if news != "" {
		u.knows(spec)
		if number, ok := service.SignalOf(spec.WhenChanged); ok {
			if u.Status().State == service.Starting {
				u.settled(ctx)
			}
			_, err := u.send(spec.WhenChanged, number) // which may be what makes it well again
			status := u.settled(ctx)
			if err == nil {
				status.Why = "was sent SIG" + spec.WhenChanged + ": " + news
			}
			return status
		}
	}
	return u.settled(ctx)
}

// send sends a signal to the unit's program and returns its pid.
func (u *unit) send(name string, number syscall.Signal) (pid int, err error) {
	h := u.present()
	if h == nil || !u.Status().Running() {
		return 0, errors.New("it does not run")
	}
	program := process.ProcessOf(h.tree.Program())
	if !slices.Contains(listen.Below(h.tree.Pid), program.Pid) {
		return 0, errors.New("it has just ended")
	}
	if err := program.Signal(number); err != nil {
		return 0, err
	}
	u.log.Say("sup", []byte("SIG"+name+" was sent to pid "+strconv.Itoa(program.Pid)))
	return program.Pid, nil
}

// ground is a network by its name, made when it is needed first; s.mu is held.
func (s *supervisor) ground(name string) (*ground, error) {
	g := s.grounds[name]
	if g == nil {
		var err error
		if g, err = newGround(); err != nil {
			return nil, fmt.Errorf("%w, which network = %q asks for", err, "private")
		}
		s.grounds[name] = g
	}
	return g, nil
}

// launch makes a unit run; s.mu is held.
func (s *supervisor) launch(spec service.Spec) (*unit, error) {
	g, err := s.ground(spec.Network)
	if err != nil {
		return nil, err
	}
	g.takes(spec)
	g.leads(spec, s.bay, s.log)
	s.hold(spec)
	var beside []*ground
	for _, name := range spec.Beside {
		other, err := s.ground(name)
		if err != nil {
			return nil, err
		}
		beside = append(beside, other)
	}
	log, err := logbook.Open(logbook.Path(s.bay.Logs(), spec.Name))
	if err != nil {
		return nil, inPlainWords(err)
	}
	s.dismissed = false
	u := newUnit(spec, log, g, s.bay)
	u.beside = beside
	u.note = s.earlier.note
	u.turn = func() { s.say(); s.stir() }
	ctx, stop := context.WithCancel(s.ctx)
	u.stop = stop
	s.units[spec.Name] = u
	s.want(spec.Service, true)
	go func() {
		s.noteWanted()
		u.run(ctx)
	}()
	s.say()
	return u, nil
}

// dependants are the specs of running units that need another, in no order.
func (s *supervisor) dependants(name string) []service.Spec {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []service.Spec
	for other, u := range s.closure([]string{name}) {
		if other != name && u.Status().Running() {
			spec := u.spec
			u.mu.Lock()
			spec.Inputs = u.inputs
			u.mu.Unlock()
			out = append(out, spec)
		}
	}
	return out
}

// follow starts again what was stopped for the sake of one that it needs, unless
// somebody else has by now.
func (s *supervisor) follow(specs []service.Spec) {
	for _, spec := range specs {
		go func() {
			for _, need := range spec.Needs { // those that are being started, too
				s.mu.Lock()
				u := s.units[need]
				s.mu.Unlock()
				if u != nil {
					u.settled(s.ctx)
				}
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			if u := s.units[spec.Name]; u != nil && u.Status().State == service.Stopped && !s.closing {
				if _, err := s.launch(spec); err != nil {
					s.log.Error("starting again", "service", spec.Name, "error", err)
				}
			}
		}()
	}
}

// stop stops services for good, those that need others first; all of them when names
// is empty.
func (s *supervisor) stop(ctx context.Context, names []string) {
	s.mu.Lock()
	var all []string
	for name, u := range s.units {
		if len(names) == 0 || slices.Contains(names, name) || slices.Contains(names, u.spec.Service) {
			all = append(all, name)
		}
	}
	for _, u := range s.closure(all) {
		s.want(u.spec.Service, false)
	}
	if len(names) == 0 {
		s.want("", false)
		s.dismissed = true
	}
	s.mu.Unlock()
	s.noteWanted()
	s.halt(all)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.release(all, nil)
}

// drop ends copies of services that are not declared any more, and nothing else: what needs
// the service has others of it, and is started anew where it was told of this one.
func (s *supervisor) drop(o service.Surplus) {
	s.mu.Lock()
	var gone []*unit
	for _, name := range o.Names {
		if u := s.units[name]; u != nil {
			u.stop()
			gone = append(gone, u)
		}
	}
	s.mu.Unlock()
	for _, u := range gone {
		<-u.gone
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.release(o.Names, o.Keep)
	for _, u := range gone {
		if s.units[u.spec.Name] == u {
			delete(s.units, u.spec.Name)
		}
	}
	s.say()
}

// signal sends a signal to the programs of services.
func (s *supervisor) signal(r *http.Request) (any, error) {
	var o service.Signal
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&o); err != nil {
		return nil, err
	}
	number, ok := service.SignalOf(o.Signal)
	if !ok {
		return nil, fmt.Errorf("no signal is named %q", o.Signal)
	}
	s.mu.Lock()
	var units []*unit
	for name, u := range s.units {
		if slices.Contains(o.Names, name) || slices.Contains(o.Names, u.spec.Service) {
			units = append(units, u)
		}
	}
	s.mu.Unlock()
	sent := []service.Signalled{}
	for _, u := range units {
		if pid, err := u.send(o.Signal, number); err == nil {
			sent = append(sent, service.Signalled{Name: u.spec.Name, Pid: pid})
		}
	}
	slices.SortFunc(sent, func(a, b service.Signalled) int { return service.CompareNames(a.Name, b.Name) })
	return sent, nil
}

// closure are units and all that need them; s.mu is held.
func (s *supervisor) closure(names []string) map[string]*unit {
	out := map[string]*unit{}
	for _, name := range names {
		if u := s.units[name]; u != nil {
			out[name] = u
		}
	}
	for again := true; again; {
		again = false
		for name, u := range s.units {
			if out[name] == nil && slices.ContainsFunc(u.spec.Needs, func(n string) bool { return out[n] != nil }) {
				out[name] = u
				again = true
			}
		}
	}
	return out
}

// halt stops units and all that need them, level by level. It ends a start that is
// under way, with its probes and pauses. It comes to its end whether or not somebody still waits for
// it: what is started next relies on it.
func (s *supervisor) halt(names []string) {
	s.mu.Lock()
	stopping := s.closure(names)
	s.mu.Unlock()
	for len(stopping) > 0 {
		var level []*unit
		for name, u := range stopping {
			needed := false
			for other, v := range stopping {
				needed = needed || other != name && slices.Contains(v.spec.Needs, name)
			}
			if !needed {
				level = append(level, u)
			}
		}
		var wait sync.WaitGroup
		for _, u := range level {
			u.stop()
			wait.Go(func() { <-u.gone })
		}
		wait.Wait()
		for _, u := range level { // one that had failed or was done is stopped now, too
			u.set(func(st *service.Status) {
				if st.State != service.Stopped {
					st.State, st.Reason = service.Stopped, ""
				}
			})
			delete(stopping, u.spec.Name)
		}
	}
}
