package approval

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/lock"
)

// Given is consent to the effects of one State. Only Check makes one that holds.
type Given struct {
	state *checkout.State
	base  *checkout.State // whose effects were consented to; state is derived from it
	list  List
	by    ID // the id that a machine without a person named, or "" for a person
}

// State is the checkout that was consented to.
func (g Given) State() *checkout.State { return g.state }

// Effects are what was consented to.
func (g Given) Effects() List { return g.list }

// Holds tells whether this is consent at all.
func (g Given) Holds() bool { return g.state != nil }

// For is the same consent for a State that was derived from the same reading, with the same
// declaration and lock: with other params chosen by the person, after the store has learnt
// something, without a person's own additions.
func (g Given) For(s *checkout.State) Given {
	if g.state == nil || s.Began != g.state.Began || s.Dir() != g.state.Dir() || s.Lock != g.state.Lock || s.Written != g.state.Written ||
		s.Overlay != nil && (s.Overlay != g.state.Overlay || s.OverlayLock != g.state.OverlayLock) {
		return Given{}
	}
	g.state = s
	return g
}

// Trying is consent for a State with another lock, for what a person asked for on the command line,
// this one time: all that the project says was consented to.
func (g Given) Trying(s *checkout.State) Given {
	if g.state == nil || s.Began != g.state.Began || s.Dir() != g.state.Dir() || s.Rests.Lasting() {
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

	Files map[string]string `json:"files"` // those that are held to their bytes → digest
}

// remembered is what a person's state has of the consents to a checkout, the last one first. Going
// back to a branch or a lock that was approved asks nothing.
type remembered struct {
	Format   int       `json:"format"`
	Consents []Consent `json:"consents"`
}

// How much is remembered of a checkout.
const (
	rememberedFormat = 2
	mostRemembered   = 16
	mostRecorded     = 16 << 20 // bytes
)

// consents are those that are remembered of a project, the last one first.
func consents(p place.Places, dir string) []Consent {
	var all remembered
	raw, err := disk.Read(checkout.ConsentFile(p, dir), disk.MostState)
	if err != nil || json.Unmarshal(raw, &all) != nil || all.Format != rememberedFormat {
		return nil
	}
	return slices.DeleteFunc(all.Consents, func(c Consent) bool { return c.Dir != dir || c.ID != (List{Effects: c.Effects}).ID() })
}

// Last is the consent that was given last for a project; ok is false when there
// is none.
func Last(p place.Places, dir string) (c Consent, ok bool) {
	all := consents(p, dir)
	if len(all) == 0 {
		return Consent{}, false
	}
	return all[0], true
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
	if err := list.Refused(); err != nil {
		return Given{}, err
	}
	if s.Written.File == checkout.DefaultFile(s.Places) && len(s.Written.Includes) == 0 {
		return Given{s, s, list, ""}, nil // the person's own word, in the person's own folder
	}
	r := reading.New(s.Host)
	text := r.Getenv(Variable)
	list.Rests = list.Rests.Join(r.On())
	given := consents(s.Places, s.Dir())
	if text != "" {
		named, id := Named(text), list.ID()
		// What was made under that id since, by what it allows, counts with it.
		if named == id || slices.ContainsFunc(given, func(c Consent) bool { return c.By == named && c.ID == id }) {
			return Given{s, s, list, named}, nil
		}
		return Given{}, fault.New(fault.ErrNotApproved, "%s holds another approval id than this project's %s", Variable, id).
			Advise("Look at what changed (trammel approve), then set it to the new id: trammel approve --id")
	}
	given = slices.DeleteFunc(given, func(c Consent) bool { return c.By != "" })
	if slices.ContainsFunc(given, func(c Consent) bool { return covers(c.Effects, list, s) }) {
		return Given{s, s, list, ""}, nil
	}
	what, made := "nobody has approved what this project would run", ""
	if len(given) > 0 {
		changes := Changes(given[0].Effects, list.Effects)
		made, _ = strings.CutPrefix(changes[0].Name, "file ")
		if made == changes[0].Name || changes[0].New != nil && changes[0].New.Made != "" || changes[0].New == nil || list.loud(made) || openWorktree(s.Dir()).tracks(made) {
			made = "" // it came with the project
		}
		what = "this project changed since you approved it: " + changes[0].Name + " " + changes[0].What
		if len(changes) > 1 {
			what += " and " + string(canon.JSON(len(changes)-1)) + " more"
		}
	}
	do := "Read it and decide: trammel approve"
	if made != "" {
		do += fmt.Sprintf("\nIf a step creates %s, add this line to that step. Changes of the file then need no approval: makes = [%q]", made, made)
	}
	return Given{}, fault.New(fault.ErrNotApproved, "%s", what).Advise("%s", do)
}

// covers tells whether consent to one list is consent to another: nothing is new or changed, and
// nothing is gone but files that were to be run. What is not there does not run: a name of which
// something is there, whatever it is, is on the list. A tree that the lock states now and did not
// before is no change where this machine has unpacked the same archive to it, nor for another
// platform's machines.
func covers(given []Effect, now List, s *checkout.State) bool {
	return !slices.ContainsFunc(Changes(given, now.Effects), func(c Change) bool {
		if c.New == nil {
			return c.Old.Does != Runs || !strings.HasPrefix(c.Name, "file ")
		}
		if c.Name == commitsName && c.Old != nil {
			return !openWorktree(s.Dir()).madeHere(commitIn(*c.Old), commitIn(*c.New))
		}
		forgot := c.Old != nil && c.Old.Digest == c.New.Digest && len(c.New.Trees) < len(c.Old.Trees) && !c.Loud // one that is stated again asks
		return !forgot && (!c.learnt() || !knows(s, c))
	})
}

// knows tells whether the trees that a change states are those that this machine's store knows for
// the same archives, as far as they are this platform's.
func knows(s *checkout.State, c Change) bool {
	known := map[string]string{}
	for own, parts := range map[string][]lock.PartOn{"": s.Parts, " (local)": s.OwnParts} {
		for _, p := range parts {
			p.Tree = "" // as the lock states it
			effect, part := "toolchain "+p.Item, p.Name
			switch p.Format {
			case lock.RootFormat:
				effect = "root " + p.Name
			case lock.SetFormat:
				effect, part = "libraries "+p.Item, p.Item
			}
			if c.Name == effect+own {
				known[s.Platform.String()+" "+part] = string(s.Store.Tree(p))
			}
		}
	}
	for tree, digest := range c.New.Trees {
		if _, before := c.Old.Trees[tree]; !before && strings.HasPrefix(tree, s.Platform.String()+" ") && known[tree] != digest {
			return false
		}
	}
	return true
}

// Approved tells whether a consent that is remembered covers a list.
func Approved(s *checkout.State, l List) bool {
	return l.Refused() == nil && slices.ContainsFunc(consents(s.Places, s.Dir()), func(c Consent) bool { return c.By == "" && covers(c.Effects, l, s) })
}

// Give records a person's consent to the effects of a checkout, as they were listed for
// them: a list that is not the present one any more is refused.
func Give(s *checkout.State, shown List) (Given, error) {
	if err := shown.Refused(); err != nil {
		return Given{}, err
	}
	if now := Effects(s); now.ID() != shown.ID() {
		return Given{}, fault.New(fault.ErrNotApproved, "the project changed while you were reading").Advise("Read it again: trammel approve")
	}
	return Given{s, s, shown, ""}, record(s, shown, "")
}

func record(s *checkout.State, l List, by ID) error {
	if err := disk.Private(s.Places.State); err != nil {
		return err
	}
	if err := copyFiles(s, l.files); err != nil {
		return err
	}
	c := Consent{s.Dir(), time.Now().UTC().Truncate(time.Second), l.ID(), by, l.Effects, map[string]string{}}
	for _, f := range l.files {
		if f.plain {
			c.Files[f.name] = f.digest
		}
	}
	before := slices.DeleteFunc(consents(s.Places, s.Dir()), func(old Consent) bool { return old.ID == c.ID && old.By == by })
	all := remembered{rememberedFormat, append([]Consent{c}, before...)}
	all.Consents = all.Consents[:min(len(all.Consents), mostRemembered)]
	raw, err := json.MarshalIndent(all, "", " ")
	for err == nil && len(raw) > mostRecorded && len(all.Consents) > 1 {
		all.Consents = all.Consents[:len(all.Consents)/2]
		raw, err = json.MarshalIndent(all, "", " ")
	}
	if err != nil {
		return err
	}
	if err := disk.Write(checkout.ConsentFile(s.Places, s.Dir()), raw, 0o600); err != nil {
		return err
	}
	used := map[string]bool{}
	for _, c := range all.Consents {
		for _, digest := range c.Files {
			used[strings.TrimPrefix(digest, "blake3:")] = true
		}
	}
	dropCopies(s, used)
	return nil
}

// KeepCopies makes the copies that the files of a list are held to by what is decided from it, where
// a consent that was recorded elsewhere has made none.
func (g Given) KeepCopies() error { return copyFiles(g.state, g.list.files) }

// Carry keeps consent alive over what the consented commands themselves have just done:
// pictures of add-ons that were taken into the lock, and files that steps are said to make. now is
// the checkout read again. Any other difference ends consent as always.
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
	if slices.ContainsFunc(changes, func(c Change) bool { return !own[c.Name] && !c.made() && !c.lockItself() }) {
		return nil
	}
	return record(now, list, g.by)
}

