package supervise

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
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
		if c == nil && s.serves(key) && ports[key] != 0 && !slices.Contains(moving, key) {
			answer.Ports[key] = ports[key] // its own process has it, and no stranger
			continue
		}
		if c == nil {
			if c, err = take(&taker, s.bay, ports, key, o, left); err != nil {
				return nil, err
			}
		}
		s.claims[key], ports[key], answer.Ports[key] = c, c.Number, c.Number
	}
	for _, key := range keys {
		text := s.telling(ports, key, before[key], o.Wanted[key], slices.Contains(o.UDP, key))
		if was := s.said[key]; text != "" && text != was {
			answer.Told = append(answer.Told, text)
		}
		s.said[key] = text // once is enough
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
		c, err := takeOf(taker, number, slices.Contains(o.UDP, key))
		// What was let go just now may take the kernel an instant: its last connections, the end of a process.
		for try := 0; left[number] && errors.Is(err, bay.ErrTaken) && try < 100; try++ {
			time.Sleep(10 * time.Millisecond)
			c, err = takeOf(taker, number, slices.Contains(o.UDP, key))
		}
		if err == nil || !errors.Is(err, bay.ErrTaken) && !errors.Is(err, bay.ErrRights) {
			return c, err
		}
	}
	for range 20 { // somebody may take the next one between choosing and claiming
		c, err := takeOf(taker, b.Choose(ports, key, 0), slices.Contains(o.UDP, key))
		if err == nil || !errors.Is(err, bay.ErrTaken) {
			return c, err
		}
	}
	return nil, fmt.Errorf("no number can be had for %s", bay.PortName(key))
}

// telling says why a port has the number that it has, where that is not the declared one or
// where it had another before.
func (s *supervisor) telling(ports bay.Ports, key string, before, wanted int, udp bool) string {
	name, now := bay.PortName(key), ports[key]
	switch {
	case before != 0 && before != now && now == wanted:
		return fmt.Sprintf("%s has %d again, as declared, and not %d", name, now, before)
	case before != 0 && before != now:
		return fmt.Sprintf("%s; %s has %d instead", s.why(ports, before, udp), name, now)
	case now == wanted:
		return ""
	}
	if why := s.why(ports, wanted, udp); why != "" {
		return fmt.Sprintf("%s; %s has %d instead", why, name, now)
	}
	return fmt.Sprintf("%s has %d, as so far in this bay, and not %d as declared; to go back to that: trammel start --wanted-ports", name, now, wanted)
}

// why says why a port number cannot be had; "" when it could be had now.
func (s *supervisor) why(ports bay.Ports, number int, udp bool) string {
	for key, n := range ports {
		if n == number {
			return fmt.Sprintf("port %d is taken by %s", number, bay.PortName(key))
		}
	}
	table, err := listen.Sockets()
	if udp && err == nil {
		table, err = listen.Datagrams()
	}
	if err == nil {
		if at := (door{number, udp}).in(table); len(at) > 0 {
			return fmt.Sprintf("port %d is taken by %s", number, listen.HolderOf(at[0]))
		}
	}
	c, err := takeOf(new(bay.Taker), number, udp)
	switch {
	case errors.Is(err, bay.ErrRights):
		return fmt.Sprintf("port %d needs rights that you do not have: ordinary users get numbers from %d on here", number, bay.LeastPort())
	case err != nil && number > 65535:
		return fmt.Sprintf("there is no port %d: the last is 65535", number)
	case err != nil:
		if who := s.bay.Claimer(number); who != "" {
			return fmt.Sprintf("port %d is held by %s", number, who)
		}
		return fmt.Sprintf("port %d is held by a bay of another user, or by a program that does not listen on it", number)
	}
	c.Release()
	return ""
}

// owns tells whether a port is a unit's, by its key.
func (u *unit) owns(key string) bool {
	who, _, _ := strings.Cut(key, "/")
	return who == u.spec.Name || who == u.spec.Name+".1" && u.spec.Service == u.spec.Name
}

// serves tells whether the unit that has a port runs; s.mu is held.
func (s *supervisor) serves(key string) bool {
	for _, u := range s.units {
		if u.owns(key) && u.Status().Running() {
			return true
		}
	}
	return false
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

// release lets go of the ports of the named units, where these do not run, but for those in keep; s.mu is held. Ports that
// were taken for what is about to start stay.
func (s *supervisor) release(names, keep []string) {
	for key, c := range s.claims {
		goes := !slices.Contains(keep, key)
		owned := false
		for name, u := range s.units {
			if u.owns(key) {
				owned = true
				goes = goes && slices.Contains(names, name) && !u.Status().Running()
			}
		}
		if goes && owned {
			c.Release()
			delete(s.claims, key)
		}
	}
}

// hold takes the ports of a unit that is about to start, where they were let go meanwhile: by a stop that came between, or
// when another copy went. That somebody else was faster is seen when it listens; s.mu is held.
func (s *supervisor) hold(spec service.Spec) {
	copy := 1
	if text, ok := service.CopyOf(spec.Name, spec.Service); ok {
		copy, _ = strconv.Atoi(text)
	}
	var taker bay.Taker
	for name, number := range spec.Reached() {
		key := bay.PortKey(spec.Service, max(copy, 1), name)
		if s.claims[key] == nil {
			if c, err := takeOf(&taker, number, slices.Contains(spec.UDP, name)); err == nil {
				s.claims[key] = c
			}
		}
	}
}

// takeOf claims a number for connections or for datagrams.
func takeOf(t *bay.Taker, number int, udp bool) (*bay.Claim, error) {
	if udp {
		return bay.TakeUDP(number)
	}
	return t.Take(number)
}
