package ui

import (
	"testing"
	"time"
)

// What is said of an age is said until it would be something else, and never for long of one that a
// clock which was set back has made.
func TestAnAgeIsSaidUntilItIsAnother(t *testing.T) {
	now := time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		ago   time.Duration
		says  string
		until time.Duration
	}{
		{0, "<1 min", time.Minute}, {59 * time.Second, "<1 min", time.Second}, {time.Minute, "1 min", time.Minute}, {90 * time.Second, "1 min", 30 * time.Second},
		{59*time.Minute + 59*time.Second, "59 min", time.Second}, {90 * time.Minute, "1 h", 30 * time.Minute}, {50 * time.Hour, "2 days", 22 * time.Hour},
		{-24 * time.Hour, "<1 min", time.Minute},
	} {
		says, until := Since(now.Add(-c.ago), now)
		if says != c.says || until.Sub(now) != c.until {
			t.Errorf("of %v it says %q for %v, not %q for %v", c.ago, says, until.Sub(now), c.says, c.until)
		}
		if c.ago < 0 {
			continue
		}
		if later, _ := Since(now.Add(-c.ago), until); later == says {
			t.Errorf("of %v it says %q for longer than it says", c.ago, says)
		}
	}
}
