package setup

import (
	"context"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/running/render"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/step"
)

// Runner runs the steps of this checkout.
func (s *Setup) Runner() *step.Runner {
	return &step.Runner{Environment: s.Ready, Pinned: s.Given.Pinned, Look: s.Plan.Lookup("", 0), Dir: s.State.Dir(), Logs: s.State.Bay.Logs()}
}

// Render renders the files that are due, and says what it kept of a person's
// changes. It returns the paths.
func (s *Setup) Render(ctx context.Context) ([]string, error) {
	written, kept, err := render.Write(render.Of(s.Plan), s.Ready)
	for _, text := range kept {
		event.Say(ctx, text)
	}
	return written, err
}

// Choice says which steps to run: those that are due, or of those only some, and
// some though they are not due.
type Choice struct {
	Only  []string // empty: all
	None  bool
	Again []string
	Shell bool // those that run at each shell's start
}

func (c Choice) takes(st step.Status) bool {
	due := (st.Due || st.Step.When == step.AtEachFit) && !c.None && (len(c.Only) == 0 || slices.Contains(c.Only, st.Step.Name))
	return due || c.Shell && st.Step.When == step.AtEachShell || slices.Contains(c.Again, st.Step.Name)
}

// RunSteps runs steps, and starts and stops the services that they need and that
// did not run already. It returns what it ran.
func (s *Setup) RunSteps(ctx context.Context, c Choice) (ran []string, err error) {
	statuses, err := s.Steps()
	if err != nil {
		return nil, err
	}
	if err := step.Keep(statuses); err != nil {
		return nil, err
	}
	if !c.None {
		if err := s.askEvidence(ctx, statuses); err != nil {
			return nil, err
		}
	}
	var wanted []string
	for _, st := range statuses {
		if c.takes(st) {
			wanted = append(wanted, "step."+st.Step.Name)
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	again := slices.Clone(c.Again)
	for _, st := range statuses {
		if c.takes(st) && !st.Due {
			again = append(again, st.Step.Name)
		}
	}
	done, err := s.bring(ctx, order{nodes: wanted, steps: again})
	// What ran only for the steps goes again, also after a failure or Ctrl-C.
	if stopErr := s.stopExtra(ctx, wanted, before); err == nil {
		err = stopErr
	}
	for _, st := range statuses { // in the order of the declaration
		if slices.Contains(done.ran, st.Step.Name) {
			ran = append(ran, st.Step.Name)
		}
	}
	return ran, err
}

// askEvidence makes steps due whose evidence is not what is locked, and not what they
// themselves left when they were last done.
func (s *Setup) askEvidence(ctx context.Context, statuses []step.Status) error {
	if len(s.State.Lock.Evidence) == 0 {
		return nil
	}
	list, err := s.Evidence(ctx)
	if err != nil {
		return err
	}
	for i, st := range statuses {
		j := slices.IndexFunc(list, func(e Evidence) bool { return e.Step.Name == st.Step.Name })
		if st.Due || st.Step.When == step.AtFirst || j < 0 || list[j].Not != "" || list[j].Same() || slices.Equal(st.Mark.Evidence, list[j].Now) {
			continue
		}
		if err := s.Marks().Forget(st.Step); err != nil {
			return err
		}
		statuses[i].Due, statuses[i].Why = true, "its evidence is not what is locked"
	}
	return nil
}

// stopExtra stops the services of a graph that did not run before.
func (s *Setup) stopExtra(ctx context.Context, nodes []string, before []service.Status) error {
	var extra []string
	for node := range s.closure(nodes) {
		if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
			extra = append(extra, name)
		}
	}
	if len(extra) == 0 {
		return nil
	}
	_, err := s.Services.Stop(context.WithoutCancel(ctx), extra)
	return err
}
