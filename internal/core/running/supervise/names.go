package supervise

import (
	"context"
	"reflect"
	"slices"

	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
)

// publish says anew what this bay routes.
func (s *supervisor) publish() {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := gateway.Routes{Project: s.bay.Project, Label: s.label, Bay: s.bay.Name, Checkout: s.bay.Checkout, Records: s.bay.Records, Services: map[string][]gateway.Way{}}
	names := make([]string, 0, len(s.units))
	for name := range s.units {
		names = append(names, name)
	}
	slices.SortFunc(names, service.CompareNames)
	for _, name := range names {
		u := s.units[name]
		port, st := u.spec.Reached()[u.spec.Web], u.Status()
		if port == 0 || !st.Running() {
			continue
		}
		w := gateway.Way{Name: name, Port: port, State: st.State}
		if h := u.present(); h != nil && u.spec.Network == "" && st.State != service.Starting {
			w.Socket = h.socket(port)
		}
		r.Services[u.spec.Service] = append(r.Services[u.spec.Service], w)
	}
	if reflect.DeepEqual(r, s.published) {
		return
	}
	if err := gateway.Publish(s.bay, r); err != nil {
		s.log.Warn("names cannot be published", "error", err)
	}
	s.published = r
}

// say has what is routed be published anew, soon and once for many changes.
func (s *supervisor) say() {
	select {
	case s.unsaid <- struct{}{}:
	default:
	}
}

// publishing publishes what changed.
func (s *supervisor) publishing(ctx context.Context) {
	for {
		s.publish()
		select {
		case <-s.unsaid:
		case <-ctx.Done():
			return
		}
	}
}

// page is what the page is told of this bay.
func (s *supervisor) page() gateway.Told {
	return gateway.Told{
		Status: func() []service.Status {
			list := s.statuses()
			s.notice(list)
			return list
		},
		Reads: func() map[string][]string {
			s.mu.Lock()
			defer s.mu.Unlock()
			globs := map[string][]string{}
			for _, u := range s.units {
				if len(u.spec.Reads) > 0 && u.spec.WhenChanged != declare.Unmoved {
					globs[u.spec.Service] = u.spec.Reads
				}
			}
			return globs
		},
	}
}
