// Package event carries what the core wants to tell whoever listens: typed
// progress events, sent to a sink that travels in the context.
//
// It promises that sending never blocks on a missing listener and never fails.
// It does not promise order between goroutines.
package event

import (
	"context"
	"errors"
	"time"
)

// Phase says where in its life a piece of work is.
type Phase int

// The phases of a piece of work. Every task that sends Begin sends exactly one
// of Done, Failed and Stopped.
const (
	Begin Phase = iota
	Progress
	Done
	Failed
	Stopped // ended because another task failed
	Remark  // a sentence for the person, not part of any task
)

// Unit says what the counters of an Event count.
type Unit int

// What Current and Total count.
const (
	None Unit = iota
	Bytes
	Items
)

// Event is one piece of news. Task names the work ("fetch go 1.24.6") and is the
// same in all events of that work.
type Event struct {
	Phase   Phase
	Task    string
	Text    string // a state word or a detail, may be empty
	Unit    Unit
	Current int64
	Total   int64 // 0 when not known
	Elapsed time.Duration
	After   string // Done: the last of what had to be done first, "" where nothing had to be
}

// Sink receives events. It is called from many goroutines.
type Sink func(Event)

type key struct{}

// With returns a context whose events go to sink.
func With(ctx context.Context, sink Sink) context.Context {
	return context.WithValue(ctx, key{}, sink)
}

// Send delivers e to the sink of ctx, if there is one.
func Send(ctx context.Context, e Event) {
	if sink, ok := ctx.Value(key{}).(Sink); ok && sink != nil {
		sink(e)
	}
}

// Say sends a remark: one sentence for the person.
func Say(ctx context.Context, text string) { Send(ctx, Event{Phase: Remark, Text: text}) }

// Halted is why a task ended that had no fault of its own: another one failed, which is the
// cause. A context that is cancelled with it makes what depends on it end so.
type Halted struct{ Cause error }

func (h *Halted) Error() string { return h.Cause.Error() }
func (h *Halted) Unwrap() error { return h.Cause }

// Cause is the error of the task that failed.
func Cause(err error) error {
	var h *Halted
	if errors.As(err, &h) {
		return h.Cause
	}
	return err
}

type taskKey struct{}

// Within returns a context in which Advance tells of a task.
func Within(ctx context.Context, task string) context.Context {
	return context.WithValue(ctx, taskKey{}, task)
}

// Advance tells how far the task of a context has got; without one it tells nothing.
func Advance(ctx context.Context, unit Unit, current, total int64) {
	if task, ok := ctx.Value(taskKey{}).(string); ok {
		Send(ctx, Event{Phase: Progress, Task: task, Unit: unit, Current: current, Total: total})
	}
}

type afterKey struct{}

// After returns a context whose tasks say what they had to wait for.
func After(ctx context.Context, what string) context.Context {
	return context.WithValue(ctx, afterKey{}, what)
}

// Task sends Begin and returns a function that ends the task: Done when the
// error is nil, Failed otherwise.
func Task(ctx context.Context, name string) func(text string, err error) {
	start := time.Now()
	after, _ := ctx.Value(afterKey{}).(string)
	Send(ctx, Event{Phase: Begin, Task: name})
	return func(text string, err error) {
		phase := Done
		var halted *Halted
		if errors.As(err, &halted) {
			phase = Stopped
		} else if err != nil {
			phase = Failed
		}
		Send(ctx, Event{Phase: phase, Task: name, Text: text, Elapsed: time.Since(start), After: after})
	}
}
