//go:build linux || darwin

package osfs

import (
	"context"
	"fmt"

	"golang.org/x/sys/unix"
)

// FreeSpace implements fsys.Spacer.
func (f *FS) FreeSpace(context.Context) (int64, error) {
	base, err := f.root.Open(".")
	if err != nil {
		return 0, err
	}
	defer base.Close()
	var stat unix.Statfs_t
	if err := unix.Fstatfs(int(base.Fd()), &stat); err != nil {
		return 0, fmt.Errorf("ask free space of %s: %w", f.root.Name(), err)
	}
	return int64(stat.Bavail) * int64(stat.Bsize), nil
}
