package setup

import (
	"context"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/service"
)

// Afar is where a bay's services run that do not run here; nil for a bay on this machine.
func (s *Sight) Afar() (*cluster.Record, error) { return cluster.RecordOf(s.State.Bay) }

// here leaves of a graph what is done on this machine where the bay's services are in a
// cluster: steps of the checkout. The services among it must run.
func (s *Setup) here(ctx context.Context, g Graph) error {
	at, err := s.Afar()
	if err != nil || at == nil {
		return err
	}
	running, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	for node := range g {
		kind, name, _ := strings.Cut(node, ".")
		x, _ := s.State.Declaration.Step(name)
		switch {
		case kind == "service" && !slices.ContainsFunc(running, func(st service.Status) bool { return st.Service == name && st.Running() }):
			return fault.New(fault.ErrNotReady, "service %s of bay %s does not run, and it is in a cluster", name, s.State.Bay.Name).
				Advise("Start it there: trammel --bay %s start", shell.Typed(s.State.Bay.Name))
		case kind == "service", kind == "step" && x.Per == "bay":
			delete(g, node)
		}
	}
	return nil
}

// Order is what services and the bay's own steps need, for those that are named or else for all
// that start by themselves.
func (s *Setup) Order(names []string) (Graph, error) {
	var wanted []string
	ran := service.Wanted(s.State.Bay)
	for _, x := range s.State.Declaration.Services {
		if slices.Contains(names, x.Name) || len(names) == 0 && (x.Auto || slices.Contains(ran, x.Name)) {
			wanted = append(wanted, "service."+x.Name)
		}
	}
	for _, name := range names {
		if _, ok := s.State.Declaration.Service(name); !ok {
			return nil, fault.New(fault.ErrUsage, "no service is named %q", name)
		}
	}
	g := s.closure(wanted)
	for node := range g { // the steps of a folder are done in each container
		if name, ok := strings.CutPrefix(node, "step."); ok {
			if x, _ := s.State.Declaration.Step(name); x.Per != "bay" {
				delete(g, node)
			}
		}
	}
	return g, nil
}

// Secrets are the files of the values that the bay makes up, by their names, with what is in them.
func (s *Setup) Secrets() (map[string]string, error) {
	out := map[string]string{}
	made, stated := environ.MadeUp(s.State.Declaration, s.State.Bay)
	for _, x := range made {
		file := strings.TrimPrefix(x.From, "file:")
		raw, err := disk.Read(file, disk.MostText)
		if err != nil {
			return nil, err
		}
		out[file[strings.LastIndexByte(file, '/')+1:]] = string(raw)
	}
	for file, value := range stated {
		out[file[strings.LastIndexByte(file, '/')+1:]] = value
	}
	return out, nil
}

// Adopt takes over values that the bay has made up elsewhere.
func (s *Setup) Adopt(values map[string]string) error {
	made, _ := environ.MadeUp(s.State.Declaration, s.State.Bay)
	for _, x := range made {
		file := strings.TrimPrefix(x.From, "file:")
		if value, ok := values[file[strings.LastIndexByte(file, '/')+1:]]; ok {
			if err := disk.Write(file, []byte(value), 0o600); err != nil {
				return err
			}
		}
	}
	return nil
}
