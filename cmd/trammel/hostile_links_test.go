package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/standin"
)

// deep is a folder so far down that links can go up from it without leaving, and top the
// way back up.
var (
	deep = strings.TrimSuffix(strings.Repeat("d/", 12), "/")
	top  = strings.TrimSuffix(strings.Repeat("../", 12), "/")
)

// nested puts an entry into folders.
func nested(folder string, e standin.RawEntry) standin.RawEntry {
	parts := strings.Split(folder, "/")
	for i := len(parts) - 1; i >= 0; i-- {
		e = standin.RawEntry{Mode: "40000", Name: parts[i], Tree: []standin.RawEntry{e}}
	}
	return e
}

// A commit that somebody made by hand writes nothing but what is in its own folder, on
// whatever way a name or a link tries, before consent and after.
func TestACommitWritesOnlyIntoItsOwnFolder(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	blob := func(name string) standin.RawEntry {
		return standin.RawEntry{Mode: "100644", Name: name, Content: "touch RAN\n"}
	}
	link := func(name, to string) standin.RawEntry {
		return standin.RawEntry{Mode: "120000", Name: name, Content: to}
	}
	folder := func(name string, e ...standin.RawEntry) standin.RawEntry {
		return standin.RawEntry{Mode: "40000", Name: name, Tree: e}
	}
	up := func(n int) string { return strings.TrimSuffix(strings.Repeat("../", n), "/") }
	cases := map[string][]standin.RawEntry{
		"a name with a slash":              {blob("a/b")},
		"a folder's name with a slash":     {folder("a/b", blob("c"))},
		"a name above":                     {blob("..")},
		"a folder above":                   {folder("..", blob("RAN"))},
		"a folder that is this one":        {folder(".", blob("x"))},
		"an empty name":                    {blob("")},
		"an absolute name":                 {blob("/tmp/RAN-absolute")},
		"a name with a backslash":          {blob(`..\x`)},
		"git's own folder":                 {folder(".git", blob("config"))},
		"git's own folder in capitals":     {folder(".GIT", blob("config"))},
		"git's own folder, hidden":         {folder(".g\u200cit", blob("config"))},
		"git's own folder, short":          {folder("GIT~1", blob("config"))},
		"git's own folder, deeper":         {folder("a", folder(".git", folder("hooks", blob("x"))))},
		"a link that leaves":               {link("q", "../x")},
		"a link that leaves from below":    {folder("a", link("q", "../../x"))},
		"an absolute link":                 {link("q", "/etc")},
		"a link without a target":          {link("q", "")},
		"a name twice, first a link":       {link("q", "../.."), folder("q", blob(".bash_profile"))},
		"a name twice, later a link":       {folder("q", blob(".bash_profile")), link("q", "../..")},
		"a name twice, a link that stays":  {folder("a"), link("q", "a"), folder("q", blob("x"))},
		"a link through links":             {nested(deep, link("f", top)), link("q", deep+"/f/../../x")},
		"a link through links, long after": {link("z", deep+"/f/.."), nested(deep, link("f", top))},
	}
	for n := 3; n <= 7; n++ { // from wherever the folder lies to a person's home
		cases[fmt.Sprintf("a name with a slash through links, %d up", n)] = []standin.RawEntry{nested(deep, link("f", top)), link("q", deep+"/f/"+up(n)), blob("q/.bash_profile")}
		cases[fmt.Sprintf("a folder's name through links, %d up", n)] = []standin.RawEntry{nested(deep, link("f", top)), link("q", deep+"/f/"+up(n)), folder("q", blob(".bash_profile"))}
	}
	for name, entries := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := standin.NewGit()
			defer g.Close()
			base := standin.RawEntry{Mode: "100644", Name: "base.toml", Content: "format = 1\n"}
			good := g.CommitRaw(base)
			h := stranger(t, "include = [\""+g.URL+"#main:base.toml\"]\n[step.a]\nrun = \"true\"\n")
			h.ok("lock")
			bad := g.CommitRaw(append([]standin.RawEntry{base}, entries...)...)
			// The lock as who wishes ill commits it.
			relock(t, filepath.Join(h.dir, "trammel.lock"), func(l *lock.Lock) {
				for i, x := range l.Declaration.Includes {
					l.Declaration.Includes[i] = strings.ReplaceAll(x, good, bad)
				}
			})
			if !strings.Contains(h.read("trammel.lock"), bad) {
				t.Fatal("the pin is not in the lock")
			}
			os.RemoveAll(filepath.Join(h.home, "cache"))
			around := filepath.Dir(h.home)
			before := picture(t, "home", around)
			for _, args := range [][]string{{"lock"}, {"show"}, {"approve"}, {"fit"}, {"verify"}, {"newer"}, {"do"}, {"logs"}, {"bays"}, {"find", "node"}, {"fit", "--approve"}, {"lock", "--renew"}, {"run", g.URL + "#main:base.toml", "--", "true"}} {
				o := h.try(args...)
				if o.code == 0 && (args[0] == "lock" || args[0] == "fit") {
					t.Errorf("trammel %s holds:\n%s%s", strings.Join(args, " "), o.out, o.err)
				}
				if strings.Contains(o.err, "goroutine ") {
					t.Errorf("trammel %s:\n%s", strings.Join(args, " "), o.err)
				}
			}
			if diff := changed(before, picture(t, "home", around)); len(diff) > 0 || h.there("../RAN") {
				t.Errorf("written: %v", diff)
			}
			// In the home lies nothing that it brought.
			_ = filepath.WalkDir(h.home, func(path string, d os.DirEntry, err error) error {
				if err == nil && (strings.Contains(d.Name(), "bash_profile") || strings.HasPrefix(d.Name(), "RAN")) {
					t.Errorf("there is %s", path)
				}
				return nil
			})
		})
	}
}

