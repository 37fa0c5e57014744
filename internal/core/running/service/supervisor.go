package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/checkout/bay"
)

// SupervisorName is the argv[0] under which this program is a bay's supervisor;
// argv[1] is the bay as JSON.
const SupervisorName = "trammel-supervisor"

// idle is how long a supervisor without services waits for the first one.
const idle = 10 * time.Second

// Supervise is the life of a supervisor. main calls it when argv[0] is
// SupervisorName; it does not return. A second one for the same bay goes at once.
func Supervise() {
	var b bay.Bay
	if len(os.Args) != 2 || json.Unmarshal([]byte(os.Args[1]), &b) != nil || !filepath.IsAbs(b.Dir) || !filepath.IsAbs(b.Records) {
		os.Exit(2)
	}
	keepRights()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := supervise(b, log); err != nil {
		log.Error("the supervisor ends", "error", err)
		os.Exit(1)
	}
	os.Exit(0)
}

func supervise(b bay.Bay, log *slog.Logger) error {
	lock, err := disk.LockFile(b.SupervisorLock())
	if errors.Is(err, disk.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s := &supervisor{
		bay: b, log: log, ctx: ctx, cancel: cancel,
		units: map[string]*unit{}, claims: map[string]*bay.Claim{}, activity: time.Now(),
		grounds: map[string]*ground{"": {}},
	}
	s.takeLabel()
	s.page = newPage(s)
	listener, err := listenControl(s.bay.Socket())
	if err != nil {
		return err
	}
	server := &http.Server{Handler: s.routes(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	go func() { _ = server.Serve(listener) }()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	log.Info("the supervisor is there", "pid", os.Getpid())
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	go s.route(ctx)
	defer s.withdraw()
	for {
		select {
		case got := <-signals:
			log.Info("stopping everything", "signal", got)
			s.stop(context.Background(), nil)
			s.mu.Lock()
			s.closing = true
			s.mu.Unlock()
		case <-tick.C:
			s.mu.Lock()
			s.closing = s.closing || s.unused()
			s.mu.Unlock()
		}
		s.mu.Lock()
		closing := s.closing
		s.mu.Unlock()
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
	page   *page
	ctx    context.Context
	cancel context.CancelFunc

	mu        sync.Mutex
	units     map[string]*unit
	claims    map[string]*bay.Claim // by port key
	grounds   map[string]*ground    // by name of the network's segment
	wanted    map[string]bool       // services that are to run
	last      map[string]sample     // of use, by name
	published string                // what was said last of names
	routing   atomic.Bool           // this one serves the names
	requests  int                   // being answered
	activity  time.Time             // the last request's end
	closing   bool
}

// unused tells whether nothing runs and nobody asks; s.mu is held. Services that
// failed or are done hold nothing, and their last state is in their logs, but
// they are shown for a while.
func (s *supervisor) unused() bool {
	if s.requests > 0 {
		return false
	}
	quiet := time.Since(s.activity)
	for _, u := range s.units {
		switch u.Status().State {
		case Stopped:
		case Failed, Done:
			if quiet < 30*time.Minute {
				return false
			}
		default:
			return false
		}
	}
	return len(s.units) > 0 || quiet > idle
}

func (s *supervisor) routes() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, f func(r *http.Request) (any, error)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			s.mu.Lock()
			if s.closing {
				s.mu.Unlock()
				http.Error(w, "closing", http.StatusServiceUnavailable)
				return
			}
			s.requests++
			s.mu.Unlock()
			answer, err := f(r)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
			} else {
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).Encode(answer)
			}
			s.mu.Lock()
			s.requests--
			s.activity = time.Now()
			s.mu.Unlock()
		})
	}
	handle("GET /status", func(r *http.Request) (any, error) {
		list := s.statuses()
		if r.URL.Query().Has("full") {
			s.notice(list)
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
	s.page.handle(mux)
	return mux
}

func (s *supervisor) statuses() []Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Status, 0, len(s.units))
	for _, u := range s.units {
		st := u.Status()
		if u.spec.Web != "" && st.Running() {
			st.Address = s.address(u.spec.Service)
		}
		out = append(out, st)
	}
	slices.SortFunc(out, func(a, b Status) int { return compareNames(a.Name, b.Name) })
	return out
}

// compareNames orders lane.2 before lane.10.
func compareNames(a, b string) int {
	if len(a) != len(b) && len(a) > 0 && len(b) > 0 && commonService(a, b) {
		return len(a) - len(b)
	}
	if a < b {
		return -1
	}
	if a > b {
		return 1
	}
	return 0
}

func commonService(a, b string) bool {
	ext := filepath.Ext(a)
	return ext != "" && a[:len(a)-len(ext)] == b[:max(0, len(b)-len(filepath.Ext(b)))]
}

// Claimed is the answer to a claim: the numbers that are held, and a sentence for
// each that is not the one that was recorded.
type Claimed struct {
	Ports bay.Ports `json:"ports"`
	Moved []string  `json:"moved"`
}

