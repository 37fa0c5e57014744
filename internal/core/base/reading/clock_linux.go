package reading

import (
	"slices"

	"golang.org/x/sys/unix"
)

// far are the kinds of file systems whose times another machine, or a program, gives (statfs(2),
// linux/magic.h).
var far = []uint32{
	unix.NFS_SUPER_MAGIC, unix.SMB_SUPER_MAGIC, unix.SMB2_SUPER_MAGIC, unix.CIFS_SUPER_MAGIC, unix.V9FS_MAGIC, unix.FUSE_SUPER_MAGIC,
	unix.CEPH_SUPER_MAGIC, unix.AFS_SUPER_MAGIC, unix.AFS_FS_MAGIC, unix.CODA_SUPER_MAGIC, unix.OCFS2_SUPER_MAGIC,
	0x01161970 /* GFS2 */, 0x0bd00bd0 /* Lustre */, 0x47504653 /* GPFS */, 0x786f4256 /* vboxsf */, 0xbacbacbc, /* vmhgfs */
}

// local tells whether a path lies on a file system whose times are this machine's.
func local(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(path, &st) == nil && !slices.Contains(far, uint32(st.Type))
}
