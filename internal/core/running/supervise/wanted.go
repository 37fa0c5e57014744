package supervise

import (
	"encoding/json"
	"maps"
	"slices"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/kernel/listen"
	"app.example/trammel/internal/core/running/service"
)

// want says that a service is to run, or not any more ("": none is); s.mu is held, and noteWanted
// is to follow.
func (s *supervisor) want(name string, is bool) {
	if s.wanted == nil {
		s.wanted = map[string]bool{}
		for _, n := range service.Wanted(s.bay) {
			s.wanted[n] = true
		}
	}
	if s.wanted[name] == is && name != "" {
		return
	}
	if name == "" {
		s.wanted = map[string]bool{}
	} else if is {
		s.wanted[name] = true
	} else {
		delete(s.wanted, name)
	}
	s.unnoted = true
}

// noteWanted notes what is to run, before any of it does. The note outlives this process, so that the
// next start after a crash or a reboot brings back what ran. Many that start at once wait for one note.
func (s *supervisor) noteWanted() {
	s.noting.Lock()
	defer s.noting.Unlock()
	s.mu.Lock()
	due, names := s.unnoted, slices.Sorted(maps.Keys(s.wanted))
	s.unnoted = false
	s.mu.Unlock()
	if !due {
		return
	}
	raw, err := json.Marshal(names)
	if err == nil {
		err = disk.WriteCache(s.bay.WantedFile(), raw) // whole or not at all; not worth waiting for the disk
	}
	if err != nil {
		s.log.Error("what is wanted cannot be noted", "error", err)
		s.mu.Lock()
		s.unnoted = true // the next one tries again
		s.mu.Unlock()
	}
}

// sample is what a service had used at a time.
type sample struct {
	at    time.Time
	ticks int64
}

// notice fills in what is only known by looking at processes: memory, CPU time, and
// ports that nobody declared.
func (s *supervisor) notice(list []service.Status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.last == nil {
		s.last = map[string]sample{}
	}
	for i := range list {
		st := &list[i]
		u := s.units[st.Name]
		if st.Pid == 0 || u == nil || u.present() == nil {
			continue
		}
		tree := u.present().tree
		st.Pid = tree.Program() // it may have started another meanwhile
		pids := listen.Below(tree.Pid)
		use := listen.UseOf(pids)
		now := sample{time.Now(), use.Ticks}
		if before, ok := s.last[st.Name]; ok && now.ticks >= before.ticks {
			if d := now.at.Sub(before.at).Seconds(); d > 0.05 {
				st.CPU = float64(now.ticks-before.ticks) / 100 / d
			}
		}
		s.last[st.Name] = now
		st.Memory = use.Memory
		table, err := u.g.sockets()
		if err != nil {
			continue
		}
		held := listen.Held(pids)
		for _, socket := range table {
			command, own := held[socket.Inode]
			declared := false
			for _, port := range u.spec.Ports {
				declared = declared || port == int(socket.At.Port())
			}
			if own && !declared && !u.spec.Keeper {
				st.More = append(st.More, service.Listener{At: socket.At.String(), Command: command, Open: u.g.net == nil && socket.Open()})
			}
		}
	}
}
