package version

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// Each line is in ascending order; neighbours joined by "=" are equal.
func TestOrder(t *testing.T) {
	cases := []struct {
		scheme Scheme
		order  string
	}{
		// The chain of Semantic Versioning 2.0.0, item 11.
		{Semver, "1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 1.0.0"},
		{Semver, "0.9.0 0.10.0 1.2.3 1.10.0 18446744073709551617.0.0"},
		{Semver, "1.2.3-1 1.2.3-2 1.2.3-10 1.2.3-a 1.2.3"},
		{Go, "1.20 1.21rc1 1.21rc2 1.21.0 1.21.1 1.21.10 1.22beta1 1.22rc1 1.22.0"},
		{Dotted, "1.9 1.10 1.10.1 2.0rc1 2.0 2.0a 2.0b 2.1"},
		// Policy 5.6.12 and the sort(1)-like example there.
		{Debian, "1.0~~ 1.0~~a 1.0~ 1.0 1.0a 1.0+b1 1.0.1 1.0.1-1 1.0.1-1.1 1.0.1-2 1.1~rc1-1 1.1-1 1:0.5"},
		// PEP 440, "Summary of permitted suffixes and relative ordering".
		{PEP440, "1.dev0 1.0.dev456 1.0a1 1.0a2.dev456 1.0a12.dev456 1.0a12 1.0b1.dev456 1.0b2 1.0b2.post345.dev456 1.0b2.post345 1.0rc1.dev456 1.0rc1 1.0 1.0+abc.5 1.0+abc.7 1.0+5 1.0.post456.dev34 1.0.post456 1.0.15 1.1.dev1 1!0.1"},
		{Dotted, "8.0.36 8.0.36-1 8.4.0"},
	}
	for _, c := range cases {
		list := strings.Fields(c.order)
		for i := range list {
			for j := range list {
				want := compareInt(i, j)
				if got := compareInt(c.scheme.Compare(list[i], list[j]), 0); got != want {
					t.Errorf("%s: %s against %s is %d, not %d", c.scheme, list[i], list[j], got, want)
				}
			}
		}
		shuffled := slices.Clone(list)
		rand.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		Newest(c.scheme, shuffled)
		slices.Reverse(shuffled)
		if !slices.Equal(shuffled, list) {
			t.Errorf("%s: sorted to %v", c.scheme, shuffled)
		}
	}
	if Semver.Compare("1.0.0+a", "1.0.0+b") != 0 {
		t.Error("build metadata counts")
	}
}

