package logbook

import (
	"os"
	"strings"
	"testing"
	"time"
)

// FuzzLog reads logs that a machine which lost its power left behind.
func FuzzLog(f *testing.F) {
	f.Add("2026-02-03T04:05:06.000000Z out ready\n2026-02-03T04:05:07.000000Z err x", 3)
	f.Fuzz(func(t *testing.T, text string, count int) {
		n := 0
		for raw := range strings.Lines(text) {
			if l, ok := parseLine("lane", strings.TrimSuffix(raw, "\n")); ok {
				n++
				if strings.Contains(l.Text, "\n") || l.Name != "lane" {
					t.Errorf("%+v", l)
				}
			}
		}
		dir := t.TempDir()
		if err := os.WriteFile(Path(dir, "lane"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if got := Read(dir, "lane", max(0, count), time.Time{}); len(got) > n {
			t.Errorf("%d lines of %d", len(got), n)
		}
	})
}
