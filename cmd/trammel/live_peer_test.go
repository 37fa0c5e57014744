package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// The resolver of Python libraries beside a peer: made-up indexes with extras, markers,
// pre-releases and conflicts are resolved by Trammel and by Debian's pip, from the same
// index. TRAMMEL_PEER says how many; TRAMMEL_SEED repeats a run.

// shelf is one made-up index and what is asked of it.
type shelf struct {
	name   string
	wheels []standin.Wheel
	asks   []string
}

func madeUp(rnd *rand.Rand, n int) shelf {
	x := shelf{name: fmt.Sprintf("peer%d", n)}
	count := 10 + rnd.IntN(51)
	name := func(i int) string { return fmt.Sprintf("p%02d", i) }
	versions := make([][]string, count)
	for i := range versions {
		for v := 1 + rnd.IntN(6); v > 0; v-- {
			text := fmt.Sprintf("%d.%d", 1+v/3, v)
			switch rnd.IntN(12) {
			case 0:
				text += "rc1"
			case 1:
				text += ".post1"
			case 2:
				text += ".0"
			}
			if !slices.Contains(versions[i], text) {
				versions[i] = append(versions[i], text)
			}
		}
	}
	extras := func(i int) []string {
		if i%4 == 0 {
			return []string{"more", "plots"}[:1+i%2]
		}
		return nil
	}
	condition := func(i int) string {
		v := versions[i][rnd.IntN(len(versions[i]))]
		switch rnd.IntN(9) {
		case 0:
			return ">=" + v
		case 1:
			return "<=" + v
		case 2:
			return "!=" + v
		case 3:
			return "==" + v
		case 4:
			return "~=" + v
		case 5:
			return ">=1.0,<2"
		case 6:
			return "==" + strings.Split(v, ".")[0] + ".*"
		}
		return ""
	}
	requirement := func(i int) string {
		text := name(i)
		if e := extras(i); len(e) > 0 && rnd.IntN(2) == 0 {
			text += "[" + e[rnd.IntN(len(e))] + "]"
		}
		return text + condition(i)
	}
	for i := range versions {
		for _, v := range versions[i] {
			w := standin.Wheel{Name: name(i), Version: v, Extras: extras(i), Files: []standin.File{{Name: name(i) + ".py", Content: v}}}
			for range rnd.IntN(4) {
				below := i + 1 + rnd.IntN(8)
				if below >= count {
					if below = rnd.IntN(count); rnd.IntN(3) > 0 || below == i { // a circle now and then
						continue
					}
				}
				r := requirement(below)
				switch rnd.IntN(6) {
				case 0:
					r += "; python_version < '3.10'"
				case 1:
					r += "; sys_platform == 'linux' and python_version >= '3.8'"
				case 2:
					if len(w.Extras) > 0 {
						r += "; extra == '" + w.Extras[rnd.IntN(len(w.Extras))] + "'"
					}
				}
				w.Requires = append(w.Requires, r)
			}
			switch rnd.IntN(14) {
			case 0:
				w.RequiresPython = "<3.10"
			case 1:
				w.RequiresPython = ">=3.8"
			case 2:
				w.Tag = "cp39-cp39-win_amd64"
			}
			x.wheels = append(x.wheels, w)
		}
	}
	for _, i := range rnd.Perm(count)[:2+rnd.IntN(4)] {
		x.asks = append(x.asks, requirement(i))
	}
	return x
}

