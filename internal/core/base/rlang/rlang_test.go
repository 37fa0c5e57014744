package rlang

import (
	"slices"
	"strings"
	"testing"
)

func TestNeedsAndVersions(t *testing.T) {
	needs, err := ParseNeeds("R (>= 3.5.0), dplyr (>= 1.1), methods,\n  tally , dplyr (< 2)")
	if err != nil || len(needs) != 4 {
		t.Fatalf("%v %v", needs, err)
	}
	for v, want := range map[string]bool{"1.1": true, "1.1-3": true, "1.0.10": false, "2.0": false, "1.9.9000": true} {
		if needs[1].Allows(v) != want {
			t.Errorf("%v allows %s: %v", needs[1], v, !want)
		}
	}
	for text, want := range map[string]string{"dplyr": "dplyr", "dplyr >= 1.1, < 2": "dplyr >= 1.1, < 2", "dplyr (== 1.0-2)": "dplyr == 1.0-2"} {
		if n, err := ParseNeed(text); err != nil || n.String() != want {
			t.Errorf("%q is %v %v", text, n, err)
		}
	}
	for _, bad := range []string{"1x", "dplyr (>= 1", "dplyr => 1", "dplyr 1.0", "dplyr >= x"} {
		if n, err := ParseNeed(bad); err == nil {
			t.Errorf("%q was read as %v", bad, n)
		}
	}
	order := []string{"0.9", "0.10", "1.0", "1.0-1", "1.0.2", "1.1"}
	if got := slices.SortedFunc(slices.Values([]string{"1.1", "1.0", "0.10", "1.0.2", "0.9", "1.0-1"}), Compare); !slices.Equal(got, order) {
		t.Errorf("%v", got)
	}
}

func TestADescriptionIsRead(t *testing.T) {
	const text = "Package: weir\nVersion: 0.1\nDepends: R (>= 4), stats\nImports: tally (>= 1.0),\n    grid,\n    board\nSuggests: probe\n"
	asks, err := AddDescription(nil, "DESCRIPTION", []byte(text), nil)
	var names []string
	for _, n := range asks {
		names = append(names, n.Name)
	}
	if err != nil || !slices.Equal(names, []string{"R", "tally", "board"}) && !slices.Equal(names, []string{"tally", "board"}) {
		t.Errorf("%v %v", names, err)
	}
	if asks, _ = AddDescription(nil, "DESCRIPTION", []byte(text), []string{"suggests"}); asks[len(asks)-1].Name != "probe" {
		t.Errorf("%v", asks)
	}
	for text, words := range map[string]string{"": "is empty", "Package weir\n": "no field", "Imports: 1x\n": "Imports"} {
		if _, err := AddDescription(nil, "DESCRIPTION", []byte(text), nil); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := AddDescription(nil, "DESCRIPTION", []byte(text), []string{"more"}); err == nil || !strings.Contains(err.Error(), "suggests and enhances") {
		t.Error(err)
	}
	p, err := ParsePackage(map[string]string{"Package": "weir", "Version": "0.1", "Depends": "R (>= 4.9), stats", "LinkingTo": "tally"})
	if err != nil || len(p.Needs) != 1 || len(p.R) != 1 {
		t.Errorf("%+v %v", p, err)
	}
}
