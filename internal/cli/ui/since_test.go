package ui

import (
	"testing"
	"time"
)

// What is said of an age does not tell the seconds of the first minute, nor of a clock that was set back.
func TestAnAgeIsSaidWithoutSeconds(t *testing.T) {
	now := time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC)
	for ago, want := range map[time.Duration]string{
		0: "<1 min", 59 * time.Second: "<1 min", time.Minute: "1 min", 59*time.Minute + 59*time.Second: "59 min", 90 * time.Minute: "1 h", 50 * time.Hour: "2 days", -24 * time.Hour: "<1 min",
	} {
		if got := Since(now.Add(-ago), now); got != want {
			t.Errorf("of %v it says %q, not %q", ago, got, want)
		}
	}
}