// fits tells by the standards alone (PEP 440, 508 and 425) why a choice is none, "" when it
// is one: each requirement that applies is met, and nothing is there that nobody needs.
func (x shelf) fits(chosen map[string]string, target python.Target) string {
	env, tags := target.Environment(), python.Places(target.Tags())
	of := map[string]standin.Wheel{}
	for _, w := range x.wheels {
		of[w.Name+" "+w.Version] = w
	}
	seen := map[string]bool{}
	var visit func(text string) string
	visit = func(text string) string {
		r, err := python.ParseRequirement(text)
		if err != nil {
			return err.Error()
		}
		v, ok := chosen[r.Name]
		w, is := of[r.Name+" "+v]
		if !ok || !is || !r.Specifiers.Allow(v) {
			return fmt.Sprintf("%s is needed, and %q is there", text, v)
		}
		if s, _ := python.ParseSpecifiers(w.RequiresPython); !s.Allow(target.Version) {
			return w.Name + " is for another Python"
		}
		file, _ := w.Pack()
		if wheel, ok := python.ParseWheel(file); !ok {
			return file + " is no wheel"
		} else if _, takes := wheel.Rank(tags); !takes {
			return file + " is for another machine"
		}
		for _, extra := range append([]string{""}, r.Extras...) {
			if key := r.Name + "[" + extra; seen[key] {
				continue
			} else {
				seen[key] = true
			}
			for _, text := range w.Requires {
				if q, err := python.ParseRequirement(text); err != nil || q.Marker.Holds(env, extra) {
					if bad := visit(text); bad != "" {
						return bad
					}
				}
			}
		}
		return ""
	}
	for _, ask := range x.asks {
		if bad := visit(ask); bad != "" {
			return bad
		}
	}
	for name := range chosen {
		if !seen[name+"["] {
			return "nobody needs " + name
		}
	}
	return ""
}

// peerScript has pip resolve each index; it is loaded once and forks for each.
const peerScript = `import json, os, sys
import pip._internal.cli.main, pip._internal.commands.install, pip._internal.resolution.resolvelib.resolver
for line in open("peers"):
    name, url, asks = line.rstrip("\n").split("\t")
    child = os.fork()
    if child == 0:
        null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, 1)
        os.dup2(os.open("said-" + name, os.O_WRONLY | os.O_CREAT), 2)
        code = pip._internal.cli.main.main(["install", "--isolated", "--dry-run", "--ignore-installed", "--break-system-packages", "--no-cache-dir", "--only-binary", ":all:",
            "--disable-pip-version-check", "--no-input", "-q", "--index-url", url, "--report", "report-" + name] + asks.split("|"))
        os._exit(code)
    os.waitpid(child, 0)
`

