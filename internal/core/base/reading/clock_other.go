//go:build !linux

package reading

import "golang.org/x/sys/unix"

// local tells whether a path lies on a file system of this machine (MNT_LOCAL in statfs(2)).
func local(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(path, &st) == nil && st.Flags&unix.MNT_LOCAL != 0
}