// Learnt is the consent to a State whose lock states trees that this machine has just unpacked; it
// is recorded, where nothing else changed meanwhile.
func (g Given) Learnt(now *checkout.State) (Given, error) {
	if !g.Holds() || now.Began != g.state.Began || now.Dir() != g.state.Dir() {
		return Given{}, errChanged
	}
	own := g.base.OverlayLock
	if now.OverlayLock != nil {
		own = now.OverlayLock
	}
	base := g.base.WithTrees(now.Lock, own)
	list := Effects(base)
	if slices.ContainsFunc(Changes(g.list.Effects, list.Effects), func(c Change) bool { return !c.lockItself() && (!c.learnt() || !knows(now, c)) }) {
		return Given{}, errChanged
	}
	g.state, g.base, g.list = now, base, list
	if now.Written.File == checkout.DefaultFile(now.Places) {
		return g, nil // a person's own word needs no record
	}
	return g, record(base, list, g.by)
}

// errChanged is a project that is another one than it was a moment ago.
var errChanged error = fault.New(fault.ErrNotApproved, "the project changed while this command ran").Advise("Run the command again. It shows what changed.")

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
	case c.lockItself():
		return true
	case does.Does == Fetches && strings.HasPrefix(c.Name, "root "):
		// More or fewer packages of an archive that is known, for a tool that comes from there or is gone.
		return c.Old != nil && c.New != nil && slices.ContainsFunc(tools, func(tool string) bool {
			item, locked := now.Lock.Items[tool]
			return !locked && !strings.Contains(tool, "/") || locked && "root "+item.Source == c.Name
		})
	case does.Does == Runs && strings.HasPrefix(c.Name, settingsOf):
		// Where packages come from is asked again, or no more, for a tool that comes from there or is gone.
		return slices.ContainsFunc(tools, func(tool string) bool {
			item, locked := now.Lock.Items[tool]
			return !locked && c.New == nil || locked && settingsOf+item.Source == c.Name
		})
	}
	for _, tool := range tools {
		if does.Does == Fetches && c.Name == "toolchain "+tool {
			return true
		}
		if strings.HasSuffix(c.Name, " by the card of "+tool) || c.Name == "answer of "+tool || c.Name == "place of "+tool || c.Name == "install scripts of "+tool || strings.HasPrefix(c.Name, "build of "+tool+" on ") {
			own, known := card.Builtin(tool)
			builtin := known && own.Digest() == now.Lock.Items[tool].Card
			return c.New == nil || builtin && !strings.HasPrefix(c.Name, "install scripts ")
		}
	}
	return false
}

