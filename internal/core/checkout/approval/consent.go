package approval

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/written/card"
)

// Given is consent to the effects of one State. Only Check makes one that holds.
type Given struct {
	state *checkout.State
	list  List
	by    ID // the id that a machine without a person named, or "" for a person
}

// State is the checkout that was consented to.
func (g Given) State() *checkout.State { return g.state }

// Effects are what was consented to.
func (g Given) Effects() List { return g.list }

// Holds tells whether this is consent at all.
func (g Given) Holds() bool { return g.state != nil }

// For is the same consent for a State that was derived from the same reading: with
// other params chosen by the person, or after the store has learnt something.
func (g Given) For(s *checkout.State) Given {
	if g.state == nil || s.Began != g.state.Began || s.Dir() != g.state.Dir() {
		return Given{}
	}
	g.state = s
	return g
}

// Consent is what is kept of an approval.
type Consent struct {
	Dir     string    `json:"dir"`
	At      time.Time `json:"at"`
	ID      ID        `json:"id"`
	By      ID        `json:"by,omitempty"` // the id that was named when the list was still that
	Effects []Effect  `json:"effects"`
}

// Last is the consent that was given last for a project; ok is false when there
// is none.
func Last(p place.Places, dir string) (c Consent, ok bool) {
	raw, err := disk.Read(checkout.ConsentFile(p, dir), disk.MostState)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Dir != dir || c.ID != (List{Effects: c.Effects}).ID() {
		return Consent{}, false
	}
	return c, true
}

// Variable is the environment variable by which a machine without a person approves: it
// holds the approval id, which covers the whole list of effects.
const Variable = "TRAMMEL_APPROVE"

// Named is the approval id that a text names, with or without the name of its hash.
func Named(text string) ID { return ID("sha256:" + strings.TrimPrefix(text, "sha256:")) }

// Check says whether the effects of a checkout are approved: by kept consent, or by the
// approval id in the environment. The error names how to approve.
func Check(s *checkout.State) (Given, error) {
	if err := s.Allowed(); err != nil {
		return Given{}, err
	}
	list := Effects(s)
	if s.Written.File == checkout.DefaultFile(s.Places) && len(s.Written.Includes) == 0 {
		return Given{s, list, ""}, nil // the person's own word, in the person's own folder
	}
	last, had := Last(s.Places, s.Dir())
	if text := s.Host.Getenv(Variable); text != "" {
		named, id := Named(text), list.ID()
		// What was made under that id since, by what it allows, counts with it.
		if named == id || had && last.By == named && last.ID == id {
			return Given{s, list, named}, nil
		}
		return Given{}, fault.New(fault.ErrNotApproved, "%s holds another approval id than this project's %s", Variable, id).
			Advise("Look at what changed (trammel approve), then set it to the new id: trammel approve --id")
	}
	if had && last.By == "" && covers(last.Effects, list.Effects) {
		return Given{s, list, ""}, nil
	}
	what := "nobody has approved what this project would run"
	if had && last.By == "" {
		changes := Changes(last.Effects, list.Effects)
		what = "this project changed since you approved it: " + changes[0].Name + " " + changes[0].What
		if len(changes) > 1 {
			what += " and " + string(canon.JSON(len(changes)-1)) + " more"
		}
	}
	return Given{}, fault.New(fault.ErrNotApproved, "%s", what).Advise("Read it and decide: trammel approve")
}

// covers tells whether consent to one list is consent to another: nothing is new or
// changed, and nothing is gone but files that were to be run. What is not there does not run.
func covers(given, now []Effect) bool {
	return !slices.ContainsFunc(Changes(given, now), func(c Change) bool {
		return c.New != nil || c.Old.Does != Runs || !strings.HasPrefix(c.Name, "file ")
	})
}

// Approved tells whether the last consent covers a list.
func Approved(p place.Places, dir string, l List) bool {
	last, had := Last(p, dir)
	return had && last.By == "" && covers(last.Effects, l.Effects)
}

// Give records a person's consent to the effects of a checkout, as they were listed for
// them: a list that is not the present one any more is refused.
func Give(s *checkout.State, shown List) (Given, error) {
	if now := Effects(s); now.ID() != shown.ID() {
		return Given{}, fault.New(fault.ErrNotApproved, "the project changed while you were reading").Advise("Read it again: trammel approve")
	}
	return Given{s, shown, ""}, record(s, shown, "")
}

func record(s *checkout.State, l List, by ID) error {
	raw, err := json.MarshalIndent(Consent{s.Dir(), time.Now().UTC().Truncate(time.Second), l.ID(), by, l.Effects}, "", " ")
	if err != nil {
		return err
	}
	if err := disk.Private(s.Places.State); err != nil {
		return err
	}
	return disk.Write(checkout.ConsentFile(s.Places, s.Dir()), raw, 0o600)
}

