package unpack

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// Archives that hold more than may wait to be written are unpacked beside each other, whole; and what
// they took, those that fail too, is given back.
func TestWhatWaitsToBeWrittenIsBounded(t *testing.T) {
	dir := t.TempDir()
	var entries []entry
	for i := range 120 { // of each size of piece, and of several
		entries = append(entries, file(fmt.Sprintf("lane-%d/day", i), strings.Repeat("redgill\n", []int{1, 3 << 10, 20 << 10, 90 << 10}[i%4])))
	}
	whole := tarGz(t, entries...)
	hostile := tarGz(t, append(entries, file("../out", "x"))...)
	archives := map[string][]byte{}
	for i := range 4 {
		archives[fmt.Sprintf("whole-%d", i)], archives[fmt.Sprintf("cut-%d", i)], archives[fmt.Sprintf("hostile-%d", i)] = whole, whole[:len(whole)*2/3], hostile
	}
	var wait sync.WaitGroup
	for name, raw := range archives {
		path, into := filepath.Join(dir, name+".tgz"), filepath.Join(dir, name)
		if err := os.WriteFile(path, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Mkdir(into, 0o700); err != nil {
			t.Fatal(err)
		}
		wait.Go(func() {
			ctx, cancel := context.WithCancel(t.Context())
			if strings.HasPrefix(name, "whole") {
				defer cancel()
			} else {
				cancel() // some are told to end as well, at any place
			}
			if name == "cut-0" || name == "hostile-0" {
				ctx = t.Context()
			}
			r, err := Archive(ctx, path, "tar.gz", into, Rules{})
			if good := strings.HasPrefix(name, "whole"); good != (err == nil) || good && len(r.Manifest) != len(entries) {
				t.Errorf("%s: %v", name, err)
			}
		})
	}
	wait.Wait()
	if !waiting.TryAcquire(mostWaiting) {
		t.Fatal("something of what waited is held for good")
	}
	waiting.Release(mostWaiting)
}
