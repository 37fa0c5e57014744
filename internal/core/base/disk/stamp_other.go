//go:build !linux

package disk

import "golang.org/x/sys/unix"

// StampFrom reads a stamp out of a stat result.
func StampFrom(st *unix.Stat_t) Stamp {
	return Stamp{Size: st.Size, Mod: st.Mtim.Nano(), Change: st.Ctim.Nano(), Inode: st.Ino}
}

// SyncAll asks the kernel to write out what is in memory; this system offers
// that only for all file systems at once.
func SyncAll(string) error { return unix.Sync() }
