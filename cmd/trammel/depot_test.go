package main

import (
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	ociregistry "github.com/google/go-containerregistry/pkg/registry"
)

var discard = log.New(io.Discard, "", 0)

// stockedHut is a machine that has stocked a depot, and the address of the sources that it used.
func stockedHut(t *testing.T, url string) (h *hut, away func()) {
	t.Helper()
	s, weir, oldweir := archives(t)
	h = sealedHut(t, s, weir, oldweir, "sealed", newTally+"node = \"22\"\n[depot]\nurl = \""+url+"\"\n")
	h.fitted()
	if out := h.ok("stock"); !strings.Contains(out, "root weir") || !strings.Contains(out, "node 22.12.0") {
		t.Errorf("stock says:\n%s", out)
	}
	return h, s.Close
}

// elsewhereFrom is another machine with the same checkout.
func elsewhereFrom(t *testing.T, h *hut) *hut {
	t.Helper()
	other := newHut(t, nil, h.read("trammel.toml"))
	other.env = append(append([]string{}, h.env...), "TRAMMEL_HOME="+other.home)
	for _, file := range []string{"trammel.lock", "keys/weir.asc", "keys/oldweir.asc"} {
		other.write(file, h.read(file))
	}
	return other
}

func TestAMachineCopiesEverythingFromTheDepot(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"folder", "registry"} {
		t.Run(kind, func(t *testing.T) {
			url := filepath.Join(t.TempDir(), "depot")
			if kind == "registry" {
				s := httptest.NewServer(ociregistry.New(ociregistry.Logger(discard)))
				defer s.Close()
				url = "oci://" + strings.TrimPrefix(s.URL, "http://") + "/depot"
			}
			h, away := stockedHut(t, url)
			if out := h.ok("stock"); !strings.Contains(out, "0 added, 3 were there") {
				t.Errorf("stocked twice:\n%s", out)
			}
			away()
			other := elsewhereFrom(t, h)
			if o := other.try("fit"); o.code != 0 || !strings.Contains(o.out+o.err, "copy root weir") {
				t.Errorf("a machine that has nothing: %+v", o)
			}
			// Where the packages are, the root is made of them, which takes links alone.
			roots, _ := filepath.Glob(filepath.Join(h.home, "data/store/*-weir-*"))
			for _, root := range roots {
				if err := os.Rename(root, filepath.Join(filepath.Dir(h.home), filepath.Base(root))); err != nil {
					t.Fatal(err)
				}
			}
			if o := h.try("fit"); len(roots) == 0 || o.code != 0 || !strings.Contains(o.out+o.err, "make root weir") || strings.Contains(o.out+o.err, "copy root") {
				t.Errorf("a machine that has the packages: %+v", o)
			}
			if got := other.ok("run", "--", "tallydb-17", "echo", "ran"); got != "silverfin\nran\n" {
				t.Errorf("the tool says %q", got)
			}
			if got := other.ok("run", "--", "node", "--version"); got != h.ok("run", "--", "node", "--version") {
				t.Errorf("node is %s", got)
			}
			other.ok("verify", "--deep")
			if a, b := environmentID(h), environmentID(other); a != b {
				t.Errorf("the environments are %s and %s", a, b)
			}
			if h.read("trammel.lock") != other.read("trammel.lock") {
				t.Error("the copied machine changed the lock")
			}
		})
	}
}

