package disk

import "golang.org/x/sys/unix"

// StampFrom reads a stamp out of a stat result.
func StampFrom(st *unix.Stat_t) Stamp {
	return Stamp{Size: st.Size, Mod: st.Mtim.Nano(), Change: st.Ctim.Nano(), Inode: st.Ino}
}

// SyncAll asks the kernel to write out the whole file system that holds dir:
// one call where a fsync for each of thousands of files would be needed.
func SyncAll(dir string) error {
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return unix.Syncfs(fd)
}
