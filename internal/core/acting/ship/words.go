package ship

import (
	"bufio"
	"io"
	"strings"
	"sync"
)

// lastWords keeps the last lines that a command says on any of its streams.
type lastWords struct {
	mu    sync.Mutex
	lines []string
}

func (l *lastWords) read(r io.Reader) {
	for s := bufio.NewScanner(r); s.Scan(); {
		l.mu.Lock()
		if l.lines = append(l.lines, "| "+s.Text()); len(l.lines) > 8 {
			l.lines = l.lines[1:]
		}
		l.mu.Unlock()
	}
	_, _ = io.Copy(io.Discard, r)
}

func (l *lastWords) text() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Join(l.lines, "\n")
}
