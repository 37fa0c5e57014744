// Package approval keeps a person's consent to what a checkout would do.
//
// Effects turns everything that was read of a checkout into one list of what consent
// lets happen: what is run, set, fetched, written, shown and read, each with its exact
// text, where it comes from, and what consent is bound to. Check is the only maker of a
// Given, and whatever starts a process, reveals a secret, renders a file or sets a
// variable takes one: a command that forgets to ask does not compile.
//
// Promise: what is not in the list does not happen, and a change of anything in it ends
// consent. Consent is kept in the person's own state, where a checkout cannot write it.
//
// Not promised: that a program which was consented to does not itself read other files
// of the checkout and run what they say. The list binds the files that the declaration's
// own words name, and those that a runner reads without being told.
package approval

import (
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/stored/system"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// What an effect does.
const (
	Runs    = "runs"
	Sets    = "sets"
	Reads   = "reads"
	Fetches = "fetches"
	Writes  = "writes"
	Shows   = "shows"
)

// Doings are all of these in the order that people should read them.
var Doings = []string{Runs, Sets, Reads, Writes, Shows, Fetches}

// Effect is one thing that consent lets happen.
type Effect struct {
	Does string `json:"does"`
	Name string `json:"name"` // "step schema", "toolchain go": with Does it is there once
	Text string `json:"text"` // to be read: params and settings are filled in
	From string `json:"from"` // "trammel.toml:14", "card of postgresql, in trammel.lock"

	// Digest is of all that the effect depends on, before a person's own choices. It is
	// what consent is bound to.
	Digest string `json:"digest"`

	// Trees are the digests of unpacked trees as the lock states them: "linux/amd64 sluice" → tree.
	// Consent is bound to each from when it is stated.
	Trees map[string]string `json:"trees,omitempty"`

	// Made is the digest of the bytes of a file that a step makes. Only a step may change it.
	Made string `json:"made,omitempty"`

	Loud bool `json:"loud,omitempty"` // it has no digest: a link that leads out of the checkout, a file that cannot be read, a pipe
}

// key tells effects apart.
func (e Effect) key() string { return e.Does + " " + e.Name }

// List is all effects of one checkout, sorted by what they do and by name.
type List struct {
	Effects []Effect
	Rests   rests.On // what it was learnt from, the checkout's own reading too

	files   []boundFile
	refused []refusal
	dir     string
}

// Refused says why a list cannot be consented to: something that is run cannot be held to what it
// says. It is nil where all can.
func (l List) Refused() error {
	if len(l.refused) == 0 {
		return nil
	}
	x := l.refused[0]
	where := ""
	for _, e := range l.Effects {
		if e.Name == x.effect {
			where = e.From + ": "
		}
	}
	return fault.New(fault.ErrUsage, "%s%s cannot be approved: %s", where, x.effect, x.why).
		Advise("Move its commands into a script file of the project, and run that file by its name.")
}

// loud tells whether a file cannot be held to bytes.
func (l List) loud(name string) bool {
	return slices.ContainsFunc(l.files, func(f boundFile) bool { return f.name == name && f.loud })
}

// Remarks say which files are run that version control is told to leave alone and that no step is
// said to make: whoever makes them anew is asked again each time.
func (l List) Remarks() []string {
	var out []string
	w := openWorktree(l.dir)
	for _, f := range l.files {
		if f.plain && f.made == "" && w.found() && !w.tracks(f.name) && w.ignores(f.name) {
			top, _, below := strings.Cut(f.name, "/")
			glob := f.name
			if below {
				glob = top + "/**"
			}
			out = append(out, fmt.Sprintf("%s runs by your approval, and git ignores it. If a step creates it, add this line to that step. Without it, each change needs your approval: makes = [%q]", f.name, glob))
		}
	}
	return out
}

// ID is an approval id: "sha256:" and 64 hex digits.
type ID string

// ID is the approval id: the digest of the whole list. Equal checkouts have equal ids on
// all machines.
func (l List) ID() ID {
	facts := canon.Map{}
	for _, e := range l.Effects {
		facts[e.key()] = e.Digest
		for tree, digest := range e.Trees {
			facts[e.key()+", tree of "+tree] = digest
		}
	}
	return ID(canon.Digest(facts))
}

// Effects lists everything that consent to a checkout lets happen. The locks that are
// there count even where they are stale, since they are all there is to fetch by.
func Effects(s *checkout.State) List {
	r := reading.New(s.Host)
	c := &collector{s: s, d: s.Declaration, w: s.Written, bound: newBinder(s, r), alone: newBinder(s, nil)}
	defer c.bound.close()
	c.steps()
	c.services()
	c.routines()
	c.addons()
	c.variables(c.w.Variables, c.d.Variables, "")
	c.secrets()
	c.files()
	c.params()
	c.sources()
	c.includes()
	c.items(s.Lock, "")
	c.level()
	if s.Settings.ByCommits || s.Policies.ByCommits() {
		c.commits()
	}
	if s.Overlay != nil {
		c.variables(s.Overlay.Variables, s.Overlay.Variables, " (local)")
		c.items(s.OverlayLock, " (local)")
		for _, command := range s.Overlay.Host {
			c.add(Shows, "host command "+command+" (local)", command, declare.OverlayName, nil)
		}
	}
	if len(c.w.Data) > 0 {
		c.add(Reads, "data", strings.Join(c.w.Data, " ")+": nothing runs them, and a change of them asks nobody", declare.FileName, nil)
	}
	for _, f := range c.bound.found {
		bound := f.digest
		if f.made != "" { // equal checkouts have equal ids, whether the step was run in them or not
			bound = "made by step " + f.made
		}
		c.add(Runs, "file "+f.name, f.text, "the checkout", bound)
		if c.list[len(c.list)-1].Loud = f.loud; f.made != "" {
			c.list[len(c.list)-1].Made = f.digest
		}
	}
	out := List{Effects: c.list, Rests: s.Rests.Join(r.On()), files: append(c.bound.found, c.bound.inside...), refused: c.bound.refused, dir: s.Dir()}
	slices.SortStableFunc(out.Effects, func(a, b Effect) int {
		return cmp.Or(slices.Index(Doings, a.Does)-slices.Index(Doings, b.Does), rank(a.Name)-rank(b.Name), strings.Compare(a.Name, b.Name))
	})
	return out
}

// rank orders what does the same by how much it can do.
func rank(name string) int {
	kind, _, _ := strings.Cut(name, " ")
	return slices.Index([]string{"commits", "step", "evidence", "file", "secret", "add-on", "data", "service", "probe", "routine", "save", "load", "answer", "place", "build", "making", "install", "settings", "variable", "param", "network", "names", "isolation", "host", "source", "registry", "include", "toolchain", "libraries", "root"}, kind)
}

type collector struct {
	s     *checkout.State
	d, w  *declare.Declaration
	bound *binder
	alone *binder // what a single thing is bound with when it starts: it notes nothing
	list  []Effect
	tools map[string]declare.Toolchain // as they are declared; made by asked
}

// add puts an effect on the list. bound is what consent is bound to besides the text;
// nil where the text is all.
func (c *collector) add(does, name, text, from string, bound any) {
	if bound == nil {
		bound = text
	}
	c.list = append(c.list, Effect{Does: does, Name: name, Text: text, From: from, Digest: canon.Digest(canon.Map{"does": does, "name": name, "bound": bound})})
}

// run adds something that is run: written as it stands, filled as it would run now.
func (c *collector) run(name string, written, filled declare.Run, from string) {
	if written.Empty() {
		return
	}
	c.add(Runs, name, runText(filled), from, written.Meaning())
	c.bound.run(name, filled)
	if runText(written) != runText(filled) {
		c.bound.run(name, written)
	}
}

// unasked checks that what runs without being asked by name can be started from approved copies.
func (c *collector) unasked(name string, filled declare.Run) {
	b := *c.alone // which looks for itself
	defer b.close()
	if _, _, err := b.pinned(filled); err != nil {
		c.bound.refused = append(c.bound.refused, refusal{name, err.Error()})
	}
}

func runText(r declare.Run) string {
	if len(r.Argv) > 0 {
		quoted := make([]string, len(r.Argv))
		for i, a := range r.Argv {
			if quoted[i] = a; a == "" || strings.ContainsAny(a, " \t\n\"'") {
				quoted[i] = strconv.Quote(a)
			}
		}
		return strings.Join(quoted, " ")
	}
	if len(r.Shell) > 0 {
		return strings.Join(r.Shell, " ") + "\n" + r.Script
	}
	return r.Script
}

func at(p fault.Place) string {
	if p.Line == 0 {
		return p.File
	}
	return p.File + ":" + strconv.Itoa(p.Line)
}

func (c *collector) steps() {
	for i, x := range c.w.Steps {
		now := c.d.Steps[i]
		c.run("step "+x.Name, x.Run, now.Run, at(x.Place))
		if x.When == "shell" {
			c.unasked("step "+x.Name, now.Run)
		}
		c.run("evidence of "+x.Name, x.Evidence, now.Evidence, at(x.Place))
		c.unasked("evidence of "+x.Name, now.Evidence)
		when := cmp.Or(x.When, "due")
		text := "when " + when
		if len(x.Reads) > 0 {
			text += ", reads " + strings.Join(x.Reads, " ")
		}
		if len(x.Needs) > 0 {
			text += ", needs " + strings.Join(x.Needs, " ")
		}
		if len(x.After) > 0 {
			text += ", after " + strings.Join(x.After, " ")
		}
		if len(x.Makes) > 0 {
			text += ", makes " + strings.Join(x.Makes, " ")
		}
		if text != "when due" {
			c.add(Runs, "step "+x.Name+", when", text, at(x.Place), nil)
		}
	}
}

func (c *collector) services() {
	for i, x := range c.w.Services {
		now := c.d.Services[i]
		from := at(x.Place)
		c.run("service "+x.Name, x.Run, now.Run, from)
		c.run("probe of "+x.Name, x.Ready.Command, now.Ready.Command, from)
		c.unasked("probe of "+x.Name, now.Ready.Command)
		for j, v := range x.Variables {
			c.add(Sets, "variable "+v.Name+" of "+x.Name, conditional(v, now.Variables[j].Value), at(v.Place), v.Text())
		}
		if x.Tool != "" {
			c.card(x, now)
		}
		text := "restart " + string(x.Restart)
		if copies := cmp.Or(x.CopiesOf, strconv.Itoa(x.Copies)); copies != "1" {
			text = copies + " copies, " + text
		}
		for _, p := range x.Ports {
			text += fmt.Sprintf(", port %s %d", p.Name, p.Wanted)
		}
		if len(x.Needs) > 0 {
			text += ", needs " + strings.Join(x.Needs, " ")
		}
		probe := canon.Map{"http": x.Ready.HTTP, "tcp": x.Ready.TCP, "log": x.Ready.Log, "file": x.Ready.File, "signal": x.Stop.Signal, "segment": strings.Join(x.Segments, " "), "auto": x.Auto}
		if len(x.Reads) > 0 || x.WhenChanged != declare.Restarted {
			text += ", when changed " + x.WhenChanged
			for _, glob := range x.Reads {
				text += " " + glob
			}
		}
		if x.Ready.File != "" {
			text += ", ready by " + x.Ready.File
		}
		c.add(Runs, "service "+x.Name+", how", text, from, canon.Map{"text": text, "probe": probe})
	}
}

// card adds what the card of a service's tool has it do, as the lock has the card.
func (c *collector) card(x, now declare.Service) {
	if c.s.Lock == nil {
		return
	}
	def := card.Service(c.s.Lock.Items[x.Tool].Service)
	from := "card of " + x.Tool + ", in " + lock.FileName
	settings := def.Group("setting")
	var pairs []string
	for _, name := range lock.Sorted(settings) {
		value, own := now.Settings[name]
		if !own {
			value = settings[name]
		}
		pairs = append(pairs, "@{"+name+"}", value)
	}
	fill := strings.NewReplacer(pairs...).Replace
	free := c.settings(x, now, settings)
	if len(x.Options) > 0 {
		c.add(Runs, "service "+x.Name+", options", strings.Join(now.Options, " "), at(x.Place), x.Options)
		c.bound.run("service "+x.Name+", options", declare.Run{Argv: append([]string{x.Tool}, now.Options...)})
	}
	for _, what := range []struct{ key, name string }{
		{"once", "data of " + x.Name}, {"settle", "settling of " + x.Name}, {"run", "service " + x.Name}, {"ready.command", "probe of " + x.Name},
		{"console", "routine " + x.Name + "-console"}, {"data.save", "save of " + x.Name}, {"data.load", "load of " + x.Name},
	} {
		text := def[what.key]
		own := what.key == "run" && !x.Run.Empty() || what.key == "ready.command" && x.StatedReady
		if text == "" || own {
			continue
		}
		run := card.RunOf(text)
		if what.key == "run" {
			run, _ = def.Command(free, now.Options)
			text = def["run"] + " any " + def["any"]
		}
		run.Script = fill(run.Script)
		for i := range run.Argv {
			run.Argv[i] = fill(run.Argv[i])
		}
		c.add(Runs, what.name, runText(run), from, text)
		c.bound.run(what.name, run)
		if what.key == "ready.command" {
			c.unasked(what.name, run)
		}
	}
	for _, name := range lock.Sorted(settings) {
		written, text := settings[name], settings[name]
		if when, ok := x.Conditions[name]; ok {
			written, text = when.Text(), when.Text()
		} else if own, ok := x.Settings[name]; ok {
			written, text = own, now.Settings[name]
		}
		c.add(Sets, "setting "+name+" of "+x.Name, text, from, written)
	}
	published := def.Group("publish")
	for _, name := range lock.Sorted(published) {
		c.add(Sets, "published "+name+" of "+x.Name, fill(published[name]), from, published[name])
	}
	if stale := def["stale"]; stale != "" {
		c.add(Writes, "stale files of "+x.Name, "removes from its data: "+stale, from, nil)
	}
	rest := canon.Map{}
	for key, value := range def {
		group, _, _ := strings.Cut(key, ".")
		if slices.Contains([]string{"port", "stop", "package"}, group) || slices.Contains([]string{"data.begins", "data.ends", "data.stopped", "ready.log", "ready.within"}, key) {
			rest[key] = value
		}
	}
	if len(rest) > 0 {
		text := ""
		for _, key := range lock.Sorted(rest) {
			text += fmt.Sprintf("%s %v, ", key, rest[key])
		}
		c.add(Runs, "service "+x.Name+", as its card says", strings.TrimSuffix(text, ", "), from, rest)
	}
}

// settings adds those of a service's settings that its card does not name, which become arguments
// of the server, and returns them.
func (c *collector) settings(x, now declare.Service, ofCard map[string]string) (free map[string]string) {
	free = map[string]string{}
	for _, name := range lock.Sorted(now.Settings) {
		if value, named := ofCard[name]; named {
			c.bound.knows(card.Variable(name), cmp.Or(now.Settings[name], value))
			continue
		}
		free[name] = now.Settings[name]
		written := x.Settings[name]
		if when, ok := x.Conditions[name]; ok {
			written = when.Text()
		}
		c.add(Sets, "setting "+name+" of "+x.Name, now.Settings[name], at(x.Place), written)
	}
	for name, value := range ofCard {
		if _, own := now.Settings[name]; !own {
			c.bound.knows(card.Variable(name), value)
		}
	}
	return free
}

func (c *collector) routines() {
	for i, x := range c.w.Routines {
		c.run("routine "+x.Name, x.Run, c.d.Routines[i].Run, at(x.Place))
		if len(x.Needs) > 0 {
			c.add(Runs, "routine "+x.Name+", needs", strings.Join(x.Needs, " "), at(x.Place), nil)
		}
	}
}

func (c *collector) addons() {
	for _, x := range c.w.Addons {
		from := at(x.Place)
		c.run("add-on "+x.Name+" lists", x.List, x.List, from)
		c.unasked("add-on "+x.Name+" lists", x.List)
		c.run("add-on "+x.Name+" adds", x.Add, x.Add, from)
		c.run("add-on "+x.Name+" removes", x.Remove, x.Remove, from)
		c.add(Fetches, "add-on "+x.Name+" wants", strings.Join(x.Want, ", "), from, nil)
		if len(x.Files) > 0 { // ~/ is the person's own home
			c.add(Reads, "add-on "+x.Name+" leaves", strings.Join(x.Files, ", ")+", of which a digest goes into the lock", from, nil)
		}
		if c.s.Lock != nil && len(c.s.Lock.Pictures[x.Name]) > 0 {
			picture := strings.Join(c.s.Lock.Pictures[x.Name], ", ")
			c.add(Fetches, pictureName(x.Name), picture, lock.FileName, nil)
		}
	}
}

func pictureName(addon string) string { return "add-on " + addon + " holds" }

// conditional is the text of a variable as it is now, and what else it may be.
func conditional(v declare.Variable, now string) string {
	if v.Unset {
		return "is not set"
	}
	if v.When == nil {
		return now
	}
	return now + "   (" + v.Text() + ")"
}

func (c *collector) variables(written, filled []declare.Variable, whose string) {
	for i, v := range written {
		c.add(Sets, "variable "+v.Name+whose, conditional(v, filled[i].Value), at(v.Place), v.Text())
		c.bound.knows(v.Name, filled[i].Value)
	}
}

func (c *collector) secrets() {
	for _, x := range c.w.Secrets {
		kind, what, _ := strings.Cut(x.From, ":")
		if kind == "command" {
			c.add(Runs, "secret "+x.Name, what, at(x.Place), nil)
			c.bound.run("secret "+x.Name, declare.Run{Script: what})
			c.unasked("secret "+x.Name, declare.Run{Script: what})
			continue
		}
		c.add(Reads, "secret "+x.Name, x.From, at(x.Place), nil)
	}
}

func (c *collector) files() {
	for _, x := range c.w.Files {
		digest := c.bound.whole(x.Template)
		c.add(Writes, "file "+x.Path, "from the template "+x.Template, at(x.Place), canon.Map{"template": x.Template, "bytes": digest})
	}
}

// params are what persons may choose, and what holds when they do not: what they choose is
// theirs, and what is declared is in the list.
func (c *collector) params() {
	for _, x := range c.w.Params {
		text := fmt.Sprintf("%s, default %q", x.Kind, x.Default)
		if len(x.Of) > 0 {
			text += ", one of " + strings.Join(x.Of, ", ")
		}
		if now := c.d.Values[x.Name]; now != x.Default {
			text += fmt.Sprintf(" (here %q)", now)
		}
		c.add(Sets, "param "+x.Name, text, at(x.Place), x.Meaning())
	}
}

func (c *collector) sources() {
	if c.w.Depot != "" {
		c.add(Fetches, "depot", "trees are copied from "+c.w.Depot+", and held to the lock", declare.FileName, nil)
	}
	for _, x := range c.w.Sources {
		words := []string{x.Kind, cmp.Or(x.URL, "from where this machine's own settings say")}
		if x.Kind == "debian" {
			words = append(words, "suites "+strings.Join(x.Debian.Suites, " "), "components "+strings.Join(x.Debian.Components, " "))
			for _, also := range x.Debian.Also {
				words = append(words, "suite "+also.Suite+" "+cmp.Or(also.URL, "from where this machine's own settings say"))
				if also.Snapshots != "" {
					words = append(words, "earlier states of it from "+also.Snapshots)
				}
			}
			if x.Debian.Keyring != "" {
				words = append(words, "signed by the keys in "+x.Debian.Keyring)
			}
			if x.Debian.Docs {
				words = append(words, "with documentation")
			}
			if x.Debian.Snapshots != "" {
				words = append(words, "earlier states from "+x.Debian.Snapshots)
			}
			if x.Debian.Expired {
				words = append(words, "EXPIRED RELEASES ARE ACCEPTED")
			}
		}
		if l := x.Listing; l != nil {
			words[1] = "index " + l.Index
			words = append(words, "archives "+l.Archive, "checksums "+cmp.Or(l.Sums, "none stated: of what comes first"), "signature "+cmp.Or(l.Signature, "none"), "commands "+strings.Join(l.Bin, " "))
		}
		if len(x.Keys) > 0 {
			words = append(words, "signed by "+strings.Join(x.Keys, " or "))
		}
		if x.Mix {
			words = append(words, "every index is asked for every name")
		}
		switch x.SumDB {
		case "":
		case "off":
			words = append(words, "NO CHECKSUM DATABASE")
		default:
			words = append(words, "checksum database "+x.SumDB)
		}
		ring := x.Debian.Keyring
		if x.Listing != nil {
			ring = x.Listing.Keyring
			if ring != "" {
				words = append(words, "signed by the keys in "+ring)
			}
		}
		text := strings.Join(words, ", ")
		c.add(Fetches, "source "+x.Name, text, at(x.Place), canon.Map{"text": text, "keys": c.bound.whole(ring)})
	}
	for _, r := range source.NamedByCheckout(c.bound.r, c.s.Dir()) {
		c.add(Fetches, "registry of npm packages in "+c.bound.shown(r.File), r.URL+", named by a file that is not your own; it gets none of your credentials", c.bound.shown(r.File), r.URL)
	}
}

func (c *collector) includes() {
	for _, x := range c.w.Includes {
		if x.Pin != "" {
			c.add(Fetches, "include "+x.Name, "pinned at "+x.Pin, x.Name, canon.Map{"pin": x.Pin, "bytes": x.Digest})
		}
	}
}

// level is how much of the host shows.
func (c *collector) level() {
	c.add(Shows, "isolation", string(c.w.Isolation), declare.FileName, nil)
	if c.w.Network != "" {
		text := c.w.Network
		if c.w.Reach != nil {
			text = "private, reaching " + cmp.Or(strings.Join(c.w.Reach, ", "), "no other machine")
		}
		c.add(Shows, "network", text, declare.FileName, nil)
	}
	if c.w.Named {
		c.add(Shows, "names", "programs in a sealed root and in a private network may ask services by name", declare.FileName, nil)
	}
	for _, command := range c.w.Host {
		c.add(Shows, "host command "+command, command, declare.FileName, nil)
	}
}

// items adds what a lock brings: for each tool its version and archives, what its card
// sets and how it is asked, what builds or installs it.
func (c *collector) items(l *lock.Lock, whose string) {
	if l == nil {
		return
	}
	file := lock.FileName
	if whose != "" {
		file = lock.OverlayName
	}
	for _, name := range lock.Sorted(l.Items) {
		c.item(name, whose, file, l.Items[name])
	}
	for _, name := range lock.Sorted(l.Roots) {
		facts := canon.Map{}
		text := ""
		trees := map[string]string{}
		for _, on := range lock.Sorted(l.Roots[name]) {
			r := l.Roots[name][on]
			stated(trees, on, name, r.Tree)
			facts[on] = canon.Map{"packages": r.Packages, "files": r.Files, "docs": r.Docs}
			text = fmt.Sprintf("%d packages of %s", len(r.Packages), r.Version)
		}
		c.add(Runs, "making of root "+name+whose, "programs of the root itself, in a view of nothing else, as far as it has them: "+strings.Join(system.Programs(), ", "), file, nil)
		c.add(Fetches, "root "+name+whose, text, file, facts)
		c.list[len(c.list)-1].Trees = trees
	}
	for _, name := range lock.Sorted(l.Sources) {
		if l.Sources[name].Kind == "npm" && l.Sources[name].Address != "declaration" {
			c.add(Runs, settingsOf+name+whose, "npm config get registry: this machine's npm, in the top folder, where no variable and no file names an address", file, nil)
		}
	}
	for _, name := range lock.Sorted(l.Libraries) {
		c.library(name, whose, file, l.Libraries[name])
	}
}

// settingsOf begins the name of asking this machine's npm where packages come from.
const settingsOf = "settings of "

// item adds what one toolchain brings.
func (c *collector) item(name, whose, file string, item lock.Item) {
	text := item.Version + " from " + item.Source
	packages := map[string]bool{}
	var scripts names
	archives := canon.Map{}
	trees := map[string]string{}
	for _, on := range lock.Sorted(item.Platforms) {
		group := canon.Map{}
		for _, part := range lock.Sorted(item.Platforms[on]) {
			p := item.Platforms[on][part]
			group[part] = partFacts(p)
			stated(trees, on, part, p.Tree)
			if part != name {
				packages[part] = true
			}
			if p.Build != "" {
				c.add(Runs, "build of "+name+whose+" on "+on, p.Build+" with "+p.Builder, file, nil)
			}
			scripts.add(p.Scripts...)
		}
		archives[on] = group
	}
	if len(packages) > 0 {
		text += ": " + strings.Join(lock.Sorted(packages), ", ")
	}
	c.add(Fetches, "toolchain "+name+whose, text, file, canon.Map{"version": item.Version, "source": item.Source, "archives": archives, "prefix": item.Prefix, "shown": item.Shown, "for": item.For})
	c.list[len(c.list)-1].Trees = trees
	if declared, ok := c.asked(name); ok && len(declared.Scripts) > 0 {
		scripts = declared.Scripts
	}
	c.installs(name+whose, file, scripts)
	if item.Answer != "" {
		c.add(Runs, "answer of "+name+whose, item.Answer, "card of "+name+", in "+file, nil)
		c.bound.run("answer of "+name+whose, declare.Run{Script: item.Answer})
	}
	if item.Place != "" {
		c.add(Runs, "place of "+name+whose, item.Place, "card of "+name+", in "+file, nil)
		c.bound.run("place of "+name+whose, declare.Run{Script: item.Place})
	}
	for _, v := range lock.Sorted(item.Variables) {
		c.add(Sets, "variable "+v+" by the card of "+name+whose, item.Variables[v], "card of "+name+", in "+file, nil)
	}
}

// library adds what a set of libraries brings.
func (c *collector) library(name, whose, file string, x lock.Library) {
	facts := canon.Map{}
	text := ""
	trees := map[string]string{}
	var scripts names
	for _, on := range lock.Sorted(x.On) {
		set := x.On[on]
		facts[on] = canon.Map{"packages": set.Packages, "for": set.For, "builder": set.Builder}
		stated(trees, on, name, set.Tree)
		text = fmt.Sprintf("%d packages for %s", len(set.Packages), set.For)
		if allowed, ok := strings.CutPrefix(set.Builder, "scripts "); ok {
			scripts.add(strings.Fields(allowed)...)
		}
		if set.Builder == "source" {
			c.builds(name, set, file)
		}
	}
	if x.Folder != "" {
		text += ", shown in " + path.Join(x.Folder, "node_modules")
	}
	c.add(Fetches, "libraries "+name+whose, text, file, canon.Map{"kind": x.Kind, "source": x.Source, "folder": x.Folder, "on": facts})
	c.list[len(c.list)-1].Trees = trees
	c.installs(name+whose, file, scripts)
}

// installs adds that packages run scripts of their own when they are installed.
func (c *collector) installs(of, file string, packages []string) {
	if len(packages) > 0 {
		c.add(Runs, "install scripts of "+of, "of the npm packages "+strings.Join(packages, ", "), file, nil)
	}
}

// stated notes the digest of a tree that a lock states.
func stated(trees map[string]string, on, part string, tree canon.TreeDigest) {
	if tree != "" {
		trees[on+" "+part] = string(tree)
	}
}

// names are names in the order in which they came, each once.
type names []string

func (n *names) add(more ...string) {
	for _, name := range more {
		if !slices.Contains(*n, name) {
			*n = append(*n, name)
		}
	}
}

// builds adds that packages of a set are built from their source, which runs what they say.
func (c *collector) builds(name string, set lock.Set, file string) {
	var built []string
	for _, x := range set.List() {
		if !x.Wheel() {
			built = append(built, x.Name)
		}
	}
	what := "build of libraries " + name
	if !slices.ContainsFunc(c.list, func(e Effect) bool { return e.Name == what }) {
		c.add(Runs, what, "from their source, in a sealed root: "+strings.Join(built, ", "), file, nil)
	}
}

// asked finds what the declaration says of a tool.
func (c *collector) asked(name string) (declare.Toolchain, bool) {
	if c.tools == nil {
		c.tools = map[string]declare.Toolchain{}
		for _, t := range c.w.Toolchains {
			c.tools[t.Name] = t
		}
	}
	t, ok := c.tools[name]
	return t, ok
}

// partFacts is all of an archive but what machines learn of it.
func partFacts(p lock.Part) canon.Map {
	return canon.Map{
		"path": p.Path, "version": p.Version, "format": p.Format, "size": p.Size, "digest": p.Digest, "prefix": p.Prefix, "strip": p.Strip,
		"bin": p.Bin, "executable": p.Executable, "build": p.Build, "builder": p.Builder, "packages": p.Packages, "scripts": p.Scripts,
		"wants": p.Wants, "commands": p.Commands, "files": p.Files,
	}
}

// shown is a path as people of this checkout say it.
func (b *binder) shown(path string) string {
	if below, err := filepath.Rel(b.dir, path); err == nil && filepath.IsLocal(below) {
		return below
	}
	return path
}
