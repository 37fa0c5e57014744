package checkout

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/written/card"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

// Complete gives services that run a tool as its card says what the lock has of the
// card: command, ports, readiness, how to stop. What the declaration says itself
// stands before it.
func (p *Project) Complete(l *lock.Lock) error {
	if !slices.ContainsFunc(p.Declaration.Services, func(s declare.Service) bool { return s.Tool != "" && s.Card == nil }) {
		return nil
	}
	services := slices.Clone(p.Declaration.Services)
	for i, s := range services {
		if s.Tool == "" || s.Card != nil {
			continue
		}
		def := card.Service(l.Items[s.Tool].Service)
		if len(def) == 0 {
			return fault.New(fault.Use, "%s: service %s runs %s, whose card does not say how it runs as a service", s.Place, s.Name, s.Tool).
				Advise("Write run for the service.")
		}
		if err := complete(&s, def); err != nil {
			return fault.New(fault.Use, "%s: service %s: %v", s.Place, s.Name, err)
		}
		services[i] = s
	}
	p.Declaration = p.Declaration.Completed(services)
	// A card brings a routine along; one of that name in the declaration stands before it.
	for _, s := range services {
		name := s.Name + "-console"
		if _, own := p.Declaration.Routine(name); s.Card["console"] != "" && !own {
			p.Declaration.Routines = append(slices.Clip(p.Declaration.Routines), declare.Routine{
				Name: name, About: s.Tool + "'s own client on " + s.Name, Of: s.Name,
				Run: declare.Run{Script: s.Card["console"]}, Needs: []string{"service." + s.Name}, Place: s.Place,
			})
		}
	}
	return nil
}

func complete(s *declare.Service, def card.Service) error {
	s.Card = def
	settings := def.Group("setting")
	for name := range s.Settings {
		if _, ok := settings[name]; !ok {
			return errors.New("it has no setting " + strconv.Quote(name) + fault.DidYouMeanAfter(name, lock.Sorted(settings)))
		}
	}
	if s.Run.Empty() {
		s.Run = declare.Run{Script: def["run"]}
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
		s.Ready.Command = declare.Run{Script: def["ready.command"]}
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

// keepSetting puts a stated value where the card's scripts read it, as they read one
// that was made up: never from an argument, which others could see.
func keepSetting(file, value string) error {
	if old, err := os.ReadFile(file); err == nil && string(old) == value || strings.Contains(value, "@{") {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return disk.Write(file, []byte(value), 0o600)
}

// madeUp are the secrets that a bay makes up for the settings of services. Each is
// written once, and stays.
func (p *Project) madeUp() ([]environ.Secret, error) {
	var out []environ.Secret
	for _, s := range p.Declaration.Services {
		for name, value := range card.Service(s.Card).Group("setting") {
			if value != card.Random {
				continue
			}
			file := environ.SettingFile(p.Bay, s.Name, name)
			if own, stated := s.Settings[name]; stated {
				if err := keepSetting(file, own); err != nil {
					return nil, err
				}
				continue
			}
			if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
				raw := make([]byte, 12)
				if _, err := rand.Read(raw); err != nil {
					return nil, err
				}
				if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
					return nil, err
				}
				if err := disk.Write(file, []byte(hex.EncodeToString(raw)), 0o600); err != nil {
					return nil, err
				}
			} else if err != nil {
				return nil, err
			}
			out = append(out, environ.Secret{Name: s.Name + "." + name, From: "file:" + file})
		}
	}
	slices.SortFunc(out, func(a, b environ.Secret) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}
