package cli

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/service"
)

// afarOf is the cluster in which a bay's services run, or are to run from now on; nil for a bay
// of this machine. What goes there for the first time is shown, and consent to it asked for.
func afarOf(ctx context.Context, c *cli.Command, s *ui.Screen, up *setup.Setup, running []service.Status) (*ship.Afar, error) {
	was, err := cluster.RecordOf(up.State.Bay)
	if err != nil {
		return nil, err
	}
	named := c.String("cluster")
	if was == nil && named == "" {
		for _, flag := range []string{"registry", "hand", "storage", "storage-class"} {
			if c.IsSet(flag) {
				return nil, fault.New(fault.ErrUsage, "--%s is for a bay in a cluster", flag).Advise("Say which: --cluster CONTEXT/NAMESPACE")
			}
		}
		return nil, nil
	}
	r := cluster.Record{Storage: "1Gi"}
	if was != nil {
		r = *was
	}
	if named != "" {
		if was == nil && slices.ContainsFunc(running, service.Status.Running) {
			return nil, fault.New(fault.ErrUsage, "services of bay %s run on this machine", up.State.Bay.Name).
				Advise("Have a bay of its own for the cluster: trammel --bay preview start --cluster %s", shell.Typed(named))
		}
		t := targetOf(named, up.State)
		if was != nil && (t.Context != was.Target.Context || t.Namespace != was.Target.Namespace) {
			return nil, fault.New(fault.ErrUsage, "bay %s is in %s/%s", up.State.Bay.Name, was.Target.Context, was.Target.Namespace).
				Advise("Another place is another bay: trammel --bay NAME start --cluster %s", shell.Typed(named))
		}
		if was == nil {
			r.Target = t
		}
	}
	for flag, to := range map[string]*string{"registry": &r.Registry, "hand": &r.Hand, "storage": &r.Storage, "storage-class": &r.Class} {
		if c.IsSet(flag) {
			if *to = c.String(flag); flag == "registry" || flag == "hand" {
				r.Handed = ""
			}
		}
	}
	if was == nil {
		if err := consentAfar(ctx, c, s, up, r); err != nil {
			return nil, err
		}
	}
	return ship.Reach(up.Sight, r)
}

// targetOf reads CONTEXT[/NAMESPACE]. Contexts may have slashes: what follows the last one is
// the namespace.
func targetOf(text string, p *checkout.State) cluster.Target {
	at := strings.LastIndexByte(text, '/')
	if at < 0 {
		return cluster.Target{Context: text, Namespace: cluster.Name(p.Declaration.Project, p.Bay.Name), Own: true}
	}
	return cluster.Target{Context: text[:at], Namespace: text[at+1:]}
}

// consentAfar asks whether what a bay consists of may go to a cluster.
func consentAfar(ctx context.Context, c *cli.Command, s *ui.Screen, up *setup.Setup, r cluster.Record) error {
	hidden := map[string]bool{}
	for _, v := range up.Plan.Environment.Variables {
		if environ.Marked(v.Value) {
			hidden[v.Name] = true
		}
	}
	for _, x := range up.State.Declaration.Services {
		for _, v := range x.Variables {
			if strings.Contains(v.Value, "@{secret.") {
				hidden[v.Name] = true
			}
		}
	}
	s.Say("To the cluster %s, namespace %s, go:", r.Target.Context, r.Target.Namespace)
	s.Say("  the project's files and its tools, as an image")
	if r.Registry != "" {
		s.Say("  which is pushed to %s", r.Registry)
	}
	if len(hidden) > 0 {
		s.Say("  the secrets in %s, as objects of kind Secret", strings.Join(slices.Sorted(maps.Keys(hidden)), ", "))
	}
	if c.Bool("approve") {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.ErrNotApproved, "nobody has approved that this goes to %s", r.Target.Context).Advise("Read it, and if it is right: the same command with --approve")
	}
	return ask(ctx, s)
}

// reachAfar is the cluster of a bay, for commands that stop or remove; nil for a bay of this machine.
func reachAfar(p *checkout.State) (*ship.Afar, error) {
	at, err := cluster.RecordOf(p.Bay)
	if at == nil || err != nil {
		return nil, err
	}
	return ship.Reach(&setup.Sight{State: p}, *at)
}