// Carry keeps consent alive over what the consented commands themselves have just done:
// pictures of add-ons that were taken into the lock, and files that a step made and that
// version control does not have. now is the checkout read again. Any other difference ends
// consent as always.
func (g Given) Carry(now *checkout.State) error {
	if !g.Holds() {
		return nil
	}
	list := Effects(now)
	changes := Changes(g.list.Effects, list.Effects)
	if len(changes) == 0 {
		return nil
	}
	own := map[string]bool{}
	for _, x := range now.Written.Addons {
		own[pictureName(x.Name)] = true
	}
	for _, name := range list.made {
		own["file "+name] = true
	}
	if slices.ContainsFunc(changes, func(c Change) bool { return !own[c.Name] }) {
		return nil
	}
	return record(now, list, g.by)
}

// Typed keeps consent alive over what the person has just typed: other versions of tools, named
// one by one, of sources that were approved, with what Trammel's own cards set for them. now is
// the checkout read again. It tells whether that was all that changed; where it was not, consent
// ends as always.
func (g Given) Typed(now *checkout.State, tools []string) (bool, error) {
	if !g.Holds() || g.by != "" || now.Usable() != nil {
		return false, nil
	}
	list := Effects(now)
	changes := Changes(g.list.Effects, list.Effects)
	if len(changes) == 0 {
		return false, nil
	}
	if slices.ContainsFunc(changes, func(c Change) bool { return !typed(c, now, tools) }) {
		return false, nil
	}
	return true, record(now, list, "")
}

// typed tells whether a change is what somebody named.
func typed(c Change, now *checkout.State, tools []string) bool {
	does := c.Old
	if c.New != nil {
		does = c.New
	}
	switch {
	case c.Loud:
		return false
	case does.Does == Fetches && strings.HasPrefix(c.Name, "root "):
		// More or fewer packages of an archive that is known, for a tool that comes from there or is gone.
		return c.Old != nil && c.New != nil && slices.ContainsFunc(tools, func(tool string) bool {
			item, locked := now.Lock.Items[tool]
			return !locked && !strings.Contains(tool, "/") || locked && "root "+item.Source == c.Name
		})
	}
	for _, tool := range tools {
		if does.Does == Fetches && c.Name == "toolchain "+tool {
			return true
		}
		if strings.HasSuffix(c.Name, " by the card of "+tool) || c.Name == "answer of "+tool || c.Name == "install scripts of "+tool || strings.HasPrefix(c.Name, "build of "+tool+" on ") {
			own, known := card.Builtin(tool)
			builtin := known && own.Digest() == now.Lock.Items[tool].Card
			return c.New == nil || builtin && !strings.HasPrefix(c.Name, "install scripts ")
		}
	}
	return false
}

// Revoke takes consent back; there may be none.
func Revoke(p place.Places, dir string) error {
	err := os.Remove(checkout.ConsentFile(p, dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Change is an effect that is not what it was.
type Change struct {
	Name string
	What string // "is new", "changed", "is gone", "has other bytes under the same version"
	Old  *Effect
	New  *Effect
	Loud bool // other bytes under the same name: what a stranger would most like to be overlooked
}

// otherBytes is what to say when the words are the same and what they stand for is not.
const otherBytes = "has OTHER BYTES under the same version"

// Changes compares two lists. Other bytes under the same version come first, then what
// runs.
func Changes(old, now []Effect) []Change {
	var out []Change
	before := map[string]*Effect{}
	for i := range old {
		before[old[i].key()] = &old[i]
	}
	for i := range now {
		e := &now[i]
		was := before[e.key()]
		delete(before, e.key())
		switch {
		case was == nil:
			out = append(out, Change{Name: e.Name, What: "is new", New: e})
		case was.Digest == e.Digest:
		case e.Does == Fetches && was.Text == e.Text && (strings.HasPrefix(e.Name, "toolchain ") || strings.HasPrefix(e.Name, "root ")):
			out = append(out, Change{e.Name, otherBytes, was, e, true})
		default:
			out = append(out, Change{e.Name, "changed", was, e, false})
		}
	}
	for _, was := range old {
		if w := before[was.key()]; w != nil {
			out = append(out, Change{Name: was.Name, What: "is gone", Old: w})
		}
	}
	place := func(c Change) int {
		e := c.New
		if e == nil {
			e = c.Old
		}
		if c.Loud {
			return -1
		}
		return slices.Index(Doings, e.Does)*100 + rank(e.Name)
	}
	slices.SortStableFunc(out, func(a, b Change) int { return place(a) - place(b) })
	return out
}

// Own is consent to what a person asked for on the command line outside of any project:
// nothing of it was read from a file.
func Own(s *checkout.State) (Given, error) {
	if s.Written.File != "" {
		return Check(s)
	}
	if err := policy.Err(s.Policies.Locked(s.Lock)); err != nil {
		return Given{}, err
	}
	return Given{s, Effects(s), ""}, nil
}
