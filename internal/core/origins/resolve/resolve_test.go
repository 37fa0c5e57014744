package resolve

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// shelf is a made-up source: versions in the order in which it lists them, and on which day of March
// 2026 each came out (0: it does not say).
type shelf struct {
	days map[string]int
	list []string
	lies error // what it answers instead

	mu    sync.Mutex
	asked []string // versions whose parts were asked for
}

func (s *shelf) Releases(context.Context, card.From, []platform.Platform) (out []source.Release, err error) {
	for _, v := range s.list {
		x := source.Release{Version: v}
		if d := s.days[v]; d > 0 {
			x.Published = day(d)
		}
		out = append(out, x)
	}
	return out, s.lies
}

func (s *shelf) Parts(_ context.Context, from card.From, v string, p platform.Platform, _ time.Time) (map[string]lock.Part, time.Time, error) {
	s.mu.Lock()
	s.asked = append(s.asked, v)
	s.mu.Unlock()
	if _, there := s.days[v]; !there {
		return nil, time.Time{}, errNotThere
	}
	parts := map[string]lock.Part{}
	for _, x := range from.Parts {
		parts[x.Package+x.Name] = lock.Part{Version: v, Digest: fetch.Digest(fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(x.Package+v)))), Format: "tgz", Bin: x.Bin}
	}
	return parts, time.Time{}, nil
}

func (s *shelf) Where(lock.Part) ([]fetch.Address, error) { return nil, nil }
func (s *shelf) Probe(context.Context) error              { return s.lies }

var errNotThere = &fetch.StatusError{Status: 404}

func day(n int) time.Time { return time.Date(2026, 3, n, 12, 0, 0, 0, time.UTC) }

// locked resolves a declaration that takes tools from made-up sources, by the names that they have.
func locked(t *testing.T, toolchain string, o Options, sources map[string]*shelf) (*lock.Lock, error) {
	t.Helper()
	d, err := declare.Parse("trammel.toml", []byte("format = 1\nproject = \"heronweir\"\nplatforms = [\"linux/amd64\", \"darwin/arm64\"]\n\n"+toolchain))
	if err != nil {
		t.Fatal(err)
	}
	if o.Old == nil {
		o.Old = &lock.Lock{}
	}
	if o.Renew == nil {
		o.Renew = func(string) bool { return false }
	}
	o.Now = day(31)
	r := &resolver{d: d, m: &source.Machine{Getenv: func(string) string { return "" }}, client: fetch.New(fetch.Options{Offline: true}), o: o, opened: map[string]*opened{}}
	for name, s := range sources {
		x := &opened{source: s, address: source.Address{URL: "http://" + name + ".example"}}
		x.once.Do(func() {})
		r.opened[name] = x
	}
	return r.lock(t.Context())
}

func TestTheNewestThatIsAskedForIsLocked(t *testing.T) {
	full := &shelf{list: []string{"18.20.4", "22.1.0", "20.9.0", "22.11.0", "23.0.0", "24.0.0-rc.1", "not-a-version"},
		days: map[string]int{"18.20.4": 1, "20.9.0": 3, "22.1.0": 5, "22.11.0": 9, "23.0.0": 12, "24.0.0-rc.1": 14, "21.0.0": 2}}
	for _, c := range []struct {
		name, ask, tool string // the table's line, and what more stands in it
		asOf            time.Time
		want            string // the version, or words of the error that begin with "!"
	}{
		{"a line", `"22"`, "", time.Time{}, "22.11.0"},
		{"the newest", `"latest"`, "", time.Time{}, "23.0.0"},
		{"exactly", `"=22.1.0"`, "", time.Time{}, "22.1.0"},
		{"a range", `">=18, <22"`, "", time.Time{}, "20.9.0"},
		{"an early version when it is named", `"=24.0.0-rc.1"`, "", time.Time{}, "24.0.0-rc.1"},
		{"a version that the list lacks and the source has", `"=21.0.0"`, "", time.Time{}, "21.0.0"},
		{"lts", `"lts"`, "", time.Time{}, "22.11.0"},
		{"as of a day", `"22"`, "", day(6), "22.1.0"},
		{"as of the day itself", `"22"`, "", day(9), "22.11.0"},
		{"a tool's own day", `{ version = "22", as-of = "2026-03-06" }`, "", time.Time{}, "22.1.0"},
		{"the earlier of two days", `{ version = "22", as-of = "2026-03-20" }`, "", day(6), "22.1.0"},
		{"before all", `"22"`, "", day(4), "!no version of node satisfies \"22\" (source npm) and was there on 2026-03-04|22.1.0"},
		{"none", `"19"`, "", time.Time{}, "!no version of node satisfies \"19\"|18.20.4 and 20.9.0"},
		{"none exactly", `"=22.2.0"`, "", time.Time{}, "!no version of node satisfies|22.1.0 and 22.11.0"},
		{"against itself", `">=22, <20"`, "", time.Time{}, "!contradicts itself"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := locked(t, "[toolchain]\nnode = "+c.ask+"\n", Options{AsOf: c.asOf}, map[string]*shelf{"npm": full})
			if words, wrong := strings.CutPrefix(c.want, "!"); wrong {
				var found fault.Findings
				if !errors.As(err, &found) || len(found) != 1 || found[0].Line != 6 {
					t.Fatalf("%v", err)
				}
				for w := range strings.SplitSeq(words, "|") {
					if text := found[0].What + " " + found[0].Do; !strings.Contains(text, w) {
						t.Errorf("%q does not say %q", text, w)
					}
				}
				return
			}
			if err != nil || l.Items["node"].Version != c.want {
				t.Errorf("locked %q, not %q: %v", l.Items["node"].Version, c.want, err)
			}
			if len(l.Items["node"].Platforms) != 2 {
				t.Errorf("platforms: %v", l.Items["node"].Platforms)
			}
		})
	}
}

