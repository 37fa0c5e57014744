package ui

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/foreign"
)

// Progress shows events: on a terminal as a few lines that are redrawn in place,
// elsewhere as one line for each thing that ended.
type Progress struct {
	s     *Screen
	mu    sync.Mutex
	tasks []*task
	drawn int // lines on the screen now
	stop  chan struct{}
	done  sync.WaitGroup
}

type task struct {
	name    string
	text    string
	unit    event.Unit
	current int64
	total   int64
	start   time.Time
}

// NewProgress starts showing. Close ends it.
func NewProgress(s *Screen) *Progress {
	p := &Progress{s: s, stop: make(chan struct{})}
	if s.live {
		p.done.Go(func() {
			tick := time.NewTicker(80 * time.Millisecond)
			defer tick.Stop()
			for {
				select {
				case <-p.stop:
					return
				case <-tick.C:
					p.mu.Lock()
					p.draw()
					p.mu.Unlock()
				}
			}
		})
	}
	return p
}

// Close takes the redrawn lines away.
func (p *Progress) Close() {
	close(p.stop)
	p.done.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.erase()
}

// Sink takes events from the core.
func (p *Progress) Sink(e event.Event) {
	if p.s.Quiet {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	switch e.Phase {
	case event.Remark:
		p.line(e.Text)
	case event.Begin:
		p.tasks = append(p.tasks, &task{name: e.Task, start: time.Now()})
	case event.Progress:
		if t := p.find(e.Task); t != nil {
			t.text, t.unit, t.current, t.total = e.Text, e.Unit, e.Current, e.Total
		}
	case event.Done, event.Failed, event.Stopped:
		t := p.find(e.Task)
		if t == nil {
			return
		}
		p.drop(t)
		// Resolving is quick and its outcome is printed as a whole.
		if strings.HasPrefix(t.name, "resolve ") && !p.s.Verbose {
			return
		}
		word, style := "done", Green
		if e.Phase == event.Failed {
			word, style = "failed", Red
		} else if e.Phase == event.Stopped {
			word, style = "stopped", Dim
		}
		detail := e.Text
		if detail == "" && t.unit == event.Bytes && t.current > 0 {
			detail = Bytes(t.current)
		}
		p.line(strings.TrimRight(fmt.Sprintf("%-34s  %s  %7s  %s", t.name, paint(p.s.errColor, style, fmt.Sprintf("%-6s", word)), Elapsed(e.Elapsed), detail), " "))
	}
}

func (p *Progress) find(name string) *task {
	for _, t := range p.tasks {
		if t.name == name {
			return t
		}
	}
	return nil
}

func (p *Progress) drop(t *task) {
	for i, x := range p.tasks {
		if x == t {
			p.tasks = append(p.tasks[:i], p.tasks[i+1:]...)
			return
		}
	}
}

// line prints a line that stays, above those that are redrawn.
func (p *Progress) line(text string) {
	p.erase()
	fmt.Fprintln(p.s.Err, finish(text, foreign.Text))
	if p.s.live {
		p.draw()
	}
}

func (p *Progress) erase() {
	if p.drawn > 0 {
		fmt.Fprintf(p.s.Err, "\x1b[%dA\x1b[J", p.drawn)
		p.drawn = 0
	}
}

// most is how many tasks are shown at once.
const most = 6

func (p *Progress) draw() {
	p.erase()
	width := 80
	if f, ok := p.s.Err.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			width = w
		}
	}
	var b strings.Builder
	for i, t := range p.tasks {
		if i == most {
			fmt.Fprintf(&b, "and %d more\n", len(p.tasks)-most)
			p.drawn++
			break
		}
		b.WriteString(paint(p.s.errColor, Dim, cut(foreign.Line(t.String()), width-1)) + "\n")
		p.drawn++
	}
	fmt.Fprint(p.s.Err, finish(b.String(), foreign.Text))
}

func (t *task) String() string {
	detail := t.text
	if t.unit == event.Bytes {
		detail = Bytes(t.current)
		if t.total > 0 {
			detail = fmt.Sprintf("%s of %s  %d%%", Bytes(t.current), Bytes(t.total), 100*t.current/t.total)
		}
	}
	return fmt.Sprintf("%-34s  %7s  %s", t.name, Elapsed(time.Since(t.start)), detail)
}

func cut(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:max(width-1, 0)]) + "…"
}

// Bytes writes a size in the units that people read.
func Bytes(n int64) string {
	switch {
	case n >= 10<<20:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d B", n)
}

// Elapsed writes a duration in the units that people read.
func Elapsed(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d m %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d m", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours())/24)
}

// Ago writes how long ago something was: "2 h ago".
func Ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours())/24)
}
