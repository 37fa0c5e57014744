package setup

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"trammel.example/trammel/internal/core/base/event"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/mask"
	"trammel.example/trammel/internal/core/kernel/proctree"
	"trammel.example/trammel/internal/core/running/service"
	"trammel.example/trammel/internal/core/written/declare"
)

// dataOf finds a service whose card says how its data is saved or loaded.
func (s *Setup) dataOf(name, how string) (declare.Service, error) {
	x, ok := s.State.Declaration.Service(name)
	if !ok {
		return x, fault.New(fault.Use, "no service is named %q", name).
			Advise("%s", fault.DidYouMean(name, declare.Names(s.State.Declaration.Services)))
	}
	if x.Card["data."+how] == "" {
		var can []string
		for _, y := range s.State.Declaration.Services {
			if y.Card["data."+how] != "" {
				can = append(can, y.Name)
			}
		}
		e := fault.New(fault.Use, "nobody says how to %s the data of service %s", how, name)
		if len(can) > 0 {
			return x, e.Advise("It can be done for: %s.", strings.Join(can, ", "))
		}
		return x, e.Advise("It is the card of a tool that says so, such as that of postgresql: tool = \"postgresql\"")
	}
	if x.Copies != 1 {
		return x, fault.New(fault.Use, "service %s has %d copies, and their data is not one", name, x.Copies)
	}
	return x, nil
}

// Save writes a dump of a service's data to a file. A service that does not run is
// started for it.
func (s *Setup) Save(ctx context.Context, name string, to *os.File) error {
	x, err := s.dataOf(name, "save")
	if err != nil {
		return err
	}
	return s.with(ctx, x, func() error { return s.exchange(ctx, x, "save", nil, to) })
}

// Load reads a dump into a service. Where its card says that the service must not run
// meanwhile, it and what needs it are stopped and started again.
func (s *Setup) Load(ctx context.Context, name string, from *os.File) error {
	x, err := s.dataOf(name, "load")
	if err != nil {
		return err
	}
	load := func() error { return s.exchange(ctx, x, "load", from, nil) }
	if x.Card["data.stopped"] != "yes" {
		return s.with(ctx, x, load)
	}
	before, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	if err := s.first(ctx, x); err != nil {
		return err
	}
	after, err := s.Services.Stop(ctx, []string{name})
	if err != nil {
		return err
	}
	if err := load(); err != nil {
		return err
	}
	var again []string // what ran and was stopped for this
	for _, st := range before {
		now := slices.IndexFunc(after, func(y service.Status) bool { return y.Name == st.Name })
		if st.Running() && (now < 0 || !after[now].Running()) && !slices.Contains(again, "service."+st.Service) {
			again = append(again, "service."+st.Service)
		}
	}
	if len(again) == 0 {
		return nil
	}
	return s.Bring(ctx, again)
}

// with makes sure that a service runs while f does.
func (s *Setup) with(ctx context.Context, x declare.Service, f func() error) error {
	before, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	if err := s.Bring(ctx, []string{"service." + x.Name}); err != nil {
		return err
	}
	err = f()
	var extra []string
	for node := range s.closure([]string{"service." + x.Name}) {
		if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
			extra = append(extra, name)
		}
	}
	if len(extra) > 0 {
		if _, stopErr := s.Services.Stop(context.WithoutCancel(ctx), extra); err == nil {
			err = stopErr
		}
	}
	return err
}

// exchange runs the card's script with a dump at its input or output.
func (s *Setup) exchange(ctx context.Context, x declare.Service, how string, from, to *os.File) error {
	dir := s.State.Dir()
	command, env, err := s.command(declare.Run{Script: x.Card["data."+how]}, s.Plan.Lookup(x.Name, 1))
	if err != nil {
		return err
	}
	if to == nil {
		if to, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0); err != nil {
			return err
		}
		defer to.Close()
	}
	done := event.Task(ctx, how+" data of "+x.Name)
	var said strings.Builder
	spec := proctree.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: dir, Stdin: from, Stdout: to}
	exit, err := proctree.Read(ctx, spec, proctree.Reading{Remarks: func(r io.Reader) {
		_, _ = io.Copy(&said, io.LimitReader(mask.Reader(r, s.Ready.Masks()), 64<<10))
	}})
	if err == nil && !exit.OK() {
		text := strings.TrimSpace(said.String())
		lines := strings.Split(text, "\n")
		err = fault.New(fault.Failed, "the data of service %s cannot be %s: %s", x.Name, map[string]string{"save": "saved", "load": "loaded"}[how], exit).
			Advise("| %s", strings.Join(lines[max(0, len(lines)-8):], "\n| "))
	}
	done("", err)
	if err == nil && said.Len() > 0 {
		event.Say(ctx, fmt.Sprintf("%s says: %s", x.Name, strings.TrimSpace(said.String())))
	}
	return err
}
