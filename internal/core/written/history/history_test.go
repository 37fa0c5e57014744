package history

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/written/lock"
)

// at is a lock with one tool at a version.
func at(v string) *lock.Lock {
	return &lock.Lock{
		Format: lock.Format, Declaration: lock.Declaration{Digest: "sha256:00", Project: "heronweir", Isolation: "clean", Platforms: []string{"linux/amd64"}},
		Sources: map[string]lock.Source{"npm": {Kind: "npm", Address: "machine", AsOf: "2026-03-01T00:00:00Z"}},
		Items: map[string]lock.Item{"node": {Version: v, Source: "npm", Card: "sha256:11", Platforms: map[string]map[string]lock.Part{"linux/amd64": {"node": {
			Path: "node-" + v + ".tgz", Version: v, Format: "tar.gz", Digest: fetch.Digest("sha256:" + strings.Repeat("a", 64)), Bin: map[string]string{"node": "bin/node"},
		}}}}},
	}
}

// repo is a repository that is driven as people do.
type repo struct {
	t   *testing.T
	dir string
	day int
}

func newRepo(t *testing.T) *repo {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		lacks.Program(t, "git")
	}
	r := &repo{t: t, dir: t.TempDir()}
	r.git("init", "-q", "-b", "main")
	return r
}

func (r *repo) git(args ...string) string {
	r.t.Helper()
	r.day++
	when := time.Date(2026, 3, 1, 0, r.day, 0, 0, time.UTC).Format(time.RFC3339)
	c := exec.Command("git", append([]string{"-C", r.dir, "-c", "user.name=weir", "-c", "user.email=weir@weir.example", "-c", "merge.conflictStyle=merge"}, args...)...)
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when)
	out, err := c.CombinedOutput()
	if err != nil && args[0] != "merge" {
		r.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// locks commits a lock in a folder of the repository.
func (r *repo) locks(folder, v string) {
	r.t.Helper()
	r.put(folder, "trammel.toml", "# node "+v+"\n")
	if err := at(v).WriteFile(filepath.Join(r.dir, folder, lock.FileName)); err != nil {
		r.t.Fatal(err)
	}
	r.git("add", "-A")
	r.git("commit", "-q", "-m", "node "+v+"\n\nand more about it")
}

func (r *repo) put(folder, name, text string) {
	r.t.Helper()
	if err := os.MkdirAll(filepath.Join(r.dir, folder), 0o755); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(r.dir, folder, name), []byte(text), 0o644); err != nil {
		r.t.Fatal(err)
	}
}

// elsewhere commits something that is not the lock.
func (r *repo) elsewhere() {
	r.t.Helper()
	r.put("", fmt.Sprintf("note-%d", r.day), "x")
	r.git("add", "-A")
	r.git("commit", "-q", "-m", "a note")
}

// versions are those of the revisions, the newest first.
func versions(t *testing.T, list []Revision) (out []string) {
	t.Helper()
	for _, r := range list {
		if r.Lock == nil {
			out = append(out, "unreadable")
		} else {
			out = append(out, r.Lock.Items["node"].Version)
		}
	}
	return out
}

