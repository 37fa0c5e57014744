package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/service"
)

// settled is a checkout that has its bays: of one that was moved, the person decides first whether it takes along
// those that are kept for its former place.
func settled(ctx context.Context, c *cli.Command, s *ui.Screen, p *checkout.State) (*checkout.State, error) {
	before, left, err := setup.LeftBehind(ctx, p)
	if err != nil || before == "" {
		return p, err
	}
	var kept []string
	for _, l := range left {
		if l.Bytes == 0 && len(l.Running) == 0 {
			continue
		}
		text := fmt.Sprintf("%s (%s of data)", l.Bay.Name, ui.Bytes(l.Bytes))
		if len(l.Running) > 0 {
			text += ", in which " + strings.Join(l.Running, ", ") + " runs"
		}
		kept = append(kept, text)
	}
	if len(kept) == 0 { // nothing that anybody would miss
		return p, p.Settle()
	}
	what := fmt.Sprintf("this checkout was moved here from %s, and a bay is kept for that place: %s", before, strings.Join(kept, "; "))
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return p, fault.New(fault.ErrUsage, "%s", what).Advise("Take it along, with its data: trammel bays --adopt\nOr begin with an empty one: trammel bays --leave")
	}
	s.Say("%s%s.", strings.ToUpper(what[:1]), what[1:])
	yes, err := answeredYes(ctx, s, "Take it along?")
	switch {
	case err != nil:
		return p, err
	case !yes:
		return p, p.Settle()
	}
	if err := adopt(ctx, s, p); err != nil {
		return p, err
	}
	return openChosen(ctx, c)
}

func adopt(ctx context.Context, s *ui.Screen, p *checkout.State) error {
	left, err := setup.Adopt(ctx, p)
	if err != nil {
		return err
	}
	for _, l := range left {
		s.Print("adopted bay %s of %s, %s of data", s.Paint(ui.Accent, l.Bay.Name), l.Bay.Checkout, ui.Bytes(l.Bytes))
		if len(l.Running) > 0 {
			s.Print("stopped: %s. Start again: trammel start", strings.Join(l.Running, ", "))
		}
	}
	return nil
}

// movedAction is bays --adopt and bays --leave.
func movedAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("adopt") {
		return adopt(ctx, s, p)
	}
	before := p.MovedFrom()
	if before == "" {
		return fault.New(fault.ErrUsage, "this checkout is where it was: it has its bays").Advise("List them: trammel bays")
	}
	if err := p.Settle(); err != nil {
		return err
	}
	s.Print("This checkout begins with bays of its own. Those of %s stay: trammel bays --all lists them.", before)
	return nil
}

// goneBays are the bays of checkouts that are not there any more. Which folder one was in is known while it is
// noted, "" else.
func goneBays(places place.Places) (out []bay.Bay) {
	folders := map[string]string{} // what names of bays end in → folder
	for _, dir := range checkout.Noted(places) {
		folders[bay.CheckoutID(dir)] = dir
	}
	known := checkout.Known(places)
	for _, b := range bay.All(places) {
		name := b.Records[:strings.LastIndexByte(b.Records, '/')]
		dir := folders[name[strings.LastIndexByte(name, '-')+1:]]
		if dir != "" && slices.Contains(known, dir) {
			continue
		}
		b.Checkout = dir
		out = append(out, b)
	}
	return out
}

// sayGone says which services of checkouts that are gone still run.
func sayGone(ctx context.Context, s *ui.Screen) error {
	places, err := placesNow()
	if err != nil {
		return err
	}
	var running []string
	for _, b := range goneBays(places) {
		names, err := service.Connect(b, hostNow()).Running(ctx)
		if err != nil {
			continue // its supervisor is asked when somebody stops it
		}
		if len(names) > 0 {
			running = append(running, fmt.Sprintf("%s of %s (%s)", strings.Join(names, ", "), b.Project, b.Checkout))
		}
	}
	if len(running) > 0 {
		s.Say("Services of checkouts that are gone run: %s. Stop them: trammel stop --gone", strings.Join(running, "; "))
	}
	return nil
}

// stopGone stops the services of checkouts that are gone.
func stopGone(ctx context.Context, c *cli.Command) error {
	places, err := placesNow()
	if err != nil {
		return err
	}
	stopped := []string{}
	for _, b := range goneBays(places) {
		services := service.Connect(b, hostNow())
		names, err := services.Running(ctx)
		if err == nil && len(names) > 0 {
			_, err = services.Stop(ctx, nil)
		}
		if err != nil {
			return err
		}
		for _, name := range names {
			stopped = append(stopped, name+" of "+b.Project)
		}
	}
	s := screen(c)
	switch {
	case c.Bool("json"):
		return tell(s, stoppedOut{1, stopped})
	case len(stopped) == 0:
		s.Print("nothing of a checkout that is gone was running")
	default:
		s.Print("stopped: %s", strings.Join(stopped, ", "))
	}
	return nil
}
