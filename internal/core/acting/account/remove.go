package account

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/lazy"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/service"
)

// Kind is what sort of thing is kept.
type Kind string

const (
	Running  Kind = "running"   // services that are stopped
	Data     Kind = "data"      // what services keep: nothing brings it back
	Settings Kind = "settings"  // what the person wrote
	Kept     Kind = "kept"      // what can be made again
	Checkout Kind = "checkout"  // what lies in a project's folder
	Startup  Kind = "start-up"  // a line in a start-up file of a shell
	Program  Kind = "installed" // what Install put there
)

// Thing is one thing of the account that a removal takes away.
type Thing struct {
	Kind  Kind   `json:"kind"`
	Path  string `json:"path"`
	What  string `json:"what"`            // in words: "ledger of bay main", the text of a line
	Bytes int64  `json:"bytes,omitempty"` // on the disk, where that is known
	Line  int    `json:"line,omitempty"`  // in a start-up file, from 1

	bay bay.Bay
}

// Everything lists all that Trammel keeps for an account, in the order in which Remove takes
// it. temporary is the folder of what shells that follow leave until the session ends.
// Errors: a bay runs in a cluster, which has to be cleared first.
func Everything(ctx context.Context, p place.Places, h host.Host, temporary string) ([]Thing, error) {
	var out, data []Thing
	for _, b := range bay.All(p) {
		if at, err := cluster.RecordOf(b); err == nil && at != nil {
			return nil, fault.New(fault.ErrUsage, "bay %s of %s runs in %s/%s, which nothing here could find again", b.Name, b.Project, at.Target.Context, at.Target.Namespace).
				Advise("First, in a folder of that project: trammel clear %s", shell.Typed(b.Name))
		}
		running, err := service.Connect(b, h).Status(ctx)
		if err != nil {
			return nil, err
		}
		var up []string
		for _, st := range running {
			if st.State == service.Ready || st.State == service.Starting || st.State == service.Failing {
				up = append(up, st.Name)
			}
		}
		if len(up) > 0 || held(b) {
			out = append(out, Thing{Kind: Running, Path: b.Records, What: strings.TrimSpace(b.Project + ", bay " + b.Name + ": " + strings.Join(up, " ")), bay: b})
		}
		entries, _ := os.ReadDir(filepath.Join(b.Dir, "data"))
		for _, e := range entries {
			path := filepath.Join(b.Dir, "data", e.Name())
			if bytes := setup.SizeOf(path); bytes > 0 {
				data = append(data, Thing{Kind: Data, Path: path, What: e.Name() + " of " + b.Project + ", bay " + b.Name, Bytes: bytes})
			}
		}
	}
	out = append(out, data...)
	for _, dir := range checkout.Noted(p) {
		out = append(out, inCheckout(p, h, dir)...)
	}
	out = append(out, startup(h)...)
	for _, x := range []struct {
		path, what string
		kind       Kind
	}{
		{p.Data, "tools, roots and library sets", Kept}, {p.Cache, "downloads and indexes", Kept},
		{temporary, "of shells that follow", Kept},
		{p.Config, "", Settings}, {p.State, "bays, consents and what was done", Kept},
	} {
		if info, err := os.Lstat(x.path); err != nil || !info.IsDir() {
			continue
		}
		what := x.what
		if x.kind == Settings {
			entries, _ := os.ReadDir(x.path)
			for _, e := range entries {
				what += " " + e.Name()
			}
			what = strings.TrimSpace(what)
		}
		out = append(out, Thing{Kind: x.kind, Path: x.path, What: what, Bytes: setup.SizeOf(x.path)})
	}
	installed, err := Recorded(p)
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "what was installed cannot be read: %v", err).Advise("Remove %s and what you installed by hand.", recordFile(p))
	}
	for _, path := range installed.Files {
		if info, err := os.Lstat(path); err == nil {
			out = append(out, Thing{Kind: Program, Path: path, Bytes: info.Size()})
		}
	}
	return out, nil
}

func held(b bay.Bay) bool {
	if _, err := os.Lstat(b.SupervisorLock()); err != nil {
		return false
	}
	f, err := disk.LockFile(b.SupervisorLock())
	if err != nil {
		return true
	}
	f.Close()
	return false
}

// inCheckout is what lies in a project's folder: Trammel's own folder there, and links into
// bays. Of what cannot be opened, only the folder.
func inCheckout(p place.Places, h host.Host, dir string) (out []Thing) {
	local := checkout.Local(dir)
	if info, err := os.Lstat(local); err == nil && info.IsDir() {
		out = append(out, Thing{Kind: Checkout, Path: local, Bytes: setup.SizeOf(local)})
	}
	s, err := checkout.Open(checkout.Asked{Host: h, Dir: dir, Bay: bay.Main}, checkout.Locate{})
	if err != nil {
		return out
	}
	for _, f := range s.Written.Files {
		at := filepath.Join(dir, filepath.FromSlash(f.Path))
		if to, err := os.Readlink(at); err == nil && strings.HasPrefix(to, p.Bays()+string(filepath.Separator)) {
			out = append(out, Thing{Kind: Checkout, Path: at, What: "link to a rendered file"})
		}
	}
	return out
}

var following = lazy.Regexp(`^\s*(eval "\$\(\S*trammel follow (bash|zsh)\)"|\S*trammel follow fish \| source)\s*$`)

