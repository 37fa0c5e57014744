package setup

import (
	"context"
	"slices"
	"strings"
	"time"

	"trammel.example/trammel/internal/core/base/event"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/running/script"
	"trammel.example/trammel/internal/core/running/step"
	"trammel.example/trammel/internal/core/written/declare"
)

// installTime is how long another installer may take for one item.
const installTime = 20 * time.Minute

// AddonResult is what was done to an add-on, and what its list says now.
type AddonResult struct {
	Name           string
	Added, Removed []string
	Picture        []string
}

// Addons brings all add-ons to what is locked, or to what is wanted where the lock
// has no picture of them yet. exact removes what is neither.
func (s *Setup) Addons(ctx context.Context, exact bool) ([]AddonResult, error) {
	if len(s.State.Declaration.Addons) == 0 {
		return nil, nil
	}
	unlock, err := s.alone(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	var out []AddonResult
	for _, a := range s.State.Declaration.Addons {
		r, err := s.addon(ctx, a, exact)
		if err != nil {
			return out, err
		}
		out = append(out, r)
	}
	return out, nil
}

func (s *Setup) addon(ctx context.Context, a declare.Addon, exact bool) (r AddonResult, err error) {
	r.Name = a.Name
	have, err := s.ListAddon(ctx, a)
	if err != nil {
		return r, err
	}
	wanted := a.Want
	if picture, locked := s.State.Lock.Pictures[a.Name]; locked {
		wanted = picture
	}
	var todo, extra []string
	for _, item := range wanted {
		if !listed(have, item) {
			todo = append(todo, item)
		}
	}
	for _, item := range have {
		if !slices.ContainsFunc(append(slices.Clone(wanted), a.Want...), func(w string) bool { return listed([]string{item}, w) }) {
			extra = append(extra, item)
		}
	}
	if len(todo) > 0 || exact && len(extra) > 0 {
		done := event.Task(ctx, "add-on "+a.Name)
		defer func() { done(strings.Join(append(slices.Clone(r.Added), r.Removed...), " "), err) }()
	}
	for _, item := range todo {
		if err := s.install(ctx, a, a.Add, item, "added"); err != nil {
			return r, err
		}
		r.Added = append(r.Added, item)
	}
	if exact && !a.Remove.Empty() {
		now := have
		if len(todo) > 0 { // an upgrade may have taken some of them along
			if now, err = s.ListAddon(ctx, a); err != nil {
				return r, err
			}
		}
		for _, item := range extra {
			if !slices.Contains(now, item) {
				continue
			}
			if err := s.install(ctx, a, a.Remove, item, "removed"); err != nil {
				return r, err
			}
			r.Removed = append(r.Removed, item)
		}
	}
	r.Picture = have
	if len(r.Added)+len(r.Removed) > 0 {
		if r.Picture, err = s.ListAddon(ctx, a); err != nil {
			return r, err
		}
		for _, item := range todo {
			if !listed(r.Picture, item) {
				return r, fault.New(fault.Failed, "add-on %s: %q was added, and its list does not have it", a.Name, item).
					Advise("It has: %s\nWrite the item as the list prints it.", strings.Join(r.Picture, ", "))
			}
		}
	}
	return r, nil
}

// listed tells whether a list has an item; one without a version is there in any.
func listed(list []string, item string) bool {
	return slices.ContainsFunc(list, func(have string) bool {
		return have == item || strings.HasPrefix(have, item+"==") || strings.HasPrefix(have, item+"@")
	})
}

// ListAddon is what an add-on's list says now, sorted.
func (s *Setup) ListAddon(ctx context.Context, a declare.Addon) ([]string, error) {
	o, err := s.output(ctx, a.List, s.Plan.Lookup("", 0), time.Minute)
	if err == nil && !o.Exit.OK() {
		err = fault.New(fault.Failed, "add-on %s cannot be listed: %s", a.Name, o.Exit).Advise("%s", o.Last(6))
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, line := range o.Lines {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

func (s *Setup) install(ctx context.Context, a declare.Addon, run declare.Run, item, word string) error {
	look := s.Plan.Lookup("", 0)
	o, err := s.output(ctx, run, func(name string) (string, error) {
		if name == "item" {
			return item, nil
		}
		return look(name)
	}, installTime)
	if err == nil && !o.Exit.OK() {
		err = fault.New(fault.Failed, "add-on %s: %q could not be %s: %s", a.Name, item, word, o.Exit).Advise("| %s", strings.ReplaceAll(o.Last(8), "\n", "\n| "))
	}
	return err
}

// output runs a command to its end.
func (s *Setup) output(ctx context.Context, run declare.Run, look func(string) (string, error), within time.Duration) (step.Outcome, error) {
	expanded, err := environ.Expand(run, look)
	if err != nil {
		return step.Outcome{}, err
	}
	command, env, err := script.Of(s.Ready, expanded, s.State.Dir())
	if err != nil {
		return step.Outcome{}, err
	}
	return step.Output(ctx, command, env, s.State.Dir(), s.Ready.Masks(), within)
}