// What is locked stays, whatever comes out, until the declaration or a person moves it.
func TestWhatIsLockedStays(t *testing.T) {
	before := &shelf{list: []string{"22.1.0", "20.9.0"}, days: map[string]int{"22.1.0": 1, "20.9.0": 1}}
	const two = "[toolchain]\nnode = \"22\"\ngo = \"1.24\"\n"
	gos := &shelf{list: []string{"1.24.5"}, days: map[string]int{"1.24.5": 1}}
	old, err := locked(t, two, Options{}, map[string]*shelf{"npm": before, "gomod": gos})
	if err != nil {
		t.Fatal(err)
	}
	item := old.Items["node"]
	for _, parts := range item.Platforms { // what a machine has learnt of it
		for name, p := range parts {
			p.Tree = "blake3:learnt"
			parts[name] = p
		}
	}
	after := func() map[string]*shelf {
		return map[string]*shelf{
			"npm":   {list: []string{"22.11.0", "22.1.0", "20.9.0"}, days: map[string]int{"22.11.0": 9, "22.1.0": 1, "20.9.0": 1}},
			"gomod": {list: []string{"1.24.6", "1.24.5"}, days: map[string]int{"1.24.6": 9, "1.24.5": 1}},
		}
	}
	only := func(names ...string) func(string) bool {
		return func(tool string) bool { return slices.Contains(names, tool) }
	}
	for _, c := range []struct {
		name, declaration string
		renew             func(string) bool
		node, golang      string
		asksNode          bool // its parts are asked for again
	}{
		{"nothing changed", two, nil, "22.1.0", "1.24.5", false},
		{"another tool is renewed", two, only("go"), "22.1.0", "1.24.6", false},
		{"it is renewed", two, only("node"), "22.11.0", "1.24.5", true},
		{"both are", two, only("node", "go"), "22.11.0", "1.24.6", true},
		{"the ask still allows it", strings.Replace(two, `"22"`, `">=20"`, 1), nil, "22.1.0", "1.24.5", false},
		{"the ask does not", strings.Replace(two, `"22"`, `"=22.11.0"`, 1), nil, "22.11.0", "1.24.5", true},
		{"back to an older line", strings.Replace(two, `"22"`, `"20"`, 1), nil, "20.9.0", "1.24.5", true},
		{"one goes", strings.Replace(two, "go = \"1.24\"\n", "", 1), nil, "22.1.0", "", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			shelves := after()
			l, err := locked(t, c.declaration, Options{Old: old, Renew: c.renew}, shelves)
			if err != nil {
				t.Fatal(err)
			}
			if got := l.Items["node"].Version; got != c.node {
				t.Errorf("node %s, not %s", got, c.node)
			}
			if got := l.Items["go"].Version; got != c.golang {
				t.Errorf("go %s, not %s", got, c.golang)
			}
			if asked := len(shelves["npm"].asked) > 0; asked != c.asksNode {
				t.Errorf("its parts are asked for: %v", shelves["npm"].asked)
			}
			for _, p := range l.Items["node"].Platforms["linux/amd64"] {
				if known := p.Tree == "blake3:learnt"; known == c.asksNode {
					t.Errorf("what was learnt of its bytes: %q", p.Tree)
				}
			}
		})
	}
	t.Run("one more platform is asked for, and the version stays", func(t *testing.T) {
		one := *old
		one.Items = map[string]lock.Item{"node": item, "go": old.Items["go"]}
		one.Items["node"] = func() lock.Item {
			x := item
			x.Platforms = map[string]map[string]lock.Part{"linux/amd64": item.Platforms["linux/amd64"]}
			return x
		}()
		shelves := after()
		l, err := locked(t, two, Options{Old: &one}, shelves)
		if err != nil || l.Items["node"].Version != "22.1.0" || len(l.Items["node"].Platforms) != 2 {
			t.Errorf("%+v %v", l.Items["node"], err)
		}
	})
	t.Run("twice gives the same bytes", func(t *testing.T) {
		l, err := locked(t, two, Options{Old: old}, after())
		if err != nil {
			t.Fatal(err)
		}
		again, err := locked(t, two, Options{Old: l}, after())
		if err != nil || string(again.Bytes()) != string(l.Bytes()) {
			t.Errorf("%v\n%s\n%s", err, l.Bytes(), again.Bytes())
		}
	})
}