// Commits count that changed the lock against each of their parents, and no others.
func TestWhichCommitsCount(t *testing.T) {
	for _, c := range []struct {
		name   string
		make   func(r *repo)
		folder string
		limit  int
		want   []string
	}{
		{"nothing is committed", func(r *repo) {}, "", 0, nil},
		{"no lock in it", func(r *repo) { r.elsewhere() }, "", 0, nil},
		{"in a row, with others between", func(r *repo) { r.locks("", "20.1.0"); r.elsewhere(); r.locks("", "20.2.0"); r.elsewhere() }, "", 0, []string{"20.2.0", "20.1.0"}},
		{"no more than were asked for", func(r *repo) { r.locks("", "20.1.0"); r.locks("", "20.2.0"); r.locks("", "20.3.0") }, "", 2, []string{"20.3.0", "20.2.0"}},
		{"back to an earlier one", func(r *repo) { r.locks("", "20.1.0"); r.locks("", "20.2.0"); r.locks("", "20.1.0") }, "", 0, []string{"20.1.0", "20.2.0", "20.1.0"}},
		{"a merge that takes one side", func(r *repo) {
			r.locks("", "20.1.0")
			r.git("checkout", "-q", "-b", "side")
			r.locks("", "20.2.0")
			r.git("checkout", "-q", "main")
			r.elsewhere()
			r.git("merge", "-q", "--no-edit", "side")
		}, "", 0, []string{"20.2.0", "20.1.0"}},
		{"a merge that made a lock of its own", func(r *repo) {
			r.locks("", "20.1.0")
			r.git("checkout", "-q", "-b", "side")
			r.locks("", "20.2.0")
			r.git("checkout", "-q", "main")
			r.locks("", "20.3.0")
			r.git("merge", "-q", "--no-edit", "side")
			r.locks("", "20.4.0")
		}, "", 0, []string{"20.4.0", "20.3.0", "20.2.0", "20.1.0"}},
		{"below the top of the repository", func(r *repo) { r.locks("web", "20.1.0"); r.locks("other", "18.1.0"); r.locks("web", "20.2.0") }, "web", 0, []string{"20.2.0", "20.1.0"}},
		{"the project moved", func(r *repo) {
			r.locks("", "20.1.0")
			r.locks("", "20.2.0")
			if err := os.Mkdir(filepath.Join(r.dir, "web"), 0o755); err != nil {
				r.t.Fatal(err)
			}
			r.git("mv", "trammel.lock", "trammel.toml", "web/")
			r.git("commit", "-q", "-m", "into a folder")
			r.locks("web", "20.3.0")
		}, "web", 0, []string{"20.3.0", "20.2.0", "20.1.0"}},
		{"one that nobody can read", func(r *repo) {
			r.locks("", "20.1.0")
			r.put("", lock.FileName, "format = ")
			r.git("commit", "-qam", "broken")
			r.locks("", "20.2.0")
		}, "", 0, []string{"20.2.0", "unreadable", "20.1.0"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := newRepo(t)
			c.make(r)
			dir := filepath.Join(r.dir, c.folder)
			h, err := Open(dir, filepath.Join(dir, ".trammel", "locks"))
			if err != nil || !h.Versioned() {
				t.Fatal(err)
			}
			list, cut, err := h.List(c.limit)
			if got := versions(t, list); err != nil || cut || !slices.Equal(got, c.want) {
				t.Errorf("%v, cut %v, %v; not %v", got, cut, err, c.want)
			}
			for i, x := range list {
				if x.Lock == nil {
					continue
				}
				if x.Subject != "node "+c.want[i] && x.Subject != "into a folder" || len(x.Changes) == 0 || !strings.Contains(string(x.Declaration), c.want[i]) {
					t.Errorf("%d: %q, %q, %q", i, x.Subject, x.Changes, x.Declaration)
				}
			}
		})
	}
}

// A shallow clone says that there was more, and invents nothing.
func TestAShallowCloneSaysSo(t *testing.T) {
	r := newRepo(t)
	for _, v := range []string{"20.1.0", "20.2.0", "20.3.0"} {
		r.locks("", v)
	}
	clone := filepath.Join(t.TempDir(), "clone")
	if out, err := exec.Command("git", "clone", "-q", "--depth=2", "file://"+r.dir, clone).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	h, err := Open(clone, filepath.Join(clone, ".trammel", "locks"))
	if err != nil {
		t.Fatal(err)
	}
	list, cut, err := h.List(0)
	if got := versions(t, list); err != nil || !cut || !slices.Equal(got, []string{"20.3.0", "20.2.0"}) {
		t.Fatalf("%v, cut %v, %v", got, cut, err)
	}
	if !strings.Contains(list[1].Changes[0], "not in this shallow clone") {
		t.Errorf("what the last one changed: %q", list[1].Changes)
	}
}

