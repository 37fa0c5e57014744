package declare

import (
	"fmt"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
)

// CommonSegment is the one that services are in which name none.
const CommonSegment = "common"

// In are the segments of a private network that a service is in.
func (s Service) In() []string {
	if len(s.Segments) == 0 {
		return []string{CommonSegment}
	}
	return s.Segments
}

// Ground names the network that a service stands on: services in the same segments share
// one, and see each other at 127.0.0.1.
func (s Service) Ground() string { return strings.Join(s.In(), "+") }

// Sees tells whether two services share a segment.
func (s Service) Sees(other Service) bool {
	return slices.ContainsFunc(s.In(), func(name string) bool { return slices.Contains(other.In(), name) })
}

// unreached says why one service cannot reach another, or nothing when it can.
func (d *Declaration) unreached(from, to string) (what, do string) {
	a, ok := d.Service(from)
	b, known := d.Service(to)
	if d.Network != NetworkPrivate || !ok || !known || a.Sees(b) {
		return "", ""
	}
	return fmt.Sprintf("service %s cannot reach service %s: it is in segment %s, and %s in %s", from, to, strings.Join(a.In(), ", "), to, strings.Join(b.In(), ", ")),
		fmt.Sprintf("Put one of them in a segment of the other too, for example in [service.%s]: segment = [%s]", from, quotedList(append(slices.Clone(a.In()), b.In()[0])))
}

func quotedList(names []string) string {
	for i, n := range names {
		names[i] = fmt.Sprintf("%q", n)
	}
	return strings.Join(names, ", ")
}

// segments finds two services that a third would reach at one number.
func (d *Declaration) segments() (out []fault.Finding) {
	if d.Network != NetworkPrivate {
		return nil
	}
	for _, x := range d.Services {
		at := map[int]string{}
		for _, y := range d.Services {
			if !x.Sees(y) {
				continue
			}
			for copy := range y.Copies {
				for _, p := range y.Ports {
					n := p.Wanted + copy
					if other := at[n]; other != "" && other != y.Name && (x.Name == y.Name || x.Name == other || d.apart(other, y.Name)) {
						out = append(out, fault.Finding{Place: y.Place, What: fmt.Sprintf("services %s and %s both have port %d, and %s reaches both", other, y.Name, n, x.Name), Do: "Give one of them another number, or put them where nobody reaches both."})
					}
					at[n] = y.Name
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b fault.Finding) int { return strings.Compare(a.What, b.What) })
	return slices.CompactFunc(out, func(a, b fault.Finding) bool { return a.What == b.What })
}

// apart tells whether two services do not see each other, so that nothing else finds out that
// they clash.
func (d *Declaration) apart(a, b string) bool {
	x, _ := d.Service(a)
	y, _ := d.Service(b)
	return !x.Sees(y)
}
