package step

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"trammel.example/trammel/internal/core/declare"
	"trammel.example/trammel/internal/core/environ"
	"trammel.example/trammel/internal/core/event"
	"trammel.example/trammel/internal/core/fault"
	"trammel.example/trammel/internal/core/proctree"
	"trammel.example/trammel/internal/core/script"
)

// grace is how long a step that is interrupted may take to end by itself.
const grace = 5 * time.Second

// Runner runs steps.
type Runner struct {
	Environment *environ.Environment
	Look        func(string) (string, error) // meaning of references
	Dir         string
	Marks       string // folder of marks
	Logs        string // folder of logs
}

// Log is where what a step printed is kept.
func (r *Runner) Log(name string) string { return filepath.Join(r.Logs, "step-"+name+".log") }

// Run runs one step and records its success. Everything that it started and left
// running is ended with it.
func (r *Runner) Run(ctx context.Context, st Status) (err error) {
	name := st.Step.Name
	done := event.Task(ctx, "step "+name)
	start := time.Now()
	defer func() { done("", err) }()
	if err := begin(r.Marks, name); err != nil {
		return err
	}
	if err := os.MkdirAll(r.Logs, 0o755); err != nil {
		return err
	}
	log, err := os.Create(r.Log(name))
	if err != nil {
		return err
	}
	defer log.Close()
	run, err := script.Expand(st.Step.Run, r.Look)
	if err != nil {
		return fault.New(fault.Use, "step %s: %v", name, err)
	}
	env := r.Environment.Environ(os.Environ(), r.Dir)
	command, err := script.CommandOf(run, env)
	if err != nil {
		return fault.New(fault.Use, "step %s: %v", name, err)
	}
	if command, err = script.In(r.Environment, r.Dir, command); err != nil {
		return err
	}
	out, in, err := os.Pipe()
	if err != nil {
		return err
	}
	defer out.Close()
	tree, err := proctree.Start(proctree.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: r.Dir, Stdout: in, Stderr: in})
	in.Close()
	if err != nil {
		return r.failed(st, run, nil, fmt.Sprintf("cannot start: %v", err))
	}
	last := make(chan []string, 1)
	go func() { last <- follow(ctx, "step "+name, out, log) }()
	select {
	case <-tree.Done():
	case <-ctx.Done():
		tree.Signal(syscall.SIGTERM)
		select {
		case <-tree.Done():
		case <-time.After(grace):
			tree.Kill()
			<-tree.Done()
		}
	}
	// A process that slipped out of a tree without a namespace may hold the pipe.
	_ = out.SetReadDeadline(time.Now().Add(time.Second))
	lines := <-last
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if exit := tree.Wait(); !exit.OK() {
		return r.failed(st, run, lines, exit.String())
	}
	return succeed(r.Marks, st, time.Since(start))
}

// follow copies what a step prints into its log, tells the last line as progress,
// and returns the last few.
func follow(ctx context.Context, task string, out io.Reader, log io.Writer) []string {
	const keep = 12
	var last []string
	lines := bufio.NewReaderSize(out, 64<<10)
	var told time.Time
	for {
		line, err := lines.ReadSlice('\n')
		if len(line) > 0 {
			_, _ = log.Write(line)
			text := strings.TrimRight(string(line), "\r\n")
			if len(last) == keep {
				last = append(last[:0], last[1:]...)
			}
			last = append(last, text)
			if now := time.Now(); now.Sub(told) > 100*time.Millisecond {
				event.Send(ctx, event.Event{Phase: event.Progress, Task: task, Text: text})
				told = now
			}
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return last
		}
	}
}

// failed is the message of a step that did not succeed: its last lines, its log,
// and how to try by hand and go on.
func (r *Runner) failed(st Status, run declare.Run, lines []string, how string) error {
	e := fault.New(fault.Failed, "step %s failed: %s", st.Step.Name, how)
	var do strings.Builder
	for _, l := range lines {
		do.WriteString("| " + l + "\n")
	}
	fmt.Fprintf(&do, "Log:         %s\n", r.Log(st.Step.Name))
	fmt.Fprintf(&do, "By hand:     %s\n", script.ByHand(run))
	fmt.Fprintf(&do, "Once mended: trammel fit")
	return e.Advise("%s", do.String())
}
