package ui

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/event"
)

// ended shows the ends of tasks on a screen that is no terminal.
func ended(s Screen, tasks func(sink event.Sink)) string {
	var out bytes.Buffer
	s.Out, s.Err = &out, &out
	p := NewProgress(&s)
	tasks(p.Sink)
	p.Close()
	return out.String()
}

func twoHundred(sink event.Sink) {
	for i := range 200 {
		for _, verb := range []string{"fetch", "unpack"} {
			name := fmt.Sprintf("%s tool%d 1.0", verb, i)
			sink(event.Event{Phase: event.Begin, Task: name})
			sink(event.Event{Phase: event.Progress, Task: name, Unit: event.Bytes, Current: 1 << 20, Total: 1 << 20})
			if i == 150 && verb == "unpack" {
				sink(event.Event{Phase: event.Failed, Task: name, Text: "it is damaged"})
				continue
			}
			sink(event.Event{Phase: event.Done, Task: name})
		}
	}
}

func TestManyThingsOfAKindAreCounted(t *testing.T) {
	out := ended(Screen{}, twoHundred)
	if n := strings.Count(out, "\n"); n > 20 {
		t.Errorf("%d lines:\n%s", n, out)
	}
	for _, want := range []string{"fetch tool0 1.0 ", "fetch 192 more", "192 MiB", "unpack 191 more", "unpack tool150 1.0 ", "failed", "it is damaged"} {
		if !strings.Contains(out, want) {
			t.Errorf("without %q:\n%s", want, out)
		}
	}
	if n := strings.Count(ended(Screen{Verbose: true}, twoHundred), "\n"); n != 400 {
		t.Errorf("verbose: %d lines", n)
	}
	if out := ended(Screen{Quiet: true}, twoHundred); out != "" {
		t.Errorf("quiet:\n%s", out)
	}
	// Steps and services are what a person waits for: each is named.
	out = ended(Screen{}, func(sink event.Sink) {
		for i := range 30 {
			name := fmt.Sprint("step s", i)
			sink(event.Event{Phase: event.Begin, Task: name})
			sink(event.Event{Phase: event.Done, Task: name})
		}
	})
	if strings.Count(out, "\n") != 30 {
		t.Errorf("steps:\n%s", out)
	}
}

func TestHowFarATaskHasGot(t *testing.T) {
	begun := time.Now().Add(-2 * time.Second)
	for _, c := range []struct {
		task task
		want []string
	}{
		{task{name: "fetch go 1.24.6", unit: event.Bytes, current: 10 << 20, total: 40 << 20, start: begun}, []string{"10 MiB of 40 MiB", "25%", "MiB/s"}},
		{task{name: "fetch go 1.24.6", unit: event.Bytes, current: 10 << 20, start: begun}, []string{"10 MiB", "/s"}},
		{task{name: "fetch 80 packages of eslint", unit: event.Items, current: 20, total: 80, start: begun}, []string{"20 of 80", "25%"}},
		{task{name: "step tables", text: "creating table passings", start: begun}, []string{"creating table passings"}},
	} {
		for _, want := range c.want {
			if got := c.task.String(); !strings.Contains(got, want) {
				t.Errorf("%q is without %q", got, want)
			}
		}
	}
}

// Off a terminal one hears of what takes long.
func TestWhatTakesLongIsToldOffATerminal(t *testing.T) {
	out := ended(Screen{}, func(sink event.Sink) {})
	if out != "" {
		t.Errorf("nothing is at work: %s", out)
	}
	var b bytes.Buffer
	p := NewProgress(&Screen{Err: &b})
	p.Sink(event.Event{Phase: event.Begin, Task: "step modules"})
	p.Sink(event.Event{Phase: event.Progress, Task: "step modules", Text: "compiling lane"})
	p.mu.Lock()
	p.last = time.Now().Add(-2 * silence)
	p.still()
	p.mu.Unlock()
	p.Sink(event.Event{Phase: event.Done, Task: "step modules"})
	p.Close()
	if first, _, _ := strings.Cut(b.String(), "\n"); !strings.HasPrefix(first, "still at it: step modules") || !strings.HasSuffix(first, "compiling lane") {
		t.Errorf("%s", b.String())
	}
}
