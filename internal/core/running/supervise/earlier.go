package supervise

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/process"
)

// When a supervisor is killed its services die with it, but not in the same instant: the
// kernel gives its locks back before it has ended its children, and one with gigabytes of
// memory takes a while. So each tree is noted before anything of it runs, and the next
// supervisor waits until those that were noted are gone before it claims a port, removes a
// file that an earlier run left, or starts anything.

// trees notes the process trees of one supervisor, and knows those of the one before.
type trees struct {
	file string
	log  func(text string)
	gone chan struct{} // closed when nothing of the earlier supervisor is alive

	mu    sync.Mutex
	alive []noted // of the earlier supervisor
	own   []noted
	size  int
}

type noted struct {
	name    string
	process process.Process
}

// line is how a tree is noted: by number and time of start, which are of one start of the system, and so by that.
func (n noted) line() string {
	return fmt.Sprintf("%d %d %s %s\n", n.process.Pid, n.process.Started, process.Boot(), n.name)
}

// readNoted reads that. What was noted before the system started anew is no process of now, whatever has its number.
func readNoted(line string) (n noted, ok bool) {
	words := strings.Fields(line)
	if len(words) != 4 || words[2] != process.Boot() {
		return n, false
	}
	n.name = words[3]
	_, err := fmt.Sscan(words[0]+" "+words[1], &n.process.Pid, &n.process.Started)
	return n, err == nil
}

func (n noted) String() string { return fmt.Sprintf("%s (pid %d)", n.name, n.process.Pid) }

// treesFile is where they are noted.
func treesFile(b bay.Bay) string { return filepath.Join(b.Records, "trees") }

// mostNoted is from which size the note is written anew without what has ended, in bytes.
const mostNoted = 128 << 10

// firmly is how long an earlier tree may take to end by itself. It is told to by the
// kernel already; what then is still there is killed once more.
const firmly = 2 * time.Second

// openTrees reads what the supervisor before noted.
func openTrees(b bay.Bay, log func(text string)) *trees {
	t := &trees{file: treesFile(b), log: log, gone: make(chan struct{})}
	raw, _ := disk.Read(t.file, disk.MostState)
	for line := range strings.Lines(string(raw)) {
		if n, ok := readNoted(line); ok && n.process.Alive() {
			t.alive = append(t.alive, n)
		}
	}
	if len(t.alive) == 0 {
		t.done()
		return t
	}
	go t.watch()
	return t
}

func (t *trees) done() {
	_ = os.Remove(t.file)
	close(t.gone)
}

// watch waits until what is left has ended.
func (t *trees) watch() {
	t.log("waiting for processes of an earlier supervisor: " + strings.Join(t.left(), ", "))
	for _, n := range t.alive {
		if !n.process.WaitGone(firmly) {
			n.process.Kill()
			n.process.WaitGone(0)
		}
	}
	t.mu.Lock()
	t.alive = nil
	t.mu.Unlock()
	t.log("they have ended")
	t.done()
}

// left are the names of what has not ended yet.
func (t *trees) left() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []string
	for _, n := range t.alive {
		if n.process.Alive() {
			out = append(out, n.String())
		}
	}
	return out
}

// wait waits until nothing of an earlier supervisor is alive.
func (t *trees) wait(ctx context.Context) error {
	select {
	case <-t.gone:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// note notes a tree that nothing runs in yet.
func (t *trees) note(name string, pid int) error {
	n := noted{name, process.ProcessOf(pid)}
	line := n.line()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.own = append(t.own, n)
	if t.size+len(line) > mostNoted {
		kept := t.own[:0]
		text := ""
		for _, o := range t.own {
			if o.process.Alive() {
				kept = append(kept, o)
				text += o.line()
			}
		}
		t.own, t.size = kept, len(text)
		return disk.WriteCache(t.file, []byte(text))
	}
	f, err := disk.AppendOwn(t.file)
	if err != nil {
		return err
	}
	defer f.Close()
	n2, err := f.WriteString(line)
	t.size += n2
	return err
}
