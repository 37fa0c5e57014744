package setup

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

// A named state is a copy of all that a service has in its data folders, with the marks of the steps that made it so, kept
// with the bay's records, where no service writes. It is made and taken back while the service is stopped, by copying files, and needs nothing of the server.

// State is a named state of a service's data.
type State struct {
	Service string    `json:"service"`
	Name    string    `json:"name"`
	Saved   time.Time `json:"saved"`
	Tool    string    `json:"tool,omitempty"`    // that wrote the data
	Version string    `json:"version,omitempty"` // of the tool
	Bytes   int64     `json:"bytes"`
}

// folder is where a named state lies.
func stateFolder(b bay.Bay, service, name string) string {
	return filepath.Join(b.Records, "states", service, name)
}

// stateNote is the file in a state's folder that says what it is.
const stateNote = "state.json"

// States lists the named states of a bay, by service and time.
func States(b bay.Bay) (out []State) {
	notes, _ := filepath.Glob(filepath.Join(b.Records, "states", "*", "*", stateNote))
	for _, path := range notes {
		var s State
		raw, err := disk.Read(path, disk.MostText)
		if name := filepath.Base(filepath.Dir(path)); err != nil || strings.HasPrefix(name, ".") || json.Unmarshal(raw, &s) != nil {
			continue
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b State) int {
		if a.Service != b.Service {
			return strings.Compare(a.Service, b.Service)
		}
		return a.Saved.Compare(b.Saved)
	})
	return out
}

// keeps is a service whose data folders may be copied. Errors: there is none of that name, it never ran, or the bay is in a
// cluster.
func (s *Setup) keeps(name string, made bool) (declare.Service, error) {
	x, ok := s.State.Declaration.Service(name)
	if !ok {
		return x, fault.New(fault.ErrUsage, "no service is named %q", name).Advise("%s", fault.DidYouMean(name, declare.Names(s.State.Declaration.Services)))
	}
	if at, err := s.Afar(); err != nil {
		return x, err
	} else if at != nil {
		return x, fault.New(fault.ErrUsage, "bay %s is in a cluster, whose volumes are not copied from here", s.State.Bay.Name).
			Advise("Use a dump: trammel --bay %s data save %s FILE", shell.Typed(s.State.Bay.Name), shell.Typed(name))
	}
	// A service may write what it likes into its bay: no link of it leads what is copied or removed elsewhere.
	for copy := 0; copy <= x.Copies; copy++ {
		path := environ.DataFolder(s.State.Bay, x, copy)
		if copy == 0 {
			path = filepath.Dir(environ.DataFolder(s.State.Bay, x, 1))
		}
		if info, err := os.Lstat(path); err == nil && !info.IsDir() {
			return x, fault.New(fault.ErrFailed, "%s is no folder, and so not the data of service %s", path, name).Advise("Something in the bay put it there. Nothing was touched.")
		}
	}
	if _, err := os.Lstat(environ.DataFolder(s.State.Bay, x, 1)); made && err != nil {
		return x, fault.New(fault.ErrUsage, "service %s has no data folder in bay %s", name, s.State.Bay.Name).
			Advise("That would be %s. Either it was not started here yet, or it keeps its data elsewhere; then name this folder in its run.", environ.DataFolder(s.State.Bay, x, 1))
	}
	return x, nil
}

// quietly does f while services and what needs them do not run, and no other process sets the bay up. What ran before
// runs again afterwards, also after Ctrl-C.
func (s *Setup) quietly(ctx context.Context, names []string, f func() error) error {
	before, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	var away []string
	for _, name := range names {
		for _, y := range append(s.NeededBy(name), name) {
			if running(before, y) && !slices.Contains(away, y) {
				away = append(away, y)
			}
		}
	}
	if len(away) > 0 {
		event.Say(ctx, "stopped for it, and started again afterwards: "+strings.Join(away, ", "))
		if _, err := s.Services.Stop(ctx, away); err != nil {
			return err
		}
	}
	unlock, err := s.Alone(ctx)
	if err == nil {
		err = f()
		unlock()
	}
	var again []string
	for _, y := range away {
		again = append(again, "service."+y)
	}
	if len(again) > 0 {
		back, end := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Minute)
		defer end()
		err = errors.Join(err, s.Bring(back, again))
	}
	return err
}

// rowsOf are the steps that need a service: what they did is in its data.
func (s *Setup) rowsOf(name string) (out []declare.Step) {
	for _, x := range s.State.Declaration.Steps {
		if _, needs := s.closure([]string{"step." + x.Name})["service."+name]; needs {
			out = append(out, x)
		}
	}
	return out
}

// stateName tells whether a text can name a state: it becomes a folder.
func stateName(name string) error {
	for i, c := range name {
		if 'a' <= c && c <= 'z' || '0' <= c && c <= '9' || i > 0 && (c == '-' || c == '_' || c == '.') {
			continue
		}
		return fault.New(fault.ErrUsage, "%q cannot name a state", name).Advise("Use small letters, digits, and - _ . between them, such as seeded.")
	}
	if name == "" || len(name) > 64 {
		return fault.New(fault.ErrUsage, "a state needs a name of 1 to 64 letters")
	}
	return nil
}

