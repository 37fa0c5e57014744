package supervise

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/mask"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
)

// pause between two probes: short at first, when most services get ready, then
// longer, so that a slow one is not kept busy answering.
func pause(p service.Probe, since time.Duration) time.Duration {
	if p.Every > 0 {
		return p.Every
	}
	if len(p.Command) > 0 {
		return min(max(20*time.Millisecond, since/20), time.Second)
	}
	return min(max(2*time.Millisecond, since/50), 100*time.Millisecond)
}

// listenEvery is how long it is to the next look at the table of ports while something starts: it is
// one system call, so that it can be often, and most programs listen soon or take long.
func listenEvery(since time.Duration) time.Duration {
	return min(max(time.Millisecond, since/50), 3*time.Millisecond)
}

// await waits until the service is ready. First its ports must be listened on, which
// the kernel tells; then the declared probe must succeed, since listening is not yet
// ready. The error is the last probe's when the time is up or the context ends. probe
// is made before the service starts, so that it sees the first line of the log.
func await(ctx context.Context, s service.Spec, probe func(context.Context) error, h *holding, log *logbook.Writer) error {
	ctx, cancel := h.within(ctx, s.Ready.Within)
	defer cancel()
	defer log.Watch(nil)
	start := time.Now()
	for _, port := range ports(s) {
		if err := h.opened(ctx, port, start); err != nil {
			return err
		}
	}
	if plain(s) {
		// Nothing tells when it can be used. One that ends at once was never ready.
		if !h.lasts(ctx, min(grace, s.Ready.Within)) && ctx.Err() != nil {
			return errors.New("it has only just begun")
		}
		return nil
	}
	for {
		err := probe(ctx)
		if err == nil {
			err = h.strangers() // what answered, or says that it is ready, may be another's
		}
		var other *stranger
		if err == nil || errors.As(err, &other) && time.Since(start) > patience {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause(s.Ready, time.Since(start))):
		}
	}
}

// grace is how long a service without ports and without a probe must run until it counts
// as ready.
const grace = 200 * time.Millisecond

// longest is how many times as long as it may a service that works all the time may take until it
// is ready: what compiles or installs is not dead.
const longest = 5

// within is a context that ends when a service has had its time. Time in which its processes use
// a good part of a core does not count, or half of what each gets on a machine that is busy.
func (h *holding) within(ctx context.Context, while time.Duration) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	begun := time.Now()
	go func() {
		defer cancel()
		before := int64(0) // the tree has just begun
		for wait := while; ; {
			at := time.Now()
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
			now := listen.UseOf(listen.Below(h.tree.Pid)).Ticks
			used := float64(now-before) / 100
			before = now
			passed := time.Since(at).Seconds()
			if used < passed*min(0.25, listen.Share()/2) || time.Since(begun) > longest*while {
				return
			}
			wait = min(while, 2*time.Second)
		}
	}()
	return ctx, cancel
}

// lasts waits for a while to see whether a service stays: longer, but not without end, while the
// machine is so busy that it has not had its turn. It tells whether it is there still.
func (h *holding) lasts(ctx context.Context, while time.Duration) bool {
	for range 25 {
		select {
		case <-h.tree.Done():
			return false
		case <-ctx.Done():
			return false
		case <-time.After(while):
		}
		if !h.tree.Starved() {
			break
		}
	}
	return true
}

// plain tells whether nothing says when the service can be used.
func plain(s service.Spec) bool {
	p := s.Ready
	return len(s.Ports) == 0 && p.TCP == 0 && p.HTTP == "" && p.Log == "" && p.File == "" && !p.Notify && len(p.Command) == 0
}

// door is a port of a service: its number, and whether it takes datagrams.
type door struct {
	number int
	udp    bool
}

func (d door) String() string {
	if d.udp {
		return strconv.Itoa(d.number) + "/udp"
	}
	return strconv.Itoa(d.number)
}

// ports are those that must be listened on before a probe makes sense.
func ports(s service.Spec) []door {
	p := s.Ready
	switch {
	case p.Log != "" || p.File != "" || p.Notify:
		return nil // it says itself when it is ready
	case p.TCP > 0:
		return []door{{number: p.TCP}}
	case p.HTTP != "":
		if port, err := strconv.Atoi(portOf(p.HTTP)); err == nil {
			return []door{{number: port}}
		}
	}
	return doors(s)
}

// doors are all ports of a service, in the order of their names.
func doors(s service.Spec) (out []door) {
	for _, name := range slices.Sorted(maps.Keys(s.Ports)) {
		out = append(out, door{s.Ports[name], slices.Contains(s.UDP, name)})
	}
	return out
}

func portOf(url string) string {
	_, rest, _ := strings.Cut(url, "://")
	host, _, _ := strings.Cut(rest, "/")
	_, port, _ := net.SplitHostPort(host)
	return port
}

