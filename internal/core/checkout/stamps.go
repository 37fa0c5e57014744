package checkout

import (
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/kept"
)

// Stamped is a file and what told cheaply whether it changed.
type Stamped struct {
	File  string     `json:"file"`
	Stamp disk.Stamp `json:"stamp"`
}

// Moved tells whether the file is another one than it was.
func (s Stamped) Moved() bool { return disk.StampOf(s.File) != s.Stamp }

// Stamp takes the stamp of a file.
func Stamp(file string) Stamped { return Stamped{file, disk.StampOf(file)} }

// Settled tells whether a later change of the file would show in its stamp: it is when
// its times are older than the clock's grain. A file that is not there is settled, since
// whatever appears has an inode.
func (s Stamped) Settled(at time.Time) bool {
	return kept.File{Size: s.Stamp.Size, Mod: s.Stamp.Mod, Change: s.Stamp.Change, Inode: s.Stamp.Inode}.Settled(at.UnixNano())
}
