package setup

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/service"
)

// Left is what a bay of a checkout that was moved keeps for its former place.
type Left struct {
	Bay     bay.Bay
	Bytes   int64    // of data
	Running []string // copies of services
}

// LeftBehind lists the bays that are kept for the folder that a checkout was in before it was moved.
// Errors: a supervisor does not answer.
func LeftBehind(ctx context.Context, p *checkout.State) (before string, out []Left, err error) {
	if before = p.MovedFrom(); before == "" {
		return "", nil, nil
	}
	for _, b := range p.BaysOf(before) {
		l := Left{Bay: b, Bytes: SizeOf(filepath.Join(b.Dir, "data"))}
		if l.Running, err = service.Connect(b, p.Host).Running(ctx); err != nil {
			return before, nil, err
		}
		out = append(out, l)
	}
	return before, out, nil
}

// Adopt gives a checkout the bays of the folder that it was in: what runs of them is stopped, and what this checkout
// has of its own by now makes way where no data is in it.
// Errors: fault.ErrUsage where the checkout was not moved, or has data of its own.
func Adopt(ctx context.Context, p *checkout.State) ([]Left, error) {
	before, left, err := LeftBehind(ctx, p)
	switch {
	case err != nil:
		return nil, err
	case before == "":
		return nil, fault.New(fault.ErrUsage, "this checkout is where it was: it has its bays").Advise("List them: trammel bays")
	}
	own, err := p.Bays()
	if err != nil {
		return nil, err
	}
	for _, b := range own {
		if bytes := SizeOf(filepath.Join(b.Dir, "data")); bytes > 0 {
			return nil, fault.New(fault.ErrUsage, "this checkout has a bay %s with data of its own by now, %d bytes", b.Name, bytes).
				Advise("One of the two goes. To have that of %s: trammel clear %s, then trammel bays --adopt", before, shell.Typed(b.Name))
		}
	}
	for _, list := range [][]bay.Bay{own, baysOf(left)} {
		for _, b := range list {
			at := *p
			at.Bay = b
			release, err := unsupervised(ctx, &at)
			if err != nil {
				return nil, err
			}
			defer release()
		}
	}
	for _, b := range own {
		for _, folder := range []string{filepath.Dir(b.Dir), filepath.Dir(b.Records)} {
			if err := disk.RemoveAll(folder); err != nil {
				return nil, err
			}
		}
	}
	if err := approval.Move(p.Places, before, p.Dir()); err != nil {
		return nil, err
	}
	return left, p.TakeOver(before)
}

func baysOf(left []Left) (out []bay.Bay) {
	for _, l := range left {
		out = append(out, l.Bay)
	}
	return out
}

// unsupervised stops what runs of a bay, and keeps others from supervising it until it is released.
func unsupervised(ctx context.Context, p *checkout.State) (release func(), err error) {
	if _, err := stopAll(ctx, p); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(p.Bay.Records); errors.Is(err, os.ErrNotExist) {
		return func() {}, nil
	}
	held, err := disk.LockFile(p.Bay.SupervisorLock())
	for try := 0; err != nil && try < 100 && ctx.Err() == nil; try++ { // one that was told to stop is about to go
		time.Sleep(50 * time.Millisecond)
		held, err = disk.LockFile(p.Bay.SupervisorLock())
	}
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "bay %s is being started at this moment", p.Bay.Name).Advise("Stop what starts it, and try again.")
	}
	return func() { held.Close() }, nil
}