// Move gives the consents to a checkout in one folder to the same one in another, where it was moved to and has
// none. They hold for the same effects as before, and for no others.
func Move(p place.Places, from, to string) error {
	list := consents(p, from)
	if len(list) == 0 || len(consents(p, to)) > 0 {
		return nil
	}
	for i := range list {
		list[i].Dir = to
	}
	raw, err := json.MarshalIndent(remembered{rememberedFormat, list}, "", " ")
	if err != nil {
		return err
	}
	if err := os.Rename(CopiesOf(p, from), CopiesOf(p, to)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := disk.Write(checkout.ConsentFile(p, to), raw, 0o600); err != nil {
		return err
	}
	return Revoke(p, from)
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

// made tells whether all that changed are the bytes of a file that a step makes.
func (c Change) made() bool {
	return c.New != nil && c.New.Made != "" && !c.Loud && (c.Old == nil || c.Old.Digest == c.New.Digest)
}

// lockItself tells whether a lock is named by what runs, and has other bytes: where Trammel itself
// has just written it.
func (c Change) lockItself() bool {
	return c.Old != nil && c.New != nil && !c.Loud && (c.Name == "file "+lock.FileName || c.Name == "file "+lock.OverlayName)
}

// learnt tells whether all that changed is that the lock states trees that it did not state before.
func (c Change) learnt() bool {
	if c.Old == nil || c.New == nil || c.Old.Digest != c.New.Digest || c.Old.Made != c.New.Made || c.Loud {
		return false
	}
	for tree, digest := range c.Old.Trees {
		if c.New.Trees[tree] != digest {
			return false
		}
	}
	return true
}

// otherTrees tells whether two lists of trees state another one under a name that both have.
func otherTrees(a, b map[string]string) bool {
	for tree, digest := range a {
		if other, both := b[tree]; both && other != digest {
			return true
		}
	}
	return false
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
			out = append(out, Change{Name: e.Name, What: "is new", New: e, Loud: e.Loud})
		case was.Digest == e.Digest && was.Made != e.Made && e.Made != "":
			out = append(out, Change{e.Name, "changed, and not by the step that makes it", was, e, false})
		case was.Digest == e.Digest && maps.Equal(was.Trees, e.Trees):
		case was.Text == e.Text && otherTrees(was.Trees, e.Trees):
			out = append(out, Change{e.Name, otherBytes, was, e, true})
		case was.Digest == e.Digest && len(e.Trees) > len(was.Trees):
			out = append(out, Change{e.Name, "states now what it unpacks to", was, e, false})
		case was.Digest == e.Digest:
			out = append(out, Change{e.Name, "states no more what it unpacks to", was, e, false})
		case e.Loud:
			out = append(out, Change{e.Name, "changed: " + e.Text, was, e, true})
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
	return Given{s, s, Effects(s), ""}, nil
}
