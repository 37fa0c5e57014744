package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/locking"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/history"
	"app.example/trammel/internal/core/written/lock"
)

func recallCommand() *cli.Command {
	return &cli.Command{
		Name:        "recall",
		Usage:       "earlier locks: list them, compare with one, bring one back",
		ArgsUsage:   "[REVISION]",
		Description: example("trammel recall --list", "trammel recall --against v1.2", "trammel recall 1          # the lock before the present one", "trammel recall 3fa91c2 --declaration"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "list", Usage: "list the lock's revisions and what each changed"},
			&cli.IntFlag{Name: "last", Usage: "list the last `N` revisions; 0 is all", Value: 20},
			&cli.StringFlag{Name: "against", Usage: "say what the present lock does differently than that of `REVISION`"},
			&cli.BoolFlag{Name: "declaration", Usage: "bring back the declaration of the revision, too"},
			jsonFlag(),
		},
		Action: recallAction,
	}
}

func recallAction(ctx context.Context, c *cli.Command) error {
	places := []bool{c.Bool("list"), c.String("against") != "", c.Args().Present()}
	asked := 0
	for _, is := range places {
		if is {
			asked++
		}
	}
	if asked != 1 || c.Args().Len() > 1 {
		return fault.New(fault.ErrUsage, "say one of: --list, --against REVISION, or a revision to bring back").Advise("See what there is: trammel recall --list")
	}
	// The declaration may be faulty now, which may be why somebody wants it back.
	file, err := declare.Find(nil, hostNow().Abs(c.String("dir")))
	if err != nil {
		return err
	}
	dir := filepath.Dir(file)
	h, err := history.Open(dir, locking.Kept(dir))
	if err != nil {
		return err
	}
	s := screen(c)
	switch {
	case c.Bool("list"):
		return recallList(c, s, h)
	case c.String("against") != "":
		return recallAgainst(c, s, h, dir)
	}
	r, err := h.Find(c.Args().First())
	if err != nil {
		return err
	}
	return recallBring(ctx, c, s, h, locking.Recall{File: file, Revision: r, Declaration: c.Bool("declaration")})
}

// revisionOut is one revision as `recall --json` prints it.
type revisionOut struct {
	Revision string    `json:"revision"`
	At       time.Time `json:"at"`
	Subject  string    `json:"subject,omitempty"`
	Lock     lock.ID   `json:"lock,omitempty"`
	Changes  []string  `json:"changes"`
}

func recallList(c *cli.Command, s *ui.Screen, h *history.History) error {
	list, cut, err := h.List(c.Int("last"))
	if err != nil {
		return err
	}
	out := []revisionOut{}
	rows := [][]ui.Cell{}
	for _, r := range list {
		x := revisionOut{Revision: r.ID, At: r.At.UTC(), Subject: r.Subject, Changes: r.Changes}
		id := ""
		if r.Lock != nil {
			x.Lock = r.Lock.ID()
			id = canon.Short(x.Lock)
		}
		out = append(out, x)
		changes := strings.Join(r.Changes, "; ")
		if len(r.Changes) == 0 {
			changes = "the declaration's wording, or what machines learnt"
		}
		rows = append(rows, []ui.Cell{{Text: r.Short(), Style: ui.Accent}, {Text: r.At.Local().Format("2 Jan 2006 15:04"), Style: ui.Dim}, {Text: id}, {Text: changes}})
	}
	kept, err := h.Uncommitted(list)
	if err != nil {
		return err
	}
	more := []revisionOut{}
	var aside [][]ui.Cell
	for _, r := range kept {
		more = append(more, revisionOut{Revision: r.ID, At: r.At.UTC(), Lock: r.Lock.ID(), Changes: r.Changes})
		aside = append(aside, []ui.Cell{{Text: r.ID, Style: ui.Accent}, {Text: r.At.Local().Format("2 Jan 2006 15:04"), Style: ui.Dim}, {Text: canon.Short(r.Lock.ID())}, {Text: strings.Join(r.Changes, "; ")}})
	}
	if c.Bool("json") {
		return tell(s, recallOut{1, cut, out, more})
	}
	if len(rows)+len(aside) == 0 {
		s.Say("There are no earlier locks yet.")
	}
	s.Table(rows)
	if len(aside) > 0 {
		s.Print("\nKept in this checkout, never committed:")
		s.Table(aside)
	}
	if cut {
		s.Say("This clone is shallow; what is older is not here. Fetch it: git fetch --unshallow")
	}
	if !h.Committed() && len(rows) > 0 {
		s.Say("These were kept in this checkout, the last twenty. Version control keeps all.")
	}
	return nil
}

func recallAgainst(c *cli.Command, s *ui.Screen, h *history.History, dir string) error {
	r, err := h.Find(c.String("against"))
	if err != nil {
		return err
	}
	now, err := lock.Read(dir)
	if err != nil {
		return err
	}
	changes := lock.Changes(r.Lock, now)
	if c.Bool("json") {
		return tell(s, againstOut{1, r.ID, append([]string{}, changes...)})
	}
	s.Print("%s   %s → lock %s", s.Paint(ui.Accent, r.Short()), canon.Short(r.Lock.ID()), canon.Short(now.ID()))
	for _, x := range changes {
		s.Print("  %s", x)
	}
	if len(changes) == 0 {
		s.Print("  nothing differs")
	}
	return nil
}

// recallBring puts an earlier lock into the work tree. The present one is kept.
func recallBring(ctx context.Context, c *cli.Command, s *ui.Screen, h *history.History, o locking.Recall) error {
	places, err := placesNow()
	if err != nil {
		return err
	}
	done, err := locking.Back(ctx, places, h, o)
	if done.Kept != "" {
		defer s.Say("What was in force was not committed. It is kept: trammel recall %s --declaration", shell.Typed(done.Kept))
	}
	if err != nil {
		return err
	}
	r := o.Revision
	s.Print("%s   lock %s is back, of %s", s.Paint(ui.Accent, r.Lock.Declaration.Project), canon.Short(r.Lock.ID()), r.At.Local().Format("2 Jan 2006 15:04"))
	for _, x := range done.Changes {
		s.Print("  %s", x)
	}
	p, err := openWith(ctx, c, checkout.Locate{})
	if err != nil || p.Written.Digest() != r.Lock.Declaration.Digest {
		what := fmt.Sprintf("%s asks for something else than this lock by now.", declare.FileName)
		if r.Declaration != nil && !o.Declaration {
			s.Say("%s Bring that back as well: trammel recall %s --declaration", what, shell.Typed(r.Short()))
		} else {
			s.Say("%s", what)
		}
		return nil
	}
	s.Say("Next: trammel fit")
	return nil
}
