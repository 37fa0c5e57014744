package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"time"

	"trammel.example/trammel/internal/core/proctree"
)

// pause between two probes: short at first, when most services get ready, then
// longer, so that a slow one is not kept busy answering.
func pause(p Probe, since time.Duration) time.Duration {
	if p.Every > 0 {
		return p.Every
	}
	if len(p.Command) > 0 {
		return min(max(50*time.Millisecond, since/10), time.Second)
	}
	return min(max(2*time.Millisecond, since/50), 100*time.Millisecond)
}

// await probes until the service is ready. The error is the last probe's when the
// time is up or the context ends. probe is made before the service starts, so that
// it sees the first line of the log.
func await(ctx context.Context, s Spec, probe func(context.Context) error, log *logWriter) error {
	ctx, cancel := context.WithTimeout(ctx, s.Ready.Within)
	defer cancel()
	defer log.setWatch(nil)
	start := time.Now()
	for {
		err := probe(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause(s.Ready, time.Since(start))):
		}
	}
}

// prober makes the probe of a spec.
func (s Spec) prober(log *logWriter) func(context.Context) error {
	p := s.Ready
	switch {
	case p.TCP > 0:
		return func(ctx context.Context) error { return accepts(ctx, p.TCP) }
	case p.HTTP != "":
		return func(ctx context.Context) error { return answers(ctx, p.HTTP, p.Status) }
	case len(p.Command) > 0:
		return s.commandProbe
	case p.Log != "":
		re := regexp.MustCompile(p.Log) // checked when the declaration was read
		seen := make(chan struct{}, 1)
		log.setWatch(func(line string) {
			if re.MatchString(line) {
				select {
				case seen <- struct{}{}:
				default:
				}
			}
		})
		return func(ctx context.Context) error {
			select {
			case <-seen:
				return nil
			case <-ctx.Done():
			case <-time.After(20 * time.Millisecond):
			}
			return fmt.Errorf("no line of its log matches %q", p.Log)
		}
	}
	return func(ctx context.Context) error {
		for _, n := range s.Ports {
			if err := accepts(ctx, n); err != nil {
				return err
			}
		}
		return nil
	}
}

func accepts(ctx context.Context, port int) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp4", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		return fmt.Errorf("nothing listens on port %d", port)
	}
	return c.Close()
}

// probeClient makes a new connection for each probe and follows no redirect: a
// redirect is an answer.
var probeClient = &http.Client{
	Transport:     &http.Transport{DisableKeepAlives: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Timeout:       5 * time.Second,
}

func answers(ctx context.Context, url string, status int) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	resp, err := probeClient.Do(r)
	if err != nil {
		return fmt.Errorf("%s does not answer", url)
	}
	resp.Body.Close()
	if status == resp.StatusCode || status == 0 && resp.StatusCode >= 200 && resp.StatusCode < 400 {
		return nil
	}
	return fmt.Errorf("%s answers %d", url, resp.StatusCode)
}

func (s Spec) commandProbe(ctx context.Context) error {
	null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer null.Close()
	t, err := proctree.Start(proctree.Spec{Path: s.Ready.Path, Argv: s.Ready.Command, Env: s.Env, Dir: s.Dir, Stdout: null, Stderr: null})
	if err != nil {
		return err
	}
	select {
	case <-t.Done():
	case <-ctx.Done():
		t.Kill()
		<-t.Done()
		return errors.New("the probe did not end in time")
	}
	if e := t.Wait(); !e.OK() {
		return fmt.Errorf("the probe ended with %s", e)
	}
	return nil
}
