package setup

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/checkout/approval"
	"trammel.example/trammel/internal/core/running/service"
)

// Cleared is one thing that a bay held and that is gone.
type Cleared struct {
	What  string // "services", "data", "logs", …
	Path  string // "" of what was no file
	Bytes int64
}

// Clear stops a bay and removes every trace of it, and of the checkout when that was
// opened by a locator. It is stopped by nothing half-done: the bay's folder goes aside
// first, and a next Clear takes what one that was killed left.
func Clear(ctx context.Context, p *checkout.Project) ([]Cleared, error) {
	local := checkout.Local(p.Declaration.Dir)
	var out []Cleared
	if _, err := os.Stat(local); err == nil {
		unlock, err := disk.Lock(ctx, filepath.Join(local, "setup-"+p.Bay.Name+".lock"))
		if err != nil {
			return nil, err
		}
		defer unlock()
	}
	services := service.Connect(p.Bay)
	running, err := services.Status(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := services.Stop(ctx, nil); err != nil {
		return nil, err
	}
	var stopped []string
	for _, st := range running {
		if st.State == service.Ready || st.State == service.Starting || st.State == service.Failing {
			stopped = append(stopped, st.Name)
		}
	}
	if len(stopped) > 0 {
		out = append(out, Cleared{What: "stopped " + strings.Join(stopped, ", ")})
	}
	if _, err := os.Stat(p.Bay.Dir); err == nil {
		// Nobody supervises it any more, or this is refused.
		held, err := disk.LockFile(filepath.Join(p.Bay.Dir, "supervisor.lock"))
		if err != nil {
			return out, fault.New(fault.Failed, "bay %s is being started at this moment", p.Bay.Name).Advise("Once that is done: trammel clear %s", p.Bay.Name)
		}
		for _, link := range p.Declaration.Files { // links into the bay's rendered files
			at := filepath.Join(p.Declaration.Dir, filepath.FromSlash(link.Path))
			if to, err := os.Readlink(at); err == nil && strings.HasPrefix(to, p.Bay.Dir+string(filepath.Separator)) {
				if err := os.Remove(at); err != nil {
					held.Close()
					return out, err
				}
				out = append(out, Cleared{What: "file", Path: at})
			}
		}
		entries, err := os.ReadDir(p.Bay.Dir)
		if err != nil {
			held.Close()
			return out, err
		}
		for _, e := range entries {
			if bytes := SizeOf(filepath.Join(p.Bay.Dir, e.Name())); e.IsDir() {
				out = append(out, Cleared{What: e.Name(), Path: filepath.Join(p.Bay.Dir, e.Name()), Bytes: bytes})
			}
		}
		aside := filepath.Join(filepath.Dir(p.Bay.Dir), ".gone-"+p.Bay.Name+fmt.Sprintf("-%d", os.Getpid()))
		err = os.Rename(p.Bay.Dir, aside)
		held.Close()
		if err != nil {
			return out, err
		}
	}
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(p.Bay.Dir), ".gone-*"))
	for _, path := range left {
		if err := disk.RemoveAll(path); err != nil {
			return out, err
		}
	}
	_ = os.Remove(filepath.Dir(p.Bay.Dir)) // when it was the last bay
	for _, path := range []string{
		checkout.PlanFile(p.Declaration.Dir, p.Bay.Name), filepath.Join(local, "shell-"+p.Bay.Name), filepath.Join(local, "setup-"+p.Bay.Name+".lock"),
	} {
		if err := disk.RemoveAll(path); err != nil {
			return out, err
		}
	}
	if known, ok := checkout.CheckoutNamed(p.Places, p.Bay.Name); ok && known.Dir == p.Declaration.Dir {
		if known.Own != "" {
			out = append(out, Cleared{What: "checkout", Path: known.Own, Bytes: SizeOf(known.Own)})
			if err := approval.Revoke(p.Places, p.Declaration.Dir); err != nil {
				return out, err
			}
		}
		if err := known.Forget(p.Places); err != nil {
			return out, err
		}
	}
	return out, nil
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
