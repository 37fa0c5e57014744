// Package proof compares a machine with a lock, down to the file.
//
// Every row rests on what this run asked of the thing itself: the files of the store, the links of
// commands, the tools, the steps' inputs, the processes and sockets of services, the objects of a cluster.
// A note of Trammel's own only says where to look. What could not be asked is NotChecked with the reason;
// it counts as not holding. docs/proof.md has the table: row, what is asked, of whom, what it cannot see.
//
// It changes nothing but one thing: a part that it finds damaged is marked in the store, so
// that the next fit mends it. It starts tools, evidence and lists of add-ons only with consent.
package proof

import (
	"context"
	"errors"
	"slices"
	"strings"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/policy"
	"app.example/trammel/internal/core/written/lock"
)

// States of a check.
const (
	OK         = "ok"
	Drift      = "drift"
	Due        = "due"
	Missing    = "missing"
	NotChecked = "not checked" // the thing could not be asked; the row's text says why
)

// Row is the outcome of one check.
type Row struct {
	Check   string   `json:"check"`         // as earlier releases called it: "store"
	Name    string   `json:"row,omitempty"` // as people read it: "files"
	State   string   `json:"state"`
	Text    string   `json:"text"`
	Details []Detail `json:"details,omitempty"`
	ByName  bool     `json:"by_name,omitempty"` // it rests on names and versions, not on bytes
}

// Names of rows that people read by other words than the JSON of earlier releases has.
var names = map[string]string{"store": "files", "frame": "commands", "answers": "versions", "additions": "your own tools", "files": "rendered files"}

// Named is what people call a check.
func Named(check string) string {
	if name, ok := names[check]; ok {
		return name
	}
	return check
}

// Detail is one thing that is not as it should be.
type Detail struct {
	Thing string `json:"thing"` // a file, a command, a variable
	What  string `json:"what"`
}

// Report is the outcome of all checks.
type Report struct {
	Project     string             `json:"project"`
	Platform    string             `json:"platform"`
	Lock        lock.ID            `json:"lock"`
	Environment lock.EnvironmentID `json:"environment"`
	Deep        bool               `json:"deep"`
	Rows        []Row              `json:"checks"`
	Mend        []string           `json:"mend"` // commands, in order
	Parts       []Part             `json:"parts,omitempty"`
	Policies    []Policy           `json:"policies,omitempty"` // by which it was judged
}

// Policy is one that was in force.
type Policy struct {
	Name   string `json:"name"`
	Digest string `json:"digest"`
}

// Part is one locked part as it was found.
type Part struct {
	Label   string   `json:"label"` // as messages have it: "node", "root trixie"
	Item    string   `json:"item"`
	Version string   `json:"version"`
	Tree    string   `json:"tree"`  // the locked digest
	State   string   `json:"state"` // ok, drift, missing or not checked
	Differs []string `json:"differs,omitempty"`
}

// OK tells whether every check holds.
func (r *Report) OK() bool {
	return !slices.ContainsFunc(r.Rows, func(x Row) bool { return x.State != OK })
}

// Options of one verification.
type Options struct {
	Given    approval.Given // consent to start the tools of this project
	NotGiven error          // why there is none, or nil
	Deep     bool           // hash every byte instead of comparing stamps
}

// Verify runs all checks.
func Verify(ctx context.Context, p *checkout.State, o Options) (*Report, error) {
	var sight *setup.Sight
	look := func() (machine, error) {
		var err error
		if sight, err = setup.Look(p); err != nil {
			return nil, err
		}
		here := &here{p: p, s: sight}
		if o.Given.Holds() {
			here.up, err = setup.With(o.Given, sight)
		}
		return here, err
	}
	return verify(ctx, p, o, &here{p: p}, look)
}

