package store

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/stored/tree"
)

// Files of a root or a set are those of the packages that it is made of, by hard links. Making and taking
// away such a tree moves the time of change (st_ctime in inode(7)) of files that other trees share, and that
// time alone tells of bytes that were changed and whose other times were put back. So the store notes the
// intervals in which it linked itself. A file whose time of change is neither the recorded one nor in one of
// these is read. A note that is lost costs a reading, and hides nothing; and nothing is linked before it was
// looked at by the same rule, so that a changed file does not get a time that counts.

// span is an interval in which the store itself linked files, in nanoseconds since 1970.
type span struct{ from, to int64 }

// mostSpans is how many intervals are kept; files of older ones are read.
const mostSpans = 400

// coarse is how far a time of change may lie behind the clock: the kernel takes its own from the last tick.
const coarse = 20 * time.Millisecond

func (s *Store) spansFile() string { return filepath.Join(s.root, ".links") }

// linking notes the interval from now to the call of what it returns.
func (s *Store) linking() (done func()) {
	from := time.Now().Add(-coarse).UnixNano()
	return func() {
		line := fmt.Sprintf("%d %d\n", from, time.Now().UnixNano())
		if old := s.spans(); len(old) >= mostSpans {
			var b strings.Builder
			for _, x := range old[len(old)-mostSpans/2:] {
				fmt.Fprintf(&b, "%d %d\n", x.from, x.to)
			}
			_ = disk.Write(s.spansFile(), []byte(b.String()+line), 0o644)
			return
		}
		f, err := os.OpenFile(s.spansFile(), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			return
		}
		_, _ = f.WriteString(line)
		f.Close()
	}
}

// spans are the noted intervals. What cannot be read is none.
func (s *Store) spans() (out []span) {
	raw, err := disk.Read(s.spansFile(), disk.MostState)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(raw)) {
		var x span
		if n, err := fmt.Sscanf(line, "%d %d", &x.from, &x.to); err == nil && n == 2 {
			out = append(out, x)
		}
	}
	return out
}

// linkedOnly tells whether a file has the recorded stamp but for a time of change at which the store linked it.
func linkedOnly(want, have disk.Stamp, spans []span) bool {
	at := have.Change
	if want.Change == 0 || want.Size != have.Size || want.Mod != have.Mod || want.Inode != have.Inode {
		return false
	}
	for _, x := range spans {
		if x.from <= at && at <= x.to {
			return true
		}
	}
	return false
}

// entryAt finds an entry of a sorted manifest.
func entryAt(m tree.Manifest, path string) (tree.Entry, bool) {
	lo, hi := 0, len(m)
	for lo < hi {
		mid := (lo + hi) / 2
		if m[mid].Path < path {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	if lo < len(m) && m[lo].Path == path {
		return m[lo], true
	}
	return tree.Entry{}, false
}
