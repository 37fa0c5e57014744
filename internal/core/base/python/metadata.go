package python

import (
	"bufio"
	"bytes"
	"fmt"
	"net/textproto"
	"slices"

	"errors"
	"io"
)

// Metadata is what decides a resolution, of a package's core metadata
// (packaging.python.org, "Core metadata specifications").
type Metadata struct {
	Name           string // normalized
	Version        string
	Summary        string
	RequiresPython Specifiers
	Requires       []Requirement
	Extras         []string // normalized
	Odd            []string // lines of Requires-Dist that are none
}

// ParseMetadata reads a METADATA file.
func ParseMetadata(raw []byte) (*Metadata, error) {
	header, err := textproto.NewReader(bufio.NewReader(bytes.NewReader(raw))).ReadMIMEHeader()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("the metadata cannot be read: %w", err)
	}
	m := &Metadata{Name: Normal(header.Get("Name")), Version: header.Get("Version"), Summary: header.Get("Summary")}
	if !ValidName(m.Name) || m.Version == "" {
		return nil, errors.New("the metadata states no name and version")
	}
	if m.RequiresPython, err = ParseSpecifiers(header.Get("Requires-Python")); err != nil {
		m.RequiresPython = nil // as installers do with what is no specifier
	}
	for _, line := range header.Values("Requires-Dist") {
		r, err := ParseRequirement(line)
		if err != nil {
			m.Odd = append(m.Odd, line)
			continue
		}
		m.Requires = append(m.Requires, r)
	}
	for _, extra := range header.Values("Provides-Extra") {
		m.Extras = append(m.Extras, Normal(extra))
	}
	slices.Sort(m.Extras)
	return m, nil
}

// Under are the requirements that apply in an environment when these extras are asked for.
func (m *Metadata) Under(env map[string]string, extras []string) []Requirement {
	var out []Requirement
	for _, r := range m.Requires {
		holds := r.Marker.Holds(env, "")
		for _, extra := range extras {
			holds = holds || r.Marker.Holds(env, extra)
		}
		if holds {
			out = append(out, r)
		}
	}
	return out
}
