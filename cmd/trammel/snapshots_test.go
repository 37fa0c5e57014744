package main

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"trammel.example/trammel/internal/standin"
)

// An archive that keeps every state gives what was there on a day, with what it was signed
// with then.
func TestTheStateOfAnArchiveOnADayComesBack(t *testing.T) {
	s, weir, _ := archives(t)
	_ = s
	start := time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC)
	for day := range 30 {
		weir.At = start.AddDate(0, 0, day)
		weir.Until = weir.At.AddDate(0, 0, 7) // long past by now
		weir.Put(toolDeb("lure", fmt.Sprintf("1.%d.0-1", day), fmt.Sprintf("echo lured by 1.%d", day)))
		weir.Publish()
		weir.Keep()
	}
	weir.Until = time.Time{}
	weir.At = time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	weir.Put(toolDeb("lure", "2.0.0-1", "echo lured by 2.0"))
	weir.Publish()
	declaration := fmt.Sprintf(`format = 1
project = "heronweir"
isolation = "sealed"

[source.weir]
kind      = "debian"
suite     = "weir"
url       = %q
snapshots = %q
keyring   = "keys/weir.asc"

[toolchain]
lure = { version = "latest", from = "weir", package = "lure" }
`, weir.URL(), weir.Snapshots())
	h := newHut(t, nil, declaration)
	h.write("keys/weir.asc", weir.Keys())
	h.ok("lock")
	h.fitted()
	if got := h.ok("run", "--", "lure"); got != "lured by 2.0\n" {
		t.Errorf("%q", got)
	}
	for _, c := range []struct{ day, want string }{{"2026-01-12", "1.11"}, {"2026-01-30", "1.29"}, {"2026-02-01", "1.29"}} {
		if out := h.ok("lock", "--as-of", c.day); !strings.Contains(out, c.want) && !strings.Contains(out, "nothing changed") {
			t.Errorf("%s: %s", c.day, out)
		}
		h.ok("approve", "--yes")
		h.ok("fit")
		if got := h.ok("run", "--", "lure"); got != "lured by "+c.want+"\n" {
			t.Errorf("on %s it says %q", c.day, got)
		}
	}
	// The lock says which state, so that another machine fetches from it; locking again keeps it.
	text := h.read("trammel.lock")
	if !strings.Contains(text, `state = "2026-01-30T23:59:59Z"`) {
		t.Error(text)
	}
	h.ok("lock")
	if h.read("trammel.lock") != text {
		t.Error("locking again left the state")
	}
	other := h.elsewhere(nil)
	other.write("keys/weir.asc", weir.Keys())
	other.ok("fit", "--approve")
	if got := other.ok("run", "--", "lure"); got != "lured by 1.29\n" {
		t.Errorf("%q", got)
	}
	if out := h.ok("approve", "--json"); !strings.Contains(out, "earlier states from") {
		t.Error("where earlier states come from is not on the list of effects")
	}
	// A state that is gone, and a day before the first.
	h.fails(5, []string{`has no suite "weir"`}, "lock", "--as-of", "2025-12-01")
	s.Fail("/snap/weir/20260112T060000Z/pool", standin.NotFound)
	h.ok("lock", "--as-of", "2026-01-12")
	third := h.elsewhere(nil)
	third.write("keys/weir.asc", weir.Keys())
	third.fails(5, []string{"does not have"}, "fit", "--approve")
	s.Fail("/snap/weir/20260112T060000Z/pool", "")
	// Renewed, it is of today again.
	h.ok("lock", "--renew")
	h.ok("approve", "--yes")
	h.ok("fit")
	if got := h.ok("run", "--", "lure"); got != "lured by 2.0\n" {
		t.Errorf("%q", got)
	}
	h.write("trammel.toml", strings.Replace(declaration, "@{stamp}", "today", 1))
	h.fails(2, []string{"the address of the snapshots has no @{stamp}"}, "lock")
}
