package checkout

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/seen"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/core/written/declare"
)

// Located is an environment that was opened by a locator. Its name, two made-up
// words, is that of its bay.
type Located struct {
	Name    string    `json:"name"`
	Locator string    `json:"locator"` // as it was written
	Key     string    `json:"key"`     // the same for the same thing, however it was written
	Pin     string    `json:"pin"`     // "" of a folder, which is used where it is
	Dir     string    `json:"dir"`     // of the declaration
	Own     string    `json:"own"`     // what goes with the bay: a copy of the pin's files, or ""
	At      time.Time `json:"at"`
}

func locatedFile(places place.Places, name string) string {
	return filepath.Join(places.Checkouts(), name+".json")
}

// LocatedAs finds what was opened by a locator under a name.
func LocatedAs(places place.Places, name string) (Located, bool) {
	var c Located
	raw, err := disk.Read(locatedFile(places, name), disk.MostState)
	return c, err == nil && json.Unmarshal(raw, &c) == nil && c.Name == name
}

// OpenLocated gives the checkout of a locator. One that was opened before stays at
// the state that it was opened at.
func OpenLocated(places place.Places, text, dir string, get func(l locator.Locator) (dir, pin string, err error)) (Located, error) {
	l, err := locator.Parse(text, dir)
	if err != nil {
		return Located{}, err
	}
	if l.Kind == locator.Folder {
		l.At = filepath.Join(l.At, filepath.FromSlash(l.Sub))
		if real, err := seen.EvalSymlinks(l.At); err == nil {
			l.At = real
		}
		if info, err := seen.Stat(l.At); err != nil || !info.IsDir() {
			return Located{}, fault.New(fault.ErrUsage, "%s is no folder", text)
		}
	}
	// The same thing is found by its address, however it was written.
	key := l.At
	if l.Kind == locator.Git {
		key = "git+" + key
	}
	if l.Rev+l.Sub != "" && l.Kind != locator.Folder {
		key += "#" + l.Rev + ":" + l.Sub
	}
	for try := 0; ; try++ {
		name := locator.Name(key, try)
		known, ok := LocatedAs(places, name)
		if ok && known.Key != key {
			continue // another one has that name
		}
		if ok {
			if _, err := seen.Stat(known.Dir); err == nil {
				return known, nil
			}
		}
		return makeLocated(places, name, key, l, get)
	}
}

func makeLocated(places place.Places, name, key string, l locator.Locator, get func(l locator.Locator) (dir, pin string, err error)) (Located, error) {
	c := Located{Name: name, Locator: l.Text, Key: key, Dir: l.At, At: time.Now().UTC()}
	if l.Kind != locator.Folder {
		from, pin, err := get(l)
		if err != nil {
			return c, err
		}
		c.Pin, c.Own = pin, filepath.Join(places.Checkouts(), name)
		c.Dir = c.Own
		if err := os.MkdirAll(places.Checkouts(), 0o700); err != nil {
			return c, err
		}
		if err := copyTree(from, c.Own); err != nil {
			return c, err
		}
	}
	if _, err := seen.Stat(filepath.Join(c.Dir, "trammel.toml")); errors.Is(err, fs.ErrNotExist) {
		if c.Own != "" {
			_ = disk.RemoveAll(c.Own)
		}
		return c, fault.New(fault.ErrUsage, "%s has no trammel.toml", l.Text).Advise("Name the folder that has it: %s#%s:FOLDER", before(l.Text), l.Rev)
	}
	raw, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return c, err
	}
	return c, disk.Write(locatedFile(places, name), raw, 0o600)
}

func before(text string) string {
	for i, r := range text {
		if r == '#' {
			return text[:i]
		}
	}
	return text
}

// copyTree copies a folder to a place where it appears whole or not at all.
func copyTree(from, to string) error {
	fresh, err := os.MkdirTemp(filepath.Dir(to), ".new-*")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(fresh)
	if err := os.CopyFS(filepath.Join(fresh, "files"), os.DirFS(from)); err != nil {
		return err
	}
	if err := disk.SyncAll(fresh); err != nil { // a name that is there after a power cut has its files
		return err
	}
	if err := disk.RemoveAll(to); err != nil {
		return err
	}
	return os.Rename(filepath.Join(fresh, "files"), to)
}

// Forget removes a checkout that was opened by a locator, with all its files.
func (c Located) Forget(places place.Places) error {
	if c.Own != "" {
		if err := disk.RemoveAll(c.Own); err != nil {
			return err
		}
	}
	return os.Remove(locatedFile(places, c.Name))
}

// Bays lists the bays of a checkout by name, those of locators too.
func (s *State) Bays() ([]bay.Bay, error) {
	entries, err := seen.ReadDir(filepath.Dir(s.Bay.Records))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []bay.Bay
	for _, e := range entries {
		if b, openErr := bay.Open(s.Places, s.Written, e.Name()); openErr == nil && e.IsDir() {
			out = append(out, b)
		}
	}
	return out, err
}

// BayBeside finds a bay of the project whose declaration is in force in a folder,
// though that is faulty now: what runs must still be stopped.
func BayBeside(a Asked) (bay.Bay, bool) {
	places, err := place.Find(a.Host.Getenv)
	if err != nil {
		return bay.Bay{}, false
	}
	file, err := Find(places, a.Host.Abs(a.Dir))
	if err != nil {
		return bay.Bay{}, false
	}
	return bay.Find(places, filepath.Dir(file), a.Bay)
}

// Noted are the folders of all projects that were fitted on this machine, also of those whose
// declaration is gone.
func Noted(places place.Places) []string {
	var out []string
	files, _ := seen.Glob(filepath.Join(places.State, "projects", "*"))
	for _, f := range files {
		if dir, err := disk.Read(f, disk.MostText); err == nil && filepath.IsAbs(string(dir)) {
			out = append(out, string(dir))
		}
	}
	return out
}

// Known are the folders of all projects that were fitted on this machine and are still
// there.
func Known(places place.Places) []string {
	return slices.DeleteFunc(Noted(places), func(dir string) bool { return !fileIsThere(filepath.Join(dir, declare.FileName)) })
}
