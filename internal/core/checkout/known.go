package checkout

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/written/declare"
)

// Bays lists the bays of a checkout by name, those of locators too.
func (s *State) Bays() ([]bay.Bay, error) {
	entries, err := os.ReadDir(filepath.Dir(s.Bay.Records))
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
	file, err := Find(nil, places, a.Host.Abs(a.Dir))
	if err != nil {
		return bay.Bay{}, false
	}
	return bay.Find(places, filepath.Dir(file), a.Bay)
}

// Noted are the folders of all projects that were fitted on this machine, also of those whose
// declaration is gone.
func Noted(places place.Places) []string {
	var out []string
	files, _ := filepath.Glob(filepath.Join(places.State, "projects", "*"))
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
	return slices.DeleteFunc(Noted(places), func(dir string) bool { return !fileIsThere(nil, filepath.Join(dir, declare.FileName)) })
}

// Remember notes the checkout among those whose tools a sweep must keep.
func (s *State) Remember() error {
	path := filepath.Join(s.Places.State, "projects", key(s.Dir()))
	if old, err := disk.Read(path, disk.MostState); err == nil && string(old) == s.Dir() {
		return nil
	}
	if err := disk.Private(s.Places.State); err != nil {
		return err
	}
	return disk.Write(path, []byte(s.Dir()), 0o600)
}
