package service

import "testing"

func TestNamesAreInTheOrderOfTheirNumbers(t *testing.T) {
	for _, c := range []struct {
		a, b string
		less bool
	}{{"lane.2", "lane.10", true}, {"lane.10", "lane.9", false}, {"board", "lane.1", true}, {"lane", "lane.1", true}, {"zebra", "lane.10", false}} {
		if got := CompareNames(c.a, c.b) < 0; got != c.less {
			t.Errorf("%s before %s: %v", c.a, c.b, got)
		}
	}
}
