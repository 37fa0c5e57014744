package cluster

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/bay"
)

// Record says that a bay's services run in a cluster, and how they get there.
type Record struct {
	Target   Target `json:"target"`
	Registry string `json:"registry,omitempty"` // repository that images are pushed to
	Hand     string `json:"hand,omitempty"`     // command that takes an archive and a reference instead
	Storage  string `json:"storage"`
	Class    string `json:"class,omitempty"`
	Handed   string `json:"handed,omitempty"` // reference of the image that is there already
}

// RecordFile is where it is written that a bay is in a cluster.
func RecordFile(b bay.Bay) string { return filepath.Join(b.Records, "cluster.json") }

// RecordOf is a bay's record; nil for a bay on this machine.
func RecordOf(b bay.Bay) (*Record, error) {
	raw, err := disk.Read(RecordFile(b), disk.MostState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	r := &Record{}
	if err == nil {
		err = json.Unmarshal(raw, r)
	}
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "it cannot be told where bay %s is: %v", b.Name, err).Advise("Remove %s, and name its cluster again: trammel --bay %s start --cluster CONTEXT/NAMESPACE", RecordFile(b), shell.Typed(b.Name))
	}
	return r, nil
}

// Keep records it.
func (r Record) Keep(b bay.Bay) error {
	raw, err := json.MarshalIndent(r, "", " ")
	if err != nil {
		return err
	}
	return disk.Write(RecordFile(b), raw, 0o600)
}