// All that is wrong is said at once, in the order of the file; a source that does not answer is no
// finding about the declaration.
func TestEveryFaultIsFound(t *testing.T) {
	npm := &shelf{list: []string{"22.1.0"}, days: map[string]int{"22.1.0": 1}}
	gomod := &shelf{list: []string{"1.24.5"}, days: map[string]int{"1.24.5": 1}}
	_, err := locked(t, "[toolchain]\ngo = \"1.99\"\nnode = \"21\"\nsluicegate = \"1\"\n", Options{}, map[string]*shelf{"npm": npm, "gomod": gomod})
	var found fault.Findings
	if !errors.As(err, &found) || len(found) != 3 || found[0].Line != 6 || found[1].Line != 7 || found[2].Line != 8 {
		t.Fatalf("%v", err)
	}
	npm.lies = errors.New("the registry is closed")
	if _, err := locked(t, "[toolchain]\nnode = \"22\"\n", Options{}, map[string]*shelf{"npm": npm}); err == nil || errors.As(err, &found) && len(found) > 0 && strings.Contains(err.Error(), "satisfies") {
		t.Errorf("a source that does not answer: %v", err)
	}
	ended, cancel := context.WithCancelCause(t.Context())
	cancel(errors.New("the person has had enough"))
	d, _ := declare.Parse("trammel.toml", []byte("format = 1\nproject = \"heronweir\"\n[toolchain]\nnode = \"22\"\n"))
	r := &resolver{d: d, m: &source.Machine{Getenv: func(string) string { return "" }}, o: Options{Old: &lock.Lock{}, Renew: func(string) bool { return false }}, opened: map[string]*opened{}}
	x := &opened{source: &shelf{list: []string{"22.1.0"}, days: map[string]int{"22.1.0": 1}}}
	x.once.Do(func() {})
	r.opened["npm"] = x
	if l, err := r.lock(ended); l != nil || err == nil || err.Error() != "the person has had enough" {
		t.Errorf("%v %v", l, err)
	}
}

// Two tools with one command clash, unless one of them shows it by another name.
func TestCommandsThatTwoToolsBring(t *testing.T) {
	shelves := map[string]*shelf{"npm": {list: []string{"22.1.0", "20.9.0"}, days: map[string]int{"22.1.0": 1, "20.9.0": 1}}}
	const both = "[toolchain]\nnode = \"22\"\nolder = { version = \"20\", tool = \"node\"%s }\n"
	_, err := locked(t, fmt.Sprintf(both, ""), Options{}, shelves)
	if err == nil || !strings.Contains(err.Error(), "comes from both") {
		t.Errorf("%v", err)
	}
	l, err := locked(t, fmt.Sprintf(both, `, prefix = "older-"`), Options{}, shelves)
	if err != nil || l.Items["older"].Version != "20.9.0" || l.Items["older"].Answer != "older-node --version" {
		t.Errorf("%+v %v", l, err)
	}
}