// startup are the lines by which shells follow folders, as the documentation has them.
func startup(h host.Host) (out []Thing) {
	home := h.Getenv("HOME")
	if !filepath.IsAbs(home) {
		return nil
	}
	config := h.Getenv("XDG_CONFIG_HOME")
	if !filepath.IsAbs(config) {
		config = filepath.Join(home, ".config")
	}
	zsh := h.Getenv("ZDOTDIR")
	if !filepath.IsAbs(zsh) {
		zsh = home
	}
	for _, path := range []string{filepath.Join(home, ".bashrc"), filepath.Join(home, ".bash_profile"), filepath.Join(home, ".profile"), filepath.Join(zsh, ".zshrc"), filepath.Join(config, "fish", "config.fish")} {
		raw, err := disk.Read(path, disk.MostText)
		if err != nil {
			continue
		}
		for i, line := range strings.Split(string(raw), "\n") {
			if following().MatchString(line) {
				out = append(out, Thing{Kind: Startup, Path: path, What: strings.TrimSpace(line), Line: i + 1})
			}
		}
	}
	return out
}

// Remove takes everything away that Everything listed, tells of each thing as it goes, and
// then folders that are left empty. One that was killed is carried on by the next.
// Errors: a service does not stop, or something cannot be removed; then the rest stays.
func Remove(ctx context.Context, p place.Places, h host.Host, things []Thing, gone func(Thing)) error {
	installed, err := Recorded(p)
	if err != nil {
		return err
	}
	for _, t := range things {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		switch t.Kind {
		case Running:
			err = stop(ctx, t.bay, h)
		case Data:
			err = disk.RemoveAll(t.Path)
		case Checkout:
			err = disk.RemoveAll(t.Path)
		case Startup:
			err = dropLine(t)
		case Kept, Settings:
			err = removeOwn(t.Path, recordFile(p))
		case Program:
			if err = os.Remove(t.Path); errors.Is(err, fs.ErrNotExist) {
				err = nil
			}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", t.Path, err)
		}
		gone(t)
	}
	for _, dir := range installed.Folders {
		_ = os.Remove(dir) // unless somebody else put something there
	}
	if err := os.Remove(recordFile(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	_ = os.Remove(p.State) // unless somebody else put something there
	for _, dir := range []string{p.Data, p.Cache, p.State, p.Config} {
		// The XDG folders themselves, as far as they lie below the person's own.
		for dir = filepath.Dir(dir); below(dir, h.Getenv("HOME")) || dir == h.Getenv("TRAMMEL_HOME"); dir = filepath.Dir(dir) {
			if os.Remove(dir) != nil {
				break
			}
		}
	}
	return nil
}

// kept are the names of what Trammel keeps in each of its folders. Below TRAMMEL_HOME these
// have plain names, and a person may have put something of their own there.
var kept = map[string]bool{
	"store": true, "frames": true, "programs": true, "host": true, // data
	"archives": true, "layers": true, "indexes": true, "locators": true, "tools": true, "builds": true, // cache
	"approvals": true, "authority": true, "bays": true, "checkouts": true, "homes": true, "located": true, "made": true, "pending": true, "plans": true, "projects": true, "records": true, "routes": true, // state
	"default.toml": true, "default.lock": true, "sources.toml": true, "settings.toml": true, ".trammel": true, "trammel.lock": true, // config
}

// removeOwn removes a folder: all of one that has Trammel's name, and of another what Trammel
// keeps there. The record of what is installed stays, by which a removal that was killed is
// carried on.
func removeOwn(dir, record string) error {
	entries, err := os.ReadDir(dir)
	named := strings.HasPrefix(filepath.Base(dir), "trammel") // also the one of followers
	for _, e := range entries {
		if path := filepath.Join(dir, e.Name()); path != record && (named || kept[e.Name()] || strings.HasPrefix(e.Name(), ".new-")) {
			err = errors.Join(err, disk.RemoveAll(path))
		}
	}
	_ = os.Remove(dir) // unless something is left in it
	return err
}

func below(dir, home string) bool {
	return filepath.IsAbs(home) && strings.HasPrefix(dir, filepath.Clean(home)+string(filepath.Separator))
}

// stop ends all that a bay runs, and its supervisor.
func stop(ctx context.Context, b bay.Bay, h host.Host) error {
	event.Say(ctx, "stopping what runs in bay "+b.Name+" of "+b.Project)
	if _, err := service.Connect(b, h).Stop(ctx, nil); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	f, err := disk.WaitLock(ctx, b.SupervisorLock())
	if err != nil {
		return fault.New(fault.ErrFailed, "the supervisor of bay %s of %s does not end", b.Name, b.Project).Advise("See %s", b.SupervisorLog())
	}
	return f.Close()
}

// mostEdits is how often a change is begun anew because somebody else saved the file meanwhile.
const mostEdits = 8

// dropLine takes one line out of a start-up file, if it still stands there. The file keeps
// its mode and, where it is a link, its place; what somebody saves meanwhile stays.
func dropLine(t Thing) error {
	for range mostEdits {
		path, err := filepath.EvalSymlinks(t.Path)
		if err != nil {
			return err
		}
		raw, err := disk.Read(path, disk.MostText)
		if err != nil {
			return err
		}
		lines := strings.Split(string(raw), "\n")
		i := slices.IndexFunc(lines, func(l string) bool { return strings.TrimSpace(l) == t.What })
		if i < 0 {
			return nil
		}
		if err := disk.Edit(path, raw, []byte(strings.Join(slices.Delete(lines, i, i+1), "\n")), 0o644); !errors.Is(err, disk.ErrChanged) {
			return err
		}
	}
	return disk.ErrChanged
}