// SaveAs keeps a service's data as a named state; one that has the name is replaced once the new one is complete.
func (s *Setup) SaveAs(ctx context.Context, service, name string) (st State, err error) {
	if err := stateName(name); err != nil {
		return st, err
	}
	x, err := s.keeps(service, true)
	if err != nil {
		return st, err
	}
	item := s.State.Lock.Items[x.Tool]
	st = State{Service: service, Name: name, Saved: time.Now().UTC(), Tool: x.Tool, Version: item.Version}
	err = s.quietly(ctx, []string{service}, func() (err error) {
		done := event.Task(ctx, "save data of "+service)
		defer func() { done("", err) }()
		to := stateFolder(s.State.Bay, service, name)
		fresh, err := beside(to)
		if err != nil {
			return err
		}
		defer disk.RemoveAll(fresh)
		for _, sub := range []string{"data", "marks"} {
			if err := os.Mkdir(filepath.Join(fresh, sub), 0o700); err != nil {
				return err
			}
		}
		for copy := 1; copy <= x.Copies; copy++ {
			if err := disk.CopyTree(environ.DataFolder(s.State.Bay, x, copy), filepath.Join(fresh, "data", x.CopyName(copy)), ctx.Err); err != nil {
				return outOf(ctx, err)
			}
		}
		for _, y := range s.rowsOf(service) {
			if err := s.Marks().Keep(y, filepath.Join(fresh, "marks")); err != nil {
				return err
			}
		}
		st.Bytes = SizeOf(fresh)
		raw, err := json.Marshal(st)
		if err == nil {
			err = disk.Write(filepath.Join(fresh, stateNote), raw, 0o600)
		}
		if err == nil {
			err = disk.SyncAll(fresh)
		}
		if err != nil {
			return err
		}
		return disk.Swap(fresh, to)
	})
	return st, err
}

// LoadAs brings a named state back.
func (s *Setup) LoadAs(ctx context.Context, service, name string) error {
	if err := stateName(name); err != nil {
		return err
	}
	x, err := s.keeps(service, false)
	if err != nil {
		return err
	}
	from := stateFolder(s.State.Bay, service, name)
	st, ok := stateIn(s.State.Bay, service, name)
	if !ok {
		var names []string
		for _, y := range States(s.State.Bay) {
			if y.Service == service {
				names = append(names, y.Name)
			}
		}
		return fault.New(fault.ErrUsage, "service %s has no state named %q in bay %s", service, name, s.State.Bay.Name).
			Advise("%s", cmp.Or(fault.DidYouMean(name, names), "Keep one first: trammel data save "+shell.Typed(service)+" --as NAME"))
	}
	if now := s.State.Lock.Items[x.Tool]; x.Tool != "" && st.Version != "" && now.Version != st.Version {
		event.Say(ctx, "this state was written by "+st.Tool+" "+st.Version+", and "+now.Version+" is locked")
	}
	return s.quietly(ctx, []string{service}, func() (err error) {
		done := event.Task(ctx, "load data of "+service)
		defer func() { done("", err) }()
		return s.put(ctx, x, from, s.rowsOf(service), func(y declare.Step) error { return s.Marks().Take(y, filepath.Join(from, "marks")) })
	})
}

// put puts a copy of data in the place of a service's, with what is said of the steps that made it.
func (s *Setup) put(ctx context.Context, x declare.Service, from string, rows []declare.Step, mark func(declare.Step) error) error {
	var fresh []string
	defer func() {
		for _, dir := range fresh {
			_ = disk.RemoveAll(dir)
		}
	}()
	for copy := 1; copy <= x.Copies; copy++ {
		dir, err := beside(environ.DataFolder(s.State.Bay, x, copy))
		if err != nil {
			return err
		}
		fresh = append(fresh, dir)
		if err := os.Remove(dir); err != nil {
			return err
		}
		if err := disk.CopyTree(filepath.Join(from, "data", x.CopyName(copy)), dir, ctx.Err); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return fault.New(fault.ErrUsage, "that has no data for %s", x.CopyName(copy)).Advise("It was kept when there were fewer copies.")
			}
			return outOf(ctx, err)
		}
	}
	if err := disk.SyncAll(s.State.Bay.Dir); err != nil {
		return err
	}
	// From here on it is a matter of names. A step whose mark goes first is at worst done once more.
	for _, y := range rows {
		if err := s.Marks().Forget(y); err != nil {
			return err
		}
	}
	for copy := 1; copy <= x.Copies; copy++ {
		if err := disk.Swap(fresh[copy-1], environ.DataFolder(s.State.Bay, x, copy)); err != nil {
			return err
		}
		if err := disk.Write(s.madeNote(x, copy), nil, 0o600); err != nil {
			return err
		}
	}
	for _, y := range rows {
		if err := mark(y); err != nil {
			return err
		}
	}
	return nil
}