func compareInt(a, b int) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func TestAsks(t *testing.T) {
	goVersions := "1.22.9 1.23.0 1.24.5 1.24.6 1.25rc1 1.25rc2"
	nodeVersions := "18.20.4 20.0.0-rc.1 22.4.0 22.5.0 22.11.0 23.0.0 2.0.0"
	cases := []struct {
		scheme        Scheme
		ask, versions string
		want          string // "" when nothing will do
	}{
		{Go, "1.24", goVersions, "1.24.6"},
		{Go, "1.2", goVersions, ""},
		{Go, "=1.24.5", goVersions, "1.24.5"},
		{Go, "latest", goVersions, "1.24.6"},
		{Go, "1.25", goVersions, ""},
		{Go, "1.25rc1", goVersions, "1.25rc1"},
		{Go, ">=1.25rc1", goVersions, "1.25rc2"},
		{Go, ">=1.22, <1.24", goVersions, "1.23.0"},
		{Go, "1", goVersions, "1.24.6"},
		{Semver, ">=22.5, <23", nodeVersions, "22.11.0"},
		{Semver, "22", nodeVersions, "22.11.0"},
		{Semver, "2", nodeVersions, "2.0.0"},
		{Semver, "20", nodeVersions, ""},
		{Semver, "=20.0.0-rc.1", nodeVersions, "20.0.0-rc.1"},
		{Semver, "22, !=22.11.0", nodeVersions, "22.5.0"},
		{Semver, "<=22.5.0, >2", nodeVersions, "22.5.0"},
		{Debian, "7.0", "5:7.0.9-1 5:7.0.15-1 5:7.2.1-1 5:70.0-1", "5:7.0.15-1"},
		{PEP440, ">=3.9, <3.12", "3.8 3.9 3.11.7 3.12.0a1 3.12", "3.11.7"},
		{PEP440, "2", "1.9 2.0 2.1.post1 2.2.dev1 2.2rc1", "2.1.post1"},
		{Dotted, "17", "16.9 17.1 17.2 17.2rc1 170.1", "17.2"},
	}
	for _, c := range cases {
		a, err := ParseAsk(c.ask)
		if err != nil {
			t.Fatal(err)
		}
		if got, _ := a.Best(c.scheme, strings.Fields(c.versions)); got != c.want {
			t.Errorf("%s %q of %s: %q, not %q", c.scheme, c.ask, c.versions, got, c.want)
		}
	}
	for _, bad := range []string{"", "^1.2", "1.x.*", ">=", "1.2 1.3", "=,1", "v1"} {
		if _, err := ParseAsk(bad); err == nil {
			t.Errorf("%q is taken for an ask", bad)
		}
	}
	a, _ := ParseAsk("1.23.5")
	if below, above := a.Around(Go, strings.Fields(goVersions)); below != "1.23.0" || above != "1.24.5" {
		t.Errorf("around 1.23.5: %q and %q", below, above)
	}
}

func TestRangesOfPackageJSON(t *testing.T) {
	cases := []struct {
		ranges  string
		in, out string
	}{
		{"^18.17.0 || >=20.5.0", "18.17.0 18.20.4 20.5.0 24.1.0", "18.16.9 19.0.0 20.4.9"},
		{"^1.2.3", "1.2.3 1.9.0", "1.2.2 2.0.0 1.3.0-rc.1"},
		{"^0.2.3", "0.2.3 0.2.9", "0.3.0 1.0.0"},
		{"^0.0.3", "0.0.3", "0.0.4"},
		{"~1.2.3", "1.2.3 1.2.9", "1.3.0"},
		{"~1", "1.0.0 1.9.9", "2.0.0"},
		{"1.2 - 2", "1.2.0 2.0.0 2.9.9", "1.1.9 3.0.0"},
		{"1.2.x", "1.2.0 1.2.9", "1.3.0 1.1.9"},
		{"*", "0.0.1 99.0.0", "1.0.0-rc.1"},
		{">= 14", "14.0.0 22.1.0", "13.9.9"},
		{">1.2", "1.3.0", "1.2.0 1.2.9"},
		{"<=1.2", "1.2.9 1.0.0", "1.3.0"},
		{">=1.2.3-beta.1", "1.2.3-beta.2 1.2.3", "1.2.3-alpha"},
		{"not a range", "", "1.0.0"},
	}
	for _, c := range cases {
		for v := range strings.FieldsSeq(c.in) {
			if !InRange(v, c.ranges) {
				t.Errorf("%s is not in %q", v, c.ranges)
			}
		}
		for v := range strings.FieldsSeq(c.out) {
			if InRange(v, c.ranges) {
				t.Errorf("%s is in %q", v, c.ranges)
			}
		}
	}
}

func FuzzParseAsk(f *testing.F) {
	for _, s := range []string{"1.24", "=1.24.3", ">=1.22, <1.25", "latest", ">=", ",", "<<1"} {
		f.Add(s, "1.24.3")
	}
	f.Fuzz(func(t *testing.T, ask, v string) {
		a, err := ParseAsk(ask)
		if err != nil {
			return
		}
		for _, s := range []Scheme{Semver, Go, Debian, PEP440, Dotted} {
			a.Allows(s, v)
			if s.Compare(v, v) != 0 {
				t.Errorf("%s: %q differs from itself", s, v)
			}
		}
	})
}