func TestRevisionsAreFound(t *testing.T) {
	r := newRepo(t)
	r.locks("", "20.1.0")
	r.git("tag", "spring")
	r.locks("", "20.2.0")
	r.locks("", "20.3.0")
	r.elsewhere()
	kept := filepath.Join(r.dir, ".trammel", "locks")
	noon := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	if err := PutAside(kept, at("19.9.0"), []byte("# put aside\n"), noon); err != nil {
		t.Fatal(err)
	}
	h, err := Open(r.dir, kept)
	if err != nil {
		t.Fatal(err)
	}
	second := strings.Fields(r.git("log", "--format=%H", "-1", "--skip=2"))[0]
	for rev, want := range map[string]string{
		"1": "20.2.0", "2": "20.1.0", "3": "", "0": "", "spring": "20.1.0", "main": "20.3.0", second: "20.2.0", second[:10]: "20.2.0",
		"HEAD~1": "20.3.0", "20260302-120000-001": "19.9.0", "autumn": "", "../../etc": "", "": "",
	} {
		got, err := h.Find(rev)
		switch {
		case want == "" && err == nil:
			t.Errorf("%q is %s", rev, got.Lock.Items["node"].Version)
		case want != "" && (err != nil || got.Lock.Items["node"].Version != want || got.Declaration == nil):
			t.Errorf("%q is %+v, not %s: %v", rev, got, want, err)
		}
	}
	// What is in the folder and not committed is the present one, so that one back is what is.
	if err := at("20.4.0").Write(r.dir); err != nil {
		t.Fatal(err)
	}
	if got, err := h.Find("1"); err != nil || got.Lock.Items["node"].Version != "20.3.0" {
		t.Errorf("one before what is not committed: %+v %v", got, err)
	}
	listed, _, _ := h.List(0)
	if more, err := h.Uncommitted(listed); err != nil || !slices.Equal(versions(t, more), []string{"19.9.0"}) {
		t.Errorf("never committed: %+v %v", more, err)
	}
	if !h.Same("note-"+fmt.Sprint(r.day), []byte("x")) && !h.Same("trammel.toml", []byte("# node 20.3.0\n")) || h.Same("trammel.toml", []byte("# node 20.4.0\n")) || h.Same("nothing", nil) {
		t.Error("what is committed as it is here")
	}
}

// Without version control the last twenty are kept, in their order, also within one second.
func TestTheLastTwentyArePutAside(t *testing.T) {
	dir := t.TempDir()
	kept := filepath.Join(dir, "locks")
	noon := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	for i := range 25 {
		if err := PutAside(kept, at(fmt.Sprintf("20.%d.0", i)), fmt.Appendf(nil, "# %d\n", i), noon.Add(time.Duration(i/7)*time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	h, err := Open(dir, kept)
	if err != nil || h.Versioned() {
		t.Fatalf("%v %v", h.Versioned(), err)
	}
	list, cut, err := h.List(0)
	if err != nil || cut || len(list) != 20 || list[0].Lock.Items["node"].Version != "20.24.0" || list[19].Lock.Items["node"].Version != "20.5.0" {
		t.Fatalf("%v %v %v", versions(t, list), cut, err)
	}
	if files, _ := filepath.Glob(filepath.Join(kept, "*")); len(files) != 40 {
		t.Errorf("%d files", len(files))
	}
	if got, err := h.Find("2"); err != nil || got.Lock.Items["node"].Version != "20.23.0" || string(got.Declaration) != "# 23\n" {
		t.Errorf("%+v %v", got, err)
	}
	// One that a full disk cut does not hide the others.
	if err := os.WriteFile(filepath.Join(kept, list[3].ID+".lock"), []byte("form"), 0o600); err != nil {
		t.Fatal(err)
	}
	if list, _, err := h.List(0); err != nil || len(list) != 19 {
		t.Errorf("%d: %v", len(list), err)
	}
}