func TestADepotThatLiesCostsARemark(t *testing.T) {
	t.Parallel()
	var fault atomic.Value
	fault.Store("")
	var blobs atomic.Int32
	inner := ociregistry.New(ociregistry.Logger(discard))
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		blob := strings.Contains(r.URL.Path, "/blobs/sha256:") && r.Method == http.MethodGet
		if !blob && fault.Load() != "away" {
			inner.ServeHTTP(w, r)
			return
		}
		answer := httptest.NewRecorder()
		inner.ServeHTTP(answer, r)
		body := answer.Body.Bytes()
		switch fault.Load() {
		case "wrong":
			if len(body) > 10 {
				body[len(body)/2] ^= 1
			}
		case "cut": // each time half of what is left
			blobs.Add(1)
			w.Header().Set("Content-Length", fmt.Sprint(len(body)))
			w.WriteHeader(answer.Code)
			_, _ = w.Write(body[:len(body)/2])
			return
		case "missing":
			http.Error(w, "{}", http.StatusNotFound)
			return
		case "broken", "away":
			http.Error(w, "{}", http.StatusInternalServerError)
			return
		}
		w.WriteHeader(answer.Code)
		_, _ = w.Write(body)
	}))
	defer s.Close()
	h, away := stockedHut(t, "oci://"+strings.TrimPrefix(s.URL, "http://")+"/depot")
	for _, x := range []struct{ fault, says string }{
		{"wrong", "has something else"}, {"cut", "The depot"}, {"missing", ""}, {"broken", "is no help"}, {"away", "is no help"},
	} {
		fault.Store(x.fault)
		other := elsewhereFrom(t, h)
		o := other.try("fit")
		if o.code != 0 || !strings.Contains(o.err, x.says) {
			t.Errorf("%s: %+v", x.fault, o)
		}
		other.ok("verify", "--deep")
		if left, _ := filepath.Glob(filepath.Join(other.home, "cache/archives/.depot-*")); len(left) > 0 {
			t.Errorf("%s: left over: %v", x.fault, left)
		}
	}
	// With neither of both the source's own words are said.
	fault.Store("away")
	away()
	elsewhereFrom(t, h).fails(5, []string{"is no help"}, "fit")
}

func TestABuildMachineLeavesTheLockAlone(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	before := h.read("trammel.lock")
	h.env = append(h.env, "CI=true")
	if o := h.try("fit"); o.code != 0 || !strings.Contains(o.err, "on a build machine nothing is written into it") || !strings.Contains(o.err, "lock --complete") {
		t.Errorf("%+v", o)
	}
	if h.read("trammel.lock") != before {
		t.Error("the lock was written")
	}
	h.env = append(h.env, "CI=")
	if out := h.try("lock", "--complete", "--approve"); out.code != 0 || !strings.Contains(out.err, "tree digests") {
		t.Errorf("%+v", out)
	}
	whole := h.read("trammel.lock")
	if whole == before || strings.Count(whole, "blake3:") == 0 {
		t.Error("the lock has no trees")
	}
	other := demoHut(t)
	other.write("trammel.lock", whole)
	other.ok("fit")
	if other.read("trammel.lock") != whole {
		t.Error("the first fit of somebody else changed it")
	}
}

func TestADepotIsSwept(t *testing.T) {
	t.Parallel()
	url := filepath.Join(t.TempDir(), "depot")
	h, _ := stockedHut(t, url)
	old := h.read("trammel.lock")
	if out := h.ok("sweep", "--depot"); !strings.Contains(out, "0 B freed") || !strings.Contains(out, "3 stay") {
		t.Errorf("what the lock names was swept:\n%s", out)
	}
	h.change(newTally, "")
	h.ok("lock")
	h.fails(4, []string{"trammel approve"}, "sweep", "--depot") // who named the depot may be a stranger
	h.ok("approve", "--yes")
	keep := filepath.Join(t.TempDir(), "old.lock")
	if err := os.WriteFile(keep, []byte(old), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := h.ok("sweep", "--depot", "--lock", keep); !strings.Contains(out, "3 stay") {
		t.Errorf("what another lock names was swept:\n%s", out)
	}
	if out := h.ok("sweep", "--depot", "--older-than", "24h"); !strings.Contains(out, "3 stay") {
		t.Errorf("what is young was swept:\n%s", out)
	}
	if out := h.ok("sweep", "--depot", "--print"); !strings.Contains(out, "would be freed") || !strings.Contains(out, "root weir") {
		t.Errorf("%s", out)
	}
	if out := h.ok("sweep", "--depot"); !strings.Contains(out, "2 stay") {
		t.Errorf("%s", out)
	}
	h.fails(2, []string{"cannot be read", "Nothing was removed"}, "sweep", "--depot", "--lock", "no-such.lock")
}