// claim takes the ports of services for the bay's life and records the numbers.
func (s *supervisor) claim(r *http.Request) (any, error) {
	wanted := bay.Ports{}
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&wanted); err != nil {
		return nil, err
	}
	unlock, err := disk.Lock(r.Context(), s.bay.PortsFile()+".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	ports, err := s.bay.ReadPorts()
	var broken *bay.Broken
	if errors.As(err, &broken) { // whoever asked has just chosen anew, and it broke again
		err = broken.PutAside(r.Context(), "numbers of ports are chosen anew")
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	answer := Claimed{Ports: bay.Ports{}}
	keys := make([]string, 0, len(wanted))
	for key := range wanted {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		number := ports[key]
		if number == 0 {
			number = wanted[key]
		}
		if held := s.claims[key]; held != nil {
			answer.Ports[key] = held.Number
			continue
		}
		c, err := s.bay.Claim(number)
		for try := 0; errors.Is(err, bay.ErrTaken) && try < 20; try++ {
			// Somebody took the next one between choosing and claiming: again.
			c, err = s.bay.Claim(s.bay.Choose(ports, key, 0))
		}
		if err != nil {
			return nil, fmt.Errorf("port %d for %s: %w", number, key, err)
		}
		if c.Number != number {
			answer.Moved = append(answer.Moved, fmt.Sprintf("port %d is taken by another program; %s has %d instead", number, bay.PortName(key), c.Number))
		}
		s.claims[key], ports[key], answer.Ports[key] = c, c.Number, c.Number
	}
	return answer, s.bay.SavePorts(ports)
}

// readSpec reads what is to be started.
func readSpec(from io.Reader) (spec Spec, err error) {
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
	var followers []Spec
	for {
		s.mu.Lock()
		old := s.units[spec.Name]
		if old != nil {
			status := old.Status()
			if status.Running() && status.Config == spec.Config && status.Build == spec.Build && !spec.Again {
				s.mu.Unlock()
				return old.settled(r.Context()), nil
			}
			if status.Running() {
				s.mu.Unlock()
				followers = append(followers, s.dependants(spec.Name)...)
				s.halt(r.Context(), []string{spec.Name})
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
		if status.State == Ready || status.State == Done {
			s.follow(followers)
		}
		return status, nil
	}
}

// launch makes a unit run; s.mu is held.
func (s *supervisor) launch(spec Spec) (*unit, error) {
	g := s.grounds[spec.Network]
	if g == nil {
		var err error
		if g, err = newGround(); err != nil {
			return nil, fmt.Errorf("%w, which network = %q asks for", err, "private")
		}
		s.grounds[spec.Network] = g
	}
	log, err := openLog(LogPath(s.bay.Logs(), spec.Name))
	if err != nil {
		return nil, err
	}
	u := newUnit(spec, log, g, s.bay)
	ctx, stop := context.WithCancel(s.ctx)
	u.stop = stop
	s.units[spec.Name] = u
	s.want(spec.Service, true)
	go func() {
		u.run(ctx)
		s.publish()
	}()
	go func() {
		u.settled(ctx)
		s.publish()
	}()
	return u, nil
}

// dependants are the specs of running units that need another, in no order.
func (s *supervisor) dependants(name string) []Spec {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []Spec
	for other, u := range s.closure([]string{name}) {
		if other != name && u.Status().Running() {
			out = append(out, u.spec)
		}
	}
	return out
}

// follow starts again what was stopped for the sake of one that it needs, unless
// somebody else has by now.
func (s *supervisor) follow(specs []Spec) {
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
			if u := s.units[spec.Name]; u != nil && u.Status().State == Stopped && !s.closing {
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
	}
	s.mu.Unlock()
	s.halt(ctx, all)
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, c := range s.claims { // ports of services that are stopped are free again
		used := false
		for _, u := range s.units {
			used = used || u.Status().State != Stopped && bay.OwnsPort(u.spec.Service, key)
		}
		if !used {
			c.Release()
			delete(s.claims, key)
		}
	}
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
// under way, with its probes and pauses.
func (s *supervisor) halt(_ context.Context, names []string) {
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
		for _, u := range level {
			u.set(func(st *Status) { st.State, st.Reason = Stopped, "" })
			delete(stopping, u.spec.Name)
		}
	}
	s.publish()
}

// listenControl makes the control socket. Only the same user may connect: the
// socket's mode says so, and each connection is asked for its user.
func listenControl(path string) (net.Listener, error) {
	os.Remove(path) // of a supervisor that was killed; its lock is ours now
	short, done, err := shortPath(path)
	if err != nil {
		return nil, err
	}
	defer done()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: short, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	return ownUser{l}, nil
}

// ownUser drops connections of other users.
type ownUser struct{ *net.UnixListener }

func (l ownUser) Accept() (net.Conn, error) {
	for {
		c, err := l.AcceptUnix()
		if err != nil {
			return nil, err
		}
		if uid, err := peerUser(c); err == nil && (uid == os.Getuid() || uid == 0) {
			return c, nil
		}
		c.Close()
	}
}
