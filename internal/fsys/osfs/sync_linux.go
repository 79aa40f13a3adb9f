package osfs

import (
	"context"
	"fmt"

	"golang.org/x/sys/unix"
)

// On Linux one syncfs(2) makes everything durable, which is far quicker than an fsync for each file.
const syncsAll = true

// Sync implements fsys.Syncer.
func (f *FS) Sync(context.Context) error {
	base, err := f.root.Open(".")
	if err != nil {
		return err
	}
	defer base.Close()
	if err := unix.Syncfs(int(base.Fd())); err != nil {
		return fmt.Errorf("sync %s: %w", f.root.Name(), err)
	}
	return nil
}