// An archive with links in a row is refused, of every kind, and no host file is a tool.
func TestAnArchiveOfLinksInARowIsRefused(t *testing.T) {
	t.Parallel()
	for name, links := range map[string][]standin.File{
		"two":              {{Name: deep + "/f", Link: top}, {Name: "q", Link: deep + "/f/../outside"}},
		"two, turned":      {{Name: "q", Link: deep + "/f/../outside"}, {Name: deep + "/f", Link: top}},
		"three":            {{Name: deep + "/f", Link: top}, {Name: deep + "/g", Link: "f/d"}, {Name: "q", Link: deep + "/g/../../outside"}},
		"a folder outside": {{Name: deep + "/f", Link: top}, {Name: "q", Link: deep + "/f/.."}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n"+catalogOf("evil"))
			files := append([]standin.File{{Name: "bin/evil", Content: "#!/bin/sh\n", Mode: 0o755}, {Name: deep + "/d/x"}}, links...)
			if err := standin.Publish(filepath.Join(h.dir, "tools"), []standin.Tool{{Name: "evil", Archives: [][]byte{standin.TarGz(files...)}}}); err != nil {
				t.Fatal(err)
			}
			if o := h.try("lock"); o.code == 0 {
				if o = h.try("fit", "--approve"); o.code == 0 || !strings.Contains(o.err, "leaves the tree") {
					t.Errorf("%d %s%s", o.code, o.out, o.err)
				}
			}
			parts, _ := os.ReadDir(filepath.Join(h.home, "store"))
			for _, p := range parts {
				if strings.Contains(p.Name(), "evil") {
					t.Errorf("kept: %s", p.Name())
				}
			}
		})
	}
}

