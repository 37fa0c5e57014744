package checkout

import (
	"bytes"
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
	Was         []byte `json:"was"` // what the declaration said when this was decided
}

// void tells whether somebody has saved another declaration since: theirs holds, and nothing is replaced.
func (x Pending) void() bool {
	raw, err := disk.Read(x.File, disk.MostText)
	return err == nil && !bytes.Equal(raw, x.Was) && !bytes.Equal(raw, x.Declaration)
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
	if filepath.Dir(out.File) != dir || out.void() {
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

// Finish writes both files and takes the record away. The declaration is written only where it still says what it
// did, so that nothing is lost that somebody saves meanwhile.
// Errors: disk.ErrChanged where somebody did; then neither is written.
func (x Pending) Finish(p place.Places) error {
	dir := filepath.Dir(x.File)
	err := disk.Edit(x.File, x.Was, x.Declaration, 0o644)
	if errors.Is(err, disk.ErrChanged) {
		if raw, readErr := disk.Read(x.File, disk.MostText); readErr == nil && bytes.Equal(raw, x.Declaration) {
			err = nil // it was written before
		}
	}
	if err == nil {
		err = replaceLock(dir, x.Lock)
	}
	if err != nil && !errors.Is(err, disk.ErrChanged) {
		return err
	}
	if removed := os.Remove(pendingFile(p, dir)); !errors.Is(removed, fs.ErrNotExist) { // another command may have finished it
		err = errors.Join(err, removed)
	}
	return err
}

// replaceLock writes the lock that goes with a declaration, whatever it said.
func replaceLock(dir string, text []byte) error {
	for range 100 {
		was, err := disk.Read(lock.Path(dir), disk.MostLock)
		if errors.Is(err, fs.ErrNotExist) {
			was, err = nil, nil
		}
		if err != nil {
			return err
		}
		if err := disk.Edit(lock.Path(dir), was, text, 0o644); !errors.Is(err, disk.ErrChanged) {
			return err
		}
	}
	return disk.ErrChanged
}
