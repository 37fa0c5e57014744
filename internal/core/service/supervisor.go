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
	"syscall"
	"time"

	"trammel.example/trammel/internal/core/bay"
	"trammel.example/trammel/internal/core/disk"
)

// SupervisorName is the argv[0] under which this program is a bay's supervisor;
// argv[1] is the bay's folder, argv[2] its logs, argv[3] the folder of port locks.
const SupervisorName = "trammel-supervisor"

// idle is how long a supervisor without services waits for the first one.
const idle = 10 * time.Second

// Supervise is the life of a supervisor. main calls it when argv[0] is
// SupervisorName; it does not return. A second one for the same bay goes at once.
func Supervise() {
	if len(os.Args) != 4 {
		os.Exit(2)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := supervise(os.Args[1], os.Args[2], os.Args[3], log); err != nil {
		log.Error("the supervisor ends", "error", err)
		os.Exit(1)
	}
	os.Exit(0)
}

func supervise(dir, logs, portLocks string, log *slog.Logger) error {
	lock, err := disk.LockFile(filepath.Join(dir, "supervisor.lock"))
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
		bay: bay.At(dir, portLocks), logs: logs, log: log, ctx: ctx, cancel: cancel,
		units: map[string]*unit{}, claims: map[string]*bay.Claim{}, activity: time.Now(),
	}
	listener, err := listenControl(s.bay.Socket())
	if err != nil {
		return err
	}
	server := &http.Server{Handler: s.routes(), ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	go func() { _ = server.Serve(listener) }()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	log.Info("the supervisor is there", "pid", os.Getpid())
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
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
	logs   string
	log    *slog.Logger
	ctx    context.Context
	cancel context.CancelFunc

	mu       sync.Mutex
	units    map[string]*unit
	claims   map[string]*bay.Claim // by port key
	requests int                   // being answered
	activity time.Time             // the last request's end
	closing  bool
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
	handle("GET /status", func(*http.Request) (any, error) { return s.statuses(), nil })
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
	return mux
}

func (s *supervisor) statuses() []Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Status, 0, len(s.units))
	for _, u := range s.units {
		out = append(out, u.Status())
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

// start starts one service and answers when it is ready, has failed or is done.
// One that runs with the same configuration is left alone.
func (s *supervisor) start(r *http.Request) (any, error) {
	var spec Spec
	if err := json.NewDecoder(io.LimitReader(r.Body, 16<<20)).Decode(&spec); err != nil {
		return nil, err
	}
	if len(spec.Argv) == 0 || spec.Name == "" || filepath.Base(spec.Name) != spec.Name {
		return nil, errors.New("not a service")
	}
	for {
		s.mu.Lock()
		old := s.units[spec.Name]
		if old != nil {
			status := old.Status()
			running := status.State == Starting || status.State == Ready
			if running && status.Config == spec.Config && status.Build == spec.Build {
				s.mu.Unlock()
				return old.settled(r.Context()), nil
			}
			if running {
				s.mu.Unlock()
				old.stop()
				<-old.gone
				continue
			}
		}
		log, err := openLog(LogPath(s.logs, spec.Name))
		if err != nil {
			s.mu.Unlock()
			return nil, err
		}
		u := newUnit(spec, log)
		ctx, stop := context.WithCancel(s.ctx)
		u.stop = stop
		s.units[spec.Name] = u
		s.mu.Unlock()
		go u.run(ctx)
		return u.settled(r.Context()), nil
	}
}

// stop stops services, those that need others first; all of them when names is
// empty. Stopping ends what would be started again, too.
func (s *supervisor) stop(ctx context.Context, names []string) {
	s.mu.Lock()
	stopping := map[string]*unit{}
	for name, u := range s.units {
		if len(names) == 0 || slices.Contains(names, name) || slices.Contains(names, u.spec.Service) {
			stopping[name] = u
		}
	}
	for again := true; again; { // and whatever needs them
		again = false
		for name, u := range s.units {
			needs := slices.ContainsFunc(u.spec.Needs, func(n string) bool { return stopping[n] != nil })
			if stopping[name] == nil && needs {
				stopping[name] = u
				again = true
			}
		}
	}
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
