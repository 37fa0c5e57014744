package process

import (
	"context"
	"io"
	"os"
	"sync"
	"syscall"
	"time"
)

// Reading says what to do with what a command prints.
type Reading struct {
	Out     func(io.Reader) // reads its standard output; nil: it goes to Spec.Stdout
	Remarks func(io.Reader) // reads its standard error; nil: it goes where its output goes
	Grace   time.Duration   // how long it may take to end by itself, after SIGTERM, when the context ends
}

// keeping is how long what a command printed is read on after its end: where there is no
// namespace a process that slipped away may keep the other end of the pipe for ever.
const keeping = time.Second

// Read runs a command and reads it to its end: nothing of it runs any more when Read returns,
// and whoever reads has seen all that it printed. The error says that it could not be
// started, or is the cause of the context's end.
func Read(ctx context.Context, spec Spec, o Reading) (Exit, error) {
	if ctx.Err() != nil {
		return Exit{}, context.Cause(ctx)
	}
	var readers []*os.File
	var writers []*os.File
	pipe := func() (w *os.File, err error) {
		r, w, err := os.Pipe()
		if err == nil {
			readers, writers = append(readers, r), append(writers, w)
		}
		return w, err
	}
	closeAll := func(files []*os.File) {
		for _, f := range files {
			f.Close()
		}
	}
	defer func() { closeAll(readers) }()
	var err error
	var read []func(io.Reader)
	if o.Out != nil {
		if spec.Stdout, err = pipe(); err == nil {
			read = append(read, o.Out)
		}
	}
	if err == nil && o.Remarks != nil {
		if spec.Stderr, err = pipe(); err == nil {
			read = append(read, o.Remarks)
		}
	} else if spec.Stderr == nil {
		spec.Stderr = spec.Stdout
	}
	if err != nil {
		closeAll(writers)
		return Exit{}, err
	}
	tree, err := Start(spec)
	closeAll(writers)
	if err != nil {
		return Exit{}, err
	}
	var reading sync.WaitGroup
	for i, f := range read {
		reading.Go(func() {
			f(readers[i])
			_, _ = io.Copy(io.Discard, readers[i]) // whoever had enough must not block the command
		})
	}
	select {
	case <-tree.Done():
	case <-ctx.Done():
		if o.Grace > 0 {
			tree.Signal(syscall.SIGTERM)
			select {
			case <-tree.Done():
			case <-time.After(o.Grace):
			}
		}
		tree.Kill()
		<-tree.Done()
	}
	for _, r := range readers {
		_ = r.SetReadDeadline(time.Now().Add(keeping))
	}
	reading.Wait()
	if ctx.Err() != nil {
		return tree.Wait(), context.Cause(ctx)
	}
	return tree.Wait(), nil
}

// Text reads a command's output into b, up to a number of bytes.
func Text(b io.Writer, most int64) func(io.Reader) {
	return func(r io.Reader) { _, _ = io.Copy(b, io.LimitReader(r, most)) }
}