// Where a checkout has links in the place of what this program makes or writes, nothing
// behind them is touched.
func TestNothingIsWrittenThroughLinksOfACheckout(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	const declaration = `isolation = "ISOLATION"

[variables]
A = "b"

[file."DEST"]
template = "t"

[step.a]
run = "true"

[service.lane]
run = "exec sleep 600"
`
	inside := []string{".gitignore", "lock.lock", "locked.toml", "earlier.lock", "locks", "bin", "frame", "home", "steps", "id", "plan-main.json", "additions", "recall"}
	type put struct {
		dest string
		do   func(h *hut, victim string)
	}
	puts := map[string]put{
		"the folder of ours":            {"out", func(h *hut, v string) { h.link(".trammel", v) }},
		"the folder of ours, relative":  {"out", func(h *hut, v string) { h.link(".trammel", relative(h, ".", v)) }},
		"the folder of ours, by a link": {"out", func(h *hut, v string) { h.link("x", v); h.link(".trammel", "x") }},
		"a rendered file's folder":      {"link/authorized_keys", func(h *hut, v string) { h.link("link", v) }},
		"deeper":                        {"a/b/link/c/authorized_keys", func(h *hut, v string) { h.link("a/b/link", relative(h, "a/b", v)) }},
		"a folder in between":           {"a/b/c/d", func(h *hut, v string) { h.link("a", "y"); h.link("y", v) }},
		"the rendered file":             {"out", func(h *hut, v string) { h.link("out", filepath.Join(v, "precious")) }},
		"the rendered file, to nothing": {"out", func(h *hut, v string) { h.link("out", filepath.Join(v, "new")) }},
		"the lock":                      {"out", func(h *hut, v string) { h.link("trammel.lock", filepath.Join(v, "precious")) }},
		"a folder of ours as a render":  {".trammel/x", func(h *hut, v string) { h.link(".trammel/x", v) }},
	}
	for _, name := range inside {
		puts["in our folder: "+name] = put{"out", func(h *hut, v string) {
			os.RemoveAll(filepath.Join(h.dir, ".trammel", name))
			h.link(".trammel/"+name, v)
		}}
		puts["in our folder, a file: "+name] = put{"out", func(h *hut, v string) {
			os.RemoveAll(filepath.Join(h.dir, ".trammel", name))
			h.link(".trammel/"+name, filepath.Join(v, "precious"))
		}}
	}
	for name, p := range puts {
		for _, early := range []bool{true, false} {
			if early && strings.HasPrefix(name, "in our folder") {
				continue // what is made first is replaced; what lies there as it is cloned is one case of it
			}
			t.Run(fmt.Sprintf("%s, early %v", name, early), func(t *testing.T) {
				t.Parallel()
				isolation := "clean"
				if strings.Contains(name, "home") || strings.Contains(name, "frame") {
					isolation = "sealed"
				}
				h := stranger(t, strings.NewReplacer("ISOLATION", isolation, "DEST", p.dest).Replace(declaration))
				h.write("t", "ssh-ed25519 AAAA evil\n")
				victim := t.TempDir()
				for _, f := range []string{"precious", "id_ed25519", "sub/precious"} {
					os.MkdirAll(filepath.Dir(filepath.Join(victim, f)), 0o700)
					if err := os.WriteFile(filepath.Join(victim, f), []byte("precious\n"), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				before := picture(t, "", victim)
				if !early {
					h.try("lock")
					h.try("fit", "--approve")
				}
				p.do(h, victim)
				for _, args := range [][]string{{"lock"}, {"approve", "--yes"}, {"fit"}, {"run", "--", "true"}, {"start"}, {"recall", "1"}, {"clear", "--yes", "main"}, {"verify"}, {"sweep"}, {"lock", "--renew"}} {
					if o := h.try(args...); strings.Contains(o.err, "goroutine ") {
						t.Errorf("trammel %s:\n%s", strings.Join(args, " "), o.err)
					}
					if diff := changed(before, picture(t, "", victim)); len(diff) > 0 {
						t.Fatalf("trammel %s: %v", strings.Join(args, " "), diff)
					}
				}
			})
		}
	}
}

func relative(h *hut, from, to string) string {
	rel, err := filepath.Rel(filepath.Join(h.dir, from), to)
	if err != nil {
		h.t.Fatal(err)
	}
	return rel
}

// A card's stale lock lies in the folder of its data, whatever the card says and whatever
// lies there.
func TestAStaleLockLiesInItsOwnFolder(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	for name, stale := range map[string]string{
		"above": "../victim-file", "far above": top + "/victim-file", "absolute": "/victim-file", "through a link": "link/victim-file",
		"in between": "a/../../victim-file", "the folder itself": ".", "nothing": "", "a link": "linked", "a folder": "folder",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := stranger(t, catalogOf("keeper")+"\n[service.db]\ntool = \"keeper\"\n")
			victim := t.TempDir()
			if err := os.WriteFile(filepath.Join(victim, "victim-file"), []byte("x"), 0o600); err != nil {
				t.Fatal(err)
			}
			if strings.HasPrefix(stale, "/") {
				stale = victim + stale
			}
			// It plants links in its own data, once and later.
			plant := "mkdir -p @{data}/folder/keep && ln -sfn " + victim + " @{data}/link && ln -sfn " + victim + "/victim-file @{data}/linked"
			h.publish(tool{"keeper", "echo 1.0", fmt.Sprintf("[service]\nonce = %q\nrun = %q\nstale = %q\n", plant, plant+"; exec sleep 600", stale)})
			before := picture(t, "", victim)
			h.try("lock")
			h.try("fit", "--approve")
			for range 3 {
				h.try("start")
				h.try("stop")
			}
			if diff := changed(before, picture(t, "", victim)); len(diff) > 0 {
				t.Errorf("%v", diff)
			}
			found := 0
			_ = filepath.WalkDir(h.home, func(path string, d os.DirEntry, err error) error {
				if err == nil && d.Name() == "keep" {
					found++
				}
				return nil
			})
			if o := h.try("show"); o.code == 0 && found != 1 {
				t.Errorf("the folder of its data was removed")
			}
		})
	}
}