// prober makes the probe of a spec. started is when the present run of it began.
func prober(s service.Spec, g *ground, log *logbook.Writer, told <-chan struct{}, started time.Time) func(context.Context) error {
	p := s.Ready
	switch {
	case p.TCP > 0:
		return func(ctx context.Context) error { return g.accepts(ctx, p.TCP) }
	case p.HTTP != "":
		client := g.client()
		return func(ctx context.Context) error { return answers(ctx, client, p.HTTP, p.Status) }
	case len(p.Command) > 0:
		return func(ctx context.Context) error { return commandProbe(ctx, s, g) }
	case p.Log != "":
		re := regexp.MustCompile(p.Log) // checked when the declaration was read
		seen := make(chan struct{}, 1)
		log.Watch(func(line string) {
			if re.MatchString(line) {
				select {
				case seen <- struct{}{}:
				default:
				}
			}
		})
		return waits(seen, fmt.Errorf("no line of its log matches %q", p.Log))
	case p.Notify:
		return waits(told, errors.New("it has not sent READY=1 to NOTIFY_SOCKET"))
	case p.File != "":
		return func(context.Context) error {
			info, err := os.Stat(p.File)
			if err != nil {
				return fmt.Errorf("%s is not there", p.File)
			}
			// One from an earlier run says nothing; clocks of files are coarse.
			if info.ModTime().Before(started.Add(-50 * time.Millisecond)) {
				return fmt.Errorf("%s is from before the start", p.File)
			}
			return nil
		}
	}
	return func(ctx context.Context) error {
		for _, d := range doors(s) {
			if d.udp { // who holds it was looked at; whether it answers only its own clients can ask
				continue
			}
			if err := g.accepts(ctx, d.number); err != nil {
				return err
			}
		}
		return nil
	}
}

// waits is a probe that is woken, not repeated.
func waits(signal <-chan struct{}, not error) func(context.Context) error {
	return func(ctx context.Context) error {
		select {
		case <-signal:
			return nil
		case <-ctx.Done():
			return not
		}
	}
}

func answers(ctx context.Context, client *http.Client, url string, status int) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	resp, err := client.Do(r)
	if err != nil {
		return fmt.Errorf("%s does not answer", url)
	}
	resp.Body.Close()
	if status == resp.StatusCode || status == 0 && resp.StatusCode >= 200 && resp.StatusCode < 400 {
		return nil
	}
	return fmt.Errorf("%s answers %d", url, resp.StatusCode)
}

func commandProbe(ctx context.Context, s service.Spec, g *ground) error {
	var said bytes.Buffer
	e, err := process.Read(ctx, process.Spec{Path: s.Ready.Path, Argv: s.Ready.Command, Env: s.Env, Dir: s.Dir, On: g.on()}, process.Reading{Out: process.Text(&said, 16<<10)})
	switch {
	case ctx.Err() != nil:
		return errors.New("the probe did not end in time")
	case err != nil:
		return err
	case e.OK():
		return nil
	}
	text := strings.TrimSpace(mask.Text(said.String(), s.Mask))
	if last := strings.TrimSpace(text[strings.LastIndexByte(text, '\n')+1:]); last != "" {
		return fmt.Errorf("the probe ended with %s: %.200s", e, last)
	}
	return fmt.Errorf("the probe ended with %s", e)
}

// How a probe's answers after readiness are taken: so many in a row turn the state.
const (
	failsToFailing = 3
	oksToReady     = 2
)

// health turns single answers into a state that does not flap.
type health struct {
	failing    bool
	fails, oks int
}

// see takes one answer and tells whether the state turned.
func (h *health) see(ok bool) (turned bool) {
	if ok {
		h.fails, h.oks = 0, h.oks+1
		if h.failing && h.oks >= oksToReady {
			h.failing = false
			return true
		}
		return false
	}
	h.oks, h.fails = 0, h.fails+1
	if !h.failing && h.fails >= failsToFailing {
		h.failing = true
		return true
	}
	return false
}

// liveness is how often a service that is ready is probed again; 0 is never. Probes
// that only wait for a sign have nothing to repeat.
func liveness(s service.Spec) time.Duration {
	p := s.Ready
	switch {
	case p.Log != "" || p.Notify || p.File != "":
		if len(s.Ports) > 0 {
			return cmp.Or(p.Every, 5*time.Second) // whether somebody else has them
		}
		return 0
	case len(p.Command) > 0:
		return cmp.Or(p.Every, 30*time.Second)
	case p.HTTP != "":
		return cmp.Or(p.Every, 10*time.Second)
	case p.TCP > 0, len(s.Ports) > 0:
		return cmp.Or(p.Every, 5*time.Second)
	}
	return 0
}

// alive is one answer of a service that is ready. Ports are looked up in the kernel's
// table, which one reading serves for all services.
func alive(ctx context.Context, s service.Spec, h *holding, probe func(context.Context) error) error {
	if err := h.strangers(); err != nil {
		return err
	}
	if s.Ready.HTTP == "" && len(s.Ready.Command) == 0 {
		for _, port := range ports(s) {
			own, err := h.look(port)
			if errors.Is(err, listen.ErrNone) {
				if port.udp {
					continue
				}
				return h.g.accepts(ctx, port.number)
			}
			if err == nil && !own {
				return fmt.Errorf("nothing listens on port %s any more", port)
			}
		}
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return probe(ctx)
}
