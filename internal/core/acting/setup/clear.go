package setup

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/located"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/service"
)

// Cleared is one thing that a bay held and that is gone.
type Cleared struct {
	What  string `json:"what"`           // "services", "data", "logs", …
	Path  string `json:"path,omitempty"` // "" of what was no file
	Bytes int64  `json:"bytes,omitempty"`
}

// Clear stops a bay and removes every trace of it, and of the checkout when that was
// opened by a locator. It is stopped by nothing half-done: the bay's folder goes aside
// first, and a next Clear takes what one that was killed left.
func Clear(ctx context.Context, p *checkout.State) ([]Cleared, error) {
	local := checkout.Local(p.Dir())
	var out []Cleared
	if p.Bay.Made() {
		unlock, err := disk.Lock(ctx, setupLock(p.Bay))
		if err != nil {
			return nil, err
		}
		defer unlock()
	}
	out, err := stopAll(ctx, p)
	if err != nil {
		return nil, err
	}
	if p.Bay.Made() {
		gone, err := setAside(ctx, p)
		out = append(out, gone...)
		if err != nil {
			return out, err
		}
	}
	if err := removeAside(p); err != nil {
		return out, err
	}
	environ.Forget(p.Places, p.Dir(), 0)
	if p.LocalErr == nil {
		if err := disk.RemoveAll(filepath.Join(local, "shell-"+p.Bay.Name)); err != nil {
			return out, err
		}
	}
	if known, ok := located.As(p.Places, p.Bay.Name); ok && known.Dir == p.Dir() {
		if known.Own != "" {
			out = append(out, Cleared{What: "checkout", Path: known.Own, Bytes: SizeOf(known.Own)})
			if err := approval.Revoke(p.Places, p.Dir()); err != nil {
				return out, err
			}
		}
		if err := known.Forget(p.Places); err != nil {
			return out, err
		}
	}
	return out, nil
}

// stopAll stops what runs of a bay.
func stopAll(ctx context.Context, p *checkout.State) ([]Cleared, error) {
	services := service.Connect(p.Bay, p.Host)
	running, err := services.Status(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := services.Stop(ctx, nil); err != nil {
		return nil, err
	}
	var stopped []string
	for _, st := range running {
		if st.Running() {
			stopped = append(stopped, st.Name)
		}
	}
	if len(stopped) == 0 {
		return nil, nil
	}
	return []Cleared{{What: "stopped " + strings.Join(stopped, ", ")}}, nil
}

// setAside takes the links into a bay out of the checkout and gives its folders other names, once
// nobody supervises it any more.
func setAside(ctx context.Context, p *checkout.State) (out []Cleared, err error) {
	release, err := unsupervised(ctx, p)
	if err != nil {
		return nil, err
	}
	defer release()
	for _, link := range p.Written.Files { // links into the bay's rendered files
		at := filepath.Join(p.Dir(), filepath.FromSlash(link.Path))
		if to, err := os.Readlink(at); err == nil && strings.HasPrefix(to, p.Bay.Dir+string(filepath.Separator)) {
			if err := disk.RemoveWithin(p.Dir(), link.Path); err != nil {
				return out, err
			}
			out = append(out, Cleared{What: "file", Path: at})
		}
	}
	for _, folder := range []string{p.Bay.Dir, p.Bay.Records} {
		entries, err := os.ReadDir(folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return out, err
		}
		for _, e := range entries {
			if e.IsDir() {
				path := filepath.Join(folder, e.Name())
				out = append(out, Cleared{What: e.Name(), Path: path, Bytes: SizeOf(path)})
			}
		}
	}
	// The data first: a bay whose records are gone would not be known any more.
	for _, folder := range []string{p.Bay.Dir, p.Bay.Records} {
		aside := filepath.Join(filepath.Dir(folder), ".gone-"+p.Bay.Name+"-"+rand.Text()[:10])
		if err := os.Rename(folder, aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return out, err
		}
	}
	return out, nil
}

// removeAside removes what was set aside, by this Clear or by one that was killed.
func removeAside(p *checkout.State) error {
	for _, folder := range []string{p.Bay.Dir, p.Bay.Records} {
		left, _ := filepath.Glob(filepath.Join(filepath.Dir(folder), ".gone-*"))
		for _, path := range left {
			if err := disk.RemoveAll(path); err != nil {
				return err
			}
		}
		_ = os.Remove(filepath.Dir(folder)) // when it was the last bay
	}
	return nil
}

// SizeOf adds up the sizes of files below a path, in bytes.
func SizeOf(path string) (bytes int64) {
	_ = filepath.WalkDir(path, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			bytes += info.Size()
		}
		return nil
	})
	return bytes
}
