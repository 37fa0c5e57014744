// Package report turns what verify found into a file that can be signed, kept in a
// repository, and compared with those of other machines.
//
// A report is an in-toto Statement (v1) in canonical JSON (RFC 8785): its subject is
// the environment id, its predicate all checks, all parts with their tree digests, and
// facts of the host that are recorded and not judged. It names no user and no secret,
// and no path but those within the project and within a part.
package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/proven/proof"
	"app.example/trammel/internal/core/written/lock"
)

// Types of the statement (in-toto Attestation Framework, Statement v1).
const (
	StatementType = "https://in-toto.io/Statement/v1"
	PredicateType = "https://trammel.example/report/v1"
)

// Statement is a report as the file has it.
type Statement struct {
	Type          string    `json:"_type"`
	Subject       []Subject `json:"subject"`
	PredicateType string    `json:"predicateType"`
	Predicate     Predicate `json:"predicate"`
}

// Subject is what a statement is about.
type Subject struct {
	Name   string            `json:"name"`
	Digest map[string]string `json:"digest"`
}

// Predicate is what was found.
type Predicate struct {
	Machine     string             `json:"machine"` // what the machine calls itself
	Project     string             `json:"project"`
	Platform    string             `json:"platform"`
	Lock        lock.ID            `json:"lock"`
	Environment lock.EnvironmentID `json:"environment"`
	Made        string             `json:"made"` // RFC 3339, UTC
	Deep        bool               `json:"deep"`
	OK          bool               `json:"ok"`
	Checks      []proof.Row        `json:"checks"`
	Parts       []proof.Part       `json:"parts"`
	Variables   map[string]string  `json:"variables"` // digests of values
	Host        map[string]string  `json:"host"`
	Policies    []proof.Policy     `json:"policies,omitempty"`
}

// Facts are what a report holds beside what verify found.
type Facts struct {
	Machine   string
	Made      time.Time
	Variables map[string]string // values; only their digests go in
	Host      map[string]string
	Hide      map[string]string // texts that must not be in it → what stands instead
}

// Make makes a report's canonical bytes.
func Make(r *proof.Report, f Facts) ([]byte, error) {
	clean := scrubber(f.Hide)
	s := Statement{
		Type: StatementType, PredicateType: PredicateType,
		Subject: []Subject{{Name: r.Project, Digest: digestOf(string(r.Environment))}},
		Predicate: Predicate{
			Machine: f.Machine, Project: r.Project, Platform: r.Platform, Lock: r.Lock, Environment: r.Environment,
			Made: f.Made.UTC().Format(time.RFC3339), Deep: r.Deep, OK: r.OK(), Policies: r.Policies, Variables: map[string]string{}, Host: map[string]string{},
		},
	}
	for _, row := range r.Rows {
		row.Name = "" // readers of earlier releases know the check alone
		row.Text = clean(row.Text)
		var details []proof.Detail
		for _, d := range row.Details {
			details = append(details, proof.Detail{Thing: clean(d.Thing), What: clean(d.What)})
		}
		row.Details = details
		s.Predicate.Checks = append(s.Predicate.Checks, row)
	}
	for _, p := range r.Parts {
		p.Differs = slices.Clone(p.Differs)
		for i, d := range p.Differs {
			p.Differs[i] = clean(d)
		}
		s.Predicate.Parts = append(s.Predicate.Parts, p)
	}
	for name, value := range f.Variables {
		s.Predicate.Variables[name] = canon.Digest(clean(value))
	}
	for name, value := range f.Host {
		s.Predicate.Host[name] = clean(value)
	}
	return canonical(s)
}

func digestOf(id string) map[string]string {
	algorithm, value, ok := strings.Cut(id, ":")
	if !ok {
		return map[string]string{}
	}
	return map[string]string{algorithm: value}
}

// canonical writes a value that encoding/json knows as RFC 8785 has it.
func canonical(v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber() // no number is in a report
	var facts any
	if err := d.Decode(&facts); err != nil {
		return nil, err
	}
	return append(canon.JSON(facts), '\n'), nil
}

// outside are absolute paths, which say where somebody keeps things.
var outside = lazy.Regexp(`(^|[\s"'=:,;(\[])/[^\s"',;:)\]]+`)

// scrubber takes texts out, the longest first, and then all absolute paths.
func scrubber(hide map[string]string) func(string) string {
	var texts []string
	for text := range hide {
		if len(text) > 2 {
			texts = append(texts, text)
		}
	}
	slices.SortFunc(texts, func(a, b string) int { return len(b) - len(a) })
	return func(s string) string {
		for _, text := range texts {
			s = strings.ReplaceAll(s, text, hide[text])
		}
		return outside().ReplaceAllString(s, "${1}(path)")
	}
}

func isPlatform(text string) bool {
	_, ok := platform.Parse(text)
	return ok
}

// Read reads a report and makes sure that it is one, in canonical form.
func Read(raw []byte) (*Statement, error) {
	var s Statement
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return nil, fault.New(fault.ErrUsage, "it is no report: %v", err)
	}
	switch {
	case s.Type != StatementType || s.PredicateType != PredicateType:
		return nil, fault.New(fault.ErrUsage, "it is a statement of another kind: %s", s.PredicateType)
	case s.Predicate.Machine == "" || s.Predicate.Environment == "" && s.Predicate.Lock == "" && s.Predicate.OK:
		return nil, fault.New(fault.ErrUsage, "it says neither of what machine nor of what environment it is")
	case !isPlatform(s.Predicate.Platform):
		return nil, fault.New(fault.ErrUsage, "%q is no platform that Trammel runs on", s.Predicate.Platform)
	case len(s.Subject) != 1 || fmt.Sprint(s.Subject[0].Digest) != fmt.Sprint(digestOf(string(s.Predicate.Environment))):
		return nil, fault.New(fault.ErrUsage, "its subject is another environment than that which it tells of")
	}
	if own, err := canonical(s); err != nil || !bytes.Equal(bytes.TrimSpace(own), bytes.TrimSpace(raw)) {
		return nil, fault.New(fault.ErrUsage, "it is not in canonical form")
	}
	return &s, nil
}
