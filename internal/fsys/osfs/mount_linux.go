package osfs

import (
	"path/filepath"

	"golang.org/x/sys/unix"
)

// IsMount tells whether another file system, or another part of one, begins at a folder: nothing can be renamed from
// beside it into it.
func IsMount(name string) bool { return !sameMount(name, filepath.Dir(name)) }

// sameMount tells whether two paths lie in one mount, as far as is known.
func sameMount(a, b string) bool {
	x, y := mountOf(a), mountOf(b)
	return x == y || x == 0 || y == 0
}

// mountOf gives the number of the mount in which a path lies; 0: unknown, as before Linux 5.8.
func mountOf(name string) uint64 {
	var found unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, name, 0, unix.STATX_MNT_ID, &found); err != nil || found.Mask&unix.STATX_MNT_ID == 0 {
		return 0
	}
	return found.Mnt_id
}
