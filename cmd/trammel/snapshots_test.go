package main

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// An archive that keeps every state gives what was there on a day, with what it was signed
// with then.
func TestTheStateOfAnArchiveOnADayComesBack(t *testing.T) {
	t.Parallel()
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
	s.Fail("/archive/weir/20260112T060000Z/pool", standin.NotFound)
	h.ok("lock", "--as-of", "2026-01-12")
	third := h.elsewhere(nil)
	third.write("keys/weir.asc", weir.Keys())
	third.fails(5, []string{"does not have"}, "fit", "--approve")
	s.Fail("/archive/weir/20260112T060000Z/pool", "")
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

// What the suite has now is not all that can be declared: any version that a state of it had.
func TestVersionsOfEarlierStatesAreDeclaredAsAnyOther(t *testing.T) {
	t.Parallel()
	s, weir, _ := archives(t)
	start := time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC)
	for day := range 30 {
		weir.At = start.AddDate(0, 0, day)
		weir.Put(toolDeb("lure", fmt.Sprintf("1.%d.0-1", day), fmt.Sprintf("echo lured by 1.%d", day)))
		if day%10 == 0 { // a numbered package, as databases have
			weir.Put(toolDeb(fmt.Sprintf("ledger-%d", day/10+1), fmt.Sprintf("%d.4-1", day/10+1), fmt.Sprintf("echo kept by %d", day/10+1)))
		}
		if day%7 == 0 {
			weir.Put(toolDeb("jq", fmt.Sprintf("1.%d-1", day/7), "echo picked"))
		}
		if day == 15 {
			weir.Drop("ledger-1")
		}
		weir.Publish()
		weir.Keep()
	}
	weir.At = time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	weir.Drop("ledger-2")
	weir.Put(toolDeb("lure", "2.0.0-1", "echo lured by 2.0"))
	weir.Publish()
	weir.Keep()
	// Another archive of the same snapshots has a version that this suite never had.
	other := s.Debian("backstage", "weir")
	other.Put(toolDeb("lure", "1.99.0-1", "echo never here"))
	other.Publish()
	other.Keep()
	declaration := func(snapshots, toolchain string) string {
		return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.weir]\nkind = \"debian\"\nsuite = \"weir\"\nurl = %q\nkeyring = \"keys/weir.asc\"\n%s\n\n[toolchain]\n%s\n",
			weir.URL(), snapshots, toolchain)
	}
	kept := fmt.Sprintf("snapshots = %q", weir.Snapshots())
	h := newHut(t, nil, declaration(kept, `lure = { version = "1.11", from = "weir", package = "lure" }`))
	h.write("keys/weir.asc", weir.Keys())
	h.ok("lock")
	if text := h.read("trammel.lock"); !strings.Contains(text, `[source.weir-at-20260112t060000z]`) || !strings.Contains(text, `of = "weir"`) {
		t.Fatal(text)
	}
	h.fitted()
	for _, isolation := range []string{"sealed", "clean"} {
		if got := h.ok("run", "--isolation", isolation, "--", "lure"); got != "lured by 1.11\n" {
			t.Errorf("%s: %q", isolation, got)
		}
	}
	h.ok("verify", "--deep")
	text := h.read("trammel.lock")
	if h.ok("lock"); h.read("trammel.lock") != text {
		t.Error("locking again gave another lock")
	}
	// Another machine makes the same of it.
	far := h.elsewhere(nil)
	far.write("keys/weir.asc", weir.Keys())
	far.ok("fit", "--approve")
	if far.ok("verify"); far.read("trammel.lock") != text {
		t.Error("another machine changed the lock")
	}

	// One tool of a day beside one of today and one that is gone; and two of several states in one root.
	h.write("trammel.toml", declaration(kept, `lure   = { version = "latest", from = "weir", package = "lure", as-of = "2026-01-06" }
now    = { version = "latest", from = "weir", package = "lure", commands = { lure = "lure-now" } }
one    = { version = "1", from = "weir", package = "ledger-1" }
two    = { version = "2", from = "weir", package = "ledger-2" }`))
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	for command, want := range map[string]string{"lure": "lured by 1.5\n", "lure-now": "lured by 2.0\n", "ledger-1": "kept by 1\n", "ledger-2": "kept by 2\n"} {
		if got := h.ok("run", "--", command); got != want {
			t.Errorf("%s: %q", command, got)
		}
	}
	if text := h.read("trammel.lock"); strings.Count(text, "of = \"weir\"") != 2 { // of 6 January, and of a day that had both ledgers
		t.Errorf("other states than two:\n%s", text)
	}
	h.ok("verify")

	// They are found, with dates, and what was later is hidden.
	h.write("trammel.toml", declaration(kept, `jq = "1.2"`))
	if out := h.ok("find", "jq"); !strings.Contains(out, "1.4  2026-01-29") || !strings.Contains(out, "1.0  2026-01-01") || !strings.Contains(out, "1.2  2026-01-15  newest allowed") {
		t.Error(out)
	}
	if out := h.ok("find", "jq", "--as-of", "2026-01-10"); strings.Contains(out, "1.2") || !strings.Contains(out, "1.1  2026-01-08") {
		t.Error(out)
	}
	h.ok("lock")
	// A version that was never in this suite, and one before its time.
	h.write("trammel.toml", declaration(kept, `lure = { version = "=1.99.0", from = "weir", package = "lure" }`))
	h.fails(2, []string{"no version of lure satisfies", "nearest", "1.29.0"}, "lock")
	h.write("trammel.toml", declaration(kept, `lure = { version = "1.20", from = "weir", package = "lure", as-of = "2026-01-06" }`))
	h.fails(2, []string{"no version of lure satisfies"}, "lock")
	// Without snapshots, or with such as have no lists, it says what there is.
	h.write("trammel.toml", declaration("", `lure = { version = "1.11", from = "weir", package = "lure" }`))
	h.fails(2, []string{"no version of lure satisfies", "2.0.0"}, "lock")
	s.Fail("/mr/", standin.NotJSON)
	h.write("trammel.toml", declaration(kept, `lure = { version = "1.12", from = "weir", package = "lure" }`))
	h.fails(5, []string{"lists of source", "not as expected"}, "lock")
	s.Fail("/mr/", "")

	// A package that the archive dropped after the lock was made comes from the state of that day.
	h.write("trammel.toml", declaration(kept, `lure = { version = "2", from = "weir", package = "lure" }`))
	h.ok("lock", "--renew")
	weir.At = weir.At.AddDate(0, 1, 0)
	weir.Put(toolDeb("lure", "3.0.0-1", "echo lured by 3.0"))
	weir.Publish()
	late := h.elsewhere(nil)
	late.write("keys/weir.asc", weir.Keys())
	late.ok("fit", "--approve")
	if got := late.ok("run", "--", "lure"); got != "lured by 2.0\n" {
		t.Errorf("%q", got)
	}
}

