// Package located keeps the checkouts of what was opened by a locator: a copy of a pinned state, or
// a folder that is used where it is. What was opened once stays at the state it was opened at, and
// is found under a name of two made-up words, which is that of its bay too.
package located

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/core/written/declare"
)

// Checkout is an environment that was opened by a locator. Its name, two made-up
// words, is that of its bay.
type Checkout struct {
	Name    string    `json:"name"`
	Locator string    `json:"locator"` // as it was written
	Key     string    `json:"key"`     // the same for the same thing, however it was written
	Pin     string    `json:"pin"`     // "" of a folder, which is used where it is
	Dir     string    `json:"dir"`     // of the declaration
	Own     string    `json:"own"`     // what goes with the bay: a copy of the pin's files, or ""
	At      time.Time `json:"at"`
}

func recordOf(places place.Places, name string) string {
	return filepath.Join(places.Checkouts(), name+".json")
}

// As finds what was opened by a locator under a name.
func As(places place.Places, name string) (Checkout, bool) {
	var c Checkout
	raw, err := disk.Read(recordOf(places, name), disk.MostState)
	return c, err == nil && json.Unmarshal(raw, &c) == nil && c.Name == name
}

// Wish says which checkout of a locator is meant, where it may have several.
type Wish struct {
	Name string // that of its bay; "": made up of its address
	New  bool   // one that is not there yet
}

// Open gives the checkout of a locator. One that was opened before stays at
// the state that it was opened at.
func Open(places place.Places, text, dir string, wish Wish, get func(l locator.Locator) (dir, pin string, err error)) (Checkout, error) {
	l, err := locator.Parse(text, dir)
	if err != nil {
		return Checkout{}, err
	}
	if l.Kind == locator.Folder {
		l.At = filepath.Join(l.At, filepath.FromSlash(l.Sub))
		if real, err := filepath.EvalSymlinks(l.At); err == nil {
			l.At = real
		}
		if info, err := os.Stat(l.At); err != nil || !info.IsDir() {
			return Checkout{}, fault.New(fault.ErrUsage, "%s is no folder", text)
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
		if wish.Name != "" {
			name = wish.Name
		}
		known, ok := As(places, name)
		switch {
		case ok && wish.Name != "" && (known.Key != key || wish.New):
			return Checkout{}, fault.New(fault.ErrUsage, "there is a bay %s already, of %s", name, known.Locator).Advise("Take another name, or remove that one: trammel clear %s", shell.Typed(name))
		case ok && (known.Key != key || wish.New):
			continue // another one has that name
		}
		if ok {
			if _, err := os.Stat(known.Dir); err == nil {
				return known, nil
			}
		}
		return fresh(places, name, key, l, get)
	}
}

func fresh(places place.Places, name, key string, l locator.Locator, get func(l locator.Locator) (dir, pin string, err error)) (Checkout, error) {
	c := Checkout{Name: name, Locator: l.Text, Key: key, Dir: l.At, At: time.Now().UTC()}
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
	if _, err := os.Stat(filepath.Join(c.Dir, declare.FileName)); errors.Is(err, fs.ErrNotExist) {
		if c.Own != "" {
			_ = disk.RemoveAll(c.Own)
		}
		return c, fault.New(fault.ErrUsage, "%s has no %s", l.Text, declare.FileName).Advise("Name the folder that has it: %s#%s:FOLDER", before(l.Text), l.Rev)
	}
	raw, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return c, err
	}
	return c, disk.Write(recordOf(places, name), raw, 0o600)
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
func (c Checkout) Forget(places place.Places) error {
	if c.Own != "" {
		if err := disk.RemoveAll(c.Own); err != nil {
			return err
		}
	}
	return os.Remove(recordOf(places, c.Name))
}