func TestLiveTheResolverBesideAPeer(t *testing.T) {
	liveArchive(t)
	count, seed := 15, rand.Uint64()
	if n, err := strconv.Atoi(os.Getenv("TRAMMEL_PEER")); err == nil {
		count = n
	}
	if n, err := strconv.ParseUint(os.Getenv("TRAMMEL_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 0))
	s := standin.New()
	defer s.Close()
	declaration := func(x shelf, asks string) string {
		return fmt.Sprintf("format = 1\nproject = \"heronweir\"\nisolation = \"sealed\"\n\n[source.trixie]\nkind = \"debian\"\nsuite = \"trixie\"\n\n[source.shelf]\nkind = \"wheel\"\nurl = %q\n\n[toolchain]\npython = \"3.13\"\n%s", s.Python(x.name), asks)
	}
	h := archiveHut(t, declaration(shelf{name: "none"}, ""))
	h.fitted()
	var all []shelf
	list := ""
	for n := range count {
		x := madeUp(rnd, n)
		for _, w := range x.wheels {
			s.PutWheel(x.name, w)
		}
		all = append(all, x)
		list += x.name + "\t" + s.Python(x.name) + "\t" + strings.Join(x.asks, "|") + "\n"
	}
	h.write("peers", list)
	h.write("peer.py", peerScript)
	h.ok("run", "--", "python", "peer.py")
	var same, refused, differ, fallback, missed int
	for _, x := range all {
		h.write("trammel.toml", declaration(x, "\n[libraries.survey]\nkind = \"python\"\nwant = "+listOf(x.asks)+"\n"))
		o := h.try("lock", "--renew", "survey")
		if o.code != 0 && !strings.Contains(o.err, "fits together") {
			t.Fatalf("%s: %d %s", x.name, o.code, o.err)
		}
		theirs, said := peerOf(t, h, x.name)
		switch {
		case o.code != 0 && theirs == nil:
			refused++
			continue
		case o.code != 0:
			t.Errorf("%s: Trammel refuses and pip has %v\nasks %q\n%s\nits choice: %q", x.name, theirs, x.asks, o.err, x.fits(theirs, target))
			continue
		}
		l, err := lock.Read(h.dir)
		if err != nil {
			t.Fatal(err)
		}
		ours := map[string]string{}
		for _, p := range l.Libraries["survey"].On[platform.Here().String()].List() {
			ours[p.Name] = p.Version
		}
		if bad := x.fits(ours, target); bad != "" {
			t.Errorf("%s: Trammel's choice is none: %s\nasks %q\n%v", x.name, bad, x.asks, ours)
			continue
		}
		switch {
		case theirs == nil && early(ours):
			// "By default … accept remotely available pre-releases for version specifiers where
			// there is no final or post release that satisfies the version specifier" (PEP 440,
			// "Handling of pre-releases"): this pip does so for names without a condition only.
			fallback++
		case theirs == nil:
			// The choice was held to the standards above, so that one exists: this pip's search
			// gives up (its limit of depth) or goes back too far.
			missed++
			t.Logf("%s: pip finds none, and there is %v\nasks %q\n%.300s", x.name, ours, x.asks, said)
		case equalSets(ours, theirs):
			same++
		default:
			// The standards say which choices there are, and not which of several to take:
			// both must be choices, and none plainly worse than the other.
			if bad := x.fits(theirs, target); bad != "" {
				t.Errorf("%s: pip's choice is none: %s\nasks %q\nours %v\ntheirs %v", x.name, bad, x.asks, ours, theirs)
			}
			if worse(ours, theirs) {
				t.Errorf("%s: Trammel's choice is older throughout\nasks %q\nours %v\ntheirs %v", x.name, x.asks, ours, theirs)
			}
			differ++
		}
	}
	t.Logf("%d indexes: %d the same choice, %d refused by both, %d with several choices of which each took another, %d with a pre-release where there is no release, %d that pip did not find", count, same, refused, differ, fallback, missed)
	if missed > 1+count/50 {
		t.Error("pip would find more than that: the choices are held to too little")
	}
	if same == 0 || refused == 0 && count >= 15 {
		t.Error("the indexes are too much alike")
	}
}

var target = python.Target{Version: "3.13.5", Platform: platform.Here(), Glibc: "2.41"}

func listOf(texts []string) string {
	raw, _ := json.Marshal(texts)
	return string(raw)
}

// peerOf is what pip chose; nil when it refused.
func peerOf(t *testing.T, h *hut, name string) (chosen map[string]string, said string) {
	t.Helper()
	text, _ := os.ReadFile(filepath.Join(h.dir, "said-"+name))
	raw, err := os.ReadFile(filepath.Join(h.dir, "report-"+name))
	if err != nil {
		return nil, string(text)
	}
	var report struct {
		Install []struct {
			Metadata struct{ Name, Version string }
		}
	}
	if err := json.Unmarshal(raw, &report); err != nil {
		t.Fatal(err)
	}
	chosen = map[string]string{}
	for _, x := range report.Install {
		chosen[python.Normal(x.Metadata.Name)] = x.Metadata.Version
	}
	return chosen, string(text)
}

// early tells whether a choice has a pre-release in it.
func early(chosen map[string]string) bool {
	for _, v := range chosen {
		if version.PEP440.Prerelease(v) {
			return true
		}
	}
	return false
}

func equalSets(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for name, v := range a {
		if w, ok := b[name]; !ok || version.PEP440.Compare(v, w) != 0 {
			return false
		}
	}
	return true
}

// worse tells whether a has the packages of b, none newer and some older.
func worse(a, b map[string]string) bool {
	older := false
	for name, v := range a {
		w, ok := b[name]
		if !ok || version.PEP440.Compare(v, w) > 0 {
			return false
		}
		older = older || version.PEP440.Compare(v, w) < 0
	}
	return older && len(a) == len(b)
}