// verify asks a machine: store before it is known what is fitted, and the one that look returns after.
func verify(ctx context.Context, p *checkout.State, o Options, store machine, look func() (machine, error)) (*Report, error) {
	v := &verifier{p: p, o: o, m: store, Report: Report{Project: p.Declaration.Project, Platform: p.Platform.String(), Deep: o.Deep}}
	v.policy()
	l := p.Lock
	if l == nil {
		v.row("lock", Drift, firstLine(p.LockErr))
		v.mend("trammel lock")
		v.unchecked("store", "frame", "answers", "variables", "steps", "services")
		return &v.Report, nil
	}
	v.l, v.Lock, v.Environment = l, l.ID(), l.EnvironmentID(p.Platform)
	v.lock()
	if !l.Covers(p.Platform) {
		v.unchecked("store", "frame", "answers", "variables", "steps", "services")
		return &v.Report, nil
	}
	v.store(ctx)
	if err := ctx.Err(); err != nil {
		return nil, context.Cause(ctx)
	}
	m, err := look()
	if err != nil {
		rest := []string{"frame", "answers", "variables", "steps", "services"}
		switch {
		case errors.Is(err, checkout.ErrNotFitted): // which the row above says
		case p.Usable() != nil: // the lock is to be mended first, and may be another one then
			v.row("frame", NotChecked, fault.OneLine(err))
			v.mend("trammel lock")
			rest, v.fits = rest[1:], nil
		default:
			v.row("frame", NotChecked, fault.OneLine(err))
			v.fit("")
			rest = rest[1:]
		}
		v.unchecked(rest...)
		return v.done(), nil
	}
	v.m = m
	v.commands()
	v.libraries()
	v.versions(ctx)
	v.variables()
	v.additions(ctx)
	v.files()
	v.steps()
	v.evidence(ctx)
	v.addons(ctx)
	v.services(ctx)
	return v.done(), ctx.Err()
}

type verifier struct {
	Report
	p    *checkout.State
	l    *lock.Lock
	m    machine
	o    Options
	fits []string // what to name in trammel fit
}

func (v *verifier) row(check, state, text string, details ...Detail) {
	v.add(Row{Check: check, State: state, Text: text, Details: details})
}

func (v *verifier) add(r Row) {
	r.Name = Named(r.Check)
	v.Rows = append(v.Rows, r)
}

func (v *verifier) unchecked(checks ...string) {
	for _, c := range checks {
		v.row(c, NotChecked, "the row above comes first")
	}
}

// consent adds a row that needs consent to be asked, and there is none.
func (v *verifier) consent(check string) {
	v.row(check, NotChecked, firstLine(v.o.NotGiven))
	if !errors.As(v.o.NotGiven, new(*policy.Refused)) {
		v.mend("trammel approve")
	}
}

func (v *verifier) mend(command string) {
	if !slices.Contains(v.Mend, command) {
		v.Mend = append(v.Mend, command)
	}
}

// fit notes that fitting mends a thing.
func (v *verifier) fit(name string) {
	if !slices.Contains(v.fits, name) {
		v.fits = append(v.fits, name)
	}
}

// done puts the commands that mend into the order in which they work: the lock and consent before a fit,
// and services after it.
func (v *verifier) done() *Report {
	if len(v.fits) > 0 {
		// A whole fit does what cannot be named.
		if i := slices.Index(v.fits, ""); i >= 0 {
			v.mend("trammel fit")
		} else {
			v.mend("trammel fit " + shell.Words(v.fits...))
		}
	}
	slices.SortStableFunc(v.Mend, func(a, b string) int { return mendRank(a) - mendRank(b) })
	return &v.Report
}

func mendRank(command string) int {
	for rank, prefix := range []string{"take out ", "trammel lock", "trammel approve", "rm ", "mv ", "chmod ", "trammel fit", "trammel stop", "trammel start"} {
		if strings.HasPrefix(command, prefix) {
			return rank
		}
	}
	return 100
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// policy says whether the policies in force allow what is declared and locked; nothing where
// there are none.
func (v *verifier) policy() {
	if len(v.p.Policies) == 0 {
		return
	}
	for _, x := range v.p.Policies {
		v.Policies = append(v.Policies, Policy{x.Name, x.Digest})
	}
	if err := v.p.Allowed(); err != nil {
		row := Row{Check: "policy", State: Drift, Text: firstLine(err)}
		var refused *policy.Refused
		if errors.As(err, &refused) {
			for _, b := range refused.Breaches {
				row.Details = append(row.Details, Detail{b.Rule, b.What})
			}
		}
		v.add(row)
		v.mend("take out of the declaration what the policy refuses")
		return
	}
	v.row("policy", OK, strings.Join(v.p.Policies.Named(), ", "))
}

func (v *verifier) lock() {
	switch {
	case v.l.Declaration.Digest != v.p.Written.Digest():
		v.row("lock", Drift, "the declaration changed after it was locked")
		v.mend("trammel lock")
	case !v.l.Covers(v.p.Platform):
		v.row("lock", Drift, "not locked for "+v.p.Platform.String())
		v.mend("trammel lock")
	default:
		v.row("lock", OK, "resolved from this declaration")
	}
}
