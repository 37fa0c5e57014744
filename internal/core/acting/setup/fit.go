package setup

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/acting/supply"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/running/script"
)

// FitOrder says what to fit; nothing named is all.
type FitOrder struct {
	fit.Options
	Bundle string // the file that all archives are taken from; "": from the sources

	Tools, Steps []string
	Again        []string // steps that run though they are not due
	Exact        bool     // what add-ons have and nobody wants goes
}

// Fitted is what was done.
type Fitted struct {
	*fit.Result
	Rendered, Removed, Ran []string
	Learnt                 bool // what steps and add-ons left behind is in the lock now
}

// Fit makes this machine match a lock: tools, files, add-ons, steps, and the plan that is kept. Events
// of ctx tell of the work.
func Fit(ctx context.Context, g approval.Given, o FitOrder) (done Fitted, err error) {
	p := g.State()
	p.Tidy()
	o.Check = o.Tools
	if o.Bundle != "" {
		wants, unread := supply.Wanted(p, []platform.Platform{p.Platform})
		if _, err := fit.ReadBundle(ctx, p, wants, o.Bundle); err != nil {
			return done, err
		}
		if g, err = supplied(ctx, g, wants, unread); err != nil {
			return done, err
		}
		o.Bundled = true
	}
	g, plan, result, err := fit.Tools(ctx, g, o.Options)
	if err != nil {
		return done, err
	}
	done.Result = result
	if compiled, err := plan.Compile(g); err == nil {
		script.Keep(compiled)
	}
	d := p.Declaration
	if len(d.Steps)+len(d.Files)+len(d.Secrets)+len(d.Addons) == 0 {
		return done, nil
	}
	up, err := Of(g, plan)
	if err != nil {
		return done, err
	}
	err = up.fit(ctx, o, &done)
	return done, err
}

// fit does what comes after the tools.
func (s *Setup) fit(ctx context.Context, o FitOrder, done *Fitted) (err error) {
	for _, text := range s.SecretRemarks() {
		event.Say(ctx, text)
	}
	if done.Rendered, err = s.Render(ctx); err != nil {
		return err
	}
	var addons []AddonResult
	if len(o.Steps) == 0 {
		if addons, err = s.Addons(ctx, o.Exact); err != nil {
			return err
		}
	}
	none := len(o.Steps) == 0 && len(o.Tools) > 0 && len(o.Again) == 0
	if done.Ran, err = s.RunSteps(ctx, Choice{Only: o.Steps, None: none, Again: o.Again}); err != nil {
		return err
	}
	pictures := map[string][]string{}
	for _, a := range addons {
		pictures[a.Name] = a.Picture
		for _, item := range a.Added {
			done.Added = append(done.Added, a.Name+" "+item)
		}
		for _, item := range a.Removed {
			done.Removed = append(done.Removed, a.Name+" "+item)
		}
	}
	done.Learnt, err = s.Learn(ctx, pictures)
	return err
}

// supplied has the steps find what they ask registries for in what a bundle brought, for as
// long as the context lasts, and says first what of it is not there.
func supplied(ctx context.Context, g approval.Given, wants []supply.Want, unread []string) (approval.Given, error) {
	p := *g.State()
	for _, why := range unread {
		event.Say(ctx, "what a step may ask a registry for is not known: "+why)
	}
	if len(wants) == 0 {
		return g, nil
	}
	if absent := supply.Absent(p.Places.Archives(), wants); len(absent) > 0 {
		const most = 5
		var labels []string
		for _, w := range absent {
			labels = append(labels, w.Label())
		}
		text := strings.Join(labels[:min(len(labels), most)], ", ")
		if len(absent) > most {
			text += fmt.Sprintf(" and %d more", len(absent)-most)
		}
		event.Say(ctx, "not in the bundle, so that a step which asks for it fails: "+text)
	}
	shop, err := supply.Open(p.Places.Archives(), wants)
	if err != nil {
		return g, err
	}
	context.AfterFunc(ctx, shop.Close)
	instead := map[string]bool{}
	for _, line := range shop.Variables() {
		name, _, _ := strings.Cut(line, "=")
		instead[strings.ToLower(name)] = true // npm takes its own in both cases
	}
	p.Host.Environ = append(slices.DeleteFunc(slices.Clone(p.Host.Environ), func(line string) bool {
		name, _, _ := strings.Cut(line, "=")
		return instead[strings.ToLower(name)]
	}), shop.Variables()...)
	return g.For(&p), nil
}
