package tree_test

import (
	"fmt"
	"strings"
	"testing"

	"app.example/trammel/internal/core/stored/tree"
)

func linked(pairs ...string) tree.Manifest {
	var m tree.Manifest
	for i := 0; i < len(pairs); i += 2 {
		m = append(m, tree.Entry{Type: tree.Link, Path: pairs[i], Target: pairs[i+1]})
	}
	return m
}

func TestALinkThatLeavesByOthersIsFound(t *testing.T) {
	deep := strings.TrimSuffix(strings.Repeat("d/", 10), "/")
	cases := map[string]struct {
		m      tree.Manifest
		leaves bool
	}{
		"none":                             {nil, false},
		"one that stays":                   {linked("a/b", "../c"), false},
		"one to the top":                   {linked("a/b/c", "../.."), false},
		"one that leaves":                  {linked("a", "../x"), true},
		"an absolute one":                  {linked("a", "/etc"), true},
		"two, by a link to the top":        {linked(deep+"/f", strings.TrimSuffix(strings.Repeat("../", 10), "/"), "q", deep+"/f/../x"), true},
		"three":                            {linked("a/top", "..", "b/c/up", "../../a/top/..", "q", "b/c/up/y"), true},
		"through a folder that is missing": {linked("q", "no/such/../../../x"), true},
		"a circle":                         {linked("a", "b", "b", "a"), false},
		"a circle, and one that leaves":    {linked("a", "a", "z", "../x"), true},
		"a long chain that stays":          {chain(39, "end"), false},
		"a long chain that leaves":         {chain(39, "../../x"), true},
	}
	for name, c := range cases {
		if found, got := c.m.Leaving(); got != c.leaves {
			t.Errorf("%s: %q, %v", name, found, got)
		}
	}
}

// chain is a row of links in folders of their own, the last to end.
func chain(n int, end string) tree.Manifest {
	var pairs []string
	for i := range n {
		pairs = append(pairs, fmt.Sprintf("d%d/l", i), fmt.Sprintf("../d%d/l", i+1))
	}
	return linked(append(pairs, fmt.Sprintf("d%d/l", n), end)...)
}
