package supervise

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/running/service"
)

// mostTold is how many numbers are told one by one.
const mostTold = 6

// claim takes the ports of services for the bay's life and records the numbers.
func (s *supervisor) claim(r *http.Request) (any, error) {
	var o service.Order
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&o); err != nil {
		return nil, err
	}
	if left := s.earlier.left(); len(left) > 0 && !o.Patient {
		return service.Claimed{Earlier: left}, nil
	}
	if err := s.earlier.wait(r.Context()); err != nil {
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
	keys := make([]string, 0, len(o.Wanted))
	for key := range o.Wanted {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	before, moving := map[string]int{}, []string{}
	for _, key := range keys {
		before[key] = ports[key]
		if slices.Contains(o.Lost, key) || o.Declared && ports[key] != 0 && ports[key] != o.Wanted[key] {
			moving = append(moving, key)
		}
	}
	s.mu.Lock()
	s.dismissed = false
	s.mu.Unlock()
	// All that move let go first, so that two may change places.
	s.halt(s.holders(moving))
	s.mu.Lock()
	defer s.mu.Unlock()
	left := map[int]bool{} // numbers that this bay itself had a moment ago
	for _, key := range moving {
		left[ports[key]] = true
		if held := s.claims[key]; held != nil {
			held.Release()
			delete(s.claims, key)
		}
	}
	answer := service.Claimed{Ports: bay.Ports{}}
	var taker bay.Taker
	for _, key := range keys {
		c := s.claims[key]
		if c == nil {
			if c, err = take(&taker, s.bay, ports, key, o, left); err != nil {
				return nil, err
			}
		}
		s.claims[key], ports[key], answer.Ports[key] = c, c.Number, c.Number
	}
	for _, key := range keys {
		if text := telling(ports, key, before[key], o.Wanted[key]); text != "" {
			answer.Told = append(answer.Told, text)
		}
	}
	if n := len(answer.Told); n > mostTold {
		answer.Told = append(answer.Told[:mostTold-1], fmt.Sprintf("and %d more ports have other numbers than declared; trammel show lists them all", n-mostTold+1))
	}
	return answer, s.bay.SavePorts(ports)
}

// take claims a number for a key: the recorded one, or the declared one where nothing is
// recorded or the declared ones are asked for; else another. left are numbers that the bay
// itself gave up just now.
func take(taker *bay.Taker, b bay.Bay, ports bay.Ports, key string, o service.Order, left map[int]bool) (*bay.Claim, error) {
	tries := []int{ports[key]}
	if ports[key] == 0 || o.Declared {
		tries = append([]int{o.Wanted[key]}, tries...)
	}
	lost := slices.Contains(o.Lost, key)
	for _, number := range tries {
		if number == 0 || lost && number == ports[key] {
			continue
		}
		c, err := taker.Take(number)
		// What was let go just now may take the kernel an instant: its last connections, the end of a process.
		for try := 0; left[number] && errors.Is(err, bay.ErrTaken) && try < 100; try++ {
			time.Sleep(10 * time.Millisecond)
			c, err = taker.Take(number)
		}
		if err == nil || !errors.Is(err, bay.ErrTaken) {
			return c, err
		}
	}
	for range 20 { // somebody may take the next one between choosing and claiming
		c, err := taker.Take(b.Choose(ports, key, 0))
		if err == nil || !errors.Is(err, bay.ErrTaken) {
			return c, err
		}
	}
	return nil, fmt.Errorf("no number can be had for %s", bay.PortName(key))
}

// telling says why a port has the number that it has, where that is not the declared one or
// where it had another before.
func telling(ports bay.Ports, key string, before, wanted int) string {
	name, now := bay.PortName(key), ports[key]
	switch {
	case before != 0 && before != now && now == wanted:
		return fmt.Sprintf("%s has %d again, as declared, and not %d", name, now, before)
	case before != 0 && before != now:
		return fmt.Sprintf("port %d is taken by %s; %s has %d instead", before, taker(ports, before), name, now)
	case now == wanted:
		return ""
	}
	if who := taker(ports, wanted); who != "" {
		return fmt.Sprintf("port %d is taken by %s; %s has %d instead", wanted, who, name, now)
	}
	return fmt.Sprintf("%s has %d, as so far in this bay, and not %d as declared; to go back to that: trammel start --wanted-ports", name, now, wanted)
}

// taker says who has a port number; "" when it could be had now.
func taker(ports bay.Ports, number int) string {
	for key, n := range ports {
		if n == number {
			return bay.PortName(key)
		}
	}
	table, err := listen.Sockets()
	if err == nil {
		if at := listen.At(table, number); len(at) > 0 {
			return listen.HolderOf(at[0]).String()
		}
	}
	c, err := bay.Take(number)
	if err != nil {
		return "another bay or program"
	}
	c.Release()
	return ""
}

// owns tells whether a port is a unit's, by its key.
func (u *unit) owns(key string) bool {
	who, _, _ := strings.Cut(key, "/")
	return who == u.spec.Name || who == u.spec.Name+".1" && u.spec.Service == u.spec.Name
}

// holders are the names of units that run and have one of the ports.
func (s *supervisor) holders(keys []string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for name, u := range s.units {
		if u.Status().Running() && slices.ContainsFunc(keys, u.owns) {
			out = append(out, name)
		}
	}
	return out
}

// release lets go of the ports of services of which nothing runs, but for those in keep;
// s.mu is held.
func (s *supervisor) release(keep []string) {
	for key, c := range s.claims {
		used := slices.Contains(keep, key)
		for _, u := range s.units {
			used = used || u.Status().State != service.Stopped && u.owns(key)
		}
		if !used {
			c.Release()
			delete(s.claims, key)
		}
	}
}