// Suites with security fixes have another address, and belong to the same root.
func TestSuitesOfOtherAddressesBelongToTheSameRoot(t *testing.T) {
	t.Parallel()
	s, weir, _ := archives(t)
	weir.Put(toolDeb("lure", "1.0-1", "echo lured with a hole"), toolDeb("gaff", "1.0-1", "echo gaffed"))
	weir.Publish()
	mended := s.Debian("mends", "weir-security")
	mended.Put(toolDeb("lure", "1.0-1+mended1", "echo lured safely"))
	mended.Publish()
	base := func(more string) string {
		return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.weir]\nkind = \"debian\"\n%s\n\n[toolchain]\nlure = { version = \"1\", from = \"weir\", package = \"lure\" }\ngaff = { version = \"1\", from = \"weir\", package = \"gaff\" }\n", more)
	}
	check := func(h *hut) {
		t.Helper()
		h.ok("lock")
		h.fitted()
		if got := h.ok("run", "--", "lure"); got != "lured safely\n" {
			t.Errorf("%q", got)
		}
		if got := h.ok("run", "--", "gaff"); got != "gaffed\n" {
			t.Errorf("%q", got)
		}
		if text := h.read("trammel.lock"); !strings.Contains(text, `suites = ["weir main", "weir-security main"]`) || strings.Count(text, "[root.") != 1 {
			t.Errorf("the lock has %s", text)
		}
		h.ok("verify", "--deep")
	}
	declared := newHut(t, nil, base(fmt.Sprintf("suite = \"weir\"\nurl = %q\nkeyring = \"keys/both.asc\"\nalso = [{ suite = \"weir-security\", url = %q }]", weir.URL(), mended.URL())))
	declared.write("keys/both.asc", weir.Keys()+mended.Keys())
	check(declared)
	if out := declared.ok("approve", "--json"); !strings.Contains(out, "suite weir-security "+mended.URL()) {
		t.Error("where the other suite comes from is not on the list of effects")
	}
	// Its own key must sign it.
	declared.write("keys/both.asc", weir.Keys())
	declared.fails(5, []string{`"weir-security"`, "not to be trusted"}, "lock", "--renew")
	// Faults are told where they are.
	h := newHut(t, nil, base(fmt.Sprintf("suite = \"weir\"\nurl = %q\nalso = [{ url = \"ftp://x\" }, { suite = \"weir\" }, { suite = \"b\", url = \"ftp://x\", snapshots = \"http://x/\" }]", weir.URL())))
	h.fails(2, []string{"has no name", `the suite "weir" is there twice`, "url is no http address", "no @{stamp}"}, "lock")
	h = newHut(t, nil, base(fmt.Sprintf("suite = \"weir\"\nurl = %q\nkeyring = \"keys/both.asc\"\nalso = [{ suite = \"nowhere\" }]", weir.URL())))
	h.write("keys/both.asc", weir.Keys())
	h.fails(5, []string{`no address for the suite "nowhere"`}, "lock")
	h = newHut(t, nil, base(fmt.Sprintf("suite = \"weir\"\nurl = %q\nkeyring = \"keys/both.asc\"\nsnapshots = %q\nalso = [{ suite = \"weir-security\", url = %q }]", weir.URL(), weir.Snapshots(), mended.URL())))
	h.write("keys/both.asc", weir.Keys()+mended.Keys())
	weir.Keep()
	h.fails(5, []string{`"weir-security" of source "weir" has no earlier states`}, "lock", "--as-of", "2026-05-01")
}
