package ui

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/foreign"
)

// Progress shows events: on a terminal as a few lines that are redrawn in place,
// elsewhere as one line for each thing that ended. Of many things of a kind the first few
// have lines of their own and the rest are counted; what fails always has one.
type Progress struct {
	s     *Screen
	mu    sync.Mutex
	tasks []*task
	drawn int // lines on the screen now
	stop  chan struct{}
	done  sync.WaitGroup

	kinds []*kind   // in the order that they began
	last  time.Time // when a line was printed
}

// kind counts the things that a verb was done to.
type kind struct {
	verb  string
	ended int
	bytes int64
	start time.Time
	end   time.Time
}

const (
	mostLines = 8                // for things of a kind
	silence   = 15 * time.Second // off a terminal, after which one hears of what is at work
)

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
	p := &Progress{s: s, stop: make(chan struct{}), last: time.Now()}
	every, show := 80*time.Millisecond, p.draw
	if !s.live {
		every, show = time.Second, p.still
	}
	if !s.Quiet {
		p.done.Go(func() {
			tick := time.NewTicker(every)
			defer tick.Stop()
			for {
				select {
				case <-p.stop:
					return
				case <-tick.C:
					p.mu.Lock()
					show()
					p.mu.Unlock()
				}
			}
		})
	}
	return p
}

// Close takes the redrawn lines away, and says what was only counted.
func (p *Progress) Close() {
	close(p.stop)
	p.done.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.erase()
	for _, k := range p.kinds {
		if more := k.ended - mostLines; more > 0 && !p.s.Verbose {
			p.print(k.verb+" "+many(more), "done", Green, k.end.Sub(k.start), bytesOrNone(k.bytes))
		}
	}
}

func many(n int) string {
	if n == 1 {
		return "1 more"
	}
	return fmt.Sprintf("%d more", n)
}

func bytesOrNone(n int64) string {
	if n == 0 {
		return ""
	}
	return Bytes(n)
}

// still says off a terminal what has been at work for a while.
func (p *Progress) still() {
	if len(p.tasks) == 0 || time.Since(p.last) < silence {
		return
	}
	text := p.tasks[0].String()
	if n := len(p.tasks) - 1; n > 0 {
		text += fmt.Sprintf("  (and %d at the same time)", n)
	}
	for _, k := range p.kinds {
		if verb, _, _ := strings.Cut(p.tasks[0].name, " "); verb == k.verb && k.ended > mostLines {
			text += fmt.Sprintf("  %d before it", k.ended)
		}
	}
	p.line("still at it: " + strings.Join(strings.Fields(text), " "))
}

// counted notes the end of a thing and tells whether it has no line of its own.
func (p *Progress) counted(t *task) bool {
	verb, _, _ := strings.Cut(t.name, " ")
	if p.s.Verbose || verb == "step" || verb == "service" {
		return false
	}
	i := slices.IndexFunc(p.kinds, func(k *kind) bool { return k.verb == verb })
	if i < 0 {
		i = len(p.kinds)
		p.kinds = append(p.kinds, &kind{verb: verb})
	}
	k := p.kinds[i]
	if k.ended++; k.ended <= mostLines {
		return false
	}
	if k.start.IsZero() || t.start.Before(k.start) {
		k.start = t.start
	}
	k.end = time.Now()
	if t.unit == event.Bytes && verb == "fetch" {
		k.bytes += t.current
	}
	return true
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
		if e.Phase == event.Done && p.counted(t) {
			return
		}
		if e.After != "" {
			detail = strings.TrimLeft(detail+"  after "+e.After, " ")
		}
		p.print(t.name, word, style, e.Elapsed, detail)
	}
}

// print prints how a thing ended.
func (p *Progress) print(name, word string, style Style, took time.Duration, detail string) {
	p.line(strings.TrimRight(fmt.Sprintf("%-34s  %s  %7s  %s", name, paint(p.s.errColor, style, fmt.Sprintf("%-6s", word)), Elapsed(took), detail), " "))
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
	p.last = time.Now()
	fmt.Fprintln(p.s.Err, folded(finish(text, foreign.Text), p.s.errWidth))
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
	if f := p.s.terminal; f != nil {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			width = w
		}
	}
	var b strings.Builder
	for _, k := range p.kinds {
		if more := k.ended - mostLines; more > 0 {
			b.WriteString(paint(p.s.errColor, Dim, fmt.Sprintf("%s: %s are done", k.verb, many(more))) + "\n")
			p.drawn++
		}
	}
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
	took := time.Since(t.start)
	switch {
	case t.unit == event.Bytes && t.total > 0:
		detail = fmt.Sprintf("%s of %s  %d%%%s", Bytes(t.current), Bytes(t.total), 100*t.current/t.total, rate(t.current, took))
	case t.unit == event.Bytes:
		detail = Bytes(t.current) + rate(t.current, took)
	case t.unit == event.Items && t.total > 0:
		detail = fmt.Sprintf("%d of %d  %d%%", t.current, t.total, 100*t.current/t.total)
	}
	return fmt.Sprintf("%-34s  %7s  %s", t.name, Elapsed(took), detail)
}

// rate is how fast bytes come, once that can be said.
func rate(n int64, took time.Duration) string {
	if took < 300*time.Millisecond {
		return ""
	}
	return "  " + Bytes(int64(float64(n)/took.Seconds())) + "/s"
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

// Since is how long ago a moment was, as it stands in what is printed once: of the first minute it does
// not tell the seconds, which would be true for one.
func Since(t, now time.Time) string {
	if d := now.Sub(t); d >= time.Minute {
		return Ago(d)
	}
	return "<1 min" // also where the clock was set back
}
