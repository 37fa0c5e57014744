package fetch_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
)

// cutting is a server that ends each answer at the place that at names, or hangs there.
func cutting(t *testing.T, at func(request int64) int, hang, ranges bool) (address string, requests *atomic.Int64) {
	t.Helper()
	requests = &atomic.Int64{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := requests.Add(1)
		from := 0
		if ranges {
			w.Header().Set("ETag", `"fish"`)
			if _, err := fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from); err == nil {
				w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(fish)-1, len(fish)))
			}
		}
		end := max(from, min(at(n), len(fish)))
		w.Header().Set("Content-Length", fmt.Sprint(len(fish)-from))
		if from > 0 {
			w.WriteHeader(http.StatusPartialContent)
		}
		_, _ = w.Write(fish[from:end])
		w.(http.Flusher).Flush()
		if hang {
			<-r.Context().Done()
			return
		}
		if end < len(fish) {
			panic(http.ErrAbortHandler)
		}
	}))
	t.Cleanup(s.Close)
	return s.URL + "/fish.bin", requests
}

func TestADownloadThatIsCutAtOnePlaceEndsWithAnError(t *testing.T) {
	for _, ranges := range []bool{false, true} {
		for _, part := range []int{0, 1, 20, 5, 2} { // a cut at 0, and at these parts of the whole
			at := 0
			if part > 0 {
				at = len(fish) / part
			}
			if part == 1 {
				at--
			}
			address, requests := cutting(t, func(int64) int { return at }, false, ranges)
			for name, get := range map[string]func(c *fetch.Client) error{
				"archive": func(c *fetch.Client) error {
					_, err := c.Archive(context.Background(), t.TempDir(), fetch.Download{Name: "fish", From: fetch.Address{URL: address}, Size: int64(len(fish)), Digest: digestOf(fish)})
					return err
				},
				"copy": func(c *fetch.Client) error {
					to, _ := os.Create(filepath.Join(t.TempDir(), "copy"))
					defer to.Close()
					return c.Copy(context.Background(), fetch.Address{URL: address}, to, 1<<30)
				},
				"document": func(c *fetch.Client) error {
					_, err := c.Document(context.Background(), fetch.Address{URL: address}, "", nil)
					return err
				},
			} {
				requests.Store(0)
				if err := get(client(t, false)); !errors.Is(err, fault.ErrSource) {
					t.Errorf("%s, ranges %v, cut at %d: %v", name, ranges, at, err)
				}
				if n := requests.Load(); n > 20 {
					t.Errorf("%s, ranges %v, cut at %d: %d requests", name, ranges, at, n)
				}
			}
		}
	}
}

func TestADownloadThatGetsFurtherIsCarriedOnButNotForEver(t *testing.T) {
	address, requests := cutting(t, func(n int64) int { return int(n) * len(fish) / 10 }, false, true)
	d := fetch.Download{Name: "fish", From: fetch.Address{URL: address}, Size: int64(len(fish)), Digest: digestOf(fish)}
	if _, err := client(t, false).Archive(context.Background(), t.TempDir(), d); err != nil {
		t.Errorf("a tenth more each time: %v after %d requests", err, requests.Load())
	}
	address, requests = cutting(t, func(n int64) int { return int(n) }, false, false)
	d.From.URL = address
	if _, err := client(t, false).Archive(context.Background(), t.TempDir(), d); !errors.Is(err, fault.ErrSource) || requests.Load() > 100 {
		t.Errorf("a byte more each time: %v after %d requests", err, requests.Load())
	}
}

func TestADownloadThatStallsEnds(t *testing.T) {
	for _, at := range []int{0, 4, len(fish) / 2} {
		address, _ := cutting(t, func(int64) int { return at }, true, false)
		c := fetch.New(fetch.Options{Indexes: t.TempDir(), Backoff: time.Millisecond, Stall: 30 * time.Millisecond})
		to, err := os.Create(filepath.Join(t.TempDir(), "copy"))
		if err != nil {
			t.Fatal(err)
		}
		defer to.Close()
		if err := c.Copy(context.Background(), fetch.Address{URL: address}, to, 1<<30); !errors.Is(err, fault.ErrSource) {
			t.Errorf("a copy that stalls at %d: %v", at, err)
		}
		d := fetch.Download{Name: "fish", From: fetch.Address{URL: address}, Size: int64(len(fish)), Digest: digestOf(fish)}
		if _, err := c.Archive(context.Background(), t.TempDir(), d); !errors.Is(err, fault.ErrSource) {
			t.Errorf("an archive that stalls at %d: %v", at, err)
		}
	}
}

// An address may have any word in it: what an error is decides, not what it says.
func TestErrorsAreJudgedByWhatTheyAre(t *testing.T) {
	for _, word := range []string{"index", "redirect-map", "unsupported-protocol-scheme", "more than 10 redirects"} {
		var asked atomic.Int64
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if asked.Add(1) == 1 {
				panic(http.ErrAbortHandler)
			}
			_, _ = w.Write([]byte("[]"))
		}))
		_, err := client(t, false).Document(context.Background(), fetch.Address{URL: s.URL + "/" + strings.ReplaceAll(word, " ", "%20") + "/index.json"}, "", nil)
		if err != nil || asked.Load() != 2 {
			t.Errorf("%s: asked %d times, %v", word, asked.Load(), err)
		}
		s.Close()
	}
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		http.Redirect(w, r, "ftp://elsewhere.example/", http.StatusFound)
	}))
	defer s.Close()
	if _, err := client(t, false).Document(context.Background(), fetch.Address{URL: s.URL}, "", nil); !errors.Is(err, fault.ErrSource) || asked.Load() != 1 {
		t.Errorf("a redirect that is not followed: asked %d times, %v", asked.Load(), err)
	}
}