// DropState removes a named state.
func DropState(b bay.Bay, service, name string) error {
	if err := stateName(name); err != nil {
		return err
	}
	if _, ok := stateIn(b, service, name); !ok {
		return fault.New(fault.ErrUsage, "service %s has no state named %q in bay %s", service, name, b.Name).Advise("Those that are there: trammel data list")
	}
	aside, err := beside(stateFolder(b, service, name))
	if err == nil {
		err = os.Remove(aside)
	}
	if err == nil {
		err = os.Rename(stateFolder(b, service, name), aside)
	}
	if err != nil {
		return err
	}
	return disk.RemoveAll(aside)
}

func stateIn(b bay.Bay, service, name string) (State, bool) {
	for _, st := range States(b) {
		if st.Service == service && st.Name == name {
			return st, true
		}
	}
	return State{}, false
}

// ClearData removes the data of one service, so that its next start begins anew. The steps that made rows in it are due
// again, and passwords stay.
func (s *Setup) ClearData(ctx context.Context, service string) (bytes int64, err error) {
	x, err := s.keeps(service, true)
	if err != nil {
		return 0, err
	}
	err = s.quietly(ctx, []string{service}, func() error {
		for _, y := range s.rowsOf(service) {
			if err := s.Marks().Forget(y); err != nil {
				return err
			}
		}
		for copy := 1; copy <= x.Copies; copy++ {
			data := environ.DataFolder(s.State.Bay, x, copy)
			bytes += SizeOf(data)
			if err := os.Remove(s.madeNote(x, copy)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			aside, err := beside(data)
			if err == nil {
				err = os.Remove(aside)
			}
			if err == nil {
				err = os.Rename(data, aside)
			}
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err == nil {
				err = disk.RemoveAll(aside)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	return bytes, err
}

// CopyData takes the data of services over from another bay of this checkout, with the values that it made up for them, such
// as passwords. Both are stopped meanwhile. A service that has data here already is refused.
func (s *Setup) CopyData(ctx context.Context, from *Setup, services []string) (done []string, err error) {
	var list []declare.Service
	for _, name := range services {
		x, err := from.keeps(name, true)
		if err != nil {
			return nil, err
		}
		if _, err := s.keeps(name, false); err != nil {
			return nil, err
		}
		if _, err := os.Lstat(environ.DataFolder(s.State.Bay, x, 1)); err == nil {
			return nil, fault.New(fault.ErrUsage, "service %s has data in bay %s already", name, s.State.Bay.Name).
				Advise("Remove it first, if you want that: trammel --bay %s data clear %s", shell.Typed(s.State.Bay.Name), shell.Typed(name))
		}
		list = append(list, x)
	}
	return services, from.quietly(ctx, services, func() error {
		unlock, err := s.Alone(ctx)
		if err != nil {
			return err
		}
		defer unlock()
		for _, x := range list {
			for setting, value := range card.Service(x.Card).Group("setting") {
				if value != card.Random {
					continue
				}
				below, err := filepath.Rel(s.State.Bay.Dir, environ.SettingFile(s.State.Bay, x.Name, setting))
				if err != nil {
					return err
				}
				raw, err := disk.ReadWithin(from.State.Bay.Dir, below, disk.MostText)
				if errors.Is(err, fs.ErrNotExist) {
					continue
				}
				if err == nil {
					err = disk.WriteWithin(s.State.Bay.Dir, below, raw, 0o600)
				}
				if err != nil {
					return err
				}
			}
			done := event.Task(ctx, "copy data of "+x.Name)
			rows := slices.DeleteFunc(s.rowsOf(x.Name), func(y declare.Step) bool { return s.Marks().Shares(y, from.Marks()) })
			err := s.put(ctx, x, from.State.Bay.Dir, rows, func(y declare.Step) error { return s.Marks().Copy(y, from.Marks()) })
			done("", err)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// WithData are the services that have data in this bay.
func (s *Setup) WithData() (names []string) {
	for _, x := range s.State.Declaration.Services {
		if _, err := os.Lstat(environ.DataFolder(s.State.Bay, x, 1)); err == nil {
			names = append(names, x.Name)
		}
	}
	return names
}

// madeNote says that the data of a copy of a service was made.
func (s *Setup) madeNote(x declare.Service, copy int) string {
	return filepath.Join(s.State.Bay.Records, "made", x.CopyName(copy))
}

// beside makes an empty folder beside a path, in which it can be made ready; what a process that was killed left there goes.
func beside(path string) (string, error) {
	dir, name := filepath.Split(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	left, _ := filepath.Glob(filepath.Join(dir, ".new-"+name+"-*"))
	for _, old := range left {
		if err := disk.RemoveAll(old); err != nil {
			return "", err
		}
	}
	return os.MkdirTemp(dir, ".new-"+name+"-")
}

// outOf is why a copy ended: a person's Ctrl-C, a full disk in plain words, or what it was.
func outOf(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return fault.New(fault.ErrFailed, "the data cannot be copied: it %s", disk.InWords(err)).Advise("Nothing was changed.")
}
