package checkout

import (
	"cmp"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// completed gives services that run a tool as its card says what the lock has of the
// card: command, ports, readiness, how to stop. What the declaration says itself
// stands before it.
func completed(d *declare.Declaration, l *lock.Lock) (*declare.Declaration, error) {
	if !slices.ContainsFunc(d.Services, func(s declare.Service) bool { return s.Tool != "" }) {
		return d, nil
	}
	services := slices.Clone(d.Services)
	routines := slices.Clone(d.Routines)
	for i, s := range services {
		if s.Tool == "" {
			continue
		}
		def := card.Service(l.Items[s.Tool].Service)
		if len(def) == 0 {
			return nil, fault.New(fault.ErrUsage, "%s: service %s runs %s, whose card does not say how it runs as a service", s.Place, s.Name, s.Tool).
				Advise("Write run for the service.")
		}
		if err := complete(&s, def); err != nil {
			return nil, fault.New(fault.ErrUsage, "%s: service %s: %v", s.Place, s.Name, err)
		}
		services[i] = s
		// A card brings a routine along; one of that name in the declaration stands before it.
		name := s.Name + "-console"
		if _, own := d.Routine(name); s.Card["console"] != "" && !own {
			routines = append(routines, declare.Routine{
				Name: name, About: s.Tool + "'s own client on " + s.Name, Of: s.Name,
				Run: declare.Run{Script: s.Card["console"]}, Needs: []string{"service." + s.Name}, Place: s.Place,
			})
		}
	}
	return d.Completed(services, routines), nil
}

// freeName tells whether a name is one as the settings of servers have.
func freeName(name string) bool {
	rest := strings.TrimLeft(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
	return rest != name && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-") == ""
}

func complete(s *declare.Service, def card.Service) error {
	s.Card = def
	settings := def.Group("setting")
	free := map[string]string{} // settings that are the server's own and no word of the card
	for name, value := range s.Settings {
		if _, ok := settings[name]; ok {
			continue
		}
		if def["any"] == "" || !freeName(name) || fault.Nearest(name, lock.Sorted(settings)) != "" { // a slip
			return errors.New("it has no setting " + strconv.Quote(name) + fault.DidYouMeanAfter(name, lock.Sorted(settings)))
		}
		free[name] = value
	}
	if s.Run.Empty() {
		run, ok := def.Command(free, s.Options)
		if !ok {
			return errors.New("the card of " + s.Tool + " takes no options; write run for the service")
		}
		s.Run = run
	} else if len(free)+len(s.Options) > 0 {
		return errors.New("options, and settings that the card of " + s.Tool + " does not name, go to the card's own run, and the service has one itself")
	}
	if len(s.Ports) == 0 {
		ports := def.Group("port")
		for _, name := range lock.Sorted(ports) {
			n, err := strconv.Atoi(ports[name])
			if err != nil {
				return err
			}
			s.Ports = append(s.Ports, declare.Port{Name: name, Wanted: n})
		}
	}
	if !s.StatedReady {
		s.Ready.Command = card.RunOf(def["ready.command"])
		s.Ready.Log = def["ready.log"]
		if within, err := time.ParseDuration(def["ready.within"]); err == nil {
			s.Ready.Within = within
		}
	}
	if !s.StatedStop {
		s.Stop.Signal = cmp.Or(def["stop.signal"], s.Stop.Signal)
		if within, err := time.ParseDuration(def["stop.within"]); err == nil {
			s.Stop.Within = within
		}
	}
	return nil
}
