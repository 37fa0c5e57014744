package checkout

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/written/lock"
)

// Pending is a replacement of declaration and lock by others that belong together. It is
// written down first, so that it is done or not done whatever is killed: while it is there,
// every command reads what the files are about to say, and the next one that acts writes
// them.
type Pending struct {
	File        string `json:"file"` // of the declaration
	Declaration []byte `json:"declaration"`
	Lock        []byte `json:"lock"`
}

func pendingFile(p place.Places, dir string) string {
	return filepath.Join(p.State, "pending", key(dir)+".json")
}

func readPending(r *reading.Reader, p place.Places, dir string) (*Pending, error) {
	path := pendingFile(p, dir)
	raw, err := r.Read(path, disk.MostLock)
	if disk.Gone(err) {
		return nil, nil
	}
	var out Pending
	if err == nil {
		err = json.Unmarshal(raw, &out)
	}
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "a recall was cut, and its record %s cannot be read: %v", path, err).
			Advise("Remove that file, then recall once more: trammel recall --list")
	}
	if filepath.Dir(out.File) != dir {
		return nil, nil
	}
	return &out, nil
}

// Replace puts a declaration and a lock in the place of those that are there, as one step.
func Replace(p place.Places, x Pending) error {
	raw, err := json.Marshal(x)
	if err != nil {
		return err
	}
	if err := disk.Private(p.State); err != nil {
		return err
	}
	if err := disk.Write(pendingFile(p, filepath.Dir(x.File)), raw, 0o600); err != nil {
		return err
	}
	return x.Finish(p)
}

// Finish writes both files and takes the record away.
func (x Pending) Finish(p place.Places) error {
	dir := filepath.Dir(x.File)
	// Both are on the disk before either takes its name.
	var fresh []*disk.Fresh
	for path, text := range map[string][]byte{x.File: x.Declaration, lock.Path(dir): x.Lock} {
		f, err := disk.Create(path)
		if err != nil {
			return err
		}
		defer f.Drop()
		if _, err = f.Write(text); err == nil {
			err = f.Sync()
		}
		if err != nil {
			return err
		}
		fresh = append(fresh, f)
	}
	for _, f := range fresh {
		if err := f.Commit(0o644); err != nil {
			return err
		}
	}
	if err := disk.SyncDir(dir); err != nil {
		return err
	}
	if err := os.Remove(pendingFile(p, dir)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil // another command finished it at the same time
}
