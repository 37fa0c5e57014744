package setup

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"lukechampine.com/blake3"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
)

// installTime is how long another installer may take for one item.
const installTime = 20 * time.Minute

// AddonResult is what was done to an add-on, and what its list says now.
type AddonResult struct {
	Name           string
	Added, Removed []string
	Picture        []string
}

// Addons brings all add-ons to what is locked, or to what is wanted where the lock
// has no picture of them yet. exact removes what is neither.
func (s *Setup) Addons(ctx context.Context, exact bool) ([]AddonResult, error) {
	if len(s.State.Declaration.Addons) == 0 {
		return nil, nil
	}
	unlock, err := s.Alone(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	return s.addons(ctx, exact)
}

// addons does that while no other process sets this bay up.
func (s *Setup) addons(ctx context.Context, exact bool) (out []AddonResult, err error) {
	for _, a := range s.State.Declaration.Addons {
		r, err := s.addon(ctx, a, exact)
		if err != nil {
			return out, err
		}
		out = append(out, r)
	}
	return out, nil
}

func (s *Setup) addon(ctx context.Context, a declare.Addon, exact bool) (r AddonResult, err error) {
	r.Name = a.Name
	have, err := s.ListAddon(ctx, a)
	if err != nil {
		return r, err
	}
	wanted := a.Want
	picture, locked := s.State.Lock.Pictures[a.Name]
	if locked {
		wanted = picture
	}
	left, err := s.filesOf(a)
	if err != nil {
		return r, err
	}
	// What it left is not what is locked: all of it is added again.
	other := locked && len(left) > 0 && slices.ContainsFunc(picture, func(x string) bool { return strings.HasPrefix(x, filesLine) && x != left[0] })
	var todo, extra []string
	for _, item := range wanted {
		if !strings.HasPrefix(item, filesLine) && (other || !listed(a, have, item)) {
			todo = append(todo, item)
		}
	}
	for _, item := range have {
		if !slices.ContainsFunc(append(slices.Clone(wanted), a.Want...), func(w string) bool { return listed(a, []string{item}, w) }) {
			extra = append(extra, item)
		}
	}
	if len(todo) > 0 || exact && len(extra) > 0 {
		done := event.Task(ctx, "add-on "+a.Name)
		defer func() { done(strings.Join(append(slices.Clone(r.Added), r.Removed...), " "), err) }()
	}
	said := map[string]step.Outcome{}
	for _, item := range todo {
		if said[item], err = s.install(ctx, a, a.Add, item, "added"); err != nil {
			return r, err
		}
		r.Added = append(r.Added, item)
	}
	if exact && !a.Remove.Empty() {
		now := have
		if len(todo) > 0 { // an upgrade may have taken some of them along
			if now, err = s.ListAddon(ctx, a); err != nil {
				return r, err
			}
		}
		for _, item := range extra {
			if !slices.Contains(now, item) {
				continue
			}
			if _, err := s.install(ctx, a, a.Remove, item, "removed"); err != nil {
				return r, err
			}
			r.Removed = append(r.Removed, item)
		}
	}
	r.Picture = have
	defer func() {
		if line, lineErr := s.filesOf(a); err == nil {
			r.Picture, err = append(r.Picture, line...), lineErr
		}
	}()
	if len(r.Added)+len(r.Removed) > 0 {
		if r.Picture, err = s.ListAddon(ctx, a); err != nil {
			return r, err
		}
		for _, item := range todo {
			if !listed(a, r.Picture, item) {
				lines := append(said[item].Lines, said[item].Remarks...)
				words := "nothing"
				if len(lines) > 0 {
					words = "\n| " + strings.Join(lines[max(0, len(lines)-8):], "\n| ")
				}
				return r, fault.New(fault.ErrFailed, "add-on %s: its installer ended well for %q, and its list does not have that", a.Name, item).
					Advise("It has: %s\nThe installer said: %s\nLog: %s\nIf that is all well, write the item as the list prints it.", strings.Join(r.Picture, ", "), words, s.addonLog(a.Name))
			}
		}
	}
	return r, nil
}

// listed tells whether a list has an item; one without a version is there in any.
func listed(a declare.Addon, list []string, item string) bool {
	return slices.ContainsFunc(list, func(have string) bool { return a.Satisfied(have, item) })
}

// filesLine begins the line of a picture that is the digest of what an add-on left.
const filesLine = "(files) "

// filesOf is the line of a picture that says the digest of what an add-on left, where the
// declaration names that: of the names and bytes of all files.
func (s *Setup) filesOf(a declare.Addon) ([]string, error) {
	if len(a.Files) == 0 {
		return nil, nil
	}
	sums := canon.Map{}
	for _, glob := range a.Files {
		dir := s.State.Dir()
		below, home := strings.CutPrefix(glob, "~/")
		if home {
			if dir = s.State.Host.Getenv("HOME"); dir == "" {
				return nil, fault.New(fault.ErrFailed, "add-on %s: %q is in the person's home, and HOME is not set", a.Name, glob)
			}
		}
		err := doublestar.GlobWalk(os.DirFS(dir), below, func(name string, d fs.DirEntry) error {
			switch {
			case d.Type()&fs.ModeSymlink != 0:
				target, err := os.Readlink(filepath.Join(dir, name))
				sums[glob+" "+name] = "link " + target
				return err
			case !d.Type().IsRegular():
				return nil
			}
			f, err := os.Open(filepath.Join(dir, name))
			if err != nil {
				return err
			}
			defer f.Close()
			h := blake3.New(32, nil)
			if _, err := io.Copy(h, f); err != nil {
				return err
			}
			sums[glob+" "+name] = fmt.Sprintf("%x", h.Sum(nil))
			return nil
		})
		if err != nil {
			return nil, fault.New(fault.ErrFailed, "add-on %s: %q: %v", a.Name, glob, err)
		}
	}
	return []string{fmt.Sprintf("%s%d, %s", filesLine, len(sums), canon.Digest(sums))}, nil
}

// addonLog is where what the installer of an add-on prints is kept.
func (s *Setup) addonLog(name string) string {
	return filepath.Join(s.State.Bay.Logs(), "addon-"+name+".log")
}

// keepSaid adds what an installer printed to its log.
func (s *Setup) keepSaid(name, what string, o step.Outcome) {
	if disk.Private(s.State.Bay.Logs()) != nil {
		return
	}
	f, err := disk.AppendOwn(s.addonLog(name))
	if err != nil {
		return
	}
	defer f.Close()
	fmt.Fprintf(f, "== %s %s\n%s\n%s\n", time.Now().UTC().Format(time.RFC3339), what, strings.Join(o.Lines, "\n"), strings.Join(o.Remarks, "\n"))
}

// ListAddon is what an add-on's list says now, sorted.
func (s *Setup) ListAddon(ctx context.Context, a declare.Addon) ([]string, error) {
	list, err := s.Given.Pinned(a.List)
	if err != nil {
		return nil, err
	}
	o, err := s.output(ctx, list, s.Plan.Lookup("", 0), time.Minute)
	if err == nil && !o.Exit.OK() {
		err = fault.New(fault.ErrFailed, "add-on %s cannot be listed: %s", a.Name, o.Exit).Advise("%s", o.Last(6))
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, line := range o.Lines {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// PictureAddon is an add-on as it is now: its list, and the digest of what it left.
func (s *Setup) PictureAddon(ctx context.Context, a declare.Addon) ([]string, error) {
	list, err := s.ListAddon(ctx, a)
	if err != nil {
		return nil, err
	}
	files, err := s.filesOf(a)
	return append(list, files...), err
}

func (s *Setup) install(ctx context.Context, a declare.Addon, run declare.Run, item, word string) (step.Outcome, error) {
	look := s.Plan.Lookup("", 0)
	o, err := s.output(ctx, run, func(name string) (string, error) {
		if name == "item" {
			return item, nil
		}
		return look(name)
	}, installTime)
	s.keepSaid(a.Name, item+" "+word, o)
	if err == nil && !o.Exit.OK() {
		err = fault.New(fault.ErrFailed, "add-on %s: %q could not be %s: %s", a.Name, item, word, o.Exit).
			Advise("| %s\nLog: %s", strings.ReplaceAll(o.Last(8), "\n", "\n| "), s.addonLog(a.Name))
	}
	return o, err
}

// output runs a command to its end.
func (s *Setup) output(ctx context.Context, run declare.Run, look func(string) (string, error), within time.Duration) (step.Outcome, error) {
	expanded, err := environ.Expand(run, look)
	if err != nil {
		return step.Outcome{}, err
	}
	command, env, err := script.Of(s.Ready, expanded, s.State.Dir())
	if err != nil {
		return step.Outcome{}, err
	}
	return step.Output(ctx, command, env, s.State.Dir(), s.Ready.Masks(), within)
}
