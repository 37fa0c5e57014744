package step

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/mask"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/written/declare"
)

// grace is how long a step that is interrupted may take to end by itself.
const grace = 5 * time.Second

// Runner runs steps.
type Runner struct {
	Environment *environ.Ready                         // a person consented to it
	Pinned      func(declare.Run) (declare.Run, error) // starts from copies of the approved files: for what nobody asks for by name
	Look        func(string) (string, error)           // meaning of references
	Dir         string
	Logs        string // folder of logs
}

// Log is where what a step printed is kept.
func (r *Runner) Log(name string) string { return logbook.Path(r.Logs, logbook.StepName(name)) }

// Run runs one step and records its success. Everything that it started and left
// running is ended with it.
//
// A step with retries is tried again after a pause; one that takes longer than it
// may is ended, which counts as a failed try.
func (r *Runner) Run(ctx context.Context, st Status) (err error) {
	name := st.Step.Name
	done := event.Task(ctx, "step "+name)
	start := time.Now()
	defer func() { done("", err) }()
	if err := r.Environment.Missing(); err != nil {
		return err
	}
	if err := begin(st.marks, name); err != nil {
		return err
	}
	if err := disk.Private(r.Logs); err != nil {
		return err
	}
	log, err := logbook.OpenNew(r.Log(name))
	if err != nil {
		return err
	}
	defer log.Close()
	run, err := environ.Expand(st.Step.Run, r.Look)
	if err != nil {
		return fault.New(fault.ErrUsage, "step %s: %v", name, err)
	}
	if st.Step.When == AtEachShell {
		if run, err = r.Pinned(run); err != nil {
			return err
		}
	}
	command, env, err := script.Of(r.Environment, script.Strictly(run), r.Dir)
	if err != nil {
		return fault.New(fault.ErrUsage, "step %s: %v", name, err)
	}
	for try := 0; ; try++ {
		how, said, err := r.try(ctx, st, command, env, log)
		if err != nil {
			return err
		}
		if how == "" {
			break
		}
		if try == st.Step.Retries {
			if try > 0 {
				how += fmt.Sprintf(", after %d tries", try+1)
			}
			return r.failed(st, run, said, how)
		}
		log.Say("sup", []byte(how+"; again after a pause"))
		select {
		case <-time.After(pause << min(try, 5)):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	var evidence []string
	if !st.Step.Evidence.Empty() {
		if evidence, err = r.Evidence(ctx, st.Step); err != nil {
			return err
		}
	}
	took := time.Since(start)
	// The mark must not outlive a power cut that what it speaks of does not.
	for _, dir := range []string{r.Dir, r.Logs} { // the checkout's disk, and the bay's
		if err := disk.SyncAll(dir); err != nil {
			return fmt.Errorf("step %s ran, and what it made cannot be brought to the disk: %w", name, err)
		}
	}
	return succeed(st, took, evidence)
}

// pause is how long a step waits before it is tried again, the first time.
const pause = 500 * time.Millisecond

// Evidence runs what says what a step left behind and returns its lines.
func (r *Runner) Evidence(ctx context.Context, s declare.Step) ([]string, error) {
	run, err := environ.Expand(s.Evidence, r.Look)
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "the evidence of step %s: %v", s.Name, err)
	}
	if run, err = r.Pinned(run); err != nil {
		return nil, err
	}
	command, env, err := script.Of(r.Environment, run, r.Dir)
	if err != nil {
		return nil, err
	}
	o, err := Output(ctx, command, env, r.Dir, r.Environment.Masks(), 60*time.Second)
	if err == nil && !o.Exit.OK() {
		err = fault.New(fault.ErrFailed, "the evidence of step %s cannot be had: %s", s.Name, o.Exit).Advise("%s", o.Last(4))
	}
	return o.Lines, err
}

// Outcome is what a command printed and how it ended.
type Outcome struct {
	Lines   []string // of its standard output
	Remarks []string // of its standard error
	Exit    process.Exit
}

// Last is the end of what it said, for messages: its remarks where it made any.
func (o Outcome) Last(n int) string {
	lines := o.Remarks
	if len(lines) == 0 {
		lines = o.Lines
	}
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// Output runs a command to its end.
// masks are what not to show of them.
func Output(ctx context.Context, command script.Command, env []string, dir string, masks []string, within time.Duration) (o Outcome, err error) {
	outer := ctx
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	o.Exit, err = process.Read(ctx, process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: dir}, process.Reading{
		Out:     func(r io.Reader) { o.Lines = linesOf(r, masks) },
		Remarks: func(r io.Reader) { o.Remarks = linesOf(r, masks) },
	})
	if outer.Err() == nil && ctx.Err() != nil {
		err = fmt.Errorf("it did not end within %s", within)
	}
	return o, err
}

// linesOf reads what a command prints, up to a bound, to its end.
func linesOf(r io.Reader, masks []string) (lines []string) {
	r = mask.Reader(r, masks)
	raw, _ := io.ReadAll(io.LimitReader(r, 8<<20))
	for line := range strings.Lines(string(raw)) {
		lines = append(lines, strings.TrimRight(line, "\r\n"))
	}
	return lines
}

// try runs the command of a step one time. how says what went wrong, or is "".
func (r *Runner) try(ctx context.Context, st Status, command script.Command, env []string, log *logbook.Writer) (how string, said Said, err error) {
	name := st.Step.Name
	outer := ctx
	if st.Step.Within > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, st.Step.Within)
		defer cancel()
	}
	var told time.Time
	log.Watch(func(line string) {
		said.Hear(line)
		if now := time.Now(); now.Sub(told) > 100*time.Millisecond {
			event.Send(ctx, event.Event{Phase: event.Progress, Task: "step " + name, Text: line})
			told = now
		}
	})
	defer log.Watch(nil)
	spec := process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: r.Dir}
	exit, err := process.Read(ctx, spec, process.Reading{Grace: grace, Out: func(out io.Reader) {
		log.Keep("out", mask.Reader(out, r.Environment.Masks()))
	}})
	switch {
	case outer.Err() != nil:
		return "", said, context.Cause(outer)
	case ctx.Err() != nil:
		return fmt.Sprintf("it took longer than %s", st.Step.Within), said, nil
	case err != nil:
		return fmt.Sprintf("cannot start: %v", err), said, nil
	case !exit.OK():
		return exit.String(), said, nil
	}
	return "", said, nil
}

// failed is the message of a step that did not succeed: its last lines, its log,
// and how to try by hand and go on.
func (r *Runner) failed(st Status, run declare.Run, said Said, how string) error {
	e := fault.New(fault.ErrFailed, "step %s failed: %s", st.Step.Name, how)
	var do strings.Builder
	do.WriteString(said.Text())
	fmt.Fprintf(&do, "Log:         %s (trammel logs %s)\n", r.Log(st.Step.Name), shell.Typed(st.Step.Name))
	fmt.Fprintf(&do, "By hand:     %s\n", script.ByHand(run))
	fmt.Fprintf(&do, "Once mended: trammel fit")
	return e.Advise("%s", do.String())
}
