package bay

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
)

// Broken is a record that cannot be read: cut short, or overwritten by something else.
// Records can be made anew, so it stops nobody who acts; whoever only looks says so.
type Broken struct {
	Path string
	Err  error
}

func (b *Broken) Error() string {
	return fmt.Sprintf("the record %s is broken: %v\n  The next command that acts puts it aside and begins a new one.", b.Path, b.Err)
}

func (b *Broken) Unwrap() error { return b.Err }

// PutAside gives a broken record another name, and says what that means.
func (b *Broken) PutAside(ctx context.Context, means string) error {
	aside := b.Path + ".broken-" + time.Now().UTC().Format("20060102-150405")
	if err := os.Rename(b.Path, aside); err != nil {
		return err
	}
	event.Say(ctx, fmt.Sprintf("The record %s was broken; %s. What was left of it is kept as %s.", filepath.Base(b.Path), means, aside))
	return nil
}

// readRecord reads a record of JSON; one that cannot be understood is a *Broken.
func readRecord(path string, into any) error {
	raw, err := disk.Read(path, disk.MostState)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return &Broken{path, err}
	}
	return nil
}
